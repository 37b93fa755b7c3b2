// Package reference keeps rows that others are looked up in, one a key: the berths of a harbour beside the lifts at
// them (docs/job-document.md, "References").
//
// [Rows] are filled by one goroutine and then given to a [Table], which many ask at once. A [Finder] is a table, or one
// that is made of two ([Joined]); a [Probe] of it looks a batch up. Nothing here knows where rows come from, nor when they
// are read again: package run does.
package reference

import (
	"bytes"
	"encoding/binary"
	"math"
	"slices"
	"sync/atomic"

	"github.com/cespare/xxhash/v2"

	"undertide/core/row"
	"undertide/core/state"
)

// Rows are the newest row of each key. One goroutine fills them; once they are in a [Table], only the table changes them.
//
// Whoever looks up wants some fields of one row here and one there, so a row's bytes stand together, as a record (see
// [record]); an index of the keys' hashes says where. A new row of a key is a new record, and the old one is dead; when more bytes
// are dead than alive, all are copied together.
type Rows struct {
	schema row.Schema
	key    []int // fields of the schema
	form   record
	index  []entry
	used   int    // entries that are not free, the deleted ones too
	arena  []byte // records, each at a multiple of unit; the first is none, whose fields are null
	dead   int    // bytes of records that no entry names
	live   int
	digest uint64 // of all rows, whatever their order: the sum of theirs

	touched     atomic.Uint32 // keeps what find touches from being left out
	keys, whole state.Keys    // scratch
	keyCols     []*row.Column
}

// entry names the record of a key: its place in the arena, in units of 8 bytes, and some bits of the key's hash, which tell most
// others apart without a look at the record.
type entry struct{ tag, at uint32 }

// deleted stands in the place of an entry whose record is gone; what collided with it stands behind.
const deleted = math.MaxUint32

// record is the form of the rows' bytes, in little endian. What a lookup reads stands together, and what only a change
// reads stands behind it:
//
//	0   length of the record, 4 bytes
//	4   length of the key, 4 bytes
//	8   a bit for each field that is null, in words of 8 bytes
//	then 8 bytes for each field: the value, or of a text its place in the record and its length, 4 bytes each;
//	then the key, and the texts, up to a multiple of 8;
//	then, as the last 16 bytes, what Put was told and the digest of the row.
type record struct{ fields, head int } // where the fields begin and end

const (
	sizeAt, lengthAt, nullAt = 0, 4, 8
	originBack, digestBack   = 16, 8 // from the record's end
	unit                     = 8
)

// NewRows makes none. key are the fields of the schema by which rows are found.
func NewRows(schema row.Schema, key []int) *Rows {
	fields := nullAt + 8*((len(schema)+63)/64)
	r := &Rows{schema: schema, key: key, form: record{fields, fields + 8*len(schema)}, index: make([]entry, 64)}
	r.arena = r.none()
	return r
}

// none is the first record.
func (r *Rows) none() []byte {
	rec := make([]byte, r.form.head+unit) // what stands behind the fields is looked at
	for i := nullAt; i < r.form.fields; i++ {
		rec[i] = 0xff
	}
	return rec
}

// Len gives how many rows there are.
func (r *Rows) Len() int { return r.live }

// Digest tells contents apart, whatever their order.
func (r *Rows) Digest() uint64 { return r.digest }

// Bytes is about how much memory the rows take.
func (r *Rows) Bytes() int64 { return int64(cap(r.arena) + 8*len(r.index)) }

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
	n, there := r.entryOf(key, hash)
	if there {
		before, replaced = r.drop(n), true
	} else {
		r.used++
		r.live++
	}
	r.index[n] = entry{uint32(hash >> 32), r.append(b, i, key, origin)}
	if 3*r.used > 2*len(r.index) {
		r.reindex()
	}
	r.compact()
	return before, replaced
}

// append adds a record, and gives its place.
func (r *Rows) append(b *row.Batch, i int, key []byte, origin int64) uint32 {
	at := len(r.arena)
	r.whole.EncodeOne(b.Cols, i)
	r.digest += r.whole.Hash[0]
	a := append(r.room(), make([]byte, r.form.head)...)
	a = append(a, key...)
	for n, c := range b.Cols {
		field := at + r.form.fields + 8*n
		switch {
		case c.IsNull(i):
			a[at+nullAt+n/8] |= 1 << (n & 7)
		case c.Kind.Text():
			text := c.Bytes(i)
			binary.LittleEndian.PutUint32(a[field:], uint32(len(a)-at))
			binary.LittleEndian.PutUint32(a[field+4:], uint32(len(text)))
			a = append(a, text...)
		case c.Kind == row.Double:
			binary.LittleEndian.PutUint64(a[field:], math.Float64bits(c.F[i]))
		default:
			binary.LittleEndian.PutUint64(a[field:], uint64(c.I[i]))
		}
	}
	for len(a)%unit != 0 {
		a = append(a, 0)
	}
	a = binary.LittleEndian.AppendUint64(a, uint64(origin))
	a = binary.LittleEndian.AppendUint64(a, r.whole.Hash[0])
	if len(a)/unit >= deleted {
		panic(row.ErrTooLarge)
	}
	binary.LittleEndian.PutUint32(a[at+sizeAt:], uint32(len(a)-at))
	binary.LittleEndian.PutUint32(a[at+lengthAt:], uint32(len(key)))
	r.arena = a
	return uint32(at / unit)
}

// room gives the arena with room for more, which grows by halves: append alone would copy all of it twice as often.
func (r *Rows) room() []byte {
	if free := cap(r.arena) - len(r.arena); free < 1<<10 {
		return slices.Grow(r.arena, max(1<<10, len(r.arena)/2))
	}
	return r.arena
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

// entryOf gives the entry of a key, or the free one where it would stand.
func (r *Rows) entryOf(key []byte, hash uint64) (n int, there bool) {
	mask := uint64(len(r.index) - 1)
	for at := hash & mask; ; at = (at + 1) & mask {
		e := r.index[at]
		if e.at == 0 {
			return int(at), false
		}
		if e.at != deleted && e.tag == uint32(hash>>32) && r.has(int(e.at)*unit, key) {
			return int(at), true
		}
	}
}

// has says whether the record at a place is of a key. No encoded key begins with another one of the same fields, so the
// length need not be looked at, which lies on another line of memory.
func (r *Rows) has(at int, key []byte) bool {
	at += r.form.head
	return len(r.arena)-at >= len(key) && bytes.Equal(r.arena[at:at+len(key)], key)
}

// keyAt gives the key of a record.
func (r *Rows) keyAt(rec []byte) []byte {
	return rec[r.form.head : r.form.head+int(binary.LittleEndian.Uint32(rec[lengthAt:]))]
}

// Delete drops the row with an encoded key; false where there is none.
func (r *Rows) Delete(key []byte) bool {
	n, there := r.entryOf(key, xxhash.Sum64(key))
	if !there {
		return false
	}
	r.drop(n)
	r.index[n].at = deleted
	r.live--
	r.compact()
	return true
}

// drop lets the record of an entry die, and gives what it came with.
func (r *Rows) drop(n int) (origin int64) {
	rec := r.arena[int(r.index[n].at)*unit:]
	size := int(binary.LittleEndian.Uint32(rec[sizeAt:]))
	r.digest -= binary.LittleEndian.Uint64(rec[size-digestBack:])
	r.dead += size
	binary.LittleEndian.PutUint32(rec[lengthAt:], math.MaxUint32) // no key has that length
	return int64(binary.LittleEndian.Uint64(rec[size-originBack:]))
}

// reindex makes the index anew, as large as it has to be.
func (r *Rows) reindex() {
	size := 64
	for size < 2*(r.live+1) {
		size *= 2
	}
	r.index, r.used = make([]entry, size), r.live
	mask := uint64(size - 1)
	r.eachRecord(func(at int, rec []byte) bool {
		hash := xxhash.Sum64(r.keyAt(rec))
		n := hash & mask
		for r.index[n].at != 0 {
			n = (n + 1) & mask
		}
		r.index[n] = entry{uint32(hash >> 32), uint32(at / unit)}
		return true
	})
}

// eachRecord gives the records that are alive, in the order in which they came, until take says no.
func (r *Rows) eachRecord(take func(at int, rec []byte) bool) {
	for at := len(r.none()); at < len(r.arena); {
		size := int(binary.LittleEndian.Uint32(r.arena[at+sizeAt:]))
		if binary.LittleEndian.Uint32(r.arena[at+lengthAt:]) != math.MaxUint32 && !take(at, r.arena[at:at+size]) {
			return
		}
		at += size
	}
}

// compact copies the records that are alive together where most are dead.
func (r *Rows) compact() {
	if r.dead < 64<<10 || r.dead < len(r.arena)/2 {
		return
	}
	next := append(make([]byte, 0, len(r.arena)-r.dead), r.none()...)
	r.eachRecord(func(_ int, rec []byte) bool { next = append(next, rec...); return true })
	r.arena, r.dead = next, 0
	r.reindex()
}

// Each gives the rows one after another, in the order in which they came, until take says no. The batch is the caller's until
// take returns.
func (r *Rows) Each(take func(b *row.Batch, i int) bool) {
	b := row.NewBatch(r.schema)
	at := []int{0}
	r.eachRecord(func(place int, _ []byte) bool {
		b.Reset()
		at[0] = place
		for f, c := range b.Cols {
			r.gather(c, f, at)
		}
		b.N = 1
		return take(b, 0)
	})
}

// find gives the places of the records that keys from first on name: of key j at[sel[j]], 0 where there is none.
//
// Index and records lie anywhere in memory, so the processor would wait for each in turn. It goes over the rows four times
// instead, so that it waits for many at once: for entries; for the record of the first entry with the hash's tag, which is nearly always the
// right one; and only then compares keys.
func (r *Rows) find(keys *state.Keys, first int, sel []uint16, at []int) {
	mask := uint64(len(r.index) - 1)
	hashes := keys.Hash[first:]
	var seen uint32
	for j := range sel {
		seen |= r.index[hashes[j]&mask].tag
	}
	for j, i := range sel {
		hash := hashes[j]
		n := hash & mask
		for r.index[n].at != 0 && (r.index[n].tag != uint32(hash>>32) || r.index[n].at == deleted) {
			n = (n + 1) & mask
		}
		at[i] = int(r.index[n].at) * unit
	}
	for _, i := range sel {
		seen |= uint32(r.arena[at[i]+r.form.head]) // the record is on its way
	}
	r.touched.Store(seen)
	for j, i := range sel {
		if at[i] == 0 {
			continue
		}
		key, hash := keys.Bytes(first+j), hashes[j]
		if r.has(at[i], key) {
			continue
		}
		at[i] = 0
		if n, there := r.entryOf(key, hash); there {
			at[i] = int(r.index[n].at) * unit
		}
	}
}

// gather appends a field of the records at places to dst, null where there is none.
func (r *Rows) gather(dst *row.Column, field int, at []int) {
	value, null, bit := r.form.fields+8*field, nullAt+field/8, byte(1)<<(field&7)
	n := dst.Len()
	for i, place := range at {
		if r.arena[place+null]&bit != 0 {
			dst.SetNull(n+i, true)
		}
	}
	switch {
	case dst.Kind.Text():
		var seen uint32
		for _, place := range at {
			v := binary.LittleEndian.Uint32(r.arena[place+value:])
			seen |= uint32(r.arena[place+int(v)]) // the text is on its way
		}
		r.touched.Store(seen)
		for _, place := range at {
			v := binary.LittleEndian.Uint64(r.arena[place+value:])
			from := place + int(uint32(v))
			dst.AppendBytes(r.arena[from : from+int(v>>32)])
		}
	case dst.Kind == row.Double:
		for _, place := range at {
			dst.F = append(dst.F, math.Float64frombits(binary.LittleEndian.Uint64(r.arena[place+value:])))
		}
	default:
		for _, place := range at {
			dst.I = append(dst.I, int64(binary.LittleEndian.Uint64(r.arena[place+value:])))
		}
	}
}
