package try

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/job"
	"undertide/pace"
	"undertide/run"
)

// rehearsed writes lines into a file and rehearses a document over it.
func rehearsed(t *testing.T, document string, lines []string) Rehearsal {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, "in.ndjson")
	if err := os.WriteFile(path, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), document, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	r, err := Rehearse(context.Background(), j, RehearseOptions{Rows: 10_000})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "out")); !os.IsNotExist(err) {
		t.Errorf("something was delivered: %v", err)
	}
	return r
}

const rehearsal = `undertide: 1
job: lifts
sources:
  lifts:
    via: file
    with: {path: in.ndjson}
    fields:
      crane: string
      tonnes: double
      at: {type: timestamp, parse: epoch_ms}
    event_time: at
    watermark: {margin: 5s}
steps:
  useful:
    from: lifts
    where: "tonnes > 0.5 && crane != ''"
  minute:
    from: useful
    key: [crane]
    window: {tumbling: 1m}
    measures: {lifts: count()}
  sorted:
    from: useful
    split: {heavy: tonnes > 20.0, middling: tonnes > 10.0}
sinks:
  out: {from: minute, via: file, with: {path: out/rows.ndjson}}
`

func lifts(n int, line func(i int, at int64) string) []string {
	begin := time.Now().Add(-time.Hour).UnixMilli()
	out := make([]string, n)
	for i := range out {
		out[i] = line(i, begin+int64(i)*1000)
	}
	return out
}

// TestRehearse: counts and rows of every step, five kept and five dropped with the condition that
// failed, parts and their overlap; and that it is fast.
func TestRehearse(t *testing.T) {
	r := rehearsed(t, rehearsal, lifts(1000, func(i int, at int64) string {
		switch {
		case i%10 == 3:
			return fmt.Sprintf(`{"crane":"C1","tonnes":0.1,"at":%d}`, at)
		case i%10 == 5:
			return fmt.Sprintf(`{"crane":"","tonnes":3,"at":%d}`, at)
		case i == 7:
			return "not JSON"
		}
		return fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d}`, i%4, i%30, at)
	}))
	if s := r.Sources[0]; s.Events != 1000 || s.Rejected["malformed"] != 1 || s.From == nil {
		t.Errorf("source: %+v", s)
	}
	useful := r.Steps[0]
	// Of 999 rows 200 are dropped for what was made up above, and those of 0.5 t: i%30 is 0, 34 times.
	if useful.In != 999 || useful.Out+useful.Dropped != useful.In || useful.Dropped != 234 {
		t.Errorf("useful: %d in, %d out, %d dropped; want 999 in and 234 dropped", useful.In, useful.Out, useful.Dropped)
	}
	kept, why := 0, map[string]int{}
	for _, e := range useful.Examples {
		if e.Kept {
			kept++
		} else {
			why[e.Why]++
		}
	}
	if kept != 5 || why["tonnes > 0.5 is false"]+why["crane != '' is false"] != 5 || why["crane != '' is false"] == 0 {
		t.Errorf("examples: %d kept, dropped for %v; want five of each, with the condition that failed", kept, why)
	}
	if m := r.Steps[1]; m.In != useful.Out || m.Out == 0 || m.Parts[0].Count != m.Out || int64(len(m.Parts[0].Rows)) != min(50, m.Out) {
		t.Errorf("minute: %d in, %d out, part %d with %d rows", m.In, m.Out, m.Parts[0].Count, len(m.Parts[0].Rows))
	}
	sorted := r.Steps[2]
	parts := map[string]int64{}
	for _, p := range sorted.Parts {
		parts[p.Name] = p.Count
	}
	if sorted.Overlap != parts["heavy of sorted"] || parts["rest of sorted"]+parts["middling of sorted"] != sorted.In || sorted.Overlap == 0 {
		t.Errorf("parts %v of %d rows, overlap %d: all heavy rows are middling too", parts, sorted.In, sorted.Overlap)
	}
	if r.Sinks[0].Count != r.Steps[1].Out {
		t.Errorf("the sink would take %d rows of %d", r.Sinks[0].Count, r.Steps[1].Out)
	}
	if r.Seconds > float64(pace.Of(1, 10)) {
		t.Errorf("it took %.2f s for 1,000 rows", r.Seconds)
	}
}

// TestRehearseWarns: each mistake is said, with its place and what to do; a sound document is not
// warned about.
func TestRehearseWarns(t *testing.T) {
	row := func(i int, at int64) string {
		return fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d}`, i%4, 1+i%9, at)
	}
	for _, c := range []struct {
		name, old, new string
		line           func(i int, at int64) string
		at, text, fix  string
	}{
		{"sound", "", "", row, "", "", ""},
		{"another topic", "", "", func(i int, at int64) string {
			return fmt.Sprintf(`{"gauge":"G%d","level_m":1.5,"read_at":%d}`, i%4, at)
		}, "lifts", "This is another stream than the document describes", "peek --infer"},
		{"a field mistyped", "tonnes: double", "tonnes: {type: double, at: tones}", row, "lifts", "no event has the field tones", "did you mean tonnes?"},
		{"null keys", "tonnes > 0.5 && crane != ''", "tonnes > 0.5", func(i int, at int64) string {
			if i%2 == 0 {
				return fmt.Sprintf(`{"tonnes":2.5,"at":%d}`, at)
			}
			return row(i, at)
		}, "minute", "have no key (crane is null) and become rejects", "null_key: keep"},
		{"all filtered", "tonnes > 0.5 &&", "tonnes > 500.0 &&", row, "useful", "drops all 300 rows: tonnes > 500.0 is false", "condition"},
		{"in the future", "watermark: {margin: 5s}", "watermark: {margin: 5s, ahead: none}", func(i int, at int64) string {
			if i == 9 {
				at += 2 * 3600_000
			}
			return row(i, at)
		}, "lifts", "1 events lie in the future", "clock"},
		{"one key with most", "", "", func(i int, at int64) string { return row(i*min(1, i%7), at) }, "", "", ""},
		{"one key has nearly all", "", "", func(i int, at int64) string {
			if i%10 > 0 {
				return fmt.Sprintf(`{"crane":"C3","tonnes":2.5,"at":%d}`, at)
			}
			return row(i, at)
		}, "minute", "C3 has 90 % of all rows", "finer key"},
		{"one key alone", "", "", func(i int, at int64) string { return fmt.Sprintf(`{"crane":"C3","tonnes":2.5,"at":%d}`, at) }, "minute", "all rows of the sample have one key: C3", "field you mean"},
		{"windows longer than the sample", "tumbling: 1m", "tumbling: 1h", row, "minute", "less than a window of 1h", "--limit"},
		{"seconds taken for milliseconds", "", "", func(i int, at int64) string { return row(i, at/1000) }, "lifts", "the unit of the event time is mistaken", "parse: epoch_s"},
		{"milliseconds taken for seconds", "parse: epoch_ms", "parse: epoch_s", row, "lifts", "become rejects", "unit of parse"},
		{"microseconds taken for milliseconds", "", "", func(i int, at int64) string { return row(i, at*1000) }, "lifts", "is outside the years 1 to 9999", "unit of parse"},
		{"a time declared as a number", "tonnes: double", "tonnes: double\n      sent: int", func(i int, at int64) string {
			return fmt.Sprintf(`{"crane":"C%d","tonnes":2.5,"sent":%d,"at":%d}`, i%4, at, at)
		}, "lifts", "sent is an int, and its values are times in epoch ms", "sent: {type: timestamp, parse: epoch_ms}"},
		{"decimals mangled", "", "", func(i int, at int64) string {
			return fmt.Sprintf(`{"crane":"C%d","tonnes":1.2345678901234567%d,"at":%d}`, i%4, i%10, at)
		}, "lifts", "holds numbers that a double does not keep exactly", "declare tonnes: decimal"},
		{"a margin by feeling", "", "", func(i int, at int64) string {
			if i%20 == 11 {
				at -= 9000
			}
			return row(i, at)
		}, "lifts", "come later than the margin of 5s", "10s would leave fewer"},
		{"a slow clock", "", "", func(i int, at int64) string {
			if i%4 == 1 {
				at -= 40_000
			}
			return row(i, at)
		}, "lifts", "C1 comes 39 s behind as a rule", "clock"},
		{"raw lines", "", "", func(i int, at int64) string { return fmt.Sprint("lift ", i) }, "lifts", "300 of 300 events become rejects (malformed)", "does the document describe this topic?"},
		{"several parts", "", "", func(i int, at int64) string {
			return fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d}`, i%4, 5+i%30, at)
		}, "sorted", "meet more than one condition", "first_only"},
	} {
		t.Run(c.name, func(t *testing.T) {
			document := rehearsal
			if c.old != "" {
				if document = strings.Replace(rehearsal, c.old, c.new, 1); document == rehearsal {
					t.Fatalf("the document has no %q", c.old)
				}
			}
			r := rehearsed(t, document, lifts(300, c.line))
			for _, w := range r.Warnings {
				if w.At == c.at && strings.Contains(w.Text, c.text) && strings.Contains(w.Fix, c.fix) && c.at != "" {
					return
				}
			}
			if c.at != "" || len(r.Warnings) > 0 {
				t.Errorf("warnings %+v, want %s: %s; %s", r.Warnings, c.at, c.text, c.fix)
			}
		})
	}
}

// TestConjuncts: conditions are taken apart where && joins them, and nowhere else.
func TestConjuncts(t *testing.T) {
	for text, want := range map[string]string{
		"a > 1 && b":                   "a > 1|b",
		"a && (b && c) && d":           "a|(b && c)|d",
		"s == ' && ' && t":             "s == ' && '|t",
		`s == "\" && " && t`:           `s == "\" && "|t`,
		"a && b || c":                  "a && b || c",
		"a ? b && c : d":               "a ? b && c : d",
		"x in [a && b] && m['&&'] > 1": "x in [a && b]|m['&&'] > 1",
	} {
		if got := strings.Join(conjuncts(text), "|"); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestPlay: each moment has its event time, watermarks, lateness and rows; windows open and close at
// theirs; and the example that comes of it is as expected.
func TestPlay(t *testing.T) {
	document := strings.Replace(rehearsal, "    measures: {lifts: count()}\n", "    measures: {lifts: count()}\n    late: {accept: 1m}\n", 1)
	document = strings.Replace(document, "path: out/rows.ndjson}}", "path: out/rows.ndjson}, append_revisions: true}", 1)
	j, err := job.Parse("play.yaml", document, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	event := func(crane string, second int) Given {
		return Given{Event: json.RawMessage(fmt.Sprintf(`{"crane":%q,"tonnes":2.5,"at":%d}`, crane, second*1000))}
	}
	given := []Given{event("C1", 10), event("C1", 50), event("C1", 70), event("C1", 58), {Event: json.RawMessage(`"not JSON"`)}, {Clock: "10s"}, event("C2", 90)}
	p, err := Play(context.Background(), j, given, false)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Moments) != len(given)+1 {
		t.Fatalf("%d moments for %d events", len(p.Moments), len(given))
	}
	at := func(s *string) string {
		if s == nil {
			return "none"
		}
		return strings.TrimSuffix(strings.TrimPrefix(*s, "1970-01-01T00:"), "Z")
	}
	for i, want := range []string{
		"00:10 none -> 00:05 late false, minute 0", "00:50 00:05 -> 00:45 late false, minute 0", "01:10 00:45 -> 01:05 late false, minute 1", "00:58 01:05 -> 01:05 late true, minute 0",
		"none 01:05 -> 01:05 late false, minute 0", "none none -> none late false, minute 0", "01:30 01:05 -> 01:25 late false, minute 1", "none none -> none late false, minute 2",
	} {
		m := p.Moments[i]
		n := 0
		for _, r := range m.Rows {
			if r.Part == "minute" {
				n++
			}
		}
		if got := fmt.Sprintf("%s %s -> %s late %v, minute %d", at(m.Time), at(m.Before), at(m.After), m.Late, n); got != want {
			t.Errorf("moment %d: %s, want %s", i, got, want)
		}
	}
	if m := p.Moments[4]; !strings.HasPrefix(m.Reject, "malformed: ") {
		t.Errorf("the reject: %q", m.Reject)
	}
	var bands []string
	for _, w := range p.Windows {
		bands = append(bands, fmt.Sprintf("%s %s-%s opened %d closed %d rows %d", w.Key, at(&w.Start), at(&w.End), w.Opened, w.Closed, len(w.Rows)))
	}
	if got, want := strings.Join(bands, "; "), "C1 00:00-01:00 opened 0 closed 2 rows 2; C1 01:00-02:00 opened 2 closed 7 rows 1; C2 01:00-02:00 opened 6 closed 7 rows 1"; got != want {
		t.Errorf("windows %s\nwant    %s", got, want)
	}
	var into []string
	for _, m := range p.Moments {
		into = append(into, fmt.Sprint(m.Windows))
	}
	if got, want := strings.Join(into, " "), "[0] [0] [1] [0] [] [] [2] []"; got != want {
		t.Errorf("events went into windows %s, want %s", got, want)
	}
	lines := strings.Split(strings.TrimRight(p.Example, "\n"), "\n")
	again, err := job.Parse("play.yaml", document+"examples:\n  "+strings.Join(lines, "\n  ")+"\n", job.Options{})
	if err != nil {
		t.Fatalf("%v\n%s", err, p.Example)
	}
	results, err := Examples(context.Background(), again)
	if err != nil || len(results) != 1 {
		t.Fatal(results, err)
	}
	for _, d := range results[0].Differences {
		if !strings.HasPrefix(d, "note: ") {
			t.Errorf("the example is not as it was played: %s\n%s", d, p.Example)
		}
	}

	p, err = Play(context.Background(), j, given, true)
	if err != nil {
		t.Fatal(err)
	}
	if m := p.Moments[3]; m.Late || at(m.Time) != "01:10" {
		t.Errorf("by arrival the late event is at %s, late %v; want 01:10, not late", at(m.Time), m.Late)
	}
	for _, w := range p.Windows {
		if w.Key == "C1" && len(w.Rows) != 1 {
			t.Errorf("by arrival there are no corrections: %+v", w)
		}
	}
	for _, c := range []struct {
		given Given
		want  string
	}{
		{Given{Event: json.RawMessage(`{"crone":"C1"}`)}, "did you mean crane?"},
		{Given{Event: json.RawMessage(`17`)}, "not a JSON object"},
		{Given{Clock: "soon"}, "is not a duration"},
		{Given{Source: "lift", Event: json.RawMessage(`{}`)}, "did you mean lifts?"},
	} {
		if _, err := Play(context.Background(), j, []Given{c.given}, false); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q", c.given, err, c.want)
		}
	}
	if _, err := Play(context.Background(), j, make([]Given, MostPlayed+1), false); err == nil {
		t.Error("too many events are played")
	}
}

// TestImplausible: a run says when event times are those of a mistaken unit, or lie far ahead.
func TestImplausible(t *testing.T) {
	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	g := &engine.Graph{Sources: []engine.Source{{Name: "lifts", EventTime: &expr.Program{}}}}
	for at, want := range map[time.Time]string{
		time.Date(1970, 1, 21, 0, 0, 0, 0, time.UTC): "the unit of the event time is mistaken",
		time.Date(2027, 6, 1, 0, 0, 0, 0, time.UTC):  "lies in the future",
		now: "",
	} {
		f := engine.Figures{Partitions: []engine.PartitionFigures{{Source: "lifts", Greatest: row.TimeOf(at)}, {Source: "lifts", Greatest: row.MinTime}}}
		if got := strings.Join(run.Implausible(g, f, now), " "); !strings.Contains(got, want) || (want == "") != (got == "") {
			t.Errorf("%s: %q, want %q", at, got, want)
		}
	}
}
