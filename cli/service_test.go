package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"undertide/api"
)

// TestGrid: columns line up, numbers to the right, and no text steers the terminal.
func TestGrid(t *testing.T) {
	var b bytes.Buffer
	grid(&b, []string{"job", ">lag", "note"}, [][]string{{"means", "1,200", "größer"}, {"a\x1b[31m", "3", ""}})
	want := "job       lag  note\nmeans   1,200  größer\na·[31m      3\n"
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
}

// TestRowPrinter: rows that come later keep the widths of those before, and the head stands once.
func TestRowPrinter(t *testing.T) {
	var b bytes.Buffer
	p := &rowPrinter{s: &streams{out: &b}, table: true, fields: []api.Field{{Name: "gauge", Type: "string"}, {Name: "at", Type: "timestamp"}, {Name: "mean_m", Type: "double"}, {Name: "n", Type: "int"}}}
	for _, text := range []string{`{"gauge":"G03-long","at":"2026-03-01T12:00:00Z","mean_m":1.23456,"n":12}`, `{"gauge":"\u001b]0;x\u0007","at":null,"mean_m":null,"n":3}`} {
		p.add(api.Row{Row: json.RawMessage(text)})
		if err := p.flush(); err != nil {
			t.Fatal(err)
		}
	}
	want := "gauge     at                   mean_m   n\nG03-long  2026-03-01 12:00:00   1.235  12\n·]0;x·    -                         -   3\n"
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
}

// TestSpan: durations are worded by their size.
func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{-time.Second: "0 s", 40 * time.Millisecond: "40 ms", 1500 * time.Millisecond: "1.5 s", 119 * time.Second: "119 s", 5 * time.Minute: "5 min", 125 * time.Minute: "2 h 5 min", 72 * time.Hour: "3 d"} {
		if got := span(d); got != want {
			t.Errorf("%s: %s, want %s", d, got, want)
		}
	}
}

// TestCommandsAreDocumented: every command has a line in docs/commands.md, an example or a text, and every flag
// says what it does.
func TestCommandsAreDocumented(t *testing.T) {
	page := readDocs(t)
	for _, c := range newRoot(&streams{out: &bytes.Buffer{}, err: &bytes.Buffer{}}).Commands() {
		if c.Name() == "help" {
			continue
		}
		if !strings.Contains(page, "undertide "+c.Name()) && !strings.Contains(page, "`"+c.Name()+" ") {
			t.Errorf("docs/commands.md lacks %s", c.Name())
		}
		if c.Short == "" {
			t.Errorf("%s does not say what it does", c.Name())
		}
	}
}

// TestHelp: each command stands in a group, and has examples of itself that its flags and arguments take. What looks at the
// harbour is run by TestDemo.
func TestHelp(t *testing.T) {
	root := newRoot(&streams{out: &bytes.Buffer{}, err: &bytes.Buffer{}})
	var check func(c *cobra.Command)
	check = func(c *cobra.Command) {
		if c.Parent() == root && c.GroupID == "" {
			t.Errorf("%s stands in no group", c.Name())
		}
		own := false
		for line := range strings.Lines(c.Example) {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "   ") // before what it does
			if !strings.Contains(line, "undertide ") {               // what another program is given
				continue
			}
			own = own || strings.Contains(line+" ", c.CommandPath()+" ")
			if err := takes(t, line); err != nil {
				t.Errorf("the example %q of %s: %v", line, c.CommandPath(), err)
			}
		}
		if !own && c != root {
			t.Errorf("%s has no example of itself", c.CommandPath())
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if of, _ := pflag.UnquoteUsage(f); of != strings.ToUpper(of) {
				t.Errorf("--%s of %s takes %s: say what it is in capitals", f.Name, c.CommandPath(), of)
			}
		})
		for _, sub := range c.Commands() {
			check(sub)
		}
	}
	check(root)
}

// takes says what is wrong with a line of an example, without running the command.
func takes(t *testing.T, line string) error {
	args := words(t, line)
	c, rest, err := newRoot(&streams{out: &bytes.Buffer{}, err: &bytes.Buffer{}}).Find(args)
	if err != nil {
		return err
	}
	if err := c.ParseFlags(rest); err != nil {
		return err
	}
	if err := c.ValidateRequiredFlags(); err != nil {
		return err
	}
	return c.ValidateArgs(c.Flags().Args())
}

// words are what a shell gives undertide in a line.
func words(t *testing.T, line string) []string {
	t.Helper()
	dir := t.TempDir()
	for _, input := range regexp.MustCompile(`< (\S+)`).FindAllStringSubmatch(line, -1) {
		if err := os.WriteFile(filepath.Join(dir, input[1]), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	c := exec.Command("sh", "-c", `undertide() { printf '%s\0' "$@" > words; }; `+line)
	c.Dir = dir
	_ = c.Run() // what stands beside it in a pipe may fail
	b, err := os.ReadFile(filepath.Join(dir, "words"))
	if err != nil {
		t.Fatalf("the example %q does not call undertide: %v", line, err)
	}
	return strings.Split(strings.TrimSuffix(string(b), "\x00"), "\x00")
}

func readDocs(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../docs/commands.md")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestWithoutHome: whoever has no folder for sign-ins, as a program of the system, has not signed in, and asks all the same.
func TestWithoutHome(t *testing.T) {
	for _, name := range []string{"HOME", "XDG_CONFIG_HOME", "UNDERTIDE_TOKEN", "UNDERTIDE_AUTHORITY"} {
		t.Setenv(name, "")
	}
	if _, err := clientOf("127.0.0.1:9", "", ""); err != nil {
		t.Error(err)
	}
	if err := (signIns{}).write(); err == nil || !strings.Contains(err.Error(), "set HOME, or bring a token") {
		t.Errorf("a sign-in that cannot be kept: %v", err)
	}
}
