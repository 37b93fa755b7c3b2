package run_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The reference model: docs/time.md row by row, slowly, with nothing of the engine. It knows one
// source of events with the fields s (string), b (int), x (double), t (epoch ms), and a job of a
// filter and a tumbling window.

const (
	minusInfinity = math.MinInt64
	plusInfinity  = math.MaxInt64
	turnSize      = 4096
)

// modelJob is what the model and the document under test have in common.
type modelJob struct {
	where, set  bool
	key         []string
	size, shift int64 // microseconds
	margin      int64
	ahead       int64 // latest event time, microseconds; 0 for none
}

type modelEvent struct {
	s    *string
	b    *int64
	x    *float64
	t    int64
	fail string // the reject's reason
}

// modelDecode reads an event as docs/job-document.md says; reasons in the order in which they count.
func (j *modelJob) decode(line string) modelEvent {
	var fields map[string]json.RawMessage
	if json.Unmarshal([]byte(line), &fields) != nil || fields == nil {
		return modelEvent{fail: "malformed"}
	}
	var e modelEvent
	var wrong bool
	get := func(name string, to any) bool {
		raw, ok := fields[name]
		if !ok || string(raw) == "null" {
			return false
		}
		if json.Unmarshal(raw, to) != nil {
			wrong = true
			return false
		}
		return true
	}
	var s string
	var b, t int64
	var x float64
	if get("s", &s) {
		e.s = &s
	}
	if get("b", &b) {
		e.b = &b
	}
	if get("x", &x) {
		e.x = &x
	}
	hasTime := get("t", &t)
	switch {
	case wrong:
		return modelEvent{fail: "wrong type"}
	case !hasTime:
		return modelEvent{fail: "no event time"}
	}
	e.t = t * 1000
	if j.ahead != 0 && e.t > j.ahead {
		return modelEvent{fail: "too far ahead"}
	}
	return e
}

// modelResult is all that a run gives.
type modelResult struct {
	rows, late []string
	rejects    map[string]int // "place reason" -> count
	dropped    int
}

type modelWindow struct {
	key   string
	start int64
	rows  []modelEvent
	quot  []*int64 // the set field q of each row
}

// run takes the partitions' events in the one order of a bounded run.
func (j *modelJob) run(partitions map[string][]string) modelResult {
	res := modelResult{rejects: map[string]int{}}
	names := make([]string, 0, len(partitions))
	for n := range partitions {
		names = append(names, n)
	}
	slices.Sort(names)
	w, greatest, at := map[string]int64{}, map[string]int64{}, map[string]int{}
	for _, n := range names {
		w[n], greatest[n] = minusInfinity, minusInfinity
		if len(partitions[n]) == 0 {
			w[n] = plusInfinity
		}
	}
	windows := map[string]*modelWindow{}
	var order []string
	for {
		// The next turn goes to the partition with the least W, among equals by name.
		next := ""
		for _, n := range names {
			if at[n] < len(partitions[n]) && (next == "" || w[n] < w[next]) {
				next = n
			}
		}
		if next == "" {
			break
		}
		for range turnSize {
			if at[next] == len(partitions[next]) {
				break
			}
			stood := int64(plusInfinity)
			for _, n := range names {
				stood = min(stood, w[n])
			}
			e := j.decode(partitions[next][at[next]])
			at[next]++
			if e.fail != "" {
				res.rejects["events "+e.fail]++
				continue
			}
			// Judged by the W that stood before it; it moves W whatever becomes of it.
			greatest[next] = max(greatest[next], e.t)
			w[next] = greatest[next] - j.margin
			if id := j.apply(e, stood, windows, &res); id != "" {
				order = append(order, id)
			}
		}
		if at[next] == len(partitions[next]) {
			w[next] = plusInfinity
		}
	}
	for _, id := range order {
		res.rows = append(res.rows, j.publish(windows[id]))
	}
	slices.Sort(res.rows)
	slices.Sort(res.late)
	return res
}

// apply takes one row through filter and window; it gives the id of a window that it began.
func (j *modelJob) apply(e modelEvent, stood int64, windows map[string]*modelWindow, res *modelResult) string {
	if j.where { // x > 0.5 || b == null, three-valued, null is no
		yes := e.x != nil && *e.x > 0.5 || e.b == nil
		if !yes {
			res.dropped++
			return ""
		}
	}
	var q *int64
	if j.set { // q = 100 / b
		if e.b != nil {
			if *e.b == 0 {
				res.rejects["useful expression"]++
				return ""
			}
			v := 100 / *e.b
			q = &v
		}
	}
	var parts []string
	for _, k := range j.key {
		switch {
		case k == "s" && e.s == nil, k == "b" && e.b == nil:
			res.rejects["windows null key"]++
			return ""
		case k == "s":
			parts = append(parts, jsonText(*e.s))
		case k == "b":
			parts = append(parts, jsonText(*e.b))
		}
	}
	key := strings.Join(parts, ",")
	start := floorDiv(e.t-j.shift, j.size)*j.size + j.shift
	if start+j.size <= stood {
		res.late = append(res.late, j.lateRow(e, q, stood-e.t))
		return ""
	}
	id := fmt.Sprintf("%s@%d", key, start)
	began := ""
	if windows[id] == nil {
		windows[id] = &modelWindow{key: key, start: start}
		began = id
	}
	windows[id].rows = append(windows[id].rows, e)
	windows[id].quot = append(windows[id].quot, q)
	return began
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

func jsonText(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(b)
}

func timeText(us int64) string {
	return time.UnixMicro(us).UTC().Format(time.RFC3339Nano)
}

func orNull[T any](p *T) string {
	if p == nil {
		return "null"
	}
	return jsonText(*p)
}

func (j *modelJob) lateRow(e modelEvent, q *int64, by int64) string {
	row := fmt.Sprintf(`{"s":%s,"b":%s,"x":%s,"t":"%s"`, orNull(e.s), orNull(e.b), orNull(e.x), timeText(e.t))
	if j.set {
		row += `,"q":` + orNull(q)
	}
	return row + `,"late_by":"` + strconv.FormatFloat(float64(by)/1e6, 'f', -1, 64) + `s"}`
}

// publish works the measures out from the window's rows, in order.
func (j *modelJob) publish(w *modelWindow) string {
	var sumX float64
	var nX, nB, over int64
	sumB := new(big.Int)
	var least, greatest *float64
	var greatestB *int64
	var firstS *string
	for i := range w.rows {
		e := &w.rows[i]
		if e.x != nil {
			sumX += *e.x
			nX++
			if least == nil || *e.x < *least {
				least = e.x
			}
			if greatest == nil || *e.x > *greatest {
				greatest = e.x
			}
			if *e.x > 2 {
				over++
			}
		}
		if e.b != nil {
			sumB.Add(sumB, big.NewInt(*e.b))
			nB++
			if greatestB == nil || *e.b > *greatestB {
				greatestB = e.b
			}
		}
		if e.s != nil && (firstS == nil || *e.s < *firstS) {
			firstS = e.s
		}
	}
	sx, mx, sb, mb := "null", "null", "null", "null"
	if nX > 0 {
		sx, mx = jsonText(sumX), jsonText(sumX/float64(nX))
	}
	if nB > 0 {
		if sumB.IsInt64() {
			sb = sumB.String()
		}
		f, _ := new(big.Float).SetInt(sumB).Float64()
		mb = jsonText(f / float64(nB))
	}
	each := "null"
	if over != 0 {
		each = jsonText(int64(len(w.rows)) / over)
	}
	var b strings.Builder
	b.WriteString("{")
	if len(j.key) > 0 {
		for i, part := range strings.Split(w.key, ",") {
			fmt.Fprintf(&b, "%q:%s,", j.key[i], part)
		}
	}
	fmt.Fprintf(&b, `"window_start":"%s","window_end":"%s"`, timeText(w.start), timeText(w.start+j.size))
	fmt.Fprintf(&b, `,"n":%d,"over":%d,"sum_x":%s,"mean_x":%s,"sum_b":%s,"mean_b":%s,"least_x":%s,"greatest_x":%s,"greatest_b":%s,"least_s":%s,"share":%s,"each":%s}`,
		len(w.rows), over, sx, mx, sb, mb, orNull(least), orNull(greatest), orNull(greatestB), orNull(firstS), jsonText(float64(over)/float64(len(w.rows))), each)
	return b.String()
}

// document writes the same job for the engine.
func (j *modelJob) document(pattern, dir string) string {
	var b strings.Builder
	ahead := "none"
	if j.ahead != 0 {
		ahead = "1h"
	}
	fmt.Fprintf(&b, `undertide: 1
job: model
settings: {checkpoint: {every: 20ms, keep: 2}}
sources:
  events:
    via: file
    with: {files: %q}
    fields: {s: string, b: int, x: double, t: {type: timestamp, parse: epoch_ms}}
    event_time: t
    watermark: {margin: %dus, ahead: %s}
steps:
  useful:
    from: events
`, pattern, j.margin, ahead)
	switch {
	case j.where && j.set:
		b.WriteString("    where: x > 0.5 || b == null\n    set: {q: 100 / b}\n")
	case j.where:
		b.WriteString("    where: x > 0.5 || b == null\n")
	case j.set:
		b.WriteString("    set: {q: 100 / b}\n")
	default:
		b.WriteString("    where: \"true\"\n")
	}
	fmt.Fprintf(&b, `  windows:
    from: useful
    key: [%s]
    window: {tumbling: %dus, shift: %dus}
    measures:
      n: count()
      over: count_if(x > 2)
      sum_x: sum(x)
      mean_x: mean(x)
      sum_b: sum(b)
      mean_b: mean(b)
      least_x: min(x)
      greatest_x: max(x)
      greatest_b: max(b)
      least_s: min(s)
      share: double(count_if(x > 2.0)) / double(count())
      each: count() / count_if(x > 2)
sinks:
  rows: {from: windows, via: file, with: {path: %q}}
  late: {from: late of windows, via: file, with: {path: %q}}
  bad: {from: rejects of events, via: file, with: {path: %q}}
  bad_useful: {from: rejects of useful, via: file, with: {path: %q}}
  bad_windows: {from: rejects of windows, via: file, with: {path: %q}}
`, strings.Join(j.key, ", "), j.size, j.shift, dir+"/rows.ndjson", dir+"/late.ndjson", dir+"/bad.ndjson", dir+"/bad-useful.ndjson", dir+"/bad-windows.ndjson")
	text := b.String()
	text = strings.Replace(text, "  late: {", "  late_rows: {", 1) // late is no name
	if len(j.key) == 0 {
		text = strings.Replace(text, "    key: []\n", "", 1)
	}
	return text
}
