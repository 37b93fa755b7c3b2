package service

import (
	"fmt"
	"time"

	"undertide/figures"
	"undertide/inside"
	"undertide/run"
)

// heavyEvery is how often the heaviest key of a step is looked for, where its lanes are uneven.
const (
	heavyEvery = time.Minute
	heavySoon  = 5 * time.Second
)

// heavy is the heaviest key of a step as it was seen last.
type heavy struct {
	text  string
	asked time.Time
}

// heaviest names the key with most rows of what a step keeps, as of a checkpoint of the last minute; empty for not known yet. Called with mu
// held: it looks behind the caller.
func (r *runner) heaviest(step string) string {
	h := r.heavy[step]
	every := heavyEvery
	if h.text == "" { // there was no checkpoint yet
		every = heavySoon
	}
	if time.Since(h.asked) >= every {
		r.heavy[step] = heavy{h.text, time.Now()}
		lanes := run.Lanes(r.job, r.rec.Lanes)
		go r.guard("look for the heaviest key", func() {
			text := r.lookForHeaviest(step, lanes)
			r.mu.Lock()
			defer r.mu.Unlock()
			r.heavy[step] = heavy{text, time.Now()}
		})
	}
	return h.text
}

// lookForHeaviest reads the newest checkpoint; empty where there is none yet, or nothing is kept.
func (r *runner) lookForHeaviest(step string, lanes int) string {
	st, err := inside.Open(r.dir, 0, r.job, step)
	if err != nil {
		return ""
	}
	defer r.s.putAway(st)
	k, err := st.ShowSkew(lanes, 1)
	if err != nil || len(k.Heaviest) == 0 {
		return ""
	}
	first := k.Heaviest[0]
	return fmt.Sprintf("%s (%s rows)", first.Key, figures.Grouped(first.Rows))
}
