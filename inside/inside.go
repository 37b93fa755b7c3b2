// Package inside shows what a checkpoint holds of a job's steps, as tables that people read: rows with results in place
// of accumulators, windows with their keys, shares with their rows, and what differs between two checkpoints. Callers begin
// with [Open].
package inside

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"undertide/checkpoint"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
	"undertide/job"
)

// ErrUsage is wrapped where what is asked for does not fit the job: a step that keeps nothing, a key that is none.
var ErrUsage = errors.New("this cannot be shown")

// Step is a step of a job in a checkpoint. The caller closes it.
type Step struct {
	*checkpoint.Opened
	Name string
	// Watermark is the W that the step was given when the checkpoint was made.
	Watermark row.Time
	keyed     step.Keyed
	tables    []*state.Table
}

// Open opens the checkpoint of an epoch in a folder, 0 for the newest, to look at a step of the job that made it.
func Open(dir string, epoch int64, j *job.Job, name string) (*Step, error) {
	k, err := keyedOf(j, name)
	if err != nil {
		return nil, err
	}
	o, err := checkpoint.OpenOne(checkpoint.Disk, dir, epoch)
	if err != nil {
		return nil, err
	}
	s := &Step{Opened: o, Name: name, keyed: k, Watermark: row.MinTime}
	if w, ok := o.StepMarks[name]; ok {
		s.Watermark = w
	}
	if s.tables, err = o.Tables(name); err != nil {
		return nil, errors.Join(err, o.Close())
	}
	for _, kept := range s.tables {
		if now := tableNamed(k.Tables(), kept.Name); now == nil || !now.Same(kept) {
			return nil, errors.Join(fmt.Errorf("%w: another text of the job made checkpoint %d, and step %s kept something else in it; give that version of the document", ErrUsage, o.Epoch, name), o.Close())
		}
	}
	return s, nil
}

// keyedOf finds a step that keeps something.
func keyedOf(j *job.Job, name string) (step.Keyed, error) {
	var names []string
	for i := range j.Steps {
		s := &j.Steps[i]
		if s.Keyed == nil {
			continue
		}
		if s.Name == name {
			return s.Keyed, nil
		}
		names = append(names, s.Name)
	}
	switch near := job.Nearest(name, names); {
	case len(names) == 0:
		return nil, fmt.Errorf("%w: no step of job %s keeps anything", ErrUsage, j.Name)
	case near != "":
		return nil, fmt.Errorf("%w: no step %s of job %s keeps anything; did you mean %s?", ErrUsage, name, j.Name, near)
	}
	return nil, fmt.Errorf("%w: no step %s of job %s keeps anything; those that do are %s", ErrUsage, name, j.Name, strings.Join(names, ", "))
}

func tableNamed(all []*state.Table, name string) *state.Table {
	for _, t := range all {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// Tables names the step's tables; that of the step itself is empty.
func (s *Step) Tables() (out []string) {
	for _, t := range s.tables {
		out = append(out, t.Name)
	}
	return out
}

// Asked says what is asked for of a step's rows.
type Asked struct {
	// Table is one of Tables.
	Table string
	// Raw shows the columns as they are kept, accumulators among them.
	Raw bool
	// Key keeps rows of this key: FIELD=VALUE of some of the key's fields, or the values of all in their order. Values are
	// compared as they are written out; none for all rows.
	Key []string
	// Limit is how many rows are given at most; 0 for all.
	Limit int
}

// inspector gives how a table is shown.
func (s *Step) inspector(name string, raw bool) (*step.Inspector, error) {
	t := tableNamed(s.tables, name)
	if t != nil {
		return step.Inspect(s.keyed, t, raw, s.Begun[s.Name]), nil
	}
	if tableNamed(s.keyed.Tables(), name) != nil || name == "" {
		return step.Inspect(s.keyed, cmp.Or(tableNamed(s.keyed.Tables(), name), s.keyed.Tables()[0]), raw, s.Begun[s.Name]), nil // nothing of it was kept yet
	}
	return nil, fmt.Errorf("%w: step %s has no table %s; it has %s", ErrUsage, s.Name, name, strings.Join(named(s.keyed.Tables()), ", "))
}

func named(all []*state.Table) (out []string) {
	for _, t := range all {
		out = append(out, cmp.Or(t.Name, "its own, which has no name"))
	}
	return out
}

// Schema gives the fields of the rows that Rows gives.
func (s *Step) Schema(a Asked) (row.Schema, error) {
	x, err := s.inspector(a.Table, a.Raw)
	if err != nil {
		return nil, err
	}
	return x.Schema, nil
}

// Rows gives the rows that are asked for, in order of span, share and key, several at a time; more says that there are
// others behind the limit.
func (s *Step) Rows(a Asked, take func(b *row.Batch) error) (more bool, err error) {
	x, err := s.inspector(a.Table, a.Raw)
	if err != nil {
		return false, err
	}
	meets, err := keyIs(x.Table.Key, a.Key)
	if err != nil {
		return false, err
	}
	left := a.Limit
	err = s.Read(s.Name, x.Table, func(r *state.Rows) (bool, error) {
		b := row.NewBatch(x.Schema)
		if err := x.Append(b, r); err != nil {
			return false, err
		}
		out := row.NewBatch(x.Schema)
		for i := range b.N {
			if !meets(b.Cols, i) || s.past(x, r, i) {
				continue
			}
			if a.Limit > 0 && left == 0 {
				more = true
				break
			}
			out.AppendFrom(b, i)
			left--
		}
		if out.N > 0 {
			if err := take(out); err != nil {
				return false, err
			}
		}
		return !more, nil
	})
	return more, err
}

// keyIs makes the test of a key.
func keyIs(key row.Schema, asked []string) (func(cols []*row.Column, i int) bool, error) {
	want := map[int]string{}
	for n, a := range asked {
		if field, value, ok := strings.Cut(a, "="); ok {
			at := key.Index(field)
			if at < 0 {
				return nil, fmt.Errorf("%w: %s is not a field of the key; it has %s", ErrUsage, field, strings.Join(key.Names(), ", "))
			}
			want[at] = value
			continue
		}
		if n >= len(key) || len(asked) != len(key) {
			return nil, fmt.Errorf("%w: the key has %d fields (%s); give FIELD=VALUE, or the values of all in their order", ErrUsage, len(key), strings.Join(key.Names(), ", "))
		}
		want[n] = a
	}
	return func(cols []*row.Column, i int) bool {
		for at, v := range want {
			if textOf(cols[at], i) != v {
				return false
			}
		}
		return true
	}, nil
}

// textOf writes a value of a key as people write it.
func textOf(c *row.Column, i int) string {
	if c.Kind.Text() && c.Kind.Plain() && !c.IsNull(i) {
		return string(c.Bytes(i))
	}
	return expr.At(c, i).String()
}

// past says that a row counts no more: what has passed goes with its span, a little later.
func (s *Step) past(x *step.Inspector, r *state.Rows, i int) bool {
	until, ends := x.Until(r, i)
	return ends && until <= s.Watermark && x.Table.Name != "waiting" // what waits is taken once W is beyond
}

// Span is a window, slice or other span of time, as a checkpoint has it.
type Span struct {
	Start row.Time
	// Until is the W at which it is closed and kept no longer; absent where nothing ends.
	Until row.Time
	Ends  bool
	Keys  int64
	Rows  int64 // of the input that it took, where that is counted
}

// Spans gives the spans of a step's own table, in order. Sessions, and keys without spans, are counted by the W at which
// they end.
func (s *Step) Spans() ([]Span, error) {
	x, err := s.inspector("", false)
	if err != nil {
		return nil, err
	}
	var out []Span
	at := map[[2]row.Time]int{}
	err = s.Read(s.Name, x.Table, func(r *state.Rows) (bool, error) {
		for i := range r.N {
			if s.past(x, r, i) {
				continue
			}
			var name [2]row.Time
			until, ends := x.Until(r, i)
			if x.Table.Span != "" {
				name[0] = r.Span[i]
			}
			if name[1] = until; !ends {
				name[1] = row.MaxTime
			}
			n, ok := at[name]
			if !ok {
				n = len(out)
				at[name] = n
				out = append(out, Span{Start: name[0], Until: until, Ends: ends})
			}
			out[n].Keys++
			out[n].Rows += x.Taken(r, i)
		}
		return true, nil
	})
	slices.SortFunc(out, func(a, b Span) int { return cmp.Or(cmp.Compare(a.Start, b.Start), cmp.Compare(a.Until, b.Until)) })
	return out, err
}

// Skew is how a step's state lies over the key space.
type Skew struct {
	Keys, Rows, Bytes int64
	Shares            [state.Shares]Part
	Lanes             []Part
	// Heaviest are the keys that took most rows, or where that is not counted have most rows of state.
	Heaviest []Heavy
}

// Part is a share of the key space, or the shares of a lane.
type Part struct{ Keys, Rows, Bytes int64 }

// Heavy is a key.
type Heavy struct {
	Key  string  `json:"key"`
	Rows int64   `json:"rows"`
	Part float64 `json:"part"` // of all rows
}

// Skew counts a step's state by share, and by lane for so many lanes.
func (s *Step) Skew(lanes, heaviest int) (*Skew, error) {
	x, err := s.inspector("", true)
	if err != nil {
		return nil, err
	}
	out := &Skew{Lanes: make([]Part, lanes)}
	rows := map[string]int64{}
	var name, held []byte
	err = s.Read(s.Name, x.Table, func(r *state.Rows) (bool, error) {
		for i := range r.N {
			name, held = x.Table.AppendName(name[:0], 0, r, i), x.Table.AppendContent(held[:0], r, i)
			n, taken := int64(len(name)+len(held)), x.Taken(r, i)
			share := state.ShareOf(r.Hash[i])
			_, known := rows[string(r.Key(i))]
			rows[string(r.Key(i))] += taken
			for _, p := range []*Part{&out.Shares[share], &out.Lanes[state.LaneOf(share, lanes)]} {
				p.Rows += taken
				p.Bytes += n
				if !known {
					p.Keys++
				}
			}
			out.Rows += taken
			out.Bytes += n
		}
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	out.Keys = int64(len(rows))
	for key, n := range rows {
		out.Heaviest = append(out.Heaviest, Heavy{Key: key, Rows: n, Part: float64(n) / float64(max(1, out.Rows))})
	}
	slices.SortFunc(out.Heaviest, func(a, b Heavy) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Key, b.Key)) })
	out.Heaviest = out.Heaviest[:min(heaviest, len(out.Heaviest))]
	for i := range out.Heaviest {
		h := &out.Heaviest[i]
		b := row.NewBatch(x.Table.Key)
		if err := state.AppendKey(b.Cols, []byte(h.Key)); err != nil {
			return nil, err
		}
		var parts []string
		for c := range b.Cols {
			parts = append(parts, textOf(b.Cols[c], 0))
		}
		h.Key = strings.Join(parts, ", ")
	}
	return out, nil
}

// Compared counts what differs between two checkpoints of a step's table.
type Compared struct{ Same, Came, Changed, Went int64 }

// Difference is a row that differs: what it was, what it is; nil for not there. Both have one row of the schema that is
// shown.
type Difference struct{ Was, Is *row.Batch }

// Compare goes through a table of two checkpoints side by side, in order of their rows' names; with a key through its rows
// alone. each is told of up to limit differences.
func Compare(was, is *Step, a Asked, each func(Difference) error) (c Compared, err error) {
	x, err := is.inspector(a.Table, a.Raw)
	if err != nil {
		return c, err
	}
	meets, err := keyIs(x.Table.Key, a.Key)
	if err != nil {
		return c, err
	}
	old, closeOld := rowsOf(was, x.Table)
	now, closeNow := rowsOf(is, x.Table)
	defer closeOld()
	defer closeNow()
	if len(a.Key) > 0 {
		old, now = ofKey(x.Table, meets, old), ofKey(x.Table, meets, now)
	}
	told := 0
	tell := func(p, q *entry) error {
		var d Difference
		for n, r := range []*entry{p, q} {
			if r == nil {
				continue
			}
			b := row.NewBatch(x.Schema)
			kept, err := r.row(x.Table)
			if err := cmp.Or(err, x.Append(b, kept)); err != nil {
				return err
			}
			if n == 0 {
				d.Was = b
			} else {
				d.Is = b
			}
		}
		if told++; a.Limit > 0 && told > a.Limit {
			return nil
		}
		return each(d)
	}
	p, q := old(), now()
	for p != nil || q != nil {
		for _, r := range []*entry{p, q} {
			if r != nil && r.err != nil {
				return c, r.err
			}
		}
		order := 0
		switch {
		case p == nil:
			order = 1
		case q == nil:
			order = -1
		default:
			order = bytes.Compare(p.name, q.name)
		}
		switch {
		case order < 0:
			c.Went++
			err = tell(p, nil)
			p = old()
		case order > 0:
			c.Came++
			err = tell(nil, q)
			q = now()
		default:
			if bytes.Equal(p.held, q.held) {
				c.Same++
			} else {
				c.Changed++
				err = tell(p, q)
			}
			p, q = old(), now()
		}
		if err != nil {
			return c, err
		}
	}
	return c, nil
}

// ofKey leaves out the rows whose key does not meet what is asked for.
func ofKey(t *state.Table, meets func(cols []*row.Column, i int) bool, next func() *entry) func() *entry {
	keys := row.NewBatch(t.Key)
	return func() *entry {
		for {
			n := next()
			if n == nil || n.err != nil {
				return n
			}
			r, err := n.row(t)
			keys.Reset()
			if err := cmp.Or(err, state.AppendKey(keys.Cols, r.Key(0))); err != nil {
				return &entry{err: err}
			}
			if meets(keys.Cols, 0) {
				return n
			}
		}
	}
}

// entry is a row by its bytes, or why there is none.
type entry struct {
	name, held []byte
	err        error
}

// row reads it back.
func (n *entry) row(t *state.Table) (*state.Rows, error) {
	r := state.NewRows(t)
	return r, t.Read(r, n.name, n.held)
}

// rowsOf gives the rows of a table one by one, nil at the end.
func rowsOf(s *Step, t *state.Table) (next func() *entry, stop func()) {
	rows, done := make(chan entry, 1024), make(chan struct{})
	go func() {
		defer close(rows)
		err := s.Read(s.Name, t, func(r *state.Rows) (bool, error) {
			for i := range r.N {
				select {
				case rows <- entry{name: t.AppendName(nil, 0, r, i), held: t.AppendContent(nil, r, i)}:
				case <-done:
					return false, nil
				}
			}
			return true, nil
		})
		if err != nil {
			select {
			case rows <- entry{err: err}:
			case <-done:
			}
		}
	}()
	return func() *entry {
			n, ok := <-rows
			if !ok {
				return nil
			}
			return &n
		}, func() {
			close(done)
			for range rows {
			}
		}
}
