package kafka

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

// Writer sends raw events to topics, for feeders and tools; jobs use [Sink]. Safe for concurrent use.
type Writer struct {
	c      Connection
	client *kgo.Client
}

// NewWriter reaches a broker and makes the topics that it lacks, with so many partitions.
func NewWriter(ctx context.Context, c Connection, partitions int32, topics ...string) (*Writer, error) {
	client, err := kgo.NewClient(append(c.options(), kgo.ProducerLinger(20*time.Millisecond), kgo.MaxBufferedRecords(100_000))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", c, err)
	}
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	made, err := kadm.NewClient(client).CreateTopics(limited, partitions, 1, nil, topics...)
	if err != nil {
		client.Close()
		return nil, c.unreachable(err)
	}
	for _, m := range made {
		if m.Err != nil && !errors.Is(m.Err, kerr.TopicAlreadyExists) {
			client.Close()
			return nil, fmt.Errorf("%s: make topic %s: %w", c, m.Topic, m.Err)
		}
	}
	return &Writer{c: c, client: client}, nil
}

// Send hands an event over; done, which may be nil, is told how it went. It waits while very many are
// under way. key and value are kept.
func (w *Writer) Send(ctx context.Context, topic string, key, value []byte, stored time.Time, done func(error)) {
	w.client.Produce(ctx, &kgo.Record{Topic: topic, Key: key, Value: value, Timestamp: stored}, func(_ *kgo.Record, err error) {
		if done != nil {
			done(err)
		}
	})
}

// Flush waits until the broker has everything.
func (w *Writer) Flush(ctx context.Context) error {
	if err := w.client.Flush(ctx); err != nil {
		return fmt.Errorf("%s: send: %w", w.c, err)
	}
	return nil
}

func (w *Writer) Close() { w.client.Close() }

// NewWriterTo reaches a broker for sending to a topic that is there; one that is not is an error that
// wraps [connect.ErrNoStream].
func NewWriterTo(ctx context.Context, c Connection, topic string) (*Writer, error) {
	client, err := kgo.NewClient(append(c.options(), kgo.ProducerLinger(20*time.Millisecond), kgo.MaxBufferedRecords(100_000), kgo.RecordDeliveryTimeout(30*time.Second))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", c, err)
	}
	defer endsWith(ctx, client)()
	if _, err := c.topic(ctx, kadm.NewClient(client), topic); err != nil {
		client.Close()
		return nil, err
	}
	return &Writer{c: c, client: client}, nil
}
