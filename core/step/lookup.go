package step

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"undertide/core/expr"
	"undertide/core/reference"
	"undertide/core/row"
)

// Lookup adds columns of a reference's rows (docs/job-document.md, "Lookup"). Immutable; In and Sample are set for each run,
// by [Lookup.Within].
type Lookup struct {
	Reference string     // its name
	Match     []int      // columns of the input, one for each key field
	Fields    []int      // of the reference, that become columns
	Adds      row.Schema // those columns
	Key       []int      // key fields of the reference, in the order of Match
	Missing   Unfound
	Names     []string // of Match, for people

	In     reference.Finder
	Misses *Misses
}

// Unfound is what becomes of a row that is not found.
type Unfound uint8

const (
	KeepUnfound   Unfound = iota // it goes on, with nulls
	DropUnfound                  // it is dropped, and counted as such
	RejectUnfound                // it becomes a reject
)

// Within gives the lookup of a run, in which the reference is this one.
func (l *Lookup) Within(in reference.Finder) *Lookup {
	out := *l
	out.In, out.Misses = in, &Misses{}
	return &out
}

// LookupCounts are what became of the rows that were looked up.
type LookupCounts struct {
	Found  int64 `json:"found"`
	Missed int64 `json:"missed"` // no row of the reference has their key
	Null   int64 `json:"null"`   // a field that is matched is null
}

// Add takes others.
func (c *LookupCounts) Add(d LookupCounts) {
	c.Found += d.Found
	c.Missed += d.Missed
	c.Null += d.Null
}

// Misses are some of the keys that were not found, newest last. Safe for concurrent use.
type Misses struct {
	mu   sync.Mutex
	keys []string
}

// mostMisses are kept.
const mostMisses = 10

// note takes a key, where it is not there yet.
func (m *Misses) note(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if slices.Contains(m.keys, key) {
		return
	}
	if len(m.keys) == mostMisses {
		m.keys = slices.Delete(m.keys, 0, 1)
	}
	m.keys = append(m.keys, key)
}

// Keys gives them, such as `berth B9`.
func (m *Misses) Keys() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.keys)
}

type lookupRun struct {
	def    *Lookup
	probe  reference.Probe
	match  []*row.Column
	cols   []*row.Column
	counts LookupCounts
}

func (l *Lookup) newRun() *lookupRun {
	return &lookupRun{def: l, probe: l.In.NewProbe(l.Fields)}
}

// Alike gives a key of the reference that differs from one that was missed in upper and lower case or in blanks alone; empty for
// none. It goes over the first hundred thousand rows.
func (l *Lookup) Alike() string {
	t, ok := l.In.(*reference.Table)
	if !ok {
		return ""
	}
	plain := func(key string) string {
		return strings.ToLower(strings.Join(strings.Fields(strings.ReplaceAll(key, `"`, " ")), " "))
	}
	missed := map[string]bool{}
	for _, key := range l.Misses.Keys() {
		missed[plain(key)] = true
	}
	found, n := "", 0
	cols := make([]*row.Column, len(l.Key))
	t.Each(func(b *row.Batch, i int) bool {
		for k, c := range l.Key {
			cols[k] = b.Cols[c]
		}
		if key := KeyText(l.Names, cols, i); missed[plain(key)] {
			found = key
		}
		n++
		return found == "" && n < 100_000
	})
	return found
}

// run looks the selected rows up and adds the columns to in; sel becomes those that go on.
func (r *lookupRun) run(in *View, sel []uint16, rejects []Reject) (_ []uint16, dropped int, _ []Reject) {
	r.match = r.match[:0]
	for _, m := range r.def.Match {
		r.match = append(r.match, in.Cols[m])
	}
	r.counts = LookupCounts{}
	cols, found := r.probe.Look(r.match, in.N, sel)
	r.cols = append(append(r.cols[:0], in.Cols...), cols...)
	kept := sel[:0]
	noted := false
	for _, i := range sel {
		if found[i] {
			r.counts.Found++
			kept = append(kept, i)
			continue
		}
		null := r.null(int(i))
		if null >= 0 {
			r.counts.Null++
		} else if r.counts.Missed++; !noted { // one a batch: it is a sample
			noted = true
			r.def.Misses.note(r.key(int(i)))
		}
		switch r.def.Missing {
		case KeepUnfound:
			kept = append(kept, i)
		case DropUnfound:
			dropped++
		case RejectUnfound:
			rej := Reject{Index: in.Index[i], Row: int(i), Reason: NotFound}
			if null >= 0 {
				rej.Reason, rej.Message = NullKey, "field "+r.def.Names[null]+" is null, and nothing can be looked up by it"
			} else {
				rej.Message = fmt.Sprintf("reference %s has no row for %s", r.def.Reference, r.key(int(i)))
			}
			rejects = append(rejects, rej)
		}
	}
	in.Cols = r.cols
	return kept, dropped, rejects
}

// null gives the place of the first matched field that is null in a row; -1 for none.
func (r *lookupRun) null(i int) int {
	return slices.IndexFunc(r.match, func(c *row.Column) bool { return c.IsNull(i) })
}

// key writes what a row was looked up by.
func (r *lookupRun) key(i int) string { return KeyText(r.def.Names, r.match, i) }

// KeyText writes a key for people, such as `berth B7, quay 2`: the names of its fields, and row i of their columns.
func KeyText(names []string, cols []*row.Column, i int) string {
	var parts []string
	for n, c := range cols {
		parts = append(parts, names[n]+" "+expr.At(c, i).String())
	}
	return strings.Join(parts, ", ")
}
