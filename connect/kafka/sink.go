package kafka

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// SinkConfig says what is written.
type SinkConfig struct {
	Connection Connection
	Topic      string
	// Key are the fields of the message key: one gives its text, several a JSON object of them; none
	// no key. A row whose one key field is null has no key.
	Key []string
	// Create makes the topic where the broker lacks it, with so many Partitions; 0: as many as the broker
	// holds right.
	Create     bool
	Partitions int32
}

// Sink writes rows to a topic, at least once: a mark waits until the broker has acknowledged
// everything before it, and rows after the newest checkpoint may come again after a restart.
type Sink struct {
	c      SinkConfig
	health *health
	client *kgo.Client
	ctx    context.Context // ends with the sink or when it is interrupted
	cancel context.CancelFunc

	mu  sync.Mutex // guards err
	err error      // the first refusal
}

// NewSink makes a sink; the broker is reached by Open.
func NewSink(c SinkConfig) *Sink {
	s := &Sink{c: c, health: &health{what: c.Connection.String()}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *Sink) NewEncoder(sc row.Schema) engine.Encoder {
	e := &encoder{values: ndjson.NewEncoder(sc)}
	var fields row.Schema
	for _, name := range s.c.Key {
		i := sc.Index(name)
		e.key = append(e.key, i)
		fields = append(fields, sc[i])
	}
	if len(e.key) > 1 {
		e.keys = ndjson.NewEncoder(fields)
	}
	return e
}

// Delivered: a topic does not say of which epoch its rows are.
func (s *Sink) Delivered(context.Context) (int64, error) { return 0, nil }

func (s *Sink) Open([]engine.Shipment, int64) error {
	client, err := kgo.NewClient(append(s.c.Connection.options(), kgo.WithHooks(s.health), kgo.DefaultProduceTopic(s.c.Topic), kgo.ProducerLinger(5*time.Millisecond),
		kgo.MaxBufferedRecords(50_000), kgo.UnknownTopicRetries(-1))...)
	if err != nil {
		return fmt.Errorf("connect to %s: %w", s.c.Connection, err)
	}
	if err := s.find(client); err != nil {
		client.Close()
		return err
	}
	s.client = client
	return nil
}

// Probe makes sure, before a run says that it runs, that the broker is reached and has the topic.
func (s *Sink) Probe() error {
	client, err := kgo.NewClient(s.c.Connection.options()...)
	if err != nil {
		return fmt.Errorf("connect to %s: %w", s.c.Connection, err)
	}
	defer client.Close()
	return s.find(client)
}

// find makes sure that the topic is there.
func (s *Sink) find(client *kgo.Client) error {
	admin := kadm.NewClient(client)
	_, err := s.c.Connection.topic(s.ctx, admin, s.c.Topic)
	if !errors.Is(err, connect.ErrNoStream) {
		return err
	}
	if !s.c.Create {
		return fmt.Errorf("%w; or say create: true beside topic, and the run makes it", err)
	}
	l := &Looker{c: s.c.Connection, client: client, admin: admin}
	if err := l.Make(s.ctx, s.c.Topic, s.c.Partitions); err != nil && !errors.Is(err, connect.ErrStreamExists) {
		return err
	}
	for range 50 { // until all brokers know it
		if _, err = s.c.Connection.topic(s.ctx, admin, s.c.Topic); !errors.Is(err, connect.ErrNoStream) {
			return err
		}
		select {
		case <-s.ctx.Done():
			return s.ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return err
}

func (s *Sink) Write(data []byte, _ int) error {
	if err := s.fault(); err != nil {
		return err
	}
	data = slices.Clone(data) // the library keeps what it sends
	for len(data) > 0 {
		var r kgo.Record
		r.Key, data = frame(data)
		r.Value, data = frame(data)
		s.client.Produce(s.ctx, &r, s.produced)
	}
	return s.ctx.Err()
}

func (s *Sink) produced(_ *kgo.Record, err error) {
	if err == nil {
		return
	}
	switch {
	case errors.Is(err, kerr.MessageTooLarge):
		err = fmt.Errorf("%s refuses a row as too large for topic %s; raise the topic's max.message.bytes, or write fewer fields: %w", s.c.Connection, s.c.Topic, err)
	default:
		err = fmt.Errorf("%s: write to topic %s: %w", s.c.Connection, s.c.Topic, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
}

func (s *Sink) fault() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Prepare waits until the broker has everything: rows wait for nothing.
func (s *Sink) Prepare(int64) (out engine.Shipment, err error) {
	if err := s.client.Flush(s.ctx); err != nil {
		return out, errors.Join(s.fault(), fmt.Errorf("%s: wait for what was written to topic %s: %w", s.c.Connection, s.c.Topic, err))
	}
	out.Data = json.RawMessage("{}")
	return out, s.fault()
}

func (s *Sink) Deliver(context.Context, engine.Shipment) error { return nil }

func (s *Sink) Finish() error { return s.Abort() }

func (s *Sink) Abort() error {
	s.cancel()
	if s.client != nil {
		s.client.Close()
	}
	return nil
}

// Interrupt frees whoever waits for the broker.
func (s *Sink) Interrupt() { s.cancel() }

func (s *Sink) Trouble() string { return s.health.trouble() }
func (s *Sink) Retries() int64  { return s.health.retried() }

// encoder writes a key and a value for each row, each with its length before it: 0 for null, else
// the length and one.
type encoder struct {
	key     []int
	keys    engine.Encoder
	values  engine.Encoder
	cols    []*row.Column
	scratch []byte
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
	one := v
	for i := range v.Sel {
		one.Sel = v.Sel[i : i+1]
		r := int(v.Sel[i])
		switch {
		case len(e.key) == 0 || len(e.key) == 1 && v.Cols[e.key[0]].IsNull(r):
			dst = append(dst, 0)
		case len(e.key) == 1:
			e.scratch = codec.AppendText(e.scratch[:0], v.Cols[e.key[0]], r)
			dst = appendFrame(dst, e.scratch)
		default:
			e.cols = e.cols[:0]
			for _, c := range e.key {
				e.cols = append(e.cols, v.Cols[c])
			}
			key := one
			key.Cols = e.cols
			e.scratch = e.keys.Append(e.scratch[:0], key)
			dst = appendFrame(dst, e.scratch[:len(e.scratch)-1])
		}
		e.scratch = e.values.Append(e.scratch[:0], one)
		dst = appendFrame(dst, e.scratch[:len(e.scratch)-1]) // without the newline
	}
	return dst
}

func appendFrame(dst, text []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(text))+1), text...)
}

func frame(data []byte) (text, rest []byte) {
	n, w := binary.Uvarint(data)
	data = data[w:]
	if n == 0 {
		return nil, data
	}
	return data[: n-1 : n-1], data[n-1:]
}
