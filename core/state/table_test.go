package state

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"undertide/core/row"
)

var tables = []*Table{
	{Span: "window_start", Key: row.Schema{{Name: "gauge", Kind: row.String}}, Columns: row.Schema{{Name: "rows", Kind: row.Int}, {Name: "sum", Kind: row.Double}, {Name: "ok", Kind: row.Bool}, {Name: "list", Kind: row.ListOf(row.Int)}}},
	{Key: row.Schema{{Name: "crane", Kind: row.Int}, {Name: "berth", Kind: row.String}}, Rest: row.Schema{{Name: "number", Kind: row.Int}}, Columns: row.Schema{{Name: "at", Kind: row.Timestamp}}},
	{Columns: row.Schema{{Name: "rows", Kind: row.Int}}}, // one row for all
}

// someChanges are random changes of a table by one lane of one; keys come from few, so that rows come again.
func someChanges(t *Table, r *rand.Rand) *Changes {
	c := NewChanges(t)
	for range r.IntN(60) {
		b := row.NewBatch(t.Key)
		for _, col := range b.Cols {
			switch {
			case r.IntN(8) == 0:
				col.AppendNull()
			case col.Kind == row.String:
				col.AppendString(fmt.Sprintf("%c%d", 'a'+r.IntN(3), r.IntN(40)))
			default:
				col.AppendInt(int64(r.IntN(5) - 2))
			}
		}
		var k Keys
		k.EncodeOne(b.Cols, 0)
		span := row.Time(r.IntN(20) - 10)
		var rest []int64
		for range t.Rest {
			rest = append(rest, int64(r.IntN(3)-1))
		}
		if r.IntN(4) == 0 {
			c.Drop(k.Bytes(0), k.Hash[0], span, rest...)
			continue
		}
		for _, col := range c.Put(k.Bytes(0), k.Hash[0], span, rest...) {
			switch {
			case r.IntN(6) == 0:
				col.AppendNull()
			case col.Kind == row.Double:
				col.AppendDouble(r.NormFloat64())
			case col.Kind == row.Bool:
				col.AppendBool(r.IntN(2) == 0)
			case col.Kind.Text():
				col.AppendBytes(row.AppendElement(nil, &row.Column{Kind: row.Int, I: []int64{r.Int64()}}, 0))
			default:
				col.AppendInt(r.Int64() >> r.IntN(64) * int64(1-2*r.IntN(2)))
			}
		}
	}
	return c
}

// TestRows: rows go in the order of their names' bytes, by span, share and key, and read back as they were.
func TestRows(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	for _, table := range tables {
		for range 200 {
			c := someChanges(table, r)
			type named struct {
				span  row.Time
				share uint8
				name  []byte
			}
			var all []named
			for _, rows := range c.New {
				for i := range rows.N {
					name, held := table.AppendName(nil, 7, rows, i), table.AppendContent(nil, rows, i)
					back := NewRows(table)
					if err := table.Read(back, name, held); err != nil {
						t.Fatal(err)
					}
					if !bytes.Equal(table.AppendName(nil, 7, back, 0), name) || !bytes.Equal(table.AppendContent(nil, back, 0), held) || back.Hash[0] != rows.Hash[i] {
						t.Fatalf("row %d of %v reads back as another", i, table.Schema())
					}
					n := named{share: ShareOf(rows.Hash[i]), name: name}
					if table.Span != "" {
						n.span = rows.Span[i]
					}
					all = append(all, n)
				}
			}
			slices.SortFunc(all, func(a, b named) int { return bytes.Compare(a.name, b.name) })
			for i := 1; i < len(all); i++ {
				a, b := all[i-1], all[i]
				if a.span > b.span || a.span == b.span && a.share > b.share {
					t.Fatalf("rows of span %d, share %d stand before those of %d, %d", a.span, a.share, b.span, b.share)
				}
			}
		}
	}
}

// TestLaneShares: the shares of lanes are those that [LaneOf] gives them, each once.
func TestLaneShares(t *testing.T) {
	for lanes := 1; lanes <= Shares; lanes++ {
		next := 0
		for lane := range lanes {
			first, last := LaneShares(lane, lanes)
			for share := first; share <= last; share++ {
				if share != next || LaneOf(uint8(share), lanes) != lane {
					t.Fatalf("%d lanes: share %d is given to lane %d, LaneOf says %d", lanes, share, lane, LaneOf(uint8(share), lanes))
				}
				next++
			}
		}
		if next != Shares {
			t.Fatalf("%d lanes own %d shares", lanes, next)
		}
	}
}

// TestSet compares a set with a map.
func TestSet(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 1))
	var s, other Set
	model := map[uint32]bool{}
	for i := range 20_000 {
		n := uint32(r.IntN(1000))
		switch r.IntN(3) {
		case 0:
			s.Remove(n)
			delete(model, n)
		case 1:
			other.Put(n)
		default:
			s.Put(n)
			model[n] = true
		}
		if i%2000 == 1999 {
			s.Join(&other)
			other.Each(func(n uint32) { model[n] = true })
			other.Clear()
		}
		if s.Has(n) != model[n] {
			t.Fatalf("after %d steps %d is in it: %v", i, n, s.Has(n))
		}
	}
	alive, to, kept := make([]bool, 1000), make([]uint32, 1000), uint32(0)
	for n := range alive {
		if alive[n] = r.IntN(2) == 0; alive[n] {
			to[n] = kept
			kept++
		}
	}
	moved := s.Moved(alive, to, int(kept))
	for n := range alive {
		if alive[n] && moved.Has(to[n]) != model[uint32(n)] {
			t.Fatalf("%d became %d, and is in it: %v", n, to[n], moved.Has(to[n]))
		}
	}
}

// FuzzRow: no bytes make a reader of rows panic, and what it takes it writes again as it was.
func FuzzRow(f *testing.F) {
	r := rand.New(rand.NewPCG(9, 1))
	for n, table := range tables {
		for _, rows := range someChanges(table, r).New {
			for i := range rows.N {
				f.Add(n, table.AppendName(nil, 7, rows, i), table.AppendContent(nil, rows, i))
			}
		}
	}
	f.Fuzz(func(t *testing.T, n int, name, held []byte) {
		table := tables[uint(n)%uint(len(tables))]
		rows := NewRows(table)
		if table.Read(rows, name, held) != nil {
			return
		}
		again := NewRows(table)
		if err := table.Read(again, table.AppendName(nil, 7, rows, 0), table.AppendContent(nil, rows, 0)); err != nil {
			t.Fatalf("taken, and then not: %v", err)
		}
		if !bytes.Equal(table.AppendContent(nil, rows, 0), table.AppendContent(nil, again, 0)) {
			t.Fatal("a row reads back as another")
		}
	})
}
