package crossing

import (
	"math/rand/v2"
	"testing"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// BenchmarkCross: what it takes a row to be written into a block and read out of one.
func BenchmarkCross(b *testing.B) {
	schema := row.Schema{{Name: "crane", Kind: row.String}, {Name: "tonnes", Kind: row.Double}, {Name: "kilos", Kind: row.Double}}
	r := rand.New(rand.NewPCG(1, 2))
	batch := row.NewBatch(Rows(schema))
	names := []string{"C1", "C22", "C333", "C1444"}
	for i := range row.MaxRows {
		batch.Cols[0].AppendString(names[r.IntN(4)])
		batch.Cols[1].AppendDouble(r.Float64())
		batch.Cols[2].AppendDouble(r.Float64())
		batch.Cols[3].AppendInt(int64(r.IntN(4)))
		batch.Cols[4].AppendInt(1_772_323_200_000_000 + int64(i)*500)
		batch.Times = append(batch.Times, row.Time(1_772_323_200_000_000+int64(i)*600))
		batch.Index = append(batch.Index, uint16(i))
		batch.N++
	}
	v := step.ViewOf(batch)
	e := NewEncoder(4, true)
	var data []byte
	b.Run("write", func(b *testing.B) {
		for b.Loop() {
			data = e.Append(data[:0], v)
		}
		b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/row.MaxRows, "ns/row")
		b.ReportMetric(float64(len(data))/row.MaxRows, "B/row")
	})
	b.Run("read", func(b *testing.B) {
		var c engine.Chunk
		d, to := &Decoder{Timed: true}, row.NewBatch(schema)
		for b.Loop() {
			c.Reset()
			to.Reset()
			for rest := data; len(rest) > 0; {
				_, block, after, _ := Next(rest)
				if took, err := Fill(&c, block); !took || err != nil {
					b.Fatal(took, err)
				}
				rest = after
			}
			d.Decode(&c, to, nil)
		}
		b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/row.MaxRows, "ns/row")
	})
}
