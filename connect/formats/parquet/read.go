package parquet

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
)

// container is an open file.
type container struct {
	in     connect.Input
	file   *parquet.File
	fields codec.Fields
	header []byte
	cols   []*column
	groups []parquet.RowGroup

	group int   // that is read
	left  int64 // rows of it; -1 where it is not begun
	given int64 // rows of all
}

// most rows are read at a time; fewer where they are large.
const most = row.MaxRows

// open reads what stands at the file's end, and finds the columns of the fields: all where none are asked for.
func open(in connect.Input) (_ connect.Container, err error) {
	defer caught(&err)
	if in.At == nil {
		return nil, errors.New("a Parquet file is read from its end, so it cannot come through a pipe, nor packed: its columns are packed within; give the file itself")
	}
	if err := checkFooter(in); err != nil {
		return nil, fmt.Errorf("it is not a Parquet file that can be read: %w", err)
	}
	f, err := parquet.OpenFile(in.At, in.Size, parquet.SkipPageIndex(true), parquet.SkipBloomFilters(true), parquet.ReadBufferSize(256<<10))
	if err != nil {
		return nil, fmt.Errorf("it is not a Parquet file that can be read: %w", err)
	}
	columns, others := columnsOf(f.Root())
	c := &container{in: in, file: f, fields: in.Fields, groups: f.RowGroups(), left: -1}
	if len(c.fields) == 0 {
		if c.fields = fieldsOf(columns); len(c.fields) == 0 {
			return nil, errors.New("it has no column of a type that can be read")
		}
	}
	c.header = headerOf(c.fields)
	for i := range c.fields {
		col, err := columnOf(&c.fields[i], columns, others)
		if err != nil {
			return nil, err
		}
		c.cols = append(c.cols, col)
	}
	return c, nil
}

// caught makes an error of a panic of the library, which has some for files that are damaged.
func caught(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("the file is damaged, or of a kind that is not known: %v", p)
	}
}

// columnOf finds the column of a field; one without cells where the file has none.
func columnOf(f *codec.Field, columns []found, others []string) (*column, error) {
	path := f.Column()
	for _, c := range columns {
		if strings.Join(c.path, ".") != path {
			continue
		}
		out := &column{field: f, level: c.level, names: c.kind.IsMap(), rows: row.NewColumn(f.Kind), wrong: map[int]string{}, values: cells{leaf: c.leaf}}
		elem := f
		if c.level > 0 {
			e := *f
			e.Kind = f.Kind.Elem()
			elem = &e
			out.one = row.NewColumn(elem.Kind)
		}
		leaf := c.leaf
		if c.values != nil {
			out.keys, out.values, leaf = cells{leaf: c.leaf}, cells{leaf: c.values}, c.values
		}
		fits := c.level == 0 && f.Kind.Plain() || c.level > 0 && c.values == nil && f.Kind.IsList() && !f.Kind.IsCommon() || c.values != nil && f.Kind.IsMap()
		if fits {
			out.put = putter(leaf, elem)
		}
		if out.put == nil {
			return nil, fmt.Errorf("its column %s is %s, and field %s is to be %s; write %s: %s", path, c.kind, f.Name, f.Kind, f.Name, c.kind)
		}
		return out, nil
	}
	for _, other := range others {
		if path == other || strings.HasPrefix(path, other+".") {
			return nil, fmt.Errorf("its column %s has lists within lists, or lists of groups, which are not read; leave field %s out", other, f.Name)
		}
	}
	return &column{field: f, rows: row.NewColumn(f.Kind)}, nil
}

// Header implements [connect.Container]: the fields.
func (c *container) Header() []byte { return c.header }

// Text implements [connect.Columned]: the row as JSON has it, each value by its path.
func (c *container) Text(event []byte) []byte {
	out := []byte{'{'}
	for i := range c.fields {
		f := &c.fields[i]
		one := row.NewColumn(f.Kind)
		rest, tag, shown, err := takeValue(event, one)
		if err != nil {
			return event // as the decoder gets it
		}
		if i > 0 {
			out = append(out, ',')
		}
		out = append(strconv.AppendQuote(out, f.Path()), ':')
		switch tag {
		case present:
			out = codec.AppendValue(out, one, 0)
		case refused:
			out = append(out, shown...)
		default:
			out = append(out, "null"...)
		}
		event = rest
	}
	return append(out, '}')
}

// Done implements [connect.Progressing].
func (c *container) Done() float64 { return float64(c.given) / float64(max(1, c.file.NumRows())) }

// Skip implements [connect.Skipping].
func (c *container) Skip(n int64) (err error) {
	defer caught(&err)
	for c.group < len(c.groups) && n >= c.groups[c.group].NumRows() {
		n -= c.groups[c.group].NumRows()
		c.given += c.groups[c.group].NumRows()
		c.group++
	}
	if c.group == len(c.groups) {
		if n > 0 {
			return io.EOF
		}
		return nil
	}
	if err := c.begin(); err != nil {
		return err
	}
	for n > 0 { // pages of older writers may end within a row, so that only reading tells where one begins
		some := min(n, most)
		if err := c.read(int(some)); err != nil {
			return err
		}
		n -= some
	}
	return nil
}

// begin begins the row group at hand.
func (c *container) begin() error {
	g := c.groups[c.group]
	c.left = g.NumRows()
	for _, col := range c.cols {
		for _, cells := range col.cells() {
			about, err := chunkOf(c.file, c.group, cells.leaf.Index())
			if err == nil {
				err = checkPages(c.in.At, c.in.Size, about)
			}
			if err != nil {
				return fmt.Errorf("row group %d, column %s: %w", c.group+1, strings.Join(cells.leaf.Path(), "."), err)
			}
			cells.open(g)
		}
	}
	return nil
}

// Next appends some rows.
func (c *container) Next(to *engine.Chunk) (err error) {
	defer caught(&err)
	for c.left <= 0 {
		if c.left == 0 {
			c.group++
		}
		if c.group == len(c.groups) {
			return io.EOF
		}
		if err := c.begin(); err != nil {
			return err
		}
	}
	n := int(min(c.left, most))
	if err := c.read(n); err != nil {
		return err
	}
	appendRows(to, c.cols, n)
	return nil
}

// read reads the next n rows of the row group.
func (c *container) read(n int) error {
	for _, col := range c.cols {
		if err := col.read(n); err != nil {
			return fmt.Errorf("row group %d, column %s: %w", c.group+1, col.field.Column(), err)
		}
	}
	c.left -= int64(n)
	c.given += int64(n)
	return nil
}

// Close ends reading.
func (c *container) Close() {
	for _, col := range c.cols {
		for _, cells := range col.cells() {
			cells.close()
		}
	}
}

// column reads what one field takes.
type column struct {
	field  *codec.Field
	level  int  // at which a list or map has an element; 0 for a single value
	names  bool // a map
	keys   cells
	values cells // their leaf is nil where the file has no such column
	put    put

	rows  *row.Column    // what was read
	wrong map[int]string // values that the field does not take, by their rows
	one   *row.Column    // an element
	out   []byte
}

// cells gives the leaves that are read.
func (c *column) cells() []*cells {
	switch {
	case c.values.leaf == nil:
		return nil
	case c.names:
		return []*cells{&c.keys, &c.values}
	}
	return []*cells{&c.values}
}

var errShort = errors.New("it has fewer values than rows: the file is damaged")

// read reads the next n rows.
func (c *column) read(n int) error {
	c.rows.Reset()
	clear(c.wrong)
	for i := 0; i < n; {
		if c.values.leaf == nil {
			c.rows.AppendNull()
			i++
			continue
		}
		ok, err := c.values.more()
		if err != nil {
			return err
		}
		if !ok {
			return errShort
		}
		if c.level > 0 {
			if err := c.list(i); err != nil {
				return err
			}
			i++
			continue
		}
		i = c.singles(i, n)
	}
	return nil
}

// singles reads values of the page at hand, up to row n, and gives the row that it came to.
func (c *column) singles(i, n int) int {
	v := &c.values
	full := byte(v.leaf.MaxDefinitionLevel())
	for ; i < n && v.at < v.n; i++ {
		if full > 0 && v.defs[v.at] < full {
			c.rows.AppendNull()
		} else if k := v.next(); !c.put(&v.values, k, c.rows) {
			c.refuse(i, k)
		}
		v.at++
	}
	return i
}

// refuse notes that the value of a row is not taken.
func (c *column) refuse(i, k int) {
	if c.rows.Len() > i {
		c.rows.Truncate(i)
	}
	c.rows.AppendNull()
	c.wrong[i] = c.values.shown(k)
}

// list reads a list or map: the values up to the next one that begins a row (Parquet, "Nested Encoding").
func (c *column) list(i int) error {
	v := &c.values
	full, from := byte(v.leaf.MaxDefinitionLevel()), byte(c.level)
	if level := v.defs[v.at]; level < from {
		if v.at++; level < from-1 {
			c.rows.AppendNull()
		} else {
			c.rows.AppendBytes(nil)
		}
		return c.passKey()
	}
	c.out = c.out[:0]
	entries := map[string][]byte(nil)
	if c.names {
		entries = map[string][]byte{}
	}
	good := true
	for first := true; ; first = false {
		ok, err := v.more()
		if err != nil {
			return err
		}
		if !ok || !first && v.reps[v.at] == 0 {
			break
		}
		c.one.Reset()
		if v.defs[v.at] < full {
			c.one.AppendNull()
		} else if k := v.next(); !c.put(&v.values, k, c.one) {
			good, c.wrong[i] = false, v.shown(k)
			c.one.Reset()
			c.one.AppendNull()
		}
		v.at++
		if !c.names {
			c.out = row.AppendElement(c.out, c.one, 0)
			continue
		}
		name, err := c.key()
		if err != nil {
			return err
		}
		entries[name] = row.AppendElement(nil, c.one, 0)
	}
	if c.names {
		c.out = codec.AppendEntries(c.out, entries)
	}
	if !good {
		c.rows.AppendNull()
		return nil
	}
	c.rows.AppendBytes(c.out)
	return nil
}

// passKey passes over the place that an empty map has among its keys.
func (c *column) passKey() error {
	if !c.names {
		return nil
	}
	ok, err := c.keys.more()
	if err == nil && !ok {
		err = errShort
	}
	c.keys.at++
	return err
}

// key reads the name of a map's next element.
func (c *column) key() (string, error) {
	ok, err := c.keys.more()
	if err != nil {
		return "", err
	}
	if !ok || int(c.keys.defs[c.keys.at]) < c.level {
		return "", errShort
	}
	c.keys.at++
	return string(c.keys.bytes(c.keys.next())), nil
}
