package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"sync"
	"time"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/reference"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// References are those of a run: loaded to their end before any source is read, and kept fresh while it goes on. One copy of
// each serves all lanes. Close ends them.
type References struct {
	finders []reference.Finder // by place in the job's list; nil for one that nobody looks up in
	list    []*referred
	say     func(string, ...any)
	stop    context.CancelFunc
	done    sync.WaitGroup
}

// referred is a reference that is read.
type referred struct {
	r        *job.Reference
	j        *job.Job
	table    *reference.Table
	opened   connect.Opened
	messages map[string]string // of a topic: by a message's key, the encoded key of the row that it brought; by one goroutine at a time
	stand    int64             // bytes of messages

	mu        sync.Mutex // guards all below
	read      int64
	rejected  int64 // rows of a topic that could not be taken
	unkeyed   int64 // of those, for a null in their key
	first     string
	failed    int64 // readings that failed
	trouble   string
	positions map[string]json.RawMessage
}

// ReferenceState is what a checkpoint says of a reference: what it held, and of a topic how far it was read.
type ReferenceState struct {
	reference.Version
	Positions map[string]json.RawMessage `json:"positions,omitempty"`
}

// OpenReferences loads what the job's steps look up in. say is told how that goes, a line each.
func OpenReferences(ctx context.Context, j *job.Job, say func(string, ...any)) (_ *References, err error) {
	tables := make([]*reference.Table, len(j.References))
	all := &References{say: say, stop: func() {}}
	defer func() {
		if err != nil {
			all.Close()
		}
	}()
	wanted := j.Referred()
	for i := range j.References {
		r := &j.References[i]
		if !wanted[i] || r.Of != nil {
			continue
		}
		one := &referred{r: r, j: j, messages: map[string]string{}, positions: map[string]json.RawMessage{}}
		all.list = append(all.list, one)
		if err := one.load(ctx, say); err != nil {
			return all, fmt.Errorf("reference %s: %w", r.Name, err)
		}
		tables[i] = one.table
		v := one.table.Version()
		say("reference %s: %d rows, %d KiB, from %s%s", r.Name, v.Rows, (v.Bytes+1023)>>10, r.With.Reads(r.Decode), one.aside())
	}
	all.finders = FindersOf(j, tables)
	return all, nil
}

// FindersOf gives what a job's steps look up in, by place in its list of references, over tables of those that are read; nil
// for one that nobody looks up in.
func FindersOf(j *job.Job, tables []*reference.Table) []reference.Finder {
	out := make([]reference.Finder, len(tables))
	for i, wanted := range j.Referred() {
		switch r := &j.References[i]; {
		case !wanted:
		case r.Of != nil:
			out[i] = &reference.Joined{Base: out[r.Of.From], Of: out[r.Of.In], Match: r.Of.Match, Fields: r.Of.Fields, Drop: r.Of.Drop, All: r.Schema}
		default:
			out[i] = tables[i]
		}
	}
	return out
}

// Finders gives what is looked up in, by place in the job's list.
func (all *References) Finders() []reference.Finder { return all.finders }

// Table gives a reference that is loaded, and the names of its key fields; nil where none has the name, or of nil.
func (all *References) Table(name string) (table *reference.Table, key []string) {
	if all == nil {
		return nil, nil
	}
	for _, one := range all.list {
		if one.r.Name == name {
			return one.table, one.r.KeyNames()
		}
	}
	return nil, nil
}

// Names are those of the references that are loaded; of nil none.
func (all *References) Names() (out []string) {
	if all != nil {
		for _, one := range all.list {
			out = append(out, one.r.Name)
		}
	}
	return out
}

// States tells what each holds just now, by name; nil where there are none.
func (all *References) States() map[string]ReferenceState {
	if len(all.list) == 0 {
		return nil
	}
	out := map[string]ReferenceState{}
	for _, one := range all.list {
		s := ReferenceState{Version: one.table.Version()} // before mu: whoever changes the table takes mu within
		one.mu.Lock()
		s.Positions = maps.Clone(one.positions)
		one.mu.Unlock()
		out[one.r.Name] = s
	}
	return out
}

// note writes States for a checkpoint; nil where there are none.
func (all *References) note() json.RawMessage {
	states := all.States()
	if states == nil {
		return nil
	}
	out, err := json.Marshal(states)
	if err != nil { // texts and numbers
		panic(err)
	}
	return out
}

// compare says which hold something else than they did at a checkpoint, so that rows made again may differ.
func (all *References) compare(note json.RawMessage) {
	before := map[string]ReferenceState{}
	if json.Unmarshal(note, &before) != nil {
		return // of a checkpoint without references
	}
	for _, one := range all.list {
		v := one.table.Version()
		if b, known := before[one.r.Name]; known && b.Digest != v.Digest {
			all.say("reference %s has changed since the checkpoint: %d rows then, %d now; rows that are made again are looked up as it is now", one.r.Name, b.Rows, v.Rows)
		}
	}
}

// Keep keeps them fresh until ctx is done or Close.
func (all *References) Keep(ctx context.Context) {
	ctx, all.stop = context.WithCancel(ctx)
	for _, one := range all.list {
		if one.r.Followed() {
			one.follow(ctx, all)
		} else if one.r.Refresh > 0 {
			all.done.Go(func() { all.guard(one, func() { one.refresh(ctx, all.say) }) })
		}
	}
}

// guard notes a panic as what keeps a reference from being fresh.
func (all *References) guard(one *referred, f func()) {
	if err := engine.Guard(func() error { f(); return nil }); err != nil {
		one.fails(err, all.say)
	}
}

// Close ends what was opened.
func (all *References) Close() {
	all.stop()
	for _, one := range all.list {
		for _, p := range one.opened.Partitions {
			_ = p.Close() // nothing was written
		}
		if one.opened.Close != nil {
			one.opened.Close()
			one.opened.Close = nil
		}
	}
	all.done.Wait()
}

// open connects.
func (one *referred) open(ctx context.Context) (connect.Opened, error) {
	r := one.r
	return r.With.Open(ctx, connect.Opening{Job: one.j.Name, Name: r.Name, Dir: one.j.Dir, Format: r.Decode, Buffer: one.j.Buffer, Fields: r.Fields,
		Stdin: func() (io.Reader, error) { return nil, errors.New("standard input is for sources; give a file") },
		Once:  func(what string) error { return fmt.Errorf("%s is for sources; give a file", what) }})
}

// load reads it whole for the first time.
func (one *referred) load(ctx context.Context, say func(string, ...any)) error {
	began := time.Now()
	opened, err := one.open(ctx)
	if err != nil {
		return err
	}
	one.opened = opened
	rows, err := one.whole(ctx, opened, say)
	if err != nil {
		return err
	}
	one.table = reference.NewTable(rows, began)
	if !one.r.Followed() && opened.Close != nil {
		opened.Close()
		one.opened = connect.Opened{}
	}
	return nil
}

// whole reads all partitions to their end; of a topic to where it ended when that was asked for.
func (one *referred) whole(ctx context.Context, opened connect.Opened, say func(string, ...any)) (*reference.Rows, error) {
	rows := reference.NewRows(one.r.Schema, one.r.Key)
	t := &taking{one: one, rows: rows, decoder: one.r.Decoder(), batch: row.NewBatch(one.r.Schema)}
	progress := loading{said: time.Now(), say: say, name: one.r.Name}
	for _, p := range opened.Partitions {
		progress.total += max(p.Size(), one.behind(p))
	}
	for _, p := range opened.Partitions {
		if err := p.Open(ctx, nil); err != nil {
			return nil, err
		}
		for at := one.start(p); ; {
			if one.r.Followed() && one.caughtUp(p, at) {
				break
			}
			t.chunk.Reset()
			if err := p.Read(ctx, &t.chunk); err != nil {
				return nil, err
			}
			if err := t.take(p.Name()); err != nil {
				return nil, err
			}
			at = t.chunk.Position
			progress.add(&t.chunk, one.r.Followed(), rows.Len())
			if t.chunk.Last {
				break
			}
		}
		if !one.r.Followed() {
			if err := p.Close(); err != nil {
				return nil, err
			}
		}
	}
	return rows, nil
}

func (one *referred) start(p engine.Partition) json.RawMessage {
	if s, ok := p.(engine.Starter); ok {
		return s.Start()
	}
	return nil
}

// behind counts the events of a partition; 0 where that is not known.
func (one *referred) behind(p engine.Partition) int64 {
	if l, ok := p.(engine.Lagger); ok {
		n, _ := l.Lag(one.start(p))
		return n
	}
	return 0
}

func (one *referred) caughtUp(p engine.Partition, at json.RawMessage) bool {
	l, ok := p.(engine.Lagger)
	if !ok {
		return false
	}
	n, known := l.Lag(at)
	return known && n == 0
}

// loading says how far a reading is, where it takes long.
type loading struct {
	name        string
	total, done int64 // bytes, or events
	said        time.Time
	say         func(string, ...any)
}

// loadingEvery is how often.
const loadingEvery = 2 * time.Second

func (l *loading) add(c *engine.Chunk, events bool, rows int) {
	if events {
		l.done += int64(len(c.Starts))
	} else {
		l.done += c.Bytes
	}
	if l.say == nil || time.Since(l.said) < loadingEvery {
		return
	}
	l.said = time.Now()
	if l.total > 0 {
		l.say("loading reference %s: %d %%, %d rows", l.name, min(100, 100*l.done/l.total), rows)
	} else {
		l.say("loading reference %s: %d rows", l.name, rows)
	}
}

// taking turns events into rows of a reference.
type taking struct {
	one     *referred
	rows    *reference.Rows
	chunk   engine.Chunk
	decoder engine.Decoder
	batch   *row.Batch
	rejects []step.Reject
	kept    engine.Chunk // the chunk's events that have a value
	at      []int        // their places in the chunk
	column  *row.Column
}

// take puts the events of the chunk into the rows. Of a file or table each event must be a row of its own; a topic may have
// others, which are counted.
func (t *taking) take(partition string) error {
	topic := t.one.r.Followed() || t.chunk.Meta != nil
	t.values()
	t.batch.Reset()
	t.rejects = t.decoder.Decode(&t.kept, t.batch, t.rejects[:0])
	for i := range t.rejects {
		rej := &t.rejects[i]
		place := t.place(partition, t.at[rej.Index])
		if !topic {
			return fmt.Errorf("%s cannot be read: %s; put it right, or its field under fields", place, rej.Message)
		}
		t.one.reject(false, fmt.Sprintf("%s cannot be read: %s", place, rej.Message))
	}
	next := 0
	for i := range t.chunk.Starts {
		switch {
		case topic && t.chunk.Starts[i] == t.chunk.Ends[i]:
			t.delete(i)
		case next < t.batch.N && t.at[t.batch.Index[next]] == i:
			if err := t.put(next, i, partition, topic); err != nil {
				return err
			}
			next++
		}
	}
	if size := t.rows.Bytes() + t.one.stand; size > t.one.r.Limit {
		return fmt.Errorf("it takes more than its limit of %d KiB after %d rows; raise limit:, or take fewer fields", t.one.r.Limit>>10, t.rows.Len())
	}
	t.one.advance(partition, &t.chunk)
	return nil
}

// values makes kept of the events that have a value: a topic's event without one deletes.
func (t *taking) values() {
	c := &t.chunk
	t.kept = engine.Chunk{Raw: c.Raw, Starts: t.kept.Starts[:0], Ends: t.kept.Ends[:0], Offsets: t.kept.Offsets[:0], Header: c.Header, Text: c.Text, First: c.First}
	t.at = t.at[:0]
	for i := range c.Starts {
		if c.Meta != nil && c.Starts[i] == c.Ends[i] {
			continue
		}
		t.at = append(t.at, i)
		t.kept.Starts, t.kept.Ends, t.kept.Offsets = append(t.kept.Starts, c.Starts[i]), append(t.kept.Ends, c.Ends[i]), append(t.kept.Offsets, c.Offset(i))
	}
}

func (t *taking) place(partition string, i int) string {
	if t.chunk.Meta != nil {
		return fmt.Sprintf("partition %s, offset %d", partition, t.chunk.Offset(i))
	}
	return fmt.Sprintf("row %d of %s", t.chunk.Offset(i)+1, partition)
}

// put takes row n of the batch, which event i of the chunk became.
func (t *taking) put(n, i int, partition string, topic bool) error {
	if name := t.rows.NullKey(t.batch, n); name != "" {
		place := t.place(partition, i)
		if !topic {
			return fmt.Errorf("%s has no %s, which is its key; fill it in, or leave the row out", place, name)
		}
		t.one.reject(true, fmt.Sprintf("%s has no %s, which is its key", place, name))
		return nil
	}
	before, replaced := t.rows.Put(t.batch, n, t.chunk.Offset(i))
	if replaced && !topic {
		return fmt.Errorf("the key of row %d of %s stands in row %d already (%s); keep one of them", t.chunk.Offset(i)+1, partition, before+1, rowKey(t.one.r, t.batch, n))
	}
	if message := t.message(i); message != "" {
		key := string(t.rows.KeyOf(t.batch, n))
		if _, known := t.one.messages[message]; !known {
			t.one.stand += int64(len(message)+len(key)) + 64
		}
		t.one.messages[message] = key
	}
	return nil
}

// message gives the key of an event's message; empty where it has none.
func (t *taking) message(i int) string {
	if t.chunk.Meta == nil {
		return ""
	}
	if t.column == nil {
		t.column = row.NewColumn(row.Bytes)
	}
	t.column.Reset()
	t.chunk.Meta.Append(t.column, "meta.key", i)
	if t.column.IsNull(0) {
		return ""
	}
	return string(t.column.Bytes(0))
}

// delete drops the row that the newest event with the same message key brought.
func (t *taking) delete(i int) {
	message := t.message(i)
	key, known := t.one.messages[message]
	if !known {
		return
	}
	t.rows.Delete([]byte(key))
	delete(t.one.messages, message)
	t.one.stand -= int64(len(message)+len(key)) + 64
}

// rowKey writes the key of a row for people: id B7.
func rowKey(r *job.Reference, b *row.Batch, i int) string {
	var cols []*row.Column
	var names []string
	for _, k := range r.Key {
		cols, names = append(cols, b.Cols[k]), append(names, r.Schema[k].Name)
	}
	return step.KeyText(names, cols, i)
}

// reject notes a row that could not be taken.
func (one *referred) reject(unkeyed bool, why string) {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.rejected++; one.rejected == 1 {
		one.first = why
	}
	if unkeyed {
		one.unkeyed++
	}
}

// aside says how many rows were not taken, and why the first was not; empty for none.
func (one *referred) aside() string {
	one.mu.Lock()
	defer one.mu.Unlock()
	if one.rejected == 0 {
		return ""
	}
	return fmt.Sprintf("; %d were not taken, %d of them for a null in their key; the first: %s", one.rejected, one.unkeyed, one.first)
}

func (one *referred) advance(partition string, c *engine.Chunk) {
	one.mu.Lock()
	defer one.mu.Unlock()
	one.read += int64(len(c.Starts))
	if one.r.Followed() {
		one.positions[partition] = c.Position
	}
}

// fails notes why it is not fresh, and says so where that is news.
func (one *referred) fails(err error, say func(string, ...any)) {
	one.mu.Lock()
	news := one.trouble != err.Error()
	one.trouble = err.Error()
	one.failed++
	one.mu.Unlock()
	if news {
		say("reference %s could not be read anew: %v; its rows of %s stay", one.r.Name, err, one.table.Version().Loaded.UTC().Format(time.RFC3339))
	}
}

// refresh reads it anew from time to time, and puts the new rows in place of the old ones at once.
func (one *referred) refresh(ctx context.Context, say func(string, ...any)) {
	t := time.NewTicker(one.r.Refresh)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		began := time.Now()
		rows, err := one.again(ctx)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			one.fails(err, say)
			continue
		}
		before := one.table.Version()
		one.table.Swap(rows, began)
		one.mu.Lock()
		mended := one.trouble != ""
		one.trouble = ""
		one.mu.Unlock()
		if now := one.table.Version(); now.Digest != before.Digest || mended {
			say("reference %s was read anew: %d rows, %d before", one.r.Name, now.Rows, before.Rows)
		}
	}
}

func (one *referred) again(ctx context.Context) (*reference.Rows, error) {
	opened, err := one.open(ctx)
	if err != nil {
		return nil, err
	}
	if opened.Close != nil {
		defer opened.Close()
	}
	return one.whole(ctx, opened, nil)
}

// follow takes the events of a topic as they are stored. Its partitions take turns at the table.
func (one *referred) follow(ctx context.Context, all *References) {
	var turn sync.Mutex
	read := func(p engine.Partition) {
		t := &taking{one: one, decoder: one.r.Decoder(), batch: row.NewBatch(one.r.Schema)}
		for ctx.Err() == nil {
			t.chunk.Reset()
			err := p.Read(ctx, &t.chunk)
			if ctx.Err() != nil {
				return
			}
			if err == nil && len(t.chunk.Starts) > 0 {
				turn.Lock()
				err = one.table.Change(time.Now(), func(rows *reference.Rows) error {
					t.rows = rows
					return t.take(p.Name())
				})
				turn.Unlock()
			}
			if err != nil {
				one.fails(err, all.say)
				return
			}
			if t.chunk.Last {
				return
			}
		}
	}
	for _, p := range one.opened.Partitions {
		all.done.Go(func() { all.guard(one, func() { read(p) }) })
	}
	if one.opened.Find == nil {
		return
	}
	all.done.Go(func() {
		all.guard(one, func() {
			_ = one.opened.Find(ctx, func(p engine.Partition) { // it ends with ctx alone
				if err := p.Open(ctx, nil); err != nil {
					one.fails(err, all.say)
					return
				}
				all.done.Go(func() { all.guard(one, func() { read(p) }) })
			})
		})
	})
}

// ReferenceFigures tell of a reference.
type ReferenceFigures struct {
	Rows    int64     `json:"rows"`
	Bytes   int64     `json:"bytes"`
	Loaded  time.Time `json:"loaded"` // when its rows were read, or the newest came
	Digest  string    `json:"digest"` // tells contents apart
	Read    int64     `json:"read"`   // events, of all readings
	Failed  int64     `json:"failed"` // readings that failed since the start; the rows of before stay
	Trouble string    `json:"trouble,omitempty"`
	// Rejected counts rows of a topic that could not be taken, Unkeyed those of them with a null in their key.
	Rejected int64  `json:"rejected"`
	Unkeyed  int64  `json:"unkeyed"`
	First    string `json:"first,omitempty"` // why the first was not taken
}

// Figures gives the figures of each, by name; of nil none.
func (all *References) Figures() map[string]ReferenceFigures {
	out := map[string]ReferenceFigures{}
	if all == nil {
		return out
	}
	for _, one := range all.list {
		v := one.table.Version()
		one.mu.Lock()
		f := ReferenceFigures{Rows: v.Rows, Bytes: v.Bytes, Loaded: v.Loaded.UTC(), Digest: fmt.Sprintf("%016x", v.Digest), Read: one.read, Failed: one.failed, Trouble: one.trouble, Rejected: one.rejected, Unkeyed: one.unkeyed, First: one.first}
		one.mu.Unlock()
		if f.Trouble == "" {
			for _, p := range one.opened.Partitions {
				if x, ok := p.(engine.Troubled); ok && f.Trouble == "" {
					f.Trouble = x.Trouble()
				}
			}
		}
		out[one.r.Name] = f
	}
	return out
}
