package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// event gives the texts of a chunk's events.
func texts(c *engine.Chunk) (out []string) {
	for i := range c.Starts {
		out = append(out, string(c.Event(i)))
	}
	return out
}

// TestPartition: chunks hold all events in order, with their numbers and times, whatever is appended meanwhile; a partition
// that goes on from a position gives each event behind it once more and none before; what a checkpoint has passed goes.
func TestPartition(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 9))
		j := open(t, t.TempDir(), Options{Segment: 2 << 10})
		var want []string
		appended := make(chan error, 1)
		const all = 6000
		for i := range all {
			want = append(want, fmt.Sprintf("event %d", i))
		}
		go func() {
			var err error
			for n := 0; n < all && err == nil; {
				k := min(1+r.IntN(400), all-n)
				_, _, err = j.Append("", lines(n, k))
				n += k
			}
			appended <- err
		}()
		var got []string
		var at json.RawMessage
		lives := rand.New(rand.NewPCG(seed, 10))
		for len(got) < all {
			p := NewPartition(j, "posts")
			if err := p.Open(context.Background(), at); err != nil {
				t.Fatal(err)
			}
			var c engine.Chunk
			for range 1 + lives.IntN(5) { // then another run goes on
				if c.Reset(); len(got) == all {
					break
				}
				if err := p.Read(context.Background(), &c); err != nil {
					t.Fatal(err)
				}
				if n := len(c.Starts); n > row.MaxRows || n > 0 && c.Offset(0) != int64(len(got)) {
					t.Fatalf("%d events, from %d on; want %d", n, c.Offset(0), len(got))
				}
				stored := row.NewColumn(row.Timestamp)
				for i := range c.Starts {
					c.Meta.Append(stored, "meta.stored", i)
					if age := time.Since(row.Time(stored.I[i]).Std()); age < -time.Second || age > time.Minute {
						t.Fatalf("event %d was taken %s ago", i, age)
					}
				}
				got, at = append(got, texts(&c)...), c.Position
				if lag, _ := p.Lag(at); lag < 0 || c.CaughtUp && len(got) == all && lag != 0 {
					t.Fatalf("%d events wait behind %d of %d", lag, len(got), all)
				}
				p.Acknowledge(at)
			}
			if err := p.Close(); err != nil {
				t.Fatal(err)
			}
		}
		if err := <-appended; err != nil || !slices.Equal(got, want) {
			t.Fatal(err, len(got))
		}
		if first, next := j.Bounds(); next-first > 500 {
			t.Errorf("events from %d on are kept, of %d", first, next)
		}
		p := NewPartition(j, "posts")
		if err := p.Open(context.Background(), positionOf(0)); !errors.Is(err, ErrPassed) {
			t.Errorf("a position that was let go: %v", err)
		}
	}
}

// TestPartitionWaits: it says once that there is nothing, and then waits, until an event comes or it is closed.
func TestPartitionWaits(t *testing.T) {
	j := open(t, t.TempDir(), Options{})
	p := NewPartition(j, "posts")
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	var c engine.Chunk
	if err := p.Read(context.Background(), &c); err != nil || len(c.Starts) > 0 || !c.CaughtUp || string(c.Position) != `{"event":0}` {
		t.Fatalf("an empty journal gives %d events, %s, %v", len(c.Starts), c.Position, err)
	}
	if from, to := p.Quiet(); to.Sub(from) < time.Minute { // nothing has come since ever
		t.Errorf("quiet from %s to %s", from, to)
	}
	read := make(chan error, 1)
	go func() { c.Reset(); read <- p.Read(context.Background(), &c) }()
	select {
	case err := <-read:
		t.Fatalf("it says again that there is nothing: %v", err)
	case <-time.After(quiet + 200*time.Millisecond):
	}
	if _, _, err := j.Append("", lines(0, 2)); err != nil {
		t.Fatal(err)
	}
	if err := <-read; err != nil || len(c.Starts) != 2 || !c.CaughtUp {
		t.Fatal(err, texts(&c))
	}
	if from, to := p.Quiet(); to.Sub(from) > 10*time.Second {
		t.Errorf("quiet from %s to %s, where an event came just now", from, to)
	}
	go func() { c.Reset(); read <- p.Read(context.Background(), &c) }()
	time.Sleep(50 * time.Millisecond)
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}
	if err := <-read; !errors.Is(err, context.Canceled) {
		t.Errorf("a closed partition gives %v", err)
	}
}
