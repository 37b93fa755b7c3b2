package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/step"
	"undertide/job"
	"undertide/store"
)

// How notices go out (docs/alarms.md, "Who is told").
const (
	tellWithin  = 20 * time.Second // one try
	againAfter  = 4 * time.Hour    // an alarm that is on and that nobody has seen is told again
	mostAgain   = 6                // so often
	mostTelling = 1000             // wait for one notice; more are dropped, the oldest first
)

// notices tells people of alarms. Each notice has a goroutine of its own, so that one whose receiver is away holds up no other. Safe for
// concurrent use.
type notices struct {
	s *Service

	mu  sync.Mutex // guards all below
	all map[string]*teller
}

// teller is a notice, with what it is to tell.
type teller struct {
	rec     store.Notice
	news    chan struct{} // one waits where there is more to tell
	gone    chan struct{} // closed when it is removed
	waiting []store.Telling
	trouble string // of the last try; empty for none
	told    int64
	last    time.Time
}

// openNotices reads the notices, and what they were to tell as an earlier service ended.
func (s *Service) openNotices(ctx context.Context) error {
	s.notices = &notices{s: s, all: map[string]*teller{}}
	list, err := s.db.Notices(ctx)
	if err != nil {
		return err
	}
	var waiting []store.Telling
	if s.opt.Node == "" { // else it comes with the jobs
		if waiting, err = s.db.Tellings(ctx); err != nil {
			return err
		}
	}
	for _, rec := range list {
		s.notices.add(rec, slices.DeleteFunc(slices.Clone(waiting), func(w store.Telling) bool { return w.Notice != rec.Name }))
	}
	return nil
}

// readNotices takes in what another node has changed.
func (s *Service) readNotices(ctx context.Context) error {
	list, err := s.db.Notices(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, rec := range list {
		there[rec.Name] = true
		s.notices.mu.Lock()
		t := s.notices.all[rec.Name]
		same := t != nil && t.rec.Text == rec.Text && t.rec.Everything == rec.Everything
		s.notices.mu.Unlock()
		if !same {
			s.notices.add(rec, nil)
		}
	}
	s.notices.mu.Lock()
	defer s.notices.mu.Unlock()
	for name, t := range s.notices.all {
		if !there[name] {
			delete(s.notices.all, name)
			close(t.gone)
		}
	}
	return nil
}

// tellOf lets notices tell what a node of before was to tell of a job that was taken over from it.
func (s *Service) tellOf(ctx context.Context, job string) error {
	waiting, err := s.db.Tellings(ctx)
	if err != nil {
		return err
	}
	s.notices.mu.Lock()
	defer s.notices.mu.Unlock()
	for _, w := range waiting {
		if t := s.notices.all[w.Notice]; t != nil && w.Job == job && !slices.Contains(t.waiting, w) {
			t.waiting = append(t.waiting, w)
			t.wake()
		}
	}
	return nil
}

// add takes in a notice with what it is to tell, or changes one, and begins to tell.
func (n *notices) add(rec store.Notice, waiting []store.Telling) *teller {
	n.mu.Lock()
	defer n.mu.Unlock()
	if t := n.all[rec.Name]; t != nil {
		t.rec, t.trouble = rec, ""
		t.wake()
		return t
	}
	t := &teller{rec: rec, news: make(chan struct{}, 1), gone: make(chan struct{}), waiting: waiting}
	n.all[rec.Name] = t
	go n.run(t)
	return t
}

func (t *teller) wake() {
	select {
	case t.news <- struct{}{}:
	default:
	}
}

// tell lets those notices tell of an alarm that it names, and those that tell everything.
func (n *notices) tell(names []string, what store.Telling) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for name, t := range n.all {
		if !t.rec.Everything && !slices.Contains(names, name) {
			continue
		}
		one := what
		one.Notice = name
		if len(t.waiting) == mostTelling {
			n.s.opt.Log.Warn("a notice has too much to tell; the oldest is dropped", "notice", name, "alarm", t.waiting[0].Alarm, "job", t.waiting[0].Job)
			t.waiting = t.waiting[1:]
		}
		t.waiting = append(t.waiting, one)
		n.s.db.Tell(one)
		t.wake()
	}
	for _, name := range names {
		if n.all[name] == nil {
			n.s.opt.Log.Warn("an alarm names a notice that is not there; make it: undertide notices "+name+" --put FILE", "notice", name, "alarm", what.Alarm, "job", what.Job)
		}
	}
}

// run tells what comes, one after another, and tries again what was not taken.
func (n *notices) run(t *teller) {
	wait := &backoff.ExponentialBackOff{InitialInterval: time.Second, Multiplier: 2, MaxInterval: time.Minute, RandomizationFactor: 0.2}
	ctx := n.s.runs
	for {
		n.mu.Lock()
		rec := t.rec
		var first *store.Telling
		if len(t.waiting) > 0 {
			w := t.waiting[0]
			first = &w
		}
		n.mu.Unlock()
		if first == nil {
			select {
			case <-ctx.Done():
				return
			case <-t.gone:
				return
			case <-t.news:
			}
			continue
		}
		err := engine.Guard(func() error {
			return n.s.send(ctx, rec, job.Told{Job: first.Job, Alarm: first.Alarm, State: first.State, About: first.About, At: first.At})
		})
		n.mu.Lock()
		if err == nil {
			t.waiting = slices.DeleteFunc(t.waiting, func(w store.Telling) bool { return w == *first })
			t.trouble, t.told, t.last = "", t.told+1, time.Now().UTC()
			first.Told = true
			n.s.db.Tell(*first)
			wait.Reset()
			n.mu.Unlock()
			continue
		}
		if t.trouble == "" {
			n.s.opt.Log.Warn("a notice could not be delivered; it is tried again", "notice", rec.Name, "error", err)
		}
		t.trouble = err.Error()
		n.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-t.gone:
			return
		case <-t.news:
		case <-time.After(wait.NextBackOff()):
		}
	}
}

// send tells one thing by a notice.
func (s *Service) send(ctx context.Context, rec store.Notice, told job.Told) error {
	limited, cancel := context.WithTimeout(ctx, tellWithin)
	defer cancel()
	to, err := job.ReadNotice(rec.Name, rec.Text, s.options(nil, true))
	if err != nil {
		return err
	}
	out, err := to.With.Open(limited, connect.Opening{Job: told.Job, Name: rec.Name, Format: to.Encode})
	if err != nil {
		return err
	}
	sent := make(chan error, 1)
	go func() {
		sent <- engine.Guard(func() error {
			if err := out.Open(nil, 1); err != nil {
				return err
			}
			view := step.ViewOf(told.Batch(to.Schema))
			if err := out.Write(out.NewEncoder(to.Schema).Append(nil, view), 1); err != nil {
				return err
			}
			_, err := out.Prepare(1)
			return err
		})
	}()
	select {
	case err = <-sent:
	case <-limited.Done():
		err = errors.New("it was not taken within " + tellWithin.String())
		if t, ok := out.(engine.Troubled); ok && t.Trouble() != "" {
			err = errors.New(t.Trouble())
		}
		if i, ok := out.(engine.Interrupter); ok {
			i.Interrupt()
		}
		<-sent
	}
	return errors.Join(err, out.Abort())
}

// view gives a notice as it stands. Called with mu held.
func (t *teller) view() api.Notice {
	v := api.Notice{Name: t.rec.Name, Text: t.rec.Text, Everything: t.rec.Everything, Told: t.told, Waiting: len(t.waiting), Trouble: t.trouble}
	if last := t.last; !last.IsZero() {
		v.LastAt = &last
	}
	return v
}

func (s *Service) getNotices(c *gin.Context) error {
	out := api.List[api.Notice]{Items: []api.Notice{}}
	s.notices.mu.Lock()
	for _, t := range s.notices.all {
		out.Items = append(out.Items, t.view())
	}
	s.notices.mu.Unlock() // whoever reads the answer slowly holds up nobody
	slices.SortFunc(out.Items, func(a, b api.Notice) int { return strings.Compare(a.Name, b.Name) })
	return answer(c, http.StatusOK, out)
}

// putNotice makes or changes a notice.
func (s *Service) putNotice(c *gin.Context) error {
	var ask api.NewNotice
	if err := body(c, &ask); err != nil {
		return err
	}
	name := c.Param("notice")
	if !plainName(name) || strings.Contains(name, "-") {
		return api.WrongRequest.With(cut(name)+" is not a name for a notice", "use letters, digits and _, beginning with a letter")
	}
	sink, err := job.ReadNotice(name, ask.Text, s.options(nil, false))
	var faults job.Faults
	if errors.As(err, &faults) {
		return api.WrongRequest.With(faults[0].Message, faults[0].Remedy)
	}
	if err != nil {
		return err
	}
	if sink.Via != "mail" && sink.Via != "http" {
		return api.WrongRequest.With("a notice of kind "+sink.Via+" reaches no person", "write via: mail, or via: http")
	}
	rec := store.Notice{Name: name, Text: ask.Text, Everything: ask.Everything, UpdatedAt: time.Now().UTC()}
	if err := store.Put(c.Request.Context(), s.db, rec); err != nil {
		return err
	}
	t := s.notices.add(rec, nil)
	s.notices.mu.Lock()
	v := t.view()
	s.notices.mu.Unlock()
	return answer(c, http.StatusOK, v)
}

// deleteNotice removes a notice.
func (s *Service) deleteNotice(c *gin.Context) error {
	name := c.Param("notice")
	s.notices.mu.Lock()
	t := s.notices.all[name]
	s.notices.mu.Unlock()
	if t == nil {
		return s.noNotice(name)
	}
	if err := s.db.RemoveNotice(c.Request.Context(), name); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	s.notices.mu.Lock()
	defer s.notices.mu.Unlock()
	if s.notices.all[name] == t {
		delete(s.notices.all, name)
		close(t.gone)
	}
	return nothing(c)
}

func (s *Service) noNotice(name string) error {
	s.notices.mu.Lock()
	defer s.notices.mu.Unlock()
	var known []string
	for n := range s.notices.all {
		known = append(known, n)
	}
	fix := ""
	if near := job.Nearest(name, known); near != "" {
		fix = "did you mean " + near + "?"
	}
	return api.NoSuchNotice.With("there is no notice "+cut(name), fix)
}

// tryNotice tells something by a notice now, and says whether it was taken.
func (s *Service) tryNotice(c *gin.Context) error {
	s.notices.mu.Lock()
	t := s.notices.all[c.Param("notice")]
	var rec store.Notice
	if t != nil {
		rec = t.rec
	}
	s.notices.mu.Unlock()
	if t == nil {
		return s.noNotice(c.Param("notice"))
	}
	err := s.send(c.Request.Context(), rec, job.Told{Job: "no-job", Alarm: "trial", State: "on", About: "somebody tries whether this notice arrives", At: time.Now().UTC()})
	if err != nil {
		return api.Unreachable.With(fmt.Sprintf("notice %s was not taken: %v", rec.Name, err), "")
	}
	return answer(c, http.StatusOK, api.NoticeTried{Told: true})
}
