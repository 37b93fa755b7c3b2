package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"undertide/api"
	"undertide/store"
)

// keptRows is how many rows of each step outlast the service, to be looked at when it starts again.
// They are for people only: what a kill takes from them is in the sinks all the same.
const keptRows = 1000

// keptTap is what outlasts of a tap.
type keptTap struct {
	Passed  int64     `json:"passed"`
	Skipped int64     `json:"skipped"`
	Rows    []api.Row `json:"rows"` // oldest first
}

func (s *Service) livePath(run int64) string {
	return filepath.Join(s.opt.Data, "live", strconv.FormatInt(run, 10)+".json")
}

// keepRows writes the newest rows of all taps aside; an older run's are removed with it.
func (r *runner) keepRows() {
	all := map[string]keptTap{}
	for name, t := range r.taps {
		all[name] = t.keepNewest(keptRows)
	}
	path := r.s.livePath(r.rec.ID)
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

// findRows takes up what keepRows left for the run; nothing where there is nothing to read.
func (r *runner) findRows() error {
	text, err := os.ReadFile(r.s.livePath(r.rec.ID))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var all map[string]keptTap
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return fmt.Errorf("read the rows to look at: %w", err)
	}
	for name, k := range all {
		if t := r.taps[name]; t != nil {
			t.takeUp(k)
		}
	}
	return nil
}

// dropRows removes what was kept of earlier runs; what cannot be removed is of no harm.
func (s *Service) dropRows(r *runner, last *store.Run) {
	if r != nil {
		_ = remove(s.livePath(r.rec.ID))
	}
	if last != nil {
		_ = remove(s.livePath(last.ID))
	}
}

func (t *tap) keepNewest(n int) keptTap {
	t.mu.Lock()
	defer t.mu.Unlock()
	k := keptTap{Passed: t.passed, Skipped: t.skipped, Rows: []api.Row{}}
	for i := max(t.kept-int64(len(t.rows)), t.kept-int64(n)); i < t.kept; i++ {
		k.Rows = append(k.Rows, t.rows[i%int64(t.keep)])
	}
	return k
}

func (t *tap) takeUp(k keptTap) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.passed, t.skipped = k.Passed, k.Skipped
	t.rows = append(t.rows[:0], k.Rows[max(0, len(k.Rows)-t.keep):]...)
	t.kept = int64(len(t.rows))
}
