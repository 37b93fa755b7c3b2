package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/store"
)

// tapOf gives the tap of a part of a job: of its run, or of what was kept of it, whether it runs or not; and the names of all parts.
func (s *Service) tapOf(c *gin.Context, e *entry, part string) (*tap, []string, error) {
	r, last := s.newestRun(e)
	if r != nil {
		t, err := r.look(part)
		return t, r.names, err
	}
	var rec store.Run
	if last != nil {
		rec = *last
	}
	version := ""
	if rec.Version > 0 {
		version = strconv.Itoa(rec.Version)
	}
	_, j, err := s.read(c, e, version, rec.SetValues, false)
	if err != nil {
		return nil, nil, err
	}
	var found *tap
	var names []string
	eachTap(j, func(name string, schema row.Schema, key []string) {
		names = append(names, name)
		if name == part {
			found = newTap(name, schema, key, s.opt.KeepRows, s.boot, nil)
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

// getJobRows gives the newest rows of a step that are kept, over all runs of the job, newest first; in other forms than JSON as a file.
func (s *Service) getJobRows(c *gin.Context) error {
	e, err := s.find(c.Param("job"))
	if err != nil {
		return err
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
		names = append(slices.Clone(names), r.referenceNames())
	}
	if t == nil {
		fix := "there are " + strings.Join(names, ", ")
		if n := job.Nearest(c.Param("step"), names); n != "" {
			fix = "did you mean " + n + "?"
		}
		return api.NoSuchStep.With("job "+s.record(e).Name+" has nothing named "+cut(c.Param("step")), fix)
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
	if form == nil {
		return answer(c, http.StatusOK, rows)
	}
	c.Header("Content-Type", rowKinds[form.Name])
	c.Header("Content-Disposition", `attachment; filename="`+s.record(e).Name+"-"+strings.ReplaceAll(c.Param("step"), " ", "-")+"."+form.Name+`"`)
	return writeRows(c.Writer, form, t.schema, rows.Rows)
}

// rowKinds are the forms in which rows are given as files, by the names of formats.
var rowKinds = map[string]string{"ndjson": "application/x-ndjson", "csv": "text/csv; charset=utf-8", "parquet": "application/vnd.apache.parquet"}

// formOf gives the form that is asked for, by `format` or by the header Accept; nil for JSON.
func formOf(c *gin.Context) (*connect.Format, error) {
	name := c.Query("format")
	if name == "" {
		for n, kind := range rowKinds {
			if kind, _, _ = strings.Cut(kind, ";"); strings.Contains(c.GetHeader("Accept"), kind) {
				name = n
			}
		}
	}
	if name == "" || name == "json" {
		return nil, nil
	}
	if rowKinds[name] == "" {
		return nil, api.WrongRequest.With("format="+cut(name)+" is none of json, ndjson, csv, parquet", "")
	}
	if name == "ndjson" {
		name = "json"
	}
	f := *connect.FormatNamed(name)
	if name == "json" {
		f.Name = "ndjson"
	}
	return &f, nil
}

// writeRows writes rows, oldest first, in a form.
func writeRows(w io.Writer, f *connect.Format, schema row.Schema, rows []api.Row) error {
	seen := schemaOf(schema)
	enc := f.Encode(seen)
	var p connect.Packer
	if f.Pack != nil {
		p = f.Pack(w, seen)
	}
	if f.Head != nil {
		if _, err := w.Write(f.Head(seen)); err != nil {
			return err
		}
	}
	slices.Reverse(rows)
	for part := range slices.Chunk(rows, row.MaxRows) {
		b := decoded(seen, part)
		text := enc.Append(nil, step.ViewOf(b, nil))
		if p != nil {
			if err := p.Write(text, b.N); err != nil {
				return err
			}
			continue
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	if p != nil {
		return p.Close()
	}
	return nil
}

// schemaOf is the schema of rows that are shown.
func schemaOf(s row.Schema) (out row.Schema) {
	for _, i := range s.Visible() {
		out = append(out, s[i])
	}
	return out
}

// decoded reads shown rows again; those of another version of the document that do not fit are left out.
func decoded(schema row.Schema, rows []api.Row) *row.Batch {
	var fields codec.Fields
	for _, f := range schema {
		fields = append(fields, codec.Field{Name: f.Name, Kind: f.Kind})
	}
	var chunk engine.Chunk
	for _, r := range rows {
		chunk.Starts = append(chunk.Starts, uint32(len(chunk.Raw)))
		chunk.Raw = append(chunk.Raw, r.Row...)
		chunk.Ends = append(chunk.Ends, uint32(len(chunk.Raw)))
	}
	b := row.NewBatch(schema)
	connect.FormatNamed("json").Decode().Decoder(fields).Decode(&chunk, b, nil)
	return b
}

// whereOf makes a test for rows of an expression over their fields; true for all where there is none.
func whereOf(schema row.Schema, text string) (func(api.Row) bool, error) {
	if text == "" {
		return func(api.Row) bool { return true }, nil
	}
	seen := schemaOf(schema)
	p, faults := expr.Compile(text, expr.Scope{Fields: seen})
	for _, f := range faults {
		fix := f.Remedy
		if f.Name != "" {
			fix = "the fields are " + strings.Join(seen.Names(), ", ")
			if near := job.Nearest(f.Name, seen.Names()); near != "" {
				fix = "did you mean " + near + "?"
			}
		}
		return nil, api.WrongRequest.With("where: "+f.Message, fix)
	}
	if p.Kind() != row.Bool {
		return nil, api.WrongRequest.With(fmt.Sprintf("where: a condition is a bool, and this is a %s", p.Kind()), "compare it with something, as in n > 3")
	}
	return func(r api.Row) bool {
		b := decoded(seen, []api.Row{{Row: json.RawMessage(r.Row)}})
		if b.N == 0 {
			return false
		}
		v, err := p.Eval(b.Cols, 0)
		return err == nil && !v.Null && v.I != 0
	}, nil
}
