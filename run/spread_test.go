package run

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/cespare/xxhash/v2"

	"undertide/broker"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/job"
)

// spreadRuns carries out all portions of a spread job, each with a folder of its own within dir, and gives what their sinks wrote, sorted by sink. breaks stops each run now and
// then, and goes on with it from its checkpoint.
func spreadRuns(t *testing.T, whole *job.Job, dir string, breaks bool) (map[string][]string, map[string]Result) {
	t.Helper()
	parts, err := whole.Parts()
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	var mu sync.Mutex // guards results
	results := map[string]Result{}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for part := range parts.Number {
		for n := range whole.Spread.Portions {
			at := job.Portion{Part: part, Number: n, Generation: 1}
			j, err := whole.Portion(whole.Name+"."+at.Name(), at)
			if err != nil {
				t.Fatal(err)
			}
			own := filepath.Join(dir, at.Name())
			opt := Options{Checkpoints: filepath.Join(own, "checkpoints"), Out: map[string]string{}, EveryTurns: 3}
			for i := range j.Sinks {
				if j.Sinks[i].Via == "file" {
					opt.Out[j.Sinks[i].Name] = filepath.Join(own, j.Sinks[i].Name+".ndjson")
				}
			}
			if err := os.MkdirAll(own, 0o755); err != nil {
				t.Fatal(err)
			}
			all.Go(func() {
				for try := 0; ; try++ {
					res, err := runFor(ctx, j, opt, breaks && try < 3, n+part)
					if err != nil && ctx.Err() == nil {
						t.Errorf("portion %s: %v", at.Name(), err)
						cancel()
						return
					}
					if ctx.Err() != nil {
						t.Errorf("portion %s does not come to its end", at.Name())
						return
					}
					if res.Finished {
						mu.Lock()
						results[at.Name()] = res
						mu.Unlock()
						return
					}
				}
			})
		}
	}
	all.Wait()
	out := map[string][]string{}
	for i := range whole.Sinks {
		name := whole.Sinks[i].Name
		out[name] = []string{}
		files, err := filepath.Glob(filepath.Join(dir, "*", name+".ndjson"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			out[name] = append(out[name], readLines(t, f)...)
		}
		slices.Sort(out[name])
	}
	return out, results
}

// runFor runs a portion to its end, or for a moment.
func runFor(ctx context.Context, j *job.Job, opt Options, short bool, n int) (Result, error) {
	if short {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, time.Duration(100+40*n)*time.Millisecond)
		defer stop()
	}
	opt.Watch = engine.NewWatch()
	res, err := Run(ctx, j, opt)
	if short && ctx.Err() != nil {
		err = nil
	}
	return res, err
}

// atBroker is the beginning of a document whose rows cross by a broker stand-in, which ends with the test.
func atBroker(t *testing.T) string {
	t.Helper()
	b, err := broker.Start(broker.Options{Listen: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return "connections: {harbour: {via: kafka, brokers: [" + b.Addr + "]}}\n"
}

const spreadWindow = `undertide: 1
job: rates
%ssettings: {spread: %d}
sources:
  levels:
    via: file
    with: {files: %s/levels-*.ndjson}
    fields: {gauge: string, level: int, at: timestamp}
    event_time: at
    watermark: {margin: %s}
steps:
  high: {from: levels, where: level > 100}
  minute:
    from: high
    key: [gauge]
    window: {tumbling: 1m}
    measures: {n: count(), sum: sum(level), least: min(level)}
  ranked:
    from: minute
    key: [gauge]
    window: {tumbling: 10m}
    measures: {windows: count(), most: max(n)}
  alike:
    from: minute
    key: [n]
    window: {tumbling: 10m}
    measures: {gauges: count(), most: max(sum)}
sinks:
  out: {from: minute, via: file, with: {path: %s/out.ndjson}}
  tardy: {from: late of minute, via: file, with: {path: %s/tardy.ndjson}}
  tens: {from: ranked, via: file, with: {path: %s/tens.ndjson}}
  same: {from: alike, via: file, with: {path: %[3]s/same.ndjson}}
`

// TestSpread: what the portions of a job write is together what one run of it writes, also where each of them is stopped now and then.
func TestSpread(t *testing.T) {
	dir := t.TempDir()
	const files, rows = 8, 5000
	for f := range files {
		var text strings.Builder
		for i := range rows {
			at := i * 40
			if i%7 == 0 {
				at -= 1500 // milliseconds: within the margin
			}
			fmt.Fprintf(&text, `{"gauge":"G%02d","level":%d,"at":"%s"}`+"\n", (i*7+f)%23, (i*37)%400, time.UnixMilli(1_772_323_200_000+int64(at)).UTC().Format("2006-01-02T15:04:05.000Z"))
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("levels-%d.ndjson", f)), []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	document := func(connections string) string {
		return fmt.Sprintf(spreadWindow, connections, 3, dir, "2s", dir, dir, dir)
	}
	one, err := job.Parse("rates.yaml", document(atBroker(t)), job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if res, err := Run(t.Context(), one, Options{}); err != nil || !res.Finished {
		t.Fatal(res.Finished, err)
	}
	for _, breaks := range []bool{false, true} {
		whole, err := job.Parse("rates.yaml", document(atBroker(t)), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		got, results := spreadRuns(t, whole, t.TempDir(), breaks)
		for _, sink := range []string{"out", "tardy", "tens", "same"} {
			want := readLines(t, filepath.Join(dir, sink+".ndjson"))
			if !slices.Equal(got[sink], want) {
				t.Errorf("breaks %v: sink %s has %d rows, and of one run %d", breaks, sink, len(got[sink]), len(want))
			}
			if sink != "tardy" && len(want) < 10 {
				t.Errorf("only %d rows of %s", len(want), sink)
			}
		}
		for name, res := range results {
			if len(res.Unbalanced) > 0 {
				t.Errorf("portion %s: counts of %v do not add up", name, res.Unbalanced)
			}
		}
	}
}

// TestSpreadLate: of one partition each row is judged by the very watermark by which one run judges it, so that the same rows are late, by the same time.
func TestSpreadLate(t *testing.T) {
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(8, 8))
	var text strings.Builder
	for i := range 20000 {
		at := i*40 - r.IntN(1+r.IntN(120_000))
		fmt.Fprintf(&text, `{"gauge":"G%02d","level":%d,"at":"%s"}`+"\n", r.IntN(40), r.IntN(400), time.UnixMilli(1_772_323_200_000+int64(at)).UTC().Format("2006-01-02T15:04:05.000Z"))
	}
	if err := os.WriteFile(filepath.Join(dir, ofLast(dir, "levels", 4)), []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	document := fmt.Sprintf(spreadWindow, atBroker(t), 4, dir, "1s", dir, dir, dir)
	one, err := job.Parse("rates.yaml", document, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	res, err := Run(t.Context(), one, Options{})
	if err != nil || !res.Finished {
		t.Fatal(res.Finished, err)
	}
	got, results := spreadRuns(t, one, t.TempDir(), false)
	for _, sink := range []string{"out", "tardy", "tens"} {
		want := readLines(t, filepath.Join(dir, sink+".ndjson"))
		if !slices.Equal(got[sink], want) {
			t.Errorf("sink %s has %d rows, and of one run %d", sink, len(got[sink]), len(want))
		}
		if len(want) < 50 {
			t.Errorf("only %d rows of %s", len(want), sink)
		}
	}
	late := int64(0)
	for _, r := range results {
		for i := range r.Graph.Steps {
			if r.Graph.Steps[i].Name == "minute" {
				late += r.Figures.Steps[i].Lost
			}
		}
	}
	if want := res.Figures.Steps[1].Lost; late != want || want == 0 {
		t.Errorf("%d rows are late in all portions, and %d in one run", late, want)
	}
}

// ofLast names a file in dir so that the last of so many portions reads it: the others, which have nothing, end before its first row is judged.
func ofLast(dir, prefix string, portions int) string {
	for n := 0; ; n++ {
		name := fmt.Sprintf("%s-%d.ndjson", prefix, n)
		if int(xxhash.Sum64String(filepath.Join(dir, name))%uint64(portions)) == portions-1 {
			return name
		}
	}
}

// comparable is a random job whose portions give the rows of one run.
type comparable struct {
	seed        uint64
	single      bool // its source has one partition
	in          string
	connections string
	text        string // of one run
}

// ordered are what goes by the order in which rows come.
var ordered = regexp.MustCompile(`deduplicate|remember|collect|first|last|rank|as_of|accept|revised|repeat|longest`)

// comparableJob makes one of j, and writes its events: with a single partition, which is the last portion's, or with several and no late row; nil where it goes by the order in which
// rows of several come.
func comparableJob(t *testing.T, seed uint64, j *refJob, connections string) *comparable {
	t.Helper()
	c := &comparable{seed: seed, single: seed%2 == 0, connections: connections}
	if c.single && (len(j.margins) > 1 || j.keep >= 0) {
		return nil
	}
	if c.single {
		j.parts = j.parts[:1]
	} else {
		for i := range j.margins {
			j.margins[i] = (1000 * time.Hour).Microseconds()
		}
	}
	c.in = j.write(t, rand.New(rand.NewPCG(seed, 9)))
	if c.single {
		if err := os.Rename(filepath.Join(c.in, "s0-"+j.parts[0].name+".ndjson"), filepath.Join(c.in, ofLast(c.in, "s0", 12))); err != nil {
			t.Fatal(err)
		}
	}
	if c.text = j.document(c.in); !c.single && ordered.MatchString(c.text) || c.letsGo(t) {
		return nil
	}
	return c
}

// letsGo says whether a step lets keys go with time that stands behind one with state, which may give its rows out by the watermark: that goes on in larger steps in a portion
// (docs/spread.md, "What is equal").
func (c *comparable) letsGo(t *testing.T) bool {
	t.Helper()
	j, err := job.Parse("random.yaml", c.text, job.Options{})
	if err != nil {
		t.Fatalf("seed %d: %v\n%s", c.seed, err, c.text)
	}
	behind := make([]bool, len(j.Steps)) // a step with state
	for i := range j.Steps {
		s := &j.Steps[i]
		for _, in := range s.From {
			behind[i] = behind[i] || in.OfStep && (behind[in.At] || j.Steps[in.At].Keyed != nil)
		}
		line := regexp.MustCompile(`(?m)^  ` + s.Name + `: .*(absent|forget): `)
		if behind[i] && line.MatchString(c.text) {
			return true
		}
	}
	return false
}

// version gives the job of so many portions, of which 12 is a multiple; nil where there is nothing to spread by.
func (c *comparable) version(t *testing.T, portions int) *job.Job {
	t.Helper()
	j, err := job.Parse("random.yaml", strings.Replace(strings.Replace(c.text, "settings: {", c.connections+fmt.Sprintf("settings: {spread: %d, ", portions), 1), "job: random", fmt.Sprintf("job: random-%d", c.seed), 1), job.Options{})
	if err != nil && strings.Contains(err.Error(), "nothing to spread by") {
		return nil
	}
	if err != nil {
		t.Fatalf("seed %d: %v\n%s", c.seed, err, c.text)
	}
	return j
}

// one carries it out by one run.
func (c *comparable) one(t *testing.T) {
	t.Helper()
	one, err := job.Parse("random.yaml", c.text, job.Options{})
	if err != nil {
		t.Fatalf("seed %d: %v", c.seed, err)
	}
	if res, err := Run(t.Context(), one, Options{}); err != nil || !res.Finished {
		t.Fatalf("seed %d: finished %v, %v", c.seed, res.Finished, err)
	}
}

// TestSpreadRandom: random jobs give the same rows carried out by portions: of one partition all of them, late ones too, where rows cross once; of several, whose rows come in
// another order, those that do not go by it, without late rows.
func TestSpreadRandom(t *testing.T) {
	connections := atBroker(t)
	parts := map[int]int{} // jobs by their number of parts
	for seed := uint64(500); seed < 500+uint64(12**rounds); seed++ {
		j := longJob(seed)
		if seed%3 == 0 {
			j = wideJob(seed)
		}
		c := comparableJob(t, seed, j, connections)
		if c == nil {
			continue
		}
		whole := c.version(t, 3)
		if whole == nil {
			continue
		}
		p, err := whole.Parts()
		if err != nil {
			t.Fatal(err)
		}
		if c.single && p.Number > 2 {
			continue
		}
		parts[p.Number]++
		c.one(t)
		got, results := spreadRuns(t, whole, t.TempDir(), seed%4 < 2)
		for i := range j.sinks {
			name, want := fmt.Sprintf("out%d", i), readLines(t, j.outFile(c.in, i))
			if !slices.Equal(got[name], want) {
				t.Errorf("seed %d: sink %s has %d rows, and of one run %d\n%s", seed, name, len(got[name]), len(want), different(got[name], want))
			}
		}
		for name, res := range results {
			if len(res.Unbalanced) > 0 {
				t.Errorf("seed %d, portion %s: counts of %v do not add up", seed, name, res.Unbalanced)
			}
		}
		if t.Failed() {
			t.Fatal(c.text)
		}
	}
	if parts[2] == 0 || *rounds >= 20 && parts[3] == 0 {
		t.Errorf("jobs by their number of parts: %v", parts)
	}
	t.Logf("jobs by their number of parts: %v", parts)
}

// different shows some rows that only one of two has.
func different(got, want []string) string {
	var b strings.Builder
	for _, side := range []struct {
		name     string
		all, not []string
	}{{"more", got, want}, {"less", want, got}} {
		n := 0
		for _, r := range side.all {
			if _, found := slices.BinarySearch(side.not, r); !found && n < 4 {
				fmt.Fprintf(&b, "%s: %s\n", side.name, r)
				n++
			}
		}
	}
	return b.String()
}

// TestSpreadHeldBack: a row that a step gives out only once the watermark is there is judged by the next step as in one run, though the events that moved the watermark went to another
// portion.
func TestSpreadHeldBack(t *testing.T) {
	dir := t.TempDir()
	text := fmt.Sprintf(`undertide: 1
job: held
%ssettings: {spread: 2, checkpoint: {every: 20ms}}
sources:
  levels:
    via: file
    with: {files: %s/levels.ndjson, follow: true}
    fields: {gauge: string, at: timestamp}
    event_time: at
    watermark: {margin: 1m}
steps:
  counted: {from: levels, key: [gauge], order: time, remember: {seen: {initial: 0, next: seen + 1}}, forget: 1d, set: {n: seen}}
  once: {from: counted, deduplicate: {key: [gauge, n], within: 1s}}
sinks:
  out: {from: once, via: file, with: {path: %[2]s/out.ndjson}}
  tardy: {from: late of once, via: file, with: {path: %[2]s/tardy.ndjson}}
`, atBroker(t), dir)
	whole, err := job.Parse("held.yaml", text, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	events := filepath.Join(dir, "levels.ndjson")
	add := func(lines ...string) {
		t.Helper()
		f, err := os.OpenFile(events, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err == nil {
			_, err = f.WriteString(strings.Join(lines, "\n") + "\n")
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	line := func(gauge, at string) string {
		return fmt.Sprintf(`{"gauge":%q,"at":"2026-03-01T%sZ"}`, gauge, at)
	}
	add(line("a", "10:00:00"))
	var gauges []string // of portions 1 and 2
	for _, g := range strings.Split("abcdefgh", "") {
		column := row.NewColumn(row.String)
		column.AppendBytes([]byte(g))
		var keys state.Keys
		keys.EncodeOne([]*row.Column{column}, 0)
		if n := state.PortionOf(keys.Hash[0], 2); n != len(gauges) || g == "a" && n != 0 {
			continue
		}
		gauges = append(gauges, g)
		if len(gauges) == 2 {
			break
		}
	}
	if len(gauges) != 2 || gauges[0] != "a" {
		t.Fatalf("gauges of the two portions: %v", gauges)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	drain := make(chan struct{})
	var all sync.WaitGroup
	watch := engine.NewWatch() // of portion 2-1
	for part := range 2 {
		for n := range 2 {
			at := job.Portion{Part: part, Number: n, Generation: 1}
			j, err := whole.Portion("held."+at.Name(), at)
			if err != nil {
				t.Fatal(err)
			}
			own := filepath.Join(dir, at.Name())
			if err := os.MkdirAll(own, 0o755); err != nil {
				t.Fatal(err)
			}
			opt := Options{Checkpoints: filepath.Join(own, "checkpoints"), Out: map[string]string{}}
			if part == 0 {
				opt.Drain = drain
			} else {
				opt.Out["out"], opt.Out["tardy"] = filepath.Join(own, "out.ndjson"), filepath.Join(own, "tardy.ndjson")
				if n == 0 {
					opt.Watch = watch
				}
			}
			all.Go(func() {
				if res, err := Run(ctx, j, opt); err != nil || !res.Finished {
					t.Errorf("portion %s: finished %v, %v", at.Name(), res.Finished, err)
				}
			})
		}
	}
	for range 500 { // the first row waits in its portion
		if f := watch.Figures(); len(f.Steps) > 0 && f.Steps[0].In == 1 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	add(line(gauges[1], "10:10:00"), line("a", "10:20:00"))
	time.Sleep(300 * time.Millisecond)
	close(drain)
	all.Wait()
	if tardy := readLines(t, filepath.Join(dir, "2-1", "tardy.ndjson")); len(tardy) > 0 {
		t.Errorf("late are %v", tardy)
	}
	if out := readLines(t, filepath.Join(dir, "2-1", "out.ndjson")); len(out) != 2 {
		t.Errorf("there are %v", out)
	}
}

// TestSpreadSkip: an event that is set aside is named to all portions of the first part; the one that reads its partition sets it aside, and says where there is no such partition.
func TestSpreadSkip(t *testing.T) {
	dir := t.TempDir()
	for f := range 4 {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("levels-%d.ndjson", f)), []byte(`{"gauge":"a","level":200,"at":"2026-03-01T10:00:00Z"}`+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	whole, err := job.Parse("rates.yaml", fmt.Sprintf(spreadWindow, atBroker(t), 2, dir, "2s", dir, dir, dir), job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	rejected, refused := int64(0), 0
	for n := range 2 {
		at := job.Portion{Number: n, Generation: 1}
		j, err := whole.Portion("rates."+at.Name(), at)
		if err != nil {
			t.Fatal(err)
		}
		opt := Options{Checkpoints: filepath.Join(dir, at.Name()), Skip: []string{filepath.Join(dir, "levels-2.ndjson") + ":0"}}
		res, err := Run(t.Context(), j, opt)
		if err != nil {
			t.Fatalf("portion %s: %v", at.Name(), err)
		}
		rejected += engine.Sum(res.Figures.Sources[0].Rejected)
		opt.Skip = []string{filepath.Join(dir, "levels-7.ndjson") + ":0"}
		opt.Checkpoints += "-again"
		if _, err := Run(t.Context(), j, opt); err != nil && strings.Contains(err.Error(), "has no partition") {
			refused++
		}
	}
	if rejected != 1 || refused != 1 {
		t.Errorf("%d events are set aside, and %d portions say that there is no such partition", rejected, refused)
	}
}
