package engine

import (
	"bytes"
	"context"
	"encoding/hex"
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
	// Offsets are the events' own numbers where the connector has them; else they follow from First.
	Offsets []int64
	// Meta gives what else the connector knows of its events; nil for nothing.
	Meta Meta
	// Text gives an event as people read it, where its bytes are not for them; nil where they are.
	Text func(event []byte) []byte
	// Stored is when the last event was stored, by the connector's account; 0 where it has none.
	Stored row.Time
	// Last says that no event follows: the partition has ended. It may come with an empty chunk.
	Last bool
	// Marks are, of a source that carries watermarks, the one that stood at its writer before each event, and After the one behind the last, or
	// that stands now; row.MinTime for none. Asleep: the writer waits for nothing, and nobody waits for it.
	Marks  []row.Time
	After  row.Time
	Asleep bool
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
	*c = Chunk{Raw: c.Raw[:0], Starts: c.Starts[:0], Ends: c.Ends[:0], Offsets: c.Offsets[:0], Marks: c.Marks[:0], After: row.MinTime}
}

// Offset gives the number of event i in its partition.
func (c *Chunk) Offset(i int) int64 {
	if i < len(c.Offsets) {
		return c.Offsets[i]
	}
	return c.First + int64(i)
}

// Meta is what a connector knows of the events of a chunk beside their text: a broker's keys, headers
// and stored times. It lives as long as the chunk's content.
type Meta interface {
	// Append adds the value of a hidden field (meta.key, meta.stored, meta.headers.NAME) for event i,
	// or null.
	Append(c *row.Column, field string, i int)
}

// Event gives the raw text of event i; appending to it does not touch the next one.
func (c *Chunk) Event(i int) []byte { return c.Raw[c.Starts[i]:c.Ends[i]:c.Ends[i]] }

// Shown gives event i as people read it: bytes that are no text as hexadecimal digits.
func (c *Chunk) Shown(i int) []byte {
	event := c.Event(i)
	if c.Text != nil {
		return c.Text(event)
	}
	return Readable(event)
}

// Readable gives bytes as people read them: those that are no text, but for a sign or two, as hexadecimal digits.
func Readable(b []byte) []byte {
	if bytes.IndexFunc(b, binary) < 0 {
		return b
	}
	return hex.AppendEncode(nil, b)
}

// binary says whether a sign does not stand in texts.
func binary(r rune) bool { return r < ' ' && r != '\t' && r != '\n' && r != '\r' }

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

// Partitions may also have the methods of the following interfaces; all are safe to call at any time
// from any goroutine, but for Start, which is called once, before the first checkpoint.
type (
	// Starter knows the position at which a run that starts anew begins. It stands in the first
	// checkpoint, so that it is resolved once.
	Starter interface{ Start() json.RawMessage }
	// Quieter says for how long it has been certain, without a gap, that no events wait to be read; zeros
	// for not at all. Only this time counts for idleness: while a broker cannot be asked nothing can come,
	// and what its writers hold back comes right after.
	Quieter interface{ Quiet() (from, to time.Time) }
	// Acknowledger is told the position that a complete checkpoint holds.
	Acknowledger interface {
		Acknowledge(position json.RawMessage)
	}
	// Lagger tells how many events stand behind a position; false when that is not known.
	Lagger interface {
		Lag(position json.RawMessage) (events int64, known bool)
	}
	// Retainer tells how long events stay where they are stored before they are deleted; 0 for not known, or for ever.
	Retainer interface{ Retention() time.Duration }
	// Passer tells how many events before its first one a run that starts anew passes over.
	Passer interface{ PassedOver() int64 }
	// Troubled says, for people, what keeps a partition or sink from its work; empty for nothing.
	Troubled interface{ Trouble() string }
)

// Decoder turns the events of a chunk into rows. One goroutine at a time.
type Decoder interface {
	// Decode appends a row to b for each event that can be decoded, with Index set, and a reject for
	// each other. b is empty and has the source's schema; hidden columns are left alone, and event
	// times are the engine's to find.
	Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject
}

// Readier is a decoder that needs more than the bytes of a chunk.
type Readier interface {
	// Ready gets what decoding c needs from outside, and waits for it until ctx is done. Called before Decode.
	Ready(ctx context.Context, c *Chunk) error
}

// Source is where rows come in.
type Source struct {
	Name   string
	Schema row.Schema // hidden fields meta.partition and meta.offset are filled by the engine
	// EventTime gives each row's event time, of kind timestamp; Arrival takes the clock as the row is
	// read. With neither, rows have no event time, and Margin and the rest mean nothing.
	EventTime *expr.Program
	Arrival   bool
	// Carried: events bring the watermark that stood before them where they were written, and the decoder gives event times, if there are any. Then
	// EventTime, Arrival, Margin, Ahead, Idle and Advance mean nothing: each partition says itself how far it is, and whether it is asleep (docs/spread.md, "Watermarks").
	Carried bool
	// Share: its partitions are a share of what there is. Without any it does not hold the watermark.
	Share  bool
	Margin time.Duration
	// Ahead: rows further than this ahead of the clock are rejects; 0 for none.
	Ahead time.Duration
	// Idle: after so long without events an unbounded partition leaves the least.
	Idle time.Duration
	// Advance lets the watermark go on at the pace of the clock while all partitions are idle
	// (`silence: advance`); else it stands still.
	Advance    bool
	Partitions []Partition
	NewDecoder func() Decoder
	// Find looks for further partitions while the run goes on and hands them over, until ctx is done;
	// nil for a source whose partitions are fixed. A partition that was found is read from its Start.
	Find func(ctx context.Context, found func(Partition)) error
	// Bounded says that every partition ends by itself.
	Bounded bool
	// Skip names events, by partition and number, that are not decoded: they become rejects.
	Skip map[string][]int64
}

// Encoder writes rows in a sink's format. One goroutine at a time.
type Encoder interface {
	// Append adds the selected rows of v to dst.
	Append(dst []byte, v step.View) []byte
}

// Sink takes rows out: it makes shipments of them, one an epoch, and delivers those. Its methods are called by one goroutine
// at a time, but for Deliver, which runs beside Write and Prepare of later epochs.
type Sink interface {
	// NewEncoder makes an encoder; each producer has its own.
	NewEncoder(s row.Schema) Encoder
	// Delivered gives the epoch that was delivered last, as the place itself says; 0 for none, or where it does not say.
	// Called before Open, by a run that is about to start. Epochs of a run that starts anew are greater. Where the place can
	// tell runs apart, whoever wrote to it before can do so no more: what Delivered gives stays true until this run delivers.
	Delivered(ctx context.Context) (epoch int64, err error)
	// Open makes the sink ready. waiting are the shipments of the checkpoint that the run starts from, in the order of
	// their epochs: the last is of its own epoch, and all that may not be delivered yet stand before it. They are given to
	// Deliver next. None for a run that starts anew; epoch is the one that begins.
	Open(waiting []Shipment, epoch int64) error
	// Write takes encoded rows of the current epoch. data is not kept.
	Write(data []byte, rows int) error
	// Prepare makes everything written so far durable, at the mark that ends epoch, and gives the shipment: what a later
	// Open or Deliver needs, and how many bytes wait. The engine fills in the epoch, its place, and the rows.
	Prepare(epoch int64) (Shipment, error)
	// Deliver makes a shipment visible to readers, whose checkpoint is complete; in the order of epochs, one at a time.
	// Delivering again what was delivered changes nothing. It returns soon once ctx is done.
	Deliver(ctx context.Context, s Shipment) error
	// Finish ends the sink after its last Deliver: what was one unfinished file appears whole.
	Finish() error
	// Abort ends it where the run failed or was stopped; unfinished output stays recognisable.
	Abort() error
}

// Sinks may also have the methods of the following interfaces. Whatever wraps a sink hands them on; a test lists which
// sink has which (connect/all).
type (
	// Flusher lets readers see what was written; called between writes, when nothing more waits.
	Flusher interface{ Flush() error }
	// Prober says before Open, and before a run says that it runs, what would keep the sink from its work.
	Prober interface{ Probe() error }
	// Knower gives what Delivered would, and takes nothing over: a run that may not go on fences nobody.
	Knower interface {
		Known(ctx context.Context) (epoch int64, err error)
	}
	// Recoverer finishes what a run that came to its end may have left undelivered: the shipments of its last checkpoint.
	// Called in place of Open.
	Recoverer interface {
		Recover(ctx context.Context, waiting []Shipment) error
	}
	// Interrupter frees a method that waits for something outside; called when the run has failed, from any goroutine.
	Interrupter interface{ Interrupt() }
	// Retrier counts what had to be tried again; called at any time, from any goroutine.
	Retrier interface{ Retries() int64 }
	// Refuser counts the rows that the place did not take for their values, of all runs, and says why the newest of them.
	// They are kept there, with the reason, and count as delivered; called at any time, from any goroutine.
	Refuser interface {
		Refused() (rows int64, why string)
	}
)

// Tap looks at rows as they pass: it takes part in no checkpoint and holds nobody up. Its methods are
// safe for concurrent use.
type Tap interface {
	NewEncoder(s row.Schema) Encoder
	// Room is how many of so many rows it would take just now; they are then given to Take.
	Room(rows int) int
	// Take is given encoded rows, in their order for one key. rows counts also those that there was no
	// room for. data is not kept.
	Take(data []byte, rows int)
}

// Timed says whether rows of the source have event times.
func (s *Source) Timed() bool { return s.EventTime != nil || s.Arrival || s.Carried }
