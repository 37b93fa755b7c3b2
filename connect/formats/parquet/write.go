package parquet

import (
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// encoder writes rows as appendValue does.
type encoder struct{ cols []int }

func newEncoder(s row.Schema) engine.Encoder { return &encoder{s.Visible()} }

// Append implements [engine.Encoder].
func (e *encoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		for _, at := range e.cols {
			dst = appendValue(dst, v.Cols[at], int(r))
		}
	}
	return dst
}

// groupBytes is how many bytes of rows, not packed, make a row group: what a writer holds in memory.
const groupBytes = 32 << 20

// packer writes rows as a file.
type packer struct {
	out     *counting
	w       *parquet.Writer
	columns []*writing
	waiting int64 // bytes of rows in the row group at hand
}

// counting counts what is written.
type counting struct {
	out io.Writer
	n   int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.out.Write(b)
	c.n += int64(n)
	return n, err
}

// writing is one field on its way into its leaves: one, or two of a map or of what most_common gives.
type writing struct {
	rows   *row.Column
	first  int // number of the first leaf
	leaves [][]parquet.Value

	keys, values, counts *row.Column // of the lists
}

// ordered is a group whose fields stand in the order of the schema; the library orders them by name.
type ordered struct {
	parquet.Group
	names []string
}

// Fields implements [parquet.Node].
func (o ordered) Fields() []parquet.Field {
	by := map[string]parquet.Field{}
	for _, f := range o.Group.Fields() {
		by[f.Name()] = f
	}
	out := make([]parquet.Field, 0, len(o.names))
	for _, n := range o.names {
		out = append(out, by[n])
	}
	return out
}

// pack begins a file.
func pack(out io.Writer, s row.Schema) connect.Packer {
	p := &packer{out: &counting{out: out}}
	root, leaves := ordered{Group: parquet.Group{}}, 0
	for _, i := range s.Visible() {
		f := s[i]
		root.names = append(root.names, f.Name)
		root.Group[f.Name] = nodeOf(f.Kind)
		w := &writing{rows: row.NewColumn(f.Kind), first: leaves, leaves: make([][]parquet.Value, 1)}
		if !f.Kind.Plain() {
			w.keys, w.values, w.counts = row.NewColumn(row.String), row.NewColumn(f.Kind.Elem()), row.NewColumn(row.Int)
			if f.Kind.IsMap() || f.Kind.IsCommon() {
				w.leaves = make([][]parquet.Value, 2)
			}
		}
		leaves += len(w.leaves)
		p.columns = append(p.columns, w)
	}
	p.w = parquet.NewWriter(p.out, parquet.NewSchema("rows", root), parquet.Compression(&parquet.Snappy), parquet.CreatedBy("undertide", "", ""))
	return p
}

// nodeOf gives the type of a column (docs/connectors.md, "Parquet").
func nodeOf(k row.Kind) parquet.Node {
	switch {
	case k.IsMap():
		return parquet.Optional(parquet.Map(parquet.String(), nodeOf(k.Elem())))
	case k.IsCommon():
		return parquet.Optional(parquet.List(ordered{parquet.Group{"value": nodeOf(k.Elem()), "count": parquet.Required(parquet.Int(64))}, []string{"value", "count"}}))
	case k.IsList():
		return parquet.Optional(parquet.List(nodeOf(k.Elem())))
	}
	var n parquet.Node
	switch k {
	case row.Bytes:
		n = parquet.Leaf(parquet.ByteArrayType)
	case row.Double:
		n = parquet.Leaf(parquet.DoubleType)
	case row.Bool:
		n = parquet.Leaf(parquet.BooleanType)
	case row.Timestamp:
		n = parquet.Timestamp(parquet.Microsecond)
	case row.Int, row.Duration:
		n = parquet.Int(64)
	default: // decimals, too: each value has digits of its own
		n = parquet.String()
	}
	return parquet.Optional(n)
}

// Write implements [connect.Packer].
func (p *packer) Write(rows []byte, _ int) error {
	p.waiting += int64(len(rows))
	for len(rows) > 0 {
		n := 0
		for ; len(rows) > 0 && n < row.MaxRows; n++ {
			for _, c := range p.columns {
				rest, tag, _, err := takeValue(rows, c.rows)
				if err != nil {
					return err
				}
				if tag == absent {
					c.rows.AppendNull()
				}
				rows = rest
			}
		}
		if err := p.put(n); err != nil {
			return err
		}
	}
	if p.waiting >= groupBytes {
		return p.flush()
	}
	return nil
}

func (p *packer) flush() error {
	p.waiting = 0
	if err := p.w.Flush(); err != nil {
		return fmt.Errorf("write a row group: %w", err)
	}
	return nil
}

// put writes n rows to the leaves.
func (p *packer) put(n int) error {
	to := p.w.ColumnWriters()
	for _, c := range p.columns {
		for i := range c.leaves {
			c.leaves[i] = c.leaves[i][:0]
		}
		for i := range n {
			c.take(i)
		}
		for i, values := range c.leaves {
			if _, err := to[c.first+i].WriteRowValues(values); err != nil {
				return fmt.Errorf("write column %d: %w", c.first+i, err)
			}
		}
		c.rows.Reset()
	}
	return nil
}

// take adds a row's values to the leaves. A list has definition level 1 where it is empty, and its elements 2, or 3 where they are no nulls.
func (c *writing) take(i int) {
	if c.values == nil {
		c.leaves[0] = append(c.leaves[0], valueOf(c.rows, i).Level(0, defined(c.rows, i, 1), c.first))
		return
	}
	n, level := 0, 0
	if !c.rows.IsNull(i) {
		level = 1
		row.Elements(c.rows.Kind, c.rows.Bytes(i), c.keys, c.values, c.counts)
		n = c.values.Len()
	}
	if n == 0 {
		for leaf := range c.leaves {
			c.leaves[leaf] = append(c.leaves[leaf], parquet.NullValue().Level(0, level, c.first+leaf))
		}
		return
	}
	last := len(c.leaves) - 1
	value := last // a map's names stand before its values, and counts behind
	if c.rows.Kind.IsCommon() {
		value = 0
	}
	for e := range n { // the columns hold one row's at a time: what is written later is copied
		again := min(e, 1)
		c.leaves[value] = append(c.leaves[value], valueOf(c.values, e).Clone().Level(again, defined(c.values, e, 3), c.first+value))
		switch {
		case c.rows.Kind.IsMap():
			c.leaves[0] = append(c.leaves[0], parquet.ByteArrayValue(c.keys.Bytes(e)).Clone().Level(again, 2, c.first))
		case c.rows.Kind.IsCommon():
			c.leaves[last] = append(c.leaves[last], parquet.Int64Value(c.counts.I[e]).Level(again, 2, c.first+last))
		}
	}
}

// defined is a value's definition level, which is one less where it is null.
func defined(c *row.Column, i, full int) int {
	if c.IsNull(i) {
		return full - 1
	}
	return full
}

// valueOf gives a plain value; it refers to the column.
func valueOf(c *row.Column, i int) parquet.Value {
	switch {
	case c.IsNull(i):
		return parquet.NullValue()
	case c.Kind == row.Double:
		return parquet.DoubleValue(c.F[i])
	case c.Kind == row.Bool:
		return parquet.BooleanValue(c.I[i] != 0)
	case c.Kind.Text():
		return parquet.ByteArrayValue(c.Bytes(i))
	}
	return parquet.Int64Value(c.I[i])
}

// Size implements [connect.Packer].
func (p *packer) Size() int64 { return p.out.n + p.waiting }

// Close implements [connect.Packer].
func (p *packer) Close() error { return p.w.Close() }
