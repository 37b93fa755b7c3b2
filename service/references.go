package service

import (
	"bytes"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"undertide/api"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/run"
)

// referenceRows gives rows of a reference that the run has loaded, as those of a step are given; false where it has none of that
// name. They are those that count just now: the first ones, and after a mark none.
func (r *runner) referenceRows(c *gin.Context, limit int) (api.Rows, bool, error) {
	name := c.Param("step")
	r.mu.Lock()
	refs := r.refs
	r.mu.Unlock()
	table, key := refs.Table(name)
	switch {
	case table == nil:
		return api.Rows{}, false, nil
	case wantsStream(c):
		return api.Rows{}, true, api.WrongRequest.With(name+" is a reference, whose rows are not followed", "ask for them without a stream, as rows does without --follow")
	}
	schema := table.Schema()
	match, err := (&tap{seen: seen{schema: schema, key: key}}).matchKey(c.QueryArray("key"))
	if err != nil {
		return api.Rows{}, true, err
	}
	version := table.Version()
	out := api.Rows{Step: name, Fields: fieldsOf(schema), Key: key, Passed: version.Rows, Mark: version.Loaded.UTC().Format("20060102T150405.000000"), Rows: []api.Row{}}
	if c.Query("after") != "" {
		return out, true, nil
	}
	encoder := run.TextOf(schema)
	n := int64(0)
	table.Each(func(b *row.Batch, i int) bool {
		n++
		v := step.ViewOf(b)
		v.Sel = []uint16{uint16(i)}
		one := api.Row{Seq: n, At: version.Loaded.UTC(), Row: bytes.TrimSuffix(encoder.Append(nil, v), []byte("\n"))}
		if match(one) {
			out.Rows = append(out.Rows, one)
		}
		return len(out.Rows) < limit
	})
	slices.Reverse(out.Rows) // those that ask show the last one first
	return out, true, nil
}

// referenceNames are those that a run has loaded, for messages.
func (r *runner) referenceNames() string {
	names := r.refs.Names()
	if len(names) == 0 {
		return ""
	}
	return ", and the references " + strings.Join(names, ", ")
}
