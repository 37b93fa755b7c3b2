package kafka

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
)

// Topic is what a broker tells of a topic.
type Topic struct {
	Name       string
	Partitions int
	Events     int64         // that it keeps, by offsets: markers of transactions count
	Bytes      int64         // of one copy; -1 where the broker does not say
	Retention  time.Duration // 0: for ever, or until the size is reached; -1 where the broker does not say
	Compacted  bool
	Newest     time.Time // the stored time of the newest event; zero for none, or where the broker does not say
}

// Looker asks a broker what it has. It writes nothing and joins no group. Close ends it. Safe for
// concurrent use.
type Looker struct {
	c      Connection
	client *kgo.Client
	admin  *kadm.Client
}

// Look makes a looker; the broker is reached by its methods.
func Look(c Connection) (*Looker, error) {
	client, err := kgo.NewClient(append(c.options(), kgo.RequestRetries(2))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", c, err)
	}
	return &Looker{c, client, kadm.NewClient(client)}, nil
}

func (l *Looker) Close() { l.client.Close() }

// Topics lists the topics by name, but for the broker's own.
func (l *Looker) Topics(ctx context.Context) ([]Topic, error) {
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
	var out []Topic
	for _, d := range all.Sorted() {
		if d.IsInternal {
			continue
		}
		t := Topic{Name: d.Topic, Partitions: len(d.Partitions), Bytes: -1, Retention: -1}
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
				t.settings(c)
			}
		}
		out = append(out, t)
	}
	return out, nil
}

func (t *Topic) settings(c kadm.ResourceConfig) {
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

// Create makes a topic with so many partitions, 0 for as many as the broker holds right; one that is there
// already is an error that wraps [ErrTopicExists].
func (l *Looker) Create(ctx context.Context, topic string, partitions int32) error {
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	partitions = cmp.Or(partitions, -1) // as the protocol says it
	made, err := l.admin.CreateTopic(limited, partitions, -1, nil, topic)
	if err == nil {
		err = made.Err
	}
	if errors.Is(err, kerr.InvalidReplicationFactor) || errors.Is(err, kerr.UnsupportedVersion) { // a broker that has no default
		made, err = l.admin.CreateTopic(limited, partitions, 1, nil, topic)
		if err == nil {
			err = made.Err
		}
	}
	switch {
	case err == nil:
		return nil
	case errors.Is(err, kerr.TopicAlreadyExists):
		return fmt.Errorf("%s: topic %s %w", l.c, topic, ErrTopicExists)
	case codeOf(err) != 0 && l.c.denied(err) == nil:
		return fmt.Errorf("%s: make topic %s: %w", l.c, topic, err)
	}
	return l.c.unreachable(err)
}

// ErrTopicExists is wrapped where a topic is to be made that is there.
var ErrTopicExists = errors.New("is there already")

// Check is one step of trying a connection.
type Check struct {
	Name string // reached, signed in, topic seen, may read, may write
	// State is yes, no, or not asked: a step before it failed, or no topic was named.
	State string
	Text  string // what was found; what to do where it is no
}

// Try tries the connection step by step, and a topic where one is named. It reads and writes no event:
// rights are what the broker says they are.
func (l *Looker) Try(ctx context.Context, topic string) []Check {
	out := []Check{{Name: "reached"}, {Name: "signed in"}, {Name: "topic seen"}, {Name: "may read"}, {Name: "may write"}}
	for i := range out {
		out[i].State = "not asked"
	}
	set := func(i int, ok bool, format string, args ...any) {
		out[i].State, out[i].Text = "no", fmt.Sprintf(format, args...)
		if ok {
			out[i].State = "yes"
		}
	}
	limited, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	var why error
	began := time.Now()
	for _, address := range l.c.Brokers {
		d := net.Dialer{Timeout: 3 * time.Second}
		conn, err := d.DialContext(limited, "tcp", address)
		if err != nil {
			why = err
			continue
		}
		defer conn.Close()
		why = nil
		set(0, true, "%s answers in %s", address, max(time.Millisecond, time.Since(began).Round(time.Millisecond)))
		if l.c.TLS != nil {
			if err := l.c.shake(limited, conn, address); err != nil {
				set(1, false, "%v", err)
				return out
			}
		}
		break
	}
	if why != nil {
		set(0, false, "%v", l.c.unreachable(why))
		return out
	}
	all, err := l.admin.ListTopics(limited)
	switch {
	case err != nil:
		set(1, false, "%v", l.c.unreachable(err))
		return out
	case l.c.SASL != nil && l.c.TLS != nil:
		set(1, true, "over TLS, by %s", l.c.SASL.Name())
	case l.c.SASL != nil:
		set(1, true, "by %s, in the clear", l.c.SASL.Name())
	case l.c.TLS != nil:
		set(1, true, "over TLS, without a name")
	default:
		set(1, true, "nobody has to, and it is in the clear")
	}
	if topic == "" {
		out[2].Text = fmt.Sprintf("name one of %d topics to ask for its rights", len(all.Names()))
		return out
	}
	d, ok := all[topic]
	if !ok || d.Err != nil {
		if ok {
			set(2, false, "topic %s: %v", topic, d.Err)
		} else {
			set(2, false, "there is no topic %s, or this user may not see it; %s", topic, others(all, topic))
		}
		return out
	}
	set(2, true, "%s has %d partitions", topic, len(d.Partitions))
	got, err := l.Peek(limited, PeekConfig{Topic: topic, Limit: 1, Wait: time.Second})
	set(3, err == nil, "%s", textOr(err, "its newest event was read"))
	if err == nil && len(got.Records) == 0 {
		out[3].Text = "it has no event to read yet"
	}
	rights, err := l.admin.Metadata(kadm.WithAuthorizedOps(limited), topic)
	ops := rights.Topics[topic].AuthorizedOperations
	may := func(op kadm.ACLOperation) bool { return slices.Contains(ops, op) || slices.Contains(ops, kadm.OpAll) }
	if err == nil && len(ops) > 0 && out[3].State == "yes" && !may(kadm.OpRead) {
		set(3, false, "the broker says that this user may not read %s; ask for the right", topic)
	}
	switch {
	case err != nil:
		set(4, false, "%v", l.c.unreachable(err))
	case len(ops) == 0:
		out[4].Text = "the broker does not say; a job that writes finds out when it starts"
	case may(kadm.OpWrite):
		set(4, true, "the broker says so")
	default:
		set(4, false, "the broker says that this user may not write to %s; ask for the right, where a job is to write there", topic)
	}
	return out
}

// shake tries TLS on a connection of its own, whose faults say more than those of requests.
func (c Connection) shake(ctx context.Context, conn net.Conn, address string) error {
	config := c.TLS.Clone()
	if config.ServerName == "" {
		config.ServerName, _, _ = net.SplitHostPort(address)
	}
	limited, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	err := tls.Client(conn, config).HandshakeContext(limited)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s does not answer to TLS; perhaps it speaks none here: leave tls out, or take the port that does", c)
	}
	if err != nil {
		return c.unreachable(err)
	}
	return nil
}

func textOr(err error, good string) string {
	if err != nil {
		return err.Error()
	}
	return good
}

// From says which events are peeked at.
type From uint8

const (
	Newest From = iota
	Oldest
	Since // from a stored time on
)

// PeekConfig says what is peeked at.
type PeekConfig struct {
	Topic string
	From  From
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

// Record is an event as a broker keeps it.
type Record struct {
	Partition int32
	Offset    int64
	Key       []byte // nil for none
	Value     []byte
	Stored    time.Time
	Headers   []Header
}

// Header is a header of a record.
type Header struct{ Name, Value string }

func recordsOf(list []*kgo.Record) []Record {
	out := make([]Record, len(list))
	for i, r := range list {
		out[i] = Record{Partition: r.Partition, Offset: r.Offset, Key: r.Key, Value: r.Value, Stored: r.Timestamp.UTC()}
		for _, h := range r.Headers {
			out[i].Headers = append(out[i].Headers, Header{h.Key, string(h.Value)})
		}
	}
	return out
}

// Peeked is what was found. Events are in the order in which they were stored, those of a partition in
// the order of their offsets.
type Peeked struct {
	Records []Record
	Spans   []Span // by partition
}

// Peek reads some events, without a group and without a trace at the broker.
func (l *Looker) Peek(ctx context.Context, c PeekConfig) (Peeked, error) {
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
	if c.From == Since {
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
		case Newest:
			from = max(from, to-int64(c.Limit))
		case Since:
			if at, ok := since.Lookup(c.Topic, p.Partition); ok && at.Err == nil && at.Offset >= 0 {
				from = max(from, at.Offset)
			}
		}
		if c.From != Newest {
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
	if n := len(found); n > c.Limit && c.From == Newest {
		found = found[n-c.Limit:]
	} else if n > c.Limit {
		found = found[:c.Limit]
	}
	out.Records = recordsOf(found)
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
func (l *Looker) Follow(ctx context.Context, topic string, next func([]Record) error) error {
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
		if err := next(recordsOf(fetches.Records())); err != nil {
			return err
		}
	}
}
