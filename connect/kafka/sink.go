package kafka

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// SinkConfig says what is written.
type SinkConfig struct {
	Connection Connection
	Topic      string
	// Job and Sink name who writes, for transactions.
	Job, Sink string
	// Key are the fields of the message key: one gives its text, several a JSON object of them; none
	// no key. A row whose one key field is null has no key.
	Key []string
	// Replace makes the newest row of a key the one that counts: the key is always a JSON object, and a row that is withdrawn
	// is a message without a value.
	Replace bool
	// Create makes the topic where the broker lacks it, with so many Partitions; 0: as many as the broker
	// holds right. One whose rows are replaced is compacted.
	Create     bool
	Partitions int32
	// Encode makes what writes the values of messages; nil: JSON.
	Encode func(row.Schema) engine.Encoder
	// Schema is what messages name in the connection's registry: it is registered as the topic's newest, before rows go. Empty for
	// none. registered is its number.
	Schema     string
	registered *atomic.Int64
	// settings are those of the topic, where it is made; nil for the broker's own.
	settings map[string]string
	// blocks: a message is a block of a spread job, and says itself which partition it is for.
	blocks bool
}

// register makes the schema the newest of the topic's values, unless it is.
func (c *SinkConfig) register(ctx context.Context) error {
	if c.Schema == "" {
		return nil
	}
	s, err := (&Looker{c: c.Connection}).Register(ctx, c.Topic+"-value", c.Schema)
	if err == nil {
		c.registered.Store(int64(s.ID))
	}
	return err
}

// find makes sure that the topic is there.
func (c *SinkConfig) find(ctx context.Context, client *kgo.Client) (kadm.TopicDetail, error) {
	if err := c.register(ctx); err != nil {
		return kadm.TopicDetail{}, err
	}
	admin := kadm.NewClient(client)
	detail, err := c.Connection.topic(ctx, admin, c.Topic)
	if !errors.Is(err, connect.ErrNoStream) {
		return detail, err
	}
	if !c.Create {
		return detail, fmt.Errorf("%w; or say create: true beside topic, and the run makes it", err)
	}
	l := &Looker{c: c.Connection, client: client, admin: admin}
	if err := l.make(ctx, c.Topic, c.Partitions, c.topicSettings()); err != nil && !errors.Is(err, connect.ErrStreamExists) {
		return detail, err
	}
	for range 50 { // until all brokers know it
		if detail, err = c.Connection.topic(ctx, admin, c.Topic); !errors.Is(err, connect.ErrNoStream) {
			return detail, err
		}
		select {
		case <-ctx.Done():
			return detail, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return detail, err
}

// topicSettings are those that the topic is made with.
func (c *SinkConfig) topicSettings() map[string]string {
	if c.Replace {
		return map[string]string{"cleanup.policy": "compact"}
	}
	return c.settings
}

// producing are the options of clients that write.
func (c *SinkConfig) producing(h *health) []kgo.Opt {
	if c.blocks { // a record is many rows
		return append(c.Connection.options(), kgo.WithHooks(h), kgo.DefaultProduceTopic(c.Topic), kgo.ProducerLinger(0), kgo.RecordPartitioner(kgo.ManualPartitioner()),
			kgo.MaxBufferedBytes(32<<20), kgo.ProducerBatchMaxBytes(largestBlock), kgo.ProducerBatchCompression(kgo.NoCompression()), kgo.UnknownTopicRetries(-1))
	}
	return append(c.Connection.options(), kgo.WithHooks(h), kgo.DefaultProduceTopic(c.Topic), kgo.ProducerLinger(5*time.Millisecond),
		kgo.MaxBufferedRecords(50_000), kgo.UnknownTopicRetries(-1))
}

// explain words why a row could not be written.
func (c *SinkConfig) explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, kerr.MessageTooLarge):
		return fmt.Errorf("%w as too large for topic %s of %s; raise the topic's max.message.bytes, or write fewer fields: %w", errRefused, c.Topic, c.Connection, err)
	case errors.Is(err, staging.ErrMissing):
		return err
	}
	return fmt.Errorf("%s: write to topic %s: %w", c.Connection, c.Topic, err)
}

// Sink writes rows to a topic as they are made, at least once: a mark waits until the broker has acknowledged
// everything before it, and rows after the newest checkpoint come again after a restart.
type Sink struct {
	c      SinkConfig
	health *health
	client *kgo.Client
	sent   sending
	ctx    context.Context // ends with the sink or when it is interrupted
	cancel context.CancelFunc
}

// NewSink makes a sink; the broker is reached by Open.
func NewSink(c SinkConfig) *Sink {
	s := &Sink{c: c, health: &health{what: c.Connection.String()}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *Sink) NewEncoder(sc row.Schema) engine.Encoder { return newEncoder(&s.c, sc) }

// Delivered: a topic does not say of which epoch its rows are.
func (s *Sink) Delivered(context.Context) (int64, error) { return 0, nil }

func (s *Sink) Open([]engine.Shipment, int64) error {
	client, err := kgo.NewClient(s.c.producing(s.health)...)
	if err != nil {
		return fmt.Errorf("connect to %s: %w", s.c.Connection, err)
	}
	if _, err := s.c.find(s.ctx, client); err != nil {
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
	_, err = s.c.find(s.ctx, client)
	return err
}

func (s *Sink) Write(data []byte, _ int) error {
	if err := s.fault(); err != nil {
		return err
	}
	data = slices.Clone(data) // the library keeps what it sends
	for len(data) > 0 {
		var r kgo.Record
		r.Key, data, _ = cut(data)
		r.Value, data, _ = cut(data)
		s.client.Produce(s.ctx, &r, s.sent.done)
	}
	return s.ctx.Err()
}

func (s *Sink) fault() error { return s.c.explain(s.sent.fault()) }

// Prepare waits until the broker has everything: rows wait for nothing.
func (s *Sink) Prepare(int64) (out engine.Shipment, err error) {
	// With nothing to wait for, Flush may not see that the sink was interrupted.
	if err := cmp.Or(s.ctx.Err(), s.client.Flush(s.ctx)); err != nil {
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
func (s *Sink) Retries() int64  { return s.health.Retries() }

// encoder writes a key and a value for each row, each with its length before it: 0 for null, else
// the length and one.
type encoder struct {
	key       []int // columns of the key
	keys      engine.Encoder
	values    engine.Encoder
	withdrawn int // the column that says so; -1 where rows are not replaced
	columns   []*row.Column
	scratch   []byte
	id        *atomic.Int64 // of the schema that values name; nil where they name none
}

func newEncoder(c *SinkConfig, sc row.Schema) *encoder {
	e := &encoder{withdrawn: -1}
	for _, name := range c.Key {
		e.key = append(e.key, sc.Index(name))
	}
	if len(e.key) > 1 || c.Replace {
		e.keys = ndjson.NewEncoder(sc.Only(e.key))
	}
	if c.Replace {
		e.withdrawn = sc.Index("withdrawn")
	}
	e.values = ndjson.NewEncoder(sc)
	if c.Encode != nil {
		e.values = c.Encode(sc)
	}
	if c.Schema != "" {
		e.id = c.registered
	}
	return e
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
	one := v
	for i := range v.Sel {
		one.Sel = v.Sel[i : i+1]
		r := int(v.Sel[i])
		switch {
		case len(e.key) == 0 || e.keys == nil && v.Cols[e.key[0]].IsNull(r):
			dst = append(dst, 0)
		case e.keys == nil:
			e.scratch = codec.AppendText(e.scratch[:0], v.Cols[e.key[0]], r)
			dst = appendFrame(dst, e.scratch)
		default:
			dst = e.object(dst, e.keys, one, e.key)
		}
		if w := e.withdrawn; w >= 0 && !v.Cols[w].IsNull(r) && v.Cols[w].I[r] != 0 {
			dst = append(dst, 0)
			continue
		}
		if e.id != nil {
			dst = e.record(dst, one)
			continue
		}
		dst = e.object(dst, e.values, one, nil)
	}
	return dst
}

// record writes a row by a schema of the registry: a zero byte, its number in four bytes, the row (docs/connectors.md, "Avro").
func (e *encoder) record(dst []byte, one step.View) []byte {
	e.scratch = binary.BigEndian.AppendUint32(append(e.scratch[:0], 0), uint32(e.id.Load()))
	e.scratch = e.values.Append(e.scratch, one)
	return appendFrame(dst, e.scratch)
}

// object writes a row's columns as a JSON object: those that are named, or all.
func (e *encoder) object(dst []byte, as engine.Encoder, one step.View, columns []int) []byte {
	if columns != nil {
		e.columns = e.columns[:0]
		for _, c := range columns {
			e.columns = append(e.columns, one.Cols[c])
		}
		one.Cols = e.columns
	}
	e.scratch = as.Append(e.scratch[:0], one)
	return appendFrame(dst, e.scratch[:len(e.scratch)-1]) // without the newline
}

func appendFrame(dst, text []byte) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(text))+1), text...)
}
