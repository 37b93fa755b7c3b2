package service

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/run"
)

// serve hands posts on to a source of the run, until end is called.
func (r *runner) serve(source string, h connect.Taker) (end func()) {
	place := r.name + "/" + source
	r.s.taking.Store(place, h)
	return func() { r.s.taking.Delete(place) }
}

// takerAt gives who takes posts at /in/JOB/SOURCE; nil while nobody does.
func (s *Service) takerAt(place string) connect.Taker {
	h, ok := s.taking.Load(place)
	if !ok {
		return nil
	}
	return h.(connect.Taker)
}

// takePosts gives what is posted to /in/JOB/SOURCE to the run; without one nothing is taken.
func (s *Service) takePosts(c *gin.Context) {
	name, source := c.Param("job"), c.Param("source")
	if s.passPost(c, name) {
		return
	}
	taker := s.takerAt(name + "/" + source)
	if taker == nil {
		c.Header("Retry-After", "5")
		s.fail(c, api.NotTaking.With("source "+cut(source)+" of job "+cut(name)+" takes no posts just now", "start the job, or check the names: its source is `via: http`"))
		return
	}
	request := c.Request.Clone(c.Request.Context())
	request.URL.Path = "/"
	spend := func(int) {}
	if request.Method == http.MethodPost && (taker.NeedsToken() || s.beyond) {
		e, err := s.find(name)
		if err != nil {
			s.fail(c, err)
			return
		}
		ok, wait, took := s.tokens.admit(s.record(e).ID, source, bearer(request))
		switch {
		case !ok:
			taker.TurnAway(c.Writer, request, http.StatusUnauthorized, 0)
			return
		case wait > 0:
			taker.TurnAway(c.Writer, request, http.StatusTooManyRequests, wait)
			return
		}
		spend = took
	}
	taker.Take(c.Writer, request, spend)
}

// passPost hands a post on to the node that carries the job out; false where this one does.
func (s *Service) passPost(c *gin.Context, name string) bool {
	if s.nodes == nil || c.GetHeader(nodeHeader) != "" {
		return false
	}
	e, err := s.find(name)
	if err != nil {
		return false
	}
	to, ok := s.nodes.holder(s.record(e).ID)
	if !ok || !to.Alive {
		return false
	}
	s.nodes.pass(c, to)
	return true
}

// pagePosts says whether a request is of a page that may post to a source: those of other sites may where the source names them.
func (s *Service) pagePosts(r *http.Request) bool {
	place, ok := strings.CutPrefix(r.URL.Path, "/in/")
	if !ok || r.Method != http.MethodPost && r.Method != http.MethodOptions {
		return false
	}
	taker := s.takerAt(place)
	return taker != nil && taker.TakesFrom(r.Header.Get("Origin"))
}

// notePosts adds what became of posts to the figures of the sources that take some.
func (r *runner) notePosts(sources map[string]run.SourceFigures) {
	for name, f := range sources {
		if t := r.s.takerAt(r.name + "/" + name); t != nil {
			n := t.Counts()
			f.Posts = &run.PostFigures{Taken: n.Taken, Again: n.Again, TurnedAway: n.TurnedAway, Refused: n.Refused, Bytes: n.Bytes}
			sources[name] = f
		}
	}
}
