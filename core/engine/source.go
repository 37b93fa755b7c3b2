package engine

import (
	"context"
	"encoding/json"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// Chunk is the raw events of one turn, cut at event boundaries by a [Partition]. It is reused; what
// decodes it copies what it keeps.
type Chunk struct {
	Raw []byte
	// Event i is Raw[Starts[i]:Ends[i]].
	Starts, Ends []uint32
	// Header is the record that names the columns, where the format has one.
	Header []byte
	// First is the number of the first event in its partition, from 0.
	First int64
	// Last says that no event follows: the partition has ended. It may come with an empty chunk.
	Last bool
	// CaughtUp says that nothing more waits to be read just now (unbounded inputs, for idleness).
	CaughtUp bool
	// Position is where reading goes on after this chunk; the connector's own form. It is kept in
	// checkpoints, so a chunk must not change it later.
	Position json.RawMessage
	// Bytes is how much input the chunk took, for progress.
	Bytes int64
}

// Reset empties the chunk and keeps its memory.
func (c *Chunk) Reset() {
	*c = Chunk{Raw: c.Raw[:0], Starts: c.Starts[:0], Ends: c.Ends[:0]}
}

// Event gives the raw text of event i; appending to it does not touch the next one.
func (c *Chunk) Event(i int) []byte { return c.Raw[c.Starts[i]:c.Ends[i]:c.Ends[i]] }

// Partition is one ordered part of a source (a file, a topic's partition). One goroutine at a time.
type Partition interface {
	// Name is unique within the source; partitions with equal watermarks take turns in its order.
	Name() string
	// Open goes to a position that a chunk gave, or to the beginning when it is nil.
	Open(ctx context.Context, position json.RawMessage) error
	// Empty says whether a bounded partition has no event at all. Asked before Open, of a run that
	// starts anew.
	Empty(ctx context.Context) (bool, error)
	// Read fills c with the next events, at most row.MaxRows. A bounded partition fills the chunk
	// unless it ends, and knows with the last event that it is the last; an unbounded one waits for
	// at least one event and then returns what comes within the linger. It may return an empty chunk
	// to say that it has caught up.
	Read(ctx context.Context, c *Chunk) error
	// Close ends reading; it may be called while Read waits, which then returns.
	Close() error
	// Size is the total bytes of a bounded partition, for progress; 0 when not known.
	Size() int64
}

// Decoder turns the events of a chunk into rows. One goroutine at a time.
type Decoder interface {
	// Decode appends a row to b for each event that can be decoded, with Index set, and a reject for
	// each other. b is empty and has the source's schema; hidden columns are left alone, and event
	// times are the engine's to find.
	Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject
}

// Source is where rows come in.
type Source struct {
	Name   string
	Schema row.Schema // hidden fields meta.partition and meta.offset are filled by the engine
	// EventTime gives each row's event time, of kind timestamp; Arrival takes the clock as the row is
	// read. With neither, rows have no event time, and Margin and the rest mean nothing.
	EventTime *expr.Program
	Arrival   bool
	Margin    time.Duration
	// Ahead: rows further than this ahead of the clock are rejects; 0 for none.
	Ahead time.Duration
	// Idle: after so long without events an unbounded partition leaves the least.
	Idle       time.Duration
	Partitions []Partition
	NewDecoder func() Decoder
	// Bounded says that every partition ends by itself.
	Bounded bool
}

// Encoder writes rows in a sink's format. One goroutine at a time.
type Encoder interface {
	// Append adds the selected rows of v to dst.
	Append(dst []byte, v step.View) []byte
}

// Sink takes rows out. Its methods are called by one goroutine at a time, but for Commit, which may
// run beside Write of the next epoch.
type Sink interface {
	// NewEncoder makes an encoder; each producer has its own.
	NewEncoder(s row.Schema) Encoder
	// Open makes the sink ready. shipment is what Prepare gave in the checkpoint that the run starts
	// from, nil for a run that starts anew; epoch is the one that begins.
	Open(shipment json.RawMessage, epoch int64) error
	// Write takes encoded rows of the current epoch. data is not kept.
	Write(data []byte, rows int) error
	// Flush is called when nothing more waits, so that readers see what was written.
	Flush() error
	// Prepare makes everything written so far durable, at the mark that ends epoch, and gives what a
	// later Open or Commit needs.
	Prepare(epoch int64) (shipment json.RawMessage, err error)
	// Commit delivers the shipment of epoch, whose checkpoint is complete. Committing again what was
	// delivered changes nothing.
	Commit(epoch int64) error
	// Finish ends the sink after its last Commit: what was one unfinished file appears whole.
	Finish() error
	// Abort ends it where the run failed or was stopped; unfinished output stays recognisable.
	Abort() error
}

// Timed says whether rows of the source have event times.
func (s *Source) Timed() bool { return s.EventTime != nil || s.Arrival }
