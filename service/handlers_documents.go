package service

import (
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/try"
)

// checkDocument reads a document and says what it is; its faults are no problem of the request.
func (s *Service) checkDocument(c *gin.Context) error {
	var in api.Document
	if err := body(c, &in); err != nil {
		return err
	}
	out := api.Checked{Faults: []api.Fault{}, Warnings: []api.Fault{}, Places: map[string]api.Place{}, Values: []api.Value{}}
	ctx := c.Request.Context()
	doc := job.Read(ctx, "document.yaml", in.Document)
	for name, p := range doc.Places() {
		out.Places[name] = api.Place{From: p.From, To: p.To}
	}
	j, err := doc.Job(ctx, s.options(nil, false))
	var faults job.Faults
	if errors.As(err, &faults) {
		out.Faults = viewFaults(faults)
		return answer(c, http.StatusOK, out)
	}
	if err != nil {
		return err
	}
	plan := job.PlanOf(j)
	out.Job, out.Plan, out.Warnings = j.Name, &plan, viewFaults(j.Warnings)
	for _, v := range j.ValueList() {
		out.Values = append(out.Values, api.Value{Name: v.Name, Type: v.Type, Default: v.Default})
	}
	return answer(c, http.StatusOK, out)
}

func viewFaults(list job.Faults) []api.Fault {
	out := []api.Fault{}
	for _, f := range list {
		out = append(out, api.Fault{Line: f.Line, Column: f.Column, Place: f.Place, Message: f.Message, Fix: f.Remedy})
	}
	return out
}

func (s *Service) rehearseDocument(c *gin.Context) error {
	var in api.Rehearse
	if err := body(c, &in); err != nil {
		return err
	}
	if in.Rows < 0 || in.Rows > 100_000 {
		return api.WrongRequest.With(fmt.Sprintf("%d rows", in.Rows), "give 1 to 100000")
	}
	o := try.RehearseOptions{Rows: in.Rows}
	var err error
	if o.From, err = placeOf(in.From); err != nil {
		return err
	}
	j, err := s.parseAside(c.Request.Context(), in.Document, in.Set)
	if err != nil {
		return wrongDocument(err)
	}
	o.Journal = func(source string) string { return s.journalOf(j, source) }
	out, err := try.Rehearse(c.Request.Context(), j, o)
	if err != nil {
		return ofEvents(err)
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) documentExamples(c *gin.Context) error {
	j, err := s.document(c, false)
	if err != nil {
		return err
	}
	found, err := try.Examples(c.Request.Context(), j)
	if err != nil {
		return ofEvents(err)
	}
	out := api.Examples{Items: []api.Example{}}
	for _, e := range found {
		v := api.Example{About: e.About, Line: e.Line, Differences: e.Differences}
		if v.Differences == nil {
			v.Differences = []string{}
		}
		out.Items = append(out.Items, v)
	}
	return answer(c, http.StatusOK, out)
}

func (s *Service) playDocument(c *gin.Context) error {
	var in api.Play
	if err := body(c, &in); err != nil {
		return err
	}
	j, err := s.parse(c.Request.Context(), "document", in.Document, in.Set, false)
	if err != nil {
		return wrongDocument(err)
	}
	out, err := try.Play(c.Request.Context(), j, in.Events, in.ByArrival)
	if err != nil {
		return ofEvents(err)
	}
	return answer(c, http.StatusOK, out)
}

// sampleOptions reads how much of a source is sampled.
func sampleOptions(c *gin.Context, def int64) (connect.Sampling, error) {
	rows, err := number(c, "rows", def, 1, 100_000)
	if err != nil {
		return connect.Sampling{}, err
	}
	from, err := placeOf(c.Query("from"))
	return connect.Sampling{Rows: int(rows), From: from}, err
}

// placeOf reads which events are sampled.
func placeOf(text string) (connect.From, error) {
	switch text {
	case "", "newest":
		return connect.Newest, nil
	case "oldest":
		return connect.Oldest, nil
	}
	return 0, api.WrongRequest.With("from "+cut(text)+" is not a place to sample", "give newest or oldest")
}

// document reads the document of a request; run: as one that is about to run.
func (s *Service) document(c *gin.Context, run bool) (*job.Job, error) {
	var in api.Document
	if err := body(c, &in); err != nil {
		return nil, err
	}
	read := func() (*job.Job, error) { return s.parse(c.Request.Context(), "document", in.Document, nil, false) }
	if run {
		read = func() (*job.Job, error) { return s.parseAside(c.Request.Context(), in.Document, nil) }
	}
	j, err := read()
	if err != nil {
		return nil, wrongDocument(err)
	}
	return j, nil
}

// sample takes events of a document's source, as many as are asked for.
func (s *Service) sample(c *gin.Context, j *job.Job, name string, def int64) (*job.Source, connect.Sample, error) {
	o, err := sampleOptions(c, def)
	if err != nil {
		return nil, connect.Sample{}, err
	}
	return s.sampleAs(c, j, name, o)
}

func (s *Service) sampleAs(c *gin.Context, j *job.Job, name string, o connect.Sampling) (*job.Source, connect.Sample, error) {
	src, err := j.SourceNamed(name)
	if err != nil {
		return nil, connect.Sample{}, err
	}
	o.Journal = s.journalOf(j, src.Name)
	found, err := try.Sample(c.Request.Context(), j, src, o)
	return src, found, ofEvents(err)
}

// journalOf is where a source of the job of a document's name writes down what it takes.
func (s *Service) journalOf(j *job.Job, source string) string {
	dir := s.journalsDir(j.Name)
	if dir == "" {
		return ""
	}
	return filepath.Join(dir, source)
}

func (s *Service) lateness(c *gin.Context, j *job.Job) (api.LatenessOf, error) {
	out := api.LatenessOf{Sources: []string{}}
	name := c.Query("source")
	for i := range j.Sources {
		if j.Sources[i].Timed() {
			out.Sources = append(out.Sources, j.Sources[i].Name)
		}
	}
	if name == "" && len(out.Sources) > 0 {
		name = out.Sources[0]
	}
	src, sample, err := s.sample(c, j, name, 5000)
	if err != nil {
		return out, err
	}
	out.Source, out.Events = src.Name, len(sample.Events)
	out.Lateness = try.LatenessIn(j, src, sample)
	out.Words = out.Lateness.Words()
	if len(sample.Events) == 0 {
		out.Words = strings.Join(sample.Notes, "; ")
	}
	return out, nil
}

func (s *Service) documentLateness(c *gin.Context) error {
	j, err := s.document(c, true)
	if err != nil {
		return err
	}
	out, err := s.lateness(c, j)
	if err != nil {
		return err
	}
	return answer(c, http.StatusOK, out)
}

// getLateness tells of a job: of its run's version, else of the newest, and what the run saw.
func (s *Service) getLateness(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	r, _ := s.newestRun(e)
	var j *job.Job
	if r != nil && r.goingOn() {
		j = r.job
	} else {
		if _, j, err = s.read(c, e, "", nil, true); err != nil {
			return err
		}
	}
	out, err := s.lateness(c, j)
	if err != nil {
		return err
	}
	if r != nil {
		if f := r.figures(); f != nil {
			out.Run = &api.RunLateness{}
			for _, st := range f.Steps {
				out.Run.In += st.RowsIn
				out.Run.Lost += st.Late.Lost
				out.Run.Partial += st.Late.Partial
				out.Run.Accepted += st.Late.Accepted
			}
		}
	}
	return answer(c, http.StatusOK, out)
}

// peekSource gives events of a document's source, and what it makes of them.
func (s *Service) peekSource(c *gin.Context) error {
	j, err := s.document(c, true)
	if err != nil {
		return err
	}
	o, err := sampleOptions(c, 100)
	if err != nil {
		return err
	}
	q := question(c, o)
	src, sample, err := s.sampleAs(c, j, c.Query("source"), q.Sampled(o))
	if err != nil {
		return err
	}
	decoded := func(some connect.Sample) api.Peek { return api.DecodedOf(src, some) }
	asker, err := try.AskSource(q, src)
	if err != nil {
		return wrongQuestion(err)
	}
	return answer(c, http.StatusOK, api.Answered(asker, sample, decoded))
}
