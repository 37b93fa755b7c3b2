package service

import (
	"bytes"
	"encoding/json"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"undertide/api"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
	"undertide/run"
)

// How much of rows is kept to be looked at, beside how many (docs/service.md, "Bounds").
const (
	mostStepBytes  = 4 << 20   // of one step
	leastStepBytes = 64 << 10  // that a step may keep even where all together have too much
	mostLookBytes  = 128 << 20 // of all steps of the service
	mostRowBytes   = 256 << 10 // of one row; a longer one is counted and not kept
	rowOverhead    = 96        // what a row takes beside its text
)

// budget counts what all taps of a service keep. Nil bounds nothing.
type budget struct{ used atomic.Int64 }

func (b *budget) add(n int64) {
	if b != nil {
		b.used.Add(n)
	}
}

func (b *budget) over() bool { return b != nil && b.used.Load() > mostLookBytes }

// tap keeps the newest rows of one step, for people to look at. Rows that come faster than a tenth of
// what is kept in a second are counted and not kept, so that looking never slows a job. What is kept is also bounded by
// its bytes: the oldest rows make room. Whoever looks copies rows while the lock is held and matches them after.
// Safe for concurrent use.
//
// Rows are numbered from 1 on, as the step publishes them; a mark is a number with the service that gave it, since a
// service that is killed has given numbers that the next one gives again:
//
//	service a: kept aside up to row 100, killed at 150     marks a-1 … a-150
//	service b: goes on from 100                            marks b-101 …; a-1 … a-100 are known, a-150 is not
type tap struct {
	seen
	keep int
	boot string
	all  *budget
	listeners
	looked atomic.Int64 // of a spread job: when somebody asked for its rows last, in nanoseconds

	mu      sync.Mutex // guards all below
	rows    []api.Row  // a ring once it is full: row number n is at n % keep
	first   int64      // the oldest that is kept, by number
	kept    int64      // rows kept so far, also those that have made room since
	bytes   int64      // of those that are kept
	passed  int64
	skipped int64
	second  int64 // unix time that room is for
	room    int
	average int64            // bytes of the last rows that were taken, each
	known   map[string]int64 // marks of services before: up to which number they count
}

func newTap(of seen, keep int, boot string, all *budget) *tap {
	return &tap{seen: of, keep: keep, boot: boot, all: all}
}

func (t *tap) NewEncoder(s row.Schema) engine.Encoder { return run.TextOf(s) }

// Room gives rows their part of what the tap takes in this second. Windows publish all their keys at
// once, so half of what is kept is room enough for a burst. Long rows have less room: writing them costs too.
func (t *tap) Room(rows int) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	if now := time.Now().Unix(); now != t.second {
		t.second, t.room = now, max(t.keep/10, 1)
		if len(t.key) > 0 {
			t.room = max(t.keep/2, 1)
		}
		if t.average > 0 {
			t.room = max(min(t.room, int(mostStepBytes/2/t.average)), 1)
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
	seq, kept := t.passed, 0
	t.passed += int64(rows)
	if rows > 0 {
		t.average = int64(len(data) / rows)
	}
	for line := range bytes.Lines(data) {
		seq++
		if len(line) <= mostRowBytes {
			t.put(api.Row{Seq: seq, At: now, Row: json.RawMessage(bytes.Clone(bytes.TrimSuffix(line, []byte("\n"))))})
			kept++
		}
	}
	t.skipped += int64(rows - kept) // those that there was no room for
	t.tell()
}

// put keeps a row, and lets the oldest make room. Called with mu held.
func (t *tap) put(r api.Row) {
	if t.kept-t.first == int64(t.keep) {
		t.drop()
	}
	if int64(len(t.rows)) < int64(t.keep) {
		t.rows = append(t.rows, r)
	} else {
		t.rows[t.kept%int64(t.keep)] = r
	}
	t.kept++
	n := int64(len(r.Row) + rowOverhead)
	t.bytes += n
	t.all.add(n)
	for t.bytes > mostStepBytes || t.bytes > leastStepBytes && t.all.over() {
		t.drop()
	}
}

// drop lets the oldest row go. Called with mu held.
func (t *tap) drop() {
	r := &t.rows[t.first%int64(t.keep)]
	n := int64(len(r.Row) + rowOverhead)
	*r = api.Row{}
	t.first++
	t.bytes -= n
	t.all.add(-n)
}

// release lets all rows go; the counts stay.
func (t *tap) release() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for t.first < t.kept {
		t.drop()
	}
	t.rows, t.first, t.kept = nil, 0, 0
}

// after gives the kept rows with a seq above seq, oldest first, at most limit.
func (t *tap) after(seq int64, limit int) []api.Row {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := int64(sort.Search(int(t.kept-t.first), func(i int) bool { return t.at(t.first+int64(i)).Seq > seq }))
	return t.copied(t.first+n, min(t.kept, t.first+n+int64(limit)))
}

// at gives the row of a number. Called with mu held.
func (t *tap) at(n int64) *api.Row { return &t.rows[n%int64(t.keep)] }

// copied copies the rows of some numbers. Called with mu held.
func (t *tap) copied(from, to int64) []api.Row {
	var out []api.Row
	for n := from; n < to; n++ {
		out = append(out, *t.at(n))
	}
	return out
}

// before gives the kept rows with numbers below to, newest last, at most limit, and the number of the first.
func (t *tap) before(to int64, limit int) ([]api.Row, int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	to = min(to, t.kept)
	from := max(t.first, to-int64(limit))
	if from >= to {
		return nil, to
	}
	return t.copied(from, to), from
}

// newest gives the newest kept rows that match, newest first.
func (t *tap) newest(limit int, match func(api.Row) bool) api.Rows {
	t.mu.Lock()
	out := api.Rows{Step: t.name, Key: append([]string{}, t.key...), Passed: t.passed, Skipped: t.skipped, Mark: t.mark(t.passed), Rows: []api.Row{}, Fields: t.fields()}
	n := t.kept
	t.mu.Unlock()
	for {
		part, from := t.before(n, 1000)
		for i := len(part) - 1; i >= 0 && len(out.Rows) < limit; i-- {
			if part[i].Seq <= out.Passed && match(part[i]) {
				out.Rows = append(out.Rows, part[i])
			}
		}
		if len(part) == 0 || len(out.Rows) == limit {
			return out
		}
		n = from
	}
}

func (t *tap) mark(seq int64) string { return t.boot + "-" + strconv.FormatInt(seq, 10) }

// seqOf gives the number that a mark stands for; not ok where a service gave it whose later numbers were lost.
func (t *tap) seqOf(mark string) (seq int64, ok bool, err error) {
	boot, text, marked := strings.Cut(mark, "-")
	if !marked {
		boot, text = t.boot, mark
	}
	if seq, err = strconv.ParseInt(text, 10, 64); err != nil || seq < 0 {
		return 0, false, api.WrongRequest.With("after="+cut(mark)+" is not a mark of a row", "give the mark of an answer, or the id of an event")
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if boot == t.boot {
		return seq, seq <= t.passed, nil
	}
	return seq, seq <= t.known[boot], nil
}

// missedIn counts the rows between seq and those of a list, and within it, that were not kept; and gives the last seq.
func missedIn(list []api.Row, seq int64) (missed, last int64) {
	for _, r := range list {
		missed += r.Seq - seq - 1
		seq = r.Seq
	}
	return missed, seq
}

func (t *tap) fields() []api.Field {
	out := fieldsOf(t.schema)
	for i := range out {
		for _, l := range t.levels {
			if l.Field == out[i].Name {
				out[i].Levels = l.Levels
			}
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

var fieldName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// matchKey makes a test for rows by key: FIELD=VALUE pairs, or plain values of the key's fields in
// order.
func (t *tap) matchKey(given []string) (func(api.Row) bool, error) {
	if len(given) == 0 {
		return func(api.Row) bool { return true }, nil
	}
	want := map[string]string{}
	for i, g := range given {
		name, value, pair := strings.Cut(g, "=")
		if pair && t.schema.Index(name) < 0 && fieldName.MatchString(name) {
			fix := "the fields are " + strings.Join(t.schema.Names(), ", ")
			if near := job.Nearest(name, t.schema.Names()); near != "" {
				fix = "did you mean " + near + "?"
			} else if len(t.key) > 0 {
				fix += "; for a value that has = in it, write " + t.key[0] + "=" + g
			}
			return nil, api.WrongRequest.With("key "+cut(g)+": there is no field "+cut(name), fix)
		}
		if !pair || t.schema.Index(name) < 0 {
			if i >= len(t.key) {
				return nil, api.WrongRequest.With("key "+g+": the step has "+keyText(t.key), "give FIELD=VALUE; fields: "+strings.Join(t.schema.Names(), ", "))
			}
			name, value = t.key[i], g
		}
		want[name] = value
	}
	return func(r api.Row) bool {
		for _, value := range want {
			if isPlain(value) && !bytes.Contains(r.Row, []byte(value)) {
				return false // most rows: without reading them
			}
		}
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

// isPlain says whether JSON writes a text as it is.
func isPlain(s string) bool {
	for _, c := range []byte(s) {
		if c < ' ' || c > '~' || strings.IndexByte(`"\<>&/`, c) >= 0 {
			return false
		}
	}
	return true
}

func keyText(key []string) string {
	if len(key) == 0 {
		return "no key"
	}
	return "the key " + strings.Join(slices.Clone(key), ", ")
}
