package avro

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/hamba/avro/v2/ocf"

	"undertide/connect"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// written is a schema of all kinds of fields, and written rows of it.
var writtenSchema = row.Schema{
	{Name: "gate", Kind: row.String}, {Name: "axles", Kind: row.Int}, {Name: "tonnes", Kind: row.Double}, {Name: "full", Kind: row.Bool}, {Name: "seal", Kind: row.Bytes},
	{Name: "at", Kind: row.Timestamp}, {Name: "took", Kind: row.Duration}, {Name: "fee", Kind: row.Decimal}, {Name: "goods", Kind: row.ListOf(row.String)},
	{Name: "by_axle", Kind: row.MapOf(row.Int)}, {Name: "hidden", Kind: row.Int, Hidden: true}, {Name: "last", Kind: row.String},
}

func writtenRows(r *rand.Rand, n int) *row.Batch {
	b := row.NewBatch(writtenSchema)
	var plain func(c *row.Column)
	plain = func(c *row.Column) {
		switch {
		case r.IntN(6) == 0:
			c.AppendNull()
		case c.Kind == row.Double:
			c.AppendDouble(float64(r.IntN(4000)) / 8)
		case c.Kind == row.Bool:
			c.AppendBool(r.IntN(2) == 0)
		case c.Kind == row.Decimal:
			c.AppendString(fmt.Sprintf("%d.%02d", r.IntN(100), r.IntN(100)))
		case c.Kind.Plain() && c.Kind.Text():
			c.AppendString(strings.Repeat("é\n", r.IntN(40)))
		case c.Kind.Plain():
			c.AppendInt(r.Int64() >> r.IntN(63))
		default:
			one, out := row.NewColumn(c.Kind.Elem()), []byte{}
			for e := range r.IntN(4) {
				one.Reset()
				plain(one)
				if c.Kind.IsMap() {
					out = row.AppendText(out, fmt.Sprint("k", e))
				}
				out = row.AppendElement(out, one, 0)
			}
			c.AppendBytes(out)
		}
	}
	for range n {
		for _, c := range b.Cols {
			plain(c)
		}
		b.N++
	}
	return b
}

// TestWritten: rows of every kind that are written come back as they were, as messages by their schema and in a container; the library reads
// the container, too.
func TestWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var file bytes.Buffer
	p := pack(&file, writtenSchema)
	var want []string
	schema := parsed(t, SchemaOf("crane.lifts-1", writtenSchema))
	fields, err := fieldsOf(schema)
	if err != nil {
		t.Fatal(err)
	}
	for i := range fields { // what no type of Avro's says
		fields[i].Kind = writtenSchema[writtenSchema.Visible()[i]].Kind
	}
	messages := (&decoding{file: schema}).Decoder(fields)
	for range 20 {
		b := writtenRows(r, r.IntN(30))
		enc := newEncoder(writtenSchema)
		rows := enc.Append(nil, step.ViewOf(b))
		if err := p.Write(rows, b.N); err != nil {
			t.Fatal(err)
		}
		text := string(ndjson.NewEncoder(writtenSchema).Append(nil, step.ViewOf(b)))
		lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		for i := range b.N {
			v := step.ViewOf(b)
			v.Sel = v.Sel[i : i+1]
			got, rejects := decoded(t, messages, fields, "", enc.Append(nil, v))
			if len(rejects) > 0 || got[0] != lines[i] {
				t.Fatalf("%v\n%s\nwant\n%s", rejects, strings.Join(got, ""), lines[i])
			}
			want = append(want, lines[i])
		}
	}
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}
	if p.Size() != int64(file.Len()) {
		t.Errorf("size %d of %d", p.Size(), file.Len())
	}
	c, err := open(connect.Input{Reader: bytes.NewReader(file.Bytes())})
	if err != nil {
		t.Fatal(err)
	}
	inside := (&decoding{}).Decoder(fields)
	var got []string
	for {
		var chunk engine.Chunk
		if err := c.Next(&chunk); err != nil {
			break
		}
		var events [][]byte
		for i := range chunk.Starts {
			events = append(events, chunk.Event(i))
		}
		rows, _ := decoded(t, inside, fields, string(c.Header()), events...)
		got = append(got, rows...)
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%d rows of the container, want %d", len(got), len(want))
	}
	lib, err := ocf.NewDecoder(bytes.NewReader(file.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for ; lib.HasNext(); n++ {
		var v map[string]any
		if err := lib.Decode(&v); err != nil {
			t.Fatal(err)
		}
		if _, hidden := v["hidden"]; hidden || len(v) != len(writtenSchema)-1 {
			t.Fatalf("%v", v)
		}
	}
	if n != len(want) {
		t.Errorf("the library reads %d rows, want %d", n, len(want))
	}
}
