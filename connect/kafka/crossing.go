package kafka

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
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

// largestBlock bounds a message of such a topic, and what is sent together, in bytes: a block has few rows where they are large, but one at least. Readers fetch more at once.
const largestBlock = 4 << 20

// config gives what makes and writes the topic. Time deletes nothing of it: readers do, with their checkpoints.
func (t *crossingTopic) config(o connect.Opening) (SinkConfig, error) {
	conn, err := reach(t.Connection)
	return SinkConfig{Connection: conn, Topic: t.x.Stream, Job: o.Job, Sink: o.Name, Create: true, Partitions: int32(t.x.Writers * t.x.Readers),
		settings: map[string]string{"retention.ms": "-1", "max.message.bytes": strconv.Itoa(largestBlock)}, blocks: true}, err
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

// crossingWriter writes blocks, and with each epoch how far the writer is. The blocks for each reader are numbered, from 0 on, by their messages' keys, so that a reader finds out
// where a broker has lost some, or has some twice.
type crossingWriter struct {
	*Once
	x    connect.Crossing
	told *crossing.Mark // what every reader knows; nil for nothing in this run
	// next is, by reader, the number of the next block, and from what it was as the epoch began.
	next, from []int64
}

// numbered is what a checkpoint holds beside what staging has: by reader, the number of the epoch's first block, and of the first behind it.
type numbered struct {
	From []int64 `json:"from"`
	Next []int64 `json:"next"`
}

// Crossed implements [connect.Crossed]: blocks, by reader.
func (s *crossingSink) Crossed(shipment json.RawMessage) ([]int64, error) {
	n, err := numbersOf(shipment, s.x.Readers)
	return n.Next, err
}

// Open goes on with the numbers of the newest shipment.
func (w *crossingWriter) Open(waiting []engine.Shipment, epoch int64) error {
	w.next = make([]int64, w.x.Readers)
	if len(waiting) > 0 {
		n, err := numbersOf(waiting[len(waiting)-1].Data, w.x.Readers)
		if err != nil {
			return err
		}
		w.next = n.Next
	}
	w.from = slices.Clone(w.next)
	return w.Area.Open(waiting, epoch)
}

// numbersOf reads what a checkpoint holds of a shipment.
func numbersOf(shipment json.RawMessage, readers int) (n numbered, err error) {
	if err = json.Unmarshal(shipment, &n); err == nil && (len(n.From) != readers || len(n.Next) != readers) {
		err = fmt.Errorf("it is of %d readers, and there are %d", len(n.Next), readers)
	}
	if err != nil {
		return n, fmt.Errorf("read what the checkpoint says of the blocks that cross: %w", err)
	}
	return n, nil
}

// Write implements [engine.Sink]: data are whole frames.
func (w *crossingWriter) Write(data []byte, rows int) error {
	for rest := data; len(rest) > 0; {
		reader, _, after, whole := crossing.Next(rest)
		if !whole || reader >= len(w.next) {
			return errors.New("rows that cross are no blocks; this is a bug of Under Tide")
		}
		w.next[reader]++
		rest = after
	}
	return w.Area.Write(data, rows)
}

// Deliver implements [engine.Sink]: the blocks of a shipment bear their numbers.
func (w *crossingWriter) Deliver(ctx context.Context, sh engine.Shipment) error {
	n, err := numbersOf(sh.Data, w.x.Readers)
	if err != nil {
		return err
	}
	return w.deliver(ctx, sh, blocks(w.x.Self*w.x.Readers, n.From))
}

// Recover implements [engine.Recoverer].
func (w *crossingWriter) Recover(ctx context.Context, waiting []engine.Shipment) (err error) {
	defer func() { err = errors.Join(err, w.Abort()) }()
	return w.Area.Recover(ctx, waiting, w)
}

func (w *crossingWriter) NewEncoder(sc row.Schema) engine.Encoder { return w.c.Encode(sc) }

// Prepare implements [engine.Sink]: the epoch ends with a mark for each reader, unless nothing has changed since the last.
func (w *crossingWriter) Prepare(epoch int64) (engine.Shipment, error) {
	if now := w.x.Reached.Get(); w.told == nil || *w.told != now {
		var frames []byte
		for r := range w.x.Readers {
			frames = crossing.AppendMark(frames, r, now)
		}
		if err := w.Write(frames, 0); err != nil {
			return engine.Shipment{}, err
		}
		w.told = &now
	}
	out, err := w.Area.Prepare(epoch)
	if err != nil {
		return out, err
	}
	// The numbers stand beside what the area reads again.
	var all map[string]any
	if err := json.Unmarshal(out.Data, &all); err != nil {
		return out, err
	}
	all["from"], all["next"] = w.from, w.next
	out.Data, err = json.Marshal(all)
	w.from = slices.Clone(w.next)
	return out, err
}

// records gives those of a shipment.
type records func(rows io.Reader, take func(*kgo.Record) error) error

// blocks gives the records of a shipment of blocks: the first reader's partition is first, and the first number of each reader is from.
func blocks(first int, from []int64) records {
	return func(rows io.Reader, take func(*kgo.Record) error) error {
		next := slices.Clone(from) // a shipment is sent again where that failed
		return eachRecord(rows, func(data []byte) (rest []byte, whole bool, err error) {
			reader, block, rest, whole := crossing.Next(data)
			if !whole {
				return data, false, nil
			}
			key := binary.BigEndian.AppendUint64(nil, uint64(next[reader]))
			next[reader]++
			return rest, true, take(&kgo.Record{Partition: int32(first + reader), Key: key, Value: block})
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
		one := &crossed{Partition: base, writer: int(base.number) / s.x.Readers, rest: -1}
		if o.Ends != nil {
			end, known := o.Ends[one.Name()]
			if !known {
				src.Close()
				return connect.Opened{}, fmt.Errorf("it is not known how much portion %s has written; this is a bug of Under Tide", one.Name())
			}
			one.rest = end
		}
		out.Partitions = append(out.Partitions, one)
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
	asleep bool  // the writer, as far as was read
	next   int64 // the number of the next block
	rest   int64 // that of the block behind the last, in a run that is to come to rest; -1 in another
}

// crossedAt is a position of it.
type crossedAt struct {
	Offset int64 `json:"offset"`
	Next   int64 `json:"next"`
	Asleep bool  `json:"asleep,omitempty"`
}

// Name is the number of the writer's portion, from 1.
func (p *crossed) Name() string { return strconv.Itoa(p.writer + 1) }

func (p *crossed) Start() json.RawMessage { return p.at(p.begin) }

func (p *crossed) at(offset int64) json.RawMessage {
	out, err := json.Marshal(crossedAt{offset, p.next, p.asleep})
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
		p.asleep, p.next = pos.Asleep, pos.Next
	}
	return p.Partition.Open(ctx, at)
}

// ErrGap is wrapped where a broker has lost blocks, or has some twice.
var ErrGap = errors.New("the broker has not kept what crosses between portions as it was written")

// follows says whether a record is the next block.
func (p *crossed) follows(r *kgo.Record) error {
	if len(r.Key) != 8 {
		return fmt.Errorf("topic %s of %s, partition %d, offset %d: the message is none of Under Tide; nobody else may write there", p.s.c.Topic, p.s.c.Connection.Name, p.number, r.Offset)
	}
	n := int64(binary.BigEndian.Uint64(r.Key))
	if n == p.next {
		return nil
	}
	return fmt.Errorf("%w: block %d of portion %s stands at offset %d of partition %d of topic %s, and block %d is next; begin anew with --fresh", ErrGap, n, p.Name(), r.Offset, p.number, p.s.c.Topic, p.next)
}

// Read takes the blocks that have come. First it says how the writer was where the reading goes on.
func (p *crossed) Read(ctx context.Context, c *engine.Chunk) error {
	c.Asleep = p.asleep
	if !p.begun {
		p.begun = true
		c.Position, c.CaughtUp = p.at(p.taken), p.next == p.rest
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
			if err := p.follows(r); err != nil {
				return err
			}
			took, err := crossing.Fill(c, r.Value)
			if err != nil {
				return fmt.Errorf("topic %s of %s, partition %d, offset %d: %w; nobody else may write there", p.s.c.Topic, p.s.c.Connection.Name, p.number, r.Offset, err)
			}
			if !took {
				break
			}
			p.next++
			c.Last = c.After == row.MaxTime
		}
		size += len(r.Value)
		p.waiting -= int64(len(r.Value) + len(r.Key))
	}
	p.asleep = c.Asleep
	p.took(c, n, size)
	c.CaughtUp = p.rest < 0 && c.CaughtUp || p.next == p.rest || c.Last
	c.Position = p.at(p.taken)
	return nil
}
