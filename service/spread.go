package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/errgroup"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
	"undertide/figures"
	"undertide/job"
	"undertide/lease"
	"undertide/run"
	"undertide/store"
)

// A spread job (docs/spread.md) is carried out by runs of its portions, each a job of its own that the nodes take and go on with like others. The run of the job itself computes
// nothing: whichever node has its lease starts the portions, watches them, adds their figures up, and ends with them.
//
//	run of rates            starts, watches, sums, stops        lease of rates
//	  run of rates.1-1      reads a share of the partitions     lease of rates.1-1
//	  run of rates.2-1      owns a share of the keys            lease of rates.2-1

// isSpread says whether a job is carried out by portions: by nodes alone, and not where it is a span.
func (s *Service) isSpread(rec store.Job, j *job.Job) bool {
	return s.nodes != nil && j.Spread != nil && rec.SpanOf == ""
}

// portionName gives the name of a portion's job. No document can have it.
func portionName(of string, at job.Portion) string { return of + "." + at.Name() }

// portionsOf gives the portions of a job, in their order.
func (s *Service) portionsOf(name string) []*entry {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.jobs[name]; e != nil {
		return slices.Clone(e.portions)
	}
	return nil
}

// tiePortions notes which jobs are portions of which. Called with mu held, when there are others.
func (s *Service) tiePortions() {
	for _, e := range s.jobs {
		e.portions = nil
	}
	for _, e := range s.jobs {
		if of := s.jobs[e.rec.PortionOf]; of != nil {
			of.portions = append(of.portions, e)
		}
	}
	for _, e := range s.jobs {
		slices.SortFunc(e.portions, func(a, b *entry) int { return cmp.Or(a.rec.Part-b.rec.Part, a.rec.Portion-b.rec.Portion) })
	}
}

// makePortions makes the jobs of a spread job's portions, with the version that is to run, or takes those of before.
func (s *Service) makePortions(ctx context.Context, rec store.Job, generation int, j *job.Job, v store.Version, fresh bool) error {
	parts, err := j.Parts()
	if err != nil {
		return err
	}
	wanted := map[string]job.Portion{}
	for part := range parts.Number {
		for n := range j.Spread.Portions {
			at := job.Portion{Part: part, Number: n, Generation: generation}
			wanted[portionName(rec.Name, at)] = at
		}
	}
	if fresh { // what crossed for the checkpoints of before goes with them
		for _, e := range s.portionsOf(rec.Name) {
			if _, ok := wanted[e.rec.Name]; !ok {
				if err := s.removeHeld(ctx, e); err != nil {
					return err
				}
				continue
			}
			if err := s.forgetWas(ctx, e); err != nil {
				return err
			}
			s.forget(ctx, e)
		}
	}
	for name, at := range wanted {
		made, version, _, err := s.db.SaveVersion(ctx, store.Job{Name: name, PortionOf: rec.Name, Part: at.Part, Portion: at.Number, Generation: generation}, v.Document, v.About)
		if err != nil {
			return err
		}
		s.noteVersion(made, version)
	}
	return nil
}

// portion is how a portion of a spread job is.
type portion struct {
	e       *entry
	name    string
	part    int
	run     *store.Run // the newest; nil for none
	figures *api.Figures
	node    string
	parts   []string // what can be looked at of it
	// sentence says how one is that is started again; empty for another.
	sentence string
}

// at is the portion's place for people: 2-1.
func (p *portion) at() string { return job.PortionOf(p.name) }

// isOf says whether the portion's run was started by this run of the job, and not by one of before, nor to come to rest.
func (p *portion) isOf(r *runner) bool {
	return p.run != nil && p.run.ID > r.rec.ID && p.run.Generation == r.rec.Generation
}

// portionFailed is a portion's run that has failed and is not tried again: the job has.
type portionFailed struct{ at, why string }

func (f *portionFailed) Error() string { return fmt.Sprintf("portion %s: %s", f.at, f.why) }

// supervised is what the run of a spread job knows of its portions.
type supervised struct {
	seen    map[string]run.Figures // by name: also of those that have ended
	last    map[int64]bool         // by run: its figures were asked for after it had ended
	drained bool                   // their sources are told to end
	uneven  time.Time              // since when a node has two more portions of a part than another; zero for not
	parts   map[int][]string       // by part of the job: what can be looked at in its portions
}

// partsOf names what can be looked at of a portion.
func (k *supervised) partsOf(r *runner, e *entry) []string {
	if names, ok := k.parts[e.rec.Part]; ok {
		return names
	}
	j, err := r.job.Portion(e.rec.Name, job.Portion{Part: e.rec.Part, Number: e.rec.Portion, Generation: r.rec.Generation})
	if err != nil {
		return nil // its document would have a fault
	}
	names := []string{}
	eachSeen(j, func(of seen) { names = append(names, of.name) })
	k.parts[e.rec.Part] = names
	return names
}

// supervise is a try of the run of a spread job: it ends when all portions have ended, when one has failed, or when it is stopped; then it stops them, unless the node lets the
// job go.
func (r *runner) supervise(ctx context.Context, connected func()) (res run.Result, err error) {
	s := r.s
	r.mu.Lock()
	r.series.Begin()
	r.mu.Unlock()
	know := &supervised{seen: map[string]run.Figures{}, last: map[int64]bool{}, parts: map[int][]string{}}
	draining := r.draining
	if err := r.divide(ctx, know); err != nil && ctx.Err() == nil {
		r.stopPortions(r.lookAtPortions(ctx, know))
		return res, err
	}
	for running, tidied := false, false; ; {
		all := r.lookAtPortions(ctx, know)
		err := r.failedPortion(all)
		if err == nil {
			err = r.startPortions(ctx, all)
		}
		if err != nil && passing(err) {
			r.log.Warn("a portion was not started; it is tried again", "error", err)
		} else if err != nil {
			r.stopPortions(r.lookAtPortions(ctx, know))
			return res, err
		}
		if allEnded(all, r) {
			res.Finished = true
			return res, nil
		}
		if !running && allOpened(all, r) {
			running = true
			connected()
			r.atWork()
		}
		if know.drained {
			r.drainPortions(ctx, all)
		}
		r.sum(all, know)
		r.gatherWanted(ctx, all)
		if running && !know.drained {
			r.even(ctx, all, know)
		}
		if running && !tidied {
			tidied = r.tidy(ctx)
		}
		select {
		case <-ctx.Done():
			if cause := context.Cause(ctx); !errors.Is(cause, context.Canceled) { // the job is another node's, or may be
				return res, cause
			}
			r.mu.Lock()
			moves := r.ending
			r.mu.Unlock()
			if !moves {
				r.stopPortions(r.lookAtPortions(s.runs, know))
			}
			return res, nil
		case <-draining:
			know.drained, draining = true, nil
		case <-time.After(lookAgain(running)):
		}
	}
}

// unevenFor is how long the portions of a part lie unevenly over the nodes before one is moved: a node that was away may be on its way back.
const unevenFor = 30 * time.Second

// even lets a portion go from the node that has most of its part to the one that has fewest, where that makes them more even: it stops with a checkpoint, and is started there.
func (r *runner) even(ctx context.Context, all []*portion, know *supervised) {
	p := r.s.nodes.tooMany(all)
	switch {
	case p == nil:
		know.uneven = time.Time{}
	case know.uneven.IsZero():
		know.uneven = time.Now()
	case time.Since(know.uneven) >= r.s.opt.evenAfter:
		know.uneven = time.Time{}
		r.log.Info("a portion goes to a node that has fewer", "portion", p.at(), "from", p.node)
		if err := r.s.tellPortion(ctx, p, "stop"); err != nil {
			r.log.Warn("a portion that is to go to another node was not stopped", "portion", p.at(), "error", err)
		}
		if err := r.s.readJobs(ctx); err != nil {
			r.log.Debug("the portions could not be read again", "error", err)
		}
	}
}

// tooMany gives a portion of a node that has at least two more of its part than another node that takes jobs; nil for none, or where not all run.
func (n *nodes) tooMany(all []*portion) *portion {
	have := map[int]map[string][]*portion{}
	for _, p := range all {
		if p.run == nil || hasEnded(p.run.Status) {
			continue
		}
		if p.run.Status != running || p.node == "" {
			return nil
		}
		if have[p.part] == nil {
			have[p.part] = map[string][]*portion{}
		}
		have[p.part][p.node] = append(have[p.part][p.node], p)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, of := range have {
		for _, to := range n.view.Nodes {
			if !to.Alive || to.Draining {
				continue
			}
			for _, list := range of {
				if len(list) >= len(of[to.Name])+2 {
					return list[len(list)-1]
				}
			}
		}
	}
	return nil
}

// atWork notes that the run has got somewhere: crashes of nodes count anew, as after a checkpoint.
func (r *runner) atWork() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rec.Crashes > 0 && !r.lost {
		r.rec.Crashes = 0
		r.s.db.UpdateRun(r.rec)
	}
}

// passing says whether what keeps a portion from starting may pass: a node has just died, or the database is away.
func passing(err error) bool {
	var p *api.Problem
	if errors.As(err, &p) {
		return slices.Contains([]string{api.Moving.Code, api.Busy.Code, api.Stopping.Code, api.DatabaseUnreachable.Code}, p.Code)
	}
	return errors.Is(err, store.ErrUnreachable) || errors.Is(err, lease.ErrExpired)
}

// lookAgain is how long until the portions are looked at again: soon, while they start.
func lookAgain(running bool) time.Duration {
	if running {
		return sampleEvery
	}
	return 5 * beginsWithin
}

// allOpened says whether all portions run, or have ended.
func allOpened(all []*portion, r *runner) bool {
	return len(all) > 0 && !slices.ContainsFunc(all, func(p *portion) bool {
		return !p.isOf(r) || p.run.Status == starting || p.run.Status == resuming
	})
}

// allEnded says whether all portions have come to their end.
func allEnded(all []*portion, r *runner) bool {
	return len(all) > 0 && !slices.ContainsFunc(all, func(p *portion) bool { return !p.isOf(r) || p.run.Status != finished })
}

func (r *runner) failedPortion(all []*portion) error {
	for _, p := range all {
		if p.isOf(r) && p.run.Status == failed {
			return &portionFailed{p.at(), p.run.Error}
		}
	}
	return nil
}

// lookAtPortions gives the portions as they are, with the figures of those that go on.
func (r *runner) lookAtPortions(ctx context.Context, know *supervised) []*portion {
	s := r.s
	var all []*portion
	for _, e := range s.portionsNow(r.name) {
		p := &portion{e: e, name: e.rec.Name, part: e.rec.Part, parts: know.partsOf(r, e)}
		var own *runner
		if own, p.run = s.newestRecord(e); own != nil {
			p.figures, p.node = own.figures(), s.opt.Node
		}
		all = append(all, p)
	}
	var asked errgroup.Group
	asked.SetLimit(16)
	for _, p := range all {
		if p.run == nil {
			continue
		}
		x, elsewhere := s.nodes.holder(s.record(p.e).ID)
		if elsewhere {
			p.node = x.Name
		}
		if hasEnded(p.run.Status) {
			if !p.isOf(r) || p.figures != nil || know.last[p.run.ID] {
				continue
			}
			know.last[p.run.ID] = true // asked once: what it counted to its end
			x, elsewhere = s.nodes.node(p.run.Node)
		}
		if !elsewhere || !x.Alive || x.Name == s.opt.Node {
			continue
		}
		asked.Go(func() error {
			var f api.Figures
			if s.nodes.get(ctx, x, fmt.Sprintf("/runs/%d/figures", p.run.ID), &f) == nil {
				p.figures = &f
			}
			return nil
		})
	}
	var others map[string]api.Job
	for _, p := range all {
		if p.run == nil || p.run.Status != resuming {
			continue
		}
		if p.node == s.opt.Node {
			p.sentence = s.viewJob(p.e).Sentence
			continue
		}
		if others == nil {
			others = s.nodes.others(ctx)
		}
		p.sentence = others[p.name].Sentence
	}
	_ = asked.Wait() // a node that does not answer has no figures
	return all
}

// newestRecord gives the record of a job's newest run, as this service's own run of it has it, where that is one; nil for none.
func (s *Service) newestRecord(e *entry) (own *runner, rec *store.Run) {
	own, last := s.newestRun(e)
	if own == nil {
		return nil, last
	}
	own.mu.Lock()
	defer own.mu.Unlock()
	of := own.rec
	return own, &of
}

// showPortions lets people see the portions as they are, and look at their rows.
func (r *runner) showPortions(all []*portion) {
	var views []api.Portion
	for _, p := range all {
		views = append(views, r.viewPortion(p))
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.portions, r.supervises = views, all
}

// sum takes the figures of all portions together for those of the job.
func (r *runner) sum(all []*portion, know *supervised) {
	r.showPortions(all)
	now := time.Now().UTC()
	trouble, oldest, known := "", 0.0, len(know.seen)
	for _, p := range all {
		if p.sentence != "" {
			trouble = cmp.Or(trouble, "portion "+p.at()+": "+p.sentence)
		}
		if p.figures == nil {
			continue
		}
		know.seen[p.name] = p.figures.Figures
		if age := p.figures.Live.CheckpointAge; age != nil {
			oldest = max(oldest, *age)
		}
		if t := p.figures.Live.Trouble; t != "" {
			trouble = cmp.Or(trouble, "portion "+p.at()+": "+t)
		}
	}
	if len(know.seen) == 0 && trouble == "" {
		return
	}
	f := run.Sum(r.job, know.seen)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.lost {
		return
	}
	if len(know.seen) > known { // what a portion counted before it was seen is not a rate
		r.series.Begin()
	}
	r.made, r.missed = f.Checkpoints.Completed, f.Checkpoints.Failed
	if r.made > 0 {
		r.complete, r.progress = now.Add(-time.Duration(oldest*float64(time.Second))), true
	}
	f.Status, f.Version, f.Run, f.Restarts = r.rec.Status, r.rec.Version, int(r.rec.ID), r.rec.Restarts
	r.showLocked(now, f, figures.Asked{Trouble: trouble, Portions: true, CPUs: r.s.nodes.cores(all)})
}

// cores counts those of the nodes that carry portions out.
func (n *nodes) cores(all []*portion) (sum int) {
	seen := map[string]bool{}
	for _, p := range all {
		if x, ok := n.node(p.node); ok && !seen[x.Name] {
			seen[x.Name] = true
			sum += x.Cores
		}
	}
	return sum
}

// viewPortion gives a portion as people see it.
func (r *runner) viewPortion(p *portion) api.Portion {
	v := viewPortion(p.e, p.run, p.node)
	v.Sentence = cmp.Or(p.sentence, v.Sentence)
	if p.figures == nil {
		return v
	}
	l := p.figures.Live
	v.Sentence, v.InPerSecond, v.OutPerSecond, v.LagEvents, v.Watermark = l.Sentence, l.InPerSecond, l.OutPerSecond, l.LagEvents, l.Watermark
	for _, st := range p.figures.Steps {
		v.Keys, v.StateBytes = v.Keys+st.Keys, v.StateBytes+int64(st.StateBytes)
	}
	return v
}

func viewPortion(e *entry, rec *store.Run, node string) api.Portion {
	v := api.Portion{Name: e.rec.Name, Part: e.rec.Part + 1, Number: e.rec.Portion + 1, Node: node, Status: "saved"}
	if rec != nil {
		v.Status = rec.Status
		v.Run = rec.ID
		v.Sentence = rec.Error
	}
	return v
}

// portionViews gives the portions of a job for people: as its run saw them last, or as the records have them.
func (s *Service) portionViews(e *entry) []api.Portion {
	r, _ := s.newestRun(e)
	if r != nil {
		r.mu.Lock()
		views := slices.Clone(r.portions)
		r.mu.Unlock()
		if len(views) > 0 && r.goingOn() {
			return views
		}
	}
	out := []api.Portion{}
	for _, p := range s.portionsNow(e.rec.Name) {
		own, rec := s.newestRecord(p)
		node := ""
		if x, ok := s.nodes.holder(s.record(p).ID); own == nil && ok {
			node = x.Name
		} else if own != nil && own.goingOn() {
			node = s.opt.Node
		}
		out = append(out, viewPortion(p, rec, node))
	}
	return out
}

// startPortions starts the portions that this run of the job has not started yet, or that were stopped since. Those of one part go to different nodes as far as there are
// some, since they have about as much to do, and then to those with room.
func (r *runner) startPortions(ctx context.Context, all []*portion) error {
	var starts errgroup.Group
	any := false
	have := map[int]map[string]int{} // by part and node
	goesOn := func(p *portion) bool { return p.isOf(r) && (p.run.Wanted || p.run.Status == finished) }
	for _, p := range all {
		if have[p.part] == nil {
			have[p.part] = map[string]int{}
		}
		if goesOn(p) && p.node != "" {
			have[p.part][p.node]++
		}
	}
	for _, p := range all {
		if goesOn(p) || ctx.Err() != nil {
			continue
		}
		any = true
		to, elsewhere := r.s.nodes.roomiestOf(have[p.part])
		have[p.part][cmp.Or(to.Name, r.s.opt.Node)]++
		starts.Go(func() error {
			if p.run != nil && p.run.Wanted { // of a run of before, which could not be stopped then
				if err := r.s.stopPortion(ctx, p); err != nil {
					return &portionStart{p.at(), err}
				}
			}
			if err := r.startPortion(ctx, p, to, elsewhere); err != nil {
				return &portionStart{p.at(), err}
			}
			return nil
		})
	}
	err := starts.Wait()
	if any {
		if read := r.s.readJobs(context.WithoutCancel(ctx)); read != nil {
			err = errors.Join(err, read)
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// portionStart is a portion that could not be started.
type portionStart struct {
	at  string
	err error
}

func (p *portionStart) Error() string { return "portion " + p.at + ": " + p.err.Error() }
func (p *portionStart) Unwrap() error { return p.err }

func (r *runner) startPortion(ctx context.Context, p *portion, to lease.Node, elsewhere bool) error {
	s := r.s
	own, err := r.job.Portion(p.name, job.Portion{Part: p.part, Number: s.record(p.e).Portion, Generation: r.rec.Generation})
	if err != nil {
		return err
	}
	s.mu.Lock()
	ask := api.Start{Version: p.e.newest.Number, Set: r.rec.SetValues}
	s.mu.Unlock()
	if p.part == 0 {
		ask.Skip = r.rec.SkipEvents
	}
	for _, name := range r.rec.DropParts {
		_, bare, two := strings.Cut(name, " ")
		if !two {
			bare = name
		}
		for _, kind := range []string{"step", "source", "sink"} {
			if _, has := own.Pieces[kind+" "+bare]; has {
				ask.LeaveBehind = append(ask.LeaveBehind, name)
			}
		}
	}
	return s.startOn(ctx, p.name, to, elsewhere, ask)
}

// startOn starts the run of a portion on a node, or on this one.
func (s *Service) startOn(ctx context.Context, name string, to lease.Node, elsewhere bool, ask api.Start) (err error) {
	if elsewhere {
		err = s.nodes.send(ctx, to, http.MethodPost, "/jobs/"+name+"/runs", ask)
	} else {
		_, err = s.start(withoutAsker(ctx), name, ask)
	}
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Code == api.AlreadyRunning.Code { // a moment ago, or its answer was lost
		return nil
	}
	return err
}

// drainPortions lets the first part end its sources where they stand; the others end behind it.
func (r *runner) drainPortions(ctx context.Context, all []*portion) {
	for _, p := range all {
		if p.part > 0 || p.run == nil || p.run.Status != running {
			continue
		}
		go func() { // it answers when the portion has ended, or after a while; what fails is tried again
			if err := r.s.tellPortion(ctx, p, "drain"); err != nil {
				r.log.Debug("a portion does not end its sources", "portion", p.at(), "error", err)
			}
		}()
	}
}

// stopPortions stops all portions with a checkpoint.
func (r *runner) stopPortions(all []*portion) {
	ctx, cancel := context.WithTimeout(r.s.runs, stopWithin)
	defer cancel()
	var stops errgroup.Group
	for _, p := range all {
		if p.run == nil || p.run.ID <= r.rec.ID || !p.run.Wanted {
			continue
		}
		stops.Go(func() error {
			if err := r.s.stopPortion(ctx, p); err != nil {
				r.log.Warn("a portion was not stopped", "portion", p.at(), "error", err)
			}
			return nil
		})
	}
	_ = stops.Wait() // what was not stopped was said
	if err := r.s.readJobs(ctx); err != nil {
		r.log.Debug("the portions could not be read again", "error", err)
	}
}

// stopWanted stops the portions of a run that ends which are still to go on: it was stopped while it waited for its next try, in which it would have stopped them.
func (r *runner) stopWanted() {
	var all []*portion
	for _, e := range r.s.portionsNow(r.name) {
		_, rec := r.s.newestRecord(e)
		if rec != nil && rec.Wanted {
			all = append(all, &portion{e: e, name: e.rec.Name, part: e.rec.Part, run: rec})
		}
	}
	if len(all) > 0 {
		r.stopPortions(all)
	}
}

// jobEnded says whether the run of the job has ended whose portion an entry is: then nobody wants it to go on.
func (s *Service) jobEnded(e *entry) bool {
	s.mu.Lock()
	of := s.jobs[e.rec.PortionOf]
	s.mu.Unlock()
	if of == nil {
		return false
	}
	own, rec := s.newestRecord(of)
	return rec != nil && !rec.Wanted && (own == nil || !own.goingOn())
}

// stopPortion stops a portion with a checkpoint, unless it has ended meanwhile.
func (s *Service) stopPortion(ctx context.Context, p *portion) error {
	err := s.tellPortion(ctx, p, "stop")
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Code == api.NotRunning.Code {
		return nil
	}
	return err
}

// tellPortion lets a portion stop or drain, wherever it is.
func (s *Service) tellPortion(ctx context.Context, p *portion, what string) error {
	if x, elsewhere := s.nodes.holder(s.record(p.e).ID); elsewhere && x.Alive {
		return s.nodes.send(ctx, x, http.MethodPost, "/jobs/"+p.name+"/"+what, nil)
	}
	ctx = withoutAsker(ctx)
	var err error
	if what == "drain" {
		_, err = s.drain(ctx, p.name)
	} else {
		_, err = s.stop(ctx, p.name)
	}
	return err
}

// withoutAsker makes what follows the service's own doing: whoever asked for the job was asked.
func withoutAsker(ctx context.Context) context.Context {
	return context.WithValue(ctx, whoKey{}, nil)
}

// stopLeft stops portions of a job whose own run has ended without them: their nodes did not answer then. False where there are none.
func (s *Service) stopLeft(ctx context.Context, e *entry) (left bool) {
	for _, p := range s.portionsOf(e.rec.Name) {
		if r, last := s.newestRun(p); r != nil && r.goingOn() || r == nil && last != nil && last.Wanted {
			left = true
			if err := s.tellPortion(ctx, &portion{e: p, name: p.rec.Name}, "stop"); err != nil {
				s.opt.Log.Warn("a portion was not stopped", "job", p.rec.Name, "error", err)
			}
		}
	}
	return left
}

// keptByPortions are the addresses that are about what a run keeps: of a spread job the portions do.
var keptByPortions = []string{"state", "spans", "skew", "compare", "jobCheckpoints", "pin", "kept"}

// ofPortions says of a spread job which portions have what is asked for.
func (s *Service) ofPortions(c *gin.Context, o *operations.Operation) error {
	if !slices.Contains(keptByPortions, o.ID) {
		return nil
	}
	var having []string
	for _, e := range s.portionsNow(c.Param("job")) {
		j, err := s.lastDocument(c, e, false)
		if err == nil && (c.Param("step") == "" || j.StepNamed(c.Param("step")) != nil) {
			having = append(having, e.rec.Name)
		}
	}
	if len(having) == 0 { // no spread job, or no step of it
		return nil
	}
	if len(having) > 8 {
		having = append(having[:8], "…")
	}
	return api.WrongRequest.With("job "+c.Param("job")+" is carried out by portions, each of which keeps its own state and checkpoints", "ask one of "+strings.Join(having, ", "))
}

// ofPortion refuses what somebody asks of a portion that only its job may ask.
func (s *Service) ofPortion(rec store.Job) error {
	return api.WrongRequest.With(fmt.Sprintf("%s is a portion of job %s, which starts, stops and removes it", rec.Name, rec.PortionOf), "ask it of "+rec.PortionOf)
}

// send asks another node to change something, as a node. A problem that it answers with is the error.
func (n *nodes) send(ctx context.Context, to lease.Node, method, path string, body any) error {
	text := []byte("{}")
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	silent := func(err error) error {
		return api.Moving.With(fmt.Sprintf("node %s does not answer: %v", to.Name, err), "")
	}
	resp, err := n.ask(ctx, to, passed{Who: access.Who{Role: access.Engineer}, Node: true}, method, path, bytes.NewReader(text))
	if err != nil {
		return silent(err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return silent(err)
	}
	if resp.StatusCode < 300 {
		return nil
	}
	problem := &api.Problem{}
	if json.Unmarshal(answer, problem) != nil || problem.Code == "" {
		return fmt.Errorf("node %s answers %d", to.Name, resp.StatusCode)
	}
	return problem
}
