package engine

import (
	"encoding/json"
	"math/bits"
	"sync"
	"sync/atomic"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// turn is the unit of everything: the events of one partition that are read together, their rows,
// and what the steps before the lanes made of them. A worker fills it, the sequencer adds header and
// watermarks, the lanes read it, and the last of them puts it back.
type turn struct {
	// set by reader and worker
	part  *partition
	seq   int64 // among the partition's chunks of this run
	bytes int64 // of its events in the buffer
	// arrived is when the events were read, for sources whose event time that is.
	arrived row.Time
	read    row.Time // when the events were read, by the clock; when the turn was made, where it has none
	chunk   Chunk
	batch   *row.Batch
	exec    *executor

	// header, set by the sequencer and read-only then
	number  int64
	step    int          // of the script
	marks   [][]row.Time // by domain: the watermark that stood before each event
	after   []row.Time   // by domain: the watermark after the turn
	sources []row.Time   // by source: the same
	asleep  []bool       // by domain: all of its sources are idle then
	now     row.Time     // the wall clock
	own     []row.Time   // scratch: the source's own running watermark

	// routes are the rows that lanes made for keyed steps of later stages, by stage and lane.
	routes []([]*step.Router)

	late     lateEvents
	aside    []aside          // events that are passed over
	rejected map[string]int64 // of the source, by reason
	refs     atomic.Int32
	settled  chan struct{} // closed once the last lane is done; nil where nobody waits
	err      error
}

// lateEvents are the events of a turn of which a lane has lost a row: a set, since several steps may lose rows of the same
// event. Lanes add to it; the last that is done with the turn counts and empties it.
type lateEvents struct {
	mu   sync.Mutex
	bits []uint64 // one for each event, as long as was needed
}

func (s *lateEvents) add(v step.View) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, i := range v.Sel {
		event := int(v.Index[i])
		for len(s.bits) <= event/64 {
			s.bits = append(s.bits, 0)
		}
		s.bits[event/64] |= 1 << (event % 64)
	}
}

// take counts them and empties the set. Nobody adds any more. In a turn without events the rows that are late come of none.
func (s *lateEvents) take(events int) (n int64) {
	for _, b := range s.bits {
		n += int64(bits.OnesCount64(b))
	}
	n = min(n, int64(events))
	clear(s.bits)
	s.bits = s.bits[:0]
	return n
}

// block is encoded rows on their way to a sink.
type block struct {
	data []byte
	rows int
	ages ages // of some of the rows
}

// sinkMessage is what travels to a sink: rows, or a mark, of one of its producers.
type sinkMessage struct {
	producer int
	block    *block
	mark     *mark
}

// laneMessage is what travels to a lane: a turn or a part of it, or a mark between two turns.
type laneMessage struct {
	part *part
	mark *mark
}

// routesOf gives the routers that a lane fills in this turn, emptied.
func (t *turn) routesOf(l *lane) []*step.Router {
	at := l.place()
	for _, r := range t.routes[at] {
		if r != nil {
			r.Reset()
		}
	}
	return t.routes[at]
}

// stagesLeft prepares the counts of lanes that a turn or mark must pass.
func (e *run) stagesLeft(left []atomic.Int32) []atomic.Int32 {
	if left == nil {
		left = make([]atomic.Int32, len(e.p.stages))
	}
	for i := range left {
		left[i].Store(int32(e.opt.Lanes))
	}
	return left
}

// Sample is a reject kept to be shown: the first of its reason.
type Sample struct {
	At, Reason, Message, Partition string
	Offset                         int64
	Event                          string
}

func quoteValues(s row.Schema, v step.View, i int) []byte {
	fields := map[string]any{}
	for c, f := range s {
		if f.Hidden {
			continue
		}
		fields[f.Name] = plainValue(v.Cols[c], i)
	}
	out, err := json.Marshal(fields)
	if err != nil {
		return []byte("{}")
	}
	return out
}

func plainValue(c *row.Column, i int) any {
	if c.IsNull(i) {
		return nil
	}
	switch c.Kind {
	case row.Double:
		return c.F[i]
	case row.String:
		return string(c.Bytes(i))
	case row.Bytes:
		return c.Bytes(i) // base64, as encoding/json does
	case row.Bool:
		return c.I[i] != 0
	case row.Timestamp:
		return row.Time(c.I[i]).String()
	case row.Decimal:
		return string(c.Bytes(i))
	}
	if !c.Kind.Plain() {
		return expr.At(c, i).String()
	}
	return c.I[i]
}
