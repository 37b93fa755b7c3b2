package avro

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/klauspost/compress/flate"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// SchemaOf gives the schema of rows: each field may be null, so that one that comes or goes later is not a break (docs/connectors.md, "Avro").
func SchemaOf(name string, s row.Schema) string {
	type field struct {
		Name    string `json:"name"`
		Type    any    `json:"type"`
		Default any    `json:"default"`
	}
	fields := []field{}
	for _, i := range s.Visible() {
		fields = append(fields, field{Name: s[i].Name, Type: nullable(typeOf(s[i].Kind, s[i].Name))})
	}
	out, err := json.Marshal(map[string]any{"type": "record", "name": nameOf(name), "fields": fields})
	if err != nil {
		panic(err) // texts
	}
	return string(out)
}

// nameOf makes a name of Avro's: letters, digits and _, no digit first.
func nameOf(s string) string {
	s = strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
			return c
		}
		return '_'
	}, s)
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		return "_" + s
	}
	return s
}

func nullable(t any) any { return []any{"null", t} }

// typeOf gives the type that takes all values of a kind. Decimals are their texts: each has digits of its own.
func typeOf(k row.Kind, name string) any {
	switch {
	case k.IsMap():
		return map[string]any{"type": "map", "values": nullable(typeOf(k.Elem(), name))}
	case k.IsCommon():
		return map[string]any{"type": "array", "items": map[string]any{"type": "record", "name": nameOf(name) + "_of", "fields": []any{
			map[string]any{"name": "value", "type": nullable(typeOf(k.Elem(), name))}, map[string]any{"name": "count", "type": "long"}}}}
	case k.IsList():
		return map[string]any{"type": "array", "items": nullable(typeOf(k.Elem(), name))}
	}
	switch k {
	case row.Int, row.Duration:
		return "long"
	case row.Double:
		return "double"
	case row.Bool:
		return "boolean"
	case row.Bytes:
		return "bytes"
	case row.Timestamp:
		return map[string]any{"type": "long", "logicalType": "timestamp-micros"}
	}
	return "string"
}

// encoder writes rows as records of SchemaOf.
type encoder struct {
	cols                 []int
	keys, values, counts []*row.Column // by column, of lists; nil for others
}

func newEncoder(s row.Schema) engine.Encoder {
	e := &encoder{cols: s.Visible()}
	for _, at := range e.cols {
		if k := s[at].Kind; k.Plain() {
			e.keys, e.values, e.counts = append(e.keys, nil), append(e.values, nil), append(e.counts, nil)
		} else {
			e.keys, e.values, e.counts = append(e.keys, row.NewColumn(row.String)), append(e.values, row.NewColumn(k.Elem())), append(e.counts, row.NewColumn(row.Int))
		}
	}
	return e
}

// Append implements [engine.Encoder].
func (e *encoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		for n, at := range e.cols {
			c, i := v.Cols[at], int(r)
			if e.values[n] == nil || c.IsNull(i) {
				dst = appendNullable(dst, c, i)
				continue
			}
			dst = e.appendList(append(dst, branch), n, c, i)
		}
	}
	return dst
}

// branch is the number of the type beside null in a union, as it is written.
const branch = 2

func appendNullable(dst []byte, c *row.Column, i int) []byte {
	if c.IsNull(i) {
		return append(dst, 0)
	}
	return appendPlain(append(dst, branch), c, i)
}

func appendPlain(dst []byte, c *row.Column, i int) []byte {
	switch {
	case c.Kind == row.Double:
		return binary.LittleEndian.AppendUint64(dst, math.Float64bits(c.F[i]))
	case c.Kind == row.Bool:
		return append(dst, byte(c.I[i]))
	case c.Kind.Text():
		return appendBytes(dst, c.Bytes(i))
	}
	return binary.AppendVarint(dst, c.I[i])
}

func appendBytes(dst, text []byte) []byte {
	return append(binary.AppendVarint(dst, int64(len(text))), text...)
}

// appendList writes a list or map as one block and its end.
func (e *encoder) appendList(dst []byte, n int, c *row.Column, i int) []byte {
	keys, values, counts := e.keys[n], e.values[n], e.counts[n]
	row.Elements(c.Kind, c.Bytes(i), keys, values, counts)
	if values.Len() == 0 {
		return append(dst, 0)
	}
	dst = binary.AppendVarint(dst, int64(values.Len()))
	for v := range values.Len() {
		if c.Kind.IsMap() {
			dst = appendBytes(dst, keys.Bytes(v))
		}
		dst = appendNullable(dst, values, v)
		if c.Kind.IsCommon() {
			dst = binary.AppendVarint(dst, counts.I[v])
		}
	}
	return append(dst, 0)
}

// packer writes records as an object container file, each piece as a block.
type packer struct {
	out   io.Writer
	n     int64
	begun bool
	head  []byte
	mark  [16]byte
	flate *flate.Writer
	block sink
	whole []byte
}

// sink takes what is packed.
type sink struct{ b []byte }

func (s *sink) Write(b []byte) (int, error) {
	s.b = append(s.b, b...)
	return len(b), nil
}

// pack begins a file. The mark between its blocks is made of the schema: a file that is written again is the same to the byte.
func pack(out io.Writer, s row.Schema) connect.Packer {
	schema := SchemaOf("rows", s)
	p := &packer{out: out}
	sum := sha256.Sum256([]byte(schema))
	copy(p.mark[:], sum[:])
	p.head = append(p.head, magic...)
	p.head = binary.AppendVarint(p.head, 2)
	for _, text := range []string{"avro.schema", schema, "avro.codec", "deflate"} {
		p.head = appendBytes(p.head, []byte(text))
	}
	p.head = append(append(p.head, 0), p.mark[:]...)
	p.flate, _ = flate.NewWriter(&p.block, flate.BestSpeed) // of a level that there is
	return p
}

func (p *packer) put(b []byte) error {
	n, err := p.out.Write(b)
	p.n += int64(n)
	return err
}

// begin writes the header, once.
func (p *packer) begin() error {
	if p.begun {
		return nil
	}
	p.begun = true
	return p.put(p.head)
}

// Write implements [connect.Packer].
func (p *packer) Write(rows []byte, n int) error {
	if err := p.begin(); err != nil || n == 0 {
		return err
	}
	p.block.b = p.block.b[:0]
	p.flate.Reset(&p.block)
	if _, err := p.flate.Write(rows); err != nil {
		return fmt.Errorf("pack a block: %w", err)
	}
	if err := p.flate.Close(); err != nil {
		return fmt.Errorf("pack a block: %w", err)
	}
	p.whole = binary.AppendVarint(binary.AppendVarint(p.whole[:0], int64(n)), int64(len(p.block.b)))
	p.whole = append(append(p.whole, p.block.b...), p.mark[:]...)
	return p.put(p.whole)
}

// Size implements [connect.Packer].
func (p *packer) Size() int64 { return p.n }

// Close implements [connect.Packer].
func (p *packer) Close() error { return p.begin() }
