package csv

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/leak"
)

func TestMain(m *testing.M) { leak.Main(m) }

// decoded gives rows and rejects as lines.
func decoded(t *testing.T, d *decoding, header string, events ...string) string {
	t.Helper()
	fields := codec.Fields{{Name: "gauge", Kind: row.String}, {Name: "level_m", Kind: row.Double}}
	c := engine.Chunk{Header: []byte(header)}
	for _, e := range events {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, e...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	schema := row.Schema{{Name: "gauge", Kind: row.String}, {Name: "level_m", Kind: row.Double}}
	b := row.NewBatch(schema)
	rejects := d.Decoder(fields).Decode(&c, b, nil)
	out := string(ndjson.NewEncoder(schema).Append(nil, step.ViewOf(b)))
	for _, r := range rejects {
		out += r.Reason + ": " + r.Message + "\n"
	}
	return out
}

// TestMessages: the cells of messages are named by the document; a header, where there is one, counts; delimiters are as they are said.
func TestMessages(t *testing.T) {
	for _, c := range []struct {
		d      decoding
		header string
		event  string
		want   string
	}{
		{decoding{Columns: []string{"x", "level_m", "gauge"}}, "", "1,2.5,G1", `{"gauge":"G1","level_m":2.5}`},
		{decoding{Columns: []string{"gauge"}}, "", "G1", `{"gauge":"G1","level_m":null}`},
		{decoding{Columns: []string{"gauge", "level_m"}}, "", "G1", "malformed: the record has 1 cells, and 2 columns are named"},
		{decoding{Columns: []string{"gauge", "level_m"}}, "level_m,gauge", "1,G1", `{"gauge":"G1","level_m":1}`},
		{decoding{Columns: []string{"gauge", "level_m"}, Delimiter: ';'}, "", `"G;1";2.5`, `{"gauge":"G;1","level_m":2.5}`},
		{decoding{Columns: []string{"gauge", "level_m"}, Quote: '\''}, "", `'G,"1"',2.5`, `{"gauge":"G,\"1\"","level_m":2.5}`},
		{decoding{Columns: []string{"gauge", "level_m"}, Quote: '\''}, "", `'it''s',2.5`, `{"gauge":"it's","level_m":2.5}`},
		{decoding{Columns: []string{"gauge", "level_m"}, Quote: noQuote}, "", `"G1,2.5`, `{"gauge":"\"G1","level_m":2.5}`},
		{decoding{Delimiter: '\t'}, "gauge\tlevel_m", "G1\t2.5", `{"gauge":"G1","level_m":2.5}`},
	} {
		if got := strings.TrimSpace(decoded(t, &c.d, c.header, c.event)); got != c.want {
			t.Errorf("%+v, %q: %s, want %s", c.d, c.event, got, c.want)
		}
	}
	for text, ok := range map[string]bool{";": true, "tab": true, "\t": true, "|": true, "": false, "ab": false, `"`: false, "\n": false} {
		var d delimiter
		if err := d.UnmarshalText([]byte(text)); (err == nil) != ok {
			t.Errorf("delimiter %q: %v", text, err)
		}
	}
}

// TestGuess: the delimiter of a file is seen in its first line.
func TestGuess(t *testing.T) {
	for header, want := range map[string]string{"a,b": "", "a;b;c,d": ";", "a\tb": "tab", "a|b": "|", "a": ""} {
		g := guess(connect.Sample{Header: header})
		if g.Reading == nil || g.Settings["delimiter"] != want {
			t.Errorf("%q: %v", header, g.Settings)
		}
	}
}

// sameCells compares the cells that are cut without the library with those that it reads; one that cannot be cut is for the library alone.
func sameCells(t *testing.T, comma rune, quote byte, event string) {
	t.Helper()
	d := newDecoder(nil, comma, []string{"x"}, quote).(*decoder)
	if !d.cut([]byte(event)) {
		return
	}
	cut := fmt.Sprintf("%q", d.found)
	if err := d.read([]byte(event)); err != nil {
		t.Fatalf("%q by %q is cut into %s, and the library says: %v", event, comma, cut, err)
	}
	if read := fmt.Sprintf("%q", d.found); read != cut {
		t.Fatalf("%q by %q is cut into %s, and the library reads %s", event, comma, cut, read)
	}
}

// TestCut: records without quotes are cut as the library reads them, whatever stands in them.
func TestCut(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 1))
	pieces := []string{",", ";", "\t", "|", "a", "G1", " ", "2.5", "'", `"`, "\r", "\n", "#", "é", "\x00", ""}
	cut := 0
	for range 20_000 {
		var event strings.Builder
		for range r.IntN(9) {
			event.WriteString(pieces[r.IntN(len(pieces))])
		}
		comma, quote := []rune{',', ';', '\t', '|', 'é'}[r.IntN(5)], []byte{'"', '\'', byte(noQuote)}[r.IntN(3)]
		sameCells(t, comma, quote, event.String())
		if newDecoder(nil, comma, []string{"x"}, quote).(*decoder).cut([]byte(event.String())) {
			cut++
		}
	}
	if cut < 2000 {
		t.Errorf("only %d of 20,000 records were cut", cut)
	}
}

// FuzzCut: the same on any bytes.
func FuzzCut(f *testing.F) {
	f.Add("G1,2.5,\"x\"")
	f.Add("a,,b\r")
	f.Fuzz(func(t *testing.T, event string) {
		if utf8.ValidString(event) { // others are rejects before
			sameCells(t, ',', '"', event)
			sameCells(t, ';', '\'', event)
		}
	})
}
