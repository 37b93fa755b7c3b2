package service

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"undertide/access"
	"undertide/api"
)

// Rows of a spread job to look at lie with its portions. Its own run takes the newest of them, of a part that somebody looks at, and shows them as if it had made them itself.

// lookedFor is how long a part counts as looked at after somebody asked for its rows.
const lookedFor = 10 * time.Second

// mostGathered bounds how many rows are taken at once of a portion; those before them are counted as not kept.
const mostGathered = 300

// gathering is what the run of a spread job has taken of its portions' rows. Safe for concurrent use.
type gathering struct {
	mu    sync.Mutex // guards all; held while rows are taken
	taken map[[2]string]taken
}

// taken is up to where the rows of a part of a portion were taken.
type taken struct {
	mark   string
	passed int64
	at     time.Time // of the newest
}

// wanted says whether somebody looks at the tap.
func (t *tap) wanted() bool {
	t.listeners.mu.Lock()
	n := len(t.listeners.all)
	t.listeners.mu.Unlock()
	return n > 0 || time.Since(time.Unix(0, t.looked.Load())) < lookedFor
}

// gatherWanted takes the rows of the parts that somebody looks at.
func (r *runner) gatherWanted(ctx context.Context, all []*portion) {
	for _, t := range r.taps {
		if t.wanted() {
			r.gather(ctx, t, all)
		}
	}
}

// gather takes the newest rows of a part from all portions that have it, in the order in which they came.
func (r *runner) gather(ctx context.Context, t *tap, all []*portion) {
	g := &r.gathered
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.taken == nil {
		g.taken = map[[2]string]taken{}
	}
	var rows []api.Row
	passed := int64(0)
	for _, p := range all {
		if p.run == nil || !slices.Contains(p.parts, t.name) {
			continue
		}
		of := [2]string{p.name, t.name}
		was := g.taken[of]
		got, err := r.s.rowsOfPortion(ctx, p, t.name, was.mark)
		if err != nil {
			continue // its node does not answer; the next look may fare better
		}
		if got.Anew || got.Passed < was.passed {
			was.passed = got.Passed - int64(len(got.Rows))
		}
		now := taken{got.Mark, got.Passed, was.at}
		for _, row := range got.Rows {
			if got.Anew && !row.At.After(was.at) {
				continue
			}
			rows = append(rows, row)
			if row.At.After(now.at) {
				now.at = row.At
			}
		}
		passed += max(0, got.Passed-was.passed)
		g.taken[of] = now
	}
	slices.SortStableFunc(rows, func(a, b api.Row) int {
		if d := a.At.Compare(b.At); d != 0 {
			return d
		}
		return int(a.Seq - b.Seq)
	})
	t.take(rows, max(passed, int64(len(rows))))
}

// take puts rows that others had, the oldest first, of so many that have passed there.
func (t *tap) take(rows []api.Row, passed int64) {
	if passed == 0 {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	seq := t.passed + passed - int64(len(rows))
	t.passed += passed
	t.skipped += passed - int64(len(rows))
	for _, r := range rows {
		seq++
		r.Seq = seq
		t.put(r)
	}
	t.tell()
}

// rowsOfPortion gives the rows of a part of a portion behind a mark, or the newest where it is empty.
func (s *Service) rowsOfPortion(ctx context.Context, p *portion, part, after string) (out api.Rows, err error) {
	if own, _ := s.newestRun(p.e); own != nil {
		t, err := own.look(part)
		if err != nil || t == nil {
			return out, fmt.Errorf("portion %s has no rows of %s: %w", p.name, part, err)
		}
		if after == "" {
			return t.newest(mostGathered, func(api.Row) bool { return true }), nil
		}
		seq, ok, err := t.seqOf(after)
		if err != nil {
			return out, err
		}
		out = t.newest(mostGathered, func(row api.Row) bool { return !ok || row.Seq > seq })
		out.Anew = !ok
		return out, nil
	}
	x, known := s.nodes.node(p.run.Node)
	if !known || !x.Alive {
		return out, fmt.Errorf("node %s does not answer", p.run.Node)
	}
	q := url.Values{"limit": {fmt.Sprint(mostGathered)}}
	if after != "" {
		q.Set("after", after)
	}
	return out, s.nodes.getAs(ctx, access.Engineer, x, fmt.Sprintf("/runs/%d/steps/%s/rows?%s", p.run.ID, url.PathEscape(part), q.Encode()), &out)
}

// gatherNow takes what there is of a part that somebody begins to look at.
func (r *runner) gatherNow(t *tap) {
	fresh := t.wanted()
	t.looked.Store(time.Now().UnixNano())
	r.mu.Lock()
	all := r.supervises
	r.mu.Unlock()
	if fresh || len(all) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(r.s.runs, askNodeWithin)
	defer cancel()
	r.gather(ctx, t, all)
}
