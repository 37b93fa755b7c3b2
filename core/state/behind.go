package state

import "undertide/core/row"

// Behind is the store that stands behind a lane's state: rows that it has need not be in memory. Safe for concurrent use
// by lanes, each for its own shares.
//
// A lane owns a row, in memory or behind it: what it changes counts, also before it is written. It may let go a row only
// once the store has it as it is: unchanged since it was frozen, and written since.
type Behind interface {
	// Write carries out changes of a step's tables that a lane has frozen, ahead of a mark; what has passed is left to the
	// mark, since other lanes may stand before it.
	Write(step string, lane, lanes int, changes []*Changes) error
	// Find hands over the rows of a table that have the spans and keys that wanted names, whatever their rest, in order.
	Find(step string, t *Table, wanted *Rows, take func(*Rows) error) error
	// Scan hands over the rows of a table with a span from from up to but not including to, and a share from first to
	// last, in order, until take says that it has enough.
	Scan(step string, t *Table, from, to row.Time, first, last uint8, take func(*Rows) (more bool, err error)) error
}

// Failure is what a lane panics with where the store behind it fails: the run ends with Err.
type Failure struct{ Err error }

// Error implements error.
func (f Failure) Error() string { return f.Err.Error() }

// Unwrap gives what failed.
func (f Failure) Unwrap() error { return f.Err }

// NewNames makes rows that are only named, such as [Behind.Find] takes.
func NewNames(t *Table) *Rows { return newRows(t, true) }

// Without gives the rows but for some, which are named in order; the rows themselves where there are none.
func (r *Rows) Without(some []int) *Rows {
	if len(some) == 0 {
		return r
	}
	out := &Rows{Off: []uint32{0}, Rest: make([][]int64, len(r.Rest))}
	for _, c := range r.Cols {
		out.Cols = append(out.Cols, row.NewColumn(c.Kind))
	}
	for i := range r.N {
		if len(some) > 0 && some[0] == i {
			some = some[1:]
			continue
		}
		out.Data = append(out.Data, r.Key(i)...)
		out.Off = append(out.Off, uint32(len(out.Data)))
		out.Hash = append(out.Hash, r.Hash[i])
		if len(r.Span) > 0 {
			out.Span = append(out.Span, r.Span[i])
		}
		for k := range r.Rest {
			out.Rest[k] = append(out.Rest[k], r.Rest[k][i])
		}
		for k, c := range out.Cols {
			c.AppendFrom(r.Cols[k], i)
		}
		out.N++
	}
	return out
}

// AddName names a row by its span, where the table has one, and key.
func (r *Rows) AddName(t *Table, key []byte, hash uint64, span row.Time) {
	r.Data = append(r.Data, key...)
	r.Off = append(r.Off, uint32(len(r.Data)))
	r.Hash = append(r.Hash, hash)
	if t.Span != "" {
		r.Span = append(r.Span, span)
	}
	r.N++
}
