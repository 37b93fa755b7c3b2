package kafka

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"

	"undertide/connect"
)

// Streams lists the topics by name, but for the broker's own.
func (l *Looker) Streams(ctx context.Context) ([]connect.Stream, error) {
	defer endsWith(ctx, l.client)()
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	all, err := l.admin.ListTopics(limited)
	if err != nil {
		return nil, l.c.unreachable(err)
	}
	names := all.Names()
	if len(names) == 0 {
		return nil, nil
	}
	starts, err := l.admin.ListStartOffsets(limited, names...)
	if err != nil {
		return nil, l.c.unreachable(err)
	}
	ends, err := l.admin.ListEndOffsets(limited, names...)
	if err != nil {
		return nil, l.c.unreachable(err)
	}
	// What follows is asked of brokers that may not answer it: what is missing is shown as missing.
	newest, _ := l.admin.ListMaxTimestampOffsets(limited, names...)
	dirs, dirsErr := l.admin.DescribeAllLogDirs(limited, nil)
	configs, _ := l.admin.DescribeTopicConfigs(limited, names...)
	size := map[string]int64{}
	dirs.Each(func(d kadm.DescribedLogDir) {
		d.Topics.Each(func(p kadm.DescribedLogDirPartition) { size[p.Topic] += p.Size })
	})
	var out []connect.Stream
	for _, d := range all.Sorted() {
		if d.IsInternal {
			continue
		}
		t := connect.Stream{Name: d.Topic, Partitions: len(d.Partitions), Bytes: -1, Retention: -1}
		copies := 1
		for _, p := range d.Partitions {
			copies = max(copies, len(p.Replicas))
			s, ok := starts.Lookup(d.Topic, p.Partition)
			e, ok2 := ends.Lookup(d.Topic, p.Partition)
			if ok && ok2 && s.Err == nil && e.Err == nil {
				t.Events += e.Offset - s.Offset
			}
			if n, ok := newest.Lookup(d.Topic, p.Partition); ok && n.Err == nil && n.Timestamp > 0 {
				if at := time.UnixMilli(n.Timestamp).UTC(); at.After(t.Newest) {
					t.Newest = at
				}
			}
		}
		if n, ok := size[d.Topic]; ok && dirsErr == nil {
			t.Bytes = n / int64(copies)
		}
		for _, c := range configs {
			if c.Name == d.Topic && c.Err == nil {
				settingsOf(&t, c)
			}
		}
		out = append(out, t)
	}
	return out, nil
}

func settingsOf(t *connect.Stream, c kadm.ResourceConfig) {
	for _, kv := range c.Configs {
		switch kv.Key {
		case "retention.ms":
			if ms, err := strconv.ParseInt(kv.MaybeValue(), 10, 64); err == nil {
				t.Retention = max(0, time.Duration(min(ms, 1<<43))*time.Millisecond)
			}
		case "cleanup.policy":
			t.Compacted = kv.MaybeValue() == "compact" || kv.MaybeValue() == "compact,delete" || kv.MaybeValue() == "delete,compact"
		}
	}
}

// Make makes a topic with so many partitions, 0 for as many as the broker holds right; one that is there
// already is an error that wraps [connect.ErrStreamExists].
func (l *Looker) Make(ctx context.Context, topic string, partitions int32) error {
	return l.make(ctx, topic, partitions, nil)
}

// make is Make, with settings of the topic beside the broker's own.
func (l *Looker) make(ctx context.Context, topic string, partitions int32, settings map[string]string) error {
	configs := map[string]*string{}
	for name, value := range settings {
		configs[name] = &value
	}
	defer endsWith(ctx, l.client)()
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	partitions = cmp.Or(partitions, -1) // as the protocol says it
	made, err := l.admin.CreateTopic(limited, partitions, -1, configs, topic)
	if err == nil {
		err = made.Err
	}
	if errors.Is(err, kerr.InvalidReplicationFactor) || errors.Is(err, kerr.UnsupportedVersion) { // a broker that has no default
		made, err = l.admin.CreateTopic(limited, partitions, 1, configs, topic)
		if err == nil {
			err = made.Err
		}
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, kerr.TopicAlreadyExists):
		return fmt.Errorf("%s: topic %s %w", l.c, topic, connect.ErrStreamExists)
	case codeOf(err) != 0 && l.c.denied(err) == nil:
		return fmt.Errorf("%s: make topic %s: %w", l.c, topic, err)
	}
	return l.c.unreachable(err)
}
