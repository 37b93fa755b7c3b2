package kafka

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"

	"undertide/broker"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

func start(t *testing.T, o broker.Options) (*broker.Broker, Connection) {
	t.Helper()
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	b, err := broker.Start(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b, Connection{Name: "harbour", Brokers: []string{b.Addr}}
}

// client is a plain client of the library, as other programs have.
func client(t *testing.T, c Connection, opts ...kgo.Opt) *kgo.Client {
	t.Helper()
	cl, err := kgo.NewClient(append(opts, kgo.SeedBrokers(c.Brokers...), kgo.RecordPartitioner(kgo.ManualPartitioner()))...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cl.Close)
	return cl
}

func send(t *testing.T, cl *kgo.Client, records ...*kgo.Record) {
	t.Helper()
	if err := cl.ProduceSync(context.Background(), records...).FirstErr(); err != nil {
		t.Fatal(err)
	}
}

func opened(t *testing.T, c SourceConfig) *Source {
	t.Helper()
	s, err := Open(context.Background(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// take reads a partition until it has n events.
func take(t *testing.T, p engine.Partition, at json.RawMessage, n int) (values []string, last json.RawMessage) {
	t.Helper()
	if err := p.Open(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	return more(t, p, n)
}

func more(t *testing.T, p engine.Partition, n int) (values []string, last json.RawMessage) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	for len(values) < n {
		var c engine.Chunk
		if err := p.Read(ctx, &c); err != nil {
			t.Fatalf("after %d of %d events: %v", len(values), n, err)
		}
		for i := range c.Starts {
			values = append(values, fmt.Sprintf("%d:%s", c.Offset(i), c.Event(i)))
		}
		last = c.Position
	}
	return values, last
}

// TestBegin: a partition is read from where begin says, and a checkpoint's position wins over it.
func TestBegin(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i := range 10 {
		send(t, cl, &kgo.Record{Topic: "levels", Value: fmt.Appendf(nil, "v%d", i), Timestamp: noon.Add(time.Duration(i) * time.Minute)})
	}
	for _, k := range []struct {
		name   string
		config SourceConfig
		at     string
		want   string
	}{
		{"earliest", SourceConfig{Begin: Earliest, Fresh: true}, "", "0:v0"},
		{"latest", SourceConfig{Begin: Latest, Fresh: true}, "", "10:late"},
		{"a time", SourceConfig{Begin: AtTime, BeginAt: noon.Add(3*time.Minute + time.Second), Fresh: true}, "", "4:v4"},
		{"after the end", SourceConfig{Begin: AtTime, BeginAt: noon.Add(time.Hour), Fresh: true}, "", "10:late"},
		{"a checkpoint", SourceConfig{Begin: Latest}, `{"offset":7}`, "7:v7"},
		{"found since the checkpoint", SourceConfig{Begin: Latest}, "", "0:v0"},
	} {
		k.config.Connection, k.config.Topic = c, "levels"
		s := opened(t, k.config)
		p := s.Partitions()[0]
		at := json.RawMessage(k.at)
		if k.at == "" {
			at = p.(engine.Starter).Start()
		}
		if k.want == "10:late" && string(at) != `{"offset":10}` {
			t.Errorf("%s: it starts at %s", k.name, at)
			continue
		}
		if k.want == "10:late" {
			continue // the end itself is tried below
		}
		if got, _ := take(t, p, at, 1); got[0] != k.want {
			t.Errorf("%s: the first event is %s, want %s", k.name, got[0], k.want)
		}
	}
	s := opened(t, SourceConfig{Connection: c, Topic: "levels", Begin: Latest, Fresh: true})
	p := s.Partitions()[0]
	if err := p.Open(context.Background(), p.(engine.Starter).Start()); err != nil {
		t.Fatal(err)
	}
	var quiet engine.Chunk
	if err := p.Read(context.Background(), &quiet); err != nil || len(quiet.Starts) != 0 || !quiet.CaughtUp {
		t.Errorf("at the end: %v, %d events, caught up %v", err, len(quiet.Starts), quiet.CaughtUp)
	}
	send(t, cl, &kgo.Record{Topic: "levels", Value: []byte("late")})
	if got, _ := more(t, p, 1); got[0] != "10:late" {
		t.Errorf("after the end comes %s", got[0])
	}
}

// TestMeta: keys, headers and stored times of events are there for expressions, and null where an
// event has none.
func TestMeta(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	at := time.Date(2026, 3, 1, 12, 0, 0, 250_000_000, time.UTC)
	send(t, cl, &kgo.Record{Topic: "levels", Key: []byte("G03"), Value: []byte("a"), Timestamp: at, Headers: []kgo.RecordHeader{{Key: "trace", Value: []byte("old")}, {Key: "trace", Value: []byte("t1")}}},
		&kgo.Record{Topic: "levels", Value: []byte("b"), Timestamp: at.Add(time.Second)})
	p := opened(t, SourceConfig{Connection: c, Topic: "levels", Fresh: true}).Partitions()[0]
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	var chunk engine.Chunk
	for len(chunk.Starts) < 2 {
		if err := p.Read(context.Background(), &chunk); err != nil {
			t.Fatal(err)
		}
	}
	text := func(field string, kind row.Kind) string {
		col := row.NewColumn(kind)
		for i := range 2 {
			chunk.Meta.Append(col, field, i)
		}
		var out []string
		for i := range 2 {
			switch {
			case col.IsNull(i):
				out = append(out, "null")
			case kind == row.Timestamp:
				out = append(out, row.Time(col.I[i]).String())
			default:
				out = append(out, string(col.Bytes(i)))
			}
		}
		return strings.Join(out, " ")
	}
	for field, want := range map[string]string{"meta.key": "G03 null", "meta.headers.trace": "t1 null", "meta.headers.other": "null null"} {
		if got := text(field, row.String); got != want {
			t.Errorf("%s: %s, want %s", field, got, want)
		}
	}
	if got, want := text("meta.stored", row.Timestamp), "2026-03-01T12:00:00.25Z 2026-03-01T12:00:01.25Z"; got != want {
		t.Errorf("meta.stored: %s, want %s", got, want)
	}
	if chunk.Stored != row.TimeOf(at.Add(time.Second)) {
		t.Errorf("the chunk's last event was stored at %s", chunk.Stored)
	}
}

// TestFind: partitions that a topic is given while it is read are found and read from their first event.
func TestFind(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	s := opened(t, SourceConfig{Connection: c, Topic: "levels", Begin: Latest, Fresh: true})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	found := make(chan engine.Partition, 4)
	ended := make(chan error, 1)
	go func() { ended <- s.Find(ctx, func(p engine.Partition) { found <- p }) }()
	if _, err := kadm.NewClient(cl).CreatePartitions(ctx, 2, "levels"); err != nil {
		t.Fatal(err)
	}
	adm := kadm.NewClient(client(t, c))
	for {
		d, err := adm.ListTopics(ctx, "levels")
		if err != nil {
			t.Fatal(err)
		}
		if len(d["levels"].Partitions) == 3 {
			break
		}
	}
	send(t, client(t, c), &kgo.Record{Topic: "levels", Partition: 2, Value: []byte("new")})
	for range 2 {
		select {
		case p := <-found:
			if p.Name() == "2" {
				if got, _ := take(t, p, p.(engine.Starter).Start(), 1); got[0] != "0:new" {
					t.Errorf("partition 2 begins with %s", got[0])
				}
			}
		case <-time.After(15 * time.Second):
			t.Fatal("the new partitions are not found")
		}
	}
	cancel()
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// TestGroup: the positions of complete checkpoints stand in the group for other tools, and lag follows.
func TestGroup(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	for i := range 10 {
		send(t, cl, &kgo.Record{Topic: "levels", Value: fmt.Appendf(nil, "v%d", i)})
	}
	s := opened(t, SourceConfig{Connection: c, Topic: "levels", Group: "undertide.means", Fresh: true})
	p := s.Partitions()[0]
	_, at := take(t, p, nil, 10)
	if lag, known := p.(engine.Lagger).Lag(json.RawMessage(`{"offset":4}`)); lag != 6 || !known {
		t.Errorf("lag behind offset 4: %d, %v", lag, known)
	}
	p.(engine.Acknowledger).Acknowledge(at)
	adm := kadm.NewClient(cl)
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		got, err := adm.FetchOffsets(context.Background(), "undertide.means")
		if o, ok := got.Lookup("levels", 0); err == nil && ok && o.At == 10 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("the group has %v, %v", got, err)
		}
	}
}

// TestGone: events that the broker has deleted are an error that says so, never a silent jump.
func TestGone(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	for i := range 10 {
		send(t, cl, &kgo.Record{Topic: "levels", Value: fmt.Appendf(nil, "v%d", i)})
	}
	var gone kadm.Offsets
	gone.AddOffset("levels", 0, 8, -1)
	if _, err := kadm.NewClient(cl).DeleteRecords(context.Background(), gone); err != nil {
		t.Fatal(err)
	}
	p := opened(t, SourceConfig{Connection: c, Topic: "levels"}).Partitions()[0]
	if err := p.Open(context.Background(), json.RawMessage(`{"offset":3}`)); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	for {
		var chunk engine.Chunk
		err := p.Read(ctx, &chunk)
		if err == nil && len(chunk.Starts) == 0 {
			continue
		}
		if err == nil || !strings.Contains(err.Error(), "no longer has the events from offset 3 on: the broker has deleted them; start with --fresh") {
			t.Errorf("reading what is gone gives %d events, %v", len(chunk.Starts), err)
		}
		return
	}
}

// TestUnreachable: faults name the broker, what is wrong and what would help.
func TestUnreachable(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels", "means"}})
	_, err := Open(context.Background(), SourceConfig{Connection: c, Topic: "level"})
	if err == nil || !strings.Contains(err.Error(), "has no topic level; did you mean levels?") {
		t.Errorf("an unknown topic: %v", err)
	}
	if err := NewSink(SinkConfig{Connection: c, Topic: "mean"}).Open(nil, 1); err == nil || !strings.Contains(err.Error(), "has no topic mean") {
		t.Errorf("an unknown topic to write: %v", err)
	}
	away := Connection{Name: "harbour", Brokers: []string{"127.0.0.1:1"}}
	_, err = Open(context.Background(), SourceConfig{Connection: away, Topic: "levels"})
	if !errors.Is(err, connect.ErrUnreachable) || !strings.Contains(err.Error(), "broker harbour (127.0.0.1:1) cannot be reached: connect: connection refused; check that it runs") {
		t.Errorf("a broker that is away: %v", err)
	}
}

var fields = row.Schema{{Name: "gauge", Kind: row.String}, {Name: "n", Kind: row.Int}}

func rowsOf(n int) step.View {
	b := row.NewBatch(fields)
	for i := range n {
		if i%5 == 4 {
			b.Cols[0].AppendNull()
		} else {
			b.Cols[0].AppendString(fmt.Sprintf("G%02d", i%3))
		}
		b.Cols[1].AppendInt(int64(i))
		b.N++
	}
	return step.ViewOf(b)
}

// TestSink: rows arrive with their keys, those of a key in their order, and a mark waits until the
// broker has them.
func TestSink(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"one", "both", "none"}, Partitions: 2})
	for topic, key := range map[string][]string{"one": {"gauge"}, "both": {"gauge", "n"}, "none": nil} {
		s := NewSink(SinkConfig{Connection: c, Topic: topic, Key: key})
		if err := s.Open(nil, 1); err != nil {
			t.Fatal(err)
		}
		e := s.NewEncoder(fields)
		for range 3 {
			if err := s.Write(e.Append(nil, rowsOf(1000)), 1000); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := s.Prepare(1); err != nil {
			t.Fatal(err)
		}
		reader := client(t, c, kgo.ConsumeTopics(topic), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()))
		last := map[string]int{}
		for n := 0; n < 3000; {
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			got := reader.PollFetches(ctx)
			cancel()
			if err := got.Err0(); err != nil {
				t.Fatalf("%s: after %d rows: %v", topic, n, err)
			}
			got.EachRecord(func(r *kgo.Record) {
				n++
				var v struct {
					Gauge *string
					N     int
				}
				if err := json.Unmarshal(r.Value, &v); err != nil {
					t.Fatal(err)
				}
				want := "null"
				switch {
				case topic == "one" && v.Gauge != nil:
					want = *v.Gauge
				case topic == "both" && v.Gauge == nil:
					want = fmt.Sprintf(`{"gauge":null,"n":%d}`, v.N)
				case topic == "both":
					want = fmt.Sprintf(`{"gauge":"%s","n":%d}`, *v.Gauge, v.N)
				}
				key := "null"
				if r.Key != nil {
					key = string(r.Key)
				}
				if key != want {
					t.Fatalf("%s: the key of %s is %s, want %s", topic, r.Value, key, want)
				}
				if topic == "one" && v.Gauge != nil {
					if prev, ok := last[key]; ok && v.N < prev && v.N > 4 {
						t.Fatalf("row %d of %s comes after row %d", v.N, key, prev)
					}
					last[key] = v.N
				}
			})
		}
		if err := s.Finish(); err != nil {
			t.Error(err)
		}
	}
}

// TestSinkWaits: while the broker is away a mark waits and says why; when it is back all is delivered.
// Whoever interrupts it gets an error instead.
func TestSinkWaits(t *testing.T) {
	dir := t.TempDir()
	b, c := start(t, broker.Options{Topics: []string{"out"}, Data: dir})
	s := NewSink(SinkConfig{Connection: c, Topic: "out"})
	if err := s.Open(nil, 1); err != nil {
		t.Fatal(err)
	}
	b.Close()
	if err := s.Write(s.NewEncoder(fields).Append(nil, rowsOf(10)), 10); err != nil {
		t.Fatal(err)
	}
	prepared := make(chan error, 1)
	go func() { _, err := s.Prepare(1); prepared <- err }()
	for until := time.Now().Add(15 * time.Second); !strings.Contains(s.Trouble(), "has not answered for"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("the trouble is %q", s.Trouble())
		}
	}
	if s.Retries() == 0 {
		t.Error("nothing was tried again")
	}
	select {
	case err := <-prepared:
		t.Fatalf("the mark did not wait: %v", err)
	default:
	}
	start(t, broker.Options{Listen: b.Addr, Data: dir})
	select {
	case err := <-prepared:
		if err != nil {
			t.Fatal(err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the mark waits although the broker is back")
	}
	for until := time.Now().Add(10 * time.Second); s.Trouble() != ""; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("it still says %q", s.Trouble())
		}
	}
	s.Interrupt()
	if _, err := s.Prepare(2); err == nil {
		t.Error("a sink that was interrupted prepares another epoch")
	}
	if err := s.Abort(); err != nil {
		t.Error(err)
	}
}

// TestUntil: a span of a topic has its events and no others, in full turns, and ends: by time, by what is stored at the
// start, and from the position of a checkpoint; what is stored meanwhile, markers of transactions and new partitions are
// not of it.
func TestUntil(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"levels"}})
	cl := client(t, c)
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	var all []*kgo.Record
	for i := range 10_000 {
		all = append(all, &kgo.Record{Topic: "levels", Value: fmt.Appendf(nil, "v%d", i), Timestamp: noon.Add(time.Duration(i) * time.Second)})
	}
	send(t, cl, all...)
	txn := client(t, c, kgo.TransactionalID("other"), kgo.DefaultProduceTopic("levels"))
	if err := txn.BeginTransaction(); err != nil {
		t.Fatal(err)
	}
	send(t, txn, &kgo.Record{Topic: "levels", Value: []byte("taken back"), Timestamp: noon.Add(10_000 * time.Second)})
	if err := txn.EndTransaction(context.Background(), kgo.TryAbort); err != nil {
		t.Fatal(err)
	}
	for _, k := range []struct {
		name        string
		config      SourceConfig
		at          string
		first, last int // of the values
		notes       string
	}{
		{"what is stored", SourceConfig{Fresh: true}, "", 0, 9999, "; 10002 events are in the span"},
		{"up to a time", SourceConfig{Fresh: true, UntilAt: noon.Add(9000 * time.Second)}, "", 0, 8999, "partition 0 from offset 0 to 9000"},
		{"between two times", SourceConfig{Fresh: true, Begin: AtTime, BeginAt: noon.Add(100 * time.Second), UntilAt: noon.Add(200 * time.Second)}, "", 100, 199, "from offset 100 to 200; 100 earlier events are passed over; 100 events are in the span"},
		{"nothing", SourceConfig{Fresh: true, Begin: AtTime, BeginAt: noon.Add(100 * time.Second), UntilAt: noon.Add(100 * time.Second)}, "", 1, 0, "; 0 events are in the span"},
		{"from a checkpoint", SourceConfig{Known: []string{"0"}}, `{"offset":9990,"until":9995}`, 9990, 9994, ""},
		{"a checkpoint at the end", SourceConfig{Known: []string{"0"}}, `{"offset":9995,"until":9995}`, 1, 0, ""},
	} {
		k.config.Connection, k.config.Topic, k.config.Bounded = c, "levels", true
		s := opened(t, k.config)
		p := s.Partitions()[0]
		if !strings.Contains(s.begun(), k.notes) {
			t.Errorf("%s: it says %s", k.name, s.begun())
		}
		empty, err := p.Empty(context.Background())
		if err != nil || k.config.Fresh && empty != (k.first > k.last) {
			t.Errorf("%s: it is empty: %v, %v", k.name, empty, err)
		}
		at := json.RawMessage(k.at)
		if k.at == "" {
			at = p.(engine.Starter).Start()
		}
		if err := p.Open(context.Background(), at); err != nil {
			t.Fatal(err)
		}
		next := k.first
		for {
			var chunk engine.Chunk
			ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
			err := p.Read(ctx, &chunk)
			cancel()
			if err != nil {
				t.Fatalf("%s: after %d: %v", k.name, next, err)
			}
			for i := range chunk.Starts {
				if got := string(chunk.Event(i)); got != fmt.Sprintf("v%d", next) {
					t.Fatalf("%s: %s comes where v%d belongs", k.name, got, next)
				}
				next++
			}
			if chunk.Last {
				break
			}
			if len(chunk.Starts) != row.MaxRows {
				t.Errorf("%s: a turn has %d events", k.name, len(chunk.Starts))
			}
		}
		if next != k.last+1 && k.first <= k.last {
			t.Errorf("%s: it ends before v%d, want after v%d", k.name, next, k.last)
		}
	}
	if _, err := Open(context.Background(), SourceConfig{Connection: c, Topic: "levels", Fresh: true, Bounded: true, UntilAt: time.Now().Add(time.Hour)}); !errors.Is(err, connect.ErrUsage) {
		t.Errorf("an end that lies ahead: %v", err)
	}
}

// TestFetchedOnce: two partitions that are read in turn, more slowly than the broker gives, are fetched once. Once each full queue paused its partition, and the library
// fetched anew what it had of it.
func TestFetchedOnce(t *testing.T) {
	cluster, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.SeedTopics(2, "levels"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cluster.Close)
	const each = 200_000
	c := Connection{Name: "harbour", Brokers: cluster.ListenAddrs()}
	cl := client(t, c, kgo.ProducerBatchCompression(kgo.NoCompression()))
	value := []byte(strings.Repeat("v", 80))
	for n := range each {
		for p := range int32(2) {
			cl.Produce(t.Context(), &kgo.Record{Topic: "levels", Partition: p, Value: value}, func(_ *kgo.Record, err error) {
				if err != nil {
					t.Errorf("event %d: %v", n, err)
				}
			})
		}
	}
	if err := cl.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	var asked atomic.Int64 // fetches of a partition that bring something
	cluster.ControlKey(int16(kmsg.Fetch), func(r kmsg.Request) (kmsg.Response, error, bool) {
		cluster.KeepControl()
		for _, topic := range r.(*kmsg.FetchRequest).Topics {
			for _, p := range topic.Partitions {
				if p.FetchOffset < each {
					asked.Add(1)
				}
			}
		}
		return nil, nil, false
	})
	s := opened(t, SourceConfig{Connection: c, Topic: "levels", Fresh: true, Bounded: true})
	parts := s.Partitions()
	left := len(parts)
	for _, p := range parts {
		if err := p.Open(t.Context(), p.(engine.Starter).Start()); err != nil {
			t.Fatal(err)
		}
	}
	time.Sleep(300 * time.Millisecond) // as much as they take comes into the queues
	read := 0
	for last := make([]bool, len(parts)); left > 0; {
		for i, p := range parts {
			if last[i] {
				continue
			}
			var chunk engine.Chunk
			if err := p.Read(t.Context(), &chunk); err != nil {
				t.Fatal(err)
			}
			if read += len(chunk.Starts); chunk.Last {
				last[i], left = true, left-1
			}
			time.Sleep(time.Millisecond)
		}
	}
	const fewest = 2 * each * 80 / (4 << 20) // a fetch brings 4 MiB of a partition at most
	if n := asked.Load(); read != 2*each || n < fewest || n > 2*fewest+2 {
		t.Errorf("%d events were read in %d fetches of a partition; %d are enough", read, n, fewest)
	}
}
