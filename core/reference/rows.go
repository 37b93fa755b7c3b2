// Package reference keeps rows that others are looked up in, one a key: the berths of a harbour beside the lifts at
// them (docs/job-document.md, "References").
//
// [Rows] are filled by one goroutine and then given to a [Table], which many ask at once. A [Finder] is a table, or one
// that is made of two ([Joined]); a [Probe] of it looks a batch up. Nothing here knows where rows come from, nor when they
// are read again: package run does.
package reference

import (
	"slices"

	"github.com/cespare/xxhash/v2"

	"undertide/core/row"
	"undertide/core/state"
)

// Rows are the newest row of each key. One goroutine fills them; once they are in a [Table], only the table changes them.
//
// A row stands in a slot: chunk slot >> 14, row slot & 16383. A new row of a key takes a new slot, and the old one is dead;
// when more are dead than alive, all are copied together.
type Rows struct {
	schema row.Schema
	key    []int // fields of the schema
	dict   *state.Dict
	at     []uint32 // by the number of a key: its slot; gone for none
	origin []int64  // by the number of a key: what Put was told
	chunks []*row.Batch
	slots  uint32
	live   int
	digest uint64 // of all rows, whatever their order: the sum of theirs
	data   int64  // bytes of texts in the chunks

	keys, whole state.Keys // scratch
	keyCols     []*row.Column
}

const (
	chunkBits = 14
	chunkRows = 1 << chunkBits
	gone      = ^uint32(0)
)

// NewRows makes none. key are the fields of the schema by which rows are found.
func NewRows(schema row.Schema, key []int) *Rows {
	return &Rows{schema: schema, key: key, dict: state.NewDict()}
}

// Len gives how many rows there are.
func (r *Rows) Len() int { return r.live }

// Digest tells contents apart, whatever their order.
func (r *Rows) Digest() uint64 { return r.digest }

// Bytes is about how much memory the rows take.
func (r *Rows) Bytes() int64 {
	width := int64(0) // of a slot, beside texts
	for _, f := range r.schema {
		width += 8
		if f.Kind.Text() {
			width -= 4
		}
	}
	return int64(r.dict.Bytes()) + 12*int64(len(r.at)) + width*int64(r.slots) + r.data
}

// NullKey gives the first key field that is null in row i of b, which no row can be found by; empty for none.
func (r *Rows) NullKey(b *row.Batch, i int) string {
	for _, k := range r.key {
		if b.Cols[k].IsNull(i) {
			return r.schema[k].Name
		}
	}
	return ""
}

// Put adds row i of b, which has the schema's columns and no null in its key, in place of the one with its key. origin is
// the caller's; where there was a row, before is what it came with.
func (r *Rows) Put(b *row.Batch, i int, origin int64) (before int64, replaced bool) {
	key, hash := r.keyOf(b, i)
	id := r.dict.Put(key, hash)
	if int(id) == len(r.at) {
		r.at, r.origin = append(r.at, gone), append(r.origin, 0)
	}
	if r.at[id] != gone {
		before, replaced = r.origin[id], true
		r.drop(id)
	}
	if r.slots&(chunkRows-1) == 0 && int(r.slots>>chunkBits) == len(r.chunks) {
		r.chunks = append(r.chunks, row.NewBatch(r.schema))
	}
	c := r.chunks[r.slots>>chunkBits]
	for n, col := range c.Cols {
		col.AppendFrom(b.Cols[n], i)
		if col.Kind.Text() {
			r.data += int64(len(col.Bytes(c.N)))
		}
	}
	c.N++
	r.digest += r.rowDigest(c, c.N-1)
	r.at[id], r.origin[id] = r.slots, origin
	r.slots++
	r.live++
	r.compact()
	return before, replaced
}

// KeyOf gives the encoded key of row i of b; it lives until the next call of any method.
func (r *Rows) KeyOf(b *row.Batch, i int) []byte {
	key, _ := r.keyOf(b, i)
	return key
}

func (r *Rows) keyOf(b *row.Batch, i int) ([]byte, uint64) {
	r.keyCols = r.keyCols[:0]
	for _, k := range r.key {
		r.keyCols = append(r.keyCols, b.Cols[k])
	}
	r.keys.EncodeOne(r.keyCols, i)
	return r.keys.Bytes(0), r.keys.Hash[0]
}

// Delete drops the row with an encoded key; false where there is none.
func (r *Rows) Delete(key []byte) bool {
	id, ok := r.dict.Find(key, xxhash.Sum64(key))
	if !ok || r.at[id] == gone {
		return false
	}
	r.drop(id)
	r.at[id] = gone
	r.compact()
	return true
}

func (r *Rows) drop(id uint32) {
	c, i := r.slot(r.at[id])
	r.digest -= r.rowDigest(c, i)
	r.live--
}

func (r *Rows) slot(at uint32) (*row.Batch, int) {
	return r.chunks[at>>chunkBits], int(at & (chunkRows - 1))
}

func (r *Rows) rowDigest(b *row.Batch, i int) uint64 {
	r.whole.EncodeOne(b.Cols, i)
	return r.whole.Hash[0]
}

// compact copies the rows that are alive together where most are dead.
func (r *Rows) compact() {
	if int(r.slots) < 2*r.live+1024 {
		return
	}
	next := NewRows(r.schema, r.key)
	for id, at := range r.at {
		if at != gone {
			b, i := r.slot(at)
			next.Put(b, i, r.origin[id])
		}
	}
	*r = *next
}

// Each gives the rows one after another, in the order in which their keys came first, until take says no.
func (r *Rows) Each(take func(b *row.Batch, i int) bool) {
	for _, at := range r.at {
		if at == gone {
			continue
		}
		if b, i := r.slot(at); !take(b, i) {
			return
		}
	}
}

// find gives the slots of the rows that keys name: slots[sel[j]] of key j, gone where there is none.
func (r *Rows) find(keys *state.Keys, sel []uint16, slots []uint32) {
	for j, i := range sel {
		slots[i] = gone
		if id, ok := r.dict.Find(keys.Bytes(j), keys.Hash[j]); ok {
			slots[i] = r.at[id]
		}
	}
}

// gather appends a field of the rows in slots to dst, null where there is none.
func (r *Rows) gather(dst *row.Column, field int, slots []uint32) {
	for i, at := range slots {
		if at == gone || r.chunks[at>>chunkBits].Cols[field].IsNull(int(at&(chunkRows-1))) {
			dst.SetNull(i, true)
		}
	}
	switch {
	case dst.Kind.Text():
		for _, at := range slots {
			if at != gone {
				dst.AppendBytes(r.chunks[at>>chunkBits].Cols[field].Bytes(int(at & (chunkRows - 1))))
			} else {
				dst.AppendBytes(nil)
			}
		}
	case dst.Kind == row.Double:
		dst.F = slices.Grow(dst.F, len(slots))
		for _, at := range slots {
			v := 0.0
			if at != gone {
				v = r.chunks[at>>chunkBits].Cols[field].F[at&(chunkRows-1)]
			}
			dst.F = append(dst.F, v)
		}
	default:
		dst.I = slices.Grow(dst.I, len(slots))
		for _, at := range slots {
			v := int64(0)
			if at != gone {
				v = r.chunks[at>>chunkBits].Cols[field].I[at&(chunkRows-1)]
			}
			dst.I = append(dst.I, v)
		}
	}
}
