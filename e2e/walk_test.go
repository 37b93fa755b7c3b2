package e2e

import (
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
