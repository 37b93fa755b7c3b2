package checkpoint

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"
	"github.com/cockroachdb/pebble/v2/vfs/errorfs"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/pace"
)

var (
	windows = &state.Table{Span: "window_start", Key: row.Schema{{Name: "gauge", Kind: row.String}},
		Columns: row.Schema{{Name: "rows", Kind: row.Int}, {Name: "mean.sum", Kind: row.Double}, {Name: "ok", Kind: row.Bool}, {Name: "raw", Kind: row.Bytes}}}
	sessions = &state.Table{Name: "held", Key: row.Schema{{Name: "vessel", Kind: row.String}, {Name: "berth", Kind: row.Int}}, Rest: row.Schema{{Name: "number", Kind: row.Int}},
		Columns: row.Schema{{Name: "end", Kind: row.Timestamp}}}
)

// changesOf are what two lanes changed in an epoch: the same for the same epoch. Each epoch adds rows, overwrites some,
// names some as gone, and lets the windows of earlier epochs pass.
func changesOf(epoch int64) []engine.LaneChanges {
	r := rand.New(rand.NewPCG(uint64(epoch), 7))
	lanes := []engine.LaneChanges{{Step: "minute", Lane: 0, Lanes: 2}, {Step: "minute", Lane: 1, Lanes: 2}}
	for i := range lanes {
		lanes[i].Tables = []*state.Changes{state.NewChanges(windows), state.NewChanges(sessions)}
		if lanes[i].Tables[0].Passed = row.Time(epoch-2) * 1000; i == 1 && epoch%5 == 0 {
			lanes[i].Tables[1].Emptied = true
		}
	}
	key := func(cols ...*row.Column) (k []byte, hash uint64, lane int) {
		var keys state.Keys
		keys.EncodeOne(cols, 0)
		return keys.Bytes(0), keys.Hash[0], state.LaneOf(state.ShareOf(keys.Hash[0]), 2)
	}
	text := func(s string) *row.Column {
		c := row.NewColumn(row.String)
		if s == "" {
			c.AppendNull()
		} else {
			c.AppendString(s)
		}
		return c
	}
	number := func(n int) *row.Column { c := row.NewColumn(row.Int); c.AppendInt(int64(n)); return c }
	for range 700 {
		name := fmt.Sprintf("G%d", r.IntN(300))
		if r.IntN(50) == 0 {
			name = ""
		}
		k, hash, lane := key(text(name))
		cols := lanes[lane].Tables[0].Put(k, hash, row.Time(epoch)*1000+row.Time(r.IntN(3)))
		cols[0].AppendInt(r.Int64() - r.Int64())
		cols[1].AppendDouble(r.NormFloat64())
		if r.IntN(9) == 0 {
			cols[2].AppendNull()
			cols[3].AppendNull()
		} else {
			cols[2].AppendBool(r.IntN(2) == 0)
			cols[3].AppendString("\xff\x00" + name)
		}
		k, hash, lane = key(text(name), number(r.IntN(3)))
		if r.IntN(4) == 0 {
			lanes[lane].Tables[1].Drop(k, hash, 0, int64(r.IntN(3)-1))
		} else {
			lanes[lane].Tables[1].Put(k, hash, 0, int64(r.IntN(3)-1))[0].AppendInt(epoch)
		}
	}
	return lanes
}

// snapshot makes a snapshot of an epoch, which follows that of the epoch before.
func snapshot(epoch int64) *engine.Snapshot {
	return &engine.Snapshot{
		Epoch: epoch, Turn: 10 * epoch, Started: time.Unix(1_767_225_600, 0).UTC(),
		Partitions: []engine.PartitionState{
			{Source: "levels", Name: "a", Position: json.RawMessage(`{"byte":12}`), Greatest: 99, Events: 3},
			{Source: "levels", Name: "b", Greatest: row.MinTime},
		},
		Watermarks: map[string]row.Time{"levels": 98}, StepWatermarks: map[string]row.Time{"minute": 99},
		Changes:   changesOf(epoch),
		Shipments: map[string][]engine.Shipment{"means": {{Epoch: epoch - 1, Rows: 3, Bytes: 99, Data: json.RawMessage(`{"bytes":6}`)}, {Epoch: epoch, Data: json.RawMessage(`{"bytes":7}`)}}},
		Counts:    engine.Counts{Sources: []engine.SourceCounts{{Read: epoch, Rejected: map[string]int64{"malformed": 1}}}},
	}
}

// modelOf is what the epochs left, in the plainest way.
func modelOf(epochs ...int64) *state.Memory {
	m := state.NewMemory()
	for _, e := range epochs {
		for _, l := range changesOf(e) {
			for _, c := range l.Tables {
				m.Apply(l.Step, c, l.Lane, l.Lanes)
			}
		}
	}
	return m
}

// dump writes the rows of a table as some lanes read them.
func dump(t *testing.T, from state.Reader, table *state.Table, lanes int) (out []string) {
	t.Helper()
	for lane := range lanes {
		err := from.Read("minute", table, lane, lanes, func(r *state.Rows) error {
			for i := range r.N {
				out = append(out, fmt.Sprintf("%q %q", table.AppendName(nil, 0, r, i), table.AppendContent(nil, r, i)))
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return out
}

func open(t *testing.T, f vfs.FS, keep int) *Store {
	t.Helper()
	s, err := Open(f, "state", Options{Job: "levels", Digest: "d", Keep: keep})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// check says whether a snapshot that was read is whole: what these epochs left.
func check(t *testing.T, got *engine.Snapshot, epochs ...int64) {
	t.Helper()
	if got == nil {
		t.Fatal("there is no snapshot")
	}
	want := snapshot(got.Epoch)
	if got.Epoch != epochs[len(epochs)-1] || got.Turn != want.Turn || !got.Started.Equal(want.Started) || len(got.Partitions) != 2 || got.Partitions[0].Greatest != 99 || got.Partitions[1].Greatest != row.MinTime ||
		!strings.Contains(string(got.Partitions[0].Position), "12") || got.Counts.Sources[0].Read != got.Epoch || got.Watermarks["levels"] != 98 || got.StepWatermarks["minute"] != 99 || got.Counts.Sources[0].Rejected["malformed"] != 1 || len(got.Shipments["means"]) != 2 || got.Shipments["means"][0].Bytes != 99 || got.Shipments["means"][1].Epoch != got.Epoch {
		t.Errorf("epoch %d reads back as %+v", got.Epoch, got)
	}
	model := modelOf(epochs...)
	for _, table := range []*state.Table{windows, sessions} {
		for _, lanes := range []int{1, 3} {
			a, b := dump(t, got.State, table, lanes), dump(t, model, table, lanes)
			if strings.Join(a, "\n") != strings.Join(b, "\n") {
				t.Fatalf("epochs %v, table %q, %d lanes: %d rows, the model has %d, or they differ", epochs, table.Name, lanes, len(a), len(b))
			}
			if len(b) == 0 {
				t.Fatal("the model has no rows")
			}
		}
	}
}

func save(t *testing.T, s *Store, epochs ...int64) {
	t.Helper()
	for _, e := range epochs {
		if _, err := s.Save(snapshot(e)); err != nil {
			t.Fatal(err)
		}
	}
}

func TestSaveAndLoad(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	begin := func(o Options) *Store {
		o.Job, o.Keep = "levels", 2
		s, err := Open(Disk, dir, o)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := begin(Options{Digest: "d"})
	if snap, _, highest, err := s.Newest(); snap != nil || highest != 0 || err != nil {
		t.Fatalf("an empty folder gives %v, %d, %v", snap, highest, err)
	}
	save(t, s, 1, 2, 3, 4)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 2 || entries[0].Name() != "00000003" {
		t.Errorf("the folder keeps %v, want the two newest and nothing else; %v", entries, err)
	}
	s = begin(Options{Digest: "d"})
	snap, passed, highest, err := s.Newest()
	if err != nil || snap.Epoch != 4 || highest != 4 || len(passed) != 0 {
		t.Fatalf("newest: %v, passed %v, highest %d, %v", snap, passed, highest, err)
	}
	check(t, snap, 1, 2, 3, 4)
	save(t, s, 5, 6, 7)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = begin(Options{Digest: "d"})
	snap, _, _, err = s.Newest()
	if err != nil {
		t.Fatal(err)
	}
	check(t, snap, 1, 2, 3, 4, 5, 6, 7)
	other := *windows
	other.Columns = other.Columns[1:]
	if err := s.Read("minute", &other, 0, 1, func(*state.Rows) error { return nil }); err == nil || !strings.Contains(err.Error(), "step minute") {
		t.Errorf("rows of another form are read: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := begin(Options{Digest: "other"}).Newest(); !errors.Is(err, errOther) {
		t.Errorf("another document's checkpoints give %v", err)
	}
}

// TestOtherVersion: what another version of the document does not keep is gone from the store, and what it keeps is there.
func TestOtherVersion(t *testing.T) {
	m := vfs.NewCrashableMem()
	pieces := map[string]string{"step minute": "1", "step hour": "1", "source levels": "1"}
	s, err := Open(m, "state", Options{Job: "levels", Digest: "d", Pieces: pieces, Keep: 1})
	if err != nil {
		t.Fatal(err)
	}
	first := snapshot(1)
	for _, l := range changesOf(1) {
		l.Step = "hour"
		first.Changes = append(first.Changes, l)
	}
	_, err = s.Save(first)
	if err := errors.Join(err, s.Close()); err != nil {
		t.Fatal(err)
	}
	for _, drop := range []string{"", "minute"} {
		s, err = Open(m, "state", Options{Job: "levels", Digest: "e", Pieces: map[string]string{"step minute": "2", "step hour": "1", "source levels": "1"}, Drop: []string{drop}})
		if err != nil {
			t.Fatal(err)
		}
		snap, _, _, err := s.Newest()
		if drop == "" {
			if !errors.Is(err, errOther) || !strings.Contains(err.Error(), "step minute") {
				t.Errorf("a version whose step changed goes on: %v", err)
			}
			continue
		}
		if err != nil || !snap.Adapted || len(dump(t, snap.State, windows, 1)) != 0 {
			t.Fatalf("the changed step has rows still: %v, %v", snap, err)
		}
		hours := 0
		if err := snap.State.Read("hour", windows, 0, 1, func(r *state.Rows) error { hours += r.N; return nil }); err != nil || hours == 0 {
			t.Errorf("the step that is kept has %d rows, %v", hours, err)
		}
		save(t, s, 2)
		if got, want := dump(t, s, windows, 1), dump(t, modelOf(2), windows, 1); strings.Join(got, "") != strings.Join(want, "") {
			t.Errorf("the changed step has %d rows after a checkpoint, want those %d of its own", len(got), len(want))
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// read gives a file of a file system in memory, and write puts one in its place under another inode.
func read(t *testing.T, m vfs.FS, name string) []byte {
	t.Helper()
	f, err := m.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(f)
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	return b
}

func write(t *testing.T, m vfs.FS, name string, b []byte) {
	t.Helper()
	if err := m.Remove(name); err != nil {
		t.Fatal(err)
	}
	put(t, m, name, b)
}

// TestDamage flips bytes in every file of the newest checkpoint, cuts each short, and removes each: it is passed over and
// named, and when none is left the start is refused.
func TestDamage(t *testing.T) {
	m := vfs.NewCrashableMem()
	s := open(t, m, 2)
	save(t, s, 1, 2)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	older := func(what string) {
		t.Helper()
		s := open(t, m, 2)
		snap, passed, highest, err := s.Newest()
		if err != nil || snap.Epoch != 1 || len(passed) != 1 || passed[0].Epoch != 2 || passed[0].Why == "" || highest != 2 {
			t.Fatalf("%s: %v, %v, %d, %v", what, snap, passed, highest, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	names, err := m.List("state/00000002/store")
	if err != nil || len(names) < 4 {
		t.Fatalf("the store has files %v, %v", names, err)
	}
	files := []string{"state/00000002/" + manifestName}
	for _, n := range names {
		files = append(files, "state/00000002/store/"+n)
	}
	for _, name := range files {
		whole := read(t, m, name)
		for at := 0; at < len(whole); at += 1 + len(whole)/23 {
			b := bytes.Clone(whole)
			b[at] ^= 0x20
			write(t, m, name, b)
			older(fmt.Sprintf("%s, byte %d flipped", name, at))
		}
		if len(whole) > 0 {
			write(t, m, name, whole[:len(whole)-1])
			older(name + " cut short")
		}
		write(t, m, name, append(bytes.Clone(whole), 'x'))
		older(name + " with a byte more")
		write(t, m, name, whole)
		if path.Base(name) != manifestName { // without one it was interrupted, which is not a damage
			if err := m.Remove(name); err != nil {
				t.Fatal(err)
			}
			older(name + " removed")
			put(t, m, name, whole)
		}
	}
	for _, epoch := range []string{"00000001", "00000002"} {
		names, err := m.List("state/" + epoch + "/store")
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(names, isTable)
		if err := m.Remove("state/" + epoch + "/store/" + names[at]); err != nil {
			t.Fatal(err)
		}
	}
	s = open(t, m, 2)
	if _, _, _, err := s.Newest(); !errors.Is(err, ErrDamaged) || !strings.Contains(err.Error(), "1: file ") || !strings.Contains(err.Error(), "2: file ") {
		t.Errorf("with all damaged: %v", err)
	}
}

// put puts a file back that was removed. The file system may overwrite what it is given.
func put(t *testing.T, m vfs.FS, name string, b []byte) {
	t.Helper()
	f, err := m.Create(name, vfs.WriteCategoryUnspecified)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write(bytes.Clone(b)); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		t.Fatal(err)
	}
}

var errInjected = errors.New("injected fault")

// fault makes an operation fail: the n-th that counts.
type fault struct {
	counts func(errorfs.Op) bool
	n      atomic.Int64 // so many to go; negative for none
	hit    atomic.Bool
}

func (f *fault) String() string { return "fault" }
func (f *fault) MaybeError(op errorfs.Op) error {
	if f.counts(op) && f.n.Add(-1) == 0 {
		f.hit.Store(true)
		return errInjected
	}
	return nil
}

func writes(op errorfs.Op) bool { return op.Kind.ReadOrWrite() == errorfs.OpIsWrite }
func reads(op errorfs.Op) bool  { return op.Kind.ReadOrWrite() == errorfs.OpIsRead }

// TestFaults makes operation 1, 2, 3 … of a save fail until a save passes without: what surfaces is an error, and each
// crash copy, which has what was synced and nothing else, starts from the checkpoint before or from the new one if it is
// complete, and takes the next.
func TestFaults(t *testing.T) {
	faults := 0
	for failAt := int64(1); ; failAt += int64(pace.Of(1, 7)) {
		m := vfs.NewCrashableMem()
		f := &fault{counts: writes}
		s := open(t, errorfs.Wrap(m, f), 2)
		save(t, s, 1, 2)
		f.n.Store(failAt)
		_, err := s.Save(snapshot(3))
		f.n.Store(-1)
		hit := f.hit.Load()
		crashed := m.CrashClone(vfs.CrashCloneCfg{})
		closed := make(chan error, 1)
		go func() { closed <- s.Close() }()
		select {
		case <-closed: // whatever it says
		case <-time.After(10 * time.Second):
			t.Fatalf("operation %d failed, and the store does not close", failAt)
		}
		if err != nil && !hit {
			t.Fatalf("without a fault the save gives %v", err)
		}
		for name, disk := range map[string]vfs.FS{"going on": m, "crash": crashed} {
			s := open(t, disk, 2)
			snap, _, highest, e := s.Newest()
			if e != nil || snap == nil || snap.Epoch < 2 || err == nil && snap.Epoch != 3 {
				t.Fatalf("operation %d failed (%v), %s: %v, %v", failAt, err, name, snap, e)
			}
			epochs := []int64{1, 2, 3}[:snap.Epoch]
			check(t, snap, epochs...)
			save(t, s, highest+1)
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
			s = open(t, disk, 2)
			if snap, _, _, e = s.Newest(); e != nil || snap.Epoch != highest+1 {
				t.Fatalf("operation %d failed, %s: after the next save %v, %v", failAt, name, snap, e)
			}
			check(t, snap, append(epochs, highest+1)...)
			if err := s.Close(); err != nil {
				t.Fatal(err)
			}
		}
		if !hit {
			break
		}
		faults++
	}
	if faults < pace.Of(30, 5) {
		t.Errorf("only %d operations were tried", faults)
	}
}

// TestUnreadable makes each operation of reading fail in turn: a start never takes a fault for an empty folder, and
// never goes back to an older checkpoint for it, since the newest may be whole.
func TestUnreadable(t *testing.T) {
	m := vfs.NewCrashableMem()
	s := open(t, m, 2)
	save(t, s, 1, 2)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	for n := int64(1); ; n++ {
		f := &fault{counts: reads}
		s := open(t, errorfs.Wrap(m, f), 2)
		f.n.Store(n)
		snap, passed, _, err := s.Newest()
		f.n.Store(-1)
		if e := s.Close(); e != nil && !errors.Is(e, errInjected) {
			t.Fatal(e)
		}
		if !f.hit.Load() {
			if err != nil || snap.Epoch != 2 || n < 10 {
				t.Fatalf("without a fault, after %d operations: %v, %v", n, snap, err)
			}
			return
		}
		switch {
		case err == nil && snap != nil && snap.Epoch == 2: // something that is not needed was not read
		case err == nil || len(passed) > 0:
			t.Errorf("fault %d: the start goes on from %v, passing over %v", n, snap, passed)
		case !errors.Is(err, errInjected):
			t.Errorf("fault %d: %v", n, err)
		}
	}
}

// FuzzManifest: no text makes the reader panic, and what it takes is what was sealed.
func FuzzManifest(f *testing.F) {
	m := vfs.NewMem()
	s, err := Open(m, "state", Options{Job: "levels", Digest: "d"})
	if err != nil {
		f.Fatal(err)
	}
	if _, err := s.Save(snapshot(1)); err != nil {
		f.Fatal(err)
	}
	text, err := s.readFile("state/00000001/" + manifestName)
	if err := errors.Join(err, s.Close()); err != nil {
		f.Fatal(err)
	}
	f.Add(text)
	f.Add([]byte(`{"format":2}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		got, err := readManifest(text)
		if err != nil {
			return
		}
		again, err := got.seal()
		if err != nil {
			t.Fatal(err)
		}
		back, err := readManifest(again)
		if err != nil || back.Checksum != got.Checksum {
			t.Fatalf("taken, and then not: %v", err)
		}
		if bytes.Contains(text, []byte("\x00")) {
			t.Fatal("a manifest with a zero byte was taken")
		}
	})
}

// TestCloses: a store that was closed leaves no goroutine of the library.
func TestCloses(t *testing.T) {
	library := func() (n int) {
		buf := make([]byte, 4<<20)
		return bytes.Count(buf[:runtime.Stack(buf, true)], []byte("created by github.com/cockroachdb/pebble"))
	}
	before := library()
	m := vfs.NewMem()
	for e := range int64(3) {
		s := open(t, m, 2)
		if _, _, _, err := s.Newest(); err != nil {
			t.Fatal(err)
		}
		save(t, s, e+1)
		if library() <= before {
			t.Fatal("the test does not see the library's goroutines")
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	for until := time.Now().Add(5 * time.Second); library() > before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%d goroutines of the library, %d before", library(), before)
		}
	}
}

// TestReadBesideWrite: a lane that loads reads while another has let go what it loaded and writes when that is due; under the
// race detector.
func TestReadBesideWrite(t *testing.T) {
	m := vfs.NewMem()
	s := open(t, m, 2)
	save(t, s, 1)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, m, 2)
	if _, _, _, err := s.Newest(); err != nil {
		t.Fatal(err)
	}
	wrote := make(chan error)
	go func() {
		var err error
		for n := range 20 {
			due := state.NewChanges(&state.Table{Name: "due", Span: "due", Key: sessions.Key, Derived: true})
			for _, r := range changesOf(1)[0].Tables[1].New {
				for i := range r.N {
					due.Put(r.Key(i), r.Hash[i], row.Time(n))
				}
			}
			err = errors.Join(err, s.Write(fmt.Sprint("step ", n), 0, 2, []*state.Changes{due}))
		}
		wrote <- err
	}()
	want := dump(t, modelOf(1), windows, 3)
	for range 20 {
		if got := dump(t, s, windows, 3); strings.Join(got, "") != strings.Join(want, "") {
			t.Fatalf("%d rows, want %d", len(got), len(want))
		}
	}
	if err := errors.Join(<-wrote, s.Close()); err != nil {
		t.Fatal(err)
	}
}

// TestRandomBatches: whatever comes together in one batch (tables that are dropped whole, spans that have passed, lanes that
// are emptied, rows that are gone and new) leaves what the plainest model has: first the ranges, then rows one by one.
func TestRandomBatches(t *testing.T) {
	for seed := range uint64(pace.Of(100, 10)) {
		r := rand.New(rand.NewPCG(seed, 3))
		s, err := openRows(vfs.NewMem(), "live", 0)
		if err != nil {
			t.Fatal(err)
		}
		model := map[string]string{}
		for range 12 {
			var b batch
			for range r.IntN(4) {
				b.dropped(state.TableNumber(1 + r.IntN(4)))
			}
			for n := state.TableNumber(1); n <= 4; n++ {
				table, tables := []*state.Table{windows, sessions}[n%2], changesOf(r.Int64N(9))
				for lane, c := range tables {
					c := c.Tables[n%2]
					c.Emptied = n%2 == 1 && r.IntN(6) == 0
					if r.IntN(3) > 0 {
						c.New, c.Gone = nil, nil
					}
					b.add(n, c, lane, len(tables))
				}
				if n%2 == 0 {
					for range r.IntN(3) {
						b.passed(n, table, row.Time(r.Int64N(12_000)))
					}
				}
			}
			for _, gone := range b.ranges {
				maps.DeleteFunc(model, func(name, _ string) bool { return name >= string(gone[0]) && name < string(gone[1]) })
			}
			for _, n := range slices.Sorted(maps.Keys(b.tables)) {
				for _, e := range b.tables[n] {
					if delete(model, string(b.name(&e))); !e.gone {
						model[string(b.name(&e))] = string(b.content(&e))
					}
				}
			}
			if _, err := s.write(&b); err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
			same(t, s, model)
		}
		if err := s.close(); err != nil {
			t.Fatal(err)
		}
	}
}

// same compares all that a store has with a model.
func same(t *testing.T, s *rows, model map[string]string) {
	t.Helper()
	it, err := s.db.NewIter(nil)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for ok := it.First(); ok; ok = it.Next() {
		if n++; model[string(it.Key())] != string(it.Value()) {
			t.Fatalf("%x holds %x, the model has %x", it.Key(), it.Value(), model[string(it.Key())])
		}
	}
	if err := it.Close(); err != nil || n != len(model) {
		t.Fatalf("%d rows, the model has %d (%v)", n, len(model), err)
	}
}

// TestLookBesideRun: the newest checkpoint can be looked into whenever a run that keeps one replaces it.
func TestLookBesideRun(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	s, err := Open(Disk, dir, Options{Job: "levels", Digest: "d", Keep: 1})
	if err != nil {
		t.Fatal(err)
	}
	save(t, s, 1)
	saved := make(chan error)
	go func() {
		for e := range 40 {
			if _, err := s.Save(snapshot(int64(e + 2))); err != nil {
				saved <- err
				return
			}
		}
		saved <- nil
	}()
	looks := 0
	for last := int64(0); last < 41; looks++ {
		o, err := OpenOne(Disk, dir, 0)
		if err != nil {
			t.Fatalf("after checkpoint %d: %v", last, err)
		}
		if o.Epoch < last {
			t.Errorf("checkpoint %d is the newest after %d", o.Epoch, last)
		}
		last = o.Epoch
		if err := o.Close(); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(<-saved, s.Close()); err != nil {
		t.Fatal(err)
	}
	if looks < 10 {
		t.Errorf("looked %d times", looks)
	}
}

// afterList does something once a folder has been listed.
type afterList struct {
	vfs.FS
	do func(names []string)
}

func (f afterList) List(dir string) ([]string, error) {
	names, err := f.FS.List(dir)
	f.do(names)
	return names, err
}

// TestLookAsItIsPruned: the newest is found although a run prunes each that was listed before it is read.
func TestLookAsItIsPruned(t *testing.T) {
	m := vfs.NewMem()
	s := open(t, m, 1)
	save(t, s, 1)
	last := int64(1)
	o, err := OpenOne(afterList{m, func([]string) {
		if last < 5 {
			last++
			save(t, s, last)
		}
	}}, "state", 0)
	if err != nil {
		t.Fatal(err)
	}
	if o.Epoch != 5 {
		t.Errorf("checkpoint %d is opened, and 5 is the newest", o.Epoch)
	}
	if err := errors.Join(o.Close(), s.Close()); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenOne(vfs.NewMem(), "state", 0); !errors.Is(err, ErrNoCheckpoint) {
		t.Errorf("a folder without any: %v", err)
	}
}

// TestManyEpochs: epochs are found however many digits they have.
func TestManyEpochs(t *testing.T) {
	s := open(t, vfs.NewMem(), 2)
	save(t, s, 99_999_999, 100_000_000, 100_000_001)
	if epochs, err := s.epochs(); err != nil || len(epochs) != 2 || epochs[0] != 100_000_001 {
		t.Errorf("%v are kept (%v), want two", epochs, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}

// TestOtherFormat: a checkpoint of format 1, and one that is whole and has what this version does not know, is refused with a
// sentence, and not passed over.
func TestOtherFormat(t *testing.T) {
	m := vfs.NewMem()
	s := open(t, m, 2)
	save(t, s, 1)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		`{"format": 1, "job": "levels", "files": [{"step": "minute"}], "checksum": ""}`:       "format 1",
		`{"format": 2, "job": "levels", "tides": 7, "checksum": ""}`:                          `unknown field "tides"`,
		`{"format": 2, "job": "levels", "shipments": {"out": {"files": []}}, "checksum": ""}`: "does not know",
	} {
		bare := []byte(text)
		at := bytes.LastIndex(bare, []byte(`""`)) + 1
		write(t, m, "state/00000001/"+manifestName, append(append(bytes.Clone(bare[:at]), digest(bare)...), bare[at:]...))
		if _, _, _, err := open(t, m, 2).Newest(); !errors.Is(err, ErrFormat) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s gives %v", text, err)
		}
	}
}
