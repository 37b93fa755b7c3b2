package run

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"undertide/connect/kafka"
	"undertide/look"
)

// quietAfter is after how long without an event a follower is told so.
const quietAfter = 3 * time.Second

// Quiet says, once, that nothing new comes while a topic is followed, and where its events are.
type Quiet struct {
	Connection kafka.Connection
	Topic      string
	Since      time.Time // when following began, or the last event came

	told bool
}

// Note is called with the number of events that came; it gives what people should know, or nothing.
func (q *Quiet) Note(ctx context.Context, came int) string {
	if came > 0 {
		q.Since, q.told = time.Now(), false
		return ""
	}
	if q.told || time.Since(q.Since) < quietAfter {
		return ""
	}
	q.told = true
	text := fmt.Sprintf("nothing new for %d s", int(time.Since(q.Since).Seconds()))
	edge := func(from kafka.From) (string, bool) {
		s, err := SampleTopic(ctx, q.Connection, kafka.PeekConfig{Topic: q.Topic, From: from, Limit: 1, Wait: time.Second})
		if err != nil || len(s.Events) == 0 {
			return "", false
		}
		return s.Events[0].Stored.Format(time.RFC3339), true
	}
	oldest, some := edge(kafka.Oldest)
	if !some {
		return text + ": the topic is empty"
	}
	newest, _ := edge(kafka.Newest)
	return text + fmt.Sprintf("; the oldest are from %s, the newest from %s: look at them with --oldest or --newest", oldest, newest)
}

// FieldsOf gives a row's fields with their values as text, in order.
func FieldsOf(row json.RawMessage) []look.Header {
	out := []look.Header{}
	d := json.NewDecoder(bytes.NewReader(row))
	if _, err := d.Token(); err != nil {
		return out
	}
	for d.More() {
		k, err := d.Token()
		var v json.RawMessage
		if err != nil || d.Decode(&v) != nil {
			return out
		}
		text := string(v)
		var s string
		if json.Unmarshal(v, &s) == nil {
			text = s
		}
		if string(v) == "null" {
			text = "null"
		}
		out = append(out, look.Header{Name: fmt.Sprint(k), Value: text})
	}
	return out
}

// Sender sends events to one topic that is there. One goroutine at a time.
type Sender struct {
	w     *kafka.Writer
	topic string
	fault chan error
}

// NewSender reaches the broker and makes sure that it has the topic.
func NewSender(ctx context.Context, c kafka.Connection, topic string) (*Sender, error) {
	w, err := kafka.NewWriterTo(ctx, c, topic)
	if err != nil {
		return nil, err
	}
	return &Sender{w, topic, make(chan error, 1)}, nil
}

// Send hands an event over; an earlier one's fault is returned.
func (s *Sender) Send(ctx context.Context, key, text []byte) error {
	s.w.Send(ctx, s.topic, key, text, time.Now(), func(err error) {
		if err != nil {
			select {
			case s.fault <- err:
			default:
			}
		}
	})
	select {
	case err := <-s.fault:
		return fmt.Errorf("send to topic %s: %w", s.topic, err)
	default:
		return nil
	}
}

// Flush waits until the broker has everything.
func (s *Sender) Flush(ctx context.Context) error {
	if err := s.w.Flush(ctx); err != nil {
		return err
	}
	select {
	case err := <-s.fault:
		return fmt.Errorf("send to topic %s: %w", s.topic, err)
	default:
		return nil
	}
}

// Close ends it.
func (s *Sender) Close() { s.w.Close() }
