package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"undertide/api"
	"undertide/checkpoint"
	"undertide/core/engine"
	"undertide/job"
	"undertide/lease"
	"undertide/run"
	"undertide/store"
)

// How the portions of a spread job become more or fewer (docs/spread.md, "Other portions"). The run of the job that wants another number of them does it before it starts any:
//
//	1. part by part the portions of before come to rest, each in a run that reads what crosses to it to the end, and nothing else
//	2. all at once, the records have the new portions, in another generation, each with the checkpoints that it begins with
//	3. the portions start; each makes its first checkpoint of its share of those
//	4. what was kept for the portions of before goes
//
// Whoever goes on with the run after a crash finds by the generation of the portions how far it was: those of before are let to rest once more, which changes nothing.

// division is what becomes of a portion whose job is divided anew, as its record has it.
type division struct {
	// Rest: its next run comes to rest.
	Rest *run.Rest `json:"rest,omitempty"`
	// From are the portions of its part that have come to rest, in their order: it begins with its share of what they keep.
	From []rested `json:"from,omitempty"`
	// Was is what the portion of its name was before; zero where there was none.
	Was was `json:"was,omitzero"`
}

// rested is a portion that has come to rest, with its newest checkpoint, as the records of the nodes have it.
type rested struct {
	Name       string `json:"name"`
	Generation int    `json:"generation"`
	Epoch      int64  `json:"epoch"`
	Place      string `json:"place"`
}

// was is a portion of before.
type was struct {
	Generation int `json:"generation,omitempty"`
	Version    int `json:"version,omitempty"` // of the portion's own
}

// divisionOf reads what becomes of a portion.
func divisionOf(rec store.Job) (d division, err error) {
	if rec.Division == "" {
		return d, nil
	}
	if err := json.Unmarshal([]byte(rec.Division), &d); err != nil {
		return d, fmt.Errorf("read how %s is divided: %w", rec.Name, err)
	}
	return d, nil
}

func (d division) text() (string, error) {
	text, err := json.Marshal(d)
	return string(text), err
}

// laidOut gives the portions of a job that count, those of the newest generation, and those of before that are to go.
func (s *Service) laidOut(name string) (now, gone []*entry, generation int) {
	all := s.portionsOf(name)
	for _, e := range all {
		generation = max(generation, s.record(e).Generation)
	}
	for _, e := range all {
		if s.record(e).Generation == generation {
			now = append(now, e)
		} else {
			gone = append(gone, e)
		}
	}
	return now, gone, generation
}

// portionsNow gives the portions of a job that count.
func (s *Service) portionsNow(name string) []*entry {
	now, _, _ := s.laidOut(name)
	return now
}

// layoutFor finds in which generation the portions of a version go on with what portions have kept. divides: they are of another number, so that it is divided anew first, for a
// generation of its own.
func (s *Service) layoutFor(ctx context.Context, rec store.Job, j *job.Job) (generation int, divides bool, err error) {
	now, _, generation := s.laidOut(rec.Name)
	if len(now) == 0 {
		return rec.Generation, false, nil
	}
	parts, err := j.Parts()
	if err != nil {
		return 0, false, err
	}
	if len(now) == parts.Number*j.Spread.Portions && s.record(now[len(now)-1]).Part == parts.Number-1 {
		return generation, false, nil
	}
	old, err := s.laidOutBy(ctx, now[0])
	if err != nil {
		return 0, false, err
	}
	if err := run.DividesTo(old, j); err != nil {
		return 0, false, api.StartFailed.With(fmt.Sprintf("job %s was carried out by %d portions, and this version has %d parts of %d; what they keep is divided anew where the steps, sources and sinks are the same: %v", rec.Name, len(now), parts.Number, j.Spread.Portions, err),
			"start the version of before, with its number of portions, and change one after the other; or begin anew with --fresh")
	}
	return 0, true, nil
}

// laidOutBy gives the whole job by whose document a portion is.
func (s *Service) laidOutBy(ctx context.Context, e *entry) (*job.Job, error) {
	s.mu.Lock()
	rec, number, last := e.rec, e.newest.Number, e.last
	s.mu.Unlock()
	v, err := s.db.Version(ctx, rec.ID, number)
	if err != nil {
		return nil, err
	}
	var set map[string]string
	if last != nil {
		set = last.SetValues
	}
	return s.parse(ctx, rec.PortionOf, v.Document, set, true)
}

// divide makes the portions those that the run wants. It goes on where it was broken off.
func (r *runner) divide(ctx context.Context, know *supervised) error {
	s := r.s
	for {
		now, _, generation := s.laidOut(r.name)
		if len(now) == 0 || generation >= r.rec.Generation {
			return r.wakeUp(ctx, now)
		}
		old, err := s.laidOutBy(ctx, now[0])
		if err == nil {
			r.log.Info("what the portions keep is divided anew", "portions", old.Spread.Portions, "into", r.job.Spread.Portions)
			err = r.divideFrom(ctx, old, know)
		}
		if err == nil || ctx.Err() != nil || !passing(err) {
			return err
		}
		r.log.Warn("the portions could not be divided; it is tried again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// wakeUp lets portions run again that were to come to rest: the job has been stopped meanwhile, and started with as many as it had.
func (r *runner) wakeUp(ctx context.Context, now []*entry) error {
	if err := r.s.readJobs(ctx); err != nil { // by whichever node they were put to rest
		return err
	}
	some := false
	for _, e := range now {
		if r.s.record(e).Division == "" {
			continue
		}
		d, err := r.s.divisionNow(ctx, e)
		if err != nil {
			return err
		}
		if d.Rest == nil {
			continue
		}
		d.Rest, some = nil, true
		if err := r.s.putDivision(ctx, r.held.Lease(), e, d); err != nil {
			return err
		}
	}
	if !some {
		return nil
	}
	return r.s.readJobs(ctx)
}

// divisionNow reads what becomes of a portion from the records themselves: what is known here may be older.
func (s *Service) divisionNow(ctx context.Context, e *entry) (division, error) {
	rec, err := s.db.JobOf(ctx, s.record(e).ID)
	if err != nil {
		return division{}, err
	}
	return divisionOf(rec)
}

// putDivision notes what becomes of a portion.
func (s *Service) putDivision(ctx context.Context, by lease.Lease, e *entry, d division) error {
	text, err := d.text()
	if err != nil {
		return err
	}
	return s.db.PutDivision(ctx, by, []int64{s.record(e).ID}, text)
}

func (r *runner) divideFrom(ctx context.Context, old *job.Job, know *supervised) error {
	defer r.saysDividing("")
	parts, err := old.Parts()
	if err != nil {
		return err
	}
	d := divider{r: r, old: old, know: know, parts: make([]atRest, parts.Number)}
	for part := range parts.Number {
		r.saysDividing(fmt.Sprintf("The %d portions of part %d of %d come to rest; then what they keep is divided among %d.", old.Spread.Portions, part+1, parts.Number, r.job.Spread.Portions))
		if err := d.rest(ctx, part); err != nil || ctx.Err() != nil {
			return err
		}
	}
	return d.layOut(ctx)
}

// saysDividing is what people are told of the run meanwhile.
func (r *runner) saysDividing(sentence string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dividing = sentence
	r.tell()
}

// divider divides what the portions of a job keep that old says.
type divider struct {
	r     *runner
	old   *job.Job
	know  *supervised
	parts []atRest // those that have come to rest
}

// atRest is a part whose portions have come to rest, in their order.
type atRest struct {
	jobs  []*job.Job
	infos []checkpoint.Info // of their newest checkpoints
	kept  []rested
}

// portions gives those of a part, as they are; people see all.
func (d *divider) portions(ctx context.Context, part int) []*portion {
	all := d.r.lookAtPortions(ctx, d.know)
	d.r.showPortions(all)
	return slices.DeleteFunc(slices.Clone(all), func(p *portion) bool { return p.part != part })
}

// rest lets the portions of a part come to rest, those before which have: all at the same watermarks, but in the first, whose steps keep nothing.
func (d *divider) rest(ctx context.Context, part int) error {
	var together *engine.Rest
	since := d.r.rec.ID // runs of later numbers are those that come to rest
	for {
		newest, err := d.untilRested(ctx, part, since, together)
		if err != nil || ctx.Err() != nil {
			return err
		}
		if d.parts[part], err = d.atRest(ctx, part); err != nil || part == 0 {
			return err
		}
		if together = run.Together(d.parts[part].infos); together == nil {
			return nil
		}
		d.r.log.Debug("the portions of a part come to the same watermarks", "part", part+1, "sources", together.Sources, "steps", together.Steps)
		since = newest
	}
}

// resting is how far a portion is that is to come to rest.
type resting int

const (
	notAtRest  resting = iota // a run in which it does is to be started: none was, or it was stopped before
	comesTo                   // its run is under way
	atRestNow                 // all that it keeps is in its newest checkpoint, and delivered
	cannotRest                // its run has failed
	ranBefore                 // a run of before goes on, which could not be stopped then
)

// restsSince says how far a portion is, in a run of a number above since.
func (p *portion) restsSince(since int64) resting {
	of := p.run
	switch own := of != nil && of.ID > since; {
	case of == nil, !own && !of.Wanted:
		return notAtRest
	case !own:
		return ranBefore
	case of.Rested || of.Status == finished:
		return atRestNow
	case of.Status == failed:
		return cannotRest
	case of.Wanted:
		return comesTo
	}
	return notAtRest
}

// untilRested waits until each portion of a part has come to rest in a run of a number above since. It gives the greatest such number.
func (d *divider) untilRested(ctx context.Context, part int, since int64, together *engine.Rest) (newest int64, err error) {
	r := d.r
	for {
		all, left, told := d.portions(ctx, part), 0, false
		var starts errgroup.Group
		for _, p := range all {
			switch p.restsSince(since) {
			case atRestNow:
				newest = max(newest, p.run.ID)
				continue
			case cannotRest:
				err = cmp.Or(err, error(&portionFailed{p.at(), p.run.Error}))
			case ranBefore:
				told = true
				starts.Go(func() error { return r.s.stopPortion(ctx, p) })
			case notAtRest:
				told = true
				starts.Go(func() error { return d.startRest(ctx, p, together) })
			}
			left++
		}
		err = cmp.Or(err, starts.Wait())
		if err == nil && told { // other news come by themselves
			err = r.s.readJobs(ctx)
		}
		if err != nil || left == 0 && len(all) > 0 {
			return newest, err
		}
		select {
		case <-ctx.Done():
			return 0, nil
		case <-time.After(lookAgain(false)):
		}
	}
}

// startRest starts the run in which a portion comes to rest.
func (d *divider) startRest(ctx context.Context, p *portion, together *engine.Rest) (err error) {
	defer func() {
		if err != nil {
			err = &portionStart{p.at(), err}
		}
	}()
	s := d.r.s
	j, err := d.portion(p.e)
	if err != nil {
		return err
	}
	rest, err := run.RestOf(j, func(part int) ([]*job.Job, []checkpoint.Info) { return d.parts[part].jobs, d.parts[part].infos })
	if err != nil {
		return err
	}
	if together != nil {
		rest.Rest = *together
	}
	becomes, err := s.divisionNow(ctx, p.e) // it may have to begin with what others have kept itself
	if err != nil {
		return err
	}
	becomes.Rest = rest
	if err := s.putDivision(ctx, d.r.held.Lease(), p.e, becomes); err != nil {
		return err
	}
	s.mu.Lock()
	ask := api.Start{Version: p.e.newest.Number}
	s.mu.Unlock()
	if p.run != nil {
		ask.Set = p.run.SetValues
	}
	to, elsewhere := s.nodes.roomiest()
	return s.startOn(ctx, p.name, to, elsewhere, ask)
}

// portion gives the job of a portion of before.
func (d *divider) portion(e *entry) (*job.Job, error) {
	rec := d.r.s.record(e)
	return d.old.Portion(rec.Name, job.Portion{Part: rec.Part, Number: rec.Portion, Generation: rec.Generation})
}

// atRest reads what the portions of a part keep, which have come to rest.
func (d *divider) atRest(ctx context.Context, part int) (out atRest, err error) {
	s := d.r.s
	for _, e := range s.portionsNow(d.r.name) {
		rec := s.record(e)
		if rec.Part != part {
			continue
		}
		j, err := d.portion(e)
		if err != nil {
			return out, err
		}
		l, err := s.db.LeaseOf(ctx, rec.ID)
		if err != nil {
			return out, err
		}
		if l.Epoch == 0 || l.Generation != rec.Generation {
			return out, fmt.Errorf("portion %s has come to rest without a checkpoint; this is a bug of Under Tide", rec.Name)
		}
		info, err := s.shelf(rec.Name, l.Generation, l.Number).Look(ctx, l.Epoch, l.Place)
		if err != nil {
			return out, fmt.Errorf("portion %s: %w", rec.Name, err)
		}
		out.jobs, out.infos = append(out.jobs, j), append(out.infos, info)
		out.kept = append(out.kept, rested{Name: rec.Name, Generation: l.Generation, Epoch: l.Epoch, Place: l.Place})
	}
	return out, nil
}

// layOut makes the new portions, all at once.
func (d *divider) layOut(ctx context.Context) error {
	r, s := d.r, d.r.s
	now, gone, _ := s.laidOut(r.name)
	for _, e := range now { // they have checkpoints of their own, so that nothing is needed of what they began with
		if err := s.forgetWas(ctx, e); err != nil {
			return err
		}
	}
	before := map[string]was{}
	for _, e := range slices.Concat(now, gone) {
		s.mu.Lock()
		before[e.rec.Name] = was{Generation: e.rec.Generation, Version: e.newest.Number}
		s.mu.Unlock()
	}
	v, err := s.db.Version(ctx, r.rec.JobID, r.rec.Version)
	if err != nil {
		return err
	}
	var portions []store.Job
	for part, of := range d.parts {
		for n := range r.job.Spread.Portions {
			at := job.Portion{Part: part, Number: n, Generation: r.rec.Generation}
			name := portionName(r.name, at)
			text, err := division{From: of.kept, Was: before[name]}.text()
			if err != nil {
				return err
			}
			portions = append(portions, store.Job{Name: name, PortionOf: r.name, Part: part, Portion: n, Generation: r.rec.Generation, Division: text})
		}
	}
	jobs, versions, err := s.db.Divide(ctx, r.held.Lease(), portions, v.Document, v.About)
	if err != nil {
		return err
	}
	for i := range jobs {
		s.noteVersion(jobs[i], versions[i])
	}
	r.event("divided", fmt.Sprintf("%d portions of each part in place of %d", r.job.Spread.Portions, d.old.Spread.Portions))
	return nil
}

// startsDivided makes the checkpoint that a portion begins with which was divided; false where it has one in its generation, or is another job.
func (s *Service) startsDivided(ctx context.Context, rec store.Job, j *job.Job, d division) (bool, error) {
	if len(d.From) == 0 {
		return false, nil
	}
	l, _, err := s.newestLease(ctx, rec)
	if err != nil || l.Epoch > 0 {
		return false, err
	}
	info, err := s.takeShare(ctx, rec, j, d)
	if err == nil {
		s.opt.Log.Info("a portion begins with its share of what others have kept", "job", rec.Name, "of", len(d.From), "rows", info.Saved.Rows)
	}
	return err == nil, err
}

// takeShare makes the first checkpoint of a portion, in the folder of its generation, of its share of what portions of before keep.
func (s *Service) takeShare(ctx context.Context, rec store.Job, j *job.Job, d division) (checkpoint.Info, error) {
	base := filepath.Join(s.opt.Data, "checkpoints", rec.Name)
	next, fetched := filepath.Join(base, "next"), filepath.Join(base, "divided")
	if err := errors.Join(os.RemoveAll(next), os.RemoveAll(fetched)); err != nil { // of a start that was interrupted
		return checkpoint.Info{}, err
	}
	defer os.RemoveAll(fetched)
	var from []string
	for n, of := range d.From {
		dir := filepath.Join(fetched, of.Name)
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return checkpoint.Info{}, err
		}
		shelf := s.shelf(of.Name, of.Generation, 0)
		shelf.Dir = dir
		if err := shelf.Bring(ctx, of.Epoch, of.Place, j.TakesFrom(n, len(d.From))); err != nil {
			return checkpoint.Info{}, fmt.Errorf("what portion %s has kept: %w", of.Name, err)
		}
		from = append(from, dir)
	}
	info, err := run.Divide(j, next, from)
	if err != nil {
		return info, err
	}
	to := s.checkpointDir(rec.Name, rec.Generation)
	if err := os.RemoveAll(to); err != nil {
		return info, err
	}
	s.noteEpoch(rec.Name, info.Epoch)
	return info, os.Rename(next, to)
}

// tidy removes what was kept for the portions of before, once all that came in their place have checkpoints of their own. What fails is tried again.
func (r *runner) tidy(ctx context.Context) (done bool) {
	s := r.s
	now, gone, _ := s.laidOut(r.name)
	var divided []int64
	for _, e := range now {
		rec := s.record(e)
		if rec.Division == "" {
			continue
		}
		divided = append(divided, rec.ID)
		l, err := s.db.LeaseOf(ctx, rec.ID)
		if err != nil || l.Generation != rec.Generation || l.Epoch == 0 {
			return false
		}
	}
	if len(divided)+len(gone) == 0 {
		return true
	}
	var faults []error
	for _, e := range now {
		faults = append(faults, s.forgetWas(ctx, e))
	}
	for _, e := range gone {
		faults = append(faults, s.remove(withoutAsker(ctx), s.record(e).Name))
	}
	err := errors.Join(faults...)
	if err == nil {
		err = s.db.PutDivision(ctx, r.held.Lease(), divided, "")
	}
	if err == nil {
		err = s.readJobs(ctx)
	}
	if err != nil && ctx.Err() == nil {
		r.log.Warn("what was kept for portions of before is still there; it is tried again", "error", err)
	}
	return err == nil
}

// forgetWas removes what the portion of before keeps that had a portion's name: the topics that crossed to it, and its checkpoints where all nodes reach them, and here.
func (s *Service) forgetWas(ctx context.Context, e *entry) error {
	rec := s.record(e)
	d, err := divisionOf(rec)
	if err != nil || d.Was.Generation == 0 {
		return err
	}
	if rec.Part > 0 && rec.Portion == 0 {
		v, err := s.db.Version(ctx, rec.ID, d.Was.Version)
		if err != nil {
			return err
		}
		old := rec
		old.Generation = d.Was.Generation
		if j, err := s.parseOf(ctx, old, v.Document, nil, true); err == nil {
			s.forgetSources(ctx, j)
		} else {
			s.opt.Log.Warn("the topics by which rows crossed to portions of before are left there", "job", rec.PortionOf, "generation", old.Generation, "error", err)
		}
	}
	if err := s.nodes.place.RemoveAll(ctx, checkpoint.ShelfIn(rec.Name, d.Was.Generation)); err != nil {
		return err
	}
	return os.RemoveAll(s.checkpointDir(rec.Name, d.Was.Generation))
}

// respread lets a running job go on with another number of portions: with a version of its document that says so.
func (s *Service) respread(ctx context.Context, name string, ask api.Respread) (api.Started, error) {
	return holding(ctx, s, name, func(e *entry) (api.Started, error) {
		v, set, err := s.respreadVersion(ctx, e, ask.Portions)
		if err != nil {
			return api.Started{}, err
		}
		start := api.Start{Version: v.Number, Set: set}
		if err := s.couldStart(ctx, e, start); err != nil {
			return api.Started{}, err
		}
		if _, err := s.stopHeld(ctx, e); err != nil {
			return api.Started{}, err
		}
		return s.startHeld(ctx, e, start)
	})
}

// respreadVersion saves the version of a job's document that has another number of portions; it gives the values with which the job runs, too.
func (s *Service) respreadVersion(ctx context.Context, e *entry, portions int) (v store.Version, set map[string]string, err error) {
	rec := s.record(e)
	r, last := s.newestRun(e)
	if s.waiting(r, last) {
		return v, nil, api.Moving.With("", "")
	}
	if r == nil || !r.goingOn() {
		return v, nil, api.NotRunning.With("job "+rec.Name+" is not running", "write the number into its document and save it: the next start divides what the portions keep")
	}
	r.mu.Lock()
	running, drained := r.rec, r.drained
	r.mu.Unlock()
	if drained {
		return v, nil, api.WrongRequest.With("job "+rec.Name+" is coming to its end: its sources were told to end", "wait until it has finished")
	}
	if v, err = s.db.Version(ctx, rec.ID, 0); err != nil {
		return v, nil, err
	}
	if v.Number != running.Version {
		return v, nil, api.WrongRequest.With(fmt.Sprintf("job %s runs version %d, and version %d has been saved since", rec.Name, running.Version, v.Number), "start that one first, or save the one that runs again")
	}
	if !s.isSpread(rec, r.job) {
		return v, nil, api.WrongRequest.With("job "+rec.Name+" is carried out by one run, and has no portions", "write settings: {spread: N} into its document; nodes carry it out then (docs/spread.md)")
	}
	if portions == r.job.Spread.Portions {
		return v, nil, api.WrongRequest.With(fmt.Sprintf("job %s has %d portions of each part already", rec.Name, portions), "give another number")
	}
	if portions < 2 || portions > job.MostPortions {
		return v, nil, api.WrongRequest.With(fmt.Sprintf("%d portions", portions), fmt.Sprintf("give 2 to %d; with one, leave spread out of the document and begin anew", job.MostPortions))
	}
	text, err := job.Read(ctx, rec.Name+".yaml", v.Document).WithPortions(portions)
	if err != nil {
		return v, nil, api.WrongRequest.With(err.Error(), "")
	}
	j, err := s.parse(ctx, rec.Name, text, running.SetValues, true)
	if err != nil {
		return v, nil, wrongDocument(err)
	}
	if err := run.DividesTo(r.job, j); err != nil {
		return v, nil, api.WrongRequest.With("the number of portions cannot be changed alone: "+err.Error(), "write the version by hand")
	}
	saved, v, _, err := s.db.SaveVersion(ctx, store.Job{Name: rec.Name}, text, v.About)
	if err != nil {
		return v, nil, err
	}
	s.noteVersion(saved, v)
	s.db.AddEventOf(ctx, store.Event{JobID: saved.ID, At: v.CreatedAt, Kind: "saved", Text: fmt.Sprintf("version %d, with %d portions", v.Number, portions)})
	return v, running.SetValues, nil
}
