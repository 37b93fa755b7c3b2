package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/core/row"
	"undertide/inside"
	"undertide/job"
	"undertide/run"
	"undertide/store"
	"undertide/try"
)

// tapOf gives the tap of a part of a job: of its run, or of what was kept of it, whether it runs or not; and the names of all parts.
func (s *Service) tapOf(c *gin.Context, e *entry, part string) (*tap, []string, error) {
	r, _ := s.newestRun(e)
	if r != nil {
		t, err := r.look(part)
		return t, r.names, err
	}
	j, err := s.lastDocument(c, e, false)
	if err != nil {
		return nil, nil, err
	}
	var found *tap
	var names []string
	eachSeen(j, func(of seen) {
		names = append(names, of.name)
		if of.name == part {
			found = newTap(of, s.opt.KeepRows, s.boot, nil)
		}
	})
	if found == nil {
		return nil, names, nil
	}
	all, err := s.keptRows(s.record(e).ID)
	if err == nil {
		found.takeUp(all[part])
	}
	return found, names, err
}

// lastDocument reads the version that ran last; the newest where none did. run: with all that a run knows.
func (s *Service) lastDocument(c *gin.Context, e *entry, run bool) (*job.Job, error) {
	var rec store.Run
	if _, last := s.newestRun(e); last != nil {
		rec = *last
	}
	version := ""
	if rec.Version > 0 {
		version = strconv.Itoa(rec.Version)
	}
	_, j, err := s.read(c, e, version, rec.SetValues, run)
	return j, err
}

// sinkRows gives the newest rows that lie where a sink has written them: messages of a topic, rows of a table, or of files.
func (s *Service) sinkRows(c *gin.Context, e *entry, name string) error {
	j, err := s.lastDocument(c, e, true)
	if err != nil {
		return err
	}
	names := run.Names(j.Sinks, func(s *job.Sink) string { return "sink " + s.Name })
	at := slices.Index(names, "sink "+name)
	if at < 0 {
		return noStep(j.Name, "sink "+name, names, "")
	}
	sink := &j.Sinks[at]
	readable, ok := sink.With.(connect.Readable)
	limit, err1 := number(c, "limit", 100, 1, 10_000)
	form, err2 := formOf(c)
	switch {
	case !ok:
		return api.WrongRequest.With(fmt.Sprintf("what sink %s has sent by %s cannot be read again", name, sink.Via), "look at the rows of "+sink.FromText)
	case c.Query("since")+c.Query("until") != "" || len(c.QueryArray("key")) > 0:
		return api.WrongRequest.With("rows where a sink has written them are asked for by where and limit", "leave out key, since and until")
	}
	if err := cmp.Or(err1, err2); err != nil {
		return err
	}
	wanted := int(limit)
	if c.Query("where") != "" {
		wanted = 10_000 // are looked through
	}
	sample, err := readable.Written(c.Request.Context(), connect.Opening{Job: j.Name, Name: name, Dir: j.Dir, Format: sink.Encode, Schema: sink.Schema}, wanted)
	if err != nil {
		return err
	}
	schema, all, err := try.RowsOf(sample, sink.Schema)
	if err != nil {
		return err
	}
	out := api.Rows{Step: "sink " + name, Key: []string{}, Fields: fieldsOf(schema), Passed: int64(len(all)), Rows: []api.Row{}}
	if len(all) > 0 {
		where, err := whereOf(schema, c.Query("where"))
		if err != nil {
			return err
		}
		for n := len(all) - 1; n >= 0 && len(out.Rows) < int(limit); n-- {
			if all[n] == nil {
				continue
			}
			if r := (api.Row{Seq: int64(n + 1), At: sample.Events[n].Stored, Row: all[n]}); where(r) {
				out.Rows = append(out.Rows, r)
			}
		}
	}
	return s.giveRows(c, e, out, schema, form)
}

// getJobRows gives the newest rows of a step that are kept, over all runs of the job, newest first; in other forms than JSON as a file.
func (s *Service) getJobRows(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
	}
	if name, is := strings.CutPrefix(c.Param("step"), "sink "); is {
		return s.sinkRows(c, e, name)
	}
	t, names, err := s.tapOf(c, e, c.Param("step"))
	if err != nil {
		return err
	}
	if r, _ := s.newestRun(e); t == nil && r != nil {
		out, is, err := r.referenceRows(c, 100)
		if err != nil {
			return err
		}
		if is {
			return answer(c, http.StatusOK, out)
		}
		return noStep(r.name, c.Param("step"), names, r.referenceNames())
	}
	if t == nil {
		return noStep(s.record(e).Name, c.Param("step"), names, "")
	}
	limit, err1 := number(c, "limit", 100, 1, 100_000)
	since, err2 := moments(c, "since", time.Time{})
	until, err3 := moments(c, "until", time.Now().Add(time.Hour))
	match, err4 := t.matchKey(c.QueryArray("key"))
	where, err5 := whereOf(t.schema, c.Query("where"))
	form, err6 := formOf(c)
	if err := cmp.Or(err1, err2, err3, err4, err5, err6); err != nil {
		return err
	}
	rows := t.newest(int(limit), func(r api.Row) bool {
		return !r.At.Before(since) && r.At.Before(until) && match(r) && where(r)
	})
	return s.giveRows(c, e, rows, schemaOf(t.schema), form)
}

// giveRows answers with rows, newest first as JSON, or oldest first as a file.
func (s *Service) giveRows(c *gin.Context, e *entry, rows api.Rows, seen row.Schema, form string) error {
	if form == "" {
		return answer(c, http.StatusOK, rows)
	}
	asFile(c, s.record(e).Name+"-"+strings.ReplaceAll(c.Param("step"), " ", "-"), form)
	slices.Reverse(rows.Rows)
	again := try.NewRereader(seen)
	return inside.WriteAs(c.Writer, fileFormat(form), seen, func(write func(*row.Batch) error) error {
		for part := range slices.Chunk(rows.Rows, row.MaxRows) {
			var texts []json.RawMessage
			for _, r := range part {
				texts = append(texts, r.Row)
			}
			if err := write(again.Read(texts...)); err != nil {
				return err
			}
		}
		return nil
	})
}

// noStep says that a job has no part of a name, with the nearest or all that it has.
func noStep(of, part string, names []string, more string) error {
	fix := "there are " + strings.Join(names, ", ") + more
	if n := job.Nearest(part, names); n != "" {
		fix = "did you mean " + n + "?"
	}
	return api.NoSuchStep.With("job "+of+" has nothing named "+cut(part), fix)
}

// fileKinds are the forms in which rows are given as files: the name that is asked for, and what it is over HTTP.
var fileKinds = map[string]string{"ndjson": "application/x-ndjson", "csv": "text/csv; charset=utf-8", "parquet": "application/vnd.apache.parquet", "table": "text/plain; charset=utf-8"}

// fileFormat gives the format of a form: rows as JSON, a line each, are its ndjson.
func fileFormat(form string) *connect.Format {
	if form == "ndjson" {
		form = "json"
	}
	return connect.FormatNamed(form)
}

// asFile says what an answer is: a file of rows.
func asFile(c *gin.Context, name, form string) {
	c.Header("Content-Type", fileKinds[form])
	c.Header("Content-Disposition", `attachment; filename="`+name+"."+form+`"`)
}

// formOf gives the form that is asked for, by `format` or by the header Accept; empty for JSON.
func formOf(c *gin.Context) (string, error) {
	form := c.Query("format")
	if form == "" {
		for name, kind := range fileKinds {
			if kind, _, _ = strings.Cut(kind, ";"); name != "table" && strings.Contains(c.GetHeader("Accept"), kind) {
				form = name
			}
		}
	}
	switch {
	case form == "" || form == "json":
		return "", nil
	case form == "table" || fileKinds[form] == "":
		return "", api.WrongRequest.With("format="+cut(form)+" is none of json, ndjson, csv, parquet", "")
	}
	return form, nil
}

// schemaOf is the schema of rows that are shown.
func schemaOf(s row.Schema) (out row.Schema) {
	for _, i := range s.Visible() {
		out = append(out, s[i])
	}
	return out
}

// whereOf makes a test for rows of an expression over their fields; true for all where there is none.
func whereOf(schema row.Schema, text string) (func(api.Row) bool, error) {
	fits, err := try.Where(schemaOf(schema), text)
	if err != nil {
		return nil, wrongQuestion(err)
	}
	return func(r api.Row) bool { return fits(r.Row) }, nil
}

// wrongQuestion gives what is wrong with a condition or a list of fields as the API does.
func wrongQuestion(err error) error {
	var w try.WrongQuestion
	if errors.As(err, &w) {
		return api.WrongRequest.With(w.Message, w.Remedy)
	}
	return err
}
