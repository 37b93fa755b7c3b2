package checkpoint

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"

	"github.com/parquet-go/parquet-go"

	"undertide/core/row"
)

// writeRows is how many rows go to the Parquet writer at a time.
const writeRows = 1024

// parquetSchema gives the Parquet form of a state schema. A group's columns are ordered by name.
func parquetSchema(name string, s row.Schema) *parquet.Schema {
	g := parquet.Group{}
	for _, f := range s {
		var n parquet.Node
		switch f.Kind {
		case row.String:
			n = parquet.String()
		case row.Decimal:
			n = parquet.String()
		case row.Double:
			n = parquet.Leaf(parquet.DoubleType)
		case row.Bool:
			n = parquet.Leaf(parquet.BooleanType)
		case row.Timestamp:
			n = parquet.Timestamp(parquet.Microsecond)
		default:
			if n = parquet.Int(64); f.Kind.Text() { // bytes and lists
				n = parquet.Leaf(parquet.ByteArrayType)
			}
		}
		g[f.Name] = parquet.Optional(n)
	}
	return parquet.NewSchema(name, g)
}

// order gives, for each Parquet column, the state column's number.
func order(s row.Schema) []int {
	out := make([]int, len(s))
	for i := range out {
		out[i] = i
	}
	slices.SortFunc(out, func(a, b int) int { return cmp.Compare(s[a].Name, s[b].Name) })
	return out
}

// saveState writes the parts that the lanes gave, in order of share.
func (s *Store) saveState(dir, step string, parts []*row.Batch) (stateFile, error) {
	slices.SortFunc(parts, func(a, b *row.Batch) int { return cmp.Compare(a.Cols[0].I[0], b.Cols[0].I[0]) })
	schema := parts[0].Schema
	var buf bytes.Buffer
	w := parquet.NewGenericWriter[any](&buf, parquetSchema(step, schema), parquet.Compression(&parquet.Snappy))
	cols := order(schema)
	rows := make([]parquet.Row, 0, writeRows)
	total := 0
	values := make([]parquet.Value, writeRows*len(cols))
	flush := func() error {
		_, err := w.WriteRows(rows)
		rows = rows[:0]
		return err
	}
	for _, b := range parts {
		total += b.N
		for i := range b.N {
			at := len(rows) * len(cols)
			r := values[at : at+len(cols) : at+len(cols)]
			for c, k := range cols {
				r[c] = value(b.Cols[k], i).Level(0, level(b.Cols[k], i), c)
			}
			if rows = append(rows, r); len(rows) == writeRows {
				if err := flush(); err != nil {
					return stateFile{}, err
				}
			}
		}
	}
	if err := errors.Join(flush(), w.Close()); err != nil {
		return stateFile{}, err
	}
	f := stateFile{Name: step + ".parquet", Step: step, Rows: total, Bytes: buf.Len(), SHA256: digest(buf.Bytes())}
	for _, c := range schema {
		f.Columns = append(f.Columns, column{Name: c.Name, Kind: c.Kind.String()})
	}
	return f, s.write(filepath.Join(dir, f.Name), buf.Bytes())
}

func level(c *row.Column, i int) int {
	if c.IsNull(i) {
		return 0
	}
	return 1
}

func value(c *row.Column, i int) parquet.Value {
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

// loadState reads a state file back; its size and SHA-256 are checked before a byte is believed.
func (s *Store) loadState(dir string, f stateFile) (*row.Batch, error) {
	if filepath.Base(f.Name) != f.Name {
		return nil, errors.New("its name leaves the folder")
	}
	text, err := s.fs.ReadFile(filepath.Join(dir, f.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errors.New("it is not there")
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	if len(text) != f.Bytes {
		return nil, fmt.Errorf("it has %d bytes, the manifest says %d", len(text), f.Bytes)
	}
	if digest(text) != f.SHA256 {
		return nil, errors.New("its SHA-256 is not the one in the manifest")
	}
	var schema row.Schema
	for _, c := range f.Columns {
		k, ok := row.ParseKind(c.Kind)
		if !ok {
			return nil, fmt.Errorf("column %s has the unknown kind %s", c.Name, c.Kind)
		}
		schema = append(schema, row.Field{Name: c.Name, Kind: k})
	}
	file, err := parquet.OpenFile(bytes.NewReader(text), int64(len(text)))
	if err != nil {
		return nil, err
	}
	if n := len(file.Root().Columns()); n != len(schema) {
		return nil, fmt.Errorf("it has %d columns, the manifest says %d", n, len(schema))
	}
	b := row.NewBatch(schema)
	cols := order(schema)
	for _, g := range file.RowGroups() {
		rows := g.Rows()
		if err := readRows(rows, b, cols); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
	}
	if b.N != f.Rows {
		return nil, fmt.Errorf("it has %d rows, the manifest says %d", b.N, f.Rows)
	}
	return b, nil
}

func readRows(rows parquet.Rows, b *row.Batch, cols []int) error {
	buf := make([]parquet.Row, writeRows)
	for {
		n, err := rows.ReadRows(buf)
		for _, r := range buf[:n] {
			for _, v := range r {
				c := b.Cols[cols[v.Column()]]
				switch {
				case v.IsNull():
					c.AppendNull()
				case c.Kind == row.Double:
					c.AppendDouble(v.Double())
				case c.Kind == row.Bool:
					c.AppendBool(v.Boolean())
				case c.Kind.Text():
					c.AppendBytes(v.ByteArray())
				default:
					c.AppendInt(v.Int64())
				}
			}
			b.N++
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
