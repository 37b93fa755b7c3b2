package run

import (
	"context"
	"encoding/json"
	"sync"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// memory is a partition of events that are there already, up to so many a turn.
type memory struct {
	name   string
	events []string
	turn   int
	// ends says with the last event that it is the last, as bounded input does; else an empty chunk
	// follows that says so.
	ends bool
	next int
}

func (m *memory) Name() string                        { return m.name }
func (m *memory) Size() int64                         { return 0 }
func (m *memory) Close() error                        { return nil }
func (m *memory) Empty(context.Context) (bool, error) { return len(m.events) == 0, nil }

func (m *memory) Open(_ context.Context, position json.RawMessage) error {
	m.next = 0
	if position == nil {
		return nil
	}
	return json.Unmarshal(position, &m.next)
}

func (m *memory) Read(_ context.Context, c *engine.Chunk) error {
	for ; m.next < len(m.events) && len(c.Starts) < m.turn; m.next++ {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, m.events[m.next]...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	c.Last = m.next == len(m.events) && (m.ends || len(c.Starts) == 0)
	c.CaughtUp = true
	var err error
	c.Position, err = json.Marshal(m.next)
	return err
}

// keeper is a sink that keeps what is delivered to it, as JSON lines.
type keeper struct {
	mu       sync.Mutex
	epoch    int64
	rows     []byte
	current  []byte
	prepared map[int64][]byte
}

type keeperShipment struct {
	Epoch int64
	Rows  []byte
}

func (k *keeper) NewEncoder(s row.Schema) engine.Encoder { return codec.NewJSONEncoder(s) }
func (k *keeper) Flush() error                           { return nil }
func (k *keeper) Finish() error                          { return nil }
func (k *keeper) Abort() error                           { return nil }

func (k *keeper) Open(shipment json.RawMessage, _ int64) error {
	k.current, k.prepared = nil, map[int64][]byte{}
	if shipment == nil {
		return nil
	}
	var s keeperShipment
	if err := json.Unmarshal(shipment, &s); err != nil {
		return err
	}
	k.prepared[s.Epoch] = s.Rows
	return k.Commit(s.Epoch)
}

func (k *keeper) Write(data []byte, _ int) error {
	k.current = append(k.current, data...)
	return nil
}

func (k *keeper) Prepare(epoch int64) (json.RawMessage, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.prepared[epoch] = k.current
	out, err := json.Marshal(keeperShipment{epoch, k.current})
	k.current = nil
	return out, err
}

func (k *keeper) Commit(epoch int64) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if epoch > k.epoch {
		k.rows, k.epoch = append(k.rows, k.prepared[epoch]...), epoch
	}
	return nil
}

// memorySource is a document's source over partitions in memory, without `ahead`.
func memorySource(s *job.Source, parts []engine.Partition, bounded bool) engine.Source {
	return engine.Source{Name: s.Name, Schema: s.Schema, EventTime: s.EventTime, Arrival: s.Arrival, Margin: s.Margin, Idle: s.Idle, Advance: s.Advance,
		Bounded: bounded, Partitions: parts, NewDecoder: func() engine.Decoder { return decoderOf(s) }}
}

// steps are a document's steps as the engine takes them.
func steps(j *job.Job) (out []engine.Step) {
	for i := range j.Steps {
		s := &j.Steps[i]
		out = append(out, engine.Step{Name: s.Name, From: s.From, Input: s.Input, Stateless: s.Stateless, Split: s.Split, Expand: s.Expand, Keyed: s.Keyed})
	}
	return out
}

// eitherDecoder takes events that are written by the names of the fields, and raw ones, which begin with
// a zero byte.
type eitherDecoder struct {
	fields, raw engine.Decoder
	one         engine.Chunk
	batch       *row.Batch
}

func (d *eitherDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		event, dec := c.Event(i), d.fields
		if len(event) > 0 && event[0] == 0 {
			event, dec = event[1:], d.raw
		}
		d.one.Reset()
		d.one.Raw, d.one.Starts, d.one.Ends, d.one.Header = append(d.one.Raw, event...), []uint32{0}, []uint32{uint32(len(event))}, c.Header
		if d.batch == nil {
			d.batch = row.NewBatch(b.Schema)
		}
		d.batch.Reset()
		before := len(rejects)
		rejects = dec.Decode(&d.one, d.batch, rejects)
		for r := range rejects[before:] {
			rejects[before+r].Index = uint16(i)
		}
		if d.batch.N == 0 {
			continue
		}
		for n, f := range b.Schema {
			if !f.Hidden {
				b.Cols[n].AppendFrom(d.batch.Cols[n], 0)
			}
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}
