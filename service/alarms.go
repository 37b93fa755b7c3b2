package service

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/core/row"
	"undertide/figures"
	"undertide/job"
	"undertide/store"
)

// rules are the alarms of all jobs: the usual ones, with what people changed. Safe for concurrent use.
type rules struct {
	mu      sync.RWMutex // guards all below
	all     []job.Alarm  // as they count
	written []store.Rule
	stamp   int // grows with each change
}

func openRules(ctx context.Context, db *store.Store) (*rules, error) {
	written, err := db.Rules(ctx)
	if err != nil {
		return nil, err
	}
	r := &rules{}
	r.set(written)
	return r, nil
}

// set takes what is written. A rule that this version does not understand is as usual, or not there.
func (r *rules) set(written []store.Rule) {
	all := figures.Usual()
	for _, w := range written {
		i := slices.IndexFunc(all, func(a job.Alarm) bool { return a.Name == w.Name })
		if i < 0 {
			i, all = len(all), append(all, job.Alarm{Name: w.Name})
		}
		all[i] = alarmOf(w, all[i])
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all, r.written = all, written
	r.stamp++
}

// alarmOf is a rule as it counts, over the usual one of its name.
func alarmOf(w store.Rule, usual job.Alarm) job.Alarm {
	text := w.Condition
	if text == "" && usual.When != nil {
		text = usual.When.Text()
	}
	a, err := job.AlarmOf(w.Name, text, cmp.Or(w.About, usual.About), time.Duration(w.Lasting)*time.Microsecond, splitNames(w.Notify))
	if err != nil {
		return usual
	}
	if w.Off {
		a.When = nil
	}
	return a
}

func splitNames(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// list gives the alarms of all jobs, and a number that tells when they have changed.
func (r *rules) list() ([]job.Alarm, int) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.all, r.stamp
}

// alarms watches those of one job, over all of its runs.
type alarms struct {
	mu    sync.Mutex // guards all below
	watch figures.Alarms
	rules []job.Alarm
	of    *job.Job // whose rules those are
	stamp int
	on    map[string]store.Alarm // those that are on, by name
	told  map[string]*again      // of those
}

// alarmsOf gives what watches the alarms of a job.
func (s *Service) alarmsOf(job int64) *alarms {
	a, _ := s.alarms.LoadOrStore(job, &alarms{on: map[string]store.Alarm{}, told: map[string]*again{}})
	return a.(*alarms)
}

// resumeAlarms takes up the alarms that were on when an earlier service ended.
func (s *Service) resumeAlarms(ctx context.Context) error {
	return s.takeUpAlarms(ctx, store.AlarmQuery{On: true, Limit: 100_000})
}

// alarmsAnew takes up those of a job that another node watched before.
func (s *Service) alarmsAnew(ctx context.Context, job int64) error {
	s.alarms.Delete(job)
	return s.takeUpAlarms(ctx, store.AlarmQuery{Job: job, On: true, Limit: 1000})
}

func (s *Service) takeUpAlarms(ctx context.Context, of store.AlarmQuery) error {
	list, err := s.db.Alarms(ctx, of)
	for _, x := range list {
		a := s.alarmsOf(x.JobID)
		a.mu.Lock()
		a.watch.Resume(x.Name, x.OnAt)
		a.on[x.Name] = x
		a.mu.Unlock()
	}
	return err
}

// add takes the figures of a moment of a run, and tells what is on or off with them.
func (a *alarms) add(r *runner, at time.Time, names []string, values []float64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	usual, stamp := r.s.rules.list()
	if a.of != r.job || a.stamp != stamp {
		a.of, a.stamp, a.rules = r.job, stamp, figures.Rules(usual, r.job)
	}
	for _, c := range a.watch.Add(at, a.rules, names, values) {
		rec := store.Alarm{JobID: r.rec.JobID, Name: c.Alarm.Name, Text: c.Text, OnAt: c.At}
		if c.On {
			a.on[rec.Name] = rec
			r.s.db.AlarmOn(rec)
			r.log.Warn("alarm", "alarm", rec.Name, "about", rec.Text)
			r.event("alarm", rec.Name+": "+rec.Text)
			a.told[rec.Name] = &again{at: c.At}
			r.s.notices.tell(c.Alarm.Notify, store.Telling{Job: r.name, Alarm: rec.Name, State: "on", At: c.At, About: rec.Text})
			continue
		}
		delete(a.on, rec.Name)
		r.s.db.AlarmOff(rec.JobID, rec.Name, c.At)
		r.log.Info("the alarm is off", "alarm", rec.Name, "about", rec.Text)
		r.event("well", "alarm "+rec.Name+" is off")
		delete(a.told, rec.Name)
		r.s.notices.tell(c.Alarm.Notify, store.Telling{Job: r.name, Alarm: rec.Name, State: "off", At: c.At, About: rec.Text})
	}
	a.repeat(r, at)
}

// again is when an alarm that is on was told last, and how often again.
type again struct {
	at    time.Time
	times int
}

// repeat tells again of alarms that nobody has seen. Called with mu held.
func (a *alarms) repeat(r *runner, at time.Time) {
	for name, rec := range a.on {
		t := a.told[name]
		if t == nil { // it was on when the service started
			a.told[name] = &again{at: at}
			continue
		}
		if rec.SeenAt != nil || t.times >= mostAgain || at.Sub(t.at) < againAfter {
			continue
		}
		t.at, t.times = at, t.times+1
		r.s.notices.tell(a.notify(name), store.Telling{Job: r.name, Alarm: name, State: "on", At: at, About: "still: " + rec.Text})
	}
}

// notify gives the notices that tell of an alarm. Called with mu held.
func (a *alarms) notify(name string) []string {
	if i := slices.IndexFunc(a.rules, func(x job.Alarm) bool { return x.Name == name }); i >= 0 {
		return a.rules[i].Notify
	}
	return nil
}

// seen notes that somebody has seen an alarm that is on.
func (a *alarms) seen(x store.Alarm) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if on, is := a.on[x.Name]; is && x.OffAt == nil {
		on.SeenAt, on.SeenBy = x.SeenAt, x.SeenBy
		a.on[x.Name] = on
	}
}

// end tells that the run has ended: what was on is off, but for that it has failed.
func (a *alarms) end(r *runner, at time.Time, failed bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for name := range a.on {
		if name == failedAlarm && failed {
			continue
		}
		a.watch.Forget(name)
		rec := a.on[name]
		delete(a.on, name)
		delete(a.told, name)
		r.s.db.AlarmOff(r.rec.JobID, name, at)
		r.s.notices.tell(a.notify(name), store.Telling{Job: r.name, Alarm: name, State: "off", At: at, About: "the run has ended: " + rec.Text})
		r.log.Info("the alarm is off, since the run has ended", "alarm", name)
	}
}

// failedAlarm is the one that stays on with a run that has failed.
const failedAlarm = "failed"

// onNow gives the names of those that are on, sorted.
func (a *alarms) onNow() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := []string{}
	for name := range a.on {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (s *Service) viewAlarm(x store.Alarm) api.Alarm {
	return api.Alarm{ID: x.ID, Job: s.nameOf(x.JobID), Name: x.Name, Text: x.Text, OnAt: x.OnAt, OffAt: x.OffAt, SeenAt: x.SeenAt, SeenBy: x.SeenBy}
}

// getAlarms lists alarms of all jobs or of one, those that are on or all, newest first.
func (s *Service) getAlarms(c *gin.Context) error {
	q := store.AlarmQuery{On: c.Query("on") == "true"}
	if name := c.Param("job") + c.Query("job"); name != "" {
		e, err := s.find(name)
		if err != nil {
			return err
		}
		q.Job = e.rec.ID
	}
	return page(c, func(before int64, limit int) ([]store.Alarm, error) {
		q.Before, q.Limit = before, limit
		return s.db.Alarms(c.Request.Context(), q)
	}, func(x store.Alarm) (api.Alarm, int64) { return s.viewAlarm(x), x.ID })
}

// postSeen notes that a person has seen an alarm.
func (s *Service) postSeen(c *gin.Context) error {
	var ask api.Seen
	if err := body(c, &ask); err != nil {
		return err
	}
	id, err := strconv.ParseInt(c.Param("alarm"), 10, 64)
	if err != nil {
		return api.NoSuchAlarm.With("there is no alarm "+cut(c.Param("alarm")), "")
	}
	by := cut(strings.TrimSpace(ask.By))
	if who := askerOf(c); who.Name != "" { // nobody has seen it in somebody else's name
		by = who.Name
	}
	x, err := s.db.See(c.Request.Context(), id, by, time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return api.NoSuchAlarm.With("there is no alarm "+cut(c.Param("alarm")), "")
	}
	if err != nil {
		return err
	}
	s.alarmsOf(x.JobID).seen(x)
	return answer(c, http.StatusOK, s.viewAlarm(x))
}

func viewRule(a job.Alarm, usual, changed bool) api.Rule {
	out := api.Rule{Name: a.Name, About: a.About, For: row.DurationText(a.For), Off: a.When == nil, Usual: usual, Changed: changed, Notify: append([]string{}, a.Notify...)}
	if a.When != nil {
		out.When = a.When.Text()
	}
	return out
}

// getRules lists the alarms that all jobs have.
func (s *Service) getRules(c *gin.Context) error {
	usual := figures.Usual()
	all, _ := s.rules.list()
	s.rules.mu.RLock()
	written := s.rules.written
	s.rules.mu.RUnlock()
	out := api.List[api.Rule]{Items: []api.Rule{}}
	for _, a := range all {
		was := slices.IndexFunc(usual, func(u job.Alarm) bool { return u.Name == a.Name })
		v := viewRule(a, was >= 0, slices.ContainsFunc(written, func(w store.Rule) bool { return w.Name == a.Name }))
		if v.Off && was >= 0 {
			v.When = usual[was].When.Text()
		}
		out.Items = append(out.Items, v)
	}
	return answer(c, http.StatusOK, out)
}

// putRule changes an alarm of all jobs, or makes one.
func (s *Service) putRule(c *gin.Context) error {
	var ask api.NewRule
	if err := body(c, &ask); err != nil {
		return err
	}
	name := c.Param("rule")
	if !pinNames.MatchString(name) || strings.ContainsAny(name, ".-") {
		return api.WrongRequest.With(cut(name)+" is not a name for an alarm", "use letters, digits and _, beginning with a letter")
	}
	usual := figures.Usual()
	was := slices.IndexFunc(usual, func(u job.Alarm) bool { return u.Name == name })
	w := store.Rule{Name: name, Condition: ask.When, About: ask.About, Off: ask.Off, Notify: strings.Join(ask.Notify, ",")}
	switch {
	case was < 0 && ask.When == "":
		return api.WrongRequest.With(name+" is not a usual alarm, and has no condition", "give when, such as lag_seconds > 60")
	case ask.For != "":
		d, err := job.ParseDuration(ask.For)
		if err != nil {
			return api.WrongRequest.With("for: "+err.Error(), "write a duration such as 5m")
		}
		w.Lasting = d.Microseconds()
	case was >= 0:
		w.Lasting = usual[was].For.Microseconds()
	default:
		w.Lasting = time.Minute.Microseconds()
	}
	if ask.When != "" {
		if _, err := job.AlarmOf(name, ask.When, "", 0, nil); err != nil {
			return api.WrongRequest.With("when: "+err.Error(), "docs/figures.md lists the figures")
		}
	}
	if err := store.Put(c.Request.Context(), s.db, w); err != nil {
		return err
	}
	if err := s.readRules(c.Request.Context()); err != nil {
		return err
	}
	return s.getRules(c)
}

// deleteRule makes a usual alarm as usual again, or takes another one away.
func (s *Service) deleteRule(c *gin.Context) error {
	err := store.Remove[store.Rule](c.Request.Context(), s.db, c.Param("rule"))
	if errors.Is(err, store.ErrNotFound) {
		return api.NoSuchAlarm.With("nobody has changed an alarm "+cut(c.Param("rule")), "")
	}
	if err != nil {
		return err
	}
	if err := s.readRules(c.Request.Context()); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}

func (s *Service) readRules(ctx context.Context) error {
	written, err := s.db.Rules(ctx)
	if err == nil {
		s.rules.set(written)
	}
	return err
}
