package service

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/api"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/run"
)

// tap keeps the newest rows of one step, for people to look at. Rows that come faster than a tenth of
// what is kept in a second are counted and not kept, so that looking never slows a job. Safe for
// concurrent use.
type tap struct {
	step   string
	schema row.Schema
	key    []string
	keep   int
	listeners

	mu      sync.Mutex // guards all below
	rows    []api.Row  // a ring once it is full: row number n is at (n-1) % keep
	kept    int64      // rows kept so far
	passed  int64
	skipped int64
	second  int64 // unix time that room is for
	room    int
}

func newTap(step string, schema row.Schema, key []string, keep int) *tap {
	return &tap{step: step, schema: schema, key: key, keep: keep}
}

func (t *tap) NewEncoder(s row.Schema) engine.Encoder { return run.TextOf(s) }

// Room gives rows their part of what the tap takes in this second. Windows publish all their keys at
// once, so half of what is kept is room enough for a burst.
func (t *tap) Room(rows int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if now := time.Now().Unix(); now != t.second {
		t.second, t.room = now, max(t.keep/10, 1)
		if len(t.key) > 0 {
			t.room = max(t.keep/2, 1)
		}
	}
	rows = min(rows, t.room)
	t.room -= rows
	return rows
}

func (t *tap) Take(data []byte, rows int) {
	now := time.Now().UTC()
	t.mu.Lock()
	defer t.mu.Unlock()
	t.passed += int64(rows)
	for line := range bytes.Lines(data) {
		r := api.Row{Seq: t.passed - int64(rows) + 1, At: now, Row: json.RawMessage(bytes.Clone(bytes.TrimSuffix(line, []byte("\n"))))}
		rows--
		if len(t.rows) < t.keep {
			t.rows = append(t.rows, r)
		} else {
			t.rows[t.kept%int64(t.keep)] = r
		}
		t.kept++
	}
	t.skipped += int64(rows) // those that there was no room for
	t.tell()
}

// after gives the kept rows with a seq above seq, oldest first, at most limit; and the seq to go on
// from.
func (t *tap) after(seq int64, limit int, match func(api.Row) bool) []api.Row {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []api.Row
	n := int64(len(t.rows))
	for i := t.kept - n; i < t.kept && len(out) < limit; i++ {
		r := t.rows[i%int64(t.keep)]
		if r.Seq > seq && match(r) {
			out = append(out, r)
		}
	}
	return out
}

// newest gives the newest kept rows that match, newest first.
func (t *tap) newest(limit int, match func(api.Row) bool) api.Rows {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := api.Rows{Step: t.step, Key: t.key, Passed: t.passed, Skipped: t.skipped, Rows: []api.Row{}, Fields: fieldsOf(t.schema)}
	if out.Key == nil {
		out.Key = []string{}
	}
	for i := t.kept - 1; i >= t.kept-int64(len(t.rows)) && len(out.Rows) < limit; i-- {
		if r := t.rows[i%int64(t.keep)]; match(r) {
			out.Rows = append(out.Rows, r)
		}
	}
	return out
}

func fieldsOf(s row.Schema) []api.Field {
	out := []api.Field{}
	for _, i := range s.Visible() {
		out = append(out, api.Field{Name: s[i].Name, Type: s[i].Kind.String()})
	}
	return out
}

// matchKey makes a test for rows by key: FIELD=VALUE pairs, or plain values of the key's fields in
// order.
func (t *tap) matchKey(given []string) (func(api.Row) bool, error) {
	if len(given) == 0 {
		return func(api.Row) bool { return true }, nil
	}
	want := map[string]string{}
	for i, g := range given {
		name, value, pair := strings.Cut(g, "=")
		if !pair || t.schema.Index(name) < 0 {
			if i >= len(t.key) {
				return nil, api.WrongRequest.With("key "+g+": the step has "+keyText(t.key), "give FIELD=VALUE; fields: "+strings.Join(t.schema.Names(), ", "))
			}
			name, value = t.key[i], g
		}
		want[name] = value
	}
	return func(r api.Row) bool {
		var fields map[string]json.RawMessage
		if json.Unmarshal(r.Row, &fields) != nil {
			return false
		}
		for name, value := range want {
			text := string(fields[name])
			var s string
			if json.Unmarshal(fields[name], &s) == nil {
				text = s
			}
			if text != value {
				return false
			}
		}
		return true
	}, nil
}

func keyText(key []string) string {
	if len(key) == 0 {
		return "no key"
	}
	return "the key " + strings.Join(slices.Clone(key), ", ")
}
