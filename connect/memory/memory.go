// Package memory is partitions and sinks in memory, for those who run a document on events at hand. It is not a kind that
// documents name.
package memory

import (
	"context"
	"encoding/json"
	"sync"

	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
)

// Partition is a partition of events that are there already, up to so many a turn.
type Partition struct {
	Called string
	Events []string
	Turn   int
	// Ends says with the last event that it is the last, as bounded input does; else an empty chunk
	// follows that says so.
	Ends bool
	// Begins says at the start where reading begins, as topics do.
	Begins bool
	// Next is the number of the next event.
	Next int
}

// Start implements [engine.Starter].
func (m *Partition) Start() json.RawMessage {
	if !m.Begins {
		return nil
	}
	return json.RawMessage("0")
}

func (m *Partition) Name() string                        { return m.Called }
func (m *Partition) Size() int64                         { return 0 }
func (m *Partition) Close() error                        { return nil }
func (m *Partition) Empty(context.Context) (bool, error) { return len(m.Events) == 0, nil }

func (m *Partition) Open(_ context.Context, position json.RawMessage) error {
	m.Next = 0
	if position == nil {
		return nil
	}
	return json.Unmarshal(position, &m.Next)
}

func (m *Partition) Read(_ context.Context, c *engine.Chunk) error {
	for ; m.Next < len(m.Events) && len(c.Starts) < m.Turn; m.Next++ {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, m.Events[m.Next]...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	c.Last = m.Next == len(m.Events) && (m.Ends || len(c.Starts) == 0)
	c.CaughtUp = true
	var err error
	c.Position, err = json.Marshal(m.Next)
	return err
}

// Sink is a sink that keeps what is delivered to it, as JSON lines.
type Sink struct {
	current []byte

	mu    sync.Mutex // guards what was delivered
	epoch int64
	rows  []byte
}

func (k *Sink) NewEncoder(s row.Schema) engine.Encoder { return ndjson.NewEncoder(s) }
func (k *Sink) Finish() error                          { return nil }
func (k *Sink) Abort() error                           { return nil }

func (k *Sink) Delivered(context.Context) (int64, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.epoch, nil
}

func (k *Sink) Open([]engine.Shipment, int64) error {
	k.current = nil
	return nil
}

func (k *Sink) Write(data []byte, _ int) error {
	k.current = append(k.current, data...)
	return nil
}

func (k *Sink) Prepare(int64) (out engine.Shipment, err error) {
	out.Bytes = int64(len(k.current))
	out.Data, err = json.Marshal(k.current)
	k.current = nil
	return out, err
}

func (k *Sink) Deliver(_ context.Context, s engine.Shipment) error {
	var rows []byte
	if err := json.Unmarshal(s.Data, &rows); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if s.Epoch > k.epoch {
		k.rows, k.epoch = append(k.rows, rows...), s.Epoch
	}
	return nil
}

// Rows gives what was delivered.
func (k *Sink) Rows() []byte {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.rows
}
