package try

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// sampleTogether samples the streams anew that begin before others with which a step joins them, from where the last of those
// begins: the sides of a join are to be of one span of time.
func sampleTogether(ctx context.Context, j *job.Job, samples []connect.Sample, rows int) error {
	begin := time.Time{}
	stored := map[int]time.Time{} // by source, the first
	for i := range j.Sources {
		if _, streams := j.Sources[i].With.(connect.Streaming); !streams || len(samples[i].Events) == 0 || !joins(j, j.Sources[i].Name) {
			continue
		}
		first := slices.MinFunc(samples[i].Events, func(a, b connect.Event) int { return a.Stored.Compare(b.Stored) }).Stored
		if first.IsZero() {
			continue
		}
		stored[i] = first
		if first.After(begin) {
			begin = first
		}
	}
	for i, first := range stored {
		if begin.Sub(first) < time.Second {
			continue
		}
		s, err := Sample(ctx, j, &j.Sources[i], connect.Sampling{Rows: rows, From: connect.Since, At: begin})
		if err != nil {
			return err
		}
		samples[i] = s
	}
	return nil
}

// joins says whether a join reads what comes of a source.
func joins(j *job.Job, source string) bool {
	return slices.ContainsFunc(j.Steps, func(s job.Step) bool {
		_, is := s.Keyed.(*step.Join)
		return is && readsFrom(j, &s, source)
	})
}

// sides counts the keys of each side of a join.
type sides struct {
	def   *step.Join
	mu    sync.Mutex // guards all below
	of    [2]map[string]bool
	all   [2]int64
	nulls [2]int64 // rows without a key, which meet none
}

func newSides(d *step.Join) *sides {
	return &sides{def: d, of: [2]map[string]bool{{}, {}}}
}

func (k *sides) see(v step.View) {
	k.mu.Lock()
	defer k.mu.Unlock()
	side := v.Cols[len(v.Cols)-1]
	for _, i := range v.Sel {
		n := slices.Index(step.Sides[:], string(side.Bytes(int(i))))
		k.all[n]++
		if nullKey(v.Cols, k.def.Keys.Key, int(i)) {
			k.nulls[n]++
			continue
		}
		if len(k.of[n]) < 100_000 {
			k.of[n][keyAt(v.Cols, k.def.Keys.Key, int(i))] = true
		}
	}
}

// nullKey says whether a field of the key of a row is null.
func nullKey(cols []*row.Column, key []int, i int) bool {
	return slices.ContainsFunc(key, func(c int) bool { return cols[c].IsNull(i) })
}

// keyAt writes the key of a row.
func keyAt(cols []*row.Column, key []int, i int) string {
	parts := make([]string, len(key))
	for n, c := range key {
		parts[n] = plainText(expr.At(cols[c], i))
	}
	return strings.Join(parts, ", ")
}

// warnJoin says where the keys of both sides hardly meet, and where the sample is too short for partners to be in it.
func (r *rehearser) warnJoin(s *job.Step, k *sides, c engine.StepFigures, say warner) {
	if k.all[0] == 0 || k.all[1] == 0 {
		return
	}
	both := 0
	for key := range k.of[0] {
		if k.of[1][key] {
			both++
		}
	}
	names := strings.Join(k.def.Keys.KeySchema().Names(), ", ")
	if least := min(len(k.of[0]), len(k.of[1])); both*20 < least {
		text := fmt.Sprintf("the left has %d keys (%s) and the right %d, and %d stand on both sides: hardly any row meets a partner", len(k.of[0]), names, len(k.of[1]), both)
		if a, b := alike(k.of[0], k.of[1]); a != "" {
			say(s.Name, "bring both to one form before, by set, such as lower case", "%s. %q of the left and %q of the right differ in upper and lower case, or in blanks", text, a, b)
		} else {
			say(s.Name, "check that match names the same thing on both sides", "%s, such as %s on the left and %s on the right", text, anyOf(k.of[0]), anyOf(k.of[1]))
		}
	}
	if rows := k.all[0] + k.all[1]; c.Pairs > 10*rows {
		say(s.Name, "match more fields, or give a shorter within, where that is not what you mean", "%d rows make %d pairs: a row meets some %d partners, and all that follows has as many rows", rows, c.Pairs, 2*c.Pairs/rows)
	}
	reach := max(k.def.Reach(step.LeftSide), k.def.Reach(step.RightSide))
	if span := r.sharedSpan(s); span < reach {
		say(s.Name, "rehearse more rows, or from the oldest ones", "the sample has %s of both sides, and partners may be %s apart: many are outside of it", span.Round(time.Millisecond), row.DurationText(reach))
	}
	for side, name := range step.Sides {
		if n := k.nulls[side]; n*20 > k.all[side] {
			say(s.Name, "fill the field by set before, or look at where it comes from", "%d of %d rows of the %s have a null in what is matched: they meet no partner", n, k.all[side], name)
		}
		if x := c.Sides[side]; x.Rows > 20 && x.Matched == 0 {
			say(s.Name, "check match, and within", "none of the %d rows of the %s met a partner", x.Rows, name)
		}
	}
}

// sharedSpan gives how much event time the samples of all sources of a step have in common.
func (r *rehearser) sharedSpan(s *job.Step) time.Duration {
	from, to := row.MinTime, row.MaxTime
	for i := range r.j.Sources {
		if t := r.times[i]; readsFrom(r.j, s, r.j.Sources[i].Name) && t.most >= t.least {
			from, to = max(from, t.least), min(to, t.most)
		}
	}
	return max(0, time.Duration(to-from)*time.Microsecond)
}

// alike gives keys of two sets that differ in case and blanks alone; empty for none.
func alike(a, b map[string]bool) (string, string) {
	plain := map[string]string{}
	for key := range a {
		plain[strings.ToLower(strings.TrimSpace(key))] = key
	}
	for _, key := range slices.Sorted(maps.Keys(b)) {
		if other, ok := plain[strings.ToLower(strings.TrimSpace(key))]; ok && other != key {
			return other, key
		}
	}
	return "", ""
}

// anyOf gives the first of a set.
func anyOf(set map[string]bool) string { return slices.Sorted(maps.Keys(set))[0] }

// warnLookup says where many rows are not found.
func warnLookup(s *job.Step, g *engine.Step, c engine.StepFigures, reference string, misses []string, say warner) {
	all := c.Lookup.Found + c.Lookup.Missed + c.Lookup.Null
	if n := c.Lookup.Missed; n*20 > all {
		text := fmt.Sprintf("%d of %d rows have no row in %s, such as %s", n, all, reference, strings.Join(misses[:min(3, len(misses))], "; "))
		if g.Stateless != nil && g.Stateless.Lookup != nil {
			if other := g.Stateless.Lookup.Alike(); other != "" {
				say(s.Name, "bring both to one form before, by set, such as lower case", "%s; %s has %s, which differs in upper and lower case, or in blanks", text, reference, other)
				return
			}
		}
		say(s.Name, "add them to the reference, or say what becomes of such rows: missing: keep, drop or reject", "%s", text)
	}
	if n := c.Lookup.Null; n*20 > all {
		say(s.Name, "fill the field by set before, or look at where it comes from", "%d of %d rows have a null in what is matched: nothing can be looked up by it", n, all)
	}
}
