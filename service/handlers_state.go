package service

import (
	"errors"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/checkpoint"
	"undertide/inside"
	"undertide/run"
)

// insideStep opens the checkpoint that is asked for, the newest by default, to look at a step of the job as the version
// that made it describes it. The caller closes it.
func (s *Service) insideStep(c *gin.Context, query string) (*inside.Step, int, error) {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return nil, 0, err
	}
	p, err := s.place(c.Request.Context(), e, c.Query(query))
	if err != nil {
		return nil, 0, err
	}
	_, j, err := s.read(c, e, strconv.Itoa(p.run.Version), p.run.SetValues, false)
	if err != nil {
		return nil, 0, err
	}
	st, err := inside.Open(p.dir, p.epoch, j, c.Param("step"))
	return st, run.Lanes(j, p.run.Lanes), wrongState(err)
}

// wrongState makes a problem of what cannot be shown.
func wrongState(err error) error {
	switch {
	case errors.Is(err, checkpoint.ErrNoCheckpoint):
		return api.NoSuchCheckpoint.With(err.Error(), "")
	case errors.Is(err, inside.ErrUsage):
		return api.NoSuchStep.With(err.Error(), "")
	}
	return err
}

// asked reads what rows are asked for.
func asked(c *gin.Context, limit int64) (inside.Asked, error) {
	n, err := number(c, "limit", limit, 1, 1_000_000)
	return inside.Asked{Table: c.Query("table"), Raw: c.Query("raw") == "true", Key: c.QueryArray("key"), Limit: int(n)}, err
}

// getState gives rows of what a step keeps: as JSON some of them in one answer, in other forms all, as they are read.
func (s *Service) getState(c *gin.Context) error {
	a, err := asked(c, 100)
	if err != nil {
		return err
	}
	st, _, err := s.insideStep(c, "checkpoint")
	if err != nil {
		return err
	}
	defer s.putAway(st)
	form := c.Query("format")
	if form == "" || form == "json" {
		out, err := st.Show(a)
		if err != nil {
			return wrongState(err)
		}
		return answer(c, http.StatusOK, out)
	}
	if _, err := st.Schema(a); err != nil {
		return wrongState(err)
	}
	if fileKinds[form] == "" {
		return api.WrongRequest.With("format="+form+" is none of json, ndjson, csv, parquet, table", "")
	}
	asFile(c, st.Name+"-"+strconv.FormatInt(st.Epoch, 10), form)
	if c.Query("limit") == "" {
		a.Limit = 0
	}
	_, err = st.Write(c.Writer, fileFormat(form).Name, a)
	return err
}

// getSpans gives the windows and other spans of what a step keeps.
func (s *Service) getSpans(c *gin.Context) error {
	return s.ofState(c, func(st *inside.Step, _ int) (any, error) { return st.ShowSpans() })
}

// getSkew tells how what a step keeps lies over shares and lanes.
func (s *Service) getSkew(c *gin.Context) error {
	return s.ofState(c, func(st *inside.Step, lanes int) (any, error) { return st.ShowSkew(lanes, 10) })
}

func (s *Service) ofState(c *gin.Context, show func(st *inside.Step, lanes int) (any, error)) error {
	st, lanes, err := s.insideStep(c, "checkpoint")
	if err != nil {
		return err
	}
	defer s.putAway(st)
	out, err := show(st, lanes)
	if err != nil {
		return wrongState(err)
	}
	return answer(c, http.StatusOK, out)
}

// getCompared tells what differs of a step between two checkpoints.
func (s *Service) getCompared(c *gin.Context) error {
	a, err := asked(c, 100)
	if err != nil {
		return err
	}
	was, _, err := s.insideStep(c, "from")
	if err != nil {
		return err
	}
	defer s.putAway(was)
	is, _, err := s.insideStep(c, "checkpoint")
	if err != nil {
		return err
	}
	defer s.putAway(is)
	out, err := inside.ShowCompared(was, is, a)
	if err != nil {
		return wrongState(err)
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) putAway(st *inside.Step) {
	if err := st.Close(); err != nil {
		s.opt.Log.Warn("a checkpoint that was looked into could not be put away", "error", err)
	}
}
