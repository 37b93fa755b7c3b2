package simulate

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
)

func config(t *testing.T) Config {
	t.Helper()
	shift, faults := expr.Compile("now - duration('40s')", expr.Scope{Fields: row.Schema{{Name: "crane", Kind: row.String}, {Name: "now", Kind: row.Timestamp}}})
	if shift == nil {
		t.Fatal(faults)
	}
	text := func(s string) expr.Value { return expr.Value{Kind: row.String, S: s} }
	return Config{PerSecond: 10, Count: 20_000, Seed: 5, Start: 1_767_225_600_000_000, DisorderShare: 0.05, DisorderUpTo: 20 * time.Second, AgainShare: 0.02,
		QuietField: "crane", QuietValue: "C2", QuietEvery: 10 * time.Minute, QuietFor: time.Minute, Backlog: true,
		Makers: []Maker{
			{Name: "crane", Kind: row.String, Make: "pick", Pick: []expr.Value{text("C3"), text("C1"), text("C2")}, Numbers: []float64{1.2}},
			{Name: "now", Kind: row.Timestamp, Make: "now", Parse: codec.EpochMS},
			{Name: "box", Kind: row.Int, Make: "count_from", Numbers: []float64{1}},
			{Name: "crew.driver", Kind: row.String, Make: "pick", Pick: []expr.Value{text("Ane")}, Numbers: []float64{0}},
			{Name: "crew.shift", Kind: row.Int, Make: "between", Numbers: []float64{1, 3}},
			{Name: "slow", Kind: row.Timestamp, Make: "expr", Expr: shift},
			{Name: "level", Kind: row.Double, Make: "wave", Numbers: []float64{1, 5}, Period: time.Hour},
			{Name: "_hidden", Kind: row.Double, Make: "walk", Numbers: []float64{1, 1, 0, 2}},
			{Name: "tonnes", Kind: row.Double, Make: "normal", Numbers: []float64{20, 4}},
			{Name: "id", Kind: row.String, Make: "id"},
		}}
}

func events(t *testing.T, c Config, at json.RawMessage) (lines []string, last json.RawMessage, second json.RawMessage) {
	t.Helper()
	p := New("lifts", c)
	if err := p.Open(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	var ch engine.Chunk
	for n := 0; !ch.Last; n++ {
		ch.Reset()
		if err := p.Read(context.Background(), &ch); err != nil {
			t.Fatal(err)
		}
		for i := range ch.Starts {
			lines = append(lines, string(ch.Event(i)))
		}
		if n == 1 {
			second = ch.Position
		}
		last = ch.Position
	}
	return lines, last, second
}

// TestSimulate: the same seed gives the same events, from any position on, with the shares that were
// asked for.
func TestSimulate(t *testing.T) {
	c := config(t)
	all, _, second := events(t, c, nil)
	again, _, _ := events(t, c, nil)
	if !slices.Equal(all, again) {
		t.Fatal("the same seed gives other events")
	}
	rest, _, _ := events(t, c, second)
	if !slices.Equal(rest, all[2*row.MaxRows:]) {
		t.Fatalf("from the second position on come %d events, want %d, or they differ", len(rest), len(all)-2*row.MaxRows)
	}
	c.Seed++
	if other, _, _ := events(t, c, nil); slices.Equal(all, other) {
		t.Error("another seed gives the same events")
	}
	var greatest int64
	late, c3, seen, twice, gaps := 0, 0, map[int64]bool{}, 0, 0
	for _, l := range all {
		var e struct {
			Crane string
			Now   int64
			Box   int64
			Crew  struct {
				Driver string
				Shift  int
			}
			Slow   time.Time
			Level  float64
			Tonnes float64
			ID     string
		}
		if err := json.Unmarshal([]byte(l), &e); err != nil {
			t.Fatalf("%s: %v", l, err)
		}
		if e.Crew.Driver != "Ane" || e.Crew.Shift < 1 || e.Crew.Shift > 3 || e.Slow.UnixMilli() != e.Now-40_000 || e.Level < 1 || e.Level > 5 || strings.Contains(l, "_hidden") || e.ID == "" {
			t.Fatalf("an event is not as its makers say: %s", l)
		}
		if seen[e.Box] {
			twice++
			continue
		}
		seen[e.Box] = true
		if e.Crane == "C3" {
			c3++
		}
		into := (e.Now - 1_767_225_600_000) % 600_000
		switch {
		case e.Crane == "C2" && into >= 540_000:
			gaps++ // its backlog comes after the spell
			if greatest < e.Now+600_000-into-25_000 {
				t.Fatalf("an event of the quiet spell came before its end: %s", l)
			}
		case e.Now < greatest:
			late++
		}
		greatest = max(greatest, e.Now)
	}
	n := float64(len(seen))
	if len(seen) != 20_000 || float64(twice)/n < 0.01 || float64(twice)/n > 0.03 || float64(late)/n < 0.02 || float64(late)/n > 0.08 || float64(c3)/n < 0.4 || float64(c3)/n > 0.65 || gaps == 0 {
		t.Errorf("of %d events %d came twice, %d out of order, %d of C3, %d after a quiet spell", len(seen), twice, late, c3, gaps)
	}
}

// TestPace: without a count events come at the pace of the clock, and Close frees a reader.
func TestPace(t *testing.T) {
	c := config(t)
	c.Count, c.PerSecond, c.DisorderShare, c.AgainShare, c.Start = 0, 200, 0, 0, row.MinTime
	p := New("lifts", c)
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	n := 0
	var ch engine.Chunk
	for time.Since(began) < 500*time.Millisecond {
		ch.Reset()
		if err := p.Read(context.Background(), &ch); err != nil {
			t.Fatal(err)
		}
		n += len(ch.Starts)
	}
	if took := time.Since(began).Seconds(); float64(n) < 100*took || float64(n) > 200*took+20 {
		t.Errorf("%d events in %.2f s, want 200 a second", n, took)
	}
	c.PerSecond = 0.001
	slow := New("slow", c)
	if err := slow.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error)
	go func() {
		for {
			var ch engine.Chunk
			if err := slow.Read(context.Background(), &ch); err != nil {
				ended <- err
				return
			}
		}
	}()
	if err := slow.Close(); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Error("Close does not free a reader")
	}
}
