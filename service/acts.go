package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/api"
	"undertide/checkpoint"
	"undertide/connect"
	"undertide/job"
	"undertide/lease"
	"undertide/run"
	"undertide/store"
)

// holds are the jobs that are being changed. All that changes a job, saves, starts, stops and removals, holds its name
// meanwhile, so that each act sees the job as the one before left it (docs/service.md, "One change at a time"). Names are
// held and not entries: a job is also made and removed.
type holds struct {
	mu   sync.Mutex               // guards held
	held map[string]chan struct{} // closed when the name is let go
}

// take holds a name until release is called. Where another holds it, it waits so long, and then answers that the job is
// busy.
func (h *holds) take(ctx context.Context, name string, patience time.Duration) (release func(), err error) {
	enough := time.After(patience)
	for {
		h.mu.Lock()
		other := h.held[name]
		if other == nil {
			if h.held == nil {
				h.held = map[string]chan struct{}{}
			}
			own := make(chan struct{})
			h.held[name] = own
			h.mu.Unlock()
			return func() {
				h.mu.Lock()
				defer h.mu.Unlock()
				delete(h.held, name)
				close(own)
			}, nil
		}
		h.mu.Unlock()
		if patience == 0 {
			return nil, api.Busy.With("another request changes job "+name, "")
		}
		select {
		case <-other:
		case <-enough:
			return nil, api.Busy.With("another request changes job "+name, "")
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// holding finds a job and calls f while its name is held.
func holding[V any](ctx context.Context, s *Service, name string, f func(e *entry) (V, error)) (out V, err error) {
	if _, err := s.find(name); err != nil {
		return out, err
	}
	release, err := s.holds.take(ctx, name, 0)
	if err != nil {
		return out, err
	}
	defer release()
	e, err := s.find(name) // it may have been removed
	if err != nil {
		return out, err
	}
	if err := s.mayChange(ctx, e); err != nil {
		return out, err
	}
	return f(e)
}

// selfContained writes into a document what the descriptions of its sources say, so that a version stays as it is, and
// names those sources (docs/streams.md, "Described sources"). digest is that of the document as it was checked: what is written is
// the same, or is refused.
func (s *Service) selfContained(ctx context.Context, document *job.Document, digest string) (text string, filled []string, err error) {
	if text, filled, err = document.Filled(ctx, s.describedText); err != nil {
		return "", nil, api.WrongDocument.With(err.Error(), "write the source on lines of its own")
	}
	if len(text) > job.MaxDocument {
		return "", nil, api.TooLarge.With(fmt.Sprintf("with what its described sources say, the document has %d KiB; at most %d are stored", len(text)>>10, job.MaxDocument>>10), "make several jobs of it")
	}
	if len(filled) > 0 {
		j, err := s.parse(ctx, "document", text, nil, false)
		if err != nil {
			return "", nil, wrongDocument(err)
		}
		if j.Digest != digest {
			return "", nil, api.WrongDocument.With("what described sources say cannot be written into this text", "write each source on lines of its own")
		}
	}
	return text, filled, nil
}

// saveWithin is how long a save waits for another change of its job.
const saveWithin = 10 * time.Second

// save stores a document as the job's next version. from is the version that it was made from, which has to be the
// newest still; 0 where that is not said.
func (s *Service) save(ctx context.Context, document string, from int) (api.Saved, error) {
	read := job.Read(ctx, "document.yaml", document)
	j, err := read.Job(ctx, s.options(nil, false))
	if err != nil {
		return api.Saved{}, wrongDocument(err)
	}
	document, filled, err := s.selfContained(ctx, read, j.Digest)
	if err != nil {
		return api.Saved{}, err
	}
	release, err := s.holds.take(ctx, j.Name, saveWithin)
	if err != nil {
		return api.Saved{}, err
	}
	defer release()
	if err := s.maySave(ctx, j.Name); err != nil {
		return api.Saved{}, err
	}
	if err := s.stillNewest(ctx, j.Name, document, from); err != nil {
		return api.Saved{}, err
	}
	if e, err := s.find(j.Name); err == nil && e.rec.SpanOf != "" {
		return api.Saved{}, api.WrongRequest.With(fmt.Sprintf("%s is a span of %s, whose document it reads", j.Name, e.rec.SpanOf), "choose another name for the job")
	}
	rec, v, stored, err := s.db.SaveVersion(ctx, store.Job{Name: j.Name}, document, j.About)
	if err != nil {
		return api.Saved{}, err
	}
	s.noteVersion(rec, v)
	if stored {
		s.db.AddEventOf(ctx, store.Event{JobID: rec.ID, At: v.CreatedAt, Kind: "saved", Text: fmt.Sprintf("version %d", v.Number)})
	}
	out := api.Saved{Version: viewVersion(j.Name, v), Stored: stored, Warnings: []string{}, Filled: filled}
	if len(filled) > 0 {
		out.Document = document
	}
	for _, w := range j.Warnings {
		out.Warnings = append(out.Warnings, w.Error())
	}
	return out, nil
}

// noteVersion takes in what was stored of a job, with its newest version.
func (s *Service) noteVersion(rec store.Job, v store.Version) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.jobs[rec.Name]
	if e == nil {
		e = &entry{epoch: rec.LastEpoch}
		s.jobs[rec.Name] = e
	}
	e.take(rec)
	e.newest = v
	e.newest.Document = ""
	if rec.PortionOf != "" {
		s.tiePortions()
	}
}

// stillNewest refuses a document that was made from another version than the newest, unless that says the same.
func (s *Service) stillNewest(ctx context.Context, name, document string, from int) error {
	if from == 0 {
		return nil
	}
	e, err := s.find(name)
	if err != nil {
		return api.Moved.With(fmt.Sprintf("the document was made from version %d of %s, which is gone", from, name), "")
	}
	s.mu.Lock()
	id, newest := e.rec.ID, e.newest.Number
	s.mu.Unlock()
	if newest == from {
		return nil
	}
	v, err := s.db.Version(ctx, id, 0)
	if err != nil || v.Document == document {
		return err
	}
	return api.Moved.With(fmt.Sprintf("the document was made from version %d of %s, and the newest is %d", from, name, newest), fmt.Sprintf("see undertide diff %s %d %d, and save again without saying what it was made from", name, from, newest))
}

func viewVersion(name string, v store.Version) api.Version {
	return api.Version{Job: name, Number: v.Number, About: v.About, CreatedAt: v.CreatedAt, SavedBy: v.SavedBy, Document: v.Document}
}

func wrongDocument(err error) error {
	var faults job.Faults
	if !errors.As(err, &faults) {
		return err
	}
	p := api.WrongDocument.With(fmt.Sprintf("the document has %d mistakes, the first: %s", len(faults), faults[0].Error()), "")
	if len(faults) == 1 {
		p.Detail = faults[0].Error()
	}
	for _, f := range faults {
		p.Faults = append(p.Faults, f.Error())
	}
	return p
}

// start begins a run and waits for its first answer.
func (s *Service) start(ctx context.Context, name string, ask api.Start) (api.Started, error) {
	if ask.Begin != "" || ask.Until != "" {
		return s.startSpan(ctx, name, ask)
	}
	if ask.Append {
		return api.Started{}, api.WrongRequest.With("append is said of a span, and none is named", "add begin and until, or leave it out")
	}
	return holding(ctx, s, name, func(e *entry) (api.Started, error) { return s.startHeld(ctx, e, ask) })
}

// startHeld is start with the job's name held.
func (s *Service) startHeld(ctx context.Context, e *entry, ask api.Start) (api.Started, error) {
	name := e.rec.Name
	r, _ := s.newestRun(e)
	if r != nil && r.goingOn() {
		return api.Started{}, api.AlreadyRunning.With(fmt.Sprintf("job %s is running (run %d, version %d)", name, r.rec.ID, r.rec.Version), "")
	}
	s.mu.Lock()
	rec, stopping := e.rec, s.stopping
	s.mu.Unlock()
	if stopping {
		return api.Started{}, api.Stopping.With("", "")
	}
	if ask.Lanes < 0 || ask.Lanes > 240 {
		return api.Started{}, api.WrongRequest.With(fmt.Sprintf("%d lanes", ask.Lanes), "give 1 to 240, or none for the document's")
	}
	v, err := s.db.Version(ctx, rec.ID, ask.Version)
	if errors.Is(err, store.ErrNotFound) {
		return api.Started{}, s.noSuchVersion(e, ask.Version)
	}
	if err != nil {
		return api.Started{}, err
	}
	if rec.PortionOf != "" { // another node may have written a moment ago what becomes of it
		if rec, err = s.db.JobOf(ctx, rec.ID); err != nil {
			return api.Started{}, err
		}
	}
	j, err := s.parseOf(ctx, rec, v.Document, ask.Set, true)
	if err != nil {
		return api.Started{}, wrongDocument(err)
	}
	spread := s.isSpread(rec, j)
	var from *place
	if spread {
		err = spreadStart(ask)
	} else if err = s.bringTo(ctx, rec, ask); err == nil {
		from, err = s.fits(ctx, e, j, ask)
	}
	if err = cmp.Or(err, s.otherwiseSpread(rec, spread, ask.Resume == "fresh")); err != nil {
		return api.Started{}, err
	}
	notes := []string{}
	switch {
	case j.Spread == nil || spread:
	case rec.SpanOf != "":
		notes = append(notes, "one run carries the span out, though the job is spread")
	default:
		notes = append(notes, "one run carries the whole job out: only nodes spread it (docs/nodes.md)")
	}
	generation, divides := rec.Generation, false
	if spread && ask.Resume != "fresh" {
		if generation, divides, err = s.layoutFor(ctx, rec, j); err != nil {
			return api.Started{}, err
		}
	}
	if divides {
		notes = append(notes, fmt.Sprintf("what the portions keep is divided anew, among %d of each part; the job goes on once that is done", j.Spread.Portions))
	}
	if divides || ask.Resume == "fresh" {
		if generation, err = s.db.NextGeneration(ctx, rec.ID); err != nil {
			return api.Started{}, err
		}
		s.mu.Lock()
		e.rec.Generation = generation
		s.mu.Unlock()
		if !divides && s.nextEpoch(name) > 1 {
			notes = append(notes, "the run begins anew: rows that were delivered before are made again")
		}
	}
	if from != nil {
		var info checkpoint.Info
		if generation, info, err = s.goBack(ctx, rec, *from); err != nil {
			return api.Started{}, err
		}
		s.mu.Lock()
		e.rec.Generation = generation
		s.mu.Unlock()
		if s.nextEpoch(name)-1 > info.Epoch {
			notes = append(notes, fmt.Sprintf("the run goes back to checkpoint %d: rows that were delivered after it are made again", info.Epoch))
		}
	}
	switch {
	case divides: // by the run
	case spread:
		err = s.makePortions(ctx, rec, generation, j, v, ask.Resume == "fresh")
	default: // those of a version of before, which begins anew otherwise
		for _, e := range s.portionsOf(name) {
			if err = s.removeHeld(ctx, e); err != nil {
				break
			}
		}
	}
	if err != nil {
		return api.Started{}, err
	}
	becomes, err := divisionOf(rec)
	if err != nil {
		return api.Started{}, err
	}
	divided, err := s.startsDivided(ctx, rec, j, becomes)
	if err != nil {
		return api.Started{}, s.startFailed(name, err)
	}
	record := store.Run{JobID: rec.ID, Version: v.Number, Status: starting, Wanted: true, StartedAt: time.Now().UTC(), Lanes: run.Lanes(j, ask.Lanes), SetValues: ask.Set, DropParts: ask.LeaveBehind, SkipEvents: ask.Skip, Generation: generation, Node: s.opt.Node}
	held, err := s.leasedRun(ctx, name, &record, from != nil || divided)
	if err != nil {
		return api.Started{}, err
	}
	for _, w := range j.Warnings {
		notes = append(notes, w.Error())
	}
	notes = append(notes, j.Promises(connect.Delivering{Once: j.Delivery == "exactly_once", Kept: true, Every: j.CheckpointEvery, Dir: j.Dir}, func(s *job.Sink) connect.Sink { return s.With })...)
	s.db.AddEventOf(ctx, store.Event{JobID: rec.ID, RunID: &record.ID, At: record.StartedAt, Kind: "started", Text: startText(v.Number, ask)})
	r, ready := s.begin(j, record, held, becomes.Rest, false)
	s.mu.Lock()
	e.run = r
	stopping = s.stopping
	s.mu.Unlock()
	if stopping { // the runs were halted before this one was among them
		return api.Started{}, errors.Join(api.Stopping.With("", ""), r.halt(true))
	}
	select {
	case err = <-ready:
	case <-time.After(s.opt.patience):
		notes, err = append(notes, "the run is still opening its sources and sinks: "+r.waitsFor()), nil
	case <-ctx.Done():
		err = nil // whoever asked has gone; the run goes on
	}
	if errors.Is(err, errAlreadyFinished) {
		notes, err = append(notes, err.Error()+"; nothing was done. Start it with --fresh to run it again"), nil
	}
	if err != nil {
		select { // the job can be started again once this is answered
		case <-r.done:
		case <-time.After(time.Second):
		}
		return api.Started{}, s.startFailed(name, err)
	}
	r.mu.Lock()
	notes = append(notes, r.begins...)
	r.mu.Unlock()
	return api.Started{Run: r.view(), Notes: notes}, nil
}

// fits refuses a start whose version would lose what its steps and sources kept, unless that is said. It gives the older
// checkpoint that is gone back to; nil for none.
func (s *Service) fits(ctx context.Context, e *entry, j *job.Job, ask api.Start) (from *place, err error) {
	rec := s.record(e)
	at := place{dir: s.checkpointDir(rec.Name, rec.Generation)}
	switch ask.Resume {
	case "fresh":
		return nil, nil
	case "", "last":
	default:
		if at, err = s.place(ctx, e, ask.Resume); err != nil {
			return nil, err
		}
		from = &at
	}
	parts, _, _, err := run.Kept(j, at.dir, at.epoch)
	switch {
	case err != nil && from != nil:
		return nil, wrongState(err)
	case err != nil:
		return nil, nil // said by the run itself
	}
	return from, lossSaid(rec.Name, parts, ask)
}

// lossSaid refuses that something is lost of what a job kept which the start does not name.
func lossSaid(of string, parts []run.KeptPart, ask api.Start) error {
	var lost, known []string
	for _, p := range parts {
		known = append(known, p.Name)
		if p.Must && !slices.Contains(ask.LeaveBehind, p.Name) && !slices.Contains(ask.LeaveBehind, p.Kind+" "+p.Name) {
			lost = append(lost, p.Kind+" "+p.Name)
		}
	}
	for _, d := range ask.LeaveBehind {
		_, name, two := strings.Cut(d, " ")
		if !two {
			name = d
		}
		if !slices.Contains(known, name) {
			fix := "see what is kept: undertide start " + of + " --dry-run"
			if n := job.Nearest(name, known); n != "" {
				fix = "did you mean " + n + "?"
			}
			return api.WrongRequest.With("nothing is kept of "+cut(d), fix)
		}
	}
	if len(lost) == 0 {
		return nil
	}
	var flags []string
	for _, l := range lost {
		_, name, _ := strings.Cut(l, " ")
		flags = append(flags, "--leave-behind "+name)
	}
	return api.StartFailed.With("what was kept for "+strings.Join(lost, ", ")+" does not fit this version", "see undertide start "+of+" --dry-run; then start with "+strings.Join(flags, " ")+", the version that the checkpoints belong to, or anew with --fresh")
}

func startText(version int, ask api.Start) string {
	text := fmt.Sprintf("version %d", version)
	switch ask.Resume {
	case "", "last":
	case "fresh":
		text += ", anew"
	default:
		text += ", from " + ask.Resume
	}
	if ask.Lanes > 0 {
		text += fmt.Sprintf(", %d lanes", ask.Lanes)
	}
	for _, at := range ask.Skip {
		text += ", the event " + at + " set aside"
	}
	for k, v := range ask.Set {
		text += fmt.Sprintf(", %s=%s", k, v)
	}
	return text
}

// startFailed words a first try that came to nothing.
func (s *Service) startFailed(name string, err error) error {
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	if unreachable(err) {
		return api.Unreachable.With("job "+name+" did not start: "+text, "start it again when it answers")
	}
	if errors.Is(err, run.ErrFormat) {
		return api.OldCheckpoints.With("job "+name+" did not start: "+text, "")
	}
	fix := ""
	if errors.Is(err, run.ErrDamaged) {
		fix = "put a copy of it back, start from a pin, or begin anew with --fresh"
	}
	if strings.Contains(text, "another text of job") {
		text = fmt.Sprintf("version and checkpoints do not fit: %s", text)
		fix = "start the version that the checkpoints belong to, or begin anew with --fresh"
	}
	return api.StartFailed.With("job "+name+" did not start: "+text, fix)
}

// stop ends a job's run with a checkpoint. One that does not stop in time has failed, and its job is free.
func (s *Service) stop(ctx context.Context, name string) (api.Run, error) {
	return holding(ctx, s, name, func(e *entry) (api.Run, error) { return s.stopHeld(ctx, e) })
}

func (s *Service) stopHeld(ctx context.Context, e *entry) (api.Run, error) {
	r, last := s.newestRun(e)
	if s.waiting(r, last) {
		return s.stopWaiting(ctx, e, *last)
	}
	if (r == nil || !r.goingOn()) && last != nil && s.stopLeft(ctx, e) {
		return viewRun(e.rec.Name, *last), nil
	}
	if r == nil || !r.goingOn() {
		return api.Run{}, api.NotRunning.With("job "+e.rec.Name+" is not running", "")
	}
	r.endsFor(ctx)
	if err := r.halt(false); err != nil {
		r.abandon(err)
	}
	return r.view(), nil
}

// restart stops the job's run with a checkpoint and starts it again from there, as one change.
func (s *Service) restart(ctx context.Context, name string, ask api.Start) (api.Started, error) {
	return holding(ctx, s, name, func(e *entry) (api.Started, error) {
		if err := s.couldStart(ctx, e, ask); err != nil {
			return api.Started{}, err
		}
		if _, err := s.stopHeld(ctx, e); err != nil {
			return api.Started{}, err
		}
		return s.startHeld(ctx, e, ask)
	})
}

// couldStart finds what would keep a run from starting, while the old one still goes on.
func (s *Service) couldStart(ctx context.Context, e *entry, ask api.Start) error {
	v, err := s.db.Version(ctx, e.rec.ID, ask.Version)
	if errors.Is(err, store.ErrNotFound) {
		return s.noSuchVersion(e, ask.Version)
	}
	if err != nil {
		return err
	}
	j, err := s.parseOf(ctx, s.record(e), v.Document, ask.Set, true)
	if err != nil {
		return wrongDocument(err)
	}
	if s.isSpread(s.record(e), j) {
		if err := spreadStart(ask); err != nil || ask.Resume == "fresh" {
			return err
		}
		_, _, err := s.layoutFor(ctx, s.record(e), j)
		return err
	}
	_, err = s.fits(ctx, e, j, ask)
	return err
}

// otherwiseSpread refuses that what a job has kept is left behind without a word, since one run had it and portions are to go on, or the other way round.
func (s *Service) otherwiseSpread(rec store.Job, spread, fresh bool) error {
	before := len(s.portionsOf(rec.Name)) > 0
	switch {
	case fresh || before == spread || !before && rec.LastEpoch == 0:
		return nil
	case spread:
		return api.StartFailed.With(fmt.Sprintf("job %s was carried out by one run, and portions do not take over what that has kept", rec.Name), "start a version without spread, or begin anew with --fresh")
	}
	return api.StartFailed.With(fmt.Sprintf("job %s was carried out by portions, and one run does not take over what those have kept", rec.Name), "start a version with spread, or begin anew with --fresh")
}

// spreadStart refuses of a spread job what only one run can do.
func spreadStart(ask api.Start) error {
	if ask.Resume != "" && ask.Resume != "last" && ask.Resume != "fresh" {
		return api.WrongRequest.With("a spread job goes on from the newest checkpoints of its portions, which belong together", "leave resume out, or begin anew with fresh")
	}
	return nil
}

func (s *Service) noSuchVersion(e *entry, n int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return api.NoSuchVersion.With(fmt.Sprintf("job %s has no version %d", e.rec.Name, n), fmt.Sprintf("the newest is %d; see undertide versions %s", e.newest.Number, e.rec.Name))
}

// remove deletes a job with its records, checkpoints and logs.
func (s *Service) remove(ctx context.Context, name string) error {
	_, err := holding(ctx, s, name, func(e *entry) (struct{}, error) { return struct{}{}, s.removeHeld(ctx, e) })
	return err
}

func (s *Service) removeHeld(ctx context.Context, e *entry) error {
	name := e.rec.Name
	r, last := s.newestRun(e)
	if r != nil && r.goingOn() || s.waiting(r, last) {
		return api.StillRunning.With("job "+name+" is running", "stop it first: undertide stop "+name)
	}
	for _, p := range s.portionsOf(name) {
		if err := s.removeHeld(ctx, p); err != nil {
			return err
		}
	}
	release := func() {}
	if s.nodes != nil { // so that no other node carries it out, nor starts it meanwhile
		l, err := s.takeLease(ctx, name, e.rec.ID, api.StillRunning, func() (lease.Lease, error) { return s.db.TakeLease(ctx, e.rec.ID, s.nodes.me()) })
		if err != nil {
			return err
		}
		release = func() { s.db.AddRelease(l.JobID, l.Number) }
	}
	s.forget(ctx, e)
	if e.rec.PortionOf != "" {
		if err := s.forgetWas(ctx, e); err != nil {
			s.opt.Log.Warn("what was kept for a portion of before is left", "job", name, "error", err)
		}
	}
	s.tokens.forget(e.rec.ID)
	s.pasts.Delete(e.rec.ID)
	s.alarms.Delete(e.rec.ID)
	if err := s.db.DeleteJob(ctx, e.rec.ID); err != nil {
		release()
		return err
	}
	s.mu.Lock()
	delete(s.jobs, name)
	s.tiePortions()
	s.mu.Unlock()
	s.dropRows(e.rec.ID)
	if s.nodes != nil {
		if err := s.nodes.place.RemoveAll(ctx, checkpoint.ShelfOf(name)); err != nil {
			s.opt.Log.Warn("what the shared store has of a job that was removed is left there", "job", name, "error", err)
		}
	}
	return errors.Join(os.RemoveAll(filepath.Join(s.opt.Data, "checkpoints", name)), remove(s.logPath(name)), remove(s.logPath(name)+".old"))
}

// forget removes what the sources of a job keep outside for it, such as the slot of a database. What cannot be removed does not keep the job: the
// log says what is left.
func (s *Service) forget(ctx context.Context, e *entry) {
	all, err := s.db.Newest(ctx, true, e.rec.ID)
	if err != nil || len(all) == 0 {
		return // a job without a version keeps nothing
	}
	j, err := s.parseOf(ctx, s.record(e), all[0].Document, nil, true)
	if err != nil {
		return // so it did not run
	}
	s.forgetSources(ctx, j)
}

// forgetSources removes what the sources of a job keep outside for it. What cannot be removed does not keep the job: the log says what is left.
func (s *Service) forgetSources(ctx context.Context, j *job.Job) {
	for i := range j.Sources {
		of, ok := j.Sources[i].With.(connect.Forgetting)
		if !ok {
			continue
		}
		limited, stop := context.WithTimeout(ctx, 5*time.Second)
		if err := of.Forget(limited); err != nil {
			s.opt.Log.Warn("what a job that was removed keeps outside is left there", "job", j.Name, "source", j.Sources[i].Name, "error", err)
		}
		stop()
	}
}

func remove(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
