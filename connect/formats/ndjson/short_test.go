package ndjson

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

// every has a field of each kind, one within objects, one within a list, two of one member, and one of a name that is written with escapes.
var every = codec.Fields{
	{Name: "s", Kind: row.String}, {Name: "i", Kind: row.Int}, {Name: "x", Kind: row.Double}, {Name: "p", Kind: row.Bool}, {Name: "c", Kind: row.Decimal},
	{Name: "ms", Kind: row.Timestamp, Parse: codec.EpochMS}, {Name: "t", Kind: row.Timestamp}, {Name: "d", Kind: row.Duration}, {Name: "z", Kind: row.Bytes},
	{Name: "a name of more than sixteen bytes", Kind: row.Int, Required: true}, {Name: "höhe", Kind: row.Double},
	{Name: "driver", Kind: row.String, At: member.Of("crew", "driver")}, {Name: "age", Kind: row.Int, At: member.Of("crew", "of", "age")},
}

// odd has what the short way leaves to the library.
var odd = codec.Fields{
	{Name: "s", Kind: row.String}, {Name: `a"b`, Kind: row.Int}, {Name: "l", Kind: row.ListOf(row.String)}, {Name: "one", Kind: row.Int, At: member.Of("x")}, {Name: "two", Kind: row.Double, At: member.Of("x")},
}

const (
	everyLine = `{"s":"a text","i":-12,"x":3.217,"p":true,"c":1.50,"ms":1767225600123,"t":"2026-01-01T00:00:00Z","d":"1m30s","z":"AAEC","a name of more than sixteen bytes":7,"höhe":0.5,"crew":{"driver":"Ada","of":{"age":33}},"note":"nobody wants it","list":[1,{"a":null}],"last":-1.5e3}`
	oddLine   = `{"s":"a","l":["a","b"],"a\"b":1,"x":5}`
)

func chunkOf(lines ...string) *engine.Chunk {
	c := &engine.Chunk{}
	for _, l := range lines {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, l...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	return c
}

// read gives what each line of a chunk became: its row, or why it was refused.
func read(t testing.TB, d engine.Decoder, f codec.Fields, c *engine.Chunk) []string {
	t.Helper()
	b := row.NewBatch(f.Schema())
	rejects := d.Decode(c, b, nil)
	if b.N+len(rejects) != len(c.Starts) {
		t.Fatalf("%d rows and %d rejects of %d lines", b.N, len(rejects), len(c.Starts))
	}
	out := make([]string, len(c.Starts))
	for _, r := range rejects {
		out[r.Index] = r.Reason + ": " + r.Message
	}
	for i := range b.N {
		out[b.Index[i]] = strings.TrimSpace(string(NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{uint16(i)}, N: b.N})))
	}
	return out
}

// alike compares what becomes of a line between usual ones, without anything between them, and of the line alone, which has nothing behind it and so is left to the
// library.
func alike(t testing.TB, f codec.Fields, usual, line string) {
	t.Helper()
	d := NewDecoder(f)
	got := read(t, d, f, chunkOf(usual, usual, line, usual, line+"", usual+strings.Repeat(" ", slack)))
	alone := chunkOf(line)
	alone.Raw = slices.Clip(alone.Raw)
	want := read(t, NewDecoder(f), f, alone)[0]
	if got[2] != want || got[4] != want {
		t.Fatalf("%q is read as\n%s\nand by the library as\n%s", line, got[2], want)
	}
	if got[0] != got[1] || got[0] != got[3] {
		t.Fatalf("beside %q a usual line is read as\n%s\nand then as\n%s", line, got[0], got[3])
	}
}

// TestShort: usual lines are read by the short way, and are the same as the library reads them.
func TestShort(t *testing.T) {
	for _, c := range []struct {
		fields codec.Fields
		line   string
		short  bool
	}{
		{every, everyLine, true},
		{every, strings.NewReplacer(`":`, `": `, `,"`, `, "`, `,{`, `, {`).Replace(everyLine), true},
		{every, `{"a name of more than sixteen bytes":7}`, true},
		{every, `{"a name of more than sixteen bytes":7,"crew":{},"x":null}`, true},
		{every, `{"a name of more than sixteen bytes":7,"x":12345678901234567890.5,"i":123456789012345678}`, true},
		{every, `{"a name of more than sixteen bytes":7,"x":1e-7}`, true},
		{every, `{"a name of more than sixteen bytes":7,"i":1.0}`, false},
		{every, `{"a name of more than sixteen bytes":7,"s":"a\n"}`, false},
		{every, `{"a name of more than sixteen bytes":7,"i":1,"i":2}`, false},
		{every, `{"a name of more than sixteen bytes":7,"crew":{"driver":"Ada"},"crew":{}}`, false},
		{every, `{"a name of more than sixteen bytes":7,"note":01}`, false},
		{every, `{"a name of more than sixteen bytes":7} x`, false},
		{odd, oddLine, false},
		{odd, `{"s":"a"}`, true},
		{odd, `{"s":"a","a"b":1}`, false},
	} {
		d, ok := NewDecoder(c.fields).(*decoder)
		if !ok {
			t.Fatal("another decoder")
		}
		lines := chunkOf(c.line, c.line+strings.Repeat(" ", slack))
		b := row.NewBatch(c.fields.Schema())
		d.Decode(lines, b, nil)
		b.Reset()
		d.line, d.row, d.event = lines.Raw[:len(c.line)], 0, d.event+1
		if d.short() != c.short {
			t.Errorf("%s is read by the short way: %v", c.line, !c.short)
		}
		alike(t, c.fields, c.line, c.line)
	}
}

// TestShortRandom: lines that are changed at random are read as the library reads them.
func TestShortRandom(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 1))
	pieces := []string{`"`, `\`, `{`, `}`, `[`, `]`, `:`, `,`, ` `, "\t", `-`, `+`, `.`, `e`, `E`, `0`, `1`, `9`, `00`, `null`, `true`, `false`, `"s":"b",`, `"i":3,`, `"x":1.25,`, `"crew":{"driver":"Bo"},`, `"crew":{},`, `\u0041`, "é", "\xff", "\x00", "\x7f", `""`, `:"`, `1e5`, `1E+2`, `-0`, `0.1`, `123456789012345`, `1234567890123456`, `9223372036854775807`, `92233720368547758080`, `0.000000000000001`}
	for n := range 20_000 {
		line, f, usual := everyLine, every, everyLine
		if n%8 == 0 {
			line, f, usual = oddLine, odd, oddLine
		}
		for range 1 + r.IntN(3) {
			at := r.IntN(len(line) + 1)
			switch r.IntN(4) {
			case 0:
				line = line[:at] + pieces[r.IntN(len(pieces))] + line[at:]
			case 1:
				line = line[:at] + line[min(len(line), at+1+r.IntN(4)):]
			case 2:
				line = line[:at] + pieces[r.IntN(len(pieces))] + line[min(len(line), at+1+r.IntN(4)):]
			default: // two members change places
				parts := strings.Split(line, `,"`)
				a, b := r.IntN(len(parts)), r.IntN(len(parts))
				parts[a], parts[b] = parts[b], parts[a]
				line = strings.Join(parts, `,"`)
			}
		}
		alike(t, f, usual, line)
	}
	for range 20_000 { // numbers of every length
		text := fmt.Sprint(r.Uint64() >> r.IntN(64))
		if k := r.IntN(len(text) + 1); k > 0 && k < len(text) && r.IntN(2) == 0 {
			text = text[:k] + "." + text[k:]
		}
		if r.IntN(3) == 0 {
			text = "0." + strings.Repeat("0", r.IntN(20)) + strings.ReplaceAll(text, ".", "")
		}
		if r.IntN(4) == 0 {
			text = "-" + text
		}
		alike(t, every[:3], `{"s":"a","i":1,"x":2.5}`, `{"s":"","i":`+strings.Split(text, ".")[0]+`,"x":`+text+`}`)
	}
}

// FuzzShort: any bytes are read as the library reads them, after lines of another shape too.
func FuzzShort(f *testing.F) {
	for _, s := range []string{everyLine, oddLine, `{"x":1-2}`, `{"i":12,`, `{"x": 1e5 }`, `{}`, `{"s":"\ud800"}`, `{"crew":{"of":{"age":1},"driver":null}}`, `{"a":[[[{"b":{}}]]],"s":"x"}`} {
		f.Add(everyLine, s)
		f.Add(s, everyLine)
	}
	f.Fuzz(func(t *testing.T, usual, line string) {
		alike(t, every, usual, line)
		alike(t, odd, usual, line)
	})
}
