// Package journal writes down what a source takes that cannot be read again, before it acknowledges it: events that are
// posted, lines of a socket, messages of devices (docs/connectors.md, "The journal"). A run reads the journal as it reads a
// file, and a checkpoint that has passed its events lets them go.
//
// A journal is a folder of segments, each named by the number of its first event. Many appends share one sync. Only what was synced is
// read, or acknowledged; what a crash or a fault of the disk leaves behind it was never acknowledged, and is cut off.
package journal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"undertide/connect"
	"undertide/disk"
)

// Options are how a journal is kept; the zero value is right for most.
type Options struct {
	Limit   int64            // bytes on the disk; more is refused. 0: DefaultLimit
	Segment int64            // bytes after which another file begins. 0: 16 MiB, or an eighth of a small limit
	Now     func() time.Time // the clock; nil: time.Now
	// Lease is the number of the lease by which the job is carried out, and Leased says whether it is still: an append whose events are synced, and for which it is not, is
	// not taken. 0 and nil where there are no nodes.
	Lease  int64
	Leased func() error
}

// DefaultLimit bounds a journal, unless told otherwise.
const DefaultLimit = 1 << 30

// KeysLast is how long an append is known by its key.
const KeysLast = 10 * time.Minute

var (
	// ErrFull: the journal has no room until a checkpoint has passed its events.
	ErrFull = errors.New("the journal is full")
	// ErrClosed: it takes nothing more.
	ErrClosed = errors.New("the journal is closed")
	// ErrPassed: the events that are asked for were let go.
	ErrPassed = errors.New("the journal has let go of these events")
	// ErrDamaged: a segment is not as it was written.
	ErrDamaged = errors.New("the journal is damaged")
)

// Journal holds the events of one source. Safe for concurrent use.
type Journal struct {
	dir string
	o   Options

	mu       sync.Mutex
	synced   *sync.Cond
	segments []*segment // in order, at least one; the last one is written
	out      *disk.Output
	size     int64 // of all segments
	next     int64 // number of the next event
	written  int64 // appends that were put into out
	durable  int64 // of them, those that were synced
	syncing  bool
	torn     error  // why the last segment is to be cut back to what was synced; nil for nothing
	tears    []tear // how often that was so, and what was lost: who waits for such an append waits in vain
	closed   bool
	grown    chan struct{} // closed as soon as more was synced
	newest   time.Time     // when it was
	keys     map[string]known
	order    []string // keys, the oldest first
	buf      []byte
}

// tear is where what was put was cut back: appends behind durable were not taken.
type tear struct {
	durable int64
	why     error
}

// segment is a file of records.
type segment struct {
	first int64     // number of its first event
	end   int64     // number of the event behind its last one, of those that were synced
	size  int64     // bytes that were synced
	keyed time.Time // when its newest record with a key was taken; zero for none
}

// known is an append that had a key.
type known struct {
	first, append int64
	at            time.Time
}

const ending = ".journal"

func (j *Journal) path(s *segment) string {
	return filepath.Join(j.dir, fmt.Sprintf("%020d%s", s.first, ending))
}

// Open opens a journal, or makes an empty one. One process at a time may have it open; the caller sees to that. What stands behind the
// last whole record of the last segment is cut off.
func Open(dir string, o Options) (*Journal, error) {
	if o.Limit <= 0 {
		o.Limit = DefaultLimit
	}
	if o.Segment <= 0 {
		o.Segment = min(16<<20, o.Limit/8) // room is gained by whole segments, and the last one stays
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	j := &Journal{dir: dir, o: o, grown: make(chan struct{}), keys: map[string]known{}}
	j.synced = sync.NewCond(&j.mu)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, disk.Explain("make folder", dir, err)
	}
	if err := j.list(); err != nil {
		return nil, err
	}
	least, err := j.dropEmpty()
	if err != nil {
		return nil, err
	}
	for n, s := range j.segments {
		if err := j.scan(s, n == len(j.segments)-1); err != nil {
			return nil, err
		}
		if n > 0 && j.segments[n-1].end != s.first {
			return nil, fmt.Errorf("%w: %s ends before event %d, and %s begins with event %d; put the missing file back", ErrDamaged, j.path(j.segments[n-1]), j.segments[n-1].end, j.path(s), s.first)
		}
		j.size += s.size
		j.next = s.end
	}
	if len(j.segments) == 0 {
		j.segments = []*segment{{}}
	}
	if j.next < least {
		return nil, fmt.Errorf("%w: %s ends before event %d, and had event %d", ErrDamaged, j.path(j.segments[len(j.segments)-1]), j.next, least-1)
	}
	j.torn = errors.New("it was just opened")
	return j, nil
}

// OpenIn opens a run's journal: in this folder, or where it is empty in one that ends with the run. end closes it.
func OpenIn(dir string, o Options) (j *Journal, end func(), err error) {
	remove := func() {}
	if dir == "" && o.Lease > 0 {
		return nil, nil, fmt.Errorf("%w: what is taken here cannot be read again, and has no place that all nodes reach: start them with --store and a folder, not a bucket", connect.ErrUsage)
	}
	if dir == "" {
		if dir, err = os.MkdirTemp("", "undertide-journal-"); err != nil {
			return nil, nil, err
		}
		remove = func() { _ = os.RemoveAll(dir) } // nobody reads it again
	}
	if o.Lease > 0 {
		if dir, err = leasedDir(dir, o.Lease); err != nil {
			return nil, nil, err
		}
	}
	if j, err = Open(dir, o); err != nil {
		remove()
		return nil, nil, err
	}
	return j, func() {
		_ = j.Close() // all that was acknowledged is synced
		remove()
	}, nil
}

// list finds the segments.
func (j *Journal) list() error {
	entries, err := os.ReadDir(j.dir)
	if err != nil {
		return disk.Explain("read folder", j.dir, err)
	}
	for _, e := range entries { // by name, so by number
		name, ours := strings.CutSuffix(e.Name(), ending)
		first, err := strconv.ParseInt(name, 10, 64)
		if !ours || err != nil || len(name) != 20 {
			continue
		}
		j.segments = append(j.segments, &segment{first: first, end: first})
	}
	return nil
}

// dropEmpty removes segments at the end that nothing was written into: one may have been begun, and then not been used. The events
// before least were synced by then.
func (j *Journal) dropEmpty() (least int64, err error) {
	for len(j.segments) > 1 {
		s := j.segments[len(j.segments)-1]
		info, err := os.Stat(j.path(s))
		if err != nil {
			return 0, disk.Explain("read", j.path(s), err)
		}
		if info.Size() > 0 {
			break
		}
		if err := os.Remove(j.path(s)); err != nil {
			return 0, disk.Explain("remove", j.path(s), err)
		}
		least, j.segments = max(least, s.first), j.segments[:len(j.segments)-1]
	}
	return least, nil
}

// scan goes over a segment's records; what is behind the last whole one of the last segment counts as not there.
func (j *Journal) scan(s *segment, last bool) error {
	f, err := os.Open(j.path(s))
	if err != nil {
		return disk.Explain("read", j.path(s), err)
	}
	defer f.Close()
	r := newRecords(f)
	for {
		rec, err := r.next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.Is(err, errBroken) && last:
			return nil
		case err != nil:
			return fmt.Errorf("%w: %s, at byte %d: %w", ErrDamaged, j.path(s), s.size, err)
		case rec.first != s.end:
			return fmt.Errorf("%w: %s, at byte %d: event %d stands where %d belongs", ErrDamaged, j.path(s), s.size, rec.first, s.end)
		}
		s.end, s.size = rec.first+int64(rec.events), s.size+rec.size
		if rec.key != "" {
			s.keyed = rec.at
			j.know(rec.key, known{first: rec.first, at: rec.at})
		}
	}
}

// know keeps a key, and forgets old ones.
func (j *Journal) know(key string, k known) {
	j.keys[key] = k
	j.order = append(j.order, key)
	for old := j.o.Now().Add(-KeysLast); len(j.order) > 0 && !j.keys[j.order[0]].at.After(old); j.order = j.order[1:] {
		delete(j.keys, j.order[0])
	}
}

// Append takes events in one piece, and returns once they are synced: first is the number of the first of them. key, if it is not
// empty, names the append: one of the same key within [KeysLast] takes nothing and gives again true, with the number that the
// first one got. Where it fails nothing is taken, as far as a later reader is concerned.
func (j *Journal) Append(key string, events [][]byte) (first int64, again bool, err error) {
	first, again, err = j.put(key, events)
	if err == nil && j.o.Leased != nil { // it lasts; but whoever has the job now began with what lasted before the lease ended
		err = j.o.Leased()
	}
	return first, again, err
}

func (j *Journal) put(key string, events [][]byte) (first int64, again bool, err error) {
	if len(events) == 0 {
		return 0, false, nil
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	if k, ok := j.keys[key]; ok && key != "" && j.o.Now().Sub(k.at) < KeysLast {
		return k.first, true, j.await(k.append, len(j.tears))
	}
	if err := j.ready(); err != nil {
		return 0, false, err
	}
	rec := record{first: j.next, at: j.o.Now(), key: key}
	j.buf = rec.encode(j.buf[:0], events)
	if j.size+int64(len(j.buf)) > j.o.Limit {
		return 0, false, fmt.Errorf("%w: %d of %d bytes are taken, and a checkpoint of the job has to pass them first", ErrFull, j.size, j.o.Limit)
	}
	if _, err := j.out.Put(j.buf); err != nil {
		for out := j.out; j.syncing || out == j.out && j.torn == nil; { // whoever syncs still has the file
			if !j.syncing {
				j.tear(err)
				break
			}
			j.synced.Wait()
		}
		return 0, false, err
	}
	j.size += int64(len(j.buf))
	j.next += int64(len(events))
	j.written++
	if key != "" {
		j.know(key, known{rec.first, j.written, rec.at})
	}
	return rec.first, false, j.await(j.written, len(j.tears))
}

// ready makes the last segment ready to be written: cut back after a fault, or another one where it is large. It may wait, and others
// append, fail, or close the journal meanwhile; on return none of that is left.
func (j *Journal) ready() error {
	for {
		last := j.segments[len(j.segments)-1]
		switch {
		case j.closed:
			return ErrClosed
		case j.torn != nil:
			if err := j.reopen(last); err != nil {
				return err
			}
		case last.size < j.o.Segment:
			return nil
		case j.syncing:
			j.synced.Wait()
		case j.durable < j.written:
			if err := j.await(j.written, len(j.tears)); err != nil {
				return err
			}
		default:
			return j.begin()
		}
	}
}

// reopen cuts the last segment back to what was synced, and goes on with it.
func (j *Journal) reopen(last *segment) error {
	if err := j.cutBack(); err != nil {
		return err
	}
	out, err := disk.OpenForWriting(nil, j.path(last), 0)
	if err != nil {
		return err
	}
	if _, err := out.File.Seek(last.size, io.SeekStart); err != nil {
		return errors.Join(disk.Explain("write", j.path(last), err), out.Close())
	}
	if err := disk.SyncFolder(nil, j.dir); err != nil {
		return errors.Join(err, out.Close())
	}
	j.out, j.torn = out, nil
	return nil
}

// begin begins another segment; all of the last one is synced.
func (j *Journal) begin() error {
	next := &segment{first: j.next, end: j.next}
	out, err := disk.OpenForWriting(nil, j.path(next), os.O_TRUNC)
	if err != nil {
		return err
	}
	if err := disk.SyncFolder(nil, j.dir); err != nil { // else a crash could lose the name, with what was acknowledged
		return errors.Join(err, out.Close())
	}
	err = j.out.Close()
	j.out, j.segments = out, append(j.segments, next)
	return err
}

// await waits until an append is durable: one of those that wait syncs for all. tears is how often it was torn when the append was
// put: after one more its number may be that of another.
func (j *Journal) await(n int64, tears int) error {
	for {
		switch {
		case len(j.tears) > tears && n > j.tears[tears].durable:
			return fmt.Errorf("the events were not taken: %w", j.tears[tears].why)
		case len(j.tears) > tears || j.durable >= n:
			return nil
		case j.syncing:
			j.synced.Wait()
		default:
			j.sync()
		}
	}
}

// sync makes durable what was put so far.
func (j *Journal) sync() {
	last, n, next, size := j.segments[len(j.segments)-1], j.written, j.next, j.size
	for _, s := range j.segments[:len(j.segments)-1] {
		size -= s.size
	}
	if err := j.out.Flush(); err != nil {
		j.tear(err)
		return
	}
	f := j.out.File // the buffer is for whoever has the lock
	j.syncing = true
	j.mu.Unlock()
	err := errors.Join(disk.Try("sync", f.Name()), f.Sync())
	if err != nil {
		err = disk.Explain("write", f.Name(), err)
	}
	j.mu.Lock()
	j.syncing = false
	defer j.synced.Broadcast()
	if err != nil {
		j.tear(err)
		return
	}
	j.durable, last.end, last.size, j.newest = n, next, size, j.o.Now()
	if n := len(j.order); n > 0 {
		last.keyed = j.keys[j.order[n-1]].at
	}
	close(j.grown)
	j.grown = make(chan struct{})
}

// tear forgets what was put and not synced: whoever waits for it is told why.
func (j *Journal) tear(err error) {
	last := j.segments[len(j.segments)-1]
	for key, k := range j.keys {
		if k.append > j.durable {
			delete(j.keys, key)
		}
	}
	j.order = slices.DeleteFunc(j.order, func(key string) bool { _, ok := j.keys[key]; return !ok })
	j.tears = append(j.tears, tear{j.durable, err})
	j.torn, j.next, j.written, j.size = err, last.end, j.durable, 0
	for _, s := range j.segments {
		j.size += s.size
	}
	if j.out != nil {
		_ = j.out.Close() // what it has is not counted on
		j.out = nil
	}
	_ = j.cutBack() // tried again before the next append, and as the journal is closed
	j.synced.Broadcast()
}

// cutBack takes away what stands behind what was synced: a journal that is opened again would have it.
func (j *Journal) cutBack() error {
	last := j.segments[len(j.segments)-1]
	path := j.path(last)
	err := disk.Try("truncate", path)
	if err == nil {
		err = os.Truncate(path, last.size)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return disk.Explain("truncate", path, err)
	}
	return nil
}

// Bounds gives the numbers of the first event that is there, and of the next one that will be.
func (j *Journal) Bounds() (first, next int64) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.segments[0].first, j.segments[len(j.segments)-1].end
}

// Clear lets go of all, and begins with event 0 again: of a journal that nobody has read.
func (j *Journal) Clear() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	for j.syncing {
		j.synced.Wait()
	}
	if j.closed {
		return ErrClosed
	}
	if j.out != nil {
		_ = j.out.Close() // it goes
		j.out = nil
	}
	for i := len(j.segments) - 1; i >= 0; i-- { // the mark that stands last first
		path := j.path(j.segments[i])
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return disk.Explain("remove", path, err)
		}
	}
	j.segments, j.size, j.next, j.keys, j.order = []*segment{{}}, 0, 0, map[string]known{}, nil
	j.torn = errors.New("it was cleared")
	return disk.SyncFolder(nil, j.dir)
}

// Half says whether half of the limit is taken.
func (j *Journal) Half() bool { return j.Size() > j.o.Limit/2 }

// Size gives how many bytes are on the disk.
func (j *Journal) Size() int64 {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.size
}

// Newest is when events were taken last; zero where none were since it was opened.
func (j *Journal) Newest() time.Time {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.newest
}

// Release lets go of the events before this one, by whole segments, but for keys that may still be asked for.
func (j *Journal) Release(before int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	old := j.o.Now().Add(-KeysLast)
	for len(j.segments) > 1 && j.segments[0].end <= before && !j.segments[0].keyed.After(old) {
		path := j.path(j.segments[0])
		err := disk.Try("remove", path)
		if err == nil {
			err = os.Remove(path)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return disk.Explain("remove", path, err)
		}
		j.size -= j.segments[0].size
		j.segments = j.segments[1:]
	}
	return nil
}

// Close ends the journal once all that was put is synced. Readers that wait return.
func (j *Journal) Close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.closed {
		return nil
	}
	j.closed = true
	err := j.await(j.written, len(j.tears))
	for j.syncing {
		j.synced.Wait()
	}
	close(j.grown)
	j.grown = closed
	if j.torn != nil {
		return errors.Join(err, j.cutBack())
	}
	err = errors.Join(err, j.out.Close())
	j.out = nil
	return err
}

var closed = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// Reader reads events in their order. One goroutine at a time.
type Reader struct {
	j    *Journal
	at   int64 // number of the next event
	seg  *segment
	f    *os.File
	r    *records
	rec  record
	left [][]byte // events of rec that were not given
}

// Read begins with an event. One that is not there yet is waited for; one that was let go is an error.
func (j *Journal) Read(at int64) (*Reader, error) {
	first, next := j.Bounds()
	if at < first || at > next {
		return nil, fmt.Errorf("%w: it has %d to %d, and %d is asked for", ErrPassed, first, next, at)
	}
	return &Reader{j: j, at: at}, nil
}

// Wait waits until there is an event to give, or until is closed, or the journal is; false for the latter two.
func (r *Reader) Wait(ctx context.Context, until <-chan struct{}) bool {
	for {
		r.j.mu.Lock()
		next, grown, over := r.j.segments[len(r.j.segments)-1].end, r.j.grown, r.j.closed
		r.j.mu.Unlock()
		if r.at < next {
			return true
		}
		if over {
			return false
		}
		select {
		case <-grown:
		case <-until:
			return false
		case <-ctx.Done():
			return false
		}
	}
}

// Next gives the next event that is there, with when it was taken; false for none yet. The event lasts until the next call.
func (r *Reader) Next() (event []byte, at time.Time, ok bool, err error) {
	for len(r.left) == 0 {
		more, err := r.more()
		if err != nil || !more {
			return nil, time.Time{}, false, err
		}
	}
	event, r.left = r.left[0], r.left[1:]
	r.at++
	return event, r.rec.at, true, nil
}

// more reads the next record; false where none was synced.
func (r *Reader) more() (bool, error) {
	r.j.mu.Lock()
	n := slices.IndexFunc(r.j.segments, func(s *segment) bool { return r.at < s.end })
	var s *segment
	var end int64
	if n >= 0 {
		s, end = r.j.segments[n], r.j.segments[n].size
	}
	r.j.mu.Unlock()
	if s == nil {
		return false, nil
	}
	if s != r.seg {
		if err := r.open(s); err != nil {
			return false, err
		}
	}
	for r.r.at < end {
		rec, err := r.r.next()
		if err != nil {
			return false, fmt.Errorf("%w: %s, at byte %d: %w", ErrDamaged, r.j.path(s), r.r.at, err)
		}
		if behind := rec.first + int64(rec.events); behind > r.at {
			r.rec = rec
			if r.left, err = rec.split(r.left[:0]); err != nil {
				return false, fmt.Errorf("%w: %s, event %d: %w", ErrDamaged, r.j.path(s), rec.first, err)
			}
			r.left = r.left[r.at-rec.first:]
			return true, nil
		}
	}
	return false, fmt.Errorf("%w: %s has no event %d", ErrDamaged, r.j.path(s), r.at)
}

func (r *Reader) open(s *segment) error {
	_ = r.Close() // it was only read
	f, err := os.Open(r.j.path(s))
	if err != nil {
		return disk.Explain("read", r.j.path(s), err)
	}
	r.f, r.seg, r.r = f, s, newRecords(f)
	return nil
}

// Close ends it.
func (r *Reader) Close() error {
	if r.f == nil {
		return nil
	}
	err := r.f.Close()
	r.f, r.seg = nil, nil
	return err
}
