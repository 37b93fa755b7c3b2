package kafka

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kgo"
	"golang.org/x/sync/errgroup"

	"undertide/broker"
	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// committed reads a topic as readers of committed messages do, and gives what is in it, sorted.
func committed(t *testing.T, c Connection, topic string, want int) []string {
	t.Helper()
	c.dial = nil
	reader := client(t, c, kgo.ConsumeTopics(topic), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()), kgo.FetchIsolationLevel(kgo.ReadCommitted()))
	var out []string
	for wait := 10 * time.Second; ; wait = 200 * time.Millisecond {
		if len(out) >= want {
			wait = 200 * time.Millisecond // for what is too much
		}
		ctx, cancel := context.WithTimeout(context.Background(), wait)
		got := reader.PollFetches(ctx)
		cancel()
		if got.Err0() != nil {
			slices.Sort(out)
			return out
		}
		got.EachRecord(func(r *kgo.Record) { out = append(out, string(r.Key)+"="+string(r.Value)) })
	}
}

// life is what one sink's job has, over several runs: the folder where shipments wait, and the newest checkpoint.
type life struct {
	c       SinkConfig
	dir     string
	epoch   int64
	waiting []engine.Shipment
	rows    []string // all that was to be delivered
}

func (l *life) sink() *Once { return NewOnce(l.c, staging.New(l.dir, l.c.Sink, "topic "+l.c.Topic)) }

// start opens a sink as a run does, and delivers what waits.
func (l *life) start() (*Once, error) {
	s, ctx := l.sink(), context.Background()
	done, err := s.Delivered(ctx)
	if err == nil {
		err = s.Open(l.waiting, l.epoch+1)
	}
	for _, w := range l.waiting {
		if err == nil && w.Epoch > done {
			err = s.Deliver(ctx, w)
		}
	}
	if err != nil {
		return nil, errors.Join(err, s.Abort())
	}
	l.waiting = nil
	return s, nil
}

// prepare makes an epoch of three rows and completes its checkpoint.
func (l *life) prepare(s *Once) (engine.Shipment, error) {
	b := row.NewBatch(fields)
	for n := range 3 {
		b.Cols[0].AppendString(fmt.Sprintf("G%d", n))
		b.Cols[1].AppendInt(l.epoch + 1)
		b.N++
	}
	err := s.Write(s.NewEncoder(fields).Append(nil, step.ViewOf(b, nil)), 3)
	if err != nil {
		return engine.Shipment{}, err
	}
	sh, err := s.Prepare(l.epoch + 1)
	if err != nil {
		return sh, err
	}
	l.epoch++
	sh.Epoch = l.epoch
	l.waiting = append(l.waiting, sh)
	for n := range 3 {
		l.rows = append(l.rows, fmt.Sprintf(`G%d={"gauge":"G%d","n":%d}`, n, n, l.epoch))
	}
	return sh, nil
}

func (l *life) check(t *testing.T, what string) {
	t.Helper()
	slices.Sort(l.rows)
	if got := committed(t, l.c.Connection, l.c.Topic, len(l.rows)); !slices.Equal(got, l.rows) {
		t.Errorf("%s: the topic has %v, want %v", what, got, l.rows)
	}
}

// TestOnce: what a run prepares and delivers is seen once, also when it is delivered again, when the next run begins
// before it was delivered, and when the broker has forgotten what the group committed.
func TestOnce(t *testing.T) {
	_, c := start(t, broker.Options{})
	l := &life{c: SinkConfig{Connection: c, Topic: "means", Key: []string{"gauge"}, Create: true, Job: "mean", Sink: "out"}, dir: t.TempDir()}
	first, err := l.start()
	if err != nil {
		t.Fatal(err)
	}
	sh, err := l.prepare(first)
	if err != nil {
		t.Fatal(err)
	}
	if got := committed(t, c, "means", 0); len(got) > 0 {
		t.Errorf("before its checkpoint is complete the topic has %v", got)
	}
	if err := first.Deliver(context.Background(), sh); err != nil {
		t.Fatal(err)
	}
	l.check(t, "delivered")
	if _, err := l.prepare(first); err != nil { // never delivered by this run
		t.Fatal(err)
	}
	second, err := l.start()
	if err != nil {
		t.Fatal(err)
	}
	l.check(t, "delivered by the next run")

	// The one before lives on: it delivers nothing, and knows why.
	late := l.epoch
	sh, err = l.prepare(first)
	if err != nil {
		t.Fatal(err)
	}
	l.epoch, l.rows, l.waiting = late, l.rows[:6], nil
	if err := first.Deliver(context.Background(), sh); !errors.Is(err, engine.ErrFenced) {
		t.Errorf("the run that was taken over delivers: %v", err)
	}
	l.check(t, "after a run that lives on")
	sh, err = l.prepare(second)
	if err != nil {
		t.Fatal(err)
	}
	if err := second.Deliver(context.Background(), sh); err != nil {
		t.Fatal(err)
	}
	second.drop() // as where the answer to the commit was lost
	if err := second.Deliver(context.Background(), sh); err != nil {
		t.Errorf("what the broker has already: %v", err)
	}
	l.check(t, "delivered by the run that took over")

	for _, text := range []struct{ file, want string }{{"out-00000009.rows", "are missing: those of epoch 9"}, {"", ""}} {
		sh := engine.Shipment{Epoch: 9, Data: fmt.Appendf(nil, `{"file":%q,"to":"topic means","sum":"0"}`, text.file)}
		if err := second.Deliver(context.Background(), sh); text.want == "" && err != nil || text.want != "" && (err == nil || !strings.Contains(err.Error(), text.want)) {
			t.Errorf("a shipment of file %q: %v", text.file, err)
		}
	}
	if err := errors.Join(first.Abort(), second.Finish()); err != nil {
		t.Error(err)
	}
	third := l.sink()
	if n, err := third.Delivered(context.Background()); n != 3 || err != nil {
		t.Errorf("the topic says that epoch %d was delivered: %v", n, err)
	}
	third.ledger.group += ".other" // as if the group had been forgotten
	if n, err := third.Delivered(context.Background()); n != 3 || err != nil {
		t.Errorf("the folder says that epoch %d was delivered: %v", n, err)
	}
	if err := third.Abort(); err != nil {
		t.Error(err)
	}
}

// losing is a network that loses the n-th request of a broker's client, or its answer.
type losing struct {
	n      int64
	answer bool
	asked  atomic.Int64
}

type losingConn struct {
	net.Conn
	l    *losing
	lost atomic.Bool // the answer that comes next
}

func (l *losing) dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &losingConn{Conn: conn, l: l}, nil
}

func (c *losingConn) Write(b []byte) (int, error) {
	if c.l.asked.Add(1) != c.l.n {
		return c.Conn.Write(b)
	}
	if !c.l.answer {
		c.Close()
		return 0, io.ErrClosedPipe
	}
	c.lost.Store(true)
	return c.Conn.Write(b)
}

func (c *losingConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if c.lost.Load() {
		c.Close()
		return 0, io.ErrUnexpectedEOF
	}
	return n, err
}

// TestLostRequests: whichever request of a start and of two deliveries is lost, or its answer, every row comes once.
func TestLostRequests(t *testing.T) {
	_, c := start(t, broker.Options{})
	var asked atomic.Int64
	var all errgroup.Group
	all.SetLimit(12) // they wait most of the time
	for n := int64(1); n == 1 || n <= asked.Load()+12; n++ {
		for _, answer := range []bool{false, true} {
			all.Go(func() error {
				net := &losing{n: n, answer: answer}
				c := c
				c.dial = net.dial
				loseOne(t, c, fmt.Sprintf("t%d.%v", n, answer))
				if n == 1 {
					asked.Store(net.asked.Load())
				}
				return nil
			})
		}
		if n == 1 {
			all.Wait()
		}
	}
	all.Wait()
	if n := asked.Load(); n < 20 {
		t.Errorf("only %d requests were made", n)
	}
}

// loseOne lets a job run with a network that loses one request, and starts it again until two epochs are delivered.
func loseOne(t *testing.T, c Connection, topic string) {
	l := &life{c: SinkConfig{Connection: c, Topic: topic, Key: []string{"gauge"}, Create: true, Partitions: 2, Job: "lost", Sink: topic}, dir: t.TempDir()}
	for tries := 0; l.epoch < 2; tries++ {
		if tries > 2 {
			t.Errorf("%s: it does not get on", topic)
			return
		}
		s, err := l.start()
		if err != nil {
			continue // a start that fails is tried again
		}
		for err == nil && l.epoch < 2 {
			var sh engine.Shipment
			if sh, err = l.prepare(s); err == nil {
				err = s.Deliver(context.Background(), sh)
			}
		}
		if err != nil {
			t.Errorf("%s: a run that had begun gives up: %v", topic, err)
		}
		if err := s.Abort(); err != nil {
			t.Error(err)
		}
	}
	l.check(t, topic)
}
