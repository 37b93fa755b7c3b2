package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// harbour opens the demo on free ports and waits for its streams.
func harbour(t *testing.T) *serving {
	t.Helper()
	dir := open(t)
	s := &serving{t: t, dir: dir}
	s.process = launch(t, dir, "demo", "--data", filepath.Join(dir, "demo"), "--listen", "127.0.0.1:0", "--broker", "127.0.0.1:0", "--registry", "127.0.0.1:0", "--notices", "127.0.0.1:0")
	s.address = s.says(t, `console   (http://\S+)`)
	eventually(t, 30*time.Second, "the streams are there", func() bool {
		return strings.Contains(s.must("rows", "mean-level", "minute", "--limit", "1").out, "G")
	})
	return s
}

// TestFirstJobTerminal executes docs/first-job-terminal.md: every command of it succeeds, and what it
// says is what the page shows.
func TestFirstJobTerminal(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/first-job-terminal.md")
	if err != nil {
		t.Fatal(err)
	}
	s := harbour(t)
	dir := t.TempDir()
	if err := os.Symlink(binary, filepath.Join(dir, "undertide")); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	out, commands, shown := "", 0, 0
	for _, block := range regexp.MustCompile("(?s)```(sh|text)\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		if block[1] == "sh" {
			out = ""
			for _, line := range strings.Split(strings.TrimSpace(block[2]), "\n") {
				commands++
				c := exec.Command("bash", "-c", line)
				c.Dir = dir
				c.Env = append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "UNDERTIDE_SERVER="+s.address)
				b, err := c.CombinedOutput()
				if err != nil {
					t.Fatalf("%s: %v\n%s", line, err, b)
				}
				out += string(b)
			}
			if strings.Contains(block[2], "undertide start") {
				eventually(t, 20*time.Second, "the job has rows", func() bool {
					return strings.Count(s.must("rows", "crane-lifts-per-minute", "minute", "--limit", "3").out, "\n") > 3
				})
			}
			continue
		}
		rest := out
		for _, line := range strings.Split(strings.TrimSpace(block[2]), "\n") {
			shown++
			parts := strings.Split(line, "…")
			for i := range parts {
				parts[i] = strings.ReplaceAll(regexp.QuoteMeta(strings.TrimSpace(parts[i])), " ", `\s+`)
			}
			at := regexp.MustCompile(strings.Join(parts, ".*")).FindStringIndex(rest)
			if at == nil {
				t.Fatalf("the page shows %q, and the command says\n%s", line, out)
			}
			rest = rest[at[1]:]
		}
	}
	if commands < 12 || shown < 25 {
		t.Errorf("the page has %d commands and shows %d lines: it was not read", commands, shown)
	}
	if took := time.Since(began); took > 2*time.Minute {
		t.Errorf("the commands alone take %s", took)
	}
	if j := s.job("crane-lifts-per-minute"); j.Status != "running" || j.Run.Version != 2 {
		t.Errorf("at the end: %+v", j)
	}
}

// TestFirstJobConsole executes docs/first-job-console.md in a browser: each step of the page has what is
// done and seen as a comment behind it.
func TestFirstJobConsole(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../docs/first-job-console.md")
	if err != nil {
		t.Fatal(err)
	}
	s := harbour(t)
	p := browse(t, s.address)
	// The check of a text may come after it was saved, as over a slow line: once it took the saved version away again.
	p.slowChecks()
	p.walk(string(text))
	eventually(t, 20*time.Second, "the job runs", func() bool { return s.job("crane-lifts-per-minute").Status == "running" })
	if got := value[any](p, "window.faults?.length ? window.faults.join('; ') : null"); got != nil {
		t.Errorf("the page had faults: %v", got)
	}
}

// slowChecks lets the answers to checks of a text come late, as over a slow line; window.checks counts those under way.
func (p *page) slowChecks() {
	p.t.Helper()
	value[any](p, `(window.checks = 0, window.fetch = ((ask) => async (...what) => {
		if (!String(what[0]?.url ?? what[0]).includes('/documents/check')) return ask(...what);
		window.checks++; await new Promise((go) => setTimeout(go, 800)); try { return await ask(...what) } finally { window.checks-- } })(window.fetch), 1)`)
}

// walk does what the comments of a page say: click "label", see "text", fill "label" "text", pick
// "label" "option". Each label must stand in the page's own words.
func (p *page) walk(text string) {
	p.t.Helper()
	value[any](p, `(window.faults = [], window.addEventListener('error', (e) => window.faults.push(e.message)), window.addEventListener('unhandledrejection', (e) => window.faults.push(String(e.reason))), 1)`)
	p.t.Cleanup(func() {
		if p.t.Failed() {
			p.t.Log("the page says: ", value[string](p, "([...document.querySelectorAll('.el-dialog')].find((e) => e.getClientRects().length) ?? document.body).innerText"))
		}
	})
	steps := 0
	prose := regexp.MustCompile(`(?s)<!--.*?-->`).ReplaceAllString(text, "")
	for _, m := range regexp.MustCompile(`<!-- (click|see|fill|pick) "([^"]*)"(?: "([^"]*)")? -->`).FindAllStringSubmatch(text, -1) {
		steps++
		switch m[1] {
		case "click":
			if !strings.Contains(prose, m[2]) {
				p.t.Errorf("the page tells nobody of %q", m[2])
			}
			p.press(m[2])
		case "see":
			p.shows(m[2])
			if strings.HasPrefix(m[2], "Saved as") {
				time.Sleep(300 * time.Millisecond) // the check of what was typed last is asked for by now
				eventually(p.t, 5*time.Second, "the check has come", func() bool { return value[bool](p, "!window.checks") })
			}
		case "fill":
			p.fill(m[2], m[3])
		case "pick":
			p.pick(m[2], m[3])
		}
	}
	if steps < 15 {
		p.t.Errorf("the page has %d steps: it was not read", steps)
	}
}
