package kafka

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
	"golang.org/x/sync/errgroup"

	"undertide/broker"
	"undertide/connect/staging"
	"undertide/connect/staging/lives"
	"undertide/core/engine"
)

// committed reads a topic as readers of committed messages do, and gives what is in it, sorted.
func committed(t *testing.T, c Connection, topic string, want int) []string {
	t.Helper()
	c.dial = nil
	reader := client(t, c, kgo.ConsumeTopics(topic), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()), kgo.FetchIsolationLevel(kgo.ReadCommitted()))
	var out []string
	for {
		wait := 10 * time.Second
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
		got.EachRecord(func(r *kgo.Record) {
			_, n, _ := strings.Cut(strings.TrimSuffix(string(r.Value), "}"), `"n":`)
			out = append(out, string(r.Key)+"="+n)
		})
	}
}

// living is the life of a topic's job.
func living(t *testing.T, c SinkConfig) *lives.Life {
	dir := t.TempDir()
	return &lives.Life{Sink: func() engine.Sink { return NewOnce(c, staging.New(dir, c.Sink, "topic "+c.Topic)) }}
}

func check(t *testing.T, l *lives.Life, c SinkConfig, what string) {
	t.Helper()
	if err := l.Same(committed(t, c.Connection, c.Topic, len(l.Rows))); err != nil {
		t.Errorf("%s: %v", what, err)
	}
}

// TestOnce: what a run prepares and delivers is seen once, also when it is delivered again, when the next run begins
// before it was delivered, and when the broker has forgotten what the group committed.
func TestOnce(t *testing.T) {
	_, c := start(t, broker.Options{})
	config := SinkConfig{Connection: c, Topic: "means", Key: []string{"gauge"}, Create: true, Job: "mean", Sink: "out"}
	l := living(t, config)
	first, err := l.Start()
	if err != nil {
		t.Fatal(err)
	}
	sh, err := l.Prepare(first)
	if err != nil {
		t.Fatal(err)
	}
	if got := committed(t, c, "means", 0); len(got) > 0 {
		t.Errorf("before its checkpoint is complete the topic has %v", got)
	}
	if err := first.Deliver(context.Background(), sh); err != nil {
		t.Fatal(err)
	}
	check(t, l, config, "delivered")
	if _, err := l.Prepare(first); err != nil { // never delivered by this run
		t.Fatal(err)
	}
	second, err := l.Start()
	if err != nil {
		t.Fatal(err)
	}
	check(t, l, config, "delivered by the next run")

	// The one before lives on: it delivers nothing, and knows why.
	late := l.Epoch
	sh, err = l.Prepare(first)
	if err != nil {
		t.Fatal(err)
	}
	l.Epoch, l.Rows, l.Waiting = late, l.Rows[:6], nil
	if err := first.Deliver(context.Background(), sh); !errors.Is(err, engine.ErrFenced) {
		t.Errorf("the run that was taken over delivers: %v", err)
	}
	check(t, l, config, "after a run that lives on")
	asks := l.Sink() // a start that finds out that it may not go on fences nobody
	if n, err := asks.(engine.Knower).Known(context.Background()); n != 2 || err != nil {
		t.Errorf("epoch %d is known: %v", n, err)
	}
	if err := asks.Abort(); err != nil {
		t.Error(err)
	}
	sh, err = l.Prepare(second)
	if err != nil {
		t.Fatal(err)
	}
	if err := second.Deliver(context.Background(), sh); err != nil {
		t.Fatal(err)
	}
	second.(*Once).drop() // as where the answer to the commit was lost
	if err := second.Deliver(context.Background(), sh); err != nil {
		t.Errorf("what the broker has already: %v", err)
	}
	check(t, l, config, "delivered by the run that took over")

	for _, text := range []struct{ file, want string }{{"out-00000009.rows", "are missing: those of epoch 9"}, {"", ""}} {
		sh := engine.Shipment{Epoch: 9, Data: fmt.Appendf(nil, `{"file":%q,"to":"topic means","sum":"0"}`, text.file)}
		if err := second.Deliver(context.Background(), sh); text.want == "" && err != nil || text.want != "" && (err == nil || !strings.Contains(err.Error(), text.want)) {
			t.Errorf("a shipment of file %q: %v", text.file, err)
		}
	}
	if err := errors.Join(first.Abort(), second.Finish()); err != nil {
		t.Error(err)
	}
	third := l.Sink().(*Once)
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

// TestLostRequests: whichever request of a start and of two deliveries is lost, or its answer, every row comes once.
func TestLostRequests(t *testing.T) {
	_, c := start(t, broker.Options{})
	var asked atomic.Int64
	var all errgroup.Group
	all.SetLimit(12) // they wait most of the time
	for n := int64(1); n == 1 || n <= asked.Load()+12; n++ {
		for _, answer := range []bool{false, true} {
			all.Go(func() error {
				net := &lives.Losing{N: n, Answer: answer}
				c := SinkConfig{Connection: c, Topic: fmt.Sprintf("t%d.%v", n, answer), Key: []string{"gauge"}, Create: true, Partitions: 2, Job: "lost", Sink: fmt.Sprintf("s%d%v", n, answer)}
				c.Connection.dial = net.Dial
				l := living(t, c)
				if err := l.Live(2); err != nil {
					t.Errorf("request %d, its answer: %v: %v", n, answer, err)
				}
				check(t, l, c, fmt.Sprintf("request %d, its answer: %v", n, answer))
				if n == 1 {
					asked.Store(net.Asked.Load())
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

// TestTakenBack: a run that is being taken over may take the transaction back once more in the middle, and the broker has
// several words for it; the start tries again until it has taken over.
func TestTakenBack(t *testing.T) {
	for _, code := range []*kerr.Error{kerr.InvalidTxnState, kerr.InvalidProducerEpoch, kerr.ProducerFenced, kerr.InvalidProducerIDMapping} {
		t.Run(code.Message, func(t *testing.T) {
			cluster, err := kfake.NewCluster(kfake.NumBrokers(1))
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(cluster.Close)
			ends := 0
			cluster.ControlKey(int16(kmsg.EndTxn), func(r kmsg.Request) (kmsg.Response, error, bool) {
				cluster.KeepControl()
				if ends++; ends > 2 {
					return nil, nil, false
				}
				answer := r.ResponseKind().(*kmsg.EndTxnResponse)
				answer.ErrorCode = code.Code
				return answer, nil, true
			})
			c := SinkConfig{Connection: Connection{Name: "harbour", Brokers: cluster.ListenAddrs()}, Topic: "means", Key: []string{"gauge"}, Create: true, Partitions: 2, Job: "taken", Sink: "out"}
			l := living(t, c)
			if _, err := l.Start(); err != nil || ends != 3 {
				t.Fatalf("a start that ends its transaction %d times: %v", ends, err)
			}
			if err := l.Live(2); err != nil {
				t.Fatal(err)
			}
			check(t, l, c, "taken back twice")
		})
	}
}

// FuzzFrames: whatever keys and values are, they come back as they were written, also where slabs cut them; what is cut
// short is an error, and no panic.
func FuzzFrames(f *testing.F) {
	f.Add([]byte("k"), []byte("v"), 3)
	f.Add([]byte{}, bytes.Repeat([]byte("long"), 200_000), 2)
	f.Fuzz(func(t *testing.T, key, value []byte, n int) {
		var data []byte
		n = max(1, min(n, 2000))
		for i := range n {
			if data = appendFrame(data, key); i%2 == 0 {
				data = appendFrame(data, value)
			} else {
				data = append(data, 0)
			}
			if len(data) > 8<<20 {
				n = i + 1
				break
			}
		}
		got := 0
		err := frames(bytes.NewReader(data), func(r *kgo.Record) error {
			if want := value; !bytes.Equal(r.Key, key) || got%2 == 0 && !bytes.Equal(r.Value, want) || got%2 == 1 && r.Value != nil {
				t.Fatalf("record %d is %q, %q", got, r.Key, r.Value)
			}
			got++
			return nil
		})
		if err != nil || got != n {
			t.Fatalf("%d of %d records come back: %v", got, n, err)
		}
		if err := frames(bytes.NewReader(data[:len(data)-1]), func(*kgo.Record) error { return nil }); !errors.Is(err, staging.ErrMissing) {
			t.Errorf("what is cut short: %v", err)
		}
		_ = frames(bytes.NewReader(value), func(*kgo.Record) error { return nil }) // anything
	})
}
