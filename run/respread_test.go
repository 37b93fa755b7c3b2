package run

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"undertide/checkpoint"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/pace"
)

// spreading are the portions of a job as a test runs them, one layout after another: each portion has a folder of its own.
type spreading struct {
	t          *testing.T
	dir        string
	generation int
	whole      *job.Job
	parts      int
	jobs       [][]*job.Job // by part and number
	results    [][]Result   // by part, of runs that came to the end
	raised     int          // how often watermarks were apart
	divided    [3]int       // portions that went on with a share of what others had kept, by part, and had not come to their end
	rows       int64        // of state that they have taken over
}

// layout begins another layout: those of version whole.
func (s *spreading) layout(whole *job.Job) {
	s.t.Helper()
	p, err := whole.Parts()
	if err != nil {
		s.t.Fatal(err)
	}
	s.generation++
	s.whole, s.parts, s.jobs, s.results = whole, p.Number, nil, make([][]Result, p.Number)
	for part := range p.Number {
		var all []*job.Job
		for n := range whole.Spread.Portions {
			at := job.Portion{Part: part, Number: n, Generation: s.generation}
			j, err := whole.Portion(whole.Name+"."+at.Name(), at)
			if err != nil {
				s.t.Fatal(err)
			}
			all = append(all, j)
		}
		s.jobs = append(s.jobs, all)
	}
}

func (s *spreading) folder(j *job.Job) string {
	return filepath.Join(s.dir, fmt.Sprintf("%d-%s", j.Of.Generation, j.Of.Name()))
}

func (s *spreading) checkpoints(j *job.Job) string { return filepath.Join(s.folder(j), "checkpoints") }

func (s *spreading) run(ctx context.Context, j *job.Job, opt Options) (Result, error) {
	own := s.folder(j)
	opt.Checkpoints, opt.Out, opt.EveryTurns, opt.Watch = s.checkpoints(j), map[string]string{}, cmp.Or(opt.EveryTurns, 20), engine.NewWatch()
	for i := range j.Sinks {
		if j.Sinks[i].Via == "file" {
			opt.Out[j.Sinks[i].Name] = filepath.Join(own, j.Sinks[i].Name) + "/"
		}
	}
	if err := os.MkdirAll(own, 0o755); err != nil {
		return Result{}, err
	}
	return Run(ctx, j, opt)
}

// runAll runs all portions, each until it has made so many checkpoints, or to its end where that is 0.
func (s *spreading) runAll(checkpoints func(j *job.Job) int) {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), 30*time.Second)
	defer cancel()
	var all sync.WaitGroup
	var mu sync.Mutex // guards results
	for _, of := range s.jobs {
		for _, j := range of {
			most := checkpoints(j)
			all.Go(func() {
				own, stop := context.WithCancel(ctx)
				defer stop()
				opt := Options{}
				if most > 0 { // not so fast that all is read at once
					opt.EveryTurns = 1
					opt.Tap = func(string, row.Schema) engine.Tap { return slow{} }
					defer context.AfterFunc(own, stop)()
					late := time.AfterFunc(400*time.Millisecond, stop)
					defer late.Stop()
					made := 0
					opt.Completed = func(engine.Completed) {
						if made++; made >= most {
							stop()
						}
					}
				}
				res, err := s.run(own, j, opt)
				switch {
				case ctx.Err() != nil:
					s.t.Errorf("portion %s does not come to its end", j.Name)
				case err != nil && own.Err() == nil:
					s.t.Errorf("portion %s: %v", j.Name, err)
					cancel()
				case res.Finished:
					mu.Lock()
					s.results[j.Of.Part] = append(s.results[j.Of.Part], res)
					mu.Unlock()
				case most == 0:
					s.t.Errorf("portion %s stops by itself", j.Name)
				}
			})
		}
	}
	all.Wait()
	if s.t.Failed() {
		s.t.FailNow()
	}
}

// slow is a tap that takes its time.
type slow struct{}

func (slow) NewEncoder(row.Schema) engine.Encoder  { return slow{} }
func (slow) Append(dst []byte, _ step.View) []byte { time.Sleep(5 * time.Millisecond); return dst }
func (slow) Take([]byte, int)                      {}
func (slow) Room(rows int) int                     { return rows }

func (s *spreading) newest(of []*job.Job) (infos []checkpoint.Info, err error) {
	for _, j := range of {
		o, err := checkpoint.OpenOne(checkpoint.Disk, s.checkpoints(j), 0)
		if err != nil {
			return nil, err
		}
		infos = append(infos, o.Info)
		if err := o.Close(); err != nil {
			return nil, err
		}
	}
	return infos, nil
}

// restOne lets a portion come to rest, those of the parts before have.
func (s *spreading) restOne(j *job.Job, together *engine.Rest) {
	s.t.Helper()
	r, err := RestOf(j, func(part int) ([]*job.Job, []checkpoint.Info) {
		infos, err := s.newest(s.jobs[part])
		if err != nil {
			s.t.Fatal(err)
		}
		return s.jobs[part], infos
	})
	if err != nil {
		s.t.Fatal(err)
	}
	if together != nil {
		r.Rest = *together
	}
	ctx, cancel := context.WithTimeout(s.t.Context(), 20*time.Second)
	defer cancel()
	res, err := s.run(ctx, j, Options{Rest: r})
	if err != nil || !res.Rested && !res.Finished {
		s.t.Fatalf("portion %s does not come to rest: %v", j.Name, err)
	}
}

// rest lets the portions of a part come to rest, those before it have.
func (s *spreading) rest(part int) {
	s.t.Helper()
	var together *engine.Rest
	for range 2 {
		for _, j := range s.jobs[part] {
			s.restOne(j, together)
		}
		infos, err := s.newest(s.jobs[part])
		if err != nil {
			s.t.Fatal(err)
		}
		if part == 0 {
			return
		}
		if together = Together(infos); together == nil {
			return
		}
		s.raised++
	}
	s.t.Fatalf("the portions of part %d do not come together: %+v", part+1, together)
}

// divide goes on with another version, of another number of portions.
func (s *spreading) divide(whole *job.Job) {
	s.t.Helper()
	if err := DividesTo(s.whole, whole); err != nil {
		s.t.Fatal(err)
	}
	for part := range s.parts {
		s.rest(part)
	}
	was := s.jobs
	s.layout(whole)
	for part, of := range s.jobs {
		var from []string
		for _, j := range was[part] {
			from = append(from, s.checkpoints(j))
		}
		for _, j := range of {
			info, err := Divide(j, s.checkpoints(j), from)
			if err != nil {
				s.t.Fatalf("portion %s: %v", j.Name, err)
			}
			if !info.Finished {
				s.divided[part]++
			}
			s.rows += info.Saved.Rows
		}
	}
}

// written gives what a sink of all layouts has, sorted.
func (s *spreading) written(sink string) []string {
	s.t.Helper()
	out := []string{}
	files, err := filepath.Glob(filepath.Join(s.dir, "*", sink, "*.ndjson"))
	if err != nil {
		s.t.Fatal(err)
	}
	for _, f := range files {
		out = append(out, readLines(s.t, f)...)
	}
	slices.Sort(out)
	return out
}

// TestRestTogether: the portions of a part whose watermarks are apart come to the same before what they keep is divided, and what that passes is published there; afterwards no
// window comes twice, and each row is in one, or late.
func TestRestTogether(t *testing.T) {
	dir := t.TempDir()
	const rows = 150_000
	var text strings.Builder
	for i := range rows {
		fmt.Fprintf(&text, `{"gauge":"G%02d","level":%d,"at":"%s"}`+"\n", i*7%23, 101+i%300, time.UnixMilli(1_772_323_200_000+int64(i)*40).UTC().Format("2006-01-02T15:04:05.000Z"))
	}
	if err := os.WriteFile(filepath.Join(dir, "levels-1.ndjson"), []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	connections := atBroker(t)
	version := func(portions int) *job.Job {
		j, err := job.Parse("rates.yaml", fmt.Sprintf(spreadWindow, connections, portions, dir, "1s", dir, dir, dir), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		return j
	}
	s := &spreading{t: t, dir: t.TempDir()}
	s.layout(version(3))
	var infos []checkpoint.Info
	for range 20 { // until something was read
		s.runAll(func(*job.Job) int { return 3 })
		s.rest(0)
		s.rest(1)
		var err error
		if infos, err = s.newest(s.jobs[1]); err != nil {
			t.Fatal(err)
		}
		if len(infos[0].Watermarks) > 0 {
			break
		}
	}
	if infos[0].Finished {
		t.Fatal("all was read at once")
	}
	// One of them saw others asleep, and went on by three minutes.
	ahead := Together([]checkpoint.Info{infos[0], {}})
	if ahead == nil {
		t.Fatalf("nothing was read: %+v", infos)
	}
	for _, marks := range []map[string]row.Time{ahead.Sources, ahead.Steps} {
		for name, w := range marks {
			marks[name] = w.Plus(3 * time.Minute)
		}
	}
	before := len(s.written("out"))
	s.restOne(s.jobs[1][0], ahead)
	alone := len(s.written("out"))
	if alone == before {
		t.Error("nothing was published that the watermark passed")
	}
	if _, err := Divide(s.jobs[1][0], filepath.Join(s.dir, "none"), []string{s.checkpoints(s.jobs[1][0]), s.checkpoints(s.jobs[1][1])}); err == nil || !strings.Contains(err.Error(), "have not come to rest together") {
		t.Errorf("what stands apart is divided: %v", err)
	}
	s.divide(version(4))
	if s.raised != 1 || len(s.written("out")) == alone {
		t.Errorf("watermarks were brought together %d times, and %d windows were published after %d", s.raised, len(s.written("out")), alone)
	}
	s.runAll(func(*job.Job) int { return 0 })
	seen, n := map[string]bool{}, len(s.written("tardy"))
	for _, line := range s.written("out") {
		var w struct {
			Gauge string
			Start string `json:"window_start"`
			N     int
		}
		if err := json.Unmarshal([]byte(line), &w); err != nil {
			t.Fatal(err)
		}
		if key := w.Gauge + " " + w.Start; seen[key] {
			t.Errorf("the window %s came twice", key)
		} else {
			seen[key] = true
		}
		n += w.N
	}
	if late := len(s.written("tardy")); n != rows || late == 0 {
		t.Errorf("%d of %d rows are in windows or late, %d are late", n, rows, late)
	}
}

// together gives what does not add up of the counts of all portions of a part, which have come to their end; nothing where one of them had before, and was not run again.
func together(of []Result) []string {
	sum := engine.Figures{}
	for _, r := range of {
		if len(r.Figures.Steps) == 0 {
			return nil
		}
		var c engine.Counts
		for i := range r.Figures.Steps {
			c.Steps = append(c.Steps, r.Figures.Steps[i].StepCounts)
		}
		for i := range r.Figures.Sinks {
			c.Sinks = append(c.Sinks, r.Figures.Sinks[i].SinkCounts)
		}
		c.Sources = r.Figures.Sources
		if sum.Sources == nil {
			none := c.Nothing()
			sum.Sources = none.Sources
			sum.Steps, sum.Sinks = make([]engine.StepFigures, len(none.Steps)), make([]engine.SinkFigures, len(none.Sinks))
			for i := range none.Steps {
				sum.Steps[i].StepCounts = none.Steps[i]
			}
		}
		all := engine.Counts{Sources: sum.Sources}
		for i := range sum.Steps {
			all.Steps = append(all.Steps, sum.Steps[i].StepCounts)
		}
		for i := range sum.Sinks {
			all.Sinks = append(all.Sinks, sum.Sinks[i].SinkCounts)
		}
		all.Add(c)
		for i := range sum.Steps {
			sum.Steps[i].StepCounts = all.Steps[i]
		}
		for i := range sum.Sinks {
			sum.Sinks[i].SinkCounts = all.Sinks[i]
		}
	}
	if sum.Sources == nil {
		return nil
	}
	return engine.Unbalanced(of[0].Graph, sum)
}

// wideJob makes a job of several turns for each partition: where a turn ends matters to what waits for the watermark.
func wideJob(seed uint64) *refJob {
	r := rand.New(rand.NewPCG(seed, 7))
	j := &refJob{seed: seed, turn: row.MaxRows}
	j.streams(r, func() int { return []int{100, 5 * row.MaxRows, 20_000}[r.IntN(3)] })
	return j
}

// TestRespreadRandom: random jobs give the rows of one run, though their portions become more and fewer in the midst of it: of one partition all of them, late ones too; of
// several, whose rows come in another order, those that do not go by it.
func TestRespreadRandom(t *testing.T) {
	connections := atBroker(t)
	tried, divided, rows := map[int]int{}, [3]int{}, int64(0)
	for seed := uint64(700); (divided[1] < pace.Of(4, 1)**rounds || *rounds > 2 && rows < 500) && seed < 700+uint64(200**rounds); seed++ {
		r := rand.New(rand.NewPCG(seed, 10))
		j := wideJob(seed)
		c := comparableJob(t, seed, j, connections)
		if c == nil {
			continue
		}
		whole := c.version(t, 3)
		if whole == nil {
			continue
		}
		c.one(t)
		s := &spreading{t: t, dir: t.TempDir()}
		s.layout(whole)
		if c.single && s.parts > 2 {
			continue
		}
		tried[s.parts]++
		layouts := [][]int{{4}, {2}, {6, 4, 2}, {4, 3}}[r.IntN(4)]
		for _, portions := range layouts {
			s.runAll(func(*job.Job) int { return 2 + r.IntN(3) })
			s.divide(c.version(t, portions))
		}
		s.runAll(func(*job.Job) int { return 0 })
		for i := range j.sinks {
			name, want := fmt.Sprintf("out%d", i), readLines(t, j.outFile(c.in, i))
			if got := s.written(name); !slices.Equal(got, want) {
				t.Errorf("seed %d: 3 portions, then %v: sink %s has %d rows, and of one run %d\n%s", seed, layouts, name, len(got), len(want), different(got, want))
			}
		}
		for part, of := range s.results {
			if unbalanced := together(of); len(unbalanced) > 0 {
				t.Errorf("seed %d, part %d: counts of %v do not add up over all portions", seed, part+1, unbalanced)
			}
		}
		if t.Failed() {
			t.Fatal(c.text)
		}
		for part, n := range s.divided {
			divided[part] += n
		}
		rows += s.rows
	}
	t.Logf("jobs by their number of parts: %v; portions that were divided in the midst of their work, by part: %v, with %d rows", tried, divided, rows)
	if tried[2] == 0 || divided[1] == 0 || *rounds > 2 && rows == 0 {
		t.Error("nothing was tried")
	}
}
