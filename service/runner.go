package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"undertide/api"
	"undertide/checkpoint"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/figures"
	"undertide/job"
	"undertide/lease"
	"undertide/run"
	"undertide/store"
)

// Statuses of a run (docs/commands.md, "Statuses").
const (
	starting = "starting"
	running  = "running"
	resuming = "resuming"
	stopping = "stopping"
	draining = "draining"
	stopped  = "stopped"
	finished = "finished"
	failed   = "failed"
)

// hasEnded says whether a status is that of a run that has ended.
func hasEnded(status string) bool { return status == stopped || status == finished || status == failed }

const (
	sampleEvery  = time.Second           // figures
	beginsWithin = 20 * time.Millisecond // looked for the first figures
	keepEvery    = time.Minute           // rows to look at
	stopWithin   = 15 * time.Second      // for the last checkpoint of a run that is stopped
	// answerWithin is how long a request waits for a run to start or stop; with what is around it, it answers within 20 s.
	answerWithin = 18 * time.Second
	sameEvent    = 3 // failures at one event, after which the run is given up
)

// runner carries out one run and starts it again from its newest checkpoint when it fails. What
// cannot be reached is waited for without end; other faults are given up as `settings: {restart}` says, and those that come with the
// same event again and again.
type runner struct {
	s    *Service
	job  *job.Job
	name string
	dir  string // of checkpoints
	log  *slog.Logger
	file *jobLog
	held *lease.Held // the job's lease, on a node; nil where there are no others
	// shelf is where checkpoints lie that all nodes reach; nil without a lease.
	shelf *checkpoint.Shelf

	gathered gathering // of a spread job
	rest     *run.Rest // of a portion that is to come to rest; nil for a run as any other

	stop      context.CancelFunc
	done      chan struct{} // closed when it has ended, or was given up
	listeners               // of new figures and statuses

	past        *past    // of the job
	alarms      *alarms  // of the job
	figureNames []string // of its figures
	stateMemory func() int64

	failures []time.Time    // of the loop: those that count still
	at       map[string]int // of the loop: failures by event

	mu        sync.Mutex // guards all below
	rec       store.Run
	since     time.Time // of the status
	watch     *engine.Watch
	graph     *engine.Graph
	refs      *run.References // of the graph
	series    figures.Series
	last      *api.Figures
	taps      map[string]*tap
	names     []string // of taps, in the document's order
	trouble   string
	away      bool             // what ended the last try could not be reached
	heavy     map[string]heavy // by step with uneven lanes
	restarted []time.Time      // those of the last minutes
	unmade    int              // checkpoints that did not come to be since the newest
	made      int64            // checkpoints of all tries, and those that did not come to be
	missed    int64
	// same is how often in a row the run failed with trouble, since sameSince.
	same      int
	sameSince time.Time
	complete  time.Time                  // of the newest checkpoint
	progress  bool                       // a checkpoint since the last try began
	from      map[string]json.RawMessage // positions of the newest checkpoint, by source and partition
	events    map[string]int64
	ending    bool          // the service ends, or its node lets the job go; the run is to go on with the next start, or on another node
	leaving   bool          // its node lets the job go
	over      bool          // done is closed
	released  bool          // its rows are no longer held
	draining  chan struct{} // closed when it is to end its sources
	begins    []string      // where its sources begin, where it starts anew
	drained   bool          // draining is closed
	endedBy   string        // who asked for it to stop or drain; empty for nobody
	lost      bool          // given up: it did not stop, or another node has the job; nothing that it does counts
	moved     bool          // lost to another node
	portions  []api.Portion // of a spread job, as they were seen last
	dividing  string        // of one: how it is, while what its portions keep is divided anew
	// supervises are the same, as its run takes rows of them.
	supervises []*portion
}

// begin starts a run, on a node by its job's lease; the first answer of ready says how the first try went. With patient, a first try
// that fails is tried again, as for a run that went on before the service started. rest lets a portion come to rest; nil for a run as any other.
func (s *Service) begin(j *job.Job, rec store.Run, held *lease.Held, rest *run.Rest, patient bool) (*runner, <-chan error) {
	ctx, cancel := context.WithCancel(s.runs)
	r := &runner{s: s, held: held, rest: rest, job: j, stateMemory: run.StateMemoryOf(j), name: j.Name, rec: rec, stop: cancel, done: make(chan struct{}), since: time.Now().UTC(), taps: map[string]*tap{}, heavy: map[string]heavy{}, draining: make(chan struct{}), at: map[string]int{},
		dir: s.checkpointDir(j.Name, rec.Generation), from: map[string]json.RawMessage{}, events: map[string]int64{}}
	if held != nil {
		r.shelf = s.shelf(j.Name, rec.Generation, held.Lease().Number)
	}
	if rec.Drains { // whoever had it before had told its sources to end
		r.drained = true
		close(r.draining)
	}
	ready := make(chan error, 1)
	r.past, r.alarms, r.figureNames = s.pastOf(rec.JobID), s.alarmsOf(rec.JobID), namesOf(j.Figures())
	r.prepareTaps()
	found := r.findRows()
	var err error
	if r.file, err = openLog(s.logPath(j.Name)); err != nil {
		s.opt.Log.Error("the job's log cannot be written", "job", j.Name, "error", err)
		r.file = &jobLog{path: s.logPath(j.Name)}
	}
	r.log = s.logger(j.Name, r.file).With("run", rec.ID)
	go func() {
		defer r.free()
		defer cancel()
		defer r.file.Close()
		go r.guard("remember figures", func() { r.rememberAll() })
		if found != nil {
			r.log.Warn("the rows to look at begin anew", "error", found)
		}
		defer r.guard("keep rows", func() {
			r.keepRows()
			time.AfterFunc(releaseAfter, r.release)
		})
		if err := engine.Guard(func() error { r.loop(ctx, ready, patient); return nil }); err != nil {
			r.end(failed, err, "")
			first(ready, err)
		}
		if held != nil {
			r.letGo()
		}
	}()
	return r, ready
}

// first gives the answer of the first try; later ones nobody waits for.
func first(ready chan<- error, err error) {
	select {
	case ready <- err:
	default:
	}
}

// free closes done, once.
func (r *runner) free() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.over {
		r.over = true
		close(r.done)
	}
}

// journalsDir is the folder of what sources take that cannot be read again: on nodes where all of them reach it.
func (s *Service) journalsDir(job string) string {
	switch {
	case s.nodes != nil && s.opt.inBucket(): // there is none
		return ""
	case s.nodes != nil:
		return filepath.Join(s.opt.Store, filepath.FromSlash(checkpoint.ShelfOf(job)), "journals")
	}
	return filepath.Join(s.opt.Data, "checkpoints", job, "journals")
}

func (s *Service) checkpointDir(job string, generation int) string {
	return filepath.Join(s.opt.Data, "checkpoints", job, strconv.Itoa(generation))
}

// prepareTaps makes the taps beforehand, so that who asks for rows of a run that is only starting
// finds them.
func (r *runner) prepareTaps() {
	eachSeen(r.job, func(of seen) {
		r.taps[of.name] = newTap(of, r.s.opt.KeepRows, r.s.boot, &r.s.kept)
		r.names = append(r.names, of.name)
	})
}

// seen is what of a job can be looked at: a source, a step, or a part of one.
type seen struct {
	name   string
	schema row.Schema
	key    []string
	levels []job.FieldLevels // what values are called
}

// eachSeen gives all that can be looked at of a job.
func eachSeen(j *job.Job, add func(seen)) {
	for i := range j.Sources {
		add(seen{name: j.Sources[i].Name, schema: j.Sources[i].Schema})
		add(seen{name: "rejects of " + j.Sources[i].Name, schema: engine.RejectSchema})
	}
	for i := range j.Steps {
		st := &j.Steps[i]
		names, _, schemas := st.Parts()
		for n, name := range names {
			of := seen{name: name, schema: schemas[n]}
			if name == st.Name || st.Split != nil {
				of.levels = st.Levels
			}
			if st.Keyed != nil && name == st.Name {
				for _, f := range st.Keyed.Spec().KeySchema() {
					if st.Schema.Index(f.Name) >= 0 {
						of.key = append(of.key, f.Name)
					}
				}
			}
			add(of)
		}
		add(seen{name: "rejects of " + st.Name, schema: engine.RejectSchema})
	}
}

func (r *runner) loop(ctx context.Context, ready chan<- error, patient bool) {
	wait := newWaits()
	for try := 0; ; try++ {
		if try > 0 {
			if r.gotOn() {
				wait.Reset()
			}
			select {
			case <-ctx.Done():
			case <-time.After(wait.NextBackOff()):
			}
		}
		if ctx.Err() != nil {
			r.end(stopped, nil, unbegun)
			return
		}
		connected := false
		res, err := r.leased(ctx, func() {
			connected = true
			r.status(running, "")
			first(ready, nil)
		})
		switch {
		case r.isAnothers(err):
			r.move(err)
			first(ready, err)
			return
		case err == nil && len(res.Unbalanced) > 0:
			err = fmt.Errorf("the counts of %v do not add up; this is a bug of Under Tide, please report it with the document", res.Unbalanced)
			r.end(failed, err, "")
		case err == nil && res.AlreadyFinished:
			r.end(finished, nil, delivered)
			first(ready, errAlreadyFinished)
			return
		case err == nil && res.Finished:
			r.end(finished, nil, delivered)
		case err == nil && res.Rested:
			r.mu.Lock()
			r.rec.Rested = true
			r.mu.Unlock()
			r.end(stopped, nil, "come to rest: what crosses is read, and all is delivered")
		case err == nil:
			r.end(stopped, nil, "stopped with a checkpoint")
		case ctx.Err() != nil && errors.Is(err, context.Canceled):
			r.end(stopped, nil, unbegun)
		case ctx.Err() != nil:
			r.end(stopped, err, "")
		case try == 0 && !connected && !patient && !errors.Is(err, lease.ErrExpired), r.permanent(err):
			r.end(failed, err, "")
		default:
			if why := r.givenUp(err); why != nil {
				r.end(failed, why, "")
				break
			}
			r.log.Warn("the run failed; it goes on from its newest checkpoint", "error", err)
			r.event(resuming, err.Error())
			r.status(resuming, "")
			r.failedOnce(err)
			continue
		}
		first(ready, err)
		return
	}
}

// How a run ended that met no fault, where it is not said otherwise.
const (
	unbegun   = "stopped before it ran; it goes on from its newest checkpoint, if it has one"
	delivered = "all inputs are read, everything is delivered"
)

// gotOn says whether the last try made a checkpoint.
func (r *runner) gotOn() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	got := r.progress
	r.progress = false
	return got
}

// newWaits are the pauses before tries: 1 s, 2 s, 4 s, 8 s, then 15 s, each up to a fifth longer or shorter, so that jobs
// that wait for the same do not all come at once. They begin anew with the next checkpoint.
func newWaits() *backoff.ExponentialBackOff {
	return &backoff.ExponentialBackOff{InitialInterval: time.Second, Multiplier: 2, MaxInterval: 15 * time.Second, RandomizationFactor: 0.2}
}

// failedOnce notes a try that failed, for those who look until the next one runs.
func (r *runner) failedOnce(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rec.Restarts++
	r.restarted = append(r.restarted, time.Now().UTC())
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	if r.same++; text != r.trouble || r.sameSince.IsZero() {
		r.same, r.sameSince = 1, time.Now()
	}
	r.trouble, r.away = text, errors.Is(err, connect.ErrUnreachable)
	if r.last != nil {
		f := *r.last
		if r.graph != nil { // that of a spread job has none
			if seen := r.watch.Figures(); len(seen.Sources) > 0 { // those of before had rows on their way, which the next try reads again
				f.Figures = r.reportLocked(seen)
			}
		}
		f.Status = resuming
		f.Checkpoints.Completed, f.Checkpoints.Failed = r.made, r.missed
		f.Live.Trouble, f.Live.Restarts, f.Live.InPerSecond, f.Live.OutPerSecond = r.trouble, r.rec.Restarts, 0, 0
		f.Live.Causes = []api.Cause{}
		f.Live.Sentence = r.resumingLocked()
		r.last = &f
	}
	r.tell()
}

// resumingLocked says how a run is that is started again. Called with mu held.
func (r *runner) resumingLocked() string {
	return figures.Resuming(r.trouble, r.same, r.sameSince, time.Now())
}

// newestOf gives the newest row of a part as text; empty for none.
func (r *runner) newestOf(part string) string {
	if t := r.taps[part]; t != nil {
		if rows, _ := t.before(1<<62, 1); len(rows) > 0 {
			return string(rows[0].Row)
		}
	}
	return ""
}

var errAlreadyFinished = errors.New("the job has come to its end: its inputs are read")

// permanent says whether trying again cannot help.
func (r *runner) permanent(err error) bool {
	var at *engine.AtEvent
	if errors.As(err, &at) {
		return false // the same event three times is
	}
	if errors.Is(err, engine.ErrFenced) && r.held != nil { // by one that was cut off as it began; the lease says who may go on
		return false
	}
	var faults job.Faults
	var panicked *engine.Panic
	var portion *portionFailed
	return errors.As(err, &panicked) || errors.As(err, &portion) || errors.As(err, &faults) || errors.Is(err, run.ErrUsage) || errors.Is(err, run.ErrDamaged) || errors.Is(err, engine.ErrFenced) || errors.Is(err, engine.ErrBehind) || errors.Is(err, run.ErrFormat)
}

// givenUp says why the run is not tried again after a fault, as an error that holds it; nil where it is.
func (r *runner) givenUp(err error) error {
	if errors.Is(err, connect.ErrUnreachable) || errors.Is(err, lease.ErrExpired) || errors.Is(err, store.ErrUnreachable) {
		return nil
	}
	var at *engine.AtEvent
	if errors.As(err, &at) {
		place := at.Partition + ":" + strconv.FormatInt(at.Offset, 10)
		if len(r.job.Sources) > 1 {
			place = at.Source + "=" + place
		}
		if r.at[place]++; r.at[place] >= sameEvent {
			return fmt.Errorf("the same event has ended the run %d times; set it aside with undertide start %s --skip %s, which makes a reject of it: %w", sameEvent, r.name, place, err)
		}
	}
	now := time.Now()
	r.failures = append(slices.DeleteFunc(r.failures, func(t time.Time) bool { return now.Sub(t) > r.job.RestartWithin }), now)
	if len(r.failures) > r.job.RestartTries {
		return fmt.Errorf("the run has failed %d times within %s (settings: {restart}) and is not started again: %w", len(r.failures), row.DurationText(r.job.RestartWithin), err)
	}
	return nil
}

// once is one try.
func (r *runner) once(ctx context.Context, commit func(epoch int64) error, connected func()) (run.Result, error) {
	watch := engine.NewWatch()
	r.mu.Lock()
	r.watch, r.graph = watch, nil
	r.series.Begin()
	r.mu.Unlock()
	sampling, end := context.WithCancel(context.Background())
	defer end()
	return run.Run(ctx, r.job, run.Options{
		Lease: r.number(), Leased: r.mayAct, Lanes: r.rec.Lanes, Checkpoints: r.dir, Shipments: filepath.Join(filepath.Dir(r.dir), "shipments"), Journals: r.s.journalsDir(r.name), Serve: r.serve, Drop: r.rec.DropParts, Skip: r.rec.SkipEvents, Watch: watch, FirstEpoch: r.s.nextEpoch(r.name), StopWithin: stopWithin, Commit: commit,
		Say: func(line string) { r.log.Info(line) },
		Tap: func(name string, _ row.Schema) engine.Tap {
			if t := r.taps[name]; t != nil {
				return t
			}
			return nil
		},
		Ready: func(g *engine.Graph, refs *run.References) {
			if r.s.opt.graph != nil {
				r.s.opt.graph(r.name, g)
			}
			r.mu.Lock()
			r.graph, r.refs = g, refs
			r.mu.Unlock()
			go r.guard("take figures", func() { r.sample(sampling, g) })
		},
		Opened: connected,
		Drain:  r.draining,
		Rest:   r.rest,
		Begins: func(text string) {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.begins = append(r.begins, text)
			r.eventLocked("begins", text)
		},
		Resumed:    r.resumed,
		Completed:  r.completed,
		Unfinished: r.unfinished,
	})
}

// guard calls what looks after the run; a panic of it is logged, and the run goes on without.
func (r *runner) guard(what string, f func()) {
	var panicked *engine.Panic
	if errors.As(engine.Guard(func() error { f(); return nil }), &panicked) {
		r.log.Error("a fault of ours", "while", what, "error", panicked, "stack", string(panicked.Stack))
	}
}

// resumed notes where the checkpoint that a try starts from stood.
func (r *runner) resumed(from []engine.PartitionState) {
	r.mu.Lock()
	defer r.mu.Unlock()
	clear(r.from)
	clear(r.events)
	for _, p := range from {
		name := p.Source + "\x00" + p.Name
		r.from[name], r.events[name] = p.Position, p.Events
	}
}

// completed notes a checkpoint.
func (r *runner) completed(c engine.Completed) {
	now := time.Now().UTC()
	line := store.Checkpoint{RunID: r.rec.ID, Epoch: c.Epoch, Generation: r.rec.Generation, WrittenAt: now, Seconds: c.Took.Seconds(), StallSeconds: c.Stall.Seconds(),
		Bytes: c.Saved.Size, NewBytes: c.Saved.Written, RowsChanged: c.Saved.Rows, RowsGone: c.Saved.Gone, Finished: c.Finished, Partitions: []store.Stretch{}}
	r.mu.Lock()
	if r.lost {
		r.mu.Unlock()
		return
	}
	r.complete, r.progress, r.unmade = now, true, 0
	r.made++
	if r.rec.Crashes > 0 {
		r.rec.Crashes = 0
		r.s.db.UpdateRun(r.rec)
	}
	for _, p := range c.Partitions {
		name := p.Source + "\x00" + p.Name
		line.Partitions = append(line.Partitions, store.Stretch{Source: p.Source, Name: p.Name, From: r.from[name], To: p.Position, Events: p.Events - r.events[name]})
		r.from[name], r.events[name] = p.Position, p.Events
	}
	r.mu.Unlock()
	r.log.Debug("checkpoint complete", "epoch", c.Epoch, "seconds", c.Took.Seconds(), "bytes", line.Bytes)
	r.s.noteEpoch(r.name, c.Epoch)
	r.s.db.AddCheckpoint(r.rec.JobID, line)
}

// sample takes the run's figures every second, and the first ones as soon as it has begun.
func (r *runner) sample(ctx context.Context, g *engine.Graph) {
	t := time.NewTicker(beginsWithin)
	defer t.Stop()
	kept, begun := time.Now(), false
	for {
		if r.takeSample(g) && !begun {
			begun = true
			t.Reset(sampleEvery)
		}
		if time.Since(kept) >= keepEvery {
			kept = time.Now()
			r.keepRows()
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// reportLocked gives the figures of the try that goes on, or has just ended. Called with mu held.
func (r *runner) reportLocked(seen engine.Figures) run.Figures {
	f := run.Report(r.job, r.graph, r.refs, seen, r.rec.Status)
	f.Version, f.Run, f.Restarts = r.rec.Version, int(r.rec.ID), r.rec.Restarts
	f.Checkpoints.Completed, f.Checkpoints.Failed = r.made, r.missed
	return f
}

// takeSample says whether there were figures to take. Those of a try that has failed wait until it is known how the run goes on: with the
// next try, or not at all.
func (r *runner) takeSample(g *engine.Graph) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.graph != g || r.lost {
		return false // of an earlier try
	}
	now := time.Now().UTC()
	seen := r.watch.Figures()
	if len(seen.Sources) == 0 {
		return false // it has not begun: counts still stand at nothing
	}
	if seen.Failed && !hasEnded(r.rec.Status) {
		return true
	}
	f := r.reportLocked(seen)
	r.notePosts(f.Sources)
	r.showLocked(now, f, figures.Asked{})
	return true
}

// showLocked makes of the figures of a moment what people see. asked is what is known beside them and beside what all runs have. Called with mu held.
func (r *runner) showLocked(now time.Time, f run.Figures, asked figures.Asked) {
	r.series.Add(now, f)
	rates := r.series.Rates()
	asked.Job, asked.Status, asked.Since, asked.Checkpoint, asked.Restarts = r.job, r.rec.Status, r.since, r.complete, r.rec.Restarts
	asked.RestartsLately, asked.CheckpointsFailedRunning = r.restartsLately(now), r.unmade
	if !asked.Portions {
		asked.Example, asked.Heaviest, asked.StateMemory = r.newestOf, r.heaviest, r.stateMemory()
	}
	if r.rec.Status == resuming {
		asked.Trouble = cmp.Or(asked.Trouble, r.trouble)
	}
	live := r.series.Live(asked, rates)
	if live.Trouble != r.trouble && r.rec.Status == running {
		if live.Trouble != "" && r.trouble == "" {
			r.log.Warn("the run waits", "trouble", live.Trouble)
			r.eventLocked("trouble", live.Trouble)
		} else if live.Trouble == "" {
			r.log.Info("the run goes on")
			r.eventLocked("well", "what was waited for answers again")
		}
		r.trouble = live.Trouble
	}
	r.last = &api.Figures{Figures: f, At: now, Live: live, Rates: rates}
	r.tell()
}

// status notes what the run is doing now.
func (r *runner) status(status, fault string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if status == running && r.drained {
		status = draining
	}
	if r.lost || r.rec.Status == stopping && !hasEnded(status) {
		return
	}
	changed := r.rec.Status != status
	r.rec.Status, r.rec.Error = status, fault
	if !changed {
		return
	}
	r.since = time.Now().UTC()
	if status == running {
		r.log.Info("running", "version", r.rec.Version, "lanes", r.rec.Lanes)
		r.eventLocked(running, fmt.Sprintf("version %d runs", r.rec.Version))
		r.trouble = ""
	}
	r.s.db.UpdateRun(r.rec)
	r.tell()
}

// end notes how the run ended: with err, or else as how says.
func (r *runner) end(status string, err error, how string) {
	text := ""
	if err != nil {
		text = err.Error()
	}
	r.mu.Lock()
	graph, ending, lost := r.graph, r.ending, r.lost
	r.mu.Unlock()
	if lost {
		r.log.Warn("the run that was given up has ended", "status", status, "error", text)
		return
	}
	if !ending {
		r.stopWanted()
	}
	r.status(status, text)
	if graph != nil {
		r.takeSample(graph)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now().UTC()
	if !ending || status != stopped {
		r.rec.Wanted, r.rec.EndedAt = false, &now
	}
	r.s.db.UpdateRun(r.rec)
	switch {
	case status == failed:
		var panicked *engine.Panic
		if errors.As(err, &panicked) {
			r.log.Error("the run failed", "error", err, "stack", string(panicked.Stack))
		} else {
			r.log.Error("the run failed", "error", err)
		}
		r.eventLocked(failed, text)
	case err != nil:
		r.log.Warn("the run stopped", "error", err)
		r.eventLocked(stopped, text)
	case ending && status == stopped && r.held != nil:
		r.log.Info("stopped with a checkpoint, since this node lets the job go; another one goes on with it")
		r.eventLocked(stopped, fmt.Sprintf("node %s lets the job go; another one goes on with it", r.s.opt.Node))
	case ending && status == stopped:
		r.log.Info("stopped with a checkpoint, since the service ends; it goes on when the service starts again")
		r.eventLocked(stopped, "the service ended; the run goes on when it starts again")
	default:
		r.log.Info(status)
		r.eventLocked(status, how)
	}
	r.last = r.final()
	r.tell()
}

// final is the last figures with the last status. Called with mu held.
func (r *runner) final() *api.Figures {
	if r.last == nil {
		return nil
	}
	f := *r.last
	f.Status = r.rec.Status
	f.Live.Trouble, f.Live.Causes = "", []api.Cause{}
	f.Live.Sentence = figures.Ended(viewRun(r.name, r.rec))
	return &f
}

func (r *runner) event(kind, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.eventLocked(kind, text)
}

func (r *runner) eventLocked(kind, text string) {
	id := r.rec.ID
	r.s.db.AddEvent(store.Event{JobID: r.rec.JobID, RunID: &id, At: time.Now().UTC(), Kind: kind, Text: text, DoneBy: r.endedBy})
}

// figures gives the newest figures; nil before the first.
func (r *runner) figures() *api.Figures {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.last
}

func (r *runner) view() api.Run {
	r.mu.Lock()
	defer r.mu.Unlock()
	return viewRun(r.name, r.rec)
}

func viewRun(job string, rec store.Run) api.Run {
	out := api.Run{ID: rec.ID, Job: job, Version: rec.Version, Status: rec.Status, StartedAt: rec.StartedAt, EndedAt: rec.EndedAt, Error: rec.Error, Lanes: rec.Lanes, Restarts: rec.Restarts, Set: maps.Clone(rec.SetValues)}
	if out.Set == nil {
		out.Set = map[string]string{}
	}
	return out
}

// goingOn says whether the run has not ended.
func (r *runner) goingOn() bool {
	select {
	case <-r.done:
		return false
	default:
		return true
	}
}

// halt stops the run with a checkpoint and waits for it, at most so long as a request may take. The error says what it
// still waited for.
func (r *runner) halt(ending bool) error {
	r.mu.Lock()
	r.ending = ending
	if r.rec.Status == running || r.rec.Status == starting || r.rec.Status == resuming || r.rec.Status == draining {
		r.rec.Status, r.since = stopping, time.Now().UTC()
		if !ending {
			r.s.db.UpdateRun(r.rec)
		}
		r.tell()
	}
	r.mu.Unlock()
	r.stop()
	select {
	case <-r.done:
		return nil
	case <-time.After(r.s.opt.patience):
		return fmt.Errorf("the run does not stop: after %s it waits for %s", r.s.opt.patience, r.waitsFor())
	}
}

// endsFor notes who asks for it to stop or drain.
func (r *runner) endsFor(ctx context.Context) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.endedBy = store.DoneBy(ctx)
}

// waitsFor says what the run waits for, as far as it is known.
func (r *runner) waitsFor() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.last != nil {
		cause := ""
		if len(r.last.Live.Causes) > 0 {
			cause = r.last.Live.Causes[0].Text
		}
		return cmp.Or(r.last.Live.Trouble, cause, r.trouble, "something that does not answer")
	}
	return cmp.Or(r.trouble, "something that does not answer")
}

// abandon gives up a run that does not stop: it has failed, and its job is free. What it holds in the meantime, such as its
// checkpoint folder, is held until it ends after all, or the service does.
func (r *runner) abandon(why error) {
	r.mu.Lock()
	if r.over || r.lost {
		r.mu.Unlock()
		return
	}
	r.lost = true
	now := time.Now().UTC()
	r.rec.Status, r.rec.Error, r.rec.Wanted, r.rec.EndedAt, r.since = failed, why.Error(), false, &now, now
	r.s.db.UpdateRun(r.rec)
	r.log.Error("the run was given up", "error", why)
	r.eventLocked(failed, why.Error())
	r.last = r.final()
	r.tell()
	r.mu.Unlock()
	r.free()
}
