package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"undertide/api"
)

// keptRows is how many rows of each step outlast the service, to be looked at when it starts again.
// They are for people only: what a kill takes from them is in the sinks all the same.
const keptRows = 1000

// keptFor is how long.
const keptFor = 30 * 24 * time.Hour

// keptTap is what outlasts of a tap.
type keptTap struct {
	Passed  int64 `json:"passed"`
	Skipped int64 `json:"skipped"`
	// Marks are those that count: by service, up to which number.
	Marks map[string]int64 `json:"marks"`
	Rows  []api.Row        `json:"rows"` // oldest first
}

// livePath is where rows of a job are kept, over all of its runs.
func (s *Service) livePath(job int64) string {
	return filepath.Join(s.opt.Data, "live", "job-"+strconv.FormatInt(job, 10)+".json")
}

// keepRows writes the newest rows of all taps aside. Those of parts that this version of the document does not have go.
func (r *runner) keepRows() {
	r.mu.Lock()
	lost := r.lost
	r.mu.Unlock()
	if lost { // another run of the job keeps its own
		return
	}
	all := map[string]keptTap{}
	for name, t := range r.taps {
		all[name] = t.keepNewest(keptRows)
	}
	path := r.s.livePath(r.rec.JobID)
	text, err := json.Marshal(all)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = os.WriteFile(path+".part", text, 0o600)
	}
	if err == nil {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		r.log.Warn("the rows to look at were not kept", "error", err)
	}
}

// findRows takes up what an earlier run of the job left; nothing where there is nothing to read.
func (r *runner) findRows() error {
	all, err := r.s.keptRows(r.rec.JobID)
	if err != nil {
		return err
	}
	for name, k := range all {
		if t := r.taps[name]; t != nil {
			t.takeUp(k)
		}
	}
	return nil
}

// keptRows reads what was kept of a job; nothing where there is nothing to read.
func (s *Service) keptRows(job int64) (all map[string]keptTap, err error) {
	text, err := os.ReadFile(s.livePath(job))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("read the rows to look at: %w", err)
	}
	return all, nil
}

// releaseAfter is how long the rows of a run that has ended stay: whoever follows them takes the last.
const releaseAfter = 5 * time.Second

// release lets the rows of a run that has ended go; they are read from where they were kept when somebody looks.
func (r *runner) release() {
	r.mu.Lock()
	r.released = true
	r.mu.Unlock()
	for _, t := range r.taps {
		t.release()
	}
}

// look gives the tap of a source, step or output; nil where there is none.
func (r *runner) look(step string) (*tap, error) {
	t := r.taps[step]
	r.mu.Lock()
	released, spread := r.released, r.supervises != nil
	r.mu.Unlock()
	if t != nil && spread && r.goingOn() {
		r.gatherNow(t)
	}
	if t == nil || !released {
		return t, nil
	}
	all, err := r.s.keptRows(r.rec.JobID)
	if err != nil {
		return nil, err
	}
	again := newTap(t.seen, t.keep, t.boot, nil)
	again.takeUp(all[step])
	return again, nil
}

// dropRows removes what was kept of a job; what cannot be removed is of no harm.
func (s *Service) dropRows(job int64) { _ = remove(s.livePath(job)) }

func (t *tap) keepNewest(n int) keptTap {
	t.mu.Lock()
	defer t.mu.Unlock()
	k := keptTap{Passed: t.passed, Skipped: t.skipped, Marks: map[string]int64{t.boot: t.passed}, Rows: append([]api.Row{}, t.copied(max(t.first, t.kept-int64(n)), t.kept)...)}
	for boot, upTo := range t.known {
		if len(k.Marks) < mostMarks && upTo > 0 {
			k.Marks[boot] = upTo
		}
	}
	return k
}

// mostMarks is of how many services marks count: a page that was open since so many starts begins anew.
const mostMarks = 10

func (t *tap) takeUp(k keptTap) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.passed, t.skipped, t.known = k.Passed, k.Skipped, k.Marks
	for _, r := range k.Rows[max(0, len(k.Rows)-t.keep):] {
		if time.Since(r.At) < keptFor {
			t.put(r)
		}
	}
}
