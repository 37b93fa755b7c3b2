// Package checkpoint keeps snapshots of runs in a folder: one folder a checkpoint, with a copy of the store of state, of
// hard links, and a manifest that is written last (docs/checkpoints.md). A snapshot counts only once its manifest is there
// and everything in it verifies. Callers begin with [Open].
package checkpoint

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
)

// ErrDamaged is wrapped where no checkpoint of a folder verifies; the message says what is wrong with
// each.
var ErrDamaged = errors.New("no checkpoint verifies")

// ErrFormat is wrapped where another version of Under Tide made a checkpoint, in a form that this one does not read.
var ErrFormat = errors.New("another version of Under Tide made the checkpoint")

// ErrUnreadable is wrapped where a checkpoint could not be read, so that nobody knows whether it is damaged. A
// start goes back to an older one only where the newer is known to be; this one may be whole, and rows that it
// delivered would come again.
var ErrUnreadable = errors.New("a checkpoint cannot be read; put right what keeps it from being read, and start again")

// Store is the checkpoints of one job in a folder. One goroutine at a time.
type Store struct {
	fs  vfs.FS
	dir string
	opt Options

	aside   bool
	look    bool       // it is only read, through a folder of links
	liveDir string     // the live store's folder; empty before there is one
	writing sync.Mutex // held by a lane that writes ahead of a mark
	mu      sync.Mutex // guards live, tables and drops
	live    *rows      // nil before the first snapshot is loaded or saved
	tables  []table
	drops   []state.TableNumber  // of tables that another version does not keep
	digests map[string]storeFile // of the live store's sorted tables, by name
	passed  map[int64]bool       // damaged checkpoints
}

// Options say whose checkpoints a folder holds.
type Options struct {
	Job    string
	Digest string // of the document
	// Pieces tells apart the parts of the document that keep something, by kind and name ("step rate"):
	// another version of the document goes on with those that are unchanged. nil: only with all.
	Pieces map[string]string
	// Fit tells how rows of a table that another version of a step kept become rows of this one's; fresh names measures that
	// begin empty. nil: tables are to be the same.
	Fit func(step string, kept *state.Table, fresh []string) (now *state.Table, fit func(*state.Rows) *state.Rows, err error)
	// Drop names the parts ("step rate") whose kept things another version may leave behind.
	Drop []string
	Keep int // how many complete checkpoints stay; at least 1
	// Cache is how many bytes of the live store may stay in memory; at least 8 MiB do.
	Cache int64
}

// Open makes the folder if need be. The caller closes the store.
func Open(fsys vfs.FS, dir string, opt Options) (*Store, error) {
	opt.Keep = max(1, opt.Keep)
	s := &Store{fs: fsys, dir: dir, opt: opt, digests: map[string]storeFile{}, passed: map[int64]bool{}}
	if err := fsys.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make checkpoint folder: %w", err)
	}
	return s, nil
}

// Aside is a store that keeps no checkpoints: what a run without them has no room for in memory. It makes a folder within
// dir once something comes. The caller closes it, which removes that.
func Aside(fsys vfs.FS, dir string, cache int64) *Store {
	return &Store{fs: fsys, dir: dir, opt: Options{Cache: cache}, aside: true, digests: map[string]storeFile{}}
}

// Close ends the store that a run works on, and removes it: checkpoints have all that counts.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	if s.live != nil {
		err = s.live.close()
		s.live = nil
	}
	switch {
	case s.liveDir == "":
		return err
	case s.aside:
		return errors.Join(err, s.fs.RemoveAll(s.dir))
	}
	return errors.Join(err, s.fs.RemoveAll(s.liveDir))
}

// lives numbers the live stores of this process: one that is broken holds the lock of its folder.
var lives atomic.Int64

const livePrefix = "live-"

// removeLive removes live stores, also those of runs that were killed.
func (s *Store) removeLive() error {
	names, err := s.fs.List(s.dir)
	for _, n := range names {
		if strings.HasPrefix(n, livePrefix) || abandoned(n) {
			err = errors.Join(err, s.fs.RemoveAll(path.Join(s.dir, n)))
		}
	}
	return err
}

// folderName names the folder of an epoch: eight digits, or as many as it has.
func folderName(epoch int64) string { return fmt.Sprintf("%08d", epoch) }

func (s *Store) folder(epoch int64) string { return path.Join(s.dir, folderName(epoch)) }

// epochs lists the checkpoint folders, newest first; complete ones have a manifest.
func (s *Store) epochs() ([]int64, error) {
	names, err := s.fs.List(s.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read checkpoint folder: %w", err)
	}
	var out []int64
	for _, n := range names {
		if e, err := strconv.ParseInt(n, 10, 64); err == nil && e > 0 && n == folderName(e) {
			out = append(out, e)
		}
	}
	slices.Sort(out)
	slices.Reverse(out)
	return out, nil
}

// Save stores a snapshot: the changes go into the live store, a copy of that into the checkpoint's folder, and last the
// manifest, by rename. Afterwards it removes the checkpoints beyond those to keep. After an error the store is of no more
// use.
func (s *Store) Save(snap *engine.Snapshot) (saved engine.Saved, err error) {
	dir := s.folder(snap.Epoch)
	if err := s.fs.RemoveAll(dir); err != nil { // left by an interrupted try
		return saved, fmt.Errorf("clear %s: %w", dir, err)
	}
	if err := s.fs.MkdirAll(dir, 0o700); err != nil {
		return saved, fmt.Errorf("make %s: %w", dir, err)
	}
	m := s.manifestOf(snap)
	if m.Changed, err = s.apply(snap.Changes); err != nil {
		return saved, err
	}
	if err := s.keep(dir, m); err != nil {
		return saved, err
	}
	return m.info().Saved, s.prune(snap.Epoch)
}

// keep puts a copy of the live store into a checkpoint's folder, and last the manifest.
func (s *Store) keep(dir string, m *manifest) (err error) {
	m.Tables = s.known()
	if err := s.live.copyTo(path.Join(dir, storeName)); err != nil {
		return fmt.Errorf("copy state: %w", err)
	}
	if m.Files, err = s.filesOf(path.Join(dir, storeName)); err != nil {
		return fmt.Errorf("read state back: %w", err)
	}
	return s.complete(dir, m)
}

func (s *Store) manifestOf(snap *engine.Snapshot) *manifest {
	m := &manifest{Format: format, Job: s.opt.Job, Document: s.opt.Digest, Pieces: s.opt.Pieces, Epoch: snap.Epoch, Turn: snap.Turn, Started: snap.Started,
		Written: time.Now().UTC(), Finished: snap.Finished, Shipments: snap.Shipments, Counts: snap.Counts, Watermarks: snap.Watermarks, StepMarks: snap.StepWatermarks, Stall: snap.Stall, Began: snap.Began, Begun: snap.Begun, References: snap.References}
	for _, p := range snap.Partitions {
		q := partition{Source: p.Source, Name: p.Name, Position: p.Position, Ended: p.Ended, Events: p.Events}
		if p.Greatest != row.MinTime {
			q.Greatest = &p.Greatest
		}
		m.Partitions = append(m.Partitions, q)
	}
	return m
}

// Apply brings the live store up to a mark of which nothing else is kept.
func (s *Store) Apply(changes []engine.LaneChanges) error {
	_, err := s.apply(changes)
	return err
}

// apply brings the live store up to a snapshot.
func (s *Store) apply(changes []engine.LaneChanges) (done changed, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("write state: %w", err)
		}
	}()
	if err := s.ensure(); err != nil {
		return done, err
	}
	var b batch
	for _, n := range s.takeDrops() {
		b.dropped(n)
	}
	type mark struct {
		t      *state.Table
		passed row.Time
	}
	passed := map[state.TableNumber]mark{} // what every lane has passed
	for _, l := range changes {
		for _, c := range l.Tables {
			n := s.number(l.Step, c.Table)
			if p, ok := passed[n]; ok {
				c.Passed = min(c.Passed, p.passed)
			}
			passed[n] = mark{c.Table, c.Passed}
			done.Rows += int64(c.Rows())
			for _, g := range c.Gone {
				done.Gone += int64(g.N)
			}
			b.add(n, c, l.Lane, l.Lanes)
		}
	}
	for n, p := range passed {
		b.passed(n, p.t, p.passed)
	}
	done.Bytes, err = s.live.write(&b)
	return done, err
}

// ensure makes an empty live store where there is none.
func (s *Store) ensure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live != nil {
		return nil
	}
	if s.aside {
		s.dir = path.Join(s.dir, fmt.Sprintf("undertide-%d-%d", os.Getpid(), lives.Add(1)))
		if err := s.fs.MkdirAll(s.dir, 0o700); err != nil {
			return err
		}
	}
	return s.begin(nil, "")
}

// takeDrops gives the tables that are to be removed, once.
func (s *Store) takeDrops() []state.TableNumber {
	s.mu.Lock()
	defer s.mu.Unlock()
	drops := s.drops
	s.drops = nil
	return drops
}

// known gives the tables that a checkpoint has.
func (s *Store) known() (out []table) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append(out, s.tables...)
}

// number gives the number of a step's table in the store, a new one where it has none.
func (s *Store) number(step string, t *state.Table) state.TableNumber {
	s.mu.Lock()
	defer s.mu.Unlock()
	if k := s.find(step, t.Name); k != nil {
		return k.Number
	}
	n := s.newNumber()
	s.tables = append(s.tables, tableOf(n, step, t))
	return n
}

// newNumber gives a number that no table has, nor one that is to be dropped. The caller holds mu, or is alone.
func (s *Store) newNumber() state.TableNumber {
	most := state.TableNumber(0)
	for i := range s.tables {
		most = max(most, s.tables[i].Number)
	}
	for _, n := range s.drops {
		most = max(most, n)
	}
	return most + 1
}

// find gives how a step's table stands in the store; nil where it has none. The caller holds mu.
func (s *Store) find(step, name string) *table {
	for i := range s.tables {
		if k := &s.tables[i]; k.Step == step && k.Name == name {
			return k
		}
	}
	return nil
}

// begin makes the live store, of links to the files of a checkpoint, or empty.
func (s *Store) begin(files []storeFile, from string) error {
	live := path.Join(s.dir, fmt.Sprintf("%s%d", livePrefix, lives.Add(1)))
	if s.look {
		live = path.Join(s.dir, lookFolder())
	} else if err := errors.Join(s.sync(path.Dir(s.dir)), s.removeLive()); err != nil { // the folder itself lasts
		return err
	}
	s.liveDir = live
	if err := s.fs.MkdirAll(live, 0o700); err != nil {
		return err
	}
	clear(s.digests)
	for _, f := range files {
		put := vfs.Copy // the library goes on writing it
		if isTable(f.Name) {
			put = vfs.LinkOrCopy
			s.digests[f.Name] = f
		}
		if err := put(s.fs, path.Join(from, f.Name), path.Join(live, f.Name)); err != nil {
			return err
		}
	}
	var err error
	s.live, err = openRows(s.fs, live, s.opt.Cache)
	return err
}

// isTable says whether a file of a store is a sorted table, which is never written again.
func isTable(name string) bool { return strings.HasSuffix(name, ".sst") }

// filesOf lists the files of a copy of the live store. A sorted table is read once, when it is new.
func (s *Store) filesOf(dir string) ([]storeFile, error) {
	names, err := s.fs.List(dir)
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	files := make([]storeFile, len(names))
	known := map[string]storeFile{}
	for i, name := range names {
		f, ok := s.digests[name]
		if !ok {
			if f, err = digestOf(s.fs, path.Join(dir, name)); err != nil {
				return nil, err
			}
			f.Name = name
		}
		if files[i] = f; isTable(name) {
			known[name] = f
		}
	}
	s.digests = known
	return files, nil
}

// complete writes the manifest, whose name makes the checkpoint count. All else is synced by now.
func (s *Store) complete(dir string, m *manifest) error {
	text, err := m.seal()
	if err != nil {
		return err
	}
	return s.completeAs(dir, text)
}

// completeAs is complete with the text of the manifest.
func (s *Store) completeAs(dir string, text []byte) error {
	part := path.Join(dir, manifestName+".part")
	if err := s.write(part, text); err != nil {
		return fmt.Errorf("write manifest: %w", err)
	}
	if err := s.sync(dir); err != nil {
		return err
	}
	if err := s.fs.Rename(part, path.Join(dir, manifestName)); err != nil {
		return fmt.Errorf("complete the checkpoint: %w", err)
	}
	return errors.Join(s.sync(dir), s.sync(s.dir))
}

func (s *Store) write(path string, text []byte) error {
	f, err := s.fs.Create(path, vfs.WriteCategoryUnspecified)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Sync(), f.Close())
}

// sync makes the names in a folder last.
func (s *Store) sync(dir string) error {
	d, err := s.fs.OpenDir(dir)
	if err == nil {
		err = errors.Join(d.Sync(), d.Close())
	}
	if err != nil {
		return fmt.Errorf("sync %s: %w", dir, err)
	}
	return nil
}

// prune keeps the newest complete checkpoints.
func (s *Store) prune(newest int64) error {
	epochs, err := s.epochs()
	if err != nil {
		return err
	}
	kept := 0
	for _, e := range epochs {
		switch {
		case e > newest, s.passed[e] && kept < s.opt.Keep: // a damaged one does not count among those that are kept
			continue
		case kept < s.opt.Keep:
			kept++
			continue
		}
		if err := s.fs.RemoveAll(s.folder(e)); err != nil {
			return fmt.Errorf("remove old checkpoint %d: %w", e, err)
		}
	}
	return nil
}

// Passed is a checkpoint that was passed over, and why.
type Passed struct {
	Epoch       int64
	Why         string
	Interrupted bool // before it was complete
}

// Newest reads the newest checkpoint that verifies; nil when the folder has none at all. Checkpoints
// that do not verify are passed over and named; when none of them does, ErrDamaged is returned. One that cannot be
// read is not passed over: ErrUnreadable is returned.
// Highest is the greatest epoch of any kind in the folder, so that epochs are never used twice.
func (s *Store) Newest() (snap *engine.Snapshot, passed []Passed, highest int64, err error) {
	epochs, err := s.epochs()
	if err != nil || len(epochs) == 0 {
		return nil, nil, 0, err
	}
	complete := 0
	for _, e := range epochs {
		snap, err := s.load(e)
		if err == nil {
			return snap, passed, epochs[0], nil
		}
		if errors.Is(err, errOther) || errors.Is(err, ErrFormat) || errors.Is(err, ErrUnreadable) {
			return nil, passed, epochs[0], err
		}
		if !errors.Is(err, errIncomplete) {
			complete++
		}
		s.passed[e] = true
		passed = append(passed, Passed{Epoch: e, Why: err.Error(), Interrupted: errors.Is(err, errIncomplete)})
	}
	if complete == 0 {
		return nil, passed, epochs[0], nil // the very first one was interrupted: nothing was delivered
	}
	var why []string
	for _, p := range passed {
		why = append(why, fmt.Sprintf("%d: %s", p.Epoch, p.Why))
	}
	return nil, passed, epochs[0], fmt.Errorf("%w in %s (%s)", ErrDamaged, s.dir, strings.Join(why, "; "))
}

var (
	errIncomplete = errors.New("it was interrupted before it was complete")
	errOther      = errors.New("it belongs to another job or document")
)

// manifest reads and verifies what a checkpoint says of itself.
func (s *Store) manifest(epoch int64) (*manifest, error) {
	text, err := s.readFile(path.Join(s.folder(epoch), manifestName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, errIncomplete
	}
	if err != nil {
		return nil, fmt.Errorf("%w: read manifest of checkpoint %d in %s: %w", ErrUnreadable, epoch, s.dir, err)
	}
	return readManifest(text)
}

func (s *Store) readFile(path string) ([]byte, error) {
	f, err := s.fs.Open(path)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(f)
	return text, errors.Join(err, f.Close())
}

func (s *Store) load(epoch int64) (*engine.Snapshot, error) {
	m, err := s.manifest(epoch)
	if err != nil {
		return nil, err
	}
	if m.Job != s.opt.Job {
		return nil, fmt.Errorf("%w: %s holds checkpoints of job %s, not %s; give this job a folder of its own", errOther, s.dir, m.Job, s.opt.Job)
	}
	changed := m.Document != s.opt.Digest
	if changed {
		if m.Pieces == nil || s.opt.Pieces == nil {
			return nil, fmt.Errorf("%w: the checkpoints in %s were made by another text of job %s; put the old document back, or begin anew with an empty folder", errOther, s.dir, s.opt.Job)
		}
		if must := MustDrop(Compare(m.Pieces, s.opt.Pieces), s.opt.Drop); len(must) > 0 {
			return nil, fmt.Errorf("%w: another text of job %s made the checkpoints in %s, and what it kept for %s does not fit any more; leave it behind with --leave-behind STEP, put the old document back, or begin anew", errOther, s.opt.Job, s.dir, strings.Join(must, ", "))
		}
	}
	from := path.Join(s.folder(epoch), storeName)
	if err := s.verify(from, m.Files); err != nil {
		return nil, err
	}
	if err := s.begin(m.Files, from); err != nil {
		return nil, fmt.Errorf("%w: open the state of checkpoint %d in %s: %w", ErrUnreadable, epoch, s.dir, err)
	}
	s.tables = nil
	for _, t := range m.Tables {
		if t.Derived {
			s.drops = append(s.drops, t.Number)
		} else {
			s.tables = append(s.tables, t)
		}
	}
	snap := &engine.Snapshot{Epoch: m.Epoch, Turn: m.Turn, Started: m.Started, Finished: m.Finished, Shipments: m.Shipments, Counts: m.Counts, Watermarks: m.Watermarks, StepWatermarks: m.StepMarks, Begun: m.Begun, References: m.References, State: s}
	snap.Partitions = m.partitions()
	back, err := s.goneBackTo()
	if err != nil {
		return nil, err
	}
	snap.Again = back == m.Epoch
	if changed {
		if err := s.adapt(snap, m); err != nil {
			return nil, err
		}
	}
	return snap, nil
}

// verify compares files with what the manifest says, before a byte of them is believed.
func (s *Store) verify(dir string, files []storeFile) error {
	for _, f := range files {
		if err := s.verifyOne(dir, f); err != nil {
			return fmt.Errorf("file %s of the state: %w", f.Name, err)
		}
	}
	return nil
}

func (s *Store) verifyOne(dir string, f storeFile) error {
	if path.Base(f.Name) != f.Name {
		return errors.New("its name leaves the folder")
	}
	got, err := digestOf(s.fs, path.Join(dir, f.Name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("it is not there")
	case err != nil:
		return fmt.Errorf("%w: %w", ErrUnreadable, err)
	case got.Bytes != f.Bytes:
		return fmt.Errorf("it has %d bytes, the manifest says %d", got.Bytes, f.Bytes)
	case got.SHA256 != f.SHA256:
		return errors.New("its SHA-256 is not the one in the manifest")
	}
	return nil
}

// Read implements [state.Reader] over the snapshot that was loaded.
func (s *Store) Read(step string, t *state.Table, lane, lanes int, take func(*state.Rows) error) error {
	s.mu.Lock() // lanes that load write tables of their own, too
	k := s.find(step, t.Name)
	if k == nil {
		s.mu.Unlock()
		return nil
	}
	kept, err := k.declared()
	n := k.Number
	s.mu.Unlock()
	if err != nil {
		return err
	}
	if !kept.Same(t) {
		return fmt.Errorf("the checkpoint has other columns for step %s: the document has changed", step)
	}
	first, last := state.LaneShares(lane, lanes)
	return s.live.read(n, t, row.MinTime, row.MaxTime, first, last, take)
}
