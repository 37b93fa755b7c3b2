package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"undertide/api"
)

// cause gives the first cause that a job's figures name; empty for none.
func (s *serving) cause(job string) api.Cause {
	j := s.job(job)
	if j.Live == nil || len(j.Live.Causes) == 0 {
		return api.Cause{}
	}
	return j.Live.Causes[0]
}

// told waits until a job's first cause is of a kind, at a part, and says something; the sentence in list and page of the job says it too.
func (s *serving) told(job string, most time.Duration, kind, at, text string) {
	s.t.Helper()
	var got api.Cause
	for until := time.Now().Add(most); ; time.Sleep(100 * time.Millisecond) {
		if got = s.cause(job); got.Kind == kind && got.At == at && strings.Contains(got.Text, text) {
			break
		}
		if time.Now().After(until) {
			s.t.Fatalf("not within %s: %s of %s, %q; it says %+v: %s", most, kind, at, text, got, s.job(job).Sentence)
		}
	}
	if o := s.must("show", job); !strings.Contains(strings.ToLower(o.out), strings.ToLower(text)) {
		s.t.Errorf("show says\n%s\nwithout %q", o.out, text)
	}
}

// TestSlowSinkNamed: of four steps that read one source, and four sinks, one sink is slow. It is named, with the others that
// it holds up, in the API, the terminal and the console; once it takes rows again, nothing is.
func TestSlowSinkNamed(t *testing.T) {
	t.Parallel()
	var slow atomic.Bool
	slow.Store(true)
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for n := 0; slow.Load() && n < 20; n++ {
			time.Sleep(10 * time.Millisecond)
		}
	}))
	t.Cleanup(receiver.Close)
	dir := open(t)
	write(t, dir, "four.yaml", fmt.Sprintf(`undertide: 1
job: four
settings: {checkpoint: {every: 2s}, delivery: at_least_once, lanes: 2}
connections:
  board: {via: http, url: "%s"}
sources:
  lifts:
    via: simulate
    with: {rate: 20000/s, fields: {crane: {pick: [C1, C2, C3, C4]}, mass: {between: [1, 99]}, at: {now: true}}}
    fields: {crane: string, mass: double, at: timestamp}
    event_time: at
    watermark: {margin: 1s}
steps:
  heavy: {from: lifts, where: mass > 50.0}
  minute: {from: lifts, key: [crane], window: {tumbling: 5s}, measures: {n: count()}}
  half: {from: lifts, key: [crane], window: {sliding: 10s, by: 5s}, measures: {m: mean(mass)}}
  light: {from: lifts, where: mass < 10.0}
sinks:
  a: {from: heavy, via: file, with: {path: %[2]s/a/}}
  b: {from: minute, via: file, with: {path: %[2]s/b/}}
  c: {from: half, via: file, with: {path: %[2]s/c/}}
  slow: {from: light, via: http, with: {connection: board, path: /notices, type: application/json}}
`, receiver.URL, dir))
	s := serve(t, dir)
	s.must("save", "four.yaml")
	s.must("start", "four")
	s.told("four", 40*time.Second, "sink", "sink slow", "sink slow holds up the run, with sinks a, b, c")
	var f api.Figures
	_, text, _ := s.get("/api/v1/runs/1/figures")
	if err := json.Unmarshal([]byte(text), &f); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a", "b", "c"} {
		if f.Rates.Sinks[name].HeldUp > 0.1 {
			t.Errorf("sink %s is said to hold up others %.0f %% of the time", name, 100*f.Rates.Sinks[name].HeldUp)
		}
	}
	if f.Rates.Sources["lifts"].Blocked < 0.5 || f.Rates.Steps["light"].Blocked < 0.5 || f.Rates.Steps["heavy"].Blocked > 0.1 {
		t.Errorf("blocked: the source %.2f, light %.2f, heavy %.2f", f.Rates.Sources["lifts"].Blocked, f.Rates.Steps["light"].Blocked, f.Rates.Steps["heavy"].Blocked)
	}
	if f.Live.CatchUp != nil {
		t.Errorf("it is said to have caught up in %v s", *f.Live.CatchUp)
	}
	p := browse(t, s.address+"/jobs/four")
	p.shows("Sink slow holds up the run")
	p.shows("holds up others")
	slow.Store(false)
	eventually(t, 60*time.Second, "nothing holds it up", func() bool { return s.cause("four").Kind == "" && s.job("four").Live.InPerSecond > 0 })
}

// TestPartitionNamed: a partition of which nothing comes is named, with until when it is waited for; then all of them are silent; a filter
// that lets nothing through and rows without a key are named too, with what they are about.
func TestPartitionNamed(t *testing.T) {
	t.Parallel()
	dir := open(t)
	write(t, dir, "lifts-a.ndjson", "")
	write(t, dir, "lifts-b.ndjson", `{"crane":"C9","mass":1,"at":0}`+"\n")
	write(t, dir, "moves.yaml", fmt.Sprintf(`undertide: 1
job: moves
settings: {checkpoint: {every: 1s}}
sources:
  lifts:
    via: file
    with: {files: %[1]s/lifts-*.ndjson, follow: true}
    fields: {crane: string, mass: double, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none, idle: 20s}
steps:
  heavy: {from: lifts, where: mass > 90.0}
  minute: {from: lifts, key: [crane], window: {tumbling: 10s}, measures: {n: count()}}
sinks:
  out: {from: minute, via: file, with: {path: %[1]s/out/}}
  heavies: {from: heavy, via: file, with: {path: %[1]s/heavies/}}
`, dir))
	s := serve(t, dir)
	s.must("save", "moves.yaml")
	s.must("start", "moves")
	stop := make(chan struct{})
	fed := make(chan struct{})
	go func() {
		defer close(fed)
		for n := 1; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
			crane := `"C1"`
			if n%3 == 0 {
				crane = "null"
			}
			if err := appendTo(filepath.Join(dir, "lifts-a.ndjson"), fmt.Sprintf(`{"crane":%s,"mass":4,"at":%d}`+"\n", crane, n*1000)); err != nil {
				t.Error(err)
			}
		}
	}()
	silent := "partition " + dir + "/lifts-b.ndjson of lifts"
	s.told("moves", 30*time.Second, "partition", silent, silent+" has had no event since ")
	if c := s.cause("moves"); !strings.Contains(c.Text, " and is waited for until ") || c.Since.IsZero() {
		t.Errorf("it says %+v", c)
	}
	s.told("moves", 40*time.Second, "null_keys", "step minute", "of the rows of step minute have no crane and are rejected (null key)")
	eventually(t, 20*time.Second, "the filter is named too", func() bool {
		for _, c := range s.job("moves").Live.Causes {
			if c.Kind == "drops_all" && c.At == "step heavy" && strings.Contains(c.Text, "(where mass > 90.0), such as {") {
				return true
			}
		}
		return false
	})
	close(stop)
	<-fed
	eventually(t, 40*time.Second, "all are silent", func() bool { return strings.Contains(s.job("moves").Sentence, "othing has come from lifts since ") })
}

// TestSkewNamed: 5,000 rows are in one lane and none in another, and the key is named.
func TestSkewNamed(t *testing.T) {
	t.Parallel()
	dir := open(t)
	var text strings.Builder
	for n := range 5000 {
		fmt.Fprintf(&text, `{"crane":"C1","at":%d}`+"\n", n)
	}
	write(t, dir, "lifts.ndjson", text.String())
	write(t, dir, "uneven.yaml", fmt.Sprintf(`undertide: 1
job: uneven
settings: {checkpoint: {every: 500ms}, lanes: 2}
sources:
  lifts:
    via: file
    with: {path: %[1]s/lifts.ndjson, follow: true}
    fields: {crane: string, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {n: count()}}
sinks:
  out: {from: minute, via: file, with: {path: %[1]s/out/}}
`, dir))
	s := serve(t, dir)
	s.must("save", "uneven.yaml")
	s.must("start", "uneven")
	s.told("uneven", 20*time.Second, "skew", "step minute", "of step minute has had 5,000 of its 5,000 rows, most for ")
	if c := s.cause("uneven"); !strings.Contains(c.Text, "C1") || c.Grave {
		t.Errorf("it says %+v", c)
	}
}

// alarmsOf gives the alarms that are on, of a job, by name.
func (s *serving) alarmsOn(job string) map[string]api.Alarm {
	s.t.Helper()
	var list []api.Alarm
	if err := json.Unmarshal([]byte(s.must("alarms", job, "--format", "json").out), &list); err != nil {
		s.t.Fatal(err)
	}
	out := map[string]api.Alarm{}
	for _, a := range list {
		out[a.Name] = a
	}
	return out
}

// loads is a job that counts made-up lifts, second by second, with more of a document.
func loads(dir, more string) string {
	return fmt.Sprintf(`undertide: 1
job: loads
sources:
  lifts:
    via: simulate
    with: {rate: 200/s, fields: {crane: {pick: [C1, C2]}, at: {now: true}}}
    fields: {crane: string, at: timestamp}
    event_time: at
    watermark: {margin: 100ms}
steps:
  second: {from: lifts, key: [crane], window: {tumbling: 1s}, measures: {n: count()}}
sinks:
  loads: {from: second, via: file, with: {path: %s/loads/}}
`, dir) + more
}

// TestCrashesTold: a run that fails again and again says with what, how often and since when; alarms for it come on within a stated
// time, and stay over a restart of the service; who has seen one is noted by hand; with a start that works they are off.
func TestCrashesTold(t *testing.T) {
	t.Parallel()
	dir := open(t)
	write(t, dir, "loads.yaml", loads(dir, `settings: {checkpoint: {every: 200ms}, restart: {tries: 3, within: 10m}}
alarms:
  busy: {when: "steps.second.in_per_second > 50", for: 2s, about: many lifts}
`))
	s := serve(t, dir)
	s.must("save", "loads.yaml")
	s.must("start", "loads")
	eventually(t, 15*time.Second, "the document's own alarm is on", func() bool {
		return strings.Contains(s.alarmsOn("loads")["busy"].Text, "many lifts (steps.second.in_per_second is ")
	})
	if _, text, _ := s.get("/metrics"); !strings.Contains(text, `undertide_alarm_on{alarm="busy",job="loads"} 1`) {
		t.Error("/metrics does not tell of it")
	}
	folder := filepath.Join(dir, "loads")
	if err := os.Rename(folder, folder+"-away"); err != nil { // it may hold rows that wait for their delivery
		t.Fatal(err)
	}
	write(t, dir, "loads", "a file stands where the folder was")
	eventually(t, 30*time.Second, "the sentence says that it failed again", func() bool {
		return strings.HasPrefix(s.job("loads").Sentence, "Resuming. Sink loads: ") && strings.Contains(s.job("loads").Sentence, " times in ")
	})
	eventually(t, 30*time.Second, "it is given up", func() bool { return s.job("loads").Status == "failed" })
	eventually(t, 5*time.Second, "alarms say so", func() bool { return s.alarmsOn("loads")["failed"].ID > 0 })
	if j := s.job("loads"); !strings.HasPrefix(j.Sentence, "Failed at ") || !strings.Contains(j.Sentence, "the run has failed 4 times within 10m") || !strings.Contains(j.Sentence, "It had been started again 3 times.") {
		t.Errorf("it says: %s", j.Sentence)
	}
	all := s.must("alarms", "loads", "--all").out
	for _, want := range []string{"restarts", "busy", "failed", "three times in ten minutes (restarts_lately is 3)"} {
		if !strings.Contains(all, want) {
			t.Errorf("alarms --all lacks %s:\n%s", want, all)
		}
	}
	s.end(t, syscall.SIGKILL)
	s = serve(t, dir)
	a := s.alarmsOn("loads")["failed"]
	if a.ID == 0 || a.SeenAt != nil {
		t.Fatalf("after a restart of the service: %+v", a)
	}
	p := browse(t, s.address+"/alarms")
	p.shows("the run has failed and is not started again")
	p.press("Say that alarm failed of loads was seen")
	p.fill("Seen by", "Ada")
	p.press("I have seen it")
	eventually(t, 10*time.Second, "somebody has seen it", func() bool { return s.alarmsOn("loads")["failed"].SeenBy == "Ada" })
	p.press("Change cpu")
	p.fill("For", "5m")
	p.press("Save")
	eventually(t, 10*time.Second, "the condition is changed", func() bool { return strings.Contains(s.must("alarms", "--rules").out, "cpu              changed") })
	if err := errors.Join(os.Remove(folder), os.Rename(folder+"-away", folder)); err != nil {
		t.Fatal(err)
	}
	s.must("start", "loads")
	eventually(t, 20*time.Second, "it is off", func() bool { return s.alarmsOn("loads")["failed"].ID == 0 && s.job("loads").Status == "running" })
}

// TestFiguresOverTime: figures go on over a kill of the service, with a point where the run was not up, thinned as they age; they
// are given as a table, JSON and CSV; the console draws them, and a stretch is chosen by dragging.
func TestFiguresOverTime(t *testing.T) {
	t.Parallel()
	dir := open(t)
	write(t, dir, "loads.yaml", loads(dir, `settings: {checkpoint: {every: 500ms}}
`))
	s := serve(t, dir)
	s.must("save", "loads.yaml")
	s.must("start", "loads")
	time.Sleep(25 * time.Second)
	s.end(t, syscall.SIGKILL)
	s = serve(t, dir)
	s.waitStatus("loads", "running")
	past := func(args ...string) (p api.PastFigures) {
		t.Helper()
		o := s.must(append([]string{"figures", "loads", "--format", "json"}, args...)...)
		if err := json.Unmarshal([]byte(o.out), &p); err != nil {
			t.Fatalf("%v: %s", err, o.out)
		}
		return p
	}
	eventually(t, 20*time.Second, "it has read after the kill", func() bool {
		p := past("--name", "in_per_second", "--since", "5s")
		return len(p.At) > 0 && p.Lines[0].Means[len(p.At)-1] != nil && *p.Lines[0].Means[len(p.At)-1] > 100
	})
	p := past("--name", "in_per_second", "--name", "up", "--since", "2m")
	if p.Step != 1 || len(p.At) < 20 || len(p.Lines) != 2 || p.Lines[0].Unit != "events/s" {
		t.Fatalf("%d points of %v s: %+v", len(p.At), p.Step, p.Lines)
	}
	down, flowing := 0, 0
	for i := range p.At {
		if i > 0 && p.At[i]-p.At[i-1] < 1000 {
			t.Errorf("two points in the second of %d", p.At[i])
		}
		switch up := p.Lines[1].Means[i]; {
		case up == nil:
			t.Errorf("nobody knows whether it was up at %d", p.At[i])
		case *up == 0:
			down++
		case p.Lines[0].Means[i] != nil && *p.Lines[0].Means[i] > 100:
			flowing++
		}
	}
	if down == 0 || flowing < 10 {
		t.Errorf("%d points where it was not up, %d where it read", down, flowing)
	}
	kinds := map[string]bool{}
	for _, m := range p.Marks {
		kinds[m.Kind] = true
	}
	if !kinds["started"] || !kinds["resuming"] || !kinds["saved"] {
		t.Errorf("what happened meanwhile: %v", kinds)
	}
	if tens := past("--name", "steps.*.in_per_second", "--since", "20m"); tens.Step != 10 || len(tens.At) < 2 || len(tens.Lines) != 1 || tens.Lines[0].Name != "steps.second.in_per_second" {
		t.Errorf("points of ten seconds: %+v", tens)
	}
	if o := s.must("figures", "loads", "--since", "2m", "--step", "30s"); !strings.Contains(o.out, "watermark age") || !strings.Contains(o.out, "resuming") {
		t.Errorf("the table:\n%s", o.out)
	}
	if o := s.must("figures", "loads", "--since", "2m", "--name", "up", "--format", "csv"); !strings.HasPrefix(o.out, "at,up,up.greatest\n") || strings.Count(o.out, "\n") < 20 {
		t.Errorf("CSV:\n%s", o.out)
	}
	if o := s.must("figures", "loads", "--names"); !strings.Contains(o.out, "sinks.loads.held_up_ratio") {
		t.Errorf("names:\n%s", o.out)
	}
	s.run("figures", "loads", "--name", "lag_event").want(t, 1, "did you mean lag_events?")
	s.run("figures", "loads", "--step", "soon").want(t, 2, "--step soon")

	page := browse(t, s.address+"/jobs/loads")
	page.shows("Rows in and out")
	page.shows("Failed checkpoints")
	for _, takes := range []time.Duration{200 * time.Millisecond, 5 * time.Second} { // charts have new points every two seconds
		dragged := func() bool { // a hand tries again where the page moved the chart away under it
			page.drag("a chart", "document.querySelector('section[aria-label=Figures] .chart canvas')", 130, 0, takes)
			for until := time.Now().Add(5 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
				if strings.Contains(page.text(), "Back from ") {
					return true
				}
			}
			return false
		}
		if !dragged() && !dragged() {
			page.shows("Back from ")
		}
		page.press("15 min")
		eventually(t, 10*time.Second, "the whole is shown again", func() bool { return !strings.Contains(page.text(), "Back from ") })
	}
}

// TestNoticesTold: a notice tells once that an alarm is on and once that it is off, also what it could not while its receiver was away and
// the service was killed; it is tried by a button, and says why it does not arrive.
func TestNoticesTold(t *testing.T) {
	t.Parallel()
	var away atomic.Bool
	var mu sync.Mutex
	var got []string
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		if err != nil || away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		mu.Lock()
		defer mu.Unlock()
		got = append(got, string(text))
	}))
	t.Cleanup(receiver.Close)
	told := func(part string) (n int) {
		mu.Lock()
		defer mu.Unlock()
		for _, g := range got {
			if strings.Contains(g, part) {
				n++
			}
		}
		return n
	}
	dir := open(t)
	write(t, dir, "undertide.yaml", fmt.Sprintf("connections:\n  board: {via: http, url: %q}\n", receiver.URL))
	write(t, dir, "duty.yaml", "via: http\nwith:\n  connection: board\n  path: /notices\n  type: application/json\n  template: '{{\"text\": \"{alarm} of {job} is {state}: {about}\"}}'\n")
	write(t, dir, "wrong.yaml", "via: http\nwith: {connection: bord}\n")
	write(t, dir, "loads.yaml", loads(dir, `alarms:
  busy: {when: "in_per_second > 50", for: 1s, about: many lifts, notify: duty}
`))
	s := serve(t, dir)
	s.run("notices", "duty", "--put", "wrong.yaml").want(t, 1, "there is no connection bord; ")
	s.must("notices", "duty", "--put", "duty.yaml")
	s.must("notices", "duty", "--try")
	if told("trial of no-job is on") != 1 {
		t.Errorf("the trial did not arrive: %v", got)
	}
	away.Store(true)
	s.must("save", "loads.yaml")
	s.must("start", "loads")
	eventually(t, 30*time.Second, "the notice says why it does not arrive", func() bool {
		o := s.must("notices").out
		return strings.Contains(o, "503") && strings.Contains(o, "alarms that name it")
	})
	s.run("notices", "duty", "--try").want(t, 1, "notice duty was not taken")
	s.end(t, syscall.SIGKILL)
	away.Store(false)
	s = serve(t, dir)
	eventually(t, 30*time.Second, "what was to be told is", func() bool { return told("busy of loads is on: many lifts (in_per_second is ") == 1 })
	s.waitStatus("loads", "running")
	s.must("stop", "loads")
	eventually(t, 20*time.Second, "that it is off is told", func() bool { return told("busy of loads is off: the run has ended") == 1 })
	p := browse(t, s.address+"/alarms")
	p.shows("alarms that name it")
	p.press("Try duty")
	p.shows("Notice duty was taken.")
	time.Sleep(time.Second)
	if told("busy of loads is on") != 1 || told("is off") != 1 {
		t.Errorf("told more than once: %v", got)
	}
}

// TestResultsStay: rows to look at are there over a stop, a kill of the service, and another version; a condition chooses some; they are
// given as a table, JSON, CSV and Parquet.
func TestResultsStay(t *testing.T) {
	t.Parallel()
	dir := open(t)
	write(t, dir, "in.ndjson", `{"gauge":"G1","level_m":1.5,"at":0}
{"gauge":"G2","level_m":2.5,"at":1000}
{"gauge":"G1","level_m":3.5,"at":61000}
{"gauge":"G3","level_m":9,"at":300000}
`)
	doc := func(about string) string {
		return fmt.Sprintf(`undertide: 1
job: levels
about: %s
sources:
  levels:
    via: file
    with: {path: %[2]s/in.ndjson, follow: true}
    fields: {gauge: string, level_m: double, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {mean_m: mean(level_m)}}
sinks:
  means: {from: minute, via: file, with: {path: %[2]s/means/}}
`, about, dir)
	}
	write(t, dir, "levels.yaml", doc("levels"))
	s := serve(t, dir)
	s.must("save", "levels.yaml")
	s.must("rows", "levels", "minute").want(t, 0, "no rows are kept that fit")
	s.must("start", "levels")
	have := func(n int) func() bool {
		return func() bool {
			return strings.Count(s.must("rows", "levels", "minute", "--format", "json").out, "\n") == n
		}
	}
	eventually(t, 20*time.Second, "three windows are closed", have(3))
	s.must("stop", "levels")
	eventually(t, 20*time.Second, "they stay over a stop", have(3))
	s.end(t, syscall.SIGINT)
	s = serve(t, dir)
	if !have(3)() {
		t.Errorf("over a restart of the service: %s", s.must("rows", "levels", "minute").out)
	}
	write(t, dir, "levels.yaml", doc("levels again"))
	s.must("save", "levels.yaml")
	s.must("start", "levels")
	s.waitStatus("levels", "running")
	if err := appendTo(filepath.Join(dir, "in.ndjson"), `{"gauge":"G3","level_m":1,"at":900000}`+"\n"); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, "another version's rows stand behind those of before", have(4))
	if o := s.must("rows", "levels", "minute", "--where", "mean_m > 2.0 && gauge != 'G3'", "--format", "json"); strings.Count(o.out, "\n") != 2 || !strings.Contains(o.out, `"G2"`) {
		t.Errorf("where gives\n%s", o.out)
	}
	if o := s.must("rows", "levels", "minute", "--until", "1h"); o.out != "" {
		t.Errorf("rows of an hour ago:\n%s", o.out)
	}
	if o := s.must("rows", "levels", "minute", "--format", "csv"); !strings.HasPrefix(o.out, "gauge,window_start,window_end,mean_m\n") { // lanes publish side by side
		t.Errorf("CSV:\n%s", o.out)
	} else {
		sameLines(t, "gauge,window_start,window_end,mean_m\nG1,1970-01-01T00:00:00Z,1970-01-01T00:01:00Z,1.5\nG2,1970-01-01T00:00:00Z,1970-01-01T00:01:00Z,2.5\n"+
			"G1,1970-01-01T00:01:00Z,1970-01-01T00:02:00Z,3.5\nG3,1970-01-01T00:05:00Z,1970-01-01T00:06:00Z,9\n", o.out)
	}
	if o := s.must("rows", "levels", "minute", "--format", "parquet"); !strings.HasPrefix(o.out, "PAR1") || !strings.HasSuffix(o.out, "PAR1") {
		t.Errorf("no Parquet: %q", o.out)
	}
	if code, text, header := s.get("/api/v1/jobs/levels/steps/minute/rows?where=mean_m%20%3E%208.0", "Accept", "application/x-ndjson"); code != 200 || strings.Count(text, "\n") != 1 || !strings.Contains(text, `"G3"`) || header.Get("Content-Type") != "application/x-ndjson" {
		t.Errorf("over HTTP: %d %v %s", code, header, text)
	}
	s.run("rows", "levels", "minute", "--where", "mean_ > 8").want(t, 1, "did you mean mean_m?")
	s.run("rows", "levels", "minut").want(t, 1, "did you mean minute?")
}

// TestFrozenBroker: a broker that has frozen neither answers nor ends connections. The job says so within a stated time, names the source and the
// sink that wait for it as one cause, and no alarm claims that it does well; once the broker goes on the sentence does, and nothing is lost.
func TestFrozenBroker(t *testing.T) {
	t.Parallel()
	dir := open(t)
	b, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", topicJob(broker, dir)+"alarms:\n  stands: {when: watermark_age_seconds > 0 && in_per_second == 0.0, for: 5s, about: nothing comes in}\n"))
	s.must("start", "means")
	kcat(t, batch(0), "-b", broker, "-t", "levels", "-P", "-K", "|")
	eventually(t, 20*time.Second, "the first readings are read", func() bool { return strings.Contains(s.must("show", "means").out, " 200 ") })
	if err := b.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	goOn := func() { _ = b.cmd.Process.Signal(syscall.SIGCONT) } // it may have ended
	t.Cleanup(goOn)
	s.told("means", 60*time.Second, "unreachable", "source levels", "harbour")
	eventually(t, 30*time.Second, "its alarm is on", func() bool { return s.alarmsOn("means")["stands"].ID > 0 })
	j := s.job("means")
	if strings.Contains(j.Sentence, "caught up") || !strings.Contains(j.Sentence, "harbour") {
		t.Errorf("while the broker is frozen it says: %s", j.Sentence)
	}
	if code, text := s.ready(); code != http.StatusServiceUnavailable || !strings.Contains(text, "harbour") {
		t.Errorf("/readyz gives %d: %s", code, text)
	}
	p := browse(t, s.address+"/jobs/means")
	p.shows("harbour")
	p.shows("waits: no answer")
	goOn()
	eventually(t, 60*time.Second, "it goes on", func() bool {
		c := s.cause("means")
		return c.Kind != "unreachable" && s.job("means").Status == "running"
	})
	kcat(t, batch(200), "-b", broker, "-t", "levels", "-P", "-K", "|")
	eventually(t, 30*time.Second, "all readings are read, once", func() bool { return strings.Contains(s.must("show", "means").out, " 400 ") })
}

// TestPipeReadSlowly: a run without a service says by name which sink holds it up, a pipe that is read slowly, while four steps read one source;
// once the pipe is read faster the run comes to its end, and nothing is missing.
func TestPipeReadSlowly(t *testing.T) {
	t.Parallel()
	dir := open(t)
	pipe := filepath.Join(dir, "light")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	doc := write(t, dir, "four.yaml", fmt.Sprintf(`undertide: 1
job: four
settings: {delivery: at_least_once, lanes: 2}
sources:
  lifts:
    via: simulate
    with: {rate: 100000/s, count: 1500000, fields: {n: {id: true}, crane: {pick: [C1, C2, C3, C4]}, mass: {between: [1, 100]}, at: {now: true}}}
    fields: {n: string, crane: string, mass: int, at: timestamp}
    event_time: at
    watermark: {margin: 1s}
steps:
  heavy: {from: lifts, where: mass > 50}
  second: {from: lifts, key: [crane], window: {tumbling: 1s}, measures: {n: count()}}
  half: {from: lifts, key: [crane], window: {sliding: 2s, by: 1s}, measures: {m: mean(mass)}}
  light: {from: lifts, where: mass <= 50}
sinks:
  a: {from: heavy, via: file, with: {path: %[1]s/a.ndjson}}
  b: {from: second, via: file, with: {path: %[1]s/b.ndjson}}
  c: {from: half, via: file, with: {path: %[1]s/c.ndjson}}
  light: {from: light, via: file, with: {path: light}}
`, dir))
	p := launch(t, dir, "run", doc)
	out, err := os.Open(pipe)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = out.Close() }) // it is read to its end
	var fast atomic.Bool
	lines := make(chan int)
	go func() {
		n, some := 0, make([]byte, 4096)
		for {
			m, err := out.Read(some)
			n += bytes.Count(some[:m], []byte("\n"))
			if err != nil {
				lines <- n
				return
			}
			if !fast.Load() {
				time.Sleep(50 * time.Millisecond)
			}
		}
	}()
	p.says(t, `events, watermark \S+; (sink light holds up the run, with sinks a, b, c)`)
	fast.Store(true)
	select {
	case <-p.done:
		p.done <- nil
	case <-time.After(60 * time.Second):
		t.Fatal("the run does not end")
	}
	n := <-lines
	if want := p.says(t, `sink light: ([\d,]+) rows to \S+/light`); strings.ReplaceAll(want, ",", "") != fmt.Sprint(n) || n < 700_000 {
		t.Errorf("%d rows came through the pipe, and the run says %s", n, want)
	}
	p.says(t, `sink light: (at least once: rows appear as they are made)`)
}
