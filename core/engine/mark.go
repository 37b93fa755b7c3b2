package engine

import (
	"encoding/json"
	"sync"
	"sync/atomic"
	"time"

	"undertide/core/row"
)

// Snapshot is a run as it stood at a mark between two turns: what a checkpoint stores, and what a
// run starts from (docs/time.md, "Checkpoints and delivery").
type Snapshot struct {
	Epoch int64
	// Turn is the number of the next turn.
	Turn int64
	// Started is when the run first started; the bound of `ahead` counts from it in bounded runs.
	Started    time.Time
	Finished   bool
	Partitions []PartitionState
	// Watermarks are the greatest W that each source has given out, by name; it never goes back, also
	// where a partition that was idle counts again after a restart. Sources before their first row
	// are left out.
	Watermarks map[string]row.Time
	// States has, for each table of a keyed step's state by name, the parts that the lanes gave, each
	// sorted by share.
	States map[string][]*row.Batch
	// Shipments are what the sinks prepared, by name.
	Shipments map[string]json.RawMessage
	Counts    Counts
	// Adapted says that it was made by another version of the graph: what does not fit was left out, and
	// counts begin anew.
	Adapted bool
}

// PartitionState is where the reading of a partition stood.
type PartitionState struct {
	Source, Name string
	Position     json.RawMessage
	// Greatest is the greatest event time read; row.MinTime before the first row.
	Greatest row.Time
	Ended    bool
	Events   int64
}

// mark is a snapshot under way: every lane and sink adds its part.
type mark struct {
	snap     *Snapshot
	pending  atomic.Int32  // lanes and sinks that have not given their part
	complete chan struct{} // closed by the last of them
	parts    []*partition  // those of snap.Partitions
	began    time.Time
	left     []atomic.Int32 // by stage: lanes that have not passed it

	mu    sync.Mutex    // guards snap and stall
	stall time.Duration // the longest that a lane spent copying
}

func (m *mark) done() {
	if m.pending.Add(-1) == 0 {
		close(m.complete)
	}
}

func (m *mark) addState(stepName string, b *row.Batch) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if b.N > 0 {
		m.snap.States[stepName] = append(m.snap.States[stepName], b)
	}
}

// addLane adds a lane's counts, of windows and of the steps behind them.
func (m *mark) addLane(l *lane, took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, c := range l.counts {
		m.snap.Counts.Steps[i].add(c)
	}
	m.stall = max(m.stall, took)
}

func (m *mark) addShipment(sink string, at int, s json.RawMessage, c SinkCounts) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.snap.Shipments[sink] = s
	m.snap.Counts.Sinks[at] = c
}
