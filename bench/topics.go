package main

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"github.com/go-faster/jx"
	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/bench/floor"
	"undertide/job"
	"undertide/run"
)

// topics measures a job from a topic into a topic beside a loop with the same client that decodes, counts and produces: rows of each gauge and minute.
type topics struct {
	*place
	in   string
	rows int64 // that came out, once known
}

const topicPartitions = 2

// fill writes the events into a topic, by gauge, once.
func (p *place) fill(input string) (*topics, error) {
	_, err := p.engine(input, "at_least_once", fmt.Sprintf("via: kafka, with: {connection: harbour, topic: NAME, create: true, partitions: %d}, key: [gauge]", topicPartitions))
	return &topics{place: p, in: fmt.Sprintf("t%d", p.n)}, err
}

// byEngine runs it by the engine, until all is acknowledged.
func (t *topics) byEngine() (time.Duration, error) {
	t.n++
	out := fmt.Sprintf("t%d", t.n)
	j, err := job.Parse("bench.yaml", fmt.Sprintf(`undertide: 1
job: bench
settings: {delivery: at_least_once, checkpoint: {every: 1s}}
connections: {harbour: {via: kafka, brokers: [%q]}}
sources:
  readings:
    via: kafka
    with: {connection: harbour, topic: %s}
    until: latest
    fields: {gauge: string, level_m: double, battery_v: double, seq: int, read_at: timestamp}
    event_time: read_at
    watermark: {margin: 10s, ahead: none}
steps:
  minutes: {from: readings, key: [gauge], window: {tumbling: 1m}, measures: {n: count()}}
sinks:
  out: {from: minutes, via: kafka, with: {connection: harbour, topic: %s, create: true, partitions: %d}, key: [gauge]}
`, t.broker, t.in, out, topicPartitions), job.Options{})
	if err != nil {
		return 0, err
	}
	began := time.Now()
	err = toEnd(j, run.Options{Checkpoints: filepath.Join(t.dir, out)})
	took := time.Since(began)
	return took, errors.Join(err, t.came(out))
}

// byHand does the same in one loop.
func (t *topics) byHand() (time.Duration, error) {
	t.n++
	out := fmt.Sprintf("t%d", t.n)
	ctx := context.Background()
	began := time.Now()
	client, err := kgo.NewClient(kgo.SeedBrokers(t.broker), kgo.ConsumeTopics(t.in), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()), kgo.DefaultProduceTopic(out),
		kgo.FetchMaxBytes(16<<20), kgo.FetchMaxPartitionBytes(4<<20), kgo.ProducerLinger(5*time.Millisecond), kgo.MaxBufferedRecords(50_000))
	if err != nil {
		return 0, err
	}
	defer client.Close()
	if _, err := kadm.NewClient(client).CreateTopics(ctx, topicPartitions, 1, nil, out); err != nil {
		return 0, err
	}
	var wrong error
	m := floor.NewMinutes(topicPartitions, margin, func(key string, start, n int64) {
		b := append(append([]byte(`{"gauge":"`), key...), `","window_start":"`...)
		b = time.UnixMilli(start).UTC().AppendFormat(b, time.RFC3339)
		b = time.UnixMilli(start+60_000).UTC().AppendFormat(append(b, `","window_end":"`...), time.RFC3339)
		b = strconv.AppendInt(append(b, `","n":`...), n, 10)
		client.Produce(ctx, &kgo.Record{Key: []byte(key), Value: append(b, '}')}, func(_ *kgo.Record, err error) {
			if err != nil {
				wrong = err
			}
		})
	})
	d := jx.DecodeBytes(nil)
	var e floor.Event
	var key []byte
	for n := 0; n < deliveryRows; {
		fetches := client.PollFetches(ctx)
		if err := fetches.Err(); err != nil {
			return 0, err
		}
		fetches.EachRecord(func(r *kgo.Record) {
			if err := floor.DecodeTimed(d, r.Value, &e, &key); err != nil {
				wrong = err
			}
			m.Add(int(r.Partition), key, e.ReadAt)
			n++
		})
	}
	m.Finish()
	err = client.Flush(ctx)
	took := time.Since(began)
	return took, errors.Join(err, wrong, t.came(out))
}

// came makes sure that as many rows have come out as there are gauges and minutes: both do the same.
func (t *topics) came(topic string) error {
	client, err := kgo.NewClient(kgo.SeedBrokers(t.broker))
	if err != nil {
		return err
	}
	defer client.Close()
	ends, err := kadm.NewClient(client).ListEndOffsets(context.Background(), topic)
	if err != nil {
		return err
	}
	var rows int64
	ends.Each(func(o kadm.ListedOffset) { rows += o.Offset })
	if t.rows == 0 {
		t.rows = rows
	}
	if rows != t.rows || rows < deliveryRows/10 {
		return fmt.Errorf("%d rows are in topic %s, and %d were in the first", rows, topic, t.rows)
	}
	return nil
}
