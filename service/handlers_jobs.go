package service

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/figures"
	"undertide/job"
	"undertide/run"
	"undertide/store"
)

// viewJob gives a job as lists show it.
func (s *Service) viewJob(e *entry) api.Job {
	s.mu.Lock()
	r, last := e.run, e.last
	out := api.Job{Name: e.rec.Name, About: e.newest.About, Version: e.newest.Number, CreatedAt: e.rec.CreatedAt, Owners: append([]string{}, e.rec.Owners...), SpanOf: e.rec.SpanOf, SpanBegin: e.rec.SpanBegin, SpanUntil: e.rec.SpanUntil, PortionOf: e.rec.PortionOf, Portions: []api.Portion{}, Status: "saved", Since: e.newest.CreatedAt.Format(time.RFC3339)}
	s.mu.Unlock()
	if r != nil && r.held != nil && r.goingOn() {
		out.Node = s.opt.Node
	}
	switch {
	case r != nil:
		v := r.view()
		out.Run, out.Status = &v, v.Status
		r.mu.Lock()
		dividing := r.dividing
		out.Since = r.since.Format(time.RFC3339)
		if r.last != nil {
			live := r.last.Live
			out.Live = &live
		} else if r.trouble != "" {
			out.Live = &api.Live{Trouble: r.trouble, Sentence: r.resumingLocked(), Restarts: r.rec.Restarts, Causes: []api.Cause{}}
		}
		r.mu.Unlock()
		if out.Live != nil {
			out.Sentence = out.Live.Sentence
		}
		if dividing != "" {
			out.Sentence = dividing
		}
		if !r.goingOn() {
			out.Live, out.Sentence = nil, figures.Ended(v)
		}
	case last != nil:
		v := viewRun(e.rec.Name, *last)
		out.Run, out.Status, out.Since = &v, v.Status, v.StartedAt.Format(time.RFC3339)
		if v.EndedAt != nil {
			out.Since = v.EndedAt.Format(time.RFC3339)
		}
		out.Sentence = figures.Ended(v)
		if s.nodes != nil && last.Wanted {
			out.Node, out.Sentence = s.nodes.howElsewhere(last.JobID)
			if out.Node == "" {
				out.Status = resuming
			}
		}
	default:
		out.Sentence = "Saved, and never started."
	}
	if s.nodes != nil {
		out.Portions = s.portionViews(e)
	}
	out.Alarms, out.Recent = s.alarmsOf(e.rec.ID).onNow(), s.pastOf(e.rec.ID).lately()
	if out.Sentence == "" { // no figures yet
		out.Sentence = figures.Begun(out.Status, out.Since)
	}
	return out
}

func (s *Service) viewJobs() []api.Job {
	s.mu.Lock()
	var all []*entry
	for _, e := range s.jobs {
		all = append(all, e)
	}
	s.mu.Unlock()
	out := []api.Job{}
	for _, e := range all {
		out = append(out, s.viewJob(e))
	}
	slices.SortFunc(out, func(a, b api.Job) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// viewAllJobs gives the jobs as lists show them; those of other nodes as those see them, where they answer.
func (s *Service) viewAllJobs(ctx context.Context) []api.Job {
	out := slices.DeleteFunc(s.viewJobs(), func(j api.Job) bool { return j.PortionOf != "" })
	if s.nodes == nil {
		return out
	}
	others := s.nodes.others(ctx)
	for i := range out {
		e, err := s.find(out[i].Name)
		if err != nil {
			continue
		}
		if x, ok := s.nodes.holder(s.record(e).ID); ok {
			if seen, told := others[out[i].Name]; told {
				out[i] = seen
			}
			out[i].Node = x.Name
		}
	}
	return out
}

// figuresOfRun gives the figures of a run that goes on, here or on another node; nil for none.
func (s *Service) figuresOfRun(ctx context.Context, id int64) *api.Figures {
	if r := s.going(id); r != nil {
		return r.figures()
	}
	if s.nodes == nil || id == 0 {
		return nil
	}
	rec, err := s.db.Run(ctx, id)
	if err != nil {
		return nil
	}
	x, ok := s.nodes.holder(rec.JobID)
	if !ok || !x.Alive {
		return nil
	}
	var f api.Figures
	if s.nodes.get(ctx, x, fmt.Sprintf("/runs/%d/figures", id), &f) != nil {
		return nil
	}
	return &f
}

// getJobs lists jobs by name, those after `after`; as a stream, all of them every second. A browser
// holds few connections to one server, so that the stream also gives the figures of one run.
func (s *Service) getJobs(c *gin.Context) error {
	if wantsStream(c) {
		return s.followJobs(c)
	}
	limit, err := number(c, "limit", 100, 1, 1000)
	if err != nil {
		return err
	}
	all := s.viewAllJobs(c.Request.Context())
	if from := c.Query("after"); from != "" {
		all = slices.DeleteFunc(all, func(j api.Job) bool { return j.Name <= from })
	}
	p := api.Page[api.Job]{Items: all}
	if int64(len(all)) > limit {
		p.Items = all[:limit]
		p.Next = p.Items[limit-1].Name
	}
	return answer(c, http.StatusOK, p)
}

func (s *Service) followJobs(c *gin.Context) error {
	id, err := number(c, "run", 0, 1, 1<<62)
	if err != nil {
		return err
	}
	beat := make(chan struct{}, 1)
	t := time.NewTicker(time.Second)
	defer t.Stop()
	gone := c.Request.Context().Done() // the context itself is used again for other requests
	go func() {
		for {
			select {
			case <-gone:
				return
			case <-t.C:
				select {
				case beat <- struct{}{}:
				default:
				}
			}
		}
	}()
	return s.sendEvents(c, beat, func(send func(event, id string, v any)) bool {
		send("jobs", "", api.Overview{Items: s.viewAllJobs(c.Request.Context()), Status: s.status(), Nodes: s.viewNodes()})
		if f := s.figuresOfRun(c.Request.Context(), id); f != nil {
			send("metrics", "", f)
		}
		return true
	})
}

// going finds a run of this service by its number; nil for none.
func (s *Service) going(id int64) *runner {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.jobs {
		if e.run != nil && e.run.rec.ID == id {
			return e.run
		}
	}
	return nil
}

func (s *Service) getJob(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, s.viewJob(e))
}

// postJob saves a document, which is the request's body as it is.
func (s *Service) postJob(c *gin.Context) error {
	switch kind := c.ContentType(); kind {
	case "application/yaml", "application/json", "text/yaml", "application/x-yaml":
	default:
		return api.WrongRequest.With("the content type is "+kind, "send the document as application/yaml")
	}
	text, err := readBody(c)
	if err != nil {
		return err
	}
	from, err := madeFrom(c.GetHeader("If-Match"))
	if err != nil {
		return err
	}
	saved, err := s.save(c.Request.Context(), string(text), from)
	if err != nil {
		return err
	}
	c.Header("ETag", strconv.Quote(strconv.Itoa(saved.Number)))
	status := http.StatusOK
	if saved.Stored {
		status = http.StatusCreated
	}
	return answer(c, status, saved)
}

// madeFrom reads the version that a document was made from; 0 where that is not said.
func madeFrom(header string) (int, error) {
	if header == "" || header == "*" {
		return 0, nil
	}
	n, err := strconv.Atoi(strings.Trim(strings.TrimPrefix(header, "W/"), `"`))
	if err != nil || n < 1 {
		return 0, api.WrongRequest.With("If-Match: "+cut(header)+" names no version", `write the number of the version that the document was made from, as "3"`)
	}
	return n, nil
}

func (s *Service) deleteJob(c *gin.Context) error {
	if err := s.remove(c.Request.Context(), c.Param("job")); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	c.Writer.WriteHeaderNow()
	return nil
}

func (s *Service) postRun(c *gin.Context) error {
	var ask api.Start
	if err := body(c, &ask); err != nil {
		return err
	}
	started, err := s.start(c.Request.Context(), c.Param("job"), ask)
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, started)
}

func (s *Service) postStop(c *gin.Context) error {
	r, err := s.stop(c.Request.Context(), c.Param("job"))
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, r)
}

func (s *Service) postDrain(c *gin.Context) error {
	r, err := s.drain(c.Request.Context(), c.Param("job"))
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, r)
}

func (s *Service) postRestart(c *gin.Context) error {
	var ask api.Start
	if err := body(c, &ask); err != nil {
		return err
	}
	started, err := s.restart(c.Request.Context(), c.Param("job"), ask)
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, started)
}

func (s *Service) postRespread(c *gin.Context) error {
	var ask api.Respread
	if err := body(c, &ask); err != nil {
		return err
	}
	started, err := s.respread(c.Request.Context(), c.Param("job"), ask)
	if err != nil {
		return err
	}
	return answer(c, http.StatusCreated, started)
}

// getKept tells what a start of a version would keep of what the last run left.
func (s *Service) getKept(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	v, j, err := s.read(c, e, c.Query("version"), nil, false)
	if err != nil {
		return err
	}
	rec := s.record(e)
	if r, _ := s.newestRun(e); r == nil || !r.goingOn() {
		if err := s.bring(c.Request.Context(), rec); err != nil {
			return wrongState(err)
		}
	}
	at := place{dir: s.checkpointDir(rec.Name, rec.Generation)}
	if text := c.Query("resume"); text != "" && text != "last" {
		if at, err = s.place(c.Request.Context(), e, text); err != nil {
			return err
		}
	}
	parts, epoch, same, err := run.Kept(j, at.dir, at.epoch)
	if err != nil {
		return wrongState(err)
	}
	out := api.Kept{Version: v.Number, Same: same, Parts: []api.KeptPart{}}
	if epoch > 0 {
		out.From = &epoch
	}
	for _, p := range parts {
		out.Parts = append(out.Parts, api.KeptPart{Kind: p.Kind, Name: p.Name, What: p.What, Text: p.Text, Must: p.Must})
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) getVersions(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	return page(c, func(before int64, limit int) ([]store.Version, error) {
		return s.db.Versions(c.Request.Context(), e.rec.ID, before, limit)
	}, func(v store.Version) (api.Version, int64) {
		v.Document = ""
		return viewVersion(e.rec.Name, v), int64(v.Number)
	})
}

// page answers with a part of a list, newest first: so many of those that come after `after` in the list, which is the
// `next` of the part before. view gives an item and its number, from which the next part goes on.
func page[R, V any](c *gin.Context, list func(below int64, limit int) ([]R, error), view func(R) (V, int64)) error {
	below, err1 := number(c, "after", 0, 1, 1<<62)
	limit, err2 := number(c, "limit", 50, 1, 1000)
	if err := cmp.Or(err1, err2); err != nil {
		return err
	}
	found, err := list(below, int(limit))
	if err != nil {
		return err
	}
	p := api.Page[V]{Items: []V{}}
	for _, r := range found {
		v, n := view(r)
		p.Items = append(p.Items, v)
		p.Next = strconv.FormatInt(n, 10)
	}
	if int64(len(found)) < limit {
		p.Next = ""
	}
	return answer(c, http.StatusOK, p)
}

// version reads the version that an address names: a number, or newest.
func (s *Service) version(c *gin.Context, e *entry, text string) (store.Version, error) {
	n := 0
	if text != "" && text != "newest" {
		var err error
		if n, err = strconv.Atoi(text); err != nil || n < 1 {
			return store.Version{}, api.NoSuchVersion.With("version "+cut(text)+" is not a number", "give a number, or newest")
		}
	}
	v, err := s.db.Version(c.Request.Context(), e.rec.ID, n)
	if err == store.ErrNotFound {
		return v, s.noSuchVersion(e, n)
	}
	return v, err
}

// read reads the version that an address names, and its document; run: as one that is about to run.
func (s *Service) read(c *gin.Context, e *entry, text string, set map[string]string, run bool) (store.Version, *job.Job, error) {
	v, err := s.version(c, e, text)
	if err != nil {
		return v, nil, err
	}
	j, err := s.parseOf(c.Request.Context(), s.record(e), v.Document, set, run)
	if err != nil {
		return v, nil, wrongDocument(err)
	}
	return v, j, nil
}

// record gives a job's record as it stands.
func (s *Service) record(e *entry) store.Job {
	s.mu.Lock()
	defer s.mu.Unlock()
	return e.rec
}

// recordNamed gives the record of the job of a name; a zero one where it is gone.
func (s *Service) recordNamed(name string) store.Job {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.jobs[name]; e != nil {
		return e.rec
	}
	return store.Job{}
}

func (s *Service) getVersion(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	v, err := s.version(c, e, c.Param("version"))
	if err != nil {
		return err
	}
	c.Header("ETag", strconv.Quote(strconv.Itoa(v.Number)))
	return answer(c, http.StatusOK, viewVersion(e.rec.Name, v))
}

// getDiff gives what differs between two versions, as a unified diff; nothing where they are equal.
func (s *Service) getDiff(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	a, err := s.version(c, e, c.Query("a"))
	if err != nil {
		return err
	}
	b, err := s.version(c, e, c.Query("b"))
	if err != nil {
		return err
	}
	text := func(v store.Version) string {
		return fmt.Sprintf("%s version %d, %s", e.rec.Name, v.Number, v.CreatedAt.Format(time.RFC3339))
	}
	return answer(c, http.StatusOK, api.Diff{A: a.Number, B: b.Number, Words: job.Differences(a.Document, b.Document), Text: udiff.Unified(text(a), text(b), a.Document, b.Document)})
}

// getMap says what a version does; without one, that of the newest run, which needs no database.
func (s *Service) getMap(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	if r, _ := s.newestRun(e); r != nil && c.Query("version") == "" {
		return answer(c, http.StatusOK, job.PlanOf(r.job))
	}
	_, j, err := s.read(c, e, c.Query("version"), nil, false)
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, job.PlanOf(j))
}

func (s *Service) getHistory(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	return page(c, func(before int64, limit int) ([]store.Event, error) {
		return s.db.History(c.Request.Context(), e.rec.ID, before, limit)
	}, func(h store.Event) (api.Event, int64) {
		return api.Event{ID: h.ID, At: h.At, Run: h.RunID, Kind: h.Kind, Text: h.Text, DoneBy: h.DoneBy}, h.ID
	})
}

func (s *Service) getLogs(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	q := logQuery{grep: c.Query("grep"), level: slog.LevelInfo}
	limit, err1 := number(c, "limit", 200, 1, 5000)
	since, err2 := moments(c, "since", time.Time{})
	if err := cmp.Or(err1, err2); err != nil {
		return err
	}
	if l := c.Query("level"); l != "" && q.level.UnmarshalText([]byte(l)) != nil {
		return api.WrongRequest.With("level="+cut(l)+" is not a level", "give debug, info, warn or error")
	}
	q.limit, q.since = int(limit), since
	lines, err := readLog(c.Request.Context(), s.logPath(e.rec.Name), q)
	if err != nil {
		return err
	}
	if lines == nil {
		lines = []api.LogLine{}
	}
	return answer(c, http.StatusOK, api.Page[api.LogLine]{Items: lines})
}
