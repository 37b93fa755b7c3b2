package checkpoint

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"undertide/core/engine"
	"undertide/core/row"
)

var stateSchema = row.Schema{{Name: "share", Kind: row.Int}, {Name: "gauge", Kind: row.String}, {Name: "window_start", Kind: row.Timestamp}, {Name: "a0_sum", Kind: row.Double}, {Name: "ok", Kind: row.Bool}, {Name: "raw", Kind: row.Bytes}}

// snapshot makes a snapshot of an epoch whose state can be told from that of others.
func snapshot(epoch int64) *engine.Snapshot {
	part := func(from, n int) *row.Batch {
		b := row.NewBatch(stateSchema)
		for i := range n {
			b.Cols[0].AppendInt(int64(from + i/10))
			if i%7 == 3 {
				b.Cols[1].AppendNull()
			} else {
				b.Cols[1].AppendString(fmt.Sprintf("G%d", i))
			}
			b.Cols[2].AppendInt(epoch*1_000_000 + int64(i))
			b.Cols[3].AppendDouble(float64(i) / 3)
			b.Cols[4].AppendBool(i%2 == 0)
			b.Cols[5].AppendString("\xff\x00")
			b.N++
		}
		return b
	}
	return &engine.Snapshot{
		Epoch: epoch, Turn: 10 * epoch, Started: time.Unix(1_767_225_600, 0).UTC(),
		Partitions: []engine.PartitionState{
			{Source: "levels", Name: "a", Position: json.RawMessage(`{"byte":12}`), Greatest: 99, Events: 3},
			{Source: "levels", Name: "b", Greatest: row.MinTime},
		},
		Watermarks: map[string]row.Time{"levels": 98}, StepWatermarks: map[string]row.Time{"minute": 99},
		States:    map[string][]*row.Batch{"minute": {part(120, 1500), part(0, 40)}},
		Shipments: map[string]json.RawMessage{"means": json.RawMessage(`{"bytes":7}`)},
		Counts:    engine.Counts{Sources: []engine.SourceCounts{{Read: epoch, Rejected: map[string]int64{"malformed": 1}}}},
	}
}

func open(t *testing.T, f FS, keep int) *Store {
	t.Helper()
	s, err := Open(f, "state", Options{Job: "levels", Digest: "d", Keep: keep})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// check says whether a snapshot that was read is whole: that of the epoch it says it is.
func check(t *testing.T, got *engine.Snapshot) {
	t.Helper()
	want := snapshot(got.Epoch)
	if got.Turn != want.Turn || !got.Started.Equal(want.Started) || len(got.Partitions) != 2 || got.Partitions[0].Greatest != 99 || got.Partitions[1].Greatest != row.MinTime ||
		!strings.Contains(string(got.Partitions[0].Position), "12") || got.Counts.Sources[0].Read != got.Epoch || got.Watermarks["levels"] != 98 || got.StepWatermarks["minute"] != 99 || got.Counts.Sources[0].Rejected["malformed"] != 1 {
		t.Errorf("epoch %d reads back as %+v", got.Epoch, got)
	}
	b := got.States["minute"]
	if len(b) != 1 || b[0].N != 1540 {
		t.Fatalf("epoch %d: the state has %d parts", got.Epoch, len(b))
	}
	for i := 1; i < b[0].N; i++ {
		if b[0].Cols[0].I[i] < b[0].Cols[0].I[i-1] {
			t.Fatalf("the state is not sorted by share at row %d", i)
		}
	}
	// Rows 0 to 39 are those of the second part.
	for i := range 40 {
		w := want.States["minute"][1]
		for c := range stateSchema {
			if b[0].Cols[c].IsNull(i) != w.Cols[c].IsNull(i) {
				t.Fatalf("row %d, column %s: null %v", i, stateSchema[c].Name, b[0].Cols[c].IsNull(i))
			}
		}
		if b[0].Cols[2].I[i] != w.Cols[2].I[i] || b[0].Cols[3].F[i] != w.Cols[3].F[i] || !w.Cols[1].IsNull(i) && string(b[0].Cols[1].Bytes(i)) != string(w.Cols[1].Bytes(i)) || string(b[0].Cols[5].Bytes(i)) != "\xff\x00" {
			t.Fatalf("row %d of the state differs", i)
		}
	}
}

func TestSaveAndLoad(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(Disk{}, filepath.Join(dir, "state"), Options{Job: "levels", Digest: "d", Keep: 2})
	if err != nil {
		t.Fatal(err)
	}
	if snap, _, highest, err := s.Newest(); snap != nil || highest != 0 || err != nil {
		t.Fatalf("an empty folder gives %v, %d, %v", snap, highest, err)
	}
	for e := range int64(4) {
		if err := s.Save(snapshot(e + 1)); err != nil {
			t.Fatal(err)
		}
	}
	snap, passed, highest, err := s.Newest()
	if err != nil || snap.Epoch != 4 || highest != 4 || len(passed) != 0 {
		t.Fatalf("newest: %v, passed %v, highest %d, %v", snap, passed, highest, err)
	}
	check(t, snap)
	entries, err := os.ReadDir(filepath.Join(dir, "state"))
	if err != nil || len(entries) != 2 || entries[0].Name() != "00000003" {
		t.Errorf("the folder keeps %v, want the two newest; %v", entries, err)
	}
	// Any Parquet reader opens the state, with readable columns.
	type rowOf struct {
		Share int64    `parquet:"share"`
		Gauge *string  `parquet:"gauge"`
		Sum   *float64 `parquet:"a0_sum"`
	}
	rows, err := parquet.ReadFile[rowOf](filepath.Join(dir, "state", "00000004", "minute.parquet"))
	if err != nil || len(rows) != 1540 || rows[1].Gauge == nil || *rows[1].Gauge != "G1" || *rows[1].Sum != 1.0/3 {
		t.Errorf("the Parquet file gives %d rows, %v", len(rows), err)
	}
	other, err := Open(Disk{}, filepath.Join(dir, "state"), Options{Job: "levels", Digest: "other", Keep: 2})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := other.Newest(); !errors.Is(err, errOther) {
		t.Errorf("another document's checkpoints give %v", err)
	}
}

// TestDamage flips bytes everywhere: a damaged checkpoint is passed over and named, and when none is
// left the start is refused.
func TestDamage(t *testing.T) {
	m := newMemory()
	s := open(t, m, 2)
	for e := range int64(2) {
		if err := s.Save(snapshot(e + 1)); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"minute.parquet", manifestName} {
		f := m.files["state/00000002/"+name]
		for at := 0; at < len(f.data); at += 1 + len(f.data)/97 {
			f.data[at] ^= 0x20
			snap, passed, highest, err := s.Newest()
			if err != nil || snap.Epoch != 1 || len(passed) != 1 || passed[0].Epoch != 2 || passed[0].Why == "" || highest != 2 {
				t.Fatalf("%s, byte %d flipped: %v, %v, %d, %v", name, at, snap, passed, highest, err)
			}
			f.data[at] ^= 0x20
		}
		whole := f.data
		f.data = whole[:len(whole)-1]
		if snap, _, _, err := s.Newest(); err != nil || snap.Epoch != 1 {
			t.Errorf("%s cut short: %v, %v", name, snap, err)
		}
		f.data = whole
	}
	m.files["state/00000001/minute.parquet"].data[0] ^= 1
	delete(m.files, "state/00000002/minute.parquet")
	_, _, _, err := s.Newest()
	if !errors.Is(err, ErrDamaged) || !strings.Contains(err.Error(), "1: state file minute.parquet") || !strings.Contains(err.Error(), "2: state file minute.parquet") {
		t.Errorf("with all damaged: %v", err)
	}
}

// TestFaults makes operation 1, 2, 3 … of a save fail until a save passes: each fault must surface,
// and each crash copy must start, from the checkpoint before or from the new one if it is complete.
func TestFaults(t *testing.T) {
	passes := false
	faults := 0
	for failAt := 1; !passes; failAt++ {
		m := newMemory()
		s := open(t, m, 2)
		for e := range int64(2) {
			if err := s.Save(snapshot(e + 1)); err != nil {
				t.Fatal(err)
			}
		}
		m.failAt = m.ops + failAt
		err := s.Save(snapshot(3))
		passes = m.ops < m.failAt
		if passes != (err == nil) || err != nil && !errors.Is(err, errInjected) {
			t.Fatalf("operation %d failed and the save gave %v", failAt, err)
		}
		faults++
		m.failAt = 0
		for name, f := range map[string]*memory{"going on": m, "crash": m.crash()} {
			snap, _, highest, err := open(t, f, 2).Newest()
			if err != nil || snap == nil || snap.Epoch < 2 || passes && snap.Epoch != 3 {
				t.Fatalf("operation %d failed, %s: %v, %v", failAt, name, snap, err)
			}
			check(t, snap)
			if err := open(t, f, 2).Save(snapshot(highest + 1)); err != nil {
				t.Fatalf("operation %d failed, %s: the next save gives %v", failAt, name, err)
			}
			if snap, _, _, err = open(t, f, 2).Newest(); err != nil || snap.Epoch != highest+1 {
				t.Fatalf("operation %d failed, %s: after the next save %v, %v", failAt, name, snap, err)
			}
		}
	}
	if faults < 12 {
		t.Errorf("only %d operations were tried", faults)
	}
}

// TestReadFaults makes every operation of a load fail: an injected fault is never taken for an empty
// folder.
func TestReadFaults(t *testing.T) {
	m := newMemory()
	if err := open(t, m, 2).Save(snapshot(1)); err != nil {
		t.Fatal(err)
	}
	s := open(t, m, 2)
	for failAt := 1; ; failAt++ {
		m.failAt = m.ops + failAt
		snap, _, _, err := s.Newest()
		if m.ops < m.failAt {
			return
		}
		if snap != nil || err == nil {
			t.Errorf("operation %d failed and the load gave %v, %v", failAt, snap, err)
		}
	}
}

// FuzzManifest: no text makes the reader panic, and what it takes is what was sealed.
func FuzzManifest(f *testing.F) {
	m := newMemory()
	s, err := Open(m, "state", Options{Job: "levels", Digest: "d"})
	if err != nil {
		f.Fatal(err)
	}
	if err := s.Save(snapshot(1)); err != nil {
		f.Fatal(err)
	}
	f.Add(m.files["state/00000001/"+manifestName].data)
	f.Add([]byte(`{"format":1}`))
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

// TestUnreadable makes each operation of reading fail in turn: a start never goes back to an older checkpoint for
// it, since the newest may be whole.
func TestUnreadable(t *testing.T) {
	m := newMemory()
	s := open(t, m, 2)
	for e := range int64(2) {
		if err := s.Save(snapshot(e + 1)); err != nil {
			t.Fatal(err)
		}
	}
	for n := 1; ; n++ {
		m.ops, m.failAt = 0, n
		snap, passed, _, err := s.Newest()
		if m.ops < n {
			if err != nil || snap.Epoch != 2 || n < 3 {
				t.Fatalf("without a fault, after %d operations: %v, %v", m.ops, snap, err)
			}
			return
		}
		if err == nil || len(passed) > 0 {
			t.Errorf("fault %d: the start goes on from %v, passing over %v", n, snap.Epoch, passed)
		} else if !errors.Is(err, errInjected) || n > 1 && !errors.Is(err, ErrUnreadable) {
			t.Errorf("fault %d: %v", n, err)
		}
	}
}

// TestManyEpochs: epochs are found however many digits they have. Once those from 100,000,000 on were not.
func TestManyEpochs(t *testing.T) {
	s := open(t, newMemory(), 2)
	for _, e := range []int64{99_999_999, 100_000_000, 100_000_001} {
		if err := s.Save(snapshot(e)); err != nil {
			t.Fatal(err)
		}
	}
	snap, _, highest, err := s.Newest()
	if err != nil || snap.Epoch != 100_000_001 || highest != 100_000_001 {
		t.Errorf("the newest is %v of %d, %v", snap, highest, err)
	}
	if epochs, err := s.epochs(); err != nil || len(epochs) != 2 {
		t.Errorf("%v are kept (%v), want two", epochs, err)
	}
}
