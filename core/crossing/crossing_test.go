package crossing

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

var input = row.Schema{{Name: "ship", Kind: row.String}, {Name: "tonnes", Kind: row.Double}, {Name: "lifts", Kind: row.Int}, {Name: "empty", Kind: row.Bool}, {Name: "price", Kind: row.Decimal},
	{Name: "crew", Kind: row.ListOf(row.String)}, {Name: "meta.offset", Kind: row.Int, Hidden: true}}

// randomRows makes rows, some of whose fields are null, with portions and watermarks that do not go back.
func randomRows(r *rand.Rand, n, portions int, timed bool, long int) *row.Batch {
	b := row.NewBatch(Rows(input))
	mark := row.MinTime
	for i := range n {
		for c, f := range input {
			col := b.Cols[c]
			switch {
			case r.IntN(5) == 0:
				col.AppendNull()
			case f.Kind == row.Double:
				col.AppendDouble(r.NormFloat64())
			case f.Kind == row.Bool:
				col.AppendBool(r.IntN(2) == 0)
			case f.Kind.Text():
				col.AppendBytes(bytes.Repeat([]byte{byte('a' + r.IntN(26))}, r.IntN(long)))
			default:
				col.AppendInt(r.Int64() - r.Int64())
			}
		}
		if r.IntN(3) == 0 {
			mark = max(mark, row.Time(1_772_323_200_000_000)) + row.Time(r.IntN(1_000_000))
		}
		b.Cols[len(input)].AppendInt(int64(r.IntN(portions)))
		b.Cols[len(input)+1].AppendInt(int64(mark))
		if timed {
			b.Times = append(b.Times, row.Time(1_772_323_200_000_000+r.Int64N(60_000_000)))
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return b
}

// texts gives rows as texts, with their times and watermarks.
func texts(b *row.Batch, fields int, marks func(i int) row.Time) (out []string) {
	for i := range b.N {
		text := fmt.Sprint(marks(i), " ")
		if len(b.Times) > 0 {
			text += fmt.Sprint(b.Times[i])
		}
		for _, c := range b.Cols[:fields] {
			one := row.NewColumn(c.Kind)
			one.AppendFrom(c, i)
			text += fmt.Sprintf("|%v %v %v %q", one.IsNull(0), one.I, one.F, one.Data)
			if one.IsNull(0) {
				text = text[:len(text)-1] + "null"
			}
		}
		out = append(out, text)
	}
	return out
}

// TestBlocks: each portion gets its rows as they were, in their order, with the watermarks that stood before them, however many fit into a block or a chunk.
func TestBlocks(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 4))
		portions, timed := 1+r.IntN(5), r.IntN(2) == 0
		long := []int{2, 20, 20, 2000}[r.IntN(4)]
		e := NewEncoder(portions, timed)
		want := map[int][]string{}
		var data []byte
		for range 1 + r.IntN(4) {
			b := randomRows(r, r.IntN(1000), portions, timed, long)
			v := step.ViewOf(b)
			all := texts(b, len(input), func(i int) row.Time { return row.Time(b.Cols[len(input)+1].I[i]) })
			v.Sel = slices.DeleteFunc(slices.Clone(v.Sel), func(uint16) bool { return r.IntN(7) == 0 })
			for _, i := range v.Sel {
				to := int(b.Cols[len(input)].I[i])
				want[to] = append(want[to], all[i])
			}
			data = e.Append(data, v)
		}
		for p := range portions {
			data = AppendMark(data, p, Mark{row.MaxTime, 1_772_323_200_000_000, p == 1})
		}
		got, chunks := map[int][]string{}, make([]engine.Chunk, portions)
		take := func(p int) {
			c := &chunks[p]
			b := row.NewBatch(input)
			if rejects := (&Decoder{Timed: timed}).Decode(c, b, nil); len(rejects) > 0 {
				t.Fatalf("seed %d: %v", seed, rejects)
			}
			got[p] = append(got[p], texts(b, len(input), func(i int) row.Time { return c.Marks[b.Index[i]] })...)
			c.Reset()
		}
		for len(data) > 0 {
			p, block, rest, whole := Next(data)
			if !whole {
				t.Fatalf("seed %d: %d bytes are left", seed, len(data))
			}
			if len(block) > fullBlock+8*long+100 && long < 2000 {
				t.Errorf("seed %d: a block of %d bytes", seed, len(block))
			}
			for {
				took, err := Fill(&chunks[p], block)
				if err != nil {
					t.Fatal(err)
				}
				if took {
					break
				}
				take(p)
			}
			data = rest
		}
		for p := range portions {
			if c := &chunks[p]; c.After != row.MaxTime || c.Asleep != (p == 1) {
				t.Errorf("seed %d: portion %d ends at %v, asleep %v", seed, p, c.After, c.Asleep)
			}
			take(p)
			if !slices.Equal(got[p], want[p]) {
				t.Fatalf("seed %d: portion %d has %d rows, want %d\n%.300q\n%.300q", seed, p, len(got[p]), len(want[p]), got[p], want[p])
			}
		}
	}
}

// FuzzFill: bytes that are no block are refused, and leave the chunk as it was; rows of any bytes are read or rejected.
func FuzzFill(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 1))
	b := randomRows(r, 5, 1, true, 10)
	_, block, _, _ := Next(NewEncoder(1, true).Append(nil, step.ViewOf(b)))
	f.Add(block)
	_, mark, _, _ := Next(AppendMark(nil, 0, Mark{row.MinTime, row.MinTime, true}))
	f.Add(mark)
	f.Add(block[:len(block)-1])
	f.Fuzz(func(t *testing.T, data []byte) {
		c := engine.Chunk{}
		c.Reset()
		if took, err := Fill(&c, block); !took || err != nil {
			t.Fatal(took, err)
		}
		rows, raw := len(c.Starts), len(c.Raw)
		took, err := Fill(&c, data)
		if err != nil && !errors.Is(err, ErrBlock) {
			t.Errorf("it says %v", err)
		}
		if (err != nil || !took) && (len(c.Starts) != rows || len(c.Marks) != rows || len(c.Ends) != rows || len(c.Raw) != raw) {
			t.Errorf("a block that was refused has left rows")
		}
		if len(c.Starts) != len(c.Ends) || len(c.Starts) != len(c.Marks) {
			t.Fatalf("%d starts, %d ends, %d watermarks", len(c.Starts), len(c.Ends), len(c.Marks))
		}
		for _, timed := range []bool{true, false} {
			b := row.NewBatch(input)
			rejects := (&Decoder{Timed: timed}).Decode(&c, b, nil)
			if b.N+len(rejects) != len(c.Starts) {
				t.Errorf("%d rows give %d and %d rejects", len(c.Starts), b.N, len(rejects))
			}
			for _, col := range b.Cols {
				if col.Len() != b.N {
					t.Errorf("%d rows, and %d values of a column", b.N, col.Len())
				}
			}
		}
		Next(data)
	})
}
