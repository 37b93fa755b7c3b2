package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/store"
)

// A job over a span reads events of the past by the document of another job: it has a name, checkpoints and state of its
// own, runs beside that job, and ends as finished (docs/service.md, "Spans").

// over gives how the documents of a job are read: those of a span by its name and its places.
func over(rec store.Job, o job.Options) job.Options {
	if rec.SpanOf != "" {
		o.Name, o.Begin, o.Until = rec.Name, rec.SpanBegin, rec.SpanUntil
	}
	return o
}

// parseOf reads the document of a version of a job.
func (s *Service) parseOf(ctx context.Context, rec store.Job, document string, set map[string]string, run bool) (*job.Job, error) {
	j, err := job.Read(ctx, rec.Name+".yaml", document).Job(ctx, over(rec, s.options(set, run)))
	if err != nil || rec.PortionOf == "" {
		return j, err
	}
	return j.Portion(rec.Name, job.Portion{Part: rec.Part, Number: rec.Portion, Generation: rec.Generation})
}

// startSpan makes a job over a span of another one's sources, and starts it.
func (s *Service) startSpan(ctx context.Context, name string, ask api.Start) (api.Started, error) {
	e, err := s.find(name)
	if err != nil {
		return api.Started{}, err
	}
	if ask.Resume != "" && ask.Resume != "last" {
		return api.Started{}, api.WrongRequest.With("a span has a state of its own, and begins anew", "leave resume out")
	}
	if err := s.mayChange(ctx, e); err != nil {
		return api.Started{}, err
	}
	v, err := s.db.Version(ctx, e.rec.ID, ask.Version)
	if err != nil {
		return api.Started{}, err
	}
	rec := store.Job{Name: s.spanName(name), SpanOf: name, SpanBegin: ask.Begin, SpanUntil: ask.Until}
	if rec.SpanUntil == "" {
		rec.SpanUntil = "latest" // it has to end
	}
	j, err := s.parseOf(ctx, rec, v.Document, ask.Set, true)
	if err != nil {
		return api.Started{}, wrongDocument(err)
	}
	if appending := appends(j); len(appending) > 0 && !ask.Append {
		return api.Started{}, api.StartFailed.With(fmt.Sprintf("the rows of the span would stand beside those that %s hold already", strings.Join(appending, ", ")), "let these sinks replace rows (replace: true), or say --append where a second copy is wanted")
	}
	release, err := s.holds.take(ctx, rec.Name, saveWithin)
	if err != nil {
		return api.Started{}, err
	}
	made, number, _, err := s.db.SaveVersion(ctx, rec, v.Document, v.About)
	if err == nil {
		s.noteVersion(made, number)
		s.db.AddEventOf(ctx, store.Event{JobID: made.ID, At: time.Now().UTC(), Kind: "saved", Text: fmt.Sprintf("version %d of %s, from %s until %s", v.Number, name, beginText(rec), rec.SpanUntil)})
		s.db.AddEventOf(ctx, store.Event{JobID: e.rec.ID, At: time.Now().UTC(), Kind: "span", Text: fmt.Sprintf("%s processes what was stored from %s until %s", made.Name, beginText(rec), rec.SpanUntil)})
	}
	release()
	if err != nil {
		return api.Started{}, err
	}
	out, err := s.start(ctx, made.Name, api.Start{Lanes: ask.Lanes, Set: ask.Set})
	if err != nil { // nothing has come of it
		return out, errors.Join(err, s.remove(ctx, made.Name))
	}
	out.Notes = append([]string{fmt.Sprintf("%s is a job of its own, with checkpoints and state of its own; it ends by itself, and undertide delete %s removes it", made.Name, made.Name)}, out.Notes...)
	return out, nil
}

func beginText(rec store.Job) string {
	if rec.SpanBegin == "" {
		return "where the document says"
	}
	return rec.SpanBegin
}

// spanName gives a name that is free.
func (s *Service) spanName(of string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n := 1; ; n++ {
		if name := fmt.Sprintf("%s-span-%d", of, n); s.jobs[name] == nil {
			return name
		}
	}
}

// appends names the sinks that add rows to those that are there.
func appends(j *job.Job) (out []string) {
	for i := range j.Sinks {
		on := false
		if r, ok := j.Sinks[i].With.(connect.Replacing); ok {
			on, _ = r.Replaces()
		}
		if !on {
			out = append(out, j.Sinks[i].Name)
		}
	}
	slices.Sort(out)
	return out
}

// drain lets a run end its sources where they stand: the watermark goes to the end, everything is published, and it
// finishes. It answers at once where that takes longer than a request may.
func (s *Service) drain(ctx context.Context, name string) (api.Run, error) {
	return holding(ctx, s, name, func(e *entry) (api.Run, error) {
		r, last := s.newestRun(e)
		if s.waiting(r, last) {
			return api.Run{}, api.Moving.With("", "")
		}
		if r == nil || !r.goingOn() {
			return api.Run{}, api.NotRunning.With("job "+name+" is not running", "")
		}
		r.endsFor(ctx)
		r.mu.Lock()
		if !r.drained {
			r.drained = true
			close(r.draining)
			if r.rec.Drains = true; r.rec.Status == running {
				r.rec.Status, r.since = draining, time.Now().UTC()
			}
			r.s.db.UpdateRun(r.rec)
			r.eventLocked("draining", "the sources end where they stand, and everything is published")
			r.tell()
		}
		r.mu.Unlock()
		select {
		case <-r.done:
		case <-time.After(answerWithin):
		case <-ctx.Done():
		}
		return r.view(), nil
	})
}
