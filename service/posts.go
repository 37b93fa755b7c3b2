package service

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"undertide/api"
)

// serve hands posts on to a source of the run, until end is called.
func (r *runner) serve(source string, h http.Handler) (end func()) {
	place := r.name + "/" + source
	r.s.taking.Store(place, h)
	return func() { r.s.taking.Delete(place) }
}

// takePosts gives what is posted to /in/JOB/SOURCE to the run; without one nothing is taken.
func (s *Service) takePosts(c *gin.Context) {
	job, source := c.Param("job"), c.Param("source")
	h, ok := s.taking.Load(job + "/" + source)
	if !ok {
		c.Header("Retry-After", "5")
		s.fail(c, api.NotTaking.With("source "+cut(source)+" of job "+cut(job)+" takes no posts just now", "start the job, or check the names: its source is `via: http`"))
		return
	}
	request := c.Request.Clone(c.Request.Context())
	request.URL.Path = "/"
	h.(http.Handler).ServeHTTP(c.Writer, request)
}
