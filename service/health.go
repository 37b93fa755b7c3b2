package service

import (
	"cmp"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
)

// status says how the service is, and what it needs.
func (s *Service) status() api.Status {
	out := api.Status{Version: s.opt.Version, Ready: true, StartedAt: s.started, Database: api.Health{Well: true}, Connections: map[string]api.Health{}, Jobs: map[string]int{}}
	why, since, waiting := s.db.State()
	out.Waiting = waiting
	if why != "" {
		out.Ready, out.Database = false, api.Health{Why: why, Since: &since}
	}
	s.mu.Lock()
	var runners []*runner
	for _, e := range s.jobs {
		if e.run != nil && e.run.goingOn() {
			runners = append(runners, e.run)
		}
	}
	if s.stopping {
		out.Ready = false
	}
	s.mu.Unlock()
	for _, j := range s.viewJobs() {
		out.Jobs[j.Status]++
	}
	for _, r := range runners {
		for name, why := range r.troubles() {
			if h, ok := out.Connections[name]; !ok || h.Well {
				out.Connections[name] = api.Health{Well: why == "", Why: why}
			}
			if why != "" {
				out.Ready = false
			}
		}
	}
	return out
}

// troubles says for each connection of the run what is wrong with it; empty for nothing. What ended a try counts where something could not be reached, for
// the part that it names: a receiver that refuses a row is not a connection that is away.
func (r *runner) troubles() map[string]string {
	out := map[string]string{}
	r.mu.Lock()
	defer r.mu.Unlock()
	note := func(of any, why string) {
		if c, _, ok := connect.Through(of); ok {
			out[c.Name] = cmp.Or(out[c.Name], why)
		}
	}
	ended := func(part string) string {
		at, _, _ := strings.Cut(r.trouble, ": ")
		named := strings.HasPrefix(at, "source ") || strings.HasPrefix(at, "sink ") || strings.HasPrefix(at, "reference ")
		if r.rec.Status == resuming && r.away && (at == part || !named && strings.HasPrefix(part, "source ")) {
			return r.trouble
		}
		return ""
	}
	for i := range r.job.Sources {
		name := r.job.Sources[i].Name
		why := ended("source " + name)
		if r.last != nil {
			why = cmp.Or(r.last.Sources[name].Trouble, why)
		}
		note(r.job.Sources[i].With, why)
	}
	for i := range r.job.Sinks {
		name := r.job.Sinks[i].Name
		why := ended("sink " + name)
		if r.last != nil {
			why = cmp.Or(r.last.Sinks[name].Trouble, why)
		}
		note(r.job.Sinks[i].With, why)
	}
	return out
}

func (s *Service) getStatus(c *gin.Context) error { return answer(c, http.StatusOK, s.status()) }

// readyz answers 200 when everything that the service needs answers, else 503; and says what.
func (s *Service) readyz(c *gin.Context) {
	st := s.status()
	code := http.StatusOK
	if !st.Ready {
		code = http.StatusServiceUnavailable
	}
	_ = answer(c, code, st) // it is JSON
}
