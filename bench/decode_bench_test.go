package main

import (
	"testing"
	"time"

	"github.com/go-faster/jx"

	"undertide/bench/floor"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
)

// chunkOf makes a turn of readings.
func chunkOf(tb testing.TB) (*engine.Chunk, *job.Job) {
	tb.Helper()
	w := &workloads[1]
	j, err := w.load("x", "y")
	if err != nil {
		tb.Fatal(err)
	}
	c := &engine.Chunk{}
	for len(c.Starts) < row.MaxRows {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, `{"gauge":"G123","level_m":3.217,"battery_v":12.41,"seq":1234567,"read_at":1767225600123}`...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, '\n')
	}
	return c, j
}

// BenchmarkDecoder compares the decoder with the library alone, batch by batch in turn, so that the
// machine's other work falls on both.
func BenchmarkDecoder(b *testing.B) {
	c, j := chunkOf(b)
	ours := j.Sources[0].Decoder()
	batch := row.NewBatch(j.Sources[0].Schema)
	d := jx.DecodeBytes(nil)
	var e floor.Event
	var key []byte
	var took, tookFloor time.Duration
	b.ReportAllocs()
	for b.Loop() {
		began := time.Now()
		batch.Reset()
		ours.Decode(c, batch, nil)
		between := time.Now()
		for i := range c.Starts {
			if err := floor.Decode(d, c.Event(i), &e, &key); err != nil {
				b.Fatal(err)
			}
		}
		took += between.Sub(began)
		tookFloor += time.Since(between)
	}
	b.ReportMetric(float64(took.Nanoseconds())/float64(b.N)/row.MaxRows, "ns/row")
	b.ReportMetric(float64(tookFloor)/float64(took), "of-the-floor")
}
