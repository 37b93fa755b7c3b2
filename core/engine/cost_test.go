package engine

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"undertide/core/row"
	"undertide/core/step"
	"undertide/pace"
)

// TestManyPartitions: the work for a partition does not grow with their number. Once it was quadratic: 16,000
// files took 50 times as long as 4,000.
func TestManyPartitions(t *testing.T) {
	took := func(n int) time.Duration {
		least := time.Hour
		for range pace.Of(5, 1) {
			var parts []Partition
			for i := range n {
				parts = append(parts, newFeed(fmt.Sprintf("p%05d", i), true, fmt.Sprintf("%d 1", i), fmt.Sprintf("%d 2", i)))
			}
			began := time.Now()
			res, err := Run(context.Background(), graph(t, &box{}, 0, true, parts...), Options{Lanes: 1})
			if err != nil || res.Figures.Sources[0].Read != int64(2*n) {
				t.Fatal(err, res.Figures.Sources)
			}
			least = min(least, time.Since(began))
		}
		return least
	}
	n := pace.Of(2000, 1000)
	few, many := took(n), took(4*n)
	t.Logf("%d partitions take %v, %d %v", n, few, 4*n, many)
	if many > 10*few { // quadratic work would be 16 times; what else the machine does is left room for
		t.Errorf("%d partitions take %v, %d %v: more than 10 times as long", n, few, 4*n, many)
	}
}

// wide is a partition of events of so many bytes, any number of them.
type wide struct {
	*feed
	size, left int
}

func (w *wide) Empty(context.Context) (bool, error) { return w.left == 0, nil }
func (w *wide) Read(_ context.Context, c *Chunk) error {
	for len(c.Starts) < 4 && w.left > 0 {
		w.left--
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, fmt.Sprintf("%d %d", 100000-w.left, w.size)...)
		c.Raw = append(c.Raw, make([]byte, w.size)...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	c.Last = w.left == 0
	return nil
}

// counted makes a row of each event, whatever it holds.
type counted struct{}

func (counted) Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		b.Cols[0].AppendInt(int64(i))
		b.Cols[1].AppendInt(1)
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}

// TestBuffer: large events do not fill the memory with what is read ahead, in bounded runs and in others; one that is
// larger than the buffer ends the run and says where it is.
func TestBuffer(t *testing.T) {
	each := pace.Of(60, 42)
	for _, bounded := range []bool{true, false} {
		var parts []Partition
		for i := range 12 {
			parts = append(parts, &wide{feed: newFeed(fmt.Sprintf("p%02d", i), true), size: 1 << 20, left: each})
		}
		g := graph(t, &box{}, 0, bounded, parts...)
		g.Sources[0].NewDecoder = func() Decoder { return counted{} }
		var before runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		stop := make(chan struct{})
		var peak atomic.Uint64
		go func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(time.Millisecond):
					var m runtime.MemStats
					runtime.ReadMemStats(&m)
					peak.Store(max(peak.Load(), m.HeapInuse))
				}
			}
		}()
		res, err := Run(context.Background(), g, Options{Lanes: 1, Workers: 2, Buffer: 8 << 20})
		close(stop)
		if err != nil || res.Figures.Sources[0].Read != int64(12*each) {
			t.Fatal(bounded, err, res.Figures.Sources)
		}
		if got := peak.Load() - before.HeapInuse; got > 400<<20 { // of 720 that are read, or 504
			t.Errorf("bounded %v: %d MiB were in use for a buffer of 8 MiB", bounded, got>>20)
		}
	}
	g := graph(t, &box{}, 0, true, &wide{feed: newFeed("p00", true), size: 3 << 20, left: 2})
	_, err := Run(context.Background(), g, Options{Lanes: 1, Buffer: 2 << 20})
	if err == nil || !strings.Contains(err.Error(), "an event has 31457") || !strings.Contains(err.Error(), "settings: {buffer") || !strings.Contains(err.Error(), "event 0 of partition p00 of source in") {
		t.Errorf("an event beyond the buffer: %v", err)
	}
}
