package run

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"
	"time"
	"undertide/core/step"
)

// The reference model: docs/time.md row by row, slowly, with nothing of the engine. Windows are worked
// out from their rows each time that one is published.

const (
	never = math.MinInt64
	ever  = math.MaxInt64
)

// refRow is a row of the model: fields in order, event time in microseconds.
type refRow struct {
	names  []string
	vals   []any // nil, int64, float64, string, bool, refTime, refSpan
	t      int64
	placed int64 // among all rows, for ties
	side   int   // of a join, by which it comes
}

type (
	refTime    int64
	refSpan    int64
	refDecimal string // with two digits after the point, unless it is a result
)

// plain is how a result and a key are written: without closing zeros.
func (d refDecimal) plain() refDecimal {
	if s := strings.TrimRight(string(d), "0"); strings.Contains(s, ".") {
		return refDecimal(strings.TrimSuffix(s, "."))
	}
	return d
}

func (d refDecimal) rat() *big.Rat {
	r, ok := new(big.Rat).SetString(string(d))
	if !ok {
		panic("no decimal: " + d)
	}
	return r
}

func (r refRow) get(name string) any {
	if i := slices.Index(r.names, name); i >= 0 {
		return r.vals[i]
	}
	return nil
}

// with adds a field; one of that name makes way for it.
func (r refRow) with(name string, v any) refRow {
	if at := slices.Index(r.names, name); at >= 0 {
		r.names, r.vals = slices.Delete(slices.Clone(r.names), at, at+1), slices.Delete(slices.Clone(r.vals), at, at+1)
	}
	r.names, r.vals = append(slices.Clone(r.names), name), append(slices.Clone(r.vals), v)
	return r
}

// keyValue is how a key's value is written.
func keyValue(v any) any {
	if d, ok := v.(refDecimal); ok {
		return d.plain()
	}
	return v
}

func (r refRow) key(names []string) string {
	var parts []string
	for _, n := range names {
		parts = append(parts, refText(r.get(n)))
	}
	return strings.Join(parts, "\x00")
}

func refText(v any) string {
	switch x := v.(type) {
	case refTime:
		return `"` + time.UnixMicro(int64(x)).UTC().Format(time.RFC3339Nano) + `"`
	case refSpan:
		return fmt.Sprintf("%q", strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.6f", float64(x)/1e6), "0"), ".")+"s")
	}
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(b)
}

func (r refRow) String() string {
	parts := make([]string, len(r.names))
	for i, n := range r.names {
		parts[i] = fmt.Sprintf("%q:%s", n, refText(r.vals[i]))
	}
	return "{" + strings.Join(parts, ",") + "}"
}

// refStep is a step of the model. take is given a row and the watermark that stood before it; move lets
// the watermark go on. Both give rows.
type refStep interface {
	take(r refRow, w int64) []refRow
	move(w int64) []refRow
	late() *refLate
}

type refLate struct {
	rows                                            []refRow
	used, lost, partial, accepted, repeats, dropped int64
	lateEvents                                      int64            // of a source: those of which a step lost a row
	rejected                                        map[string]int64 // by reason
	sides                                           [2]step.SideCounts
	pairs                                           int64
	looked                                          step.LookupCounts
}

func (l *refLate) reject(reason string) {
	if l.rejected == nil {
		l.rejected = map[string]int64{}
	}
	l.rejected[reason]++
}

func (l *refLate) late() *refLate { return l }
func (l *refLate) lose(r refRow, w int64) {
	l.lost++
	l.rows = append(l.rows, r.with("late_by", refSpan(w-r.t)))
}

// refMeasure works a measure out of a window's rows, which are in order of place.
type refMeasure struct {
	name, cel string
	needs     []string // fields
	of        func(rows []refRow) any
}

func numbersOf(rows []refRow, f string) (out []float64) {
	for _, r := range rows {
		if v, ok := r.get(f).(float64); ok {
			out = append(out, v)
		}
	}
	return out
}

func intsOf(rows []refRow, f string) (out []int64) {
	for _, r := range rows {
		if v, ok := r.get(f).(int64); ok {
			out = append(out, v)
		}
	}
	return out
}

func decimalsOf(rows []refRow) (out []refDecimal) {
	for _, r := range rows {
		if v, ok := r.get("d").(refDecimal); ok {
			out = append(out, v)
		}
	}
	return out
}

func decimalTotal(l []refDecimal) *big.Rat {
	s := new(big.Rat)
	for _, v := range l {
		s.Add(s, v.rat())
	}
	return s
}

func orNil[T any](list []T, f func([]T) T) any {
	if len(list) == 0 {
		return nil
	}
	return f(list)
}

func total(l []float64) (s float64) {
	for _, v := range l {
		s += v
	}
	return s
}

func bigTotal(l []int64) *big.Int {
	s := new(big.Int)
	for _, v := range l {
		s.Add(s, big.NewInt(v))
	}
	return s
}

// intTotal is a sum of ints: null where it leaves 64 bits, whatever it did on the way, or over none.
func intTotal(l []int64) any {
	if s := bigTotal(l); len(l) > 0 && s.IsInt64() {
		return s.Int64()
	}
	return nil
}

// byTime gives the rows that have a value in order of event time, then of place.
func byTime(rows []refRow, f string) []refRow {
	rows = slices.DeleteFunc(slices.Clone(rows), func(r refRow) bool { return r.get(f) == nil })
	slices.SortStableFunc(rows, func(a, b refRow) int { return cmp.Or(cmp.Compare(a.t, b.t), cmp.Compare(a.placed, b.placed)) })
	return rows
}

// refMeasures are all measures that are exact; x is a multiple of an eighth, so that sums of doubles do
// not depend on their order.
var refMeasures = []refMeasure{
	{"n", "count()", nil, func(r []refRow) any { return int64(len(r)) }},
	{"sum_d", "sum(d)", []string{"d"}, func(r []refRow) any {
		if l := decimalsOf(r); len(l) > 0 {
			return refDecimal(decimalTotal(l).FloatString(2)).plain()
		}
		return nil
	}},
	{"mean_d", "mean(d)", []string{"d"}, func(r []refRow) any { // 18 digits after the point
		if l := decimalsOf(r); len(l) > 0 {
			return refDecimal(new(big.Rat).Quo(decimalTotal(l), big.NewRat(int64(len(l)), 1)).FloatString(18)).plain()
		}
		return nil
	}},
	{"most_d", "max(d)", []string{"d"}, func(r []refRow) any { // passes through as it was given
		l := decimalsOf(r)
		if len(l) == 0 {
			return nil
		}
		return slices.MaxFunc(l, func(a, b refDecimal) int { return a.rat().Cmp(b.rat()) })
	}},
	{"last_d", "last(d)", []string{"d"}, func(r []refRow) any {
		if r = byTime(r, "d"); len(r) > 0 {
			return r[len(r)-1].get("d")
		}
		return nil
	}},
	{"kinds_d", "count_distinct(d)", []string{"d"}, func(r []refRow) any {
		seen := map[refDecimal]bool{}
		for _, v := range decimalsOf(r) {
			seen[v] = true
		}
		return int64(len(seen))
	}},
	{"big", "count_if(x > 1.0)", []string{"x"}, func(r []refRow) any {
		return int64(len(slices.DeleteFunc(numbersOf(r, "x"), func(v float64) bool { return v <= 1 })))
	}},
	{"sum_x", "sum(x)", []string{"x"}, func(r []refRow) any { return orNil(numbersOf(r, "x"), total) }},
	{"sum_b", "sum(b)", []string{"b"}, func(r []refRow) any { return intTotal(intsOf(r, "b")) }},
	{"mean_b", "mean(b)", []string{"b"}, func(r []refRow) any {
		l := intsOf(r, "b")
		if len(l) == 0 {
			return nil
		}
		f, _ := new(big.Float).SetInt(bigTotal(l)).Float64()
		return f / float64(len(l))
	}},
	{"mean_x", "mean(x)", []string{"x"}, func(r []refRow) any {
		return orNil(numbersOf(r, "x"), func(l []float64) float64 { return total(l) / float64(len(l)) })
	}},
	{"min_b", "min(b)", []string{"b"}, func(r []refRow) any { return orNil(intsOf(r, "b"), func(l []int64) int64 { return slices.Min(l) }) }},
	{"max_x", "max(x)", []string{"x"}, func(r []refRow) any {
		return orNil(numbersOf(r, "x"), func(l []float64) float64 { return slices.Max(l) })
	}},
	{"min_x", "min(x)", []string{"x"}, func(r []refRow) any {
		return orNil(numbersOf(r, "x"), func(l []float64) float64 { return slices.Min(l) })
	}},
	{"some_b", "sum(b, x > 1.0)", []string{"x", "b"}, func(r []refRow) any {
		r = slices.DeleteFunc(slices.Clone(r), func(r refRow) bool { x, ok := r.get("x").(float64); return !ok || x <= 1 })
		return intTotal(intsOf(r, "b"))
	}},
	{"first_id", "first(id)", []string{"id"}, func(r []refRow) any { return byTime(r, "id")[0].get("id") }},
	{"last_b", "last(b)", []string{"b"}, func(r []refRow) any {
		if r = byTime(r, "b"); len(r) > 0 {
			return r[len(r)-1].get("b")
		}
		return nil
	}},
	{"kinds", "count_distinct(b)", []string{"b"}, func(r []refRow) any {
		seen := map[int64]bool{}
		for _, v := range intsOf(r, "b") {
			seen[v] = true
		}
		return int64(len(seen))
	}},
	{"ids", "collect(id, 3)", []string{"id"}, func(r []refRow) any {
		out := []any{}
		for _, r := range byTime(r, "id") {
			if len(out) < 3 {
				out = append(out, r.get("id"))
			}
		}
		return out
	}},
	{"top", "largest(b, 2)", []string{"b"}, func(r []refRow) any {
		l := intsOf(r, "b")
		if len(l) == 0 {
			return nil
		}
		slices.SortFunc(l, func(a, b int64) int { return cmp.Compare(b, a) })
		return l[:min(2, len(l))]
	}},
	{"often", "most_common(b, 2)", []string{"b"}, func(r []refRow) any {
		type common struct {
			Value int64 `json:"value"`
			Count int64 `json:"count"`
		}
		counts := map[int64]int64{}
		for _, v := range intsOf(r, "b") {
			counts[v]++
		}
		var l []common
		for v, n := range counts {
			l = append(l, common{v, n})
		}
		if len(l) == 0 {
			return nil
		}
		slices.SortFunc(l, func(a, b common) int {
			return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
		})
		return l[:min(2, len(l))]
	}},
	{"odd", "{fold: {initial: 0, next: 'so_far + (id % 2)', combine: left + right, result: so_far * 10}}", []string{"id"}, func(r []refRow) any {
		n := int64(0)
		for _, r := range r {
			n += r.get("id").(int64) % 2
		}
		return n * 10
	}},
	{"share", "double(count_if(x > 1.0)) / double(count())", []string{"x"}, func(r []refRow) any {
		n := 0
		for _, v := range numbersOf(r, "x") {
			if v > 1 {
				n++
			}
		}
		return float64(n) / float64(len(r))
	}},
	{"each", "count() / count_if(x > 1.0)", []string{"x"}, func(r []refRow) any { // an error over measures is null
		n := len(slices.DeleteFunc(numbersOf(r, "x"), func(v float64) bool { return v <= 1 }))
		if n == 0 {
			return nil
		}
		return int64(len(r) / n)
	}},
}

func init() {
	refMeasures = append(refMeasures,
		refMeasure{"latest", "last(window_start)", []string{"window_start"}, func(r []refRow) any {
			r = byTime(r, "window_start")
			return r[len(r)-1].get("window_start")
		}},
		refMeasure{"starts", "collect(window_start, 4)", []string{"window_start"}, func(r []refRow) any {
			out := []string{}
			for _, r := range byTime(r, "window_start") {
				if len(out) < 4 {
					out = append(out, strings.Trim(refText(r.get("window_start")), `"`))
				}
			}
			return out
		}})
}

// itemsOf is collect of a field of ints, whose order tells that of the rows.
func itemsOf(field string) refMeasure {
	return refMeasure{"items", "collect(" + field + ", 5)", []string{field}, func(r []refRow) any {
		out := []any{}
		for _, r := range byTime(r, field) {
			if len(out) < 5 {
				out = append(out, r.get(field))
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	}}
}

// refWindows is a windowed step.
type refWindows struct {
	refLate
	key      []string
	measures []refMeasure
	// one of these
	size, by, shift int64
	gap, longest    int64
	span            int64
	whole           bool
	forget          int64 // of the whole; 0 for never

	accept int64
	having bool // n != 2
	// previews at most so often, and repeats; 0 for none
	every, repeatEvery, repeatKeep int64
	nextBeat, nextAgain            int64
	begun                          bool
	w                              int64
	open                           []*refWindow
	found                          map[refBounds]*refWindow // aligned windows and the whole; some may be gone
}

// refBounds tells windows apart.
type refBounds struct {
	key        string
	start, end int64
}

// remove takes windows out.
func (s *refWindows) remove(which func(win *refWindow) bool) {
	s.open = slices.DeleteFunc(s.open, func(win *refWindow) bool {
		win.gone = which(win)
		return win.gone
	})
}

type refWindow struct {
	key        string
	start, end int64
	rows       []refRow
	gone       bool // no longer open
	published  bool // the closing row was
	seen       bool // a row of it was published ever
	owed       bool
	changed    bool // rows were added since its last row
	fresh      bool // rows were added since the last beat of previews
	readUnder  int64
	shown      []refShown
}

type refShown struct {
	start, end int64
	next       int64
	standing   bool
}

func (s *refWindows) several() bool { return s.accept > 0 || s.every > 0 || s.repeatEvery > 0 }

func (s *refWindows) take(r refRow, w int64) []refRow {
	key := r.key(s.key)
	switch {
	case s.whole:
		s.used++
		s.drop(w)
		win := s.window(key, never, ever)
		win.rows, win.changed, win.fresh = append(win.rows, r), true, true
	case s.gap > 0:
		s.session(key, r, w)
	case s.span > 0:
		if r.t < w {
			s.lose(r, w)
			return nil
		}
		s.used++
		win := &refWindow{key: key, start: r.t - s.span, end: r.t, rows: []refRow{r}}
		s.open = append(s.open, win)
	default:
		s.aligned(key, r, w)
	}
	return nil
}

func (s *refWindows) window(key string, start, end int64) *refWindow {
	if s.found == nil {
		s.found = map[refBounds]*refWindow{}
	}
	id := refBounds{key, start, end}
	win := s.found[id]
	if win == nil || win.gone {
		win = &refWindow{key: key, start: start, end: end}
		s.found[id], s.open = win, append(s.open, win)
	}
	return win
}

func (s *refWindows) aligned(key string, r refRow, w int64) {
	missed, went, corrected := 0, 0, 0
	first := refFloor(r.t-s.shift-s.size, s.by) + 1
	for n := first; n*s.by+s.shift <= r.t; n++ {
		start := n*s.by + s.shift
		end := start + s.size
		switch {
		case w < end:
			went++
			win := s.window(key, start, end)
			win.rows, win.changed, win.fresh = append(win.rows, r), true, true
		case w < end+s.accept:
			went++
			corrected++
			win := s.window(key, start, end)
			win.rows, win.changed = append(win.rows, r), true
			win.owed, win.readUnder = true, w
		default:
			missed++
		}
	}
	switch {
	case went == 0:
		s.lose(r, w)
		return
	case missed > 0:
		s.partial++
	case corrected > 0:
		s.accepted++
	}
	s.used++
}

func (s *refWindows) session(key string, r refRow, w int64) {
	var over []*refWindow
	for _, win := range s.open {
		if win.key == key && win.start < r.t+s.gap && r.t < win.end && win.end+s.accept > w {
			over = append(over, win)
		}
	}
	slices.SortStableFunc(over, func(a, b *refWindow) int { return cmp.Compare(a.start, b.start) })
	longest := s.longest
	if longest == 0 {
		longest = ever
	}
	var into *refWindow
	joinedOpen := false
	for _, win := range over {
		if into == nil {
			start, end := min(win.start, r.t), max(win.end, r.t+s.gap)
			if end-start <= longest {
				into = win
				joinedOpen = win.end > w
				into.start, into.end = start, end
			}
			continue
		}
		start, end := min(win.start, into.start), max(win.end, into.end)
		if end-start > longest {
			break
		}
		into.start, into.end = start, end
		into.rows = append(into.rows, win.rows...)
		into.shown = append(into.shown, win.shown...)
		into.seen = into.seen || win.seen
		s.remove(func(o *refWindow) bool { return o == win })
	}
	if into == nil && r.t+s.gap+s.accept <= w {
		s.lose(r, w)
		return
	}
	if !joinedOpen && r.t+s.gap <= w {
		s.accepted++
	}
	s.used++
	if into == nil {
		into = &refWindow{key: key, start: r.t, end: r.t + s.gap}
		s.open = append(s.open, into)
	}
	into.rows, into.changed, into.fresh = append(into.rows, r), true, true
	into.published, into.owed, into.readUnder = false, false, never
	if into.end <= w {
		into.owed, into.readUnder = true, w
	}
}

func refFloor(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// move publishes what the watermark has made due.
func (s *refWindows) move(w int64) (out []refRow) {
	if w <= s.w {
		return nil
	}
	before := s.w
	s.w = w
	if s.whole {
		if w < ever {
			s.drop(w)
		} else {
			s.drop(before)
			for _, win := range s.open {
				out = append(out, s.publish(win, true, false)...)
			}
			if s.repeatEvery == 0 {
				s.open, s.found = nil, nil
			}
		}
		return out
	}
	if s.span > 0 {
		return s.lookBack(w)
	}
	slices.SortStableFunc(s.open, func(a, b *refWindow) int { return cmp.Or(cmp.Compare(a.end, b.end), cmp.Compare(a.start, b.start)) })
	for _, win := range s.open {
		switch {
		case win.owed && w > win.readUnder:
			if s.gap > 0 && !win.seen || win.changed { // a repeat may have shown it meanwhile
				out = append(out, s.publish(win, true, false)...)
			}
			win.owed, win.published, win.seen = false, true, true
		case !win.published && !win.owed && win.end <= w:
			if s.gap == 0 || !win.seen || win.changed {
				out = append(out, s.publish(win, true, false)...)
			}
			win.published, win.seen = true, true
		}
	}
	if s.repeatEvery == 0 {
		s.dropKept(w)
	}
	return out
}

// dropKept drops the windows that are kept no longer.
func (s *refWindows) dropKept(w int64) {
	hold := max(s.accept, s.repeatKeep)
	s.remove(func(win *refWindow) bool { return win.published && (w == ever || win.end+hold <= w) })
}

// clock publishes what is due by the clock, once the watermark, which stood at before, has moved.
func (s *refWindows) clock(now, before int64) (out []refRow) {
	if !s.begun {
		s.begun, s.nextBeat, s.nextAgain = true, now+s.every, now+s.repeatEvery
	}
	ended := s.w == ever && before < ever
	if s.whole && !ended {
		s.drop(s.w)
	}
	if s.every > 0 && now >= s.nextBeat && !(s.whole && ended) {
		s.nextBeat = now + s.every
		for _, win := range s.open {
			if win.fresh && win.changed && (s.whole || win.end > s.w) {
				out = append(out, s.publish(win, false, false)...)
			}
			win.fresh = false
		}
	}
	if s.repeatEvery > 0 && (now >= s.nextAgain || ended) {
		s.nextAgain = now + s.repeatEvery
		from := s.w
		if from == ever {
			from = before
		}
		for _, win := range s.open {
			if s.whole || from == never || win.end > from-s.repeatKeep {
				closed := win.end <= s.w
				if s.whole {
					closed = ended
				}
				out = append(out, s.publish(win, closed, true)...)
			}
		}
	}
	s.dropKept(s.w)
	if s.whole && s.w == ever {
		s.open, s.found = nil, nil
	}
	return out
}

// drop forgets the keys of a whole that the watermark has passed.
func (s *refWindows) drop(w int64) {
	s.remove(func(win *refWindow) bool {
		greatest := int64(never)
		for _, r := range win.rows {
			greatest = max(greatest, r.t)
		}
		return s.forget > 0 && greatest+s.forget <= w
	})
}

func (s *refWindows) lookBack(w int64) (out []refRow) {
	slices.SortStableFunc(s.open, func(a, b *refWindow) int { return cmp.Compare(a.end, b.end) })
	for _, win := range s.open {
		if win.published || win.end >= w {
			continue
		}
		all := &refWindow{key: win.key, start: win.start, end: win.end, rows: nil}
		for _, o := range s.open {
			if o.key == win.key && o.end > win.start && o.end <= win.end {
				all.rows = append(all.rows, o.rows...)
			}
		}
		own := win.rows[0]
		all.rows = append([]refRow{own}, slices.DeleteFunc(all.rows, func(r refRow) bool { return r.placed == own.placed })...)
		slices.SortStableFunc(all.rows, func(a, b refRow) int { return cmp.Or(cmp.Compare(a.t, b.t), cmp.Compare(a.placed, b.placed)) })
		if row := s.result(all, own); !s.having || row.get("n") != int64(2) {
			out = append(out, row)
		} else {
			s.dropped++
		}
		win.published = true
	}
	s.remove(func(win *refWindow) bool { return win.published && win.end+s.span < w-1 && w != ever })
	return out
}

// result is the row of a window; of is one of its rows, for the key.
func (s *refWindows) result(win *refWindow, of refRow) refRow {
	r := refRow{t: win.end - 1}
	if s.span > 0 {
		r.t = win.end
	}
	for _, k := range s.key {
		r = r.with(k, keyValue(of.get(k)))
	}
	if !s.whole {
		r = r.with("window_start", refTime(win.start)).with("window_end", refTime(win.end))
	}
	for _, m := range s.measures {
		r = r.with(m.name, m.of(win.rows))
	}
	return r
}

// publish gives a window's next row; what was published under other bounds is withdrawn first. again asks for the
// last one once more where no rows were added since.
func (s *refWindows) publish(win *refWindow, closed, again bool) (out []refRow) {
	row := s.result(win, win.rows[0])
	meets := !s.having || row.get("n") != int64(2)
	if !s.several() {
		if meets {
			out = append(out, row)
		} else {
			s.dropped++
		}
		return out
	}
	flags := func(r refRow, revision int64, withdrawn bool) refRow {
		if withdrawn {
			for i, n := range r.names {
				if slices.ContainsFunc(s.measures, func(m refMeasure) bool { return m.name == n }) {
					r.vals[i] = nil
				}
			}
		}
		return r.with("revision", revision).with("closed", closed).with("withdrawn", withdrawn)
	}
	at := -1
	for i := range win.shown {
		o := &win.shown[i]
		if o.start == win.start && o.end == win.end {
			at = i
		} else if o.standing {
			old := s.result(&refWindow{start: o.start, end: o.end, rows: win.rows}, win.rows[0])
			was := closed
			closed = o.end <= s.w
			out = append(out, flags(old, o.next, true))
			closed = was
			o.next++
			o.standing = false
		}
	}
	if again && at >= 0 && !win.changed {
		if o := &win.shown[at]; o.standing {
			out = append(out, flags(row, o.next-1, false))
		} else if !meets {
			s.dropped++
		}
		return out
	}
	win.changed = false
	if at < 0 {
		if !meets {
			s.dropped++
			return out
		}
		win.shown = append(win.shown, refShown{start: win.start, end: win.end})
		at = len(win.shown) - 1
	}
	o := &win.shown[at]
	switch {
	case meets:
		o.standing = true
		out = append(out, flags(row, o.next, false))
	case o.standing:
		o.standing = false
		out = append(out, flags(row, o.next, true))
	default:
		s.dropped++
		return out
	}
	o.next++
	return out
}

// refFilter is a filter, and set: {SET: id / 2} where it has a name, or {SET: 100 / b} where it divides.
type refFilter struct {
	refLate
	keep    func(refRow) bool
	set     string
	divides bool
}

// refSome is x > 0.5 || b == null.
func refSome(r refRow) bool {
	x, ok := r.get("x").(float64)
	return ok && x > 0.5 || r.get("b") == nil
}

func (s *refFilter) move(int64) []refRow { return nil }
func (s *refFilter) take(r refRow, _ int64) []refRow {
	if !s.keep(r) {
		s.dropped++
		return nil
	}
	switch b, is := r.get("b").(int64); {
	case s.divides && is && b == 0:
		s.reject("expression")
		return nil
	case s.divides && is:
		r = r.with(s.set, 100/b)
	case s.divides:
		r = r.with(s.set, nil)
	case s.set != "":
		var half any
		if id, ok := r.get("id").(int64); ok {
			half = id / 2
		}
		r = r.with(s.set, half)
	}
	s.used++
	return []refRow{r}
}

// refExpand is expand: {ITEM: LIST}.
type refExpand struct {
	refLate
	list, item string
}

func (s *refExpand) move(int64) []refRow { return nil }
func (s *refExpand) take(r refRow, _ int64) (out []refRow) {
	s.used++
	list, _ := r.get(s.list).([]any)
	for _, v := range list {
		out = append(out, r.with(s.item, v))
	}
	return out
}

// refDedup is deduplicate by key within a time.
type refDedup struct {
	refLate
	key    []string
	within int64
	passed map[string][]int64
}

func (s *refDedup) move(int64) []refRow { return nil }
func (s *refDedup) take(r refRow, w int64) []refRow {
	if r.t+s.within <= w {
		s.lose(r, w)
		return nil
	}
	key := r.key(s.key)
	for _, p := range s.passed[key] {
		if d := p - r.t; max(d, -d) < s.within && w < p+s.within {
			s.repeats++
			return nil
		}
	}
	s.used++
	s.passed[key] = append(s.passed[key], r.t)
	return []refRow{r}
}

// refAbsent gives a row when a key has had none for so long.
type refAbsent struct {
	refLate
	key   []string
	after int64
	last  map[string]refRow
}

func (s *refAbsent) take(r refRow, w int64) []refRow {
	if r.t+s.after <= w {
		s.lose(r, w)
		return nil
	}
	s.used++
	key := r.key(s.key)
	if o, ok := s.last[key]; !ok || o.t < r.t {
		s.last[key] = r
	}
	return nil
}

func (s *refAbsent) move(w int64) (out []refRow) {
	for key, r := range s.last {
		if w == ever || r.t+s.after <= w {
			row := refRow{t: r.t + s.after}
			for _, k := range s.key {
				row = row.with(k, keyValue(r.get(k)))
			}
			out = append(out, row.with("last_seen", refTime(r.t)))
			delete(s.last, key)
		}
	}
	return out
}

// refRemember is remember {before: {initial: -1, next: OF}, seen: {initial: 0, next: seen + 1}}, where
// seen % 4 != 3, set {SET: before}.
type refRemember struct {
	refLate
	key     []string
	of, set string
	forget  int64
	arrival bool
	wait    []refRow
	state   map[string]*refMemory
}

type refMemory struct {
	before     any
	seen, last int64
}

func (s *refRemember) take(r refRow, w int64) []refRow {
	if !s.arrival {
		if r.t < w {
			s.lose(r, w)
			return nil
		}
		s.wait = append(s.wait, r)
		return nil
	}
	if m := s.state[r.key(s.key)]; m != nil && m.last+s.forget <= w {
		delete(s.state, r.key(s.key))
	}
	return s.apply(r)
}

func (s *refRemember) apply(r refRow) []refRow {
	key := r.key(s.key)
	m := s.state[key]
	if m == nil || r.t-m.last >= s.forget {
		m = &refMemory{before: int64(-1), last: r.t}
		s.state[key] = m
	}
	before, seen := m.before, m.seen
	m.before, m.seen, m.last = r.get(s.of), seen+1, max(m.last, r.t)
	if seen%4 == 3 {
		s.dropped++
		return nil
	}
	s.used++
	return []refRow{r.with(s.set, before)}
}

func (s *refRemember) move(w int64) (out []refRow) {
	slices.SortStableFunc(s.wait, func(a, b refRow) int { return cmp.Compare(a.t, b.t) })
	n := 0
	for ; n < len(s.wait) && s.wait[n].t < w; n++ {
		out = append(out, s.apply(s.wait[n])...)
	}
	s.wait = s.wait[n:]
	for key, m := range s.state {
		if w == ever || m.last+s.forget <= w {
			delete(s.state, key)
		}
	}
	return out
}

// refRank keeps the first of each window: those with the greatest value, nulls last, then by place.
type refRank struct {
	refLate
	by   string
	keep int
	wait []refRow
}

func (s *refRank) take(r refRow, _ int64) []refRow {
	s.used++
	s.wait = append(s.wait, r)
	return nil
}

func (s *refRank) move(w int64) (out []refRow) {
	slices.SortStableFunc(s.wait, func(a, b refRow) int {
		// null comes first among values, and so last among the greatest
		return cmp.Or(cmp.Compare(a.t, b.t), cmp.Compare(a.get("window_start").(refTime), b.get("window_start").(refTime)), compareValues(b.get(s.by), a.get(s.by)))
	})
	n, kept := 0, 0
	for ; n < len(s.wait) && s.wait[n].t < w; n++ {
		if n == 0 || s.wait[n].t != s.wait[n-1].t || s.wait[n].get("window_start") != s.wait[n-1].get("window_start") {
			kept = 0
		}
		if kept++; kept <= s.keep {
			out = append(out, s.wait[n])
		}
	}
	s.wait = s.wait[n:]
	return out
}
