package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

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

func readDocs(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../docs/commands.md")
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
