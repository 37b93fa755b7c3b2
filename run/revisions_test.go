package run

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
	"undertide/job"
)

// revisionsJob makes a document with one step that publishes by the clock, and its model.
func revisionsJob(r *rand.Rand) (string, *refWindows) {
	s := refStream{fields: []string{"k", "b", "x", "id"}, ints: []string{"id"}}
	key := [][]string{{"k"}, {"k", "b"}, nil}[r.IntN(3)]
	var w *refWindows
	var text string
	for {
		w, text = randomWindow(r, key, s, true)
		if w.span == 0 {
			break
		}
	}
	text += clocked(r, w)
	return fmt.Sprintf("undertide: 1\njob: revisions\nsources:\n  s0: {via: file, with: {path: s0.ndjson}, fields: %s, event_time: t, watermark: {margin: 0s, ahead: none}}\nsteps:\n  n0: {from: s0, %s}\nsinks:\n  out: {from: n0, via: file, with: {path: out.ndjson}, append_revisions: true}\n", refFields, text), w
}

// clocked lets a step publish by the clock, and perhaps take late rows; it gives the text of the document.
func clocked(r *rand.Rand, w *refWindows) (text string) {
	if !w.whole && w.accept == 0 && r.IntN(2) == 0 {
		w.accept = int64(1 + r.IntN(30))
		text += fmt.Sprintf(", late: {accept: %dus}", w.accept)
	}
	if r.IntN(3) > 0 {
		w.every = int64(1 + r.IntN(20))
		text += fmt.Sprintf(", publish: revised, every: %dus", w.every)
	}
	if w.every == 0 || r.IntN(2) == 0 {
		w.repeatEvery = int64(1 + r.IntN(40))
		text += fmt.Sprintf(", repeat: {every: %dus", w.repeatEvery)
		if w.size == w.by || w.accept > 0 {
			if w.repeatKeep = int64(r.IntN(40)); w.size != w.by {
				w.repeatKeep = min(w.repeatKeep, w.accept)
			}
			text += fmt.Sprintf(", keep: %dus", w.repeatKeep)
		}
		text += "}"
	}
	return text
}

// lanesOf is a step in some lanes, fed one event a turn.
type lanesOf struct {
	def   step.Keyed
	lanes []step.Lane
	x     *step.Exchange
	kept  *state.Memory
	out   []string
	// rejects are reason and message.
	rejects []string
	enc     interface {
		Append(dst []byte, v step.View) []byte
	}
}

func (l *lanesOf) Main(v step.View) {
	for line := range strings.Lines(string(l.enc.Append(nil, v))) {
		l.out = append(l.out, strings.TrimSpace(line))
	}
}
func (l *lanesOf) Late(step.View) {}
func (l *lanesOf) Reject(_ step.View, r step.Reject) {
	l.rejects = append(l.rejects, r.Reason+": "+r.Message)
}

func (l *lanesOf) renew(lanes int) {
	l.lanes, l.x = nil, l.def.Spec().NewExchange(lanes)
	for range lanes {
		l.lanes = append(l.lanes, l.def.NewLane(step.LaneOptions{Keeps: true}))
	}
}

// restart saves the state and loads it into other lanes.
func (l *lanesOf) restart(lanes int) error {
	old := l.lanes
	l.renew(lanes)
	for n, o := range old {
		for _, c := range o.Freeze() {
			l.kept.Apply("s", c, n, len(old))
		}
	}
	for n, lane := range l.lanes {
		if err := step.Restore("s", l.def, lane, l.kept, n, lanes, nil); err != nil {
			return err
		}
	}
	return nil
}

// turn takes a row, or none, and lets watermark and clock go on.
func (l *lanesOf) turn(b *row.Batch, mark, after, now int64) []string {
	t := &step.Turn{Marks: []row.Time{row.Time(mark)}, After: row.Time(after), Now: row.Time(now)}
	if b != nil {
		l.x.Fill(step.ViewOf(b), nil)
	}
	for n, lane := range l.lanes {
		if b != nil {
			lane.Take(l.x, n, t, l)
		}
		lane.Move(t, l)
	}
	out := l.out
	l.out = nil
	return out
}

// dropped counts the rows that `having` let not out, of all lanes.
func (l *lanesOf) dropped() (n int64) {
	for _, lane := range l.lanes {
		n += lane.Counts().Dropped
	}
	return n
}

// TestRandomRevisions compares previews, repeats, corrections and withdrawals with the model, turn by turn: random
// windows, events and moves of the clock, with the state saved and loaded into other lanes in between; and how many rows
// `having` drops. Under the build
// tag checks every state is rebuilt whenever it may be.
func TestRandomRevisions(t *testing.T) {
	one := func(seed uint64) string {
		r := rand.New(rand.NewPCG(seed, 8))
		text, model := revisionsJob(r)
		doc, err := job.Parse("revisions.yaml", text, job.Options{})
		if err != nil {
			return fmt.Sprintf("%s\n%v", text, err)
		}
		l := &lanesOf{def: doc.Steps[0].Keyed, enc: TextOf(doc.Steps[0].Schema), kept: state.NewMemory()}
		l.renew(1 + r.IntN(3))
		decode := doc.Sources[0].Decoder()
		w, now, at := int64(never), int64(1000), int64(r.IntN(40))
		margin := int64(r.IntN(3) * r.IntN(15))
		var story []string
		for id := range int64(60 + r.IntN(60)) {
			now += int64(r.IntN(3) * r.IntN(8))
			before, after := w, w
			var want []refRow
			var b *row.Batch
			switch n := r.IntN(12); {
			case n == 0: // a turn without events
			case n == 1:
				lanes := 1 + r.IntN(4)
				story = append(story, fmt.Sprintf("the state is loaded into %d lanes", lanes))
				if err := l.restart(lanes); err != nil {
					return fmt.Sprintf("%s\n%s\n%v", text, strings.Join(story, "\n"), err)
				}
				model.begun = false
			default:
				at += int64(r.IntN(5))
				e := randomEvent(r, at-int64(r.IntN(4)*r.IntN(15)), 3, id, false)
				if e.row == nil || slices.ContainsFunc(model.key, func(k string) bool { return e.row.get(k) == nil }) {
					continue
				}
				e.row.placed = id
				b = row.NewBatch(doc.Sources[0].Schema)
				if rejects := decode.Decode(chunkOfOne(e.text), b, nil); len(rejects) > 0 {
					return rejects[0].Message
				}
				b.Times = []row.Time{row.Time(e.row.t)}
				model.take(*e.row, w)
				after = max(w, e.row.t-margin)
			}
			if id >= 100 {
				after = ever
			}
			w = after
			stood, dropped := model.w, model.dropped
			want = append(want, model.move(after)...)
			want = append(want, model.clock(now, stood)...)
			story = append(story, fmt.Sprintf("turn %d at %d: %s; W was %d, is %d", id, now, eventText(b, doc), before, after))
			was := l.dropped()
			got := l.turn(b, before, after, now)
			if have := l.dropped() - was; have != model.dropped-dropped {
				return fmt.Sprintf("seed %d\n%s%s\n`having` drops %d rows; want %d", seed, text, strings.Join(story, "\n"), have, model.dropped-dropped)
			}
			var wanted []string
			for _, x := range want {
				wanted = append(wanted, x.String())
			}
			slices.Sort(got)
			slices.Sort(wanted)
			if !slices.Equal(got, wanted) {
				return fmt.Sprintf("seed %d\n%s%s\ngives beyond what is wanted\n  %s\nand lacks\n  %s", seed, text, strings.Join(story, "\n"), strings.Join(less(got, wanted), "\n  "), strings.Join(less(wanted, got), "\n  "))
			}
			if w == ever {
				break
			}
		}
		return ""
	}
	if *seed != 0 {
		if fault := one(*seed); fault != "" {
			t.Fatal(fault)
		}
		return
	}
	began := uint64(time.Now().UnixNano())
	t.Logf("the seeds begin at %d", began)
	for n := range uint64(*jobs / 10) {
		if fault := one(began + n); fault != "" {
			t.Fatal(fault)
		}
	}
}

// less gives the lines of a that b has not, each as often as it lacks.
func less(a, b []string) (out []string) {
	count := map[string]int{}
	for _, line := range b {
		count[line]++
	}
	for _, line := range a {
		if count[line]--; count[line] < 0 {
			out = append(out, line)
		}
	}
	return out
}

func chunkOfOne(text string) *engine.Chunk {
	return &engine.Chunk{Raw: []byte(text), Starts: []uint32{0}, Ends: []uint32{uint32(len(text))}}
}

func eventText(b *row.Batch, doc *job.Job) string {
	if b == nil {
		return "no event"
	}
	var out map[string]any
	text := TextOf(doc.Sources[0].Schema).Append(nil, step.ViewOf(b))
	if json.Unmarshal(text, &out) != nil {
		return "?"
	}
	return strings.TrimSpace(string(text)) + fmt.Sprintf(" at %d", int64(b.Times[0]))
}
