package main

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-faster/jx"
	"github.com/jackc/pgx/v5"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/bench/floor"
	"undertide/job"
	"undertide/postgres"
	"undertide/run"
)

// delivery measures sinks: a topic exactly once beside at least once, a table beside a hand-written COPY of the same rows,
// and how long after the event that closes a window its row is in the topic.

const deliveryRows = 4_000_000

const deliveryHead = head + `settings: {delivery: %s, checkpoint: {every: 1s}}
connections:
  harbour: {via: kafka, brokers: ["127.0.0.1:1"]}
  office: {via: postgres, host: /nowhere, user: nobody}
sinks:
  out: {from: readings, %s}
`

// place is where the cases write to.
type place struct {
	broker string
	store  *postgres.Server
	dir    string
	n      int
}

// open starts the stand-in, as a process of its own, and PostgreSQL.
func openPlace(ctx context.Context, dir string) (*place, func(), error) {
	p := &place{}
	var err error
	if p.dir, err = os.MkdirTemp("", "undertide-bench-"); err != nil {
		return nil, nil, err
	}
	if err := os.Chmod(p.dir, 0o755); err != nil {
		return nil, nil, err
	}
	binary := filepath.Join(filepath.Dir(os.Args[0]), "undertide")
	c := exec.Command(binary, "broker", "--listen", "127.0.0.1:0", "--data", filepath.Join(p.dir, "broker"))
	said, err := c.StderrPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := c.Start(); err != nil {
		return nil, nil, fmt.Errorf("start %s: %w; make build first", binary, err)
	}
	buf := make([]byte, 1000)
	n, err := said.Read(buf)
	_, rest, ok := strings.Cut(string(buf[:n]), "listens on ")
	if err != nil || !ok {
		return nil, nil, fmt.Errorf("the broker says %q: %w", buf[:n], err)
	}
	p.broker, _, _ = strings.Cut(rest, ";")
	go io.Copy(io.Discard, said) //nolint:errcheck // until it ends
	if p.store, err = postgres.Start(ctx, filepath.Join(p.dir, "postgres"), "", slog.New(slog.NewTextHandler(io.Discard, nil))); err != nil {
		return nil, nil, err
	}
	return p, func() {
		p.store.Stop()
		_ = c.Process.Kill()
		_ = c.Wait()
		_ = os.RemoveAll(p.dir)
	}, nil
}

// job reads a document with the connections of the place.
func (p *place) job(input, delivery, sink string) (*job.Job, error) {
	text := fmt.Sprintf(deliveryHead, input, delivery, sink)
	text = strings.Replace(text, "127.0.0.1:1", p.broker, 1)
	u, err := url.Parse(p.store.URL())
	if err != nil {
		return nil, err
	}
	password, _ := u.User.Password()
	text = strings.Replace(text, "host: /nowhere, user: nobody", fmt.Sprintf("host: %s, user: tide, database: postgres, password: \"${env.BENCH}\"", u.Query().Get("host")), 1)
	return job.Parse("bench.yaml", text, job.Options{Env: func(string) (string, bool) { return password, true }})
}

// engine runs the job over the input, and gives how long it took until all was delivered.
func (p *place) engine(input, delivery, sink string) (time.Duration, error) {
	p.n++
	sink = strings.ReplaceAll(sink, "NAME", fmt.Sprintf("t%d", p.n))
	j, err := p.job(input, delivery, sink)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	err = toEnd(j, run.Options{Checkpoints: filepath.Join(p.dir, fmt.Sprintf("state%d", p.n))})
	return time.Since(began), err
}

// copyByHand decodes the input and copies its rows into a table, as one would by hand.
func (p *place) copyByHand(input string) (time.Duration, error) {
	p.n++
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, p.store.URL())
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("t%d", p.n)
	if _, err := conn.Exec(ctx, "CREATE TABLE "+name+" (gauge text, level_m double precision, battery_v double precision, seq bigint, read_at timestamptz)"); err != nil {
		return 0, err
	}
	began := time.Now()
	f, err := os.Open(input)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	var d jx.Decoder
	var e floor.Event
	var key []byte
	_, err = conn.CopyFrom(ctx, pgx.Identifier{name}, []string{"gauge", "level_m", "battery_v", "seq", "read_at"}, pgx.CopyFromFunc(func() ([]any, error) {
		if !lines.Scan() {
			return nil, lines.Err()
		}
		if err := floor.Decode(&d, lines.Bytes(), &e, &key); err != nil {
			return nil, err
		}
		return []any{string(key), e.Level, e.Battery, e.Seq, time.UnixMilli(e.ReadAt)}, nil
	}))
	return time.Since(began), err
}

// deliveryTable prints the ratios and the delays.
func deliveryTable(dir, only string, rounds int) error {
	w := &workload{rows: deliveryRows, keys: 300, span: 24 * time.Hour}
	input, err := w.input(dir)
	if err != nil {
		return err
	}
	p, done, err := openPlace(context.Background(), dir)
	if err != nil {
		return err
	}
	defer done()
	var through *topics
	fromTopic := func(f func(*topics) (time.Duration, error)) func() (time.Duration, error) {
		return func() (took time.Duration, err error) {
			if through == nil {
				if through, err = p.fill(input); err != nil {
					return 0, err
				}
			}
			return f(through)
		}
	}
	topic := "via: kafka, with: {connection: harbour, topic: NAME, create: true, partitions: 2}, key: [gauge]"
	table := "via: postgres, with: {connection: office, table: NAME, create: true}"
	fmt.Println("\n| sink | rows/s | beside | rows/s | ratio (median, range) |\n|---|---|---|---|---|")
	for _, c := range []struct {
		name, beside string
		a, b         func() (time.Duration, error)
	}{
		{"topic, exactly once", "at least once", func() (time.Duration, error) { return p.engine(input, "exactly_once", topic) }, func() (time.Duration, error) { return p.engine(input, "at_least_once", topic) }},
		{"table, exactly once", "a hand-written COPY", func() (time.Duration, error) { return p.engine(input, "exactly_once", table) }, func() (time.Duration, error) { return p.copyByHand(input) }},
		{"topic to topic, at least once", "a loop with the same client", fromTopic((*topics).byEngine), fromTopic((*topics).byHand)},
		{"table, at least once", "a hand-written COPY", func() (time.Duration, error) { return p.engine(input, "at_least_once", table) }, func() (time.Duration, error) { return p.copyByHand(input) }},
	} {
		if !strings.Contains(c.name, only) {
			continue
		}
		var ratios, as, bs []float64
		for range rounds {
			a, err := c.a()
			if err != nil {
				return fmt.Errorf("%s: %w", c.name, err)
			}
			b, err := c.b()
			if err != nil {
				return fmt.Errorf("%s: %w", c.beside, err)
			}
			ratios, as, bs = append(ratios, b.Seconds()/a.Seconds()), append(as, deliveryRows/a.Seconds()), append(bs, deliveryRows/b.Seconds())
		}
		slices.Sort(ratios)
		slices.Sort(as)
		slices.Sort(bs)
		fmt.Printf("| %s | %.0f | %s | %.0f | %.2f (%.2f to %.2f) |\n", c.name, as[len(as)/2], c.beside, bs[len(bs)/2], ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1])
	}
	if only != "" {
		return nil
	}
	return p.delays()
}

// delays measures how long after a window's end its row is in the topic, as a reader sees it: events of the clock come at
// 20,000 a second, so the one that closes a window comes at its end; windows have a second, and the margin is nothing.
func (p *place) delays() error {
	const perSecond, seconds, gauges = 20_000, 40, 50
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	writer, err := kgo.NewClient(kgo.SeedBrokers(p.broker), kgo.DefaultProduceTopic("delay.in"), kgo.AllowAutoTopicCreation(), kgo.RecordPartitioner(kgo.ManualPartitioner()), kgo.ProducerLinger(0))
	if err != nil {
		return err
	}
	defer writer.Close()
	if err := writer.ProduceSync(ctx, &kgo.Record{Value: []byte(`{"gauge":"G0","at":1}`)}).FirstErr(); err != nil {
		return err
	}
	j, err := job.Parse("bench.yaml", fmt.Sprintf(`undertide: 1
job: delay
settings: {delivery: at_least_once, checkpoint: {every: 10s}}
connections: {harbour: {via: kafka, brokers: [%q]}}
sources:
  events: {via: kafka, with: {connection: harbour, topic: delay.in}, begin: latest, fields: {gauge: string, at: {type: timestamp, parse: epoch_us}}, event_time: at, watermark: {margin: 0s, idle: 100ms}}
steps:
  second: {from: events, key: [gauge], window: {tumbling: 1s}, measures: {n: count()}}
sinks:
  out: {from: second, via: kafka, with: {connection: harbour, topic: delay.out, create: true, partitions: 1}}
`, p.broker), job.Options{})
	if err != nil {
		return err
	}
	ended, opened := make(chan error, 1), make(chan struct{})
	go func() {
		_, err := run.Run(ctx, j, run.Options{Checkpoints: filepath.Join(p.dir, "delay"), Opened: func() { close(opened) }})
		ended <- err
	}()
	select {
	case <-opened:
	case err := <-ended:
		return err
	}
	reader, err := kgo.NewClient(kgo.SeedBrokers(p.broker), kgo.ConsumeTopics("delay.out"), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()), kgo.FetchMaxWait(time.Second))
	if err != nil {
		return err
	}
	defer reader.Close()
	go func() {
		tick := time.NewTicker(time.Millisecond)
		defer tick.Stop()
		began, n := time.Now(), 0
		for ctx.Err() == nil {
			<-tick.C
			now := time.Now()
			for due := int(now.Sub(began).Seconds() * perSecond); n < due; n++ {
				writer.Produce(ctx, &kgo.Record{Value: fmt.Appendf(nil, `{"gauge":"G%d","at":%d}`, n%gauges, now.UnixMicro())}, nil)
			}
		}
	}()
	var delays []float64 // milliseconds
	for until := time.Now().Add(seconds * time.Second); time.Now().Before(until); {
		waiting, enough := context.WithDeadline(ctx, until)
		got := reader.PollFetches(waiting)
		enough()
		now := time.Now()
		got.EachRecord(func(r *kgo.Record) {
			_, rest, _ := bytes.Cut(r.Value, []byte(`"window_end":"`))
			if end, err := time.Parse(time.RFC3339, string(rest[:bytes.IndexByte(rest, '"')])); err == nil {
				delays = append(delays, float64(now.Sub(end).Microseconds())/1000)
			}
		})
	}
	cancel()
	if err := <-ended; err != nil {
		return err
	}
	if len(delays) < 10*gauges {
		return fmt.Errorf("only %d rows came", len(delays))
	}
	delays = delays[2*gauges:] // while everything begins
	slices.Sort(delays)
	at := func(q float64) float64 { return delays[int(q*float64(len(delays)-1))] }
	fmt.Printf("\nDelay from a window's end to its row in the topic, %d rows: p50 %.1f ms, p90 %.1f ms, p99 %.1f ms, most %.1f ms.\n", len(delays), at(0.5), at(0.9), at(0.99), at(1))
	return os.WriteFile("docs/pictures/delay.svg", curve(delays), 0o644)
}

// curve draws which share of the rows came within how long.
func curve(sorted []float64) []byte {
	const width, height, left, top, bottom = 720, 320, 56, 16, 44
	most := math.Ceil(sorted[len(sorted)-1]/10) * 10
	x := func(ms float64) float64 { return left + (width-left-16)*ms/most }
	y := func(share float64) float64 { return top + (height-top-bottom)*(1-share) }
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="12" fill="#1d2a2d"><rect width="%[1]d" height="%[2]d" fill="#fffdf6"/>`, width, height)
	for _, share := range []float64{0, 0.25, 0.5, 0.75, 1} {
		fmt.Fprintf(&b, `<path d="M%d %.1fH%d" stroke="#d9d2bf"/><text x="%d" y="%.1f" text-anchor="end">%.0f %%</text>`, left, y(share), width-16, left-6, y(share)+4, share*100)
	}
	step := most / 10
	for ms := 0.0; ms <= most+step/2; ms += step {
		fmt.Fprintf(&b, `<text x="%.1f" y="%d" text-anchor="middle">%s</text>`, x(ms), height-bottom+18, strconv.FormatFloat(ms, 'f', -1, 64))
	}
	fmt.Fprintf(&b, `<text x="%d" y="%d" text-anchor="middle">milliseconds from a window's end to its row in the topic</text>`, (left+width)/2, height-8)
	b.WriteString(`<path fill="none" stroke="#1f6f62" stroke-width="2" d="`)
	for i := range 501 {
		share := float64(i) / 500
		op := "L"
		if i == 0 {
			op = "M"
		}
		fmt.Fprintf(&b, "%s%.1f %.1f", op, x(sorted[int(share*float64(len(sorted)-1))]), y(share))
	}
	b.WriteString(`"/>`)
	for _, q := range []float64{0.5, 0.99} {
		ms := sorted[int(q*float64(len(sorted)-1))]
		fmt.Fprintf(&b, `<circle cx="%.1f" cy="%.1f" r="4" fill="#1f6f62"/><text x="%.1f" y="%.1f">p%.0f: %.1f ms</text>`, x(ms), y(q), x(ms)+9, y(q)+14, q*100, ms)
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}
