// Package simulate makes events: seeded, so that the same settings give the same events, with
// disorder, repeats and quiet spells (docs/connectors.md, "simulate"). Events are JSON text and pass
// through the same decoder as those of any source.
package simulate

import (
	"container/heap"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-faster/jx"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
)

// Config is what to simulate.
type Config struct {
	PerSecond     float64
	Count         int64    // 0: without end, at the pace of the clock
	Seed          uint64   //
	Start         row.Time // MinTime: the moment of the first Open
	Makers        []Maker
	DisorderShare float64
	DisorderUpTo  time.Duration
	AgainShare    float64
	QuietField    string // empty for none
	QuietValue    string
	QuietEvery    time.Duration
	QuietFor      time.Duration
	Backlog       bool
	// ByClock: without end, events come when the clock reaches their time of arrival; those before now
	// come at once. Otherwise the first comes when the source is opened.
	ByClock bool
}

// Maker makes one field. Numbers are the maker's own: skew; low, high; mean, deviation; from, step, low, high; low, high.
type Maker struct {
	Name    string
	Kind    row.Kind
	Make    string
	Pick    []expr.Value
	Numbers []float64
	Period  time.Duration
	Expr    *expr.Program
	Parse   codec.Parse // how a timestamp is written
}

// Partition is the one partition of a simulated source.
type Partition struct {
	name   string
	c      Config
	closed atomic.Bool
	g      *generator
	began  time.Time // of the pace
}

type position struct {
	Start row.Time `json:"start"`
	Sent  int64    `json:"sent"`
}

// New makes the partition of a source.
func New(name string, c Config) *Partition { return &Partition{name: name, c: c} }

func (p *Partition) Name() string                        { return p.name }
func (p *Partition) Size() int64                         { return 0 }
func (p *Partition) Close() error                        { p.closed.Store(true); return nil }
func (p *Partition) Empty(context.Context) (bool, error) { return false, nil }

// Open begins, or makes the events again up to the position and passes over them.
func (p *Partition) Open(ctx context.Context, at json.RawMessage) error {
	pos := position{Start: p.c.Start}
	if pos.Start == row.MinTime {
		pos.Start = row.TimeOf(time.Now())
	}
	if at != nil {
		if err := json.Unmarshal(at, &pos); err != nil {
			return fmt.Errorf("read the position of %s: %w", p.name, err)
		}
	}
	p.g = newGenerator(p.c, pos.Start)
	p.began = time.Now()
	for p.g.sent < pos.Sent {
		if _, ok := p.g.peek(); !ok {
			break
		}
		e, _ := p.g.next()
		p.began = time.Now().Add(-time.Duration(e.arrives-pos.Start) * time.Microsecond)
		if p.closed.Load() || ctx.Err() != nil {
			return context.Canceled
		}
	}
	if p.c.ByClock {
		p.began = pos.Start.Std()
	}
	return nil
}

// Read makes the next events; without end they come at the pace of the clock.
func (p *Partition) Read(ctx context.Context, c *engine.Chunk) error {
	paced := p.c.Count == 0
	for len(c.Starts) < row.MaxRows {
		e, ok := p.g.peek()
		if !ok {
			break
		}
		if paced {
			due := p.began.Add(time.Duration(e.arrives-p.g.start) * time.Microsecond)
			if wait := time.Until(due); wait > 0 {
				if len(c.Starts) > 0 {
					break
				}
				select {
				case <-time.After(min(wait, 50*time.Millisecond)):
				case <-ctx.Done():
					return ctx.Err()
				}
				if p.closed.Load() {
					return context.Canceled
				}
				continue
			}
		}
		e, _ = p.g.next()
		start := len(c.Raw)
		c.Raw = append(c.Raw, e.text...)
		c.Starts, c.Ends = append(c.Starts, uint32(start)), append(c.Ends, uint32(len(c.Raw)))
	}
	_, more := p.g.peek()
	c.Last, c.CaughtUp = !more, paced
	c.Bytes = int64(len(c.Raw))
	out, err := json.Marshal(position{Start: p.g.start, Sent: p.g.sent})
	c.Position = out
	return err
}

// event is one made event; arrives is when it comes, n keeps those of one moment in order.
type event struct {
	arrives row.Time
	n       int64
	text    []byte
}

type queue []event

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return q[i].arrives < q[j].arrives || q[i].arrives == q[j].arrives && q[i].n < q[j].n
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(event)) }
func (q *queue) Pop() any {
	last := (*q)[len(*q)-1]
	*q = (*q)[:len(*q)-1]
	return last
}

// generator makes events in order of their own time and gives them in order of arrival.
type generator struct {
	c     Config
	start row.Time
	rnd   *rand.Rand
	made  int64
	sent  int64
	n     int64
	wait  queue

	cols  []*row.Column
	walks []float64
	cum   [][]float64 // cumulative weights of pick
	order []int       // makers that are written, grouped by nested object
	w     jx.Writer
}

func newGenerator(c Config, start row.Time) *generator {
	g := &generator{c: c, start: start, rnd: rand.New(rand.NewPCG(c.Seed, 0x7469646573)), walks: make([]float64, len(c.Makers)), cum: make([][]float64, len(c.Makers))}
	for i, m := range c.Makers {
		g.cols = append(g.cols, row.NewColumn(m.Kind))
		if m.Make == "walk" {
			g.walks[i] = m.Numbers[0]
		}
		total := 0.0
		for k := range m.Pick {
			total += 1 / math.Pow(float64(k+1), m.Numbers[0])
			g.cum[i] = append(g.cum[i], total)
		}
		if !strings.HasPrefix(m.Name, "_") {
			g.order = append(g.order, i)
		}
	}
	return g
}

// peek gives the next event without taking it: it is sure once everything that could come before it
// has been made.
func (g *generator) peek() (event, bool) {
	for {
		more := g.c.Count == 0 || g.made < g.c.Count
		if len(g.wait) > 0 && (!more || g.wait[0].arrives < g.timeOf(g.made)) {
			return g.wait[0], true
		}
		if !more {
			return event{}, false
		}
		g.make()
	}
}

func (g *generator) next() (event, bool) {
	if _, ok := g.peek(); !ok {
		return event{}, false
	}
	g.sent++
	return heap.Pop(&g.wait).(event), true
}

// timeOf gives the moment of event number n.
func (g *generator) timeOf(n int64) row.Time {
	return g.start + row.Time(float64(n)*1e6/g.c.PerSecond)
}

func (g *generator) make() {
	t := g.timeOf(g.made)
	g.made++
	quiet := false
	for i, m := range g.c.Makers {
		g.cols[i].Reset()
		g.value(i, m, t).AppendTo(g.cols[i])
		if m.Name == g.c.QuietField {
			quiet = string(codec.AppendText(nil, g.cols[i], 0)) == g.c.QuietValue
		}
	}
	arrives := t
	if g.c.DisorderShare > 0 && g.rnd.Float64() < g.c.DisorderShare {
		arrives += row.Time(g.rnd.Float64() * float64(g.c.DisorderUpTo.Microseconds()))
	}
	again := g.c.AgainShare > 0 && g.rnd.Float64() < g.c.AgainShare
	if quiet && g.c.QuietEvery > 0 {
		every, span := row.Time(g.c.QuietEvery.Microseconds()), row.Time(g.c.QuietFor.Microseconds())
		if into := (t - g.start) % every; into >= every-span { // the last part of each spell
			if !g.c.Backlog {
				return
			}
			arrives = max(arrives, t-into+every)
		}
	}
	text := g.text()
	g.put(arrives, text)
	if again {
		g.put(arrives+row.Time(g.rnd.Float64()*5e6), text)
	}
}

func (g *generator) put(arrives row.Time, text []byte) {
	g.n++
	heap.Push(&g.wait, event{arrives: arrives, n: g.n, text: text})
}

func round3(f float64) float64 { return math.Round(f*1000) / 1000 }

func (g *generator) value(i int, m Maker, t row.Time) expr.Value {
	v := expr.Value{Kind: m.Kind}
	switch m.Make {
	case "pick":
		cum := g.cum[i]
		k, _ := slices.BinarySearch(cum, g.rnd.Float64()*cum[len(cum)-1])
		return m.Pick[min(k, len(m.Pick)-1)]
	case "between":
		low, high := m.Numbers[0], m.Numbers[1]
		if m.Kind == row.Int {
			v.I = int64(low) + g.rnd.Int64N(int64(high)-int64(low)+1)
		} else {
			v.F = round3(low + g.rnd.Float64()*(high-low))
		}
	case "normal":
		v.F = round3(m.Numbers[0] + g.rnd.NormFloat64()*m.Numbers[1])
	case "walk":
		next := g.walks[i] + (2*g.rnd.Float64()-1)*m.Numbers[1]
		g.walks[i] = min(max(next, m.Numbers[2]), m.Numbers[3])
		v.F = round3(g.walks[i])
	case "wave":
		low, high := m.Numbers[0], m.Numbers[1]
		turn := 2 * math.Pi * float64(t) / float64(m.Period.Microseconds())
		v.F = round3(low + (high-low)*(1+math.Sin(turn))/2)
	case "count_from":
		v.I = int64(m.Numbers[0]) + g.made - 1
	case "id":
		v.S = strconv.FormatUint(g.rnd.Uint64(), 16)
	case "now":
		v.I = int64(t)
	case "expr":
		r, err := m.Expr.Eval(g.cols, 0)
		if err != nil || r.Null {
			return expr.NullOf(m.Kind)
		}
		return r
	}
	return v
}

// text writes the event as a JSON object; names with dots become nested objects.
func (g *generator) text() []byte {
	g.w.Reset()
	g.w.ObjStart()
	open := ""
	for n, i := range g.order {
		m := &g.c.Makers[i]
		head, name := "", m.Name
		if k := strings.LastIndexByte(m.Name, '.'); k >= 0 {
			head, name = m.Name[:k], m.Name[k+1:]
		}
		if head != open && open != "" {
			g.w.RawStr(strings.Repeat("}", 1+strings.Count(open, ".")))
			open = ""
		}
		if n > 0 {
			g.w.Comma()
		}
		if head != open {
			for _, part := range strings.Split(head, ".") {
				g.w.Str(part)
				g.w.RawStr(":{")
			}
			open = head
		}
		g.w.Str(name)
		g.w.RawStr(":")
		g.write(m, g.cols[i])
	}
	if open != "" {
		g.w.RawStr(strings.Repeat("}", 1+strings.Count(open, ".")))
	}
	g.w.ObjEnd()
	return slices.Clone(g.w.Buf)
}

func (g *generator) write(m *Maker, c *row.Column) {
	if c.IsNull(0) {
		g.w.Null()
		return
	}
	switch c.Kind {
	case row.String:
		g.w.ByteStr(c.Bytes(0))
	case row.Int, row.Double, row.Bool:
		g.w.Buf = codec.AppendText(g.w.Buf, c, 0)
	case row.Timestamp:
		switch t := c.I[0]; m.Parse {
		case codec.EpochS:
			g.w.Int64(t / 1_000_000)
		case codec.EpochMS:
			g.w.Int64(t / 1000)
		case codec.EpochUS:
			g.w.Int64(t)
		case codec.EpochNS:
			g.w.Int64(t * 1000)
		default:
			g.w.Buf = append(codec.AppendText(append(g.w.Buf, '"'), c, 0), '"')
		}
	default:
		g.w.Buf = append(codec.AppendText(append(g.w.Buf, '"'), c, 0), '"')
	}
}
