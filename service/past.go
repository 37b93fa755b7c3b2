package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/figures"
	"undertide/job"
	"undertide/store"
)

// past keeps a job's figures over time: over all of its runs (docs/figures.md, "Over time"). Points of seconds are written ten at
// a time.
type past struct {
	mu      sync.Mutex // guards all below
	made    figures.Past
	loaded  bool // what an earlier service had of points under way
	waiting []figures.Point
	recent  api.Recent // of the last points of ten seconds
}

// The points of ten seconds that lists of jobs show: five minutes.
const (
	recentTier   = 1
	recentPoints = 30
)

// note takes a point into those that lists show. Called with mu held.
func (p *past) note(x figures.Point) {
	add := func(list []*float64, name string) []*float64 {
		var v *float64
		if i := slices.Index(x.Names, name); i >= 0 {
			v = finite(x.Means[i])
		}
		list = append(list, v)
		return list[max(0, len(list)-recentPoints):]
	}
	p.recent.Lag, p.recent.In = add(p.recent.Lag, "lag_events"), add(p.recent.In, "in_per_second")
}

// lately gives what lists show.
func (p *past) lately() api.Recent {
	p.mu.Lock()
	defer p.mu.Unlock()
	return api.Recent{Lag: append([]*float64{}, p.recent.Lag...), In: append([]*float64{}, p.recent.In...)}
}

// writeTogether is how many points of seconds are written together.
const writeTogether = 10

// pastOf gives what keeps the figures of a job.
func (s *Service) pastOf(job int64) *past {
	p, _ := s.pasts.LoadOrStore(job, &past{})
	return p.(*past)
}

// add takes a job's figures of a moment.
func (p *past) add(s *Service, job int64, at time.Time, names []string, values []float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.loaded {
		p.loaded = true
		p.load(s, job, at)
	}
	points := p.made.Add(at, names, values)
	for _, x := range points {
		if x.Tier == recentTier {
			p.note(x)
		}
	}
	p.waiting = append(p.waiting, points...)
	if len(p.waiting) >= writeTogether {
		p.write(s, job)
	}
}

// load takes up the points under way where an earlier service left them. Called with mu held.
func (p *past) load(s *Service, job int64, at time.Time) {
	ctx, cancel := context.WithTimeout(s.runs, 5*time.Second)
	defer cancel()
	for tier := len(figures.Tiers) - 2; tier >= 0; tier-- { // the coarsest first
		step := figures.Tiers[tier+1].Step
		now := at.UTC().Truncate(step)
		from := now.Add(-step)
		made, err := s.written(ctx, job, tier+1, from, now)
		if len(made) > 0 {
			from = now
		}
		list, err2 := s.written(ctx, job, tier, from, at)
		if err := errors.Join(err, err2); err != nil {
			s.opt.Log.Warn("figures over time go on without what was under way", "job", job, "error", err)
			return
		}
		p.waiting = append(p.waiting, p.made.Restore(list)...)
	}
	step := figures.Tiers[recentTier].Step
	list, err := s.written(ctx, job, recentTier, at.Add(-recentPoints*step), at)
	if err != nil {
		return
	}
	for _, x := range list {
		p.note(x)
	}
}

// written reads the points of a tier that are in the database.
func (s *Service) written(ctx context.Context, job int64, tier int, from, to time.Time) (out []figures.Point, err error) {
	list, names, err := s.db.Points(ctx, job, tier, from, to)
	for _, x := range list {
		out = append(out, figures.Point{Tier: tier, At: x.At.UTC(), Names: names[x.Shape], Means: x.Means, Greatest: x.Greatest})
	}
	return out, err
}

// write hands the points that wait to the database. Called with mu held.
func (p *past) write(s *Service, job int64) {
	var b store.Batch
	for _, x := range p.waiting {
		shape := store.ShapeOf(x.Names)
		if !slices.ContainsFunc(b.Shapes, func(o store.Shape) bool { return o.ID == shape.ID }) {
			b.Shapes = append(b.Shapes, shape)
		}
		b.Points = append(b.Points, store.Point{JobID: job, Tier: x.Tier, At: x.At, Shape: shape.ID, Means: x.Means, Greatest: x.Greatest})
	}
	p.waiting = nil
	s.db.AddPoints(b)
}

// flush writes what waits, as a run ends.
func (p *past) flush(s *Service, job int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.waiting) > 0 {
		p.write(s, job)
	}
}

// unwritten gives the points of a tier that wait to be written.
func (p *past) unwritten(tier int) (out []figures.Point) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range p.waiting {
		if x.Tier == tier {
			out = append(out, x)
		}
	}
	return out
}

// remember keeps the figures of a second, without a gap: where a run is started again, that it is not up.
func (r *runner) remember() {
	r.mu.Lock()
	now := time.Now().UTC()
	if r.lost {
		r.mu.Unlock()
		return
	}
	var values []float64
	if f := r.last; f != nil && now.Sub(f.At) < 5*sampleEvery && r.rec.Status != resuming && r.rec.Status != failed {
		values = figures.Values(r.job, f)
	} else {
		values = figures.Down(r.job, figures.NotUp{Restarts: r.rec.Restarts, RestartsLately: r.restartsLately(now), CheckpointsFailedRunning: r.unmade, CheckpointsFailed: r.missed, Failed: r.rec.Status == failed})
	}
	job := r.rec.JobID
	r.mu.Unlock()
	r.past.add(r.s, job, now, r.figureNames, values)
	r.alarms.add(r, now, r.figureNames, values)
}

// restartsLately counts the restarts of the last ten minutes. Called with mu held.
func (r *runner) restartsLately(now time.Time) int {
	r.restarted = slices.DeleteFunc(r.restarted, func(t time.Time) bool { return now.Sub(t) > lately })
	return len(r.restarted)
}

const lately = 10 * time.Minute

// rememberAll keeps the figures of every second until the run has ended; the first says that it is being started.
func (r *runner) rememberAll() {
	t := time.NewTicker(sampleEvery)
	defer t.Stop()
	r.remember()
	for {
		select {
		case <-r.done:
			r.remember()
			r.alarms.end(r, time.Now().UTC(), r.view().Status == failed)
			r.past.flush(r.s, r.rec.JobID)
			return
		case <-t.C:
			r.remember()
		}
	}
}

func namesOf(list []job.Figure) (names []string) {
	for _, f := range list {
		names = append(names, f.Name)
	}
	return names
}

// What is asked of figures over time.
const (
	pastSince    = time.Hour
	pastPoints   = 1000
	mostHappened = 500
)

// getPast gives a job's figures over time.
func (s *Service) getPast(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	since, err1 := moments(c, "since", now.Add(-pastSince))
	until, err2 := moments(c, "until", now)
	most, err3 := number(c, "limit", pastPoints, 2, 10_000)
	if err := cmp.Or(err1, err2, err3); err != nil {
		return err
	}
	if !since.Before(until) {
		return api.WrongRequest.With("since is not before until", "write since=1h, or two times")
	}
	asked := c.QueryArray("name")
	all, err := s.figuresOf(c, e)
	if err != nil {
		return err
	}
	tier := figures.TierFor(now, since, int(most))
	points, err := s.pointsOf(c.Request.Context(), e, tier, since, until)
	if err != nil {
		return err
	}
	out := api.PastFigures{Step: figures.Tiers[tier].Step.Seconds(), At: []int64{}, Lines: []api.PastLine{}}
	known := map[string]job.Figure{}
	var names []string
	for _, f := range all {
		known[f.Name] = f
		names = append(names, f.Name)
	}
	for _, p := range points { // those of older versions stand behind
		out.At = append(out.At, p.At.UnixMilli())
		for _, n := range p.Names {
			if _, is := known[n]; !is {
				known[n] = job.Figure{Name: n}
				names = append(names, n)
			}
		}
	}
	chosen, err := choose(names, asked)
	if err != nil {
		return err
	}
	for _, n := range chosen {
		out.Lines = append(out.Lines, lineOf(known[n], points))
	}
	if out.Marks, err = s.marks(c.Request.Context(), e, since, until); err != nil {
		return err
	}
	return answer(c, http.StatusOK, out)
}

// pointsOf reads the points of a tier, with those that wait to be written.
func (s *Service) pointsOf(ctx context.Context, e *entry, tier int, since, until time.Time) (out []figures.Point, err error) {
	if out, err = s.written(ctx, e.rec.ID, tier, since, until); err != nil {
		return nil, err
	}
	last := since
	if n := len(out); n > 0 {
		last = out[n-1].At
	}
	for _, x := range s.pastOf(e.rec.ID).unwritten(tier) {
		if x.At.After(last) && x.At.Before(until) {
			out = append(out, x)
		}
	}
	return out, nil
}

// choose gives the names that are asked for, in their order: `*` stands for anything between two dots; those of the job as a whole, where nothing is
// asked.
func choose(names, asked []string) ([]string, error) {
	if len(asked) == 0 {
		return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return strings.Contains(n, ".") }), nil
	}
	var out []string
	for _, pattern := range asked {
		found := false
		for _, n := range names {
			ok, err := path.Match(strings.ReplaceAll(pattern, ".", "/"), strings.ReplaceAll(n, ".", "/"))
			if err != nil {
				return nil, api.WrongRequest.With("name="+cut(pattern)+" is not a pattern", "write steps.*.busy_ratio")
			}
			if ok {
				found = true
				if !slices.Contains(out, n) {
					out = append(out, n)
				}
			}
		}
		if !found {
			fix := "undertide figures JOB --names lists those that there are"
			if near := job.Nearest(pattern, names); near != "" {
				fix = "did you mean " + near + "?"
			}
			return nil, api.NoSuchFigure.With("there is no figure "+cut(pattern), fix)
		}
	}
	return out, nil
}

// lineOf makes a line of one figure.
func lineOf(f job.Figure, points []figures.Point) api.PastLine {
	l := api.PastLine{Name: f.Name, Unit: f.Unit, About: f.About, Means: make([]*float64, len(points)), Greatest: make([]*float64, len(points))}
	at, names := -1, []string(nil)
	for i, p := range points {
		if len(names) != len(p.Names) || len(names) > 0 && &names[0] != &p.Names[0] {
			names, at = p.Names, slices.Index(p.Names, f.Name)
		}
		if at >= 0 && at < len(p.Means) {
			l.Means[i], l.Greatest[i] = finite(p.Means[at]), finite(p.Greatest[at])
		}
	}
	return l
}

// finite gives a number as JSON has it; nil for none.
func finite(v float32) *float64 {
	x := float64(v)
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// marks are what happened to a job: starts, stops, versions, failures, checkpoints that failed.
func (s *Service) marks(ctx context.Context, e *entry, since, until time.Time) ([]api.Mark, error) {
	out := []api.Mark{}
	events, err := s.db.Between(ctx, e.rec.ID, since, until, mostHappened)
	if err != nil {
		return nil, err
	}
	for _, x := range events {
		out = append(out, api.Mark{At: x.At, Kind: x.Kind, Text: x.Text})
	}
	failed, err := s.db.FailedCheckpoints(ctx, e.rec.ID, since, until, mostHappened)
	if err != nil {
		return nil, err
	}
	for _, k := range failed {
		out = append(out, api.Mark{At: k.WrittenAt, Kind: "checkpoint", Text: fmt.Sprintf("checkpoint %d is not complete: %s", k.Epoch, k.Fault)})
	}
	slices.SortStableFunc(out, func(a, b api.Mark) int { return a.At.Compare(b.At) })
	return out, nil
}

// figuresOf lists the figures of a job: of its newest run, or its newest version.
func (s *Service) figuresOf(c *gin.Context, e *entry) ([]job.Figure, error) {
	if r, _ := s.newestRun(e); r != nil {
		return r.job.Figures(), nil
	}
	_, j, err := s.read(c, e, "", nil, false)
	if err != nil {
		return nil, err
	}
	return j.Figures(), nil
}

// getFigureNames lists the figures of a job.
func (s *Service) getFigureNames(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	all, err := s.figuresOf(c, e)
	if err != nil {
		return err
	}
	out := api.List[api.FigureName]{Items: []api.FigureName{}}
	for _, f := range all {
		out.Items = append(out.Items, api.FigureName(f))
	}
	return answer(c, http.StatusOK, out)
}
