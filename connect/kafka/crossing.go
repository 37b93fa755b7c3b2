package kafka

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
	"undertide/connect/staging"
	"undertide/core/crossing"
	"undertide/core/engine"
	"undertide/core/row"
)

// Rows of a spread job cross by a topic of the job's own, with a partition for each pair of a writer and a reader: that of writer w for reader r has number
// w x readers + r. So a partition is one writer's log, and a reader has one of each writer (docs/spread.md).

// cross gives both ends of a crossing.
func cross(c *connect.Connection, x connect.Crossing) (connect.Sink, connect.Source) {
	of := crossingTopic{Connection: c, x: x}
	return &crossingSink{of}, &crossingSource{of}
}

// crossingTopic is a topic by which rows cross.
type crossingTopic struct {
	Connection *connect.Connection
	x          connect.Crossing
}

func (t *crossingTopic) Check(*connect.Checker)                {}
func (t *crossingTopic) Stream() (*connect.Connection, string) { return t.Connection, t.x.Stream }

// largestBlock is the largest message of such a topic, in bytes: a block has few rows where they are large, but one at least.
const largestBlock = 64 << 20

// config gives what makes and writes the topic. Time deletes nothing of it: readers do, with their checkpoints.
func (t *crossingTopic) config(o connect.Opening) (SinkConfig, error) {
	conn, err := reach(t.Connection)
	return SinkConfig{Connection: conn, Topic: t.x.Stream, Job: o.Job, Sink: o.Name, Create: true, Partitions: int32(t.x.Writers * t.x.Readers),
		settings: map[string]string{"retention.ms": "-1", "max.message.bytes": strconv.Itoa(largestBlock)}, blocks: t.x.Self * t.x.Readers}, err
}

// crossingSink is the end that writes.
type crossingSink struct{ crossingTopic }

func (s *crossingSink) Words(_ *connect.Format, _ row.Schema, d connect.Delivering) connect.SinkWords {
	return connect.SinkWords{Writes: fmt.Sprintf("%s, for the %d portions of the part behind", connect.StreamText(s), s.x.Readers), Makes: "topic " + s.x.Stream, Delivery: d.WithCheckpoints()}
}
func (s *crossingSink) Atomic() bool              { return true }
func (s *crossingSink) Place(string, bool) string { return connect.StreamText(s) }

func (s *crossingSink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	c, err := s.config(o)
	if err != nil {
		return nil, err
	}
	if o.Aside == "" {
		return nil, fmt.Errorf("%w: rows of a spread job cross with checkpoints, and none are kept", connect.ErrUsage)
	}
	c.Encode = func(row.Schema) engine.Encoder { return crossing.NewEncoder(s.x.Readers, s.x.Timed) }
	return &crossingWriter{Once: NewOnce(c, staging.New(o.Aside, o.Name, connect.StreamText(s))), x: s.x}, nil
}

// crossingWriter writes blocks, and with each epoch how far the writer is.
type crossingWriter struct {
	*Once
	x    connect.Crossing
	told *crossing.Mark // what every reader knows; nil for nothing in this run
}

func (w *crossingWriter) NewEncoder(sc row.Schema) engine.Encoder { return w.c.Encode(sc) }

// Prepare implements [engine.Sink]: the epoch ends with a mark for each reader, unless nothing has changed since the last.
func (w *crossingWriter) Prepare(epoch int64) (engine.Shipment, error) {
	if now := w.x.Reached.Get(); w.told == nil || *w.told != now {
		var frames []byte
		for r := range w.x.Readers {
			frames = crossing.AppendMark(frames, r, now)
		}
		if err := w.Area.Write(frames, 0); err != nil {
			return engine.Shipment{}, err
		}
		w.told = &now
	}
	return w.Area.Prepare(epoch)
}

// blocks gives the records of a shipment of blocks, as frames does: the first reader's partition is first.
func blocks(first int) func(rows io.Reader, take func(*kgo.Record) error) error {
	return func(rows io.Reader, take func(*kgo.Record) error) error {
		return eachRecord(rows, func(data []byte) (rest []byte, whole bool, err error) {
			reader, block, rest, whole := crossing.Next(data)
			if !whole {
				return data, false, nil
			}
			return rest, true, take(&kgo.Record{Partition: int32(first + reader), Value: block})
		})
	}
}

// crossingSource is the end that reads.
type crossingSource struct{ crossingTopic }

func (s *crossingSource) Reads(*connect.Format) string {
	return fmt.Sprintf("%s, of the %d portions of the part before", connect.StreamText(s), s.x.Writers)
}
func (s *crossingSource) Unbounded() bool { return s.x.Unbounded }

func (s *crossingSource) Sample(context.Context, connect.Opening, connect.Sampling) (connect.Sample, error) {
	return connect.Sample{}, fmt.Errorf("%w: what crosses between the portions of a job is no stream of events; look at the rows of the part before", connect.ErrCannot)
}

func (s *crossingSource) Open(ctx context.Context, o connect.Opening) (connect.Opened, error) {
	c, err := s.config(o)
	if err != nil {
		return connect.Opened{}, err
	}
	client, err := kgo.NewClient(c.Connection.options()...)
	if err != nil {
		return connect.Opened{}, fmt.Errorf("connect to %s: %w", c.Connection, err)
	}
	_, err = c.find(ctx, client) // whoever comes first makes it
	client.Close()
	if err != nil {
		return connect.Opened{}, err
	}
	only := make([]int32, s.x.Writers)
	for w := range only {
		only[w] = int32(w*s.x.Readers + s.x.Self)
	}
	src, err := Open(ctx, SourceConfig{Connection: c.Connection, Topic: c.Topic, Fresh: len(o.Known) == 0, Buffer: o.Buffer, Only: only, Discard: o.Kept})
	if err != nil {
		return connect.Opened{}, err
	}
	out := connect.Opened{Close: src.Close}
	for _, p := range src.Partitions() {
		base := p.(*Partition)
		out.Partitions = append(out.Partitions, &crossed{Partition: base, writer: int(base.number) / s.x.Readers})
	}
	return out, nil
}

// Forget removes the topic, with the job.
func (s *crossingSource) Forget(ctx context.Context) error {
	conn, err := reach(s.Connection)
	if err != nil {
		return err
	}
	client, err := kgo.NewClient(conn.options()...)
	if err != nil {
		return fmt.Errorf("connect to %s: %w", conn, err)
	}
	defer client.Close()
	_, err = kadm.NewClient(client).DeleteTopic(ctx, s.x.Stream)
	if errors.Is(err, kerr.UnknownTopicOrPartition) { // another reader has
		return nil
	}
	if err != nil {
		return conn.unreachable(err)
	}
	return nil
}

// crossed is the log of one writer. It ends where the writer has.
type crossed struct {
	*Partition
	writer int
	begun  bool
	asleep bool // the writer, as far as was read
}

// crossedAt is a position of it.
type crossedAt struct {
	Offset int64 `json:"offset"`
	Asleep bool  `json:"asleep,omitempty"`
}

// Name is the number of the writer's portion, from 1.
func (p *crossed) Name() string { return strconv.Itoa(p.writer + 1) }

func (p *crossed) Start() json.RawMessage { return p.at(p.begin) }

func (p *crossed) at(offset int64) json.RawMessage {
	out, err := json.Marshal(crossedAt{offset, p.asleep})
	if err != nil {
		panic(err) // numbers can be written
	}
	return out
}

func (p *crossed) Open(ctx context.Context, at json.RawMessage) error {
	if at != nil {
		var pos crossedAt
		if err := json.Unmarshal(at, &pos); err != nil {
			return fmt.Errorf("read the position of portion %s: %w", p.Name(), err)
		}
		p.asleep = pos.Asleep
	}
	return p.Partition.Open(ctx, at)
}

// Read takes the blocks that have come. First it says how the writer was where the reading goes on.
func (p *crossed) Read(ctx context.Context, c *engine.Chunk) error {
	c.Asleep = p.asleep
	if !p.begun {
		p.begun = true
		c.Position = p.at(p.taken)
		return nil
	}
	if err := p.await(ctx); err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	n, size := 0, 0
	for ; n < len(p.queue) && size < chunkBytes && !c.Last; n++ {
		r := p.queue[n]
		if !r.Attrs.IsControl() {
			took, err := crossing.Fill(c, r.Value)
			if err != nil {
				return fmt.Errorf("topic %s of %s, partition %d, offset %d: %w; nobody else may write there", p.s.c.Topic, p.s.c.Connection.Name, p.number, r.Offset, err)
			}
			if !took {
				break
			}
			c.Last = c.After == row.MaxTime
		}
		size += len(r.Value)
	}
	p.asleep = c.Asleep
	p.took(c, n, size)
	c.CaughtUp = c.CaughtUp || c.Last
	c.Position = p.at(p.taken)
	return nil
}
