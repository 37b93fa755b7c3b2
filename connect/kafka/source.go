package kafka

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
)

// SourceConfig says what is read.
type SourceConfig struct {
	Connection Connection
	Topic      string
	// Group is where positions are committed for other tools to see; nothing is read from it.
	Group string
	// Begin is where partitions are read from that no checkpoint knows: Earliest, Latest or a time.
	Begin   Begin
	BeginAt time.Time
	// Fresh says that the run starts without a checkpoint. Otherwise partitions that the checkpoint does
	// not know were added since, and are read from their earliest event.
	Fresh bool
	// Bounded: partitions end, at the first event stored at UntilAt or later, or where they end when the run first starts.
	// Those that no checkpoint knows (Known) are not read by a run that goes on.
	Bounded bool
	UntilAt time.Time
	Known   []string
	// Only are the partitions that are read; nil for all.
	Only []int32
	// Discard: events that a complete checkpoint has are deleted, in place of commits to Group. The topic is the reader's own.
	Discard bool
	// Buffer bounds the bytes of fetched events that wait, of all partitions together; 0 means the engine's default.
	Buffer int64
}

// atOnce is how many bytes of a partition are fetched at once.
func (c *SourceConfig) atOnce() int32 {
	if c.Only != nil {
		return 2 * largestBlock
	}
	return 4 << 20
}

// Begin is a place in a topic.
type Begin uint8

const (
	Earliest Begin = iota
	Latest
	AtTime
)

const (
	lookEvery = 2 * time.Second // for ends and new partitions
	linger    = 5 * time.Millisecond
	// A queue is full with so many events: with more than one fetch brings of a partition, where there are few of them.
	leastFull  = 4 * row.MaxRows
	mostFull   = 16 * row.MaxRows
	allFull    = 64 * row.MaxRows // of all partitions together, about
	chunkBytes = 8 << 20
)

// Source reads a topic. Its partitions share a client; Close ends it.
type Source struct {
	c      SourceConfig
	client *kgo.Client
	admin  *kadm.Client
	health *health
	ctx    context.Context
	cancel context.CancelFunc
	done   sync.WaitGroup

	mu    sync.Mutex // guards parts and acks
	parts map[int32]*Partition
	acks  map[int32]int64
	// before are, of a reader that discards, those of the checkpoint before: what it has deleted.
	before map[int32]int64
	acked  chan struct{} // one waits where acks has news
	room   chan struct{} // one waits where a partition has taken events out of its queue

	earliest map[int32]int64 // where the partitions began when a run started anew that does not begin there; nil for not known

	retention      atomic.Int64 // of the topic, a time.Duration; 0 for not known, or for ever
	retentionAsked time.Time    // by whoever discovers
}

// begun says where a run that starts anew begins, and what it passes over.
func (s *Source) begun() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var passed, read int64
	var at []string
	for _, n := range slices.Sorted(maps.Keys(s.parts)) {
		p := s.parts[n]
		text := fmt.Sprintf("%d from offset %d", n, p.begin)
		if p.until >= 0 {
			text += fmt.Sprintf(" to %d", p.until)
			read += p.until - p.begin
		}
		at = append(at, text)
		if from, ok := s.earliest[n]; ok && from < p.begin {
			passed += p.begin - from
		}
	}
	if len(at) > 8 {
		at = append(at[:8], "…")
	}
	text := fmt.Sprintf("topic %s is read anew, partition %s", s.c.Topic, strings.Join(at, ", "))
	if s.earliest != nil {
		text += fmt.Sprintf("; %d earlier events are passed over", passed)
	}
	if s.c.Bounded {
		text += fmt.Sprintf("; %d events are in the span", read)
	}
	return text
}

// Open reaches the broker and finds the topic's partitions and where they are to be read from.
func Open(ctx context.Context, c SourceConfig) (*Source, error) {
	s := &Source{c: c, health: &health{what: c.Connection.String()}, parts: map[int32]*Partition{}, acks: map[int32]int64{}, before: map[int32]int64{}, acked: make(chan struct{}, 1), room: make(chan struct{}, 1)}
	client, err := kgo.NewClient(append(c.Connection.options(), kgo.WithHooks(s.health), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(),
		kgo.ConsumeResetOffset(kgo.NoResetOffset()), kgo.FetchMaxWait(time.Second), kgo.FetchMaxBytes(16<<20), kgo.FetchMaxPartitionBytes(c.atOnce()))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", c.Connection, err)
	}
	s.client, s.admin = client, kadm.NewClient(client)
	s.ctx, s.cancel = context.WithCancel(context.WithoutCancel(ctx))
	fresh, err := s.discover(ctx)
	if err != nil {
		client.Close()
		return nil, err
	}
	if len(fresh) == 0 {
		client.Close()
		return nil, fmt.Errorf("%s: topic %s has no partitions", c.Connection, c.Topic)
	}
	s.done.Go(func() { s.guard(s.poll) })
	s.done.Go(func() { s.guard(s.commit) })
	if c.Only != nil { // there will be no others, but the ends of these move
		s.done.Go(func() { s.guard(func() { _ = s.Find(s.ctx, func(engine.Partition) {}) }) })
	}
	return s, nil
}

// guard ends the reading of all partitions where f panics.
func (s *Source) guard(f func()) {
	err := engine.Guard(func() error { f(); return nil })
	if err == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.parts {
		p.mu.Lock()
		p.err = err
		p.mu.Unlock()
		p.wake()
	}
}

// retentionEvery is how often a topic is asked how long it keeps its events.
const retentionEvery = 10 * time.Minute

// askRetention asks the topic how long it keeps its events, now and then; who may not ask does not know.
func (s *Source) askRetention(ctx context.Context, now time.Time) {
	if !s.retentionAsked.IsZero() && now.Sub(s.retentionAsked) < retentionEvery {
		return
	}
	s.retentionAsked = now
	configs, err := s.admin.DescribeTopicConfigs(ctx, s.c.Topic)
	if err != nil {
		return
	}
	for _, c := range configs {
		var t connect.Stream
		if c.Err == nil {
			settingsOf(&t, c)
		}
		if t.Compacted { // what is newest of a key stays
			t.Retention = 0
		}
		s.retention.Store(int64(t.Retention))
	}
}

// discover looks for partitions that are not known yet, and the ends of all.
func (s *Source) discover(ctx context.Context) ([]*Partition, error) {
	d, err := s.c.Connection.topic(ctx, s.admin, s.c.Topic)
	if err != nil {
		return nil, err
	}
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	asked := time.Now()
	ends, err := s.offsets(limited, s.admin.ListCommittedOffsets)
	if err != nil {
		return nil, err
	}
	s.askRetention(limited, asked)
	starts, untils := ends, ends
	s.mu.Lock()
	first := len(s.parts) == 0
	var missing []int32
	for _, p := range d.Partitions {
		if s.parts[p.Partition] == nil && (s.c.Only == nil || slices.Contains(s.c.Only, p.Partition)) {
			missing = append(missing, p.Partition)
		}
	}
	s.mu.Unlock()
	if len(missing) > 0 {
		switch {
		case !first || !s.c.Fresh || s.c.Begin == Earliest:
			starts, err = s.offsets(limited, s.admin.ListStartOffsets)
		case s.c.Begin == AtTime:
			starts, err = s.offsets(limited, func(ctx context.Context, topics ...string) (kadm.ListedOffsets, error) {
				return s.admin.ListOffsetsAfterMilli(ctx, s.c.BeginAt.UnixMilli(), topics...)
			})
		}
		if err != nil {
			return nil, err
		}
	}
	if first && s.c.Bounded && s.c.Fresh && !s.c.UntilAt.IsZero() {
		if s.c.UntilAt.After(asked) {
			return nil, fmt.Errorf("%w: until %s lies ahead: what is stored until then is not known yet; give a time that has passed, or latest", connect.ErrUsage, s.c.UntilAt.UTC().Format(time.RFC3339))
		}
		untils, err = s.offsets(limited, func(ctx context.Context, topics ...string) (kadm.ListedOffsets, error) {
			return s.admin.ListOffsetsAfterMilli(ctx, s.c.UntilAt.UnixMilli(), topics...)
		})
		if err != nil {
			return nil, err
		}
	}
	if first && s.c.Fresh && s.c.Begin != Earliest {
		if earliest, err := s.offsets(limited, s.admin.ListStartOffsets); err == nil {
			s.earliest = earliest
		}
	}
	slices.Sort(missing)
	var fresh []*Partition
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, n := range missing {
		begin, ok := starts[n]
		if !ok {
			continue // it has no leader yet
		}
		if at, ok := ends[n]; ok && begin < 0 {
			begin = at
		}
		until := int64(-1)
		if s.c.Bounded {
			if !s.c.Fresh && !slices.Contains(s.c.Known, strconv.Itoa(int(n))) {
				continue
			}
			if until = untils[n]; until < 0 {
				until = ends[n]
			}
			begin = min(begin, until)
		}
		p := &Partition{s: s, number: n, begin: begin, until: until, more: make(chan struct{}, 1), most: min(mostFull, max(leastFull, allFull/len(d.Partitions))), share: max(1<<20, cmp.Or(s.c.Buffer, engine.DefaultBuffer)/int64(2*len(d.Partitions)))}
		p.next.Store(begin)
		s.parts[n] = p
		fresh = append(fresh, p)
	}
	for n, end := range ends {
		if p := s.parts[n]; p != nil {
			p.ends(end, asked)
		}
	}
	return fresh, nil
}

func (s *Source) offsets(ctx context.Context, list func(context.Context, ...string) (kadm.ListedOffsets, error)) (map[int32]int64, error) {
	l, err := list(ctx, s.c.Topic)
	if err != nil {
		return nil, s.c.Connection.unreachable(err)
	}
	out := map[int32]int64{}
	l.Each(func(o kadm.ListedOffset) {
		if o.Err == nil {
			out[o.Partition] = o.Offset
		}
	})
	return out, nil
}

// Partitions gives those that were found when the source was opened.
func (s *Source) Partitions() []engine.Partition {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]engine.Partition, 0, len(s.parts))
	for _, p := range s.parts {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b engine.Partition) int { return int(a.(*Partition).number - b.(*Partition).number) })
	return out
}

// Find looks for new partitions until ctx is done, and keeps the ends of all up to date.
func (s *Source) Find(ctx context.Context, found func(engine.Partition)) error {
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-t.C:
		}
		fresh, err := s.discover(ctx)
		if err != nil {
			continue // said by health; the next look may fare better
		}
		for _, p := range fresh {
			found(p)
		}
	}
}

// awaitRoom waits while a queue is full, before more is fetched. A partition that has nothing, and whose events may be what all others wait for, is not
// made to wait for them: then the full ones are paused. That has its price, since the library lets go what it has fetched of a partition that is
// paused, and fetches it again later: pausing at each full queue meant fetching most of a topic several times.
func (s *Source) awaitRoom() {
	for s.ctx.Err() == nil {
		var full []*Partition
		hungry := false
		s.mu.Lock()
		for _, p := range s.parts {
			if p.full() {
				full = append(full, p)
			} else {
				hungry = hungry || p.hungry()
			}
		}
		s.mu.Unlock()
		if hungry {
			for _, p := range full {
				p.pause()
			}
			return
		}
		if len(full) == 0 {
			return
		}
		select {
		case <-s.room:
		case <-s.ctx.Done():
		}
	}
}

// hasRoom lets awaitRoom look again.
func (s *Source) hasRoom() {
	select {
	case s.room <- struct{}{}:
	default:
	}
}

// poll hands fetched events to their partitions.
func (s *Source) poll() {
	for {
		s.awaitRoom()
		fetches := s.client.PollRecords(s.ctx, 4*row.MaxRows)
		if s.ctx.Err() != nil || fetches.IsClientClosed() {
			return
		}
		fetches.EachPartition(func(f kgo.FetchTopicPartition) {
			s.mu.Lock()
			p := s.parts[f.Partition]
			s.mu.Unlock()
			if p == nil {
				return
			}
			if f.Err != nil {
				p.fault(f.Err)
			}
			if len(f.Records) > 0 {
				p.put(f.Records)
			}
		})
	}
}

// commit tells the group how far complete checkpoints have come, or deletes what they have. Neither is what a run goes by, so what
// fails is tried again with the next.
func (s *Source) commit() {
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-s.acked:
		}
		s.commitNow(s.ctx)
	}
}

func (s *Source) commitNow(ctx context.Context) {
	s.mu.Lock()
	var offsets kadm.Offsets
	for n, at := range s.acks {
		if s.c.Discard { // what the newest checkpoint took stays: no partition is ever empty, and brokers know where it ends, whatever happens to them
			if was, ok := s.before[n]; ok && was < at {
				offsets.AddOffset(s.c.Topic, n, was, -1)
			}
			s.before[n] = at
			continue
		}
		offsets.AddOffset(s.c.Topic, n, at, -1)
	}
	s.mu.Unlock()
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	switch {
	case len(offsets) == 0:
	case s.c.Discard:
		_, _ = s.admin.DeleteRecords(limited, offsets)
	case s.c.Group != "":
		_, _ = s.admin.CommitOffsets(limited, s.c.Group, offsets)
	}
}

// Close ends reading; the last positions are committed first.
func (s *Source) Close() {
	if s.health.trouble() == "" {
		last, cancel := context.WithTimeout(s.ctx, time.Second)
		s.commitNow(last)
		cancel()
	}
	s.cancel()
	s.client.Close()
	s.done.Wait()
}

// Partition is one partition of a topic.
type Partition struct {
	s      *Source
	number int32
	begin  int64
	until  int64 // the offset that is not read any more; -1 for none

	next atomic.Int64 // the offset after the newest that was fetched
	end  atomic.Int64 // the partition's end when it was asked for

	mu     sync.Mutex // guards all below
	queue  []*kgo.Record
	opened bool // its events are fetched
	awaits bool // somebody waits for them
	most   int  // events with which the queue is full
	// waiting is the bytes in the queue; at share, its part of the buffer, it is full.
	waiting, share int64
	taken          int64 // the offset after the newest that was read
	paused         bool
	// The broker was known to have nothing more from quietFrom to quiet; zero when it had.
	quietFrom, quiet time.Time
	err              error

	more   chan struct{} // one waits where the queue or err has news
	told   bool          // Read has said that it caught up
	closed atomic.Bool
}

type position struct {
	Offset int64  `json:"offset"`
	Until  *int64 `json:"until,omitempty"`
}

func (p *Partition) Name() string { return strconv.Itoa(int(p.number)) }
func (p *Partition) Size() int64  { return 0 }
func (p *Partition) Empty(context.Context) (bool, error) {
	return p.until >= 0 && p.begin >= p.until, nil
}
func (p *Partition) Trouble() string { return p.s.health.trouble() }

func (p *Partition) Start() json.RawMessage { return p.positionOf(p.begin) }

// Retention implements [engine.Retainer].
func (p *Partition) Retention() time.Duration { return time.Duration(p.s.retention.Load()) }

// PassedOver implements [engine.Passer].
func (p *Partition) PassedOver() int64 {
	if from, ok := p.s.earliest[p.number]; ok {
		return max(0, p.begin-from)
	}
	return 0
}

func (p *Partition) positionOf(offset int64) json.RawMessage {
	out := strconv.AppendInt([]byte(`{"offset":`), offset, 10)
	if p.until >= 0 {
		out = strconv.AppendInt(append(out, `,"until":`...), p.until, 10)
	}
	return append(out, '}')
}

func (p *Partition) Open(_ context.Context, at json.RawMessage) error {
	pos := position{Offset: p.begin}
	if at != nil {
		if err := json.Unmarshal(at, &pos); err != nil {
			return fmt.Errorf("read the position of partition %s: %w", p.Name(), err)
		}
	}
	if pos.Until != nil {
		p.until = *pos.Until
	}
	p.taken = pos.Offset
	p.next.Store(pos.Offset)
	if p.until >= 0 && p.taken >= p.until {
		return nil // nothing is left
	}
	p.mu.Lock()
	p.opened = true
	p.mu.Unlock()
	p.s.client.AddConsumePartitions(map[string]map[int32]kgo.Offset{p.s.c.Topic: {p.number: kgo.NewOffset().At(pos.Offset)}})
	return nil
}

// full says whether so much waits in the queue that no more is wanted; not of a partition whose fetches are paused.
func (p *Partition) full() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.paused && (len(p.queue) >= p.most || p.waiting >= p.share)
}

// hungry says whether nothing waits in the queue, though the broker has more.
func (p *Partition) hungry() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.opened || len(p.queue) > 0 {
		return false
	}
	switch {
	case p.until >= 0:
		return p.taken < p.until
	case p.s.c.Only != nil: // whoever reads may wait for this one alone, and what comes is not known before it is fetched
		return p.awaits
	}
	return p.next.Load() < p.end.Load()
}

// pause holds the partition's fetches until much of its queue was taken.
func (p *Partition) pause() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.paused = true
	p.s.client.PauseFetchPartitions(map[string][]int32{p.s.c.Topic: {p.number}})
}

// put takes fetched events.
func (p *Partition) put(list []*kgo.Record) {
	p.mu.Lock()
	p.queue = append(p.queue, list...)
	for _, r := range list {
		p.waiting += int64(len(r.Value) + len(r.Key))
	}
	p.next.Store(list[len(list)-1].Offset + 1)
	p.mu.Unlock()
	p.wake()
}

func (p *Partition) wake() {
	select {
	case p.more <- struct{}{}:
	default:
	}
}

// fault ends reading where events are gone for good; all else is tried again by the library.
func (p *Partition) fault(err error) {
	var loss *kgo.ErrDataLoss
	switch {
	case errors.Is(err, kerr.OffsetOutOfRange), errors.As(err, &loss):
		err = fmt.Errorf("topic %s partition %d of %s no longer has the events from offset %d on: the broker has deleted them; start with --fresh to read what there is, and give the topic a longer retention", p.s.c.Topic, p.number, p.s.c.Connection.Name, p.next.Load())
	case errors.Is(err, kerr.TopicAuthorizationFailed), errors.Is(err, kerr.SaslAuthenticationFailed):
		err = fmt.Errorf("%s does not let this service read topic %s: %w", p.s.c.Connection, p.s.c.Topic, err)
	default:
		p.s.health.fault(err)
		return
	}
	p.mu.Lock()
	p.err = err
	p.mu.Unlock()
	p.wake()
}

// Read takes what was fetched. A partition that ends fills its turns, so that they do not depend on how events arrive.
func (p *Partition) Read(ctx context.Context, c *engine.Chunk) error {
	for {
		if p.until >= 0 && p.taken >= p.until {
			c.Last, c.Position = true, p.positionOf(p.taken)
			return nil
		}
		if err := p.await(ctx); err != nil {
			return err
		}
		full := p.take(c)
		if p.until < 0 || full || c.Last {
			return nil
		}
	}
}

// take moves events from the queue into a chunk; true where it has as many as a turn takes.
func (p *Partition) take(c *engine.Chunk) (full bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	n, size := 0, int(c.Bytes)
	batch, _ := c.Meta.(messages) // the chunk's own: decoding comes after the next Read
	for n < len(p.queue) && len(c.Starts) < row.MaxRows && size < chunkBytes {
		r := p.queue[n]
		if p.until >= 0 && r.Offset >= p.until {
			p.taken, c.Last = p.until, true
			break
		}
		n++
		p.waiting -= int64(len(r.Value) + len(r.Key))
		if r.Attrs.IsControl() {
			continue
		}
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, r.Value...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Offsets = append(c.Offsets, r.Offset)
		size += len(r.Value) + len(r.Key)
		batch = append(batch, r)
	}
	p.took(c, n, size)
	c.Meta, c.Position = batch, p.positionOf(p.taken)
	return len(c.Starts) >= row.MaxRows || size >= chunkBytes
}

// took notes that a chunk has the first n events of the queue. Called with mu held.
func (p *Partition) took(c *engine.Chunk, n, size int) {
	if n > 0 {
		if p.taken = p.queue[n-1].Offset + 1; p.until >= 0 && p.taken >= p.until {
			p.taken, c.Last = p.until, true
		}
		c.Stored = row.TimeOf(p.queue[n-1].Timestamp)
		p.queue = p.queue[n:]
		if len(p.queue) == 0 {
			p.queue = nil
		}
	}
	if p.paused && len(p.queue) < p.most/4 && p.waiting < p.share/2 {
		p.paused = false
		p.s.client.ResumeFetchPartitions(map[string][]int32{p.s.c.Topic: {p.number}})
	}
	p.s.hasRoom()
	c.Bytes = int64(size)
	c.CaughtUp = len(p.queue) == 0 || c.Last
	p.told = c.CaughtUp
}

// await waits for events, or for the moment to say that there are none just now.
func (p *Partition) await(ctx context.Context) error {
	quiet := time.NewTimer(500 * time.Millisecond)
	defer quiet.Stop()
	var late <-chan time.Time
	defer func() {
		p.mu.Lock()
		p.awaits = false
		p.mu.Unlock()
	}()
	for {
		p.mu.Lock()
		n, err, told := len(p.queue), p.err, p.told
		begins := n == 0 && !p.awaits
		p.awaits = n == 0
		p.mu.Unlock()
		if begins && p.s.c.Only != nil {
			p.s.hasRoom() // for it
		}
		switch {
		case err != nil:
			return err
		case p.closed.Load():
			return context.Canceled
		case n >= row.MaxRows:
			return nil
		case n > 0 && late == nil:
			late = time.After(linger)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.more:
		case <-late:
			return nil
		case <-quiet.C:
			if n == 0 && !told {
				return nil
			}
		}
	}
}

func (p *Partition) Close() error {
	p.closed.Store(true)
	p.wake()
	return nil
}

// Quiet says since when and until when the broker was known to have nothing that was not read yet.
func (p *Partition) Quiet() (from, to time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.queue) > 0 {
		return time.Time{}, time.Time{}
	}
	return p.quietFrom, p.quiet
}

// ends notes where the partition ended when it was asked for, at a moment.
func (p *Partition) ends(at int64, asked time.Time) {
	p.end.Store(at)
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.queue) > 0 || p.next.Load() < at {
		p.quietFrom, p.quiet = time.Time{}, time.Time{}
		return
	}
	if asked.Sub(p.quiet) > 3*lookEvery { // it could not be asked for a while
		p.quietFrom = asked
	}
	p.quiet = asked
}

// Lag counts the events behind a position.
func (p *Partition) Lag(at json.RawMessage) (int64, bool) {
	var pos position
	if at == nil || json.Unmarshal(at, &pos) != nil {
		return 0, false
	}
	return max(0, max(p.end.Load(), p.next.Load())-pos.Offset), true
}

// Acknowledge commits a position to the group.
func (p *Partition) Acknowledge(at json.RawMessage) {
	var pos position
	if json.Unmarshal(at, &pos) != nil {
		return
	}
	p.s.mu.Lock()
	p.s.acks[p.number] = pos.Offset
	p.s.mu.Unlock()
	select {
	case p.s.acked <- struct{}{}:
	default:
	}
}

// messages give the meta fields of a chunk's events.
type messages []*kgo.Record

func (b messages) Append(c *row.Column, field string, i int) {
	r := b[i]
	switch field {
	case "meta.key":
		if r.Key == nil {
			c.AppendNull()
		} else {
			c.AppendBytes(r.Key)
		}
		return
	case "meta.stored":
		c.AppendInt(int64(row.TimeOf(r.Timestamp)))
		return
	}
	for _, h := range slices.Backward(r.Headers) { // the last of a name counts
		if "meta.headers."+h.Key == field {
			c.AppendBytes(h.Value)
			return
		}
	}
	c.AppendNull()
}
