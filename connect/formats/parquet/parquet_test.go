package parquet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// every is a schema of all kinds of fields.
var every = row.Schema{
	{Name: "gate", Kind: row.String}, {Name: "axles", Kind: row.Int}, {Name: "tonnes", Kind: row.Double}, {Name: "full", Kind: row.Bool}, {Name: "seal", Kind: row.Bytes},
	{Name: "at", Kind: row.Timestamp}, {Name: "took", Kind: row.Duration}, {Name: "fee", Kind: row.Decimal}, {Name: "goods", Kind: row.ListOf(row.String)},
	{Name: "loads", Kind: row.ListOf(row.Double)}, {Name: "by_axle", Kind: row.MapOf(row.Int)}, {Name: "hidden", Kind: row.Int, Hidden: true}, {Name: "again", Kind: row.String},
}

// random gives a batch of random rows, of which some are null.
func random(r *rand.Rand, n int) *row.Batch {
	b := row.NewBatch(every)
	plain := func(c *row.Column) {
		if r.IntN(6) == 0 {
			c.AppendNull()
			return
		}
		switch c.Kind {
		case row.Double:
			c.AppendDouble(float64(r.IntN(1000)) / 8)
		case row.Bool:
			c.AppendBool(r.IntN(2) == 0)
		case row.Decimal:
			c.AppendString(fmt.Sprintf("%d.%02d", r.IntN(100), r.IntN(100)))
		case row.String, row.Bytes:
			c.AppendString([]string{"", "north", "south", strings.Repeat("é", r.IntN(40)), fmt.Sprint(r.IntN(1e9))}[r.IntN(5)])
		default:
			c.AppendInt(r.Int64() >> r.IntN(63))
		}
	}
	for range n {
		for _, c := range b.Cols {
			if c.Kind.Plain() {
				plain(c)
				continue
			}
			if r.IntN(6) == 0 {
				c.AppendNull()
				continue
			}
			var out []byte
			one := row.NewColumn(c.Kind.Elem())
			for e := range r.IntN(5) {
				one.Reset()
				plain(one)
				if c.Kind.IsMap() {
					out = row.AppendText(out, fmt.Sprint("k", e))
				}
				out = row.AppendElement(out, one, 0)
			}
			c.AppendBytes(out)
		}
		b.N++
	}
	return b
}

// packed gives a file of batches.
func packed(t testing.TB, batches ...*row.Batch) []byte {
	t.Helper()
	var out bytes.Buffer
	p := pack(&out, every)
	enc := newEncoder(every)
	for _, b := range batches {
		if err := p.Write(enc.Append(nil, step.ViewOf(b)), b.N); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// fieldsFor are fields that read a schema.
func fieldsFor(s row.Schema) (out codec.Fields) {
	for _, i := range s.Visible() {
		out = append(out, codec.Field{Name: s[i].Name, Kind: s[i].Kind})
	}
	return out
}

// opened opens a file.
func opened(t testing.TB, file []byte, fields codec.Fields) connect.Columned {
	t.Helper()
	c, err := open(connect.Input{Reader: bytes.NewReader(file), At: bytes.NewReader(file), Size: int64(len(file)), Fields: fields})
	if err != nil {
		t.Fatal(err)
	}
	return c.(connect.Columned)
}

// lines reads what is left of a container as JSON, and the rejects.
func lines(t testing.TB, c connect.Container, fields codec.Fields) (rows, rejects []string) {
	t.Helper()
	schema := fields.Schema()
	d := newDecoder(fields)
	for {
		chunk := engine.Chunk{Header: c.Header()}
		err := c.Next(&chunk)
		if errors.Is(err, io.EOF) {
			return rows, rejects
		}
		if err != nil {
			t.Fatal(err)
		}
		b := row.NewBatch(schema)
		for _, r := range d.Decode(&chunk, b, nil) {
			rejects = append(rejects, r.Reason+": "+r.Message)
		}
		rows = append(rows, jsonOf(b)...)
	}
}

func jsonOf(b *row.Batch) []string {
	text := strings.TrimSuffix(string(ndjson.NewEncoder(b.Schema).Append(nil, step.ViewOf(b))), "\n")
	if text == "" {
		return nil
	}
	return strings.Split(text, "\n")
}

// TestRoundTrip: random rows of every kind come back as they were, in several row groups, from any row on, and column by column.
func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		var batches []*row.Batch
		var want []string
		var out bytes.Buffer
		p := pack(&out, every).(*packer)
		for range 1 + r.IntN(4) {
			b := random(r, r.IntN(300))
			batches = append(batches, b)
			want = append(want, jsonOf(b)...)
			if err := p.Write(newEncoder(every).Append(nil, step.ViewOf(b)), b.N); err != nil {
				t.Fatal(err)
			}
			if r.IntN(2) == 0 {
				if err := p.flush(); err != nil {
					t.Fatal(err)
				}
			}
		}
		if err := p.Close(); err != nil {
			t.Fatal(err)
		}
		file := out.Bytes()
		if p.Size() < int64(len(file)) {
			t.Fatalf("size %d of %d", p.Size(), len(file))
		}
		fields := fieldsFor(every)
		c := opened(t, file, fields)
		from := r.IntN(len(want) + 1)
		if err := c.Skip(int64(from)); err != nil {
			t.Fatal(err)
		}
		rows, rejects := lines(t, c, fields)
		if len(rejects) > 0 || !equal(rows, want[from:]) {
			t.Fatalf("from %d: %d rejects, %v\n%s", from, len(rejects), rejects[:min(1, len(rejects))], differs(rows, want[from:]))
		}
		if len(want) > 0 && c.Done() != 1 {
			t.Fatalf("%v is done", c.Done())
		}
		c.Close()
		if err := opened(t, file, fields).Skip(int64(len(want) + 1)); !errors.Is(err, io.EOF) {
			t.Fatalf("behind the last row: %v", err)
		}
		one := fields[r.IntN(len(fields)):][:1]
		some, _ := lines(t, opened(t, file, one), one)
		if len(some) != len(want) {
			t.Fatalf("%d rows of one column, want %d", len(some), len(want))
		}
		for i := range some {
			if !strings.Contains(want[i], strings.Trim(some[i], "{}")) {
				t.Fatalf("row %d: %s is not of %s", i, some[i], want[i])
			}
		}
	}
}

func equal(a, b []string) bool { return strings.Join(a, "\n") == strings.Join(b, "\n") }

// differs says where lines differ first.
func differs(got, want []string) string {
	for i := range min(len(got), len(want)) {
		if got[i] != want[i] {
			return fmt.Sprintf("line %d:\n%s\nwant\n%s", i, got[i], want[i])
		}
	}
	return fmt.Sprintf("%d lines, want %d", len(got), len(want))
}
