package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// pages are those that tell how something is done, and what each needs: nothing, the harbour, or a service of its own.
var pages = map[string]string{
	"../README": "", "tutorial/file": "", "tutorial/topic": "harbour", "tutorial/service": "service",
	"how-to/sessions": "", "how-to/log-lines": "", "how-to/enrich": "", "how-to/moving-means": "", "how-to/patterns": "", "how-to/look-into-a-checkpoint": "",
	"how-to/follow-a-log": "", "how-to/publish": "", "how-to/join": "", "how-to/late-events": "", "how-to/without-code": "harbour", "how-to/devices": "harbour",
	"how-to/watch": "harbour", "how-to/first-look": "harbour", "how-to/backfill": "harbour",
}

// TestPages follows each page that tells how something is done, word for word: what it says to write is written, its commands are
// run, what they say is what the page shows, and in the console is pressed and seen what it says.
func TestPages(t *testing.T) {
	t.Parallel()
	for _, folder := range []string{"tutorial", "how-to"} { // none is left out
		there, err := filepath.Glob("../docs/" + folder + "/*.md")
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range there {
			if _, known := pages[folder+"/"+strings.TrimSuffix(filepath.Base(p), ".md")]; !known {
				t.Errorf("no test follows %s", p)
			}
		}
	}
	port := harbour(t)
	t.Run("pages", func(t *testing.T) {
		t.Run("for everybody", func(t *testing.T) {
			t.Parallel()
			forEverybody(t, port.address)
		})
		t.Run("lessons", func(t *testing.T) {
			t.Parallel()
			lessonsTeach(t, port.address)
		})
		var both sync.Mutex // of two pages that make the same job
		for name, needs := range pages {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				if name == "tutorial/topic" || name == "how-to/without-code" {
					both.Lock()
					defer both.Unlock()
				}
				f := &follower{t: t, dir: open(t), port: port}
				if needs == "harbour" {
					f.address = port.address
				}
				f.page("../docs/" + name + ".md")
				if f.steps < 3 {
					t.Errorf("the page has %d steps: it was not read", f.steps)
				}
				if name == "how-to/without-code" {
					eventually(t, 20*time.Second, "the second version runs", func() bool {
						j := port.job("crane-lifts-per-minute")
						return j.Status == "running" && j.Run.Version == 2
					})
					port.must("stop", "crane-lifts-per-minute")
					port.must("delete", "crane-lifts-per-minute")
				}
			})
		}
	})
}

// follower does what a page says, in a folder of its own.
type follower struct {
	t       *testing.T
	dir     string
	port    *serving // the harbour
	address string   // of the service that commands ask
	out     string   // of the last commands
	again   []string // those commands, where they only look
	steps   int
}

var (
	// token is a block of a page, or what is done in the console.
	token = regexp.MustCompile("(?s)```(\\w+)\n(.*?)```|<!-- (click|see|fill|pick) .*? -->")
	named = regexp.MustCompile("[Ww]rite `([^`]+)`")
	// looks are commands that change nothing: what they show may take a moment to come.
	looks = regexp.MustCompile(`^(undertide (rows|show|jobs|history|figures|alarms|state|checkpoints|versions|topics|peek|pins|connections) |cat |sort )`)
)

func (f *follower) page(path string) {
	f.t.Helper()
	whole, err := os.ReadFile(path)
	if err != nil {
		f.t.Fatal(err)
	}
	text := string(whole)
	if strings.Contains(text, "<!-- click") {
		p := browse(f.t, f.address)
		p.slowChecks() // once an answer that came late took the saved version away again
		p.walk(text)
		if got := value[any](p, "window.faults?.length ? window.faults.join('; ') : null"); got != nil {
			f.t.Errorf("the page had faults: %v", got)
		}
		f.steps += strings.Count(text, "<!-- ")
		return
	}
	at := 0
	for _, m := range token.FindAllStringSubmatchIndex(text, -1) {
		before := text[at:m[0]]
		at = m[1]
		kind, body := text[m[2]:m[3]], text[m[4]:m[5]]
		paragraphs := strings.Split(strings.TrimSpace(before), "\n\n")
		file := named.FindAllStringSubmatch(strings.ReplaceAll(paragraphs[len(paragraphs)-1], "\n", " "), -1)
		switch {
		case kind == "sh":
			f.steps++
			f.commands(body)
		case len(file) > 0:
			f.steps++
			write(f.t, f.dir, file[len(file)-1][1], body)
		case kind == "text":
			f.steps++
			f.shown(body)
		default:
			f.t.Fatalf("what is this for? Say `Write` and a name before it:\n%s", body)
		}
	}
}

// commands runs the lines of a block.
func (f *follower) commands(block string) {
	f.t.Helper()
	f.out, f.again = "", nil
	for line := range strings.Lines(strings.TrimSpace(block)) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "make ") { // what has been made is what runs here
			continue
		}
		if !looks.MatchString(line + " ") {
			f.again = nil
		} else if len(f.again) > 0 || f.out == "" {
			f.again = append(f.again, line)
		}
		if behind, ok := strings.CutSuffix(line, " &"); ok { // in a terminal of its own
			f.behind(behind)
			continue
		}
		out, err := f.sh(line)
		f.out += out
		if err != nil && len(f.again) == 0 {
			f.t.Fatalf("%s: %v\n%s", line, err, out)
		}
	}
}

// sh runs a line as a shell does.
func (f *follower) sh(line string) (string, error) {
	ctx, stop := context.WithTimeout(f.t.Context(), 2*time.Minute)
	defer stop()
	c := exec.CommandContext(ctx, "bash", "-c", line)
	c.Dir, c.Env, c.WaitDelay = f.dir, f.environ(), time.Second
	out, err := c.CombinedOutput()
	return string(out), err
}

func (f *follower) environ() []string {
	return append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "UNDERTIDE_SERVER="+f.address, "HERE="+f.dir)
}

// behind starts what runs on in a terminal of its own. A service gets a free port, a data folder, and where root runs the tests a user.
func (f *follower) behind(line string) {
	f.t.Helper()
	if !strings.Contains(line, "undertide serve") {
		c := exec.Command("bash", "-c", "exec "+line)
		c.Dir, c.Env = f.dir, f.environ()
		running(f.t, c)
		return
	}
	_, flags, _ := strings.Cut(line, "undertide serve")
	args := served(f.dir, "--listen", "127.0.0.1:0")
	words := strings.Fields(strings.NewReplacer(`"$PWD"`, f.dir).Replace(flags))
	for i := 0; i+1 < len(words); i += 2 {
		if words[i] != "--files" { // served says it already
			args = append(args, words[i], words[i+1])
		}
	}
	c := exec.Command(binary, args...)
	c.Dir, c.Env = f.dir, f.environ()
	f.address = running(f.t, c).says(f.t, `the console is at (http://\S+);`)
}

// shown wants the lines of a block in what the commands said, in their order; … stands for anything. What takes a moment is
// looked at again.
func (f *follower) shown(block string) {
	f.t.Helper()
	missing := ""
	for until := time.Now().Add(40 * time.Second); ; {
		if missing = lacks(f.out, block); missing == "" {
			return
		}
		if len(f.again) == 0 || time.Now().After(until) {
			break
		}
		time.Sleep(300 * time.Millisecond)
		f.out = ""
		for _, line := range f.again {
			out, _ := f.sh(line) // one that fails is tried again
			f.out += out
		}
	}
	f.t.Fatalf("the page shows %q, and the commands say\n%s", missing, f.out)
}

// lacks gives the first line of a block that a text has not, behind the lines before it.
func lacks(text, block string) string {
	for line := range strings.Lines(strings.TrimSpace(block)) {
		parts := strings.Split(strings.TrimSpace(line), "…")
		for i := range parts {
			parts[i] = regexp.MustCompile(`\s+`).ReplaceAllString(regexp.QuoteMeta(strings.TrimSpace(parts[i])), `\s+`)
		}
		at := regexp.MustCompile(strings.Join(parts, ".*")).FindStringIndex(text)
		if at == nil {
			return strings.TrimSpace(line)
		}
		text = text[at[1]:]
	}
	return ""
}

// TestLacks: the check of what a page shows can fail.
func TestLacks(t *testing.T) {
	for _, c := range []struct{ block, missing string }{
		{"a  1\nb 2", ""}, {"a …\nb", ""}, {"b 2\na 1", "a 1"}, {"a 2", "a 2"}, {"b …3", "b …3"}, {"finished: … s", ""},
	} {
		if got := lacks("a   1\nb 2\nfinished: in 3 s\n", c.block); got != c.missing {
			t.Errorf("%q lacks %q, want %q", c.block, got, c.missing)
		}
	}
	if fmt.Sprint(slices.Sorted(func(yield func(string) bool) {
		for _, m := range token.FindAllStringSubmatch("Write `x`:\n```json\n{}\n```\n<!-- see \"y\" -->", -1) {
			if !yield(m[1] + m[3]) {
				return
			}
		}
	})) != "[json see]" {
		t.Error("a page is not taken apart")
	}
}
