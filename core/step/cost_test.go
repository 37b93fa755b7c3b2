package step

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/window"
)

// The table of memory and cost: what a kind of step and mode of publishing may take, held against the plain way of
// the same step over the same rows. Each line was found as memory that follows the length of the stream, or as
// work that grows with what a row does not touch.

// plainRows are rows of (k, x, b, s) one microsecond apart unless a test says otherwise.
type plainRows struct {
	n    int
	key  func(i int) int
	at   func(i int) row.Time
	mark func(i int) row.Time // the watermark that stands before row i; nil for at(i)
}

// load feeds rows to a lane in turns of 1,000, the clock going on by a tenth of a second each, and gives what it
// took and holds: bytes of the heap, and of its own count.
type load struct {
	took      time.Duration
	heap      int64
	held      Held
	published int64
}

type counter struct{ rows int64 }

func (c *counter) Main(v View)         { c.rows += int64(len(v.Sel)) }
func (c *counter) Late(View)           {}
func (c *counter) Reject(View, Reject) {}

func run(t *testing.T, k Keyed, rows plainRows) load {
	t.Helper()
	l := k.NewLane(LaneOptions{Keeps: true}) // what it notes of changes is bounded too, where no mark comes
	x := k.Spec().NewExchange(1)
	out := &counter{}
	runtime.GC()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	b := row.NewBatch(k.Spec().Input)
	var spent time.Duration
	mark := rows.mark
	if mark == nil {
		mark = rows.at
	}
	for from := 0; from < rows.n; from += 1000 {
		b.Reset()
		tn := &Turn{Now: row.Time(from * 100)}
		for i := from; i < min(from+1000, rows.n); i++ {
			b.Cols[0].AppendString(fmt.Sprintf("key %d", rows.key(i)))
			b.Cols[1].AppendDouble(float64(i % 100))
			b.Cols[2].AppendInt(int64(i))
			b.Cols[3].AppendNull()
			b.Times = append(b.Times, rows.at(i))
			b.Index = append(b.Index, uint16(i-from))
			b.N++
			tn.Marks = append(tn.Marks, mark(i))
		}
		tn.After = mark(min(from+1000, rows.n))
		began := time.Now()
		x.Fill(ViewOf(b), nil)
		l.Take(x, 0, tn, out)
		l.Move(tn, out)
		spent += time.Since(began)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	got := load{took: spent, heap: int64(after.HeapAlloc) - int64(before.HeapAlloc), held: l.Held(), published: out.rows}
	runtime.KeepAlive(l)
	runtime.KeepAlive(x)
	return got
}

// windowed makes a step of count, mean and max; change sets its window and modes.
func windowed(t *testing.T, change func(d *Window), measures ...string) *Window {
	t.Helper()
	if len(measures) == 0 {
		measures = []string{"count()", "mean(x)", "max(b)"}
	}
	d := NewWindow(Spec{Key: []int{0}, Input: input})
	change(d)
	d.Schema = d.ResultSchema()
	addMeasures(t, d, measures...)
	d.Schema = append(d.Schema, d.RevisionSchema()...)
	return d
}

func sliding(size, by time.Duration) *window.Aligned {
	return &window.Aligned{Size: size.Microseconds(), By: by.Microseconds()}
}

const second = row.Time(1_000_000)

// fewer makes rows fewer under the build tag `checks`, where state is rebuilt whenever it may be: the bounds of the tests
// hold for few as for many.
func fewer(n int) int {
	if checked > 0 {
		return n / 12
	}
	return n
}

// TestDeadKeys: a stream whose keys come once takes no more memory than the keys that are alive, for each kind of
// step and mode of publishing; against settled tumbling windows of the same rows.
func TestDeadKeys(t *testing.T) {
	n := fewer(300_000)
	rows := plainRows{n: n, key: func(i int) int { return i }, at: func(i int) row.Time { return row.Time(i) * 1000 }} // 1,000 new keys a second
	settled := run(t, windowed(t, func(d *Window) { d.Aligned = sliding(time.Second, time.Second) }), rows)
	spec := Spec{Key: []int{0}, Input: input}
	compile := func(text string, fields row.Schema, locals row.Schema) *expr.Program {
		p, faults := expr.Compile(text, expr.Scope{Fields: fields, Locals: locals})
		if p == nil {
			t.Fatal(faults)
		}
		return p
	}
	locals := row.Schema{{Name: "last", Kind: row.Int}}
	remember := func(arrival bool) *Remember {
		return &Remember{Keys: spec, Names: []string{"last"}, Initial: []*expr.Program{compile("0", nil, nil)}, Next: []*expr.Program{compile("b", input, locals)},
			Output: []int{0, 1, 2, 3}, Schema: input, Forget: time.Second, Arrival: arrival}
	}
	for name, k := range map[string]Keyed{
		"tumbling, revised": windowed(t, func(d *Window) { d.Aligned, d.Revised, d.Every = sliding(time.Second, time.Second), true, time.Hour }),
		"tumbling, accept":  windowed(t, func(d *Window) { d.Aligned, d.Accept = sliding(time.Second, time.Second), time.Second }),
		"tumbling, repeat": windowed(t, func(d *Window) {
			d.Aligned, d.RepeatEvery, d.RepeatKeep = sliding(time.Second, time.Second), time.Second, time.Second
		}),
		"sliding": windowed(t, func(d *Window) { d.Aligned = sliding(time.Second, 250*time.Millisecond) }),
		"sliding, revised, accept": windowed(t, func(d *Window) {
			d.Aligned, d.Accept, d.Revised, d.Every = sliding(time.Second, 500*time.Millisecond), time.Second, true, time.Hour
		}),
		"session":                windowed(t, func(d *Window) { d.Session = &Session{Gap: time.Second} }),
		"session, revised":       windowed(t, func(d *Window) { d.Session, d.Revised, d.Every = &Session{Gap: time.Second}, true, time.Hour }),
		"session, accept":        windowed(t, func(d *Window) { d.Session, d.Accept = &Session{Gap: time.Second}, time.Second }),
		"look back":              windowed(t, func(d *Window) { d.LookBack = time.Second }),
		"whole, forget":          windowed(t, func(d *Window) { d.Forget = time.Second }),
		"whole, forget, revised": windowed(t, func(d *Window) { d.Forget, d.Revised, d.Every = time.Second, true, time.Hour }),
		"deduplicate":            &Deduplicate{Keys: spec, Within: time.Second},
		"absent":                 &Absent{Keys: spec, After: time.Second, Schema: row.Schema{{Name: "k", Kind: row.String}, {Name: "last_seen", Kind: row.Timestamp}}},
		"remember by time":       remember(false),
		"remember by arrival":    remember(true),
	} {
		got := run(t, k, rows)
		t.Logf("%-26s %6.2f MB of heap, %6.2f MB by its own count, %6d keys, %5.0f ns a row", name, float64(got.heap)/1e6, float64(got.held.Bytes)/1e6, got.held.Keys, float64(got.took.Nanoseconds())/float64(n))
		// Lists that grow by doubling, and the page that rows are published from, are the rest.
		if got.heap > 2*settled.heap+2<<20 || got.held.Keys > 10_000 {
			t.Errorf("%s holds %d bytes and %d keys after %d keys of which some 2,000 are alive; settled windows hold %d bytes", name, got.heap, got.held.Keys, n, settled.heap)
		}
	}
}

// TestBytesOfSlices: an open slice takes memory for the keys that are in it, and not for all of the lane's: 100,000
// keys, 500 rows a minute, kept for 24 hours. Once that was 1.9 GB.
func TestBytesOfSlices(t *testing.T) {
	rows := plainRows{n: fewer(250_000), key: func(i int) int { return (i * 7919) % fewer(100_000) }, at: func(i int) row.Time { return row.Time(i) * 60 * second / 500 }}
	for name, change := range map[string]func(d *Window){
		"accept":  func(d *Window) { d.Aligned, d.Accept = sliding(time.Minute, time.Minute), 24*time.Hour },
		"sliding": func(d *Window) { d.Aligned = sliding(8*time.Hour, time.Minute) },
	} {
		got := run(t, windowed(t, change), rows)
		each := float64(got.heap) / float64(rows.n)
		t.Logf("%s: %.0f bytes for a key and slice, by its own count %.0f", name, each, float64(got.held.Bytes)/float64(rows.n))
		if each > 600 {
			t.Errorf("%s: %.0f bytes for a key and slice", name, each)
		}
		if own := float64(got.held.Bytes); own < 0.4*float64(got.heap) || own > 2*float64(got.heap) {
			t.Errorf("%s: it says that it holds %.0f bytes, and holds %d", name, own, got.heap)
		}
	}
}

// TestCostOfAccept: keeping closed windows for late rows, and previews, cost nothing for a row that is in time,
// however many windows lie over it. Once a row cost once for each.
func TestCostOfAccept(t *testing.T) {
	const n = 100_000
	rows := plainRows{n: n, key: func(i int) int { return i % 20 }, at: func(i int) row.Time { return row.Time(i) * second / 50_000 }}
	best := func(change func(d *Window)) time.Duration {
		least := time.Hour
		for range 3 {
			least = min(least, run(t, windowed(t, func(d *Window) { d.Aligned = sliding(time.Hour, time.Second); change(d) }), rows).took)
		}
		return least
	}
	plain := best(func(*Window) {})
	for name, got := range map[string]time.Duration{
		"accept":  best(func(d *Window) { d.Accept = time.Minute }),
		"revised": best(func(d *Window) { d.Revised, d.Every = true, time.Hour }),
	} {
		t.Logf("%s: %.0f ns a row, without %.0f", name, float64(got.Nanoseconds())/n, float64(plain.Nanoseconds())/n)
		if got > 4*plain+20*time.Millisecond {
			t.Errorf("%s: a row costs %.0f ns, without %.0f", name, float64(got.Nanoseconds())/n, float64(plain.Nanoseconds())/n)
		}
	}
}

// TestPastSessions: sessions that are gone, and the bounds that a growing one was shown under, are not kept.
func TestPastSessions(t *testing.T) {
	d := windowed(t, func(d *Window) { d.Session, d.Revised, d.Every = &Session{Gap: time.Second}, true, time.Millisecond })
	grow := run(t, d, plainRows{n: 200_000, key: func(int) int { return 1 }, at: func(i int) row.Time { return row.Time(i) * second / 100 }})
	if grow.heap > 1<<20 || grow.published < 100 {
		t.Errorf("one session that was shown %d times takes %d bytes", grow.published, grow.heap)
	}
	many := run(t, windowed(t, func(d *Window) { d.Session = &Session{Gap: 10 * time.Second} }), plainRows{n: 300_000, key: func(i int) int { return min(i, 200_000) % 150_000 },
		at: func(i int) row.Time {
			if i < 200_000 {
				return row.Time(i)
			}
			return row.Time(i) * 20 * second // later ones come alone
		}})
	if many.heap > 2<<20 {
		t.Errorf("%d sessions take %d bytes after 150,000 that are gone", many.held.Windows, many.heap)
	}
}

// TestStateBytes: what a step says that it holds follows what its values hold, and is known without going through the
// keys.
func TestStateBytes(t *testing.T) {
	fold := windowed(t, func(d *Window) { d.Aligned = sliding(time.Hour, time.Hour) }, "collect(k, 5000)", "count_distinct(b)", "last(k)", "largest(k, 1000)", "most_common(k, 3)")
	rows := plainRows{n: 60_000, key: func(i int) int { return i % 3 * 1_000_000_000_000 }, at: func(i int) row.Time { return row.Time(i) }, mark: func(int) row.Time { return row.MinTime }}
	got := run(t, fold, rows)
	if own := float64(got.held.Bytes); own < 0.4*float64(got.heap) || own > 2.5*float64(got.heap) {
		t.Errorf("it says that it holds %.0f bytes, and holds %d", own, got.heap)
	}
	many := windowed(t, func(d *Window) { d.Aligned = sliding(time.Hour, time.Hour) }, "count_distinct(x)")
	l, x := many.NewLane(LaneOptions{}), many.Spec().NewExchange(1)
	b := row.NewBatch(input)
	for from := 0; from < 200_000; from += 4000 {
		b.Reset()
		for i := from; i < from+4000; i++ {
			b.Cols[0].AppendString(strings.Repeat("k", 3) + fmt.Sprint(i))
			b.Cols[1].AppendDouble(float64(i))
			b.Cols[2].AppendInt(1)
			b.Cols[3].AppendNull()
			b.Times, b.Index = append(b.Times, 0), append(b.Index, uint16(i-from))
			b.N++
		}
		x.Fill(ViewOf(b), nil)
		l.Take(x, 0, turn(b.N, row.MinTime, row.MinTime), &counter{})
	}
	began := time.Now()
	for range 1000 {
		_ = l.Held()
	}
	if each := time.Since(began) / 1000; each > 50*time.Microsecond {
		t.Errorf("to say what 200,000 keys hold takes %v", each)
	}
}
