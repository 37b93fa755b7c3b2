package run

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math"
	"math/big"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"

	"undertide/checkpoint"
	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/job"
	"undertide/pace"
)

var (
	jobs = flag.Int("jobs", pace.Of(2000, 150), "how many random jobs TestRandomJobs compares with the reference model")
	seed = flag.Uint64("seed", 0, "run this one random job")
)

// refNode is a step of a random job, with what it reads: sources, and parts of nodes before it.
type refNode struct {
	name    string
	inputs  []string
	text    string // of the document, after from
	step    refStep
	split   bool
	key     []string      // of made rows, for their order
	left    int           // of a join: so many of the inputs are of the left
	sources map[int]int64 // how far back the watermark of each stands
}

// refEvent is an event of a partition; row is nil for one that is rejected, for a reason.
type refEvent struct {
	text   string
	row    *refRow
	reason string
}

type refPartition struct {
	source      int
	name        string
	events      []refEvent
	next        int
	w, greatest int64
	ended       bool
}

// refJob is a random job: its document, its streams, and a way to make the model anew.
type refJob struct {
	seed    uint64
	margins []int64
	ahead   bool // rows far ahead of the clock are rejects
	// script says when the events come and time passes; nil for a bounded run. Event times of arrival are by source.
	script  []refMoment
	arrival []bool
	turn    int
	parts   []refPartition
	build   func() []refNode
	sinks   []string
	// keep is how long versions are kept of a reference that is looked up in as of event time: it is the last of the sources.
	// -1 for none.
	keep int64
}

// refMoment is one step of a script: the next event of a source, or so many microseconds that pass.
type refMoment struct {
	source int
	clock  int64
}

// scriptStart is when the clock of a script begins.
const scriptStart = 1_000_000

const refFields = "{k: string, b: int, x: double, id: int, t: {type: timestamp, parse: epoch_us}, l: list<int>, d: decimal}"

// randomJob makes a job from a seed.
func randomJob(seed uint64) *refJob {
	r := rand.New(rand.NewPCG(seed, 4))
	j := &refJob{seed: seed, turn: 1 + r.IntN(16), ahead: r.IntN(3) == 0}
	j.streams(r, func() int { return r.IntN(60) * min(r.IntN(8), 1) }) // one in eight is empty
	return j
}

// longJob makes one whose partitions have as many events as several turns of files.
func longJob(seed uint64) *refJob {
	r := rand.New(rand.NewPCG(seed, 7))
	j := &refJob{seed: seed, turn: row.MaxRows, ahead: r.IntN(3) == 0}
	j.streams(r, func() int { return []int{0, 1, 100, row.MaxRows, row.MaxRows + 1, 9000}[r.IntN(6)] })
	return j
}

// scriptedJob makes one whose events come one by one, in the order of a script and between steps of the clock: its sources
// may take the time of arrival, and its last step may publish by the clock.
func scriptedJob(seed uint64) *refJob {
	r := rand.New(rand.NewPCG(seed, 10))
	j := &refJob{seed: seed, turn: 1, script: []refMoment{}}
	j.streams(r, func() int { return r.IntN(60) })
	var left []int
	for s := range j.margins {
		j.arrival = append(j.arrival, r.IntN(3) == 0 && (j.keep < 0 || s+1 < len(j.margins)))
		for i := range j.parts[s].events {
			if e := &j.parts[s].events[i]; j.arrival[s] && e.reason == "no event time" {
				*e = refEvent{text: "{not json", reason: "malformed"}
			}
		}
		left = append(left, len(j.parts[s].events))
	}
	for slices.ContainsFunc(left, func(n int) bool { return n > 0 }) {
		s := r.IntN(len(left))
		switch {
		case r.IntN(3) == 0:
			j.script = append(j.script, refMoment{clock: int64(1 + r.IntN(25))})
		case left[s] > 0:
			left[s]--
			j.script = append(j.script, refMoment{source: s})
		}
	}
	return j
}

// streams makes the job's sources, each of some partitions of so many events, and its steps.
func (j *refJob) streams(r *rand.Rand, events func() int) {
	sources := 1
	if r.IntN(3) == 0 {
		sources = 2
	}
	id := int64(0)
	for s := range sources {
		j.margins = append(j.margins, int64(r.IntN(3)*r.IntN(20)))
		parts := 1 + r.IntN(3)
		if j.script != nil {
			parts = 1
		}
		for p := range parts {
			part := refPartition{source: s, name: fmt.Sprintf("p%d", p)}
			at := int64(r.IntN(60)) - 20
			keys := 1 + r.IntN(4)
			for range events() {
				at += int64(r.IntN(6))
				if r.IntN(15) == 0 {
					at += int64(r.IntN(60))
				}
				id++
				part.events = append(part.events, randomEvent(r, at-int64(r.IntN(4)*r.IntN(12)), keys, id, j.ahead))
			}
			j.parts = append(j.parts, part)
		}
	}
	shape := r.Uint64()
	j.build = func() []refNode { return randomSteps(rand.New(rand.NewPCG(shape, 5)), sources, j.script != nil) }
	j.reference(r, sources, events)
	for _, n := range j.build() {
		if n.split {
			j.sinks = append(j.sinks, "small of "+n.name, "rest of "+n.name)
			continue
		}
		j.sinks = append(j.sinks, n.name)
		if n.hasLate() {
			j.sinks = append(j.sinks, "late of "+n.name)
		}
	}
}

func (n refNode) hasLate() bool {
	switch s := n.step.(type) {
	case *refWindows:
		return !s.whole
	case *refDedup, *refAbsent, *refJoin, *refAsOf:
		return true
	case *refRemember:
		return !s.arrival
	}
	return false
}

// farAhead is further ahead than `ahead` takes.
var farAhead = time.Now().Add(10 * time.Hour).UnixMicro()

func randomEvent(r *rand.Rand, t int64, keys int, id int64, ahead bool) refEvent {
	row := refRow{names: []string{"k", "b", "x", "id", "t", "l", "d"}, t: t, placed: id}
	k, b, x := any(fmt.Sprintf("k%d", r.IntN(keys))), any(int64(r.IntN(7)-3)), any(float64(r.IntN(40)-8)/8)
	if r.IntN(40) == 0 {
		b = int64(1<<62) + r.Int64N(1<<61) // sums of them leave 64 bits
	}
	if k == "k0" { // its values are about zero, of which there are two
		x = []float64{0, math.Copysign(0, -1), -0.125, 0.125}[r.IntN(3+r.IntN(2))]
	}
	for _, v := range []*any{&k, &b, &x} {
		if r.IntN(9) == 0 {
			*v = nil
		}
	}
	var list any
	if r.IntN(4) > 0 {
		items := []any{}
		for range r.IntN(4) {
			if items = append(items, int64(r.IntN(9))); r.IntN(12) == 0 {
				items[len(items)-1] = nil
			}
		}
		list = items
	}
	var d any
	if n := r.IntN(40); n > 4 {
		d = refDecimal(big.NewRat(int64(n*n*7-3000), 100).FloatString(2))
	}
	row.vals = []any{k, b, x, id, refTime(t), list, d}
	switch r.IntN(80) {
	case 0:
		return refEvent{text: "{not json", reason: "malformed"}
	case 1:
		return refEvent{text: fmt.Sprintf(`{"id":%d,"t":null}`, id), reason: "no event time"}
	case 2:
		return refEvent{text: fmt.Sprintf(`{"id":%d,"t":%d,"b":"one"}`, id, t), reason: "wrong type"}
	case 3:
		if ahead {
			return refEvent{text: fmt.Sprintf(`{"id":%d,"t":%d}`, id, farAhead), reason: "too far ahead"}
		}
	}
	return refEvent{text: fmt.Sprintf(`{"k":%s,"b":%s,"x":%s,"id":%d,"t":%d,"l":%s,"d":%s}`, refText(k), refText(b), refText(x), id, t, refText(list), refText(d)), row: &row}
}

// refStream is rows that a random job's next step may read.
type refStream struct {
	inputs  []string
	fields  []string // that may be read; the others are lost
	lists   []string // of them the lists of ints
	ints    []string // of them ints that say which row it is
	windows bool     // rows of a windowed step, which may be ranked
	// last: nothing with state may follow
	last bool
}

func (s refStream) has(names ...string) bool {
	return !slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(s.fields, n) })
}

// jobMaker makes the steps of a random job.
type jobMaker struct {
	r     *rand.Rand
	clock bool // a step may publish by the clock
	nodes []refNode
	taken int // numbers of field names
	// sources is how many there are.
	sources int
	// keep is how long versions of the reference are kept that is looked up in as of event time; 0 for none.
	keep int64
}

func (m *jobMaker) add(n refNode) string {
	n.name = fmt.Sprintf("n%d", len(m.nodes))
	m.nodes = append(m.nodes, n)
	return n.name
}

func (m *jobMaker) field(prefix string) string {
	m.taken++
	return fmt.Sprintf("%s%d", prefix, m.taken)
}

// key takes some of the fields that may be keys; none for all rows together.
func (m *jobMaker) key(s refStream) (key []string) {
	for _, k := range []string{"k", "b"} {
		if s.has(k) && m.r.IntN(2) == 0 {
			key = append(key, k)
		}
	}
	if s.has("d") && m.r.IntN(8) == 0 {
		key = append(key, "d")
	}
	return key
}

// randomSteps makes one to five steps of any kind in any order that documents allow.
func randomSteps(r *rand.Rand, sources int, clock bool) []refNode {
	m := &jobMaker{r: r, clock: clock, sources: sources}
	s := refStream{inputs: []string{"s0"}, fields: []string{"k", "b", "x", "id", "t", "l", "d"}, lists: []string{"l"}, ints: []string{"id"}}
	if sources == 2 {
		s.inputs = []string{"s0", "s1"}
	}
	for n := 1 + r.IntN(5); n > 0 && !s.last; n-- {
		s = m.next(s, n == 1)
	}
	return m.nodes
}

// next adds a step that reads s; final says that none follows.
func (m *jobMaker) next(s refStream, final bool) refStream {
	r := m.r
	for {
		switch r.IntN(18) {
		case 17:
			if s.has("k") {
				return m.asOf(s)
			}
		case 15, 16:
			if s.has("k", "b") {
				return m.lookup(s)
			}
		case 13, 14:
			if s.has("k", "b") {
				return m.join(s)
			}
		case 0:
			if s.has("b") && r.IntN(2) == 0 {
				q := m.field("q")
				s.inputs = []string{m.add(refNode{inputs: s.inputs, text: "set: {" + q + ": 100 / b}", step: &refFilter{set: q, divides: true, keep: func(refRow) bool { return true }}})}
				s.fields = append(slices.Clone(s.fields), q)
				return s
			}
			if s.has("x", "b", "id") {
				half := m.field("half")
				s.inputs = []string{m.add(refNode{inputs: s.inputs, text: "where: x > 0.5 || b == null, set: {" + half + ": id / 2}", step: &refFilter{set: half, keep: refSome}})}
				s.fields = append(slices.Clone(s.fields), half)
				return s
			}
		case 1:
			if s.has("x") {
				n := m.add(refNode{inputs: s.inputs, text: "split: {small: x < 1.0}", split: true})
				s.inputs = []string{"small of " + n, "rest of " + n}
				if r.IntN(2) == 0 {
					slices.Reverse(s.inputs)
				}
				return s
			}
		case 2: // one event on two ways that meet again
			if len(s.ints) > 0 {
				f := s.ints[r.IntN(len(s.ints))]
				a := m.add(refNode{inputs: s.inputs, text: "where: " + f + " % 3 != 1", step: &refFilter{keep: func(r refRow) bool { v, ok := r.get(f).(int64); return ok && v%3 != 1 }}})
				b := m.add(refNode{inputs: s.inputs, text: "where: " + f + " != 3", step: &refFilter{keep: func(r refRow) bool { v, ok := r.get(f).(int64); return ok && v != 3 }}})
				s.inputs = []string{a, b}
				if r.IntN(2) == 0 {
					slices.Reverse(s.inputs)
				}
				if s.windows = false; r.IntN(3) == 0 { // a merge and nothing else
					s.inputs = []string{m.add(refNode{inputs: s.inputs, text: "where: true", step: &refFilter{keep: func(refRow) bool { return true }}})}
				}
				return s
			}
		case 3, 4:
			if len(s.lists) > 0 {
				list, item := s.lists[r.IntN(len(s.lists))], m.field("item")
				s.inputs = []string{m.add(refNode{inputs: s.inputs, text: "expand: {" + item + ": " + list + "}", step: &refExpand{list: list, item: item}})}
				s.fields, s.ints, s.windows = append(slices.Clone(s.fields), item), append(slices.Clone(s.ints), item), false
				return s
			}
		case 5:
			if key := m.key(s); key != nil {
				d := &refDedup{key: key, within: int64(1 + r.IntN(30)), passed: map[string][]int64{}}
				n := m.add(refNode{inputs: s.inputs, step: d, text: fmt.Sprintf("deduplicate: {key: [%s], within: %dus}", strings.Join(d.key, ", "), d.within)})
				if s.inputs = []string{n}; r.IntN(6) == 0 {
					s.inputs, s.windows = []string{"late of " + n}, false
				}
				return s
			}
		case 6, 7:
			if len(s.ints) > 0 {
				return m.remember(s)
			}
		case 8:
			a := &refAbsent{key: m.key(s), after: int64(1 + r.IntN(40)), last: map[string]refRow{}}
			n := m.add(refNode{inputs: s.inputs, text: keyText(a.key) + fmt.Sprintf("absent: %dus", a.after), step: a, key: a.key})
			return refStream{inputs: []string{n}, fields: append(slices.Clone(a.key), "last_seen")}
		case 9, 10:
			if s.windows && len(s.inputs) == 1 && s.has("n") {
				by := []string{"n", "sum_x", "max_x", "min_b", "first_id", "sum_d"}[r.IntN(6)]
				if !s.has(by) {
					by = "n"
				}
				rank := &refRank{by: by, keep: 1 + r.IntN(3)}
				s.inputs = []string{m.add(refNode{inputs: s.inputs, text: fmt.Sprintf("rank: {by: %s, keep: %d}", by, rank.keep), step: rank})}
				s.windows = false
				return s
			}
		default:
			return m.window(s, final)
		}
	}
}

// join pairs the rows with those of a source, or with rows like themselves.
func (m *jobMaker) join(s refStream) refStream {
	r := m.r
	j := &refJoin{unmatched: [2]bool{r.IntN(2) == 0, false}, accept: int64(r.IntN(2) * r.IntN(25)), from: int64(r.IntN(50) - 35)}
	j.to = j.from + int64(r.IntN(40))
	j.unmatched[1] = j.unmatched[0] && r.IntN(2) == 0
	left := &refPick{only: []string{"k", "b"}}
	for _, f := range []string{"x", "id", "l", "d"} {
		if s.has(f) && r.IntN(2) == 0 {
			left.only = append(left.only, f)
		}
	}
	rk, rb, rid := m.field("rk"), m.field("rb"), m.field("rid")
	right := &refPick{set: map[string]string{rk: "k", rb: "b", rid: "id"}, only: []string{rid, rk, rb}}
	of, set := []string{"s0"}, fmt.Sprintf("set: {%s: k, %s: b, %s: id}, ", rk, rb, rid)
	if m.sources == 2 && r.IntN(3) > 0 {
		of = []string{"s1"}
	}
	a := m.add(refNode{inputs: s.inputs, step: left, text: "only: [" + strings.Join(left.only, ", ") + "]"})
	b := m.add(refNode{inputs: of, step: right, text: set + "only: [" + strings.Join(right.only, ", ") + "]"})
	j.left, j.right, j.match = left.only, right.only, [][2]string{{"k", rk}}
	if r.IntN(3) == 0 {
		j.match = append(j.match, [2]string{"b", rb})
	}
	bounds := fmt.Sprintf("within: [%dus, %dus]", j.from, j.to)
	if r.IntN(4) == 0 {
		j.tumbling = int64(1 + r.IntN(40))
		bounds = fmt.Sprintf("window: {tumbling: %dus}", j.tumbling)
	}
	kind, match := "inner", []string{}
	if j.unmatched[0] {
		kind = "left"
	}
	if j.unmatched[1] {
		kind = "outer"
	}
	n := refNode{inputs: []string{a, b}, left: 1, step: j}
	for _, x := range j.match {
		match, n.key = append(match, x[0]+": "+x[1]), append(n.key, x[0])
	}
	n.text = fmt.Sprintf("join: {left: [%s], right: %s, match: {%s}, %s, kind: %s, accept: %dus}", a, b, strings.Join(match, ", "), bounds, kind, j.accept)
	if r.IntN(3) == 0 {
		j.drop = rid
		n.text += fmt.Sprintf(", where: %s == null || %s %% 5 != 2", rid, rid)
	}
	fields := slices.DeleteFunc(slices.Clone(left.only), func(f string) bool { return f == "id" }) // may be null behind it
	out := refStream{inputs: []string{m.add(n)}, fields: append(fields, rid), ints: []string{rid}}
	if slices.Contains(left.only, "l") {
		out.lists = []string{"l"}
	}
	if r.IntN(8) == 0 {
		out.inputs = []string{"late of " + out.inputs[0]}
	}
	return out
}

func (m *jobMaker) remember(s refStream) refStream {
	of, before, seen, last := s.ints[m.r.IntN(len(s.ints))], m.field("before"), m.field("seen"), m.field("last")
	f := &refRemember{key: m.key(s), of: of, set: last, forget: int64(5 + m.r.IntN(50)), arrival: m.r.IntN(2) == 0, state: map[string]*refMemory{}}
	order := "time"
	if f.arrival {
		order = "arrival"
	}
	n := m.add(refNode{inputs: s.inputs, key: f.key, step: f, text: keyText(f.key) + fmt.Sprintf(
		`remember: {%s: {initial: -1, next: %s}, %s: {initial: 0, next: %s + 1}}, forget: %dus, order: %s, where: %s %% 4 != 3, set: {%s: %s}`,
		before, of, seen, seen, f.forget, order, seen, last, before)})
	s.inputs, s.fields, s.windows = []string{n}, append(slices.Clone(s.fields), last), false
	return s
}

func (m *jobMaker) window(s refStream, final bool) refStream {
	w, text := randomWindow(m.r, m.key(s), s, final)
	if m.clock && final && w.span == 0 && m.r.IntN(3) > 0 {
		text += clocked(m.r, w)
	}
	n := m.add(refNode{inputs: s.inputs, text: text, step: w, key: w.key})
	out := refStream{inputs: []string{n}, fields: append(slices.Clone(w.key), "window_start", "window_end"), windows: w.span == 0, last: w.whole || w.several(), ints: []string{"n"}}
	for _, f := range w.measures {
		out.fields = append(out.fields, f.name)
		if f.name == "ids" || f.name == "items" {
			out.lists = append(out.lists, f.name)
		}
	}
	if !final && !w.whole && m.r.IntN(8) == 0 { // its late rows go on
		s.inputs, s.windows, s.last = []string{"late of " + n}, false, false
		return s
	}
	if !out.last && m.r.IntN(4) == 0 { // two windowed steps that meet
		v, text := *w, text
		v.open = nil
		out.inputs, out.windows = append(out.inputs, m.add(refNode{inputs: s.inputs, text: text, step: &v, key: v.key})), false
	}
	return out
}

func keyText(key []string) string {
	if len(key) == 0 {
		return ""
	}
	return "key: [" + strings.Join(key, ", ") + "], "
}

// randomWindow makes a windowed step; several allows more rows than one for a window.
func randomWindow(r *rand.Rand, key []string, s refStream, several bool) (*refWindows, string) {
	w := &refWindows{key: key, w: never}
	text := keyText(key)
	var late []string
	switch r.IntN(6) {
	case 0:
		w.size = int64(1 + r.IntN(40))
		w.by = w.size
		w.shift = int64(r.IntN(int(w.size)))
		text += fmt.Sprintf("window: {tumbling: %dus, shift: %dus}, ", w.size, w.shift)
	case 1, 2:
		w.by = int64(1 + r.IntN(20))
		w.size = w.by + int64(r.IntN(60))
		w.shift = int64(r.IntN(int(w.by)))
		text += fmt.Sprintf("window: {sliding: %dus, by: %dus, shift: %dus}, ", w.size, w.by, w.shift)
	case 3:
		w.gap = int64(1 + r.IntN(25))
		text += fmt.Sprintf("window: {session: %dus", w.gap)
		if r.IntN(2) == 0 {
			w.longest = w.gap + int64(r.IntN(40))
			text += fmt.Sprintf(", longest: %dus", w.longest)
		}
		text += "}, "
	case 4:
		w.span, several = int64(1+r.IntN(30)), false
		text += fmt.Sprintf("window: {look_back: %dus}, ", w.span)
	case 5:
		if w.whole, several = true, false; len(key) > 0 && r.IntN(2) == 0 {
			w.forget = int64(1 + r.IntN(60))
			text += fmt.Sprintf("forget: %dus, ", w.forget)
		}
	}
	if several && r.IntN(2) == 0 {
		w.accept = int64(1 + r.IntN(40))
		late = append(late, fmt.Sprintf("late: {accept: %dus}", w.accept))
	}
	w.measures = append(w.measures, refMeasures[0])
	for _, m := range refMeasures[1:] {
		if r.IntN(3) == 0 && s.has(m.needs...) && !slices.Contains(key, m.name) {
			w.measures = append(w.measures, m)
		}
	}
	if f := s.ints; len(f) > 0 && r.IntN(2) == 0 {
		w.measures = append(w.measures, itemsOf(f[r.IntN(len(f))]))
	}
	if r.IntN(4) == 0 {
		w.having = true
		late = append(late, "having: n != 2")
	}
	parts := make([]string, len(w.measures))
	for i, m := range w.measures {
		cel := m.cel
		if !strings.HasPrefix(cel, "{") {
			cel = "\"" + cel + "\""
		}
		parts[i] = m.name + ": " + cel
	}
	text += "measures: {" + strings.Join(parts, ", ") + "}"
	for _, l := range late {
		text += ", " + l
	}
	return w, text
}

// document writes the job's document; its files are in a folder.
func (j *refJob) document(dir string) string {
	var b strings.Builder
	b.WriteString("undertide: 1\njob: random\nsettings: {checkpoint: {every: 20ms, keep: 2}}\nsources:\n")
	ahead := "none"
	if j.ahead {
		ahead = "1h"
	}
	for s, m := range j.margins {
		if j.keep >= 0 && s+1 == len(j.margins) {
			break // it stands under references
		}
		at := "t"
		if len(j.arrival) > 0 && j.arrival[s] {
			at = "arrival"
		}
		fmt.Fprintf(&b, "  s%d: {via: file, with: {files: '%s'}, fields: %s, event_time: %s, watermark: {margin: %dus, ahead: %s, idle: 1000d}}\n", s, filepath.Join(dir, fmt.Sprintf("s%d-*.ndjson", s)), refFields, at, m, ahead)
	}
	b.WriteString(refDocument(dir) + j.refVersions(dir) + "steps:\n")
	several := map[string]bool{}
	for _, n := range j.build() {
		if n.left > 0 {
			fmt.Fprintf(&b, "  %s: {%s}\n", n.name, n.text)
		} else {
			fmt.Fprintf(&b, "  %s: {from: [%s], %s}\n", n.name, strings.Join(n.inputs, ", "), n.text)
		}
		w, ok := n.step.(*refWindows)
		several[n.name] = ok && (w.every > 0 || w.repeatEvery > 0)
	}
	b.WriteString("sinks:\n")
	for i, s := range j.sinks {
		more := ""
		if several[s] {
			more = ", append_revisions: true"
		}
		fmt.Fprintf(&b, "  out%d: {from: %s, via: file, with: {path: %s}%s}\n", i, s, j.outFile(dir, i), more)
	}
	return b.String()
}

func (j *refJob) outFile(dir string, sink int) string {
	return filepath.Join(dir, fmt.Sprintf("out%d.ndjson", sink))
}

// model runs the job by the reference model: rows by sink, and the counts of each source and step.
func (j *refJob) model() (map[string][]string, map[string]refLate) {
	sources := make([]refLate, len(j.margins))
	nodes := j.build()
	parts := slices.Clone(j.parts)
	stood := make([]int64, len(j.margins))
	for i := range stood {
		stood[i] = never
	}
	for i := range nodes {
		nodes[i].sources = map[int]int64{}
		for _, in := range nodes[i].inputs {
			name := in[strings.LastIndex(in, " ")+1:]
			if name[0] == 's' {
				nodes[i].sources[int(name[1]-'0')] = max(nodes[i].sources[int(name[1]-'0')], 0)
			}
			for _, o := range nodes {
				back := int64(0)
				if j, ok := o.step.(*refJoin); ok {
					back = j.back()
				}
				if o.name == name {
					for s, by := range o.sources {
						nodes[i].sources[s] = max(nodes[i].sources[s], by+back)
					}
				}
			}
		}
	}
	watermark := func(n refNode) int64 {
		w := int64(ever)
		for s, back := range n.sources {
			if stood[s] == never {
				return never
			}
			if stood[s] != ever {
				w = min(w, stood[s]-back)
			}
		}
		return w
	}
	settle := func() { // of a source the least of its partitions
		for s := range stood {
			w := int64(ever)
			for _, p := range parts {
				if p.source == s {
					w = min(w, p.w)
				}
			}
			stood[s] = max(stood[s], w)
		}
	}
	for i := range parts {
		p := &parts[i]
		p.w, p.greatest = never, never
		if len(p.events) == 0 && j.script == nil {
			p.w, p.ended = ever, true
		}
	}
	out := map[string][]string{}
	give := func(name string, rows []refRow) {
		for _, r := range rows {
			out[name] = append(out[name], r.String())
		}
	}
	inputs := func(n refNode, made map[string][]refRow) (rows []refRow) {
		for k, in := range n.inputs {
			for _, r := range made[in] {
				r.side = 0
				if n.left > 0 && k >= n.left {
					r.side = 1
				}
				rows = append(rows, r)
			}
		}
		return rows
	}
	placed := int64(0) // each row that a step takes has a number, by which ties are broken
	apply := func(i int, made map[string][]refRow, rows []refRow, w int64) {
		n := &nodes[i]
		for _, r := range rows {
			switch {
			case n.split:
				part := "rest of " + n.name
				if x, ok := r.get("x").(float64); ok && x < 1 {
					part = "small of " + n.name
				}
				made[part] = append(made[part], r)
			case n.left == 0 && slices.ContainsFunc(n.key, func(k string) bool { return r.get(k) == nil }) && n.step != nil:
				n.step.late().reject("null key")
			default:
				if d, ok := n.step.(*refDedup); ok && slices.ContainsFunc(d.key, func(k string) bool { return r.get(k) == nil }) {
					d.reject("null key")
					continue
				}
				placed++
				r.placed = placed
				late := len(n.step.late().rows)
				made[n.name] = append(made[n.name], n.step.take(r, w)...)
				made["late of "+n.name] = append(made["late of "+n.name], n.step.late().rows[late:]...)
			}
		}
	}
	now := int64(scriptStart)
	// move lets the watermarks and the clock go on to where they stand, and gives what that makes, in order.
	move := func(own map[string][]refRow, before []int64) {
		made := map[string][]refRow{}
		for i, n := range nodes {
			rows := inputs(n, made)
			slices.SortStableFunc(rows, compareMade)
			apply(i, made, rows, before[i])
			if n.step == nil {
				continue
			}
			w, stood := watermark(n), int64(0)
			windows, _ := n.step.(*refWindows)
			if windows != nil {
				stood = windows.w
			}
			moved := n.step.move(w)
			slices.SortStableFunc(moved, func(a, b refRow) int { return orderMade(a, b, n.order()) })
			made[n.name] = append(made[n.name], moved...)
			if windows != nil && windows.every+windows.repeatEvery > 0 {
				made[n.name] = append(made[n.name], windows.clock(now, stood)...)
			}
		}
		for _, n := range nodes {
			for _, name := range []string{n.name, "small of " + n.name, "rest of " + n.name, "late of " + n.name} {
				give(name, own[name])
				give(name, made[name])
			}
		}
	}
	// stoodBefore gives the watermark of each step.
	stoodBefore := func() []int64 {
		before := make([]int64, len(nodes))
		for i, n := range nodes {
			before[i] = watermark(n)
		}
		return before
	}
	// take lets one event of a partition go through: its own rows, judged by the watermark that stood before it, then what
	// its moving of the watermark makes.
	take := func(p *refPartition) {
		e := p.events[p.next]
		p.next++
		lost := late(nodes)
		own := map[string][]refRow{}
		if e.row != nil {
			r := *e.row
			if len(j.arrival) > 0 && j.arrival[p.source] {
				r.t = now
			}
			own[fmt.Sprintf("s%d", p.source)] = []refRow{r}
			p.greatest = max(p.greatest, r.t)
		} else {
			sources[p.source].reject(e.reason)
		}
		before := stoodBefore()
		for i, n := range nodes {
			apply(i, own, inputs(n, own), before[i])
		}
		if e.row != nil {
			p.w = max(p.w, p.greatest-j.margins[p.source])
		}
		if p.next == len(p.events) && j.script == nil { // a partition of a script ends behind its last event
			p.w, p.ended = ever, true
		}
		settle()
		move(own, before)
		if late(nodes) > lost {
			sources[p.source].lateEvents++
		}
	}
	settle()
	if j.script == nil {
		for p := nextPart(parts); p != nil; p = nextPart(parts) {
			for range j.turn {
				if take(p); p.ended {
					break
				}
			}
		}
	}
	beat := leastBeat(nodes)
	for _, m := range j.script {
		if m.clock == 0 {
			take(&parts[m.source])
		}
		for left := m.clock; left > 0; { // a beat may fall within
			by := left
			if beat > 0 {
				by = min(by, beat)
			}
			left -= by
			now += by
			move(nil, stoodBefore())
		}
	}
	for i := range parts {
		if p := &parts[i]; !p.ended {
			before := stoodBefore()
			p.w, p.ended = ever, true
			settle()
			move(nil, before)
		}
	}
	counts := map[string]refLate{}
	for i := range sources {
		counts[fmt.Sprintf("s%d", i)] = sources[i]
	}
	for _, n := range nodes {
		if n.step != nil {
			counts[n.name] = *n.step.late()
		}
	}
	return out, counts
}

// late gives how many rows all steps have lost.
func late(nodes []refNode) (n int64) {
	for _, node := range nodes {
		if node.step != nil {
			n += node.step.late().lost
		}
	}
	return n
}

// nextPart gives the partition whose turn is next; nil where all have ended.
func nextPart(parts []refPartition) (p *refPartition) {
	for i := range parts {
		q := &parts[i]
		if !q.ended && (p == nil || q.w < p.w || q.w == p.w && (q.source < p.source || q.source == p.source && q.name < p.name)) {
			p = q
		}
	}
	return p
}

// leastBeat is how often at least some step wants to be asked.
func leastBeat(nodes []refNode) (least int64) {
	for _, n := range nodes {
		if w, ok := n.step.(*refWindows); ok {
			for _, every := range []int64{w.every, w.repeatEvery} {
				if every > 0 && (least == 0 || every < least) {
					least = every
				}
			}
		}
	}
	return least
}

// compareMade orders rows that one event's moving of the watermark made: by window_end.
func compareMade(a, b refRow) int {
	switch {
	case a.t < b.t:
		return -1
	case a.t > b.t:
		return 1
	}
	return 0
}

// order gives the fields by which rows of one time stand that a move of the watermark made.
func (n refNode) order() []string {
	switch n.step.(type) {
	case *refWindows, *refRank:
		return append([]string{"window_start"}, n.key...)
	}
	return n.key
}

// orderMade orders them by event time, then by these fields.
func orderMade(a, b refRow, fields []string) int {
	if c := compareMade(a, b); c != 0 {
		return c
	}
	for _, f := range fields {
		if c := compareValues(a.get(f), b.get(f)); c != 0 {
			return c
		}
	}
	return 0
}

func compareValues(a, b any) int {
	switch {
	case a == nil && b == nil:
		return 0
	case a == nil:
		return -1
	case b == nil:
		return 1
	}
	switch x := a.(type) {
	case int64:
		return compareInts(x, b.(int64))
	case float64:
		return cmp.Compare(x, b.(float64))
	case refTime:
		return compareInts(int64(x), int64(b.(refTime)))
	case refDecimal:
		return x.rat().Cmp(b.(refDecimal).rat())
	}
	return strings.Compare(a.(string), b.(string))
}

func compareInts(a, b int64) int {
	if a < b {
		return -1
	} else if a > b {
		return 1
	}
	return 0
}

// way is how the engine runs a job: none of it may change what comes out.
type way struct {
	lanes, workers int
	every          int  // turns between checkpoints; 0 for none
	kill           int  // the run fails at this checkpoint, and goes on from the one before; 0 for none
	then           int  // lanes after that
	spills         bool // no row of state stays in memory that the store has
	after          bool // it fails once the checkpoint is complete, and nothing of it is delivered yet
	disk           bool // checkpoints are those of a run, on a disk that loses what was not synced
	handOn         int  // bytes between two stages that a lane leaves off at; 0 for those of a run
}

var errKilled = errors.New("killed")

// keeper keeps the checkpoints of a run.
type keeper interface {
	// open gives what the next run starts from, and the store that stands behind it.
	open() (*engine.Snapshot, state.Behind, error)
	save(s *engine.Snapshot) (engine.Saved, error)
}

type inMemory struct{ engine.Memory }

func (k *inMemory) open() (*engine.Snapshot, state.Behind, error) { return k.Last, k.Behind(), nil }
func (k *inMemory) save(s *engine.Snapshot) (engine.Saved, error) { return k.Save(s) }

// onDisk keeps them in a folder of a disk that crashes before each start but the first.
type onDisk struct {
	disk  *vfs.MemFS
	store *checkpoint.Store
}

func (k *onDisk) open() (*engine.Snapshot, state.Behind, error) {
	if k.disk == nil {
		k.disk = vfs.NewCrashableMem()
	} else {
		crashed := k.disk.CrashClone(vfs.CrashCloneCfg{})
		if err := k.store.Close(); err != nil {
			return nil, nil, err
		}
		k.disk = crashed
	}
	var err error
	if k.store, err = checkpoint.Open(k.disk, "checkpoints", checkpoint.Options{Job: "random", Keep: 2}); err != nil {
		return nil, nil, err
	}
	from, _, _, err := k.store.Newest()
	return from, k.store, err
}

func (k *onDisk) save(s *engine.Snapshot) (engine.Saved, error) { return k.store.Save(s) }

// engine runs the job by the engine: rows by sink, and the figures.
func (j *refJob) engine(doc *job.Job, w way) (map[string][]string, engine.Figures, error) {
	keepers := make([]*memory.Sink, len(doc.Sinks))
	for i := range keepers {
		keepers[i] = &memory.Sink{}
	}
	graph := func() *engine.Graph {
		g := &engine.Graph{Steps: doc.Flow(refFinders(doc))}
		for s := range doc.Sources {
			var parts []engine.Partition
			for _, p := range j.parts {
				if p.source == s {
					m := &memory.Partition{Called: p.name, Turn: j.turn, Ends: j.script == nil, Begins: j.seed%2 == 0}
					for _, e := range p.events {
						m.Events = append(m.Events, e.text)
					}
					parts = append(parts, m)
				}
			}
			src := doc.Sources[s].On(parts, j.script == nil)
			src.Ahead = doc.Sources[s].Ahead
			g.Sources = append(g.Sources, src)
		}
		for i, s := range doc.Sinks {
			g.Sinks = append(g.Sinks, engine.SinkNode{Name: s.Name, From: s.From, Schema: s.Schema, Sink: keepers[i]})
		}
		return g
	}
	o := engine.Options{Lanes: w.lanes, Workers: w.workers, EveryTurns: w.every, HandOn: w.handOn}
	if j.script != nil {
		o.Now = func() time.Time { return time.UnixMicro(scriptStart) }
		o.Script = []engine.Scripted{}
		for _, m := range j.script {
			o.Script = append(o.Script, engine.Scripted{Source: m.source, Clock: time.Duration(m.clock) * time.Microsecond})
		}
	}
	var kept keeper = &inMemory{}
	if w.disk {
		disk := &onDisk{}
		defer func() { _ = disk.store.Close() }() // its files are in memory
		kept = disk
	}
	n := 0
	start := func() (g *engine.Graph, res engine.Result, err error) {
		var behind state.Behind
		if o.From, behind, err = kept.open(); err != nil {
			return nil, res, err
		}
		if w.spills || w.disk {
			o.Behind = behind
		}
		if w.spills {
			o.Memory = func() int64 { return int64(w.lanes) }
		}
		g = graph()
		res, err = engine.Run(context.Background(), g, o)
		return g, res, err
	}
	if w.every > 0 {
		o.Save = func(s *engine.Snapshot) (saved engine.Saved, err error) {
			if n++; n != w.kill || w.after {
				saved, err = kept.save(s)
			}
			if n == w.kill && err == nil {
				err = errKilled
			}
			return saved, err
		}
	}
	g, res, err := start()
	if err != nil && errors.Is(err, errKilled) {
		o.Lanes = w.then
		g, res, err = start()
	}
	if err != nil {
		return nil, engine.Figures{}, err
	}
	if bad := engine.Unbalanced(g, res.Figures); len(bad) > 0 {
		return nil, engine.Figures{}, fmt.Errorf("the counts of %v do not add up", bad)
	}
	out := map[string][]string{}
	for i, k := range keepers {
		for line := range bytes.Lines(k.Rows()) {
			out[j.sinks[i]] = append(out[j.sinks[i]], string(bytes.TrimSpace(line)))
		}
	}
	return out, res.Figures, nil
}

// namedTwice says which fields of one part of a job have one name; empty for none.
func namedTwice(doc *job.Job) string {
	for i := range doc.Steps {
		names, _, schemas := doc.Steps[i].Parts()
		for n, s := range schemas {
			seen := map[string]bool{}
			for _, f := range s {
				if seen[f.Name] {
					return fmt.Sprintf("%s has two fields %s", names[n], f.Name)
				}
				seen[f.Name] = true
			}
		}
	}
	return ""
}

// check compares the engine's run of the job with the model's; empty when they agree.
func (j *refJob) check(w way) string {
	doc, err := job.Parse("random.yaml", j.document(""), job.Options{})
	if err != nil {
		return "the document is refused: " + err.Error()
	}
	if twice := namedTwice(doc); twice != "" {
		return twice
	}
	got, figures, err := j.engine(doc, w)
	if err != nil {
		return err.Error()
	}
	want, counts := j.model()
	return j.differs(doc, got, figures, want, counts)
}

// differs says what rows and counts differ from the model's; empty for none.
func (j *refJob) differs(doc *job.Job, got map[string][]string, figures engine.Figures, want map[string][]string, counts map[string]refLate) string {
	for _, s := range j.sinks {
		a, b := slices.Sorted(slices.Values(got[s])), slices.Sorted(slices.Values(want[s]))
		if !slices.Equal(a, b) {
			return fmt.Sprintf("%s gives\n  %s\nwant\n  %s", s, strings.Join(a, "\n  "), strings.Join(b, "\n  "))
		}
	}
	for i, s := range doc.Sources {
		if c := counts[s.Name]; !maps.Equal(c.rejected, figures.Sources[i].Rejected) {
			return fmt.Sprintf("%s rejects %v, want %v", s.Name, figures.Sources[i].Rejected, c.rejected)
		}
		if n := figures.Sources[i].Late; n != counts[s.Name].lateEvents {
			return fmt.Sprintf("%d events of %s were late, want %d", n, s.Name, counts[s.Name].lateEvents)
		}
	}
	for i, s := range doc.Steps {
		c, f := counts[s.Name], figures.Steps[i]
		if s.Split == nil && !maps.Equal(c.rejected, f.Rejected) {
			return fmt.Sprintf("%s rejects %v, want %v", s.Name, f.Rejected, c.rejected)
		}
		if s.Split == nil && (c.used != f.Used || c.lost != f.Lost || c.partial != f.Partial || c.accepted != f.Accepted || c.repeats != f.Repeats || c.dropped != f.Dropped) {
			return fmt.Sprintf("%s counts used %d, lost %d, partial %d, accepted %d, repeats %d, dropped %d; want %d, %d, %d, %d, %d, %d",
				s.Name, f.Used, f.Lost, f.Partial, f.Accepted, f.Repeats, f.Dropped, c.used, c.lost, c.partial, c.accepted, c.repeats, c.dropped)
		}
		if c.looked != f.Lookup {
			return fmt.Sprintf("%s looked up %+v, want %+v", s.Name, f.Lookup, c.looked)
		}
		if len(f.Sides) > 0 && !slices.Equal(f.Sides, c.sides[:]) || f.Pairs != c.pairs {
			return fmt.Sprintf("%s has %d pairs and counts %+v; want %d, %+v", s.Name, f.Pairs, f.Sides, c.pairs, c.sides)
		}
	}
	return ""
}

// shrink takes events away as long as the job still fails, and gives the last fault.
func (j *refJob) shrink(w way, fault string) string {
	until := time.Now().Add(20 * time.Second)
	for size := 16; size > 0; size /= 2 {
		for p := range j.parts {
			for at := 0; at+size <= len(j.parts[p].events) && time.Now().Before(until); {
				whole := j.parts[p].events
				j.parts[p].events = slices.Delete(slices.Clone(whole), at, at+size)
				if f := j.check(w); f != "" {
					fault = f
				} else {
					j.parts[p].events = whole
					at += size
				}
			}
		}
	}
	return fault
}

func (j *refJob) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "seed %d, turns of %d events\n%s", j.seed, j.turn, j.document(""))
	if j.script != nil {
		fmt.Fprintf(&b, "script (source, or time that passes): %v\n", j.script)
	}
	for _, p := range j.parts {
		fmt.Fprintf(&b, "source s%d, partition %s:\n", p.source, p.name)
		for _, e := range p.events {
			fmt.Fprintf(&b, "  %s\n", e.text)
		}
	}
	return b.String()
}

// TestRandomJobs compares random jobs over random streams with the reference model, row by row and count
// by count, each run with random lanes, workers, checkpoints and kills.
func TestRandomJobs(t *testing.T) {
	eachSeed(t, *jobs, func(seed uint64) string {
		r := rand.New(rand.NewPCG(seed, 6))
		w := way{lanes: 1 + r.IntN(4), workers: 1 + r.IntN(3), then: 1 + r.IntN(4)}
		if r.IntN(3) > 0 {
			w.every, w.kill = 1+r.IntN(3), 1+r.IntN(8)
			if w.kill == 1 {
				w.kill = 0
			}
			w.spills, w.after, w.disk = r.IntN(2) == 0, r.IntN(2) == 0, r.IntN(10) == 0
		}
		w.handOn = []int{0, 1, 200}[r.IntN(3)]
		return randomJob(seed).checked(w)
	})
}

// TestRandomScripts is the same where events come one by one between steps of the clock: event times of arrival,
// previews and repeats.
func TestRandomScripts(t *testing.T) {
	eachSeed(t, *jobs/5, func(seed uint64) string {
		w := way{lanes: 1 + int(seed%3), workers: 1 + int(seed%2), handOn: int(seed % 7 % 2)}
		if seed%4 > 1 {
			w.every, w.spills = 1+int(seed%5), true
		}
		return scriptedJob(seed).checked(w)
	})
}

// checked compares a job with the model, and tells of the smallest one found that differs.
func (j *refJob) checked(w way) string {
	fault := j.check(w)
	if fault == "" {
		return ""
	}
	if j.script == nil { // a script says which events come
		fault = j.shrink(w, fault)
	}
	return fmt.Sprintf("%+v\n%s\n%s", w, j, fault)
}

// eachSeed runs one for so many new seeds, by two goroutines, or for the seed that was asked for.
func eachSeed(t *testing.T, count int, one func(seed uint64) string) {
	if *seed != 0 {
		if fault := one(*seed); fault != "" {
			t.Fatal(fault)
		}
		return
	}
	began := uint64(time.Now().UnixNano())
	t.Logf("the seeds begin at %d", began)
	var wait sync.WaitGroup
	var mu sync.Mutex
	next, failed := uint64(0), false
	for range 2 {
		wait.Go(func() {
			for {
				mu.Lock()
				n, stop := next, failed
				next++
				mu.Unlock()
				if stop || n >= uint64(count) {
					return
				}
				if fault := one(began + n); fault != "" {
					mu.Lock()
					failed = true
					t.Error(fault)
					mu.Unlock()
				}
			}
		})
	}
	wait.Wait()
}
