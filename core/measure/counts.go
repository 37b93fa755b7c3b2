package measure

import (
	"undertide/core/row"
)

// Counted is a column whose results and state need how many values each key has. It does not count them: who has the column counts the
// rows of each key, and those that gave no value, for all columns at once. So a mean is a sum and nothing more.
type Counted interface {
	// SetCounts says where the counts stand: key k has rows[k] - missing[k] values; missing may be shorter, for none. It is
	// called before Append, AppendAll, AppendFrom, Save and SaveAll, which read them.
	SetCounts(rows, missing []int64)
}

// valueCounts is what a [Counted] column was told.
type valueCounts struct{ rows, missing []int64 }

func (v *valueCounts) SetCounts(rows, missing []int64) { v.rows, v.missing = rows, missing }

// of gives how many values a key has.
func (v *valueCounts) of(id uint32) int64 {
	n := v.rows[id]
	if int(id) < len(v.missing) {
		n -= v.missing[id]
	}
	return n
}

// appendAll appends how many values each of some keys has.
func (v *valueCounts) appendAll(dst []int64, ids []uint32) []int64 {
	for _, id := range ids {
		dst = append(dst, v.of(id))
	}
	return dst
}

// counts is the number of rows that have a value (count_if; count itself is the slice's own): it keeps nothing.
type counts struct{ valueCounts }

func (c *counts) Grow(int)                                        {}
func (c *counts) Clear()                                          {}
func (c *counts) Bytes() int                                      { return 0 }
func (c *counts) Add([]uint32, []uint16, *row.Column, []row.Time) {}
func (c *counts) Append(dst *row.Column, id uint32) error         { dst.AppendInt(c.of(id)); return nil }
func (c *counts) State() row.Schema                               { return row.Schema{{Name: "count", Kind: row.Int}} }
func (c *counts) Save(dst []*row.Column, id uint32)               { dst[0].AppendInt(c.of(id)) }
func (c *counts) Load(id uint32, src []*row.Column, i int) error  { return nil }
func (c *counts) Merge(to uint32, src Column, from uint32)        {}
func (c *counts) JoinAll(srcs []Column, n int)                    {}
func (c *counts) Reset(id uint32)                                 {}

// SaveAll implements [BulkSaver].
func (c *counts) SaveAll(dst []*row.Column, ids []uint32) { dst[0].I = c.appendAll(dst[0].I, ids) }

// gather appends the entries of some keys.
func gather[T any](dst, from []T, ids []uint32) []T {
	for _, id := range ids {
		dst = append(dst, from[id])
	}
	return dst
}
