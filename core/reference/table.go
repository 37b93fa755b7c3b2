package reference

import (
	"sync"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Version tells what a table held at a moment.
type Version struct {
	Loaded time.Time `json:"loaded"` // when its rows were read, or the newest of them came
	Rows   int64     `json:"rows"`
	Bytes  int64     `json:"bytes"`
	Digest uint64    `json:"digest,string"` // of the content, whatever its order
}

// Table is a reference that is looked up in. All methods may be called from any goroutine; a batch that is looked up sees
// one version of it.
type Table struct {
	schema row.Schema
	mu     sync.RWMutex // guards all below, and the rows themselves
	rows   *Rows
	loaded time.Time
}

// NewTable makes a table of rows, which are its own from then on, read at a time.
func NewTable(r *Rows, loaded time.Time) *Table {
	return &Table{schema: r.schema, rows: r, loaded: loaded}
}

// Swap puts other rows in place of all, with the same fields and key.
func (t *Table) Swap(r *Rows, loaded time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rows, t.loaded = r, loaded
}

// Change lets f change the rows while nobody looks. An error is f's.
func (t *Table) Change(at time.Time, f func(*Rows) error) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.loaded = at
	return f(t.rows)
}

// Version tells what it holds.
func (t *Table) Version() Version {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return Version{Loaded: t.loaded, Rows: int64(t.rows.Len()), Bytes: t.rows.Bytes(), Digest: t.rows.Digest()}
}

// Each gives the rows one after another until take says no. The rows stand still meanwhile.
func (t *Table) Each(take func(b *row.Batch, i int) bool) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	t.rows.Each(take)
}

// Schema gives the fields of its rows.
func (t *Table) Schema() row.Schema { return t.schema }

// Finder is what rows are looked up in.
type Finder interface {
	Schema() row.Schema
	// NewProbe makes what gives these fields of the rows that are found.
	NewProbe(fields []int) Probe
}

// Probe looks up one batch after another; one goroutine at a time.
type Probe interface {
	// Look finds, for each of the rows sel of a batch of n, the reference's row whose key fields equal the match columns, which
	// have their kinds; null equals nothing. cols have n rows, null where none is found; found says which are, by row. Both
	// last until the next Look; whoever needs them for longer has a probe for each.
	Look(match []*row.Column, n int, sel []uint16) (cols []*row.Column, found []bool)
}

// NewProbe makes what looks rows up.
func (t *Table) NewProbe(fields []int) Probe {
	p := &tableProbe{t: t, fields: fields, cols: make([]*row.Column, len(fields))}
	for i, f := range fields {
		p.cols[i] = row.NewColumn(t.schema[f].Kind)
	}
	return p
}

type tableProbe struct {
	t      *Table
	fields []int
	cols   []*row.Column
	keys   state.Keys
	at     []int // by row, the place of its record
	found  []bool
}

// block is how many rows are looked up at a time: what was found is still near when its fields are taken.
const block = 128

// Look copies what it finds, so that the table may change right after.
func (p *tableProbe) Look(match []*row.Column, n int, sel []uint16) ([]*row.Column, []bool) {
	p.keys.Encode(match, sel)
	p.at, p.found = append(p.at[:0], make([]int, n)...), append(p.found[:0], make([]bool, n)...)
	for _, c := range p.cols {
		c.Reset()
	}
	p.t.mu.RLock()
	defer p.t.mu.RUnlock()
	for from, first := 0, 0; from < n; from += block {
		to, last := min(from+block, n), first
		for last < len(sel) && int(sel[last]) < to {
			last++
		}
		p.t.rows.find(&p.keys, first, sel[first:last], p.at)
		for i, f := range p.fields {
			p.t.rows.gather(p.cols[i], f, p.at[from:to])
		}
		first = last
	}
	for _, i := range sel {
		p.found[i] = p.at[i] != 0
	}
	return p.cols, p.found
}
