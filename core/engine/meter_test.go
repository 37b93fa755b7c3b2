package engine

import (
	"testing"
	"time"
)

// TestWorkUnderWay: work that has not come to its end is seen, once, and stays seen when it has.
func TestWorkUnderWay(t *testing.T) {
	w := NewWatch()
	w.spent = [][]time.Duration{make([]time.Duration, 3)}
	m := &meter{watch: w, begun: time.Now(), since: time.Now(), spent: make([]time.Duration, 3)}
	w.meters = []*meter{m}
	look := func() time.Duration {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.look()
		return w.seen[0][2]
	}
	m.charge(2)
	begun := time.Now()
	for range 4 {
		time.Sleep(longWork / 2)
		if seen, took := look(), time.Since(begun); seen < took-longWork/4 || seen > took+longWork/4 {
			t.Errorf("%s of %s are seen while it goes on", seen, took)
		}
	}
	m.charge(nobody)
	took := time.Since(begun)
	time.Sleep(longWork)
	if seen := look(); seen < took-longWork/4 || seen > took+longWork/4 {
		t.Errorf("%s of %s are seen when it is over", seen, took)
	}
}
