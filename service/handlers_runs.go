package service

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/store"
)

func (s *Service) getRuns(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	return page(c, func(before int64, limit int) ([]store.Run, error) {
		return s.db.Runs(c.Request.Context(), e.rec.ID, before, limit)
	}, func(r store.Run) (api.Run, int64) {
		return viewRun(e.rec.Name, r), r.ID
	})
}

// runner finds a run of this service by the address's number; nil, with the record, for an earlier one.
func (s *Service) runner(c *gin.Context) (*runner, store.Run, error) {
	id, err := strconv.ParseInt(c.Param("run"), 10, 64)
	if err != nil {
		return nil, store.Run{}, api.NoSuchRun.With("run "+cut(c.Param("run"))+" is not a number", "")
	}
	if r := s.going(id); r != nil {
		return r, store.Run{}, nil
	}
	rec, err := s.db.Run(c.Request.Context(), id)
	if err == store.ErrNotFound {
		err = api.NoSuchRun.With(fmt.Sprintf("there is no run %d", id), "")
	}
	return nil, rec, err
}

func (s *Service) nameOf(id int64) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, e := range s.jobs {
		if e.rec.ID == id {
			return name
		}
	}
	return ""
}

func (s *Service) getRun(c *gin.Context) error {
	r, rec, err := s.runner(c)
	if err != nil {
		return err
	}
	if r != nil {
		return answer(c, http.StatusOK, r.view())
	}
	return answer(c, http.StatusOK, viewRun(s.nameOf(rec.JobID), rec))
}

// live finds a run that this service carries out, or has carried out last.
func (s *Service) live(c *gin.Context) (*runner, error) {
	r, rec, err := s.runner(c)
	if err == nil && r == nil {
		err = ended(rec)
	}
	return r, err
}

func ended(rec store.Run) error {
	return api.NotRunning.With(fmt.Sprintf("run %d has ended (%s) and its figures and rows are no longer held", rec.ID, rec.Status), "look at the job's newest run")
}

// keptTap gives what was kept of a part for the newest run of a job, which an earlier service carried out.
func (s *Service) keptTap(c *gin.Context, rec store.Run) (*tap, error) {
	e, err := s.find(s.nameOf(rec.JobID))
	if err != nil {
		return nil, err
	}
	if r, last := s.newestRun(e); r != nil || last == nil || last.ID != rec.ID {
		return nil, ended(rec)
	}
	t, names, err := s.tapOf(c, e, c.Param("step"))
	if err == nil && t == nil {
		err = noStep(e.rec.Name, c.Param("step"), names, "")
	}
	return t, err
}

// getFigures gives a run's figures; as a stream, every second until the run ends.
func (s *Service) getFigures(c *gin.Context) error {
	r, err := s.live(c)
	if err != nil {
		return err
	}
	if !wantsStream(c) {
		f := r.figures()
		if f == nil {
			if !r.goingOn() {
				return api.NotRunning.With(fmt.Sprintf("run %d ended before it read anything, so it has no figures", r.view().ID), fmt.Sprintf("see why it ended: undertide show %s", r.name))
			}
			return api.NotRunning.With(fmt.Sprintf("run %d has no figures yet", r.view().ID), "ask again when it runs")
		}
		return answer(c, http.StatusOK, f)
	}
	news, leave := r.listen()
	defer leave()
	return s.sendEvents(c, news, func(send func(event, id string, v any)) bool {
		more := r.goingOn()
		if !more && r.hasMoved() {
			return false
		}
		send("run", "", r.view())
		if f := r.figures(); f != nil {
			send("metrics", "", f)
		}
		if !more {
			send("end", "", r.view())
		}
		return more
	})
}

func (s *Service) getCheckpoints(c *gin.Context) error {
	r, rec, err := s.runner(c)
	if err != nil {
		return err
	}
	name := ""
	if r != nil {
		r.mu.Lock()
		rec, name = r.rec, r.name
		r.mu.Unlock()
	} else {
		name = s.nameOf(rec.JobID)
	}
	pins, err := s.db.Pins(c.Request.Context(), rec.JobID)
	if err != nil {
		return err
	}
	return page(c, func(before int64, limit int) ([]store.Checkpoint, error) {
		return s.db.Checkpoints(c.Request.Context(), rec.ID, before, limit)
	}, func(k store.Checkpoint) (api.Checkpoint, int64) {
		return s.viewCheckpoint(name, store.JobCheckpoint{Checkpoint: k, Version: rec.Version}, pins), k.Epoch
	})
}

// getRows gives the newest rows of a step that are kept, newest first; as a stream, those after
// Last-Event-ID or `after`, else after now, as they are published.
func (s *Service) getRows(c *gin.Context) error {
	r, rec, err := s.runner(c)
	if err != nil {
		return err
	}
	var t *tap
	if r != nil {
		t, err = r.look(c.Param("step"))
	} else { // of a run before this service started
		t, err = s.keptTap(c, rec)
	}
	if err != nil {
		return err
	}
	limit, err1 := number(c, "limit", 100, 1, 10_000)
	since, err2 := moments(c, "since", time.Time{})
	if err := cmp.Or(err1, err2); err != nil {
		return err
	}
	if t == nil {
		out, is, err := r.referenceRows(c, int(limit))
		if err != nil {
			return err
		}
		if is {
			return answer(c, http.StatusOK, out)
		}
		return noStep(r.name, c.Param("step"), r.names, r.referenceNames())
	}
	match, err := t.matchKey(c.QueryArray("key"))
	if err != nil {
		return err
	}
	recent := func(row api.Row) bool { return !row.At.Before(since) && match(row) }
	after := c.Query("after")
	if wantsStream(c) {
		if r == nil {
			return ended(rec)
		}
		return s.followRows(c, r, t, recent, cmp.Or(c.GetHeader("Last-Event-ID"), after), int(limit))
	}
	if after == "" {
		return answer(c, http.StatusOK, t.newest(int(limit), recent))
	}
	seq, ok, err := t.seqOf(after)
	if err != nil {
		return err
	}
	if !ok {
		out := t.newest(int(limit), recent)
		out.Anew = true
		return answer(c, http.StatusOK, out)
	}
	out := t.newest(int(limit), func(row api.Row) bool { return row.Seq > seq && recent(row) })
	list := t.after(seq, t.keep)
	out.Missed, _ = missedIn(list, seq)
	return answer(c, http.StatusOK, out)
}

// followEvery is how often a stream of rows looks for new ones at most: rows that come meanwhile come together.
const followEvery = 100 * time.Millisecond

// followRows sends the newest rows, or those after a mark, and then those that are published, until the run ends. Each
// event has the mark of its row as id.
func (s *Service) followRows(c *gin.Context, r *runner, t *tap, match func(api.Row) bool, mark string, limit int) error {
	seq, known := int64(-1), false
	if mark != "" {
		var err error
		if seq, known, err = t.seqOf(mark); err != nil {
			return err
		}
	}
	news, leave := t.listen()
	defer leave()
	ended, leaveRun := r.listen()
	defer leaveRun()
	both := make(chan struct{}, 1)
	gone := c.Request.Context().Done() // the context itself is used again for other requests
	go func() {
		for {
			select {
			case <-gone:
				return
			case <-news:
			case <-ended:
			}
			select {
			case both <- struct{}{}:
			default:
			}
			select {
			case <-gone:
				return
			case <-time.After(followEvery):
			}
		}
	}()
	return s.sendEvents(c, both, func(send func(event, id string, v any)) bool {
		more := r.goingOn()
		if !more && r.hasMoved() {
			return false
		}
		if !known { // begin with the newest
			if mark != "" {
				send("gap", "", api.Gap{Anew: true})
			}
			begin := t.newest(limit, match)
			for i := len(begin.Rows) - 1; i >= 0; i-- {
				send("row", t.mark(begin.Rows[i].Seq), begin.Rows[i])
			}
			seq, known = begin.Passed, true
		}
		missed := int64(0)
		for {
			list := t.after(seq, 1000)
			n, last := missedIn(list, seq)
			missed, seq = missed+n, last
			for _, row := range list {
				if match(row) {
					send("row", t.mark(row.Seq), row)
				}
			}
			if len(list) < 1000 {
				break
			}
		}
		if missed > 0 {
			send("gap", t.mark(seq), api.Gap{Missed: missed})
		}
		if !more {
			send("end", "", r.view())
		}
		return more
	})
}
