package state

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"github.com/cespare/xxhash/v2"

	"undertide/core/row"
)

// Table declares rows that a step keeps: what they are called by, and what they hold (docs/checkpoints.md, "State").
// Immutable.
type Table struct {
	// Name tells the tables of a step apart; the first one's is empty.
	Name string
	// Span names the time that rows stand together by, such as window_start, so that what is past goes as one range;
	// empty for none.
	Span string
	// Key are the fields of the step's key.
	Key row.Schema
	// Rest is what else tells rows of a key apart, of kinds that are kept as int64.
	Rest row.Schema
	// Columns are what a row holds.
	Columns row.Schema
	// Derived: it is made anew from the step's other tables, and is not a part of a checkpoint.
	Derived bool
}

// Schema gives the table as people read it: the key as key_NAME, so that it is no other field, the span, the rest, and
// what the rows hold.
func (t *Table) Schema() row.Schema {
	var s row.Schema
	for _, f := range t.Key {
		s = append(s, row.Field{Name: "key_" + f.Name, Kind: f.Kind})
	}
	if t.Span != "" {
		s = append(s, row.Field{Name: t.Span, Kind: row.Timestamp})
	}
	return append(append(s, t.Rest...), t.Columns...)
}

// Same says whether rows of one table are rows of the other.
func (t *Table) Same(o *Table) bool {
	a, b := t.Schema(), o.Schema()
	same := t.Span == o.Span && len(t.Key) == len(o.Key) && len(t.Rest) == len(o.Rest) && len(a) == len(b)
	for i := range a {
		same = same && a[i] == b[i]
	}
	return same
}

// Rows are rows of a table as columns. Whoever fills them owns them until they are given on.
type Rows struct {
	N    int
	Hash []uint64 // of the keys
	Off  []uint32 // key i is Data[Off[i]:Off[i+1]]; see [Keys]
	Data []byte
	Span []row.Time    // where the table has one
	Rest [][]int64     // by field of Table.Rest
	Cols []*row.Column // by field of Table.Columns; none where rows are only named
}

// chunkRows and chunkBytes bound the rows that stand together: a column's offsets have 32 bits.
const (
	chunkRows  = 1 << 14
	chunkBytes = 8 << 20
)

func newRows(t *Table, named bool) *Rows {
	r := &Rows{Off: []uint32{0}, Rest: make([][]int64, len(t.Rest))}
	if !named {
		r.Cols = row.NewBatch(t.Columns).Cols
	}
	return r
}

// NewRows makes empty rows of a table.
func NewRows(t *Table) *Rows { return newRows(t, false) }

// Key gives the encoded key of a row.
func (r *Rows) Key(i int) []byte { return r.Data[r.Off[i]:r.Off[i+1]] }

// full says whether others must follow in rows of their own.
func (r *Rows) full() bool {
	if r.N >= chunkRows || len(r.Data) >= chunkBytes {
		return true
	}
	if r.N&255 == 0 {
		n := 0
		for _, c := range r.Cols {
			n += len(c.Data)
		}
		return n >= chunkBytes
	}
	return false
}

// Reset empties the rows and keeps the memory.
func (r *Rows) Reset() {
	r.N, r.Hash, r.Off, r.Data, r.Span = 0, r.Hash[:0], r.Off[:1], r.Data[:0], r.Span[:0]
	for i := range r.Rest {
		r.Rest[i] = r.Rest[i][:0]
	}
	for _, c := range r.Cols {
		c.Reset()
	}
}

// Changes are what became of a lane's rows of a table from one mark to the next. They are to be carried out in this
// order: what is emptied, what has passed, what is gone, what is new.
type Changes struct {
	Table *Table
	// Emptied: none of the lane's rows from before is left. Only where the table has no span.
	Emptied bool
	// Passed: rows whose span is before it are gone; row.MinTime for none.
	Passed row.Time
	// Gone names rows that are gone; one that was never there may be among them.
	Gone []*Rows
	// New are rows that are new or hold something else.
	New []*Rows
}

// NewChanges are none.
func NewChanges(t *Table) *Changes { return &Changes{Table: t, Passed: row.MinTime} }

// Put begins a row that is new or has changed; the caller appends to each of the columns that it is given, and to
// nothing else. span counts where the table has one, rest goes by Table.Rest.
func (c *Changes) Put(key []byte, hash uint64, span row.Time, rest ...int64) []*row.Column {
	return add(&c.New, c.Table, false, key, hash, span, rest).Cols
}

// PutAll begins rows of a span, one for each of the keys ids of d; the caller appends as many values to each column that
// it is given. The table has no Rest.
func (c *Changes) PutAll(d *Dict, ids []uint32, span row.Time) []*row.Column {
	r := last(&c.New, c.Table, false)
	for _, id := range ids {
		r.Data = append(r.Data, d.Key(id)...)
		r.Off = append(r.Off, uint32(len(r.Data)))
		r.Hash = append(r.Hash, d.Hash(id))
	}
	if c.Table.Span != "" {
		for range ids {
			r.Span = append(r.Span, span)
		}
	}
	r.N += len(ids)
	return r.Cols
}

// Drop names a row that is gone.
func (c *Changes) Drop(key []byte, hash uint64, span row.Time, rest ...int64) {
	add(&c.Gone, c.Table, true, key, hash, span, rest)
}

// last gives the rows that take the next one.
func last(to *[]*Rows, t *Table, named bool) *Rows {
	n := len(*to)
	if n > 0 && !(*to)[n-1].full() {
		return (*to)[n-1]
	}
	r := newRows(t, named)
	if n > 0 { // there are many: it will be as large as the one before
		r.reserve((*to)[n-1])
	}
	*to = append(*to, r)
	return r
}

// reserve makes room for as much as other rows have.
func (r *Rows) reserve(o *Rows) {
	r.Hash, r.Off, r.Data = make([]uint64, 0, len(o.Hash)), append(make([]uint32, 0, len(o.Off)), 0), make([]byte, 0, len(o.Data)+len(o.Data)/16)
	r.Span = make([]row.Time, 0, len(o.Span))
	for i := range r.Rest {
		r.Rest[i] = make([]int64, 0, len(o.Rest[i]))
	}
	for i, c := range r.Cols {
		p := o.Cols[i]
		c.I, c.F, c.Data = make([]int64, 0, len(p.I)), make([]float64, 0, len(p.F)), make([]byte, 0, len(p.Data)+len(p.Data)/16)
		c.Off = append(make([]uint32, 0, len(p.Off)), c.Off...)
	}
}

func add(to *[]*Rows, t *Table, named bool, key []byte, hash uint64, span row.Time, rest []int64) *Rows {
	r := last(to, t, named)
	r.Data = append(r.Data, key...)
	r.Off = append(r.Off, uint32(len(r.Data)))
	r.Hash = append(r.Hash, hash)
	if t.Span != "" {
		r.Span = append(r.Span, span)
	}
	for i, v := range rest {
		r.Rest[i] = append(r.Rest[i], v)
	}
	r.N++
	return r
}

// Any says whether there is anything to carry out.
func (c *Changes) Any() bool {
	return c.Emptied || c.Passed > row.MinTime || len(c.Gone) > 0 || len(c.New) > 0
}

// Rows counts the rows that are new or have changed.
func (c *Changes) Rows() (n int) {
	for _, r := range c.New {
		n += r.N
	}
	return n
}

// A row stands in a store under the bytes: table, span, share, key, rest; numbers have eight bytes, the greatest first,
// with the sign turned, so that bytes go in the order of numbers. What it holds is a bit for each column that is null,
// and the others: int kinds as signed varints, bools as a byte, doubles as eight bytes, texts with their length.

// errRow: bytes of a row do not have the form that the table gives them.
var errRow = errors.New("a row of the state is damaged")

// TableNumber is the number that a table has within a store.
type TableNumber uint16

func appendOrdered(dst []byte, v int64) []byte {
	return binary.BigEndian.AppendUint64(dst, uint64(v)^1<<63)
}

func ordered(b []byte) int64 { return int64(binary.BigEndian.Uint64(b) ^ 1<<63) }

// AppendBefore appends the bytes that all rows of a table with a span from at on, and a share from share on, stand at
// or behind; of a table without a span at counts for nothing.
func (t *Table) AppendBefore(dst []byte, n TableNumber, at row.Time, share uint8) []byte {
	dst = binary.BigEndian.AppendUint16(dst, uint16(n))
	if t.Span != "" {
		dst = appendOrdered(dst, int64(at))
	}
	return append(dst, share)
}

// AppendName appends the bytes that row i stands under.
func (t *Table) AppendName(dst []byte, n TableNumber, r *Rows, i int) []byte {
	at := row.Time(0)
	if t.Span != "" {
		at = r.Span[i]
	}
	dst = append(t.AppendBefore(dst, n, at, ShareOf(r.Hash[i])), r.Key(i)...)
	for _, v := range r.Rest {
		dst = appendOrdered(dst, v[i])
	}
	return dst
}

// AppendContent appends the bytes of what row i holds.
func (t *Table) AppendContent(dst []byte, r *Rows, i int) []byte { return AppendValues(dst, r.Cols, i) }

// AppendValues writes row i of columns: a bit for each that is null, then the values of the others. [ReadValues] reads them.
func AppendValues(dst []byte, cols []*row.Column, i int) []byte {
	bits := len(dst)
	for range (len(cols) + 7) / 8 {
		dst = append(dst, 0)
	}
	for n, c := range cols {
		switch {
		case c.IsNull(i):
			dst[bits+n/8] |= 1 << (n % 8)
		case c.Kind == row.Double:
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(c.F[i]))
		case c.Kind == row.Bool:
			dst = append(dst, byte(c.I[i]))
		case c.Kind.Text():
			dst = append(binary.AppendUvarint(dst, uint64(len(c.Bytes(i)))), c.Bytes(i)...)
		default:
			dst = binary.AppendVarint(dst, c.I[i])
		}
	}
	return dst
}

// SpanOf gives the span and share of the row that stands under name.
func (t *Table) SpanOf(name []byte) (span row.Time, share uint8, err error) {
	at := 2
	if t.Span != "" {
		if len(name) < 10 {
			return 0, 0, errRow
		}
		span, at = row.Time(ordered(name[2:])), 10
	}
	if len(name) <= at {
		return 0, 0, errRow
	}
	return span, name[at], nil
}

// Read appends the row that stands under name and holds content. The bytes are checked, not believed.
func (t *Table) Read(r *Rows, name, content []byte) error {
	span, share, err := t.SpanOf(name)
	if err != nil {
		return err
	}
	key := name[3:]
	if t.Span != "" {
		key = name[11:]
		r.Span = append(r.Span, span)
	}
	at := len(key) - 8*len(t.Rest)
	if at < 0 {
		return errRow
	}
	for i := range t.Rest {
		r.Rest[i] = append(r.Rest[i], ordered(key[at+8*i:]))
	}
	key = key[:at]
	hash := xxhash.Sum64(key)
	if ShareOf(hash) != share || share >= Shares {
		return fmt.Errorf("a row of the state has share %d, its key share %d", share, ShareOf(hash))
	}
	r.Hash = append(r.Hash, hash)
	r.Data = append(r.Data, key...)
	r.Off = append(r.Off, uint32(len(r.Data)))
	if err := ReadValues(r.Cols, content); err != nil {
		return err
	}
	r.N++
	return nil
}

// ReadValues appends what [AppendValues] wrote to columns of the same kinds, and needs all of b for it. The bytes are checked, not believed; after an error the
// columns are of no use.
func ReadValues(cols []*row.Column, b []byte) error {
	nulls := (len(cols) + 7) / 8
	if len(b) < nulls {
		return errRow
	}
	bits, b := b[:nulls], b[nulls:]
	for n, c := range cols {
		if bits[n/8]>>(n%8)&1 != 0 {
			c.AppendNull()
			continue
		}
		switch {
		case c.Kind == row.Double:
			if len(b) < 8 {
				return errRow
			}
			c.AppendDouble(math.Float64frombits(binary.LittleEndian.Uint64(b)))
			b = b[8:]
		case c.Kind == row.Bool:
			if len(b) < 1 || b[0] > 1 {
				return errRow
			}
			c.AppendBool(b[0] == 1)
			b = b[1:]
		case c.Kind.Text():
			text, rest, ok := row.NextText(b)
			if !ok {
				return errRow
			}
			c.AppendBytes(text)
			b = rest
		default:
			v, w := binary.Varint(b)
			if w <= 0 {
				return errRow
			}
			c.AppendInt(v)
			b = b[w:]
		}
	}
	if len(b) > 0 {
		return errRow
	}
	return nil
}

// Reader gives the rows of a step's table that are kept.
type Reader interface {
	// Read hands over the rows whose share one of so many lanes owns, in order of span, share and key, several at a
	// time; they last until take returns. A table that is not kept has none.
	Read(step string, t *Table, lane, lanes int, take func(*Rows) error) error
}

// Reading gathers rows for [Reader.Read].
type Reading struct {
	Table *Table
	Take  func(*Rows) error
	rows  *Rows
}

// Add takes a row, and hands on those before it once they are many.
func (r *Reading) Add(name, content []byte) error {
	if r.rows == nil {
		r.rows = newRows(r.Table, false)
	}
	if err := r.Table.Read(r.rows, name, content); err != nil {
		return err
	}
	if r.rows.full() {
		return r.Flush()
	}
	return nil
}

// Flush hands on what was gathered.
func (r *Reading) Flush() error {
	if r.rows == nil || r.rows.N == 0 {
		return nil
	}
	err := r.Take(r.rows)
	r.rows.Reset()
	return err
}

// LaneShares gives the shares that a lane owns: from first to last, and first > last where it owns none.
func LaneShares(lane, lanes int) (first, last int) {
	first = (lane*Shares + lanes - 1) / lanes
	return first, ((lane+1)*Shares+lanes-1)/lanes - 1
}
