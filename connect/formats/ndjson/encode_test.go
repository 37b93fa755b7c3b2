package ndjson

import (
	"math/rand/v2"
	"testing"

	"undertide/core/row"
	"undertide/core/step"
)

// TestRowsTogether: rows that are written together, whatever is the same in them, are written as each is alone.
func TestRowsTogether(t *testing.T) {
	schema := row.Schema{{Name: "gauge", Kind: row.String}, {Name: "from", Kind: row.Timestamp}, {Name: "to", Kind: row.Timestamp}, {Name: "n", Kind: row.Int}, {Name: "level_m", Kind: row.Double}, {Name: "closed", Kind: row.Bool}}
	together := NewEncoder(schema)
	shared := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 9))
		b := row.NewBatch(schema[:r.IntN(len(schema)+1)])
		b.N = 1 + r.IntN(6)
		for i, f := range b.Schema {
			same, null := r.IntN(2) == 0, r.IntN(6) == 0
			value := int64(r.IntN(2))
			for range b.N {
				if !same {
					value = r.Int64N(1 << 45)
				}
				switch c := b.Cols[i]; {
				case null && r.IntN(2) == 0:
					c.AppendNull()
				case f.Kind == row.String:
					c.AppendString("G\"1")
				case f.Kind == row.Double:
					c.AppendDouble(float64(value) / 8)
				case f.Kind == row.Bool:
					c.AppendBool(value%2 == 1)
				default:
					c.AppendInt(value)
				}
			}
		}
		enc := NewEncoder(b.Schema)
		if len(b.Schema) == len(schema) {
			enc = together // which has met other views
		}
		v := step.ViewOf(b)
		if r.IntN(3) == 0 {
			v.Sel = v.Sel[r.IntN(b.N):]
		}
		got, want := string(enc.Append(nil, v)), ""
		for _, i := range v.Sel {
			want += string(NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{i}, N: b.N}))
		}
		if got != want {
			t.Fatalf("seed %d: together\n%salone\n%s", seed, got, want)
		}
		for i := range b.Schema {
			if len(v.Sel) > 1 && same(b.Cols[i], v.Sel) {
				shared++
			}
		}
	}
	if shared < 500 {
		t.Errorf("only %d columns had one value", shared)
	}
}
