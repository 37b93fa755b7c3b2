package reference

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"undertide/core/row"
	"undertide/pace"
)

var testSchema = row.Schema{{Name: "id", Kind: row.String}, {Name: "quay", Kind: row.Int}, {Name: "name", Kind: row.String}, {Name: "depth", Kind: row.Double}, {Name: "open", Kind: row.Bool}}

// model is a reference by its rows' text.
type model map[string][]any

func put(b *row.Batch, vals []any) {
	b.Reset()
	for i, v := range vals {
		switch v := v.(type) {
		case nil:
			b.Cols[i].AppendNull()
		case string:
			b.Cols[i].AppendString(v)
		case int64:
			b.Cols[i].AppendInt(v)
		case float64:
			b.Cols[i].AppendDouble(v)
		case bool:
			b.Cols[i].AppendBool(v)
		}
	}
	b.N = 1
}

func at(c *row.Column, i int) any {
	switch {
	case c.IsNull(i):
		return nil
	case c.Kind == row.Double:
		return c.F[i]
	case c.Kind == row.Bool:
		return c.I[i] != 0
	case c.Kind == row.String:
		return string(c.Bytes(i))
	}
	return c.I[i]
}

// TestRows compares rows that are put, replaced and deleted at random with a map, by probes of several fields, with nulls
// among what is asked for, and the digest with that of rows that were put once in another order.
func TestRows(t *testing.T) {
	for seed := range uint64(pace.Of(40, 8)) {
		r := rand.New(rand.NewPCG(seed, 1))
		table := NewTable(NewRows(testSchema, []int{0, 1}), time.Now())
		want := model{}
		b := row.NewBatch(testSchema)
		keys := 1 + r.IntN(400)
		key := func() (string, int64) { return fmt.Sprintf("B%d", r.IntN(keys)), int64(r.IntN(3)) }
		for round := range 40 {
			err := table.Change(time.Now(), func(rows *Rows) error {
				for range r.IntN(300) {
					id, quay := key()
					vals := []any{id, quay, fmt.Sprintf("berth %d", round), float64(r.IntN(9)), r.IntN(2) == 0}
					if r.IntN(5) == 0 {
						vals[2+r.IntN(3)] = nil
					}
					put(b, vals)
					name := fmt.Sprint(id, quay)
					if r.IntN(4) == 0 {
						if _, there := want[name]; rows.Delete(rows.KeyOf(b, 0)) != there {
							return fmt.Errorf("deleting %s says that it was there: %v", name, !there)
						}
						delete(want, name)
						continue
					}
					before, replaced := rows.Put(b, 0, int64(round))
					if old, there := want[name]; there != replaced || there && fmt.Sprintf("berth %d", before) != old[2] && old[2] != nil {
						return fmt.Errorf("putting %s says that one of round %d was there: %v", name, before, replaced)
					}
					want[name] = vals
				}
				return nil
			})
			if err != nil {
				t.Fatalf("seed %d, round %d: %v", seed, round, err)
			}
			fields := [][]int{{}, {3}, {2, 4}, {4, 3, 2, 1, 0}}[r.IntN(4)]
			ask(t, r, table.NewProbe(fields), fields, want, key)
		}
		if v := table.Version(); int(v.Rows) != len(want) {
			t.Fatalf("seed %d: %d rows, want %d", seed, v.Rows, len(want))
		}
		again := NewRows(testSchema, []int{0, 1})
		n := 0
		table.Each(func(b *row.Batch, i int) bool { n++; return true })
		for _, vals := range want {
			put(b, vals)
			again.Put(b, 0, 0)
		}
		if v := table.Version(); n != len(want) || v.Digest != again.Digest() {
			t.Fatalf("seed %d: Each gives %d rows, want %d; digest %x, want %x", seed, n, len(want), v.Digest, again.Digest())
		}
		if len(want) > 0 {
			vals := slices.Collect(func(yield func([]any) bool) {
				for _, v := range want {
					if !yield(v) {
						return
					}
				}
			})[0]
			put(b, []any{vals[0], vals[1], "another", vals[3], vals[4]})
			if again.Put(b, 0, 0); again.Digest() == table.Version().Digest {
				t.Fatalf("seed %d: another name has the same digest", seed)
			}
		}
	}
}

// ask looks up a random batch and compares the answers.
func ask(t *testing.T, r *rand.Rand, p Probe, fields []int, want model, key func() (string, int64)) {
	t.Helper()
	ids, quays := row.NewColumn(row.String), row.NewColumn(row.Int)
	n := r.IntN(50)
	var sel []uint16
	names := make([]string, n)
	for i := range n {
		id, quay := key()
		if names[i] = fmt.Sprint(id, quay); r.IntN(8) == 0 {
			names[i] = "null"
			ids.AppendNull()
		} else {
			ids.AppendString(id)
		}
		quays.AppendInt(quay)
		if r.IntN(3) > 0 {
			sel = append(sel, uint16(i))
		}
	}
	cols, found := p.Look([]*row.Column{ids, quays}, n, sel)
	for _, i := range sel {
		vals, there := want[names[i]]
		if found[i] != there {
			t.Fatalf("%s is found: %v, want %v", names[i], found[i], there)
		}
		for c, f := range fields {
			v := any(nil)
			if there {
				v = vals[f]
			}
			if got := at(cols[c], int(i)); got != v {
				t.Fatalf("field %d of %s is %v, want %v", f, names[i], got, v)
			}
		}
	}
}

// TestSwap: each batch sees one version of a table, whole, while others come.
func TestSwap(t *testing.T) {
	version := func(n int) *Rows {
		rows := NewRows(testSchema, []int{0, 1})
		b := row.NewBatch(testSchema)
		for i := range 200 {
			put(b, []any{fmt.Sprint("B", i), int64(1), fmt.Sprint("of ", n), float64(n), true})
			rows.Put(b, 0, 0)
		}
		return rows
	}
	table := NewTable(version(0), time.Now())
	done := make(chan struct{})
	var asking sync.WaitGroup
	for range 3 {
		asking.Go(func() {
			p := table.NewProbe([]int{2, 3})
			ids, quays := row.NewColumn(row.String), row.NewColumn(row.Int)
			var sel []uint16
			for i := range 200 {
				ids.AppendString(fmt.Sprint("B", i))
				quays.AppendInt(1)
				sel = append(sel, uint16(i))
			}
			for {
				select {
				case <-done:
					return
				default:
				}
				cols, found := p.Look([]*row.Column{ids, quays}, 200, sel)
				for i := range 200 {
					if !found[i] || at(cols[0], i) != at(cols[0], 0) || at(cols[1], i) != at(cols[1], 0) {
						t.Errorf("row %d is of %v, row 0 of %v", i, at(cols[0], i), at(cols[0], 0))
						return
					}
				}
			}
		})
	}
	for n := range 100 {
		if n%2 == 0 {
			table.Swap(version(n), time.Now())
			continue
		}
		_ = table.Change(time.Now(), func(rows *Rows) error { // f gives none
			b := row.NewBatch(testSchema)
			for i := range 200 {
				put(b, []any{fmt.Sprint("B", i), int64(1), fmt.Sprint("of ", n), float64(n), true})
				rows.Put(b, 0, 0)
			}
			return nil
		})
	}
	close(done)
	asking.Wait()
}
