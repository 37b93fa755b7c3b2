package kafka

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
)

// PeekConfig says what is peeked at.
type PeekConfig struct {
	Topic string
	From  connect.From
	At    time.Time // with Since
	Limit int       // of all partitions together; at least 1
	// Partition alone, when not nil.
	Partition *int32
	// Wait bounds how long is waited for events that the broker says it has; default 5 s.
	Wait time.Duration
}

// Span is what a partition holds.
type Span struct {
	Partition  int32
	Start, End int64 // offsets: from, and one beyond the last
}

func eventsOf(list []*kgo.Record) []connect.Event {
	out := make([]connect.Event, len(list))
	for i, r := range list {
		out[i] = connect.Event{Partition: strconv.Itoa(int(r.Partition)), Offset: r.Offset, Key: r.Key, Stored: r.Timestamp.UTC(), Text: r.Value}
		for _, h := range r.Headers {
			out[i].Headers = append(out[i].Headers, connect.Header{Name: h.Key, Value: string(h.Value)})
		}
	}
	return out
}

// Peeked is what was found. Events are in the order in which they were stored, those of a partition in
// the order of their offsets.
type Peeked struct {
	Events []connect.Event
	Spans  []Span // by partition
}

// Peek reads some events, without a group and without a trace at the broker.
func (l *Looker) Peek(ctx context.Context, c PeekConfig) (Peeked, error) {
	defer endsWith(ctx, l.client)()
	var out Peeked
	d, err := l.c.topic(ctx, l.admin, c.Topic)
	if err != nil {
		return out, err
	}
	limited, cancel := context.WithTimeout(ctx, cmp.Or(c.Wait, reachIn)+reachIn)
	defer cancel()
	starts, err := l.admin.ListStartOffsets(limited, c.Topic)
	if err != nil {
		return out, l.c.unreachable(err)
	}
	ends, err := l.admin.ListCommittedOffsets(limited, c.Topic)
	if err != nil {
		return out, l.c.unreachable(err)
	}
	since := kadm.ListedOffsets{}
	if c.From == connect.Since {
		if since, err = l.admin.ListOffsetsAfterMilli(limited, c.At.UnixMilli(), c.Topic); err != nil {
			return out, l.c.unreachable(err)
		}
	}
	begin, until := map[int32]kgo.Offset{}, map[int32]int64{}
	for _, p := range d.Partitions.Sorted() {
		s, ok := starts.Lookup(c.Topic, p.Partition)
		e, ok2 := ends.Lookup(c.Topic, p.Partition)
		if !ok || !ok2 || s.Err != nil || e.Err != nil || c.Partition != nil && *c.Partition != p.Partition {
			if ok && errors.Is(s.Err, kerr.TopicAuthorizationFailed) {
				return out, l.c.unreachable(s.Err)
			}
			continue
		}
		out.Spans = append(out.Spans, Span{p.Partition, s.Offset, e.Offset})
		from, to := s.Offset, e.Offset
		switch c.From {
		case connect.Newest:
			from = max(from, to-int64(c.Limit))
		case connect.Since:
			if at, ok := since.Lookup(c.Topic, p.Partition); ok && at.Err == nil && at.Offset >= 0 {
				from = max(from, at.Offset)
			}
		}
		if c.From != connect.Newest {
			to = min(to, from+int64(c.Limit))
		}
		if from < to {
			begin[p.Partition], until[p.Partition] = kgo.NewOffset().At(from), to
		}
	}
	if c.Partition != nil && len(out.Spans) == 0 {
		return out, fmt.Errorf("%s: topic %s has no partition %d; it has %d, from 0 on", l.c, c.Topic, *c.Partition, len(d.Partitions))
	}
	if len(begin) == 0 {
		return out, nil
	}
	found, err := l.read(limited, c, begin, until)
	if err != nil {
		return out, err
	}
	found = interleaved(found)
	if n := len(found); n > c.Limit && c.From == connect.Newest {
		found = found[n-c.Limit:]
	} else if n > c.Limit {
		found = found[:c.Limit]
	}
	out.Events = eventsOf(found)
	return out, nil
}

// interleaved merges partitions by stored time; within one the offsets decide, whatever their times say.
func interleaved(all []*kgo.Record) []*kgo.Record {
	by := map[int32][]*kgo.Record{}
	for _, r := range all {
		by[r.Partition] = append(by[r.Partition], r)
	}
	for _, list := range by {
		slices.SortFunc(list, func(a, b *kgo.Record) int { return cmp.Compare(a.Offset, b.Offset) })
	}
	out := all[:0:0]
	for len(by) > 0 {
		least := int32(-1)
		for p, list := range by {
			if least < 0 || list[0].Timestamp.Before(by[least][0].Timestamp) || list[0].Timestamp.Equal(by[least][0].Timestamp) && p < least {
				least = p
			}
		}
		out = append(out, by[least][0])
		if by[least] = by[least][1:]; len(by[least]) == 0 {
			delete(by, least)
		}
	}
	return out
}

// read fetches each partition from begin to until; until nothing comes any more where offsets are
// missing at the end, as in compacted topics.
func (l *Looker) read(ctx context.Context, c PeekConfig, begin map[int32]kgo.Offset, until map[int32]int64) ([]*kgo.Record, error) {
	client, err := kgo.NewClient(append(l.c.options(), kgo.RequestRetries(2), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(), kgo.KeepRetryableFetchErrors(),
		kgo.FetchMaxWait(250*time.Millisecond), kgo.ConsumeResetOffset(kgo.NoResetOffset()), kgo.ConsumePartitions(map[string]map[int32]kgo.Offset{c.Topic: begin}))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", l.c, err)
	}
	defer client.Close()
	var out []*kgo.Record
	deadline := time.Now().Add(cmp.Or(c.Wait, reachIn))
	quiet := time.Now()
	for len(until) > 0 && time.Now().Before(deadline) && time.Since(quiet) < 1500*time.Millisecond {
		step, cancel := context.WithTimeout(ctx, 400*time.Millisecond)
		fetches := client.PollFetches(step)
		cancel()
		if ctx.Err() != nil {
			break
		}
		for _, e := range fetches.Errors() {
			switch {
			case errors.Is(e.Err, context.DeadlineExceeded), errors.Is(e.Err, kerr.OffsetOutOfRange):
			case l.c.denied(e.Err) != nil, !kerr.IsRetriable(e.Err):
				return nil, l.c.unreachable(e.Err)
			}
		}
		fetches.EachRecord(func(r *kgo.Record) {
			quiet = time.Now()
			to, open := until[r.Partition]
			if !open {
				return
			}
			if r.Offset < to && !r.Attrs.IsControl() {
				out = append(out, r)
			}
			if r.Offset >= to-1 {
				delete(until, r.Partition)
			}
		})
	}
	if err := ctx.Err(); err != nil && len(out) == 0 {
		return nil, l.c.unreachable(err)
	}
	return out, nil
}

// Follow gives the events that are stored from now on, as they come, until ctx is done. next is called
// with none once a second while there are none.
func (l *Looker) Follow(ctx context.Context, topic string, next func([]connect.Event) error) error {
	if _, err := l.c.topic(ctx, l.admin, topic); err != nil {
		return err
	}
	client, err := kgo.NewClient(append(l.c.options(), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.FetchMaxWait(250*time.Millisecond),
		kgo.ConsumeTopics(topic), kgo.ConsumeResetOffset(kgo.NewOffset().AtEnd()))...)
	if err != nil {
		return fmt.Errorf("connect to %s: %w", l.c, err)
	}
	defer client.Close()
	for {
		step, cancel := context.WithTimeout(ctx, time.Second)
		fetches := client.PollRecords(step, 1000)
		cancel()
		if ctx.Err() != nil {
			return nil
		}
		for _, e := range fetches.Errors() {
			if !errors.Is(e.Err, context.DeadlineExceeded) {
				return l.c.unreachable(e.Err)
			}
		}
		if err := next(eventsOf(fetches.Records())); err != nil {
			return err
		}
	}
}
