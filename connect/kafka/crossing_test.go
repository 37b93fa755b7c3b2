package kafka

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/broker"
	"undertide/connect"
	"undertide/core/crossing"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

var crossingSchema = row.Schema{{Name: "n", Kind: row.Int}}

// crossingRows are rows of numbers for portions, all behind one watermark.
func crossingRows(mark row.Time, portions ...int64) step.View {
	b := row.NewBatch(crossing.Rows(crossingSchema))
	for i, p := range portions {
		b.Cols[0].AppendInt(int64(i))
		b.Cols[1].AppendInt(p)
		b.Cols[2].AppendInt(int64(mark))
		b.Times = append(b.Times, mark+1)
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return step.ViewOf(b)
}

// TestCrossing: a reader has the logs of its writers, goes on from a position, and ends where they end; a writer goes on with its numbers. What a broker has lost, has twice, or has
// from somebody else is a fault and not a gap.
func TestCrossing(t *testing.T) {
	b, conn := start(t, broker.Options{})
	c := &connect.Connection{Name: "harbour", Kind: Kind, Link: LinkTo(b.Addr)}
	dir := t.TempDir()
	reached := crossing.NewReached()
	x := connect.Crossing{Stream: "undertide.rates.1.levels.by.gauge", Writers: 2, Readers: 3, Self: 1, Timed: true, Reached: reached}
	to, _ := cross(c, x)
	open := func() engine.Sink {
		t.Helper()
		s, err := to.Open(t.Context(), connect.Opening{Job: "rates.1-2", Name: "levels.by.gauge", Aside: dir})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	var last []engine.Shipment
	epoch := func(s engine.Sink, n int64, view step.View) {
		t.Helper()
		if err := s.Write(s.NewEncoder(nil).Append(nil, view), len(view.Sel)); err != nil {
			t.Fatal(err)
		}
		sh, err := s.Prepare(n)
		if err != nil {
			t.Fatal(err)
		}
		sh.Epoch = n
		if err := s.Deliver(t.Context(), sh); err != nil {
			t.Fatal(err)
		}
		last = []engine.Shipment{sh}
	}
	one := open()
	if _, err := one.Delivered(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := one.Open(nil, 1); err != nil {
		t.Fatal(err)
	}
	epoch(one, 1, crossingRows(100, 2, 0, 2, 2, 1))
	if err := one.Abort(); err != nil {
		t.Fatal(err)
	}
	two := open() // the writer starts again
	if _, err := two.Delivered(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := two.Open(last, 2); err != nil {
		t.Fatal(err)
	}
	epoch(two, 2, crossingRows(200, 2, 2))
	if err := two.Abort(); err != nil {
		t.Fatal(err)
	}

	x.Self, x.Reached = 2, nil
	_, from := cross(c, x)
	read := func(at json.RawMessage, until int) (rows []int, position json.RawMessage, err error) {
		t.Helper()
		opened, err := from.Open(t.Context(), connect.Opening{Job: "rates.2-3", Name: "levels.by.gauge"})
		if err != nil {
			t.Fatal(err)
		}
		defer opened.Close()
		if names := []string{opened.Partitions[0].Name(), opened.Partitions[1].Name()}; !slices.Equal(names, []string{"1", "2"}) {
			t.Fatalf("the writers are called %v", names)
		}
		p := opened.Partitions[1]
		limited, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		if err := p.Open(limited, at); err != nil {
			t.Fatal(err)
		}
		for len(rows) < until {
			var chunk engine.Chunk
			chunk.Reset()
			if err := p.Read(limited, &chunk); err != nil {
				return rows, position, err
			}
			for _, m := range chunk.Marks {
				rows = append(rows, int(m))
			}
			position = chunk.Position
		}
		return rows, position, nil
	}
	all, _, err := read(nil, 5)
	if want := []int{100, 100, 100, 200, 200}; err != nil || !slices.Equal(all, want) {
		t.Fatalf("the reader has %v, %v; want %v", all, err, want)
	}
	some, at, err := read(nil, 1)
	if err != nil {
		t.Fatal(err)
	}
	rest, _, err := read(at, 5-len(some))
	if err != nil || !slices.Equal(append(some, rest...), all) {
		t.Errorf("%v, and from there on %v, %v; want %v", some, rest, err, all)
	}

	number := func(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }
	cl := client(t, conn)
	_, block, _, _ := crossing.Next(crossing.AppendMark(nil, 2, crossing.Mark{Watermark: 300, Before: 300}))
	for _, wrong := range []struct {
		stream string
		keys   [][]byte
		gap    bool
	}{{"lost", [][]byte{number(0), number(2)}, true}, {"twice", [][]byte{number(0), number(0)}, true}, {"begins", [][]byte{number(1)}, true}, {"another", [][]byte{nil}, false}} {
		x.Stream = wrong.stream
		_, from = cross(c, x)
		if _, _, err := read(nil, 0); err != nil { // which makes the topic
			t.Fatal(err)
		}
		for _, key := range wrong.keys {
			send(t, cl, &kgo.Record{Topic: x.Stream, Partition: 5, Key: key, Value: block})
		}
		if _, _, err := read(nil, 1); err == nil || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ErrGap) != wrong.gap {
			t.Errorf("%s: %v", wrong.stream, err)
		}
	}
}

// TestCrossingWaitsForOne: a reader that waits for one writer alone gets what that one sends, however much another has sent that nobody takes.
func TestCrossingWaitsForOne(t *testing.T) {
	b, conn := start(t, broker.Options{})
	c := &connect.Connection{Name: "harbour", Kind: Kind, Link: LinkTo(b.Addr)}
	x := connect.Crossing{Stream: "waits", Writers: 2, Readers: 1, Timed: true}
	_, from := cross(c, x)
	opened, err := from.Open(t.Context(), connect.Opening{Job: "rates.2-1", Name: "levels.by.gauge", Buffer: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	cl := client(t, conn)
	block := func(writer int32, n uint64, long int) *kgo.Record {
		_, block, _, _ := crossing.Next(crossing.AppendMark(nil, 0, crossing.Mark{Watermark: 300, Before: 300}))
		return &kgo.Record{Topic: "waits", Partition: writer, Key: binary.BigEndian.AppendUint64(nil, n), Value: append(slices.Clone(block), make([]byte, long)...)}
	}
	var much []*kgo.Record
	for n := range uint64(40) {
		much = append(much, block(1, n, 200_000))
	}
	send(t, cl, much...)
	for _, p := range opened.Partitions {
		if err := p.Open(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
	}
	one := opened.Partitions[0]
	got := make(chan error, 1)
	go func() {
		for {
			var chunk engine.Chunk
			chunk.Reset()
			if err := one.Read(t.Context(), &chunk); err != nil || chunk.After == 300 {
				got <- err
				return
			}
		}
	}()
	time.Sleep(2 * lookEvery / 3) // the other's queue is full
	send(t, cl, block(0, 0, 0))
	select {
	case err := <-got:
		if err != nil {
			t.Fatal(err)
		}
	case <-time.After(5 * time.Second):
		t.Fatal("what the one sends does not come")
	}
}
