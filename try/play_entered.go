package try

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/step"
	"undertide/run"
)

// entry is a row that came to a step with a window.
type entry struct {
	step   string
	key    string // as [Band] has it
	at     time.Time
	moment int
}

// windowPlay gathers the rows that come to one step with a window.
type windowPlay struct {
	name string
	keys []string
	now  []entry // of this moment
	all  []entry
}

// published gives the windows of a step that are told apart by a start and an end; nil for other steps. A look back has one for
// each row, which is no window that fills.
func published(k step.Keyed) *step.Window {
	if win, ok := k.(*step.Window); ok && win.Bounds() && win.LookBack == 0 {
		return win
	}
	return nil
}

// keyOf writes a row's key as [Band] has it.
func keyOf(fields map[string]any, names []string) string {
	var key []string
	for _, n := range names {
		key = append(key, fmt.Sprint(fields[n]))
	}
	return strings.Join(key, ", ")
}

// windowTaps listens to what comes to each step with a window.
func (w *player) windowTaps() {
	for i := range w.j.Steps {
		s := &w.j.Steps[i]
		win := published(s.Keyed)
		if win == nil {
			continue
		}
		p := &windowPlay{name: s.Name, keys: win.Spec().KeySchema().Names()}
		w.windows = append(w.windows, p)
		for _, in := range s.From {
			w.g.Taps = append(w.g.Taps, engine.TapNode{From: in.Ref, Schema: w.g.SchemaOf(in.Ref), Tap: heard{timedText{in, run.TextOf(s.Input)}, func(line []byte) {
				at, text, _ := strings.Cut(string(line), " ")
				us, err := strconv.ParseInt(at, 10, 64)
				var fields map[string]any
				if err == nil && json.Unmarshal([]byte(text), &fields) == nil {
					p.now = append(p.now, entry{step: p.name, key: keyOf(fields, p.keys), at: time.UnixMicro(us)})
				}
			}}})
		}
	}
}

// timedText writes a row of a step's input as its time in microseconds and its JSON.
type timedText struct {
	in   engine.Input
	text engine.Encoder
}

func (x timedText) Append(dst []byte, v step.View) []byte {
	v = x.in.Arrange(v)
	for _, r := range v.Sel {
		one := v
		one.Sel = []uint16{r}
		dst = append(strconv.AppendInt(dst, int64(v.Times[r]), 10), ' ')
		dst = x.text.Append(dst, one)
	}
	return dst
}

// stepped ends a moment.
func (p *windowPlay) stepped(moment int) {
	for i := range p.now {
		p.now[i].moment = moment
	}
	p.all, p.now = append(p.all, p.now...), p.now[:0]
}

// entered says when each window was opened, and of each moment into which windows its rows went: those of its key that hold its time, and that had not been
// published for good before; one that was withdrawn held what came before it was. A late row that was accepted brings a correction, at its own moment or later; one that was lost none.
func (w *player) entered() {
	for i := range w.out.Moments {
		w.out.Moments[i].Windows = []int{}
	}
	for _, p := range w.windows {
		for _, e := range p.all {
			m := &w.out.Moments[e.moment]
			for n, b := range w.out.Windows {
				start, err1 := time.Parse(time.RFC3339Nano, b.Start)
				end, err2 := time.Parse(time.RFC3339Nano, b.End)
				holds := err1 == nil && err2 == nil && !e.at.Before(start) && e.at.Before(end)
				if b.Step != e.step || b.Key != e.key || !holds {
					continue
				}
				w.out.Windows[n].Opened = min(b.Opened, e.moment)
				stands := b.last() >= e.moment
				if b.Withdrawn { // it held what came before
					stands = b.last() > e.moment
				}
				if stands && !slices.Contains(m.Windows, n) {
					m.Windows = append(m.Windows, n)
				}
			}
		}
	}
	// A session that others were joined into is there once they are withdrawn.
	for n := range w.out.Windows {
		b := &w.out.Windows[n]
		for _, in := range w.out.Windows {
			if in.Withdrawn && in.Step == b.Step && in.Key == b.Key && in.last() <= b.Closed && in.Start >= b.Start && in.End <= b.End && (in.Start != b.Start || in.End != b.End) {
				b.Opened = max(b.Opened, in.last())
			}
		}
	}
}
