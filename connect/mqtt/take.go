package mqtt

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/core/engine"
	"undertide/core/row"
)

// taker reads messages into a journal until it is stopped: each is acknowledged once it stands there.
//
// # What comes again
//
// A broker sends again what was not acknowledged, as far as it knows: also what stands in the journal, where the connection
// broke between. It marks it (DUP) and gives it the identifier of before. Such a message is passed over where the newest one
// of its identifier among the last [remembered] that were written down has the same topic and text.
type taker struct {
	to      *broker
	dialing dialing
	filters []string
	in      *journal.Intake
	// gather bounds the bytes that are written down in one piece: the journal must have room for it.
	gather int
	seen   map[uint16]sight
	number int64 // of messages that were written down

	ctx  context.Context
	end  context.CancelFunc
	done sync.WaitGroup
}

// sight is a message that was written down.
type sight struct {
	sum    uint64 // of its topic and text
	number int64
}

func newTaker(b *broker, j *journal.Journal, d dialing, filters []string, limit int64) (*taker, error) {
	t := &taker{to: b, dialing: d, filters: filters, in: journal.NewIntake(j), gather: int(min(1<<20, limit/8)), seen: map[uint16]sight{}}
	t.ctx, t.end = context.WithCancel(context.Background())
	return t, t.recall()
}

// recall reads which messages were written down last.
func (t *taker) recall() error {
	first, next := t.in.Bounds()
	r, err := t.in.Read(max(first, next-remembered))
	if err != nil {
		return err
	}
	defer r.Close()
	for {
		frame, _, ok, err := r.Next()
		if err != nil || !ok {
			return err
		}
		id, topic, text, err := cut(frame)
		if err != nil {
			return err
		}
		t.note(message{id: id, topic: string(topic), text: text})
	}
}

func (t *taker) note(m message) {
	if t.number++; m.id > 0 {
		t.seen[m.id] = sight{sumOf(m), t.number}
	}
}

// comesAgain says whether a message stands in the journal already.
func (t *taker) comesAgain(m message) bool {
	was, ok := t.seen[m.id]
	return ok && m.again && t.number-was.number < remembered && was.sum == sumOf(m)
}

func sumOf(m message) uint64 {
	var d xxhash.Digest
	_, _ = d.WriteString(m.topic) // it never fails
	_, _ = d.Write([]byte{0})     // no topic has it
	_, _ = d.Write(m.text)
	return d.Sum64()
}

// start reaches the broker for the first time; one that is not there is waited for where the run is not its first, and one
// that refuses is an error.
func (t *taker) start(ctx context.Context, first bool) error {
	c, err := t.begin(ctx)
	if err == nil && !c.resumed() { // else what comes has to be taken before the answer
		select {
		case err = <-c.subscribed:
			c.subscribed <- err
		case <-ctx.Done():
			err = ctx.Err()
		}
	}
	if err != nil && (first || errors.Is(err, connect.ErrDenied)) {
		if c != nil {
			c.close()
		}
		return err
	}
	if c == nil {
		t.in.Way.Fault(err.Error())
	}
	t.done.Go(func() { t.run(c) })
	return nil
}

// conversation is a session with the messages that come by it.
type conversation struct {
	session
	in chan message
	// subscribed has a value once the broker has said whether it grants what was asked for.
	subscribed chan error
}

// begin begins a conversation. Messages of a session that was resumed come before the broker has answered what is asked for.
func (t *taker) begin(ctx context.Context) (*conversation, error) {
	in, d := make(chan message, underWay), t.dialing
	ended := make(chan struct{})
	d.take = func(m message) {
		select {
		case in <- m:
		case <-ended:
		}
	}
	s, err := t.to.begin(ctx, d)
	if err != nil {
		return nil, err
	}
	go func() {
		<-s.over()
		close(ended)
	}()
	if !s.resumed() && t.number > 0 {
		slog.Warn("the broker no longer knew this client: it has kept nothing of what was published while it was away; a longer expiry: would", "broker", t.to.String(), "client", d.client)
	}
	c := &conversation{s, in, make(chan error, 1)}
	t.done.Go(func() {
		limited, stop := context.WithTimeout(t.ctx, reachIn)
		defer stop()
		err := s.subscribe(limited, t.filters)
		if err != nil {
			err = t.to.explain(err)
		}
		c.subscribed <- err
	})
	return c, nil
}

// run takes messages until the taker is stopped; c is nil where there is no conversation yet.
func (t *taker) run(c *conversation) {
	pauses := connect.Pauses()
	for t.ctx.Err() == nil {
		if c != nil {
			began, before := time.Now(), t.number
			err := t.take(c)
			t.in.Present(time.Time{})
			c.close()
			if t.ctx.Err() != nil {
				return
			}
			// Two clients of one name would else take turns without a pause.
			if time.Since(began) > 10*time.Second || t.number > before && !errors.Is(err, errTakenOver) {
				pauses.Reset()
			}
			t.in.Way.Fault(err.Error())
		}
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-t.ctx.Done():
			return
		}
		var err error
		if c, err = t.begin(t.ctx); err != nil {
			t.in.Way.Fault(err.Error())
		}
	}
}

// take writes messages down and acknowledges them, until the session ends. Those that came and were not written down come again.
func (t *taker) take(c *conversation) error {
	var batch []message
	for {
		select {
		case err := <-c.subscribed:
			if err != nil {
				return err
			}
			t.in.Present(time.Now())
			t.in.Way.OK()
		case m := <-c.in:
			batch = gathered(append(batch[:0], m), c.in, t.gather)
			if !t.put(batch) {
				return t.ctx.Err()
			}
			for _, m := range batch {
				m.ack()
			}
		case <-c.over():
			return c.why()
		case <-t.ctx.Done():
			return t.ctx.Err()
		}
	}
}

// gathered adds what has come already.
func gathered(batch []message, in chan message, most int) []message {
	for size := len(batch[0].text); size < most; {
		select {
		case m := <-in:
			batch, size = append(batch, m), size+len(m.text)
		default:
			return batch
		}
	}
	return batch
}

// put writes messages down, but for those that stand there already. False where they cannot be any more.
func (t *taker) put(batch []message) bool {
	var frames [][]byte
	for _, m := range batch {
		if !t.comesAgain(m) {
			frames = append(frames, frame(m))
			t.note(m)
		}
	}
	return t.in.Put(t.ctx, frames)
}

// stop leaves the broker, once what was written down is acknowledged.
func (t *taker) stop() {
	t.end()
	t.done.Wait()
}

// frame is a message as it stands in the journal: the packet's identifier (2 bytes, little endian), the length of the topic, the topic,
// and the text.
func frame(m message) []byte {
	out := binary.LittleEndian.AppendUint16(make([]byte, 0, 8+len(m.topic)+len(m.text)), m.id)
	return append(row.AppendText(out, m.topic), m.text...)
}

// cut takes a frame apart.
func cut(frame []byte) (id uint16, topic, text []byte, err error) {
	if len(frame) < 2 {
		return 0, nil, nil, errors.New("the journal holds no messages of a broker")
	}
	topic, text, ok := row.NextText(frame[2:])
	if !ok {
		return 0, nil, nil, errors.New("the journal holds no messages of a broker")
	}
	return binary.LittleEndian.Uint16(frame), topic, text, nil
}

// partition is the journal's, without its frames.
type partition struct {
	*journal.Partition
	t *taker
}

// Read implements [engine.Partition].
func (p *partition) Read(ctx context.Context, c *engine.Chunk) error {
	if err := p.Partition.Read(ctx, c); err != nil {
		return err
	}
	topics := make([][]byte, len(c.Starts))
	for i := range c.Starts {
		_, topic, text, err := cut(c.Event(i))
		if err != nil {
			return err
		}
		c.Starts[i] = c.Ends[i] - uint32(len(text))
		topics[i] = topic
	}
	c.Meta = meta{c.Meta, topics}
	return nil
}

// Acknowledge keeps the last messages, by which those that come again are known, as long as there is room.
func (p *partition) Acknowledge(at json.RawMessage) {
	last := int64(remembered)
	if p.t.in.Half() {
		last = 0
	}
	p.AcknowledgeBut(at, last)
}

// Quiet implements [engine.Quieter].
func (p *partition) Quiet() (from, to time.Time) { return p.t.in.Quiet(p.Partition) }

// Trouble implements [engine.Troubled].
func (p *partition) Trouble() string {
	return p.t.in.Trouble("the broker has not been reached", "messages could not be written down")
}

// meta is what is known of the messages of a chunk.
type meta struct {
	engine.Meta // of the journal: meta.stored; nil for an empty chunk
	topics      [][]byte
}

// Append implements [engine.Meta].
func (m meta) Append(c *row.Column, field string, i int) {
	switch field {
	case "meta.key":
		c.AppendBytes(m.topics[i])
	case "meta.topic":
		c.AppendBytes(levels(nil, string(m.topics[i])))
	default:
		m.Meta.Append(c, field, i)
	}
}

// look gives the messages that come to a client that the broker forgets as it leaves.
func (s *source) look(ctx context.Context, next func([]connect.Event) error) error {
	b, err := reach(s.Connection)
	if err != nil {
		return err
	}
	in, ended := make(chan message, underWay), make(chan struct{})
	session, err := b.begin(ctx, dialing{client: newName(), take: func(m message) {
		m.text = bytes.Clone(m.text)
		m.ack()
		select {
		case in <- m:
		case <-ended:
		}
	}})
	if err != nil {
		return err
	}
	defer session.close()
	defer close(ended) // first: who hands messages over must not wait any more
	if err := session.subscribe(ctx, s.Topics); err != nil {
		return b.explain(err)
	}
	var n int64
	for {
		var events []connect.Event
		select {
		case m := <-in:
			for _, m := range gathered([]message{m}, in, 1<<20) {
				events = append(events, eventOf(m, n))
				n++
			}
		case <-time.After(time.Second):
		case <-session.over():
			return fmt.Errorf("%s: %w", b, session.why())
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := next(events); err != nil {
			return err
		}
	}
}
