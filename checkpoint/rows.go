package checkpoint

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/cockroachdb/pebble/v2"
	"github.com/cockroachdb/pebble/v2/bloom"
	"github.com/cockroachdb/pebble/v2/objstorage/objstorageprovider"
	"github.com/cockroachdb/pebble/v2/sstable"
	"github.com/cockroachdb/pebble/v2/vfs"

	"undertide/core/row"
	"undertide/core/state"
)

// rows is the store that a run works on: the rows of all tables in the order of their names (package state). What
// changed comes in as sorted tables that are built aside; a checkpoint is a copy of it, of hard links. It is worth
// nothing after the run.
//
// The library ends the program where it cannot go on. Here such a fault breaks the store and nothing else: whoever calls
// a method gets it as an error, also one that waits. A broken store is not closed.
type rows struct {
	fs    vfs.FS
	dir   string
	db    *pebble.DB
	opt   *pebble.Options
	built atomic.Int64 // sorted tables so far, which have names of their own

	mu     sync.Mutex
	fault  error
	broken chan struct{}
}

// The library's forms of files and tables: they change with the format of the manifest only.
const (
	storeFormat = pebble.FormatTableFormatV6
	tableFormat = sstable.TableFormatPebblev6
)

// tableBytes is about how large a sorted table is made.
const tableBytes = 32 << 20

// openRows opens the store in a folder, or makes it. cache is how many bytes of its blocks stay in memory.
func openRows(fsys vfs.FS, dir string, cache int64) (*rows, error) {
	s := &rows{fs: fsys, dir: dir, broken: make(chan struct{})}
	s.opt = &pebble.Options{FS: folders{fsys, quiet{s}}, DisableWAL: true, FormatMajorVersion: storeFormat, Logger: quiet{s}, MemTableSize: 256 << 10, L0CompactionThreshold: 24, L0StopWritesThreshold: 64, LBaseMaxBytes: 512 << 20, CacheSize: max(cache, 8<<20), MaxOpenFiles: 256,
		CompactionConcurrencyRange: func() (int, int) { return 1, 1 }}
	for i := range s.opt.Levels {
		s.opt.Levels[i].FilterPolicy = bloom.FilterPolicy(10)
	}
	s.opt.EnsureDefaults()
	err := s.do(func() (err error) {
		s.db, err = pebble.Open(dir, s.opt)
		return err
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

// quiet is the library's log: faults that end the program, as it thinks, break the store.
type quiet struct{ s *rows }

func (quiet) Infof(string, ...any)  {}
func (quiet) Errorf(string, ...any) {}
func (q quiet) Fatalf(format string, args ...any) {
	q.s.mu.Lock()
	if q.s.fault == nil {
		q.s.fault = fmt.Errorf("the store of state cannot go on: "+format, args...)
		close(q.s.broken)
	}
	q.s.mu.Unlock()
	runtime.Goexit()
}

// folders lets a folder that cannot be synced break the store, too: the library panics then, also in goroutines of its own.
type folders struct {
	vfs.FS
	log quiet
}

func (f folders) OpenDir(name string) (vfs.File, error) {
	dir, err := f.FS.OpenDir(name)
	if err != nil {
		return nil, err
	}
	return folder{dir, f.log}, nil
}

type folder struct {
	vfs.File
	log quiet
}

func (f folder) Sync() error {
	err := f.File.Sync()
	if err != nil {
		f.log.Fatalf("sync a folder: %w", err)
	}
	return err
}

// do carries out f, which may end its goroutine or wait for one that did.
func (s *rows) do(f func() error) error {
	done := make(chan error, 1)
	go func() {
		err := errors.New("it ended")
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("the store of state: %v", p)
			}
			done <- err
		}()
		err = f()
	}()
	select {
	case err := <-done:
		select {
		case <-s.broken:
			return s.fault
		default:
			return err
		}
	case <-s.broken:
		return s.fault
	}
}

// close ends the store, unless it is broken.
func (s *rows) close() error {
	select {
	case <-s.broken:
		return nil
	default:
		return s.do(s.db.Close)
	}
}

// entry is a row to be written, by its place in a batch's bytes: a name, and what it holds.
type entry struct {
	in         uint32 // which of bytes
	name, held uint32 // where the name begins and ends
	end        uint32 // where what it holds ends
	gone       bool
}

// batch is what is to be written at once: entries of tables, and ranges of names that are gone.
type batch struct {
	tables map[state.TableNumber][]entry
	bytes  [][]byte // several, because places have 32 bits
	ranges [][2][]byte
	width  int // about the bytes of a row, by those that came last
}

func (b *batch) name(e *entry) []byte    { return b.bytes[e.in][e.name:e.held] }
func (b *batch) content(e *entry) []byte { return b.bytes[e.in][e.held:e.end] }

// add takes what became of a lane's rows of a table, but for what has passed.
func (b *batch) add(n state.TableNumber, c *state.Changes, lane, lanes int) {
	t := c.Table
	if c.Emptied {
		if first, last := state.LaneShares(lane, lanes); first <= last {
			b.ranges = append(b.ranges, [2][]byte{t.AppendBefore(nil, n, row.MinTime, uint8(first)), t.AppendBefore(nil, n, row.MinTime, uint8(last+1))})
		}
	}
	b.begin()
	total := c.Rows()
	for _, r := range c.Gone {
		total += r.N
	}
	b.tables[n] = slices.Grow(b.tables[n], total)
	for i, r := range c.Gone {
		b.addRows(n, t, r, true)
		c.Gone[i] = nil // its bytes are here now
	}
	for i, r := range c.New {
		b.addRows(n, t, r, false)
		c.New[i] = nil
	}
	c.Gone, c.New = nil, nil
}

// passed takes that rows of a table are gone whose span is before a time.
func (b *batch) passed(n state.TableNumber, t *state.Table, before row.Time) {
	if before > row.MinTime {
		b.ranges = append(b.ranges, [2][]byte{t.AppendBefore(nil, n, row.MinTime, 0), t.AppendBefore(nil, n, before, 0)})
	}
}

// dropped takes that all rows of a table are gone.
func (b *batch) dropped(n state.TableNumber) {
	from := binary.BigEndian.AppendUint16(nil, uint16(n))
	b.ranges = append(b.ranges, [2][]byte{from, binary.BigEndian.AppendUint16(nil, uint16(n)+1)})
}

// begin makes an empty batch ready to take rows.
func (b *batch) begin() {
	if b.tables == nil {
		b.tables = map[state.TableNumber][]entry{}
	}
}

func (b *batch) addRows(n state.TableNumber, t *state.Table, r *state.Rows, gone bool) {
	b.begin()
	data := make([]byte, 0, b.width*r.N)
	all := b.tables[n]
	for i := range r.N {
		e := entry{in: uint32(len(b.bytes)), gone: gone, name: uint32(len(data))}
		data = t.AppendName(data, n, r, i)
		e.held = uint32(len(data))
		if !gone {
			data = t.AppendContent(data, r, i)
		}
		e.end = uint32(len(data))
		all = append(all, e)
	}
	b.bytes, b.tables[n] = append(b.bytes, data), all
	b.width = len(data)/max(1, r.N) + 8
}

// size gives the bytes of the entries.
func (b *batch) size() (n int) {
	for _, d := range b.bytes {
		n += len(d)
	}
	return n
}

// leading is an entry by the sixteen bytes of its name behind what all names of its table have in common.
type leading struct {
	hi, lo uint64
	at     uint32
}

// sort gives the entries in the order of their names, one for each: the last that was added counts.
func (b *batch) sort() []entry {
	var out []entry
	for _, n := range slices.Sorted(maps.Keys(b.tables)) {
		all := b.tables[n]
		if len(all) == 0 {
			continue
		}
		common := b.common(all)
		order := make([]leading, len(all))
		for i := range all {
			var lead [16]byte
			copy(lead[:], b.name(&all[i])[common:])
			order[i] = leading{binary.BigEndian.Uint64(lead[:]), binary.BigEndian.Uint64(lead[8:]), uint32(i)}
		}
		b.sortLeading(all, order, 56)
		out = slices.Grow(out, len(all))
		for i, o := range order {
			if i+1 < len(order) && o.hi == order[i+1].hi && o.lo == order[i+1].lo && bytes.Equal(b.name(&all[o.at]), b.name(&all[order[i+1].at])) {
				continue
			}
			out = append(out, all[o.at])
		}
	}
	return out
}

// sortLeading sorts by the byte of hi at shift and those behind it: many entries are dealt into 256 heaps first, each of
// which the caches hold.
func (b *batch) sortLeading(all []entry, order []leading, shift int) {
	const few = 4096
	if len(order) > few && shift >= 0 {
		var next, ends [256]int
		for i := range order {
			ends[order[i].hi>>shift&0xff]++
		}
		sum := 0
		for v, n := range ends {
			next[v] = sum
			sum += n
			ends[v] = sum
		}
		for v := range next {
			for next[v] < ends[v] {
				at := next[v]
				to := order[at].hi >> shift & 0xff
				order[at], order[next[to]] = order[next[to]], order[at]
				next[to]++
			}
		}
		from := 0
		for _, to := range ends {
			b.sortLeading(all, order[from:to], shift-8)
			from = to
		}
		return
	}
	slices.SortFunc(order, func(p, q leading) int {
		if p.hi != q.hi || p.lo != q.lo {
			if p.hi < q.hi || p.hi == q.hi && p.lo < q.lo {
				return -1
			}
			return 1
		}
		if c := bytes.Compare(b.name(&all[p.at]), b.name(&all[q.at])); c != 0 {
			return c
		}
		return cmp.Compare(p.at, q.at)
	})
}

// common counts the bytes with which all names begin.
func (b *batch) common(all []entry) int {
	first := b.name(&all[0])
	n := len(first)
	for i := range all {
		name := b.name(&all[i])
		n = min(n, len(name))
		for k := range n {
			if name[k] != first[k] {
				n = k
				break
			}
		}
	}
	return n
}

// write carries out a batch; it gives the bytes of the sorted tables that it became.
func (s *rows) write(b *batch) (written int64, err error) {
	all := b.sort()
	if len(all) == 0 && len(b.ranges) == 0 {
		return 0, nil
	}
	size := 0
	for i := range all {
		size += int(all[i].end - all[i].name)
	}
	if size > tableBytes && len(b.ranges) > 0 { // they would overlap with the tables behind the first
		n, err := s.build(b, nil, b.ranges)
		if err != nil {
			return 0, err
		}
		written, b.ranges = n, nil
	}
	n, err := s.build(b, all, b.ranges)
	return written + n, err
}

// build writes sorted tables aside, and takes them in: entries in their order, and ranges of names that are gone.
func (s *rows) build(b *batch, all []entry, ranges [][2][]byte) (written int64, err error) {
	var paths []string
	for len(all) > 0 || ranges != nil {
		path := s.fs.PathJoin(s.dir, fmt.Sprintf("built-%d", s.built.Add(1)))
		n, size, err := s.buildOne(path, b, all, ranges)
		if err != nil {
			return 0, err
		}
		all, ranges, paths, written = all[n:], nil, append(paths, path), written+size
	}
	err = s.do(func() error { return s.db.Ingest(context.Background(), paths) })
	return written, err
}

// buildOne writes one sorted table with the first entries; it gives how many.
func (s *rows) buildOne(path string, b *batch, all []entry, ranges [][2][]byte) (n int, size int64, err error) {
	f, err := s.fs.Create(path, vfs.WriteCategoryUnspecified)
	if err != nil {
		return 0, 0, err
	}
	w := sstable.NewWriter(objstorageprovider.NewFileWritable(f), s.opt.MakeWriterOptions(0, tableFormat))
	for _, r := range union(ranges) {
		if err := w.DeleteRange(r[0], r[1]); err != nil {
			return 0, 0, errors.Join(err, w.Close())
		}
	}
	for raw := 0; n < len(all) && raw < tableBytes; n++ {
		e := &all[n]
		if e.gone {
			err = w.Delete(b.name(e))
		} else {
			err = w.Set(b.name(e), b.content(e))
		}
		if err != nil {
			return 0, 0, errors.Join(err, w.Close())
		}
		raw += int(e.end - e.name)
	}
	if err := w.Close(); err != nil {
		return 0, 0, err
	}
	meta, err := w.Metadata()
	if err != nil {
		return 0, 0, err
	}
	return n, int64(meta.Size), nil
}

// union gives ranges of names in order, none of which overlaps another: a table may be dropped whole and have spans that
// have passed. It takes over what it is given.
func union(ranges [][2][]byte) [][2][]byte {
	slices.SortFunc(ranges, func(a, b [2][]byte) int { return bytes.Compare(a[0], b[0]) })
	out := ranges[:0]
	for _, r := range ranges {
		if last := len(out) - 1; last >= 0 && bytes.Compare(r[0], out[last][1]) <= 0 {
			if bytes.Compare(r[1], out[last][1]) > 0 {
				out[last][1] = r[1]
			}
			continue
		}
		out = append(out, r)
	}
	return out
}

// copyTo makes a copy of the store, of hard links, in a folder that does not exist.
func (s *rows) copyTo(dir string) error {
	return s.do(func() error { return s.db.Checkpoint(dir) })
}

// farApart is how many rows of other lanes are passed one by one before a seek is worth it.
const farApart = 64

// read hands over the rows of a table with a span from from up to but not including to, and a share from first to last.
func (s *rows) read(n state.TableNumber, t *state.Table, from, to row.Time, first, last int, take func(*state.Rows) error) error {
	if first > last {
		return nil
	}
	upper := binary.BigEndian.AppendUint16(nil, uint16(n)+1)
	if t.Span != "" && to < row.MaxTime {
		upper = t.AppendBefore(nil, n, to, 0)
	}
	return s.do(func() (err error) {
		it, err := s.db.NewIter(&pebble.IterOptions{LowerBound: t.AppendBefore(nil, n, from, uint8(first)), UpperBound: upper})
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, it.Close()) }() // also where take panics
		reading := state.Reading{Table: t, Take: take}
		passed := 0
		for ok := it.First(); ok; {
			span, share, err := t.SpanOf(it.Key())
			if err != nil {
				return err
			}
			if int(share) >= first && int(share) <= last {
				passed = 0
				if err := addTo(&reading, it); err != nil {
					return err
				}
				ok = it.Next()
				continue
			}
			switch passed++; {
			case t.Span == "":
				ok = false // the shares stand together
			case passed < farApart:
				ok = it.Next()
			case int(share) < first:
				passed, ok = 0, it.SeekGE(t.AppendBefore(nil, n, span, uint8(first)))
			default:
				ok = it.SeekGE(t.AppendBefore(nil, n, span, state.Shares))
			}
		}
		return errors.Join(it.Error(), reading.Flush())
	})
}

// fill writes all rows of a table of a store, of this one or another, under a number here, in the form that fit gives them; nil leaves them out. It gives the bytes of the sorted
// tables that they became. Where the reading fails, its goroutine may be at work still: what it has gathered is its own then.
func (s *rows) fill(to state.TableNumber, now *state.Table, other *rows, from state.TableNumber, was *state.Table, fit func(*state.Rows) (*state.Rows, error)) (written int64, err error) {
	var b batch
	put := func() error {
		n, err := s.write(&b)
		written += n
		b = batch{}
		return err
	}
	err = other.read(from, was, row.MinTime, row.MaxTime, 0, state.Shares-1, func(r *state.Rows) error {
		r, err := fit(r)
		if r == nil {
			return err
		}
		b.addRows(to, now, r, false)
		if b.size() < tableBytes {
			return nil
		}
		return put()
	})
	if err != nil {
		return 0, err
	}
	err = put()
	return written, err
}

// addTo adds the row at which an iterator stands.
func addTo(reading *state.Reading, it *pebble.Iterator) error {
	value, err := it.ValueAndErr()
	if err != nil {
		return err
	}
	return reading.Add(it.Key(), value)
}

// digestOf gives the size and SHA-256 of a file.
func digestOf(fsys vfs.FS, path string) (storeFile, error) {
	f, err := fsys.Open(path, vfs.SequentialReadsOption)
	if err != nil {
		return storeFile{}, err
	}
	h := sha256.New()
	n, err := io.Copy(h, f)
	return storeFile{Bytes: n, SHA256: hex.EncodeToString(h.Sum(nil))}, errors.Join(err, f.Close())
}
