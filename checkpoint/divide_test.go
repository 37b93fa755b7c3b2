package checkpoint

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"
	"github.com/cockroachdb/pebble/v2/vfs/errorfs"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/pace"
)

// owns is the division of run number n of so many: rows by their hash, and the partition of its number.
func owns(n, of int, alike bool) Division {
	return Division{Job: fmt.Sprintf("run-%d", n), Digest: fmt.Sprint("d", n, of), Alike: alike,
		Reads: func(_, partition string) bool { return int(partition[0]-'a')%of == n },
		Owner: func(string, *state.Table) (func(*state.Rows, int) (bool, error), error) {
			return func(r *state.Rows, i int) (bool, error) { return int(r.Hash[i]/7%12)*of/12 == n, nil }, nil
		}}
}

// divided makes the first checkpoints of so many runs, of what lies in folders.
func divided(t *testing.T, m vfs.FS, from []string, of int) (dirs []string) {
	t.Helper()
	for n := range of {
		var shares []Share
		for i, dir := range from {
			shares = append(shares, Share{Dir: dir, State: true, Counts: i%of == n})
		}
		dir := fmt.Sprintf("%d-of-%d", n, of)
		if _, err := Divide(m, dir, shares, owns(n, of, true)); err != nil {
			t.Fatal(err)
		}
		dirs = append(dirs, dir)
	}
	return dirs
}

// loaded reads the newest checkpoint of a run.
func loaded(t *testing.T, m vfs.FS, dir string, n, of int) (*Store, *engine.Snapshot) {
	t.Helper()
	s, err := Open(m, dir, Options{Job: fmt.Sprintf("run-%d", n), Digest: fmt.Sprint("d", n, of), Keep: 2})
	if err != nil {
		t.Fatal(err)
	}
	snap, passed, _, err := s.Newest()
	if err != nil || snap == nil || len(passed) > 0 {
		t.Fatalf("%s: %v, %v, %v", dir, snap, passed, err)
	}
	return s, snap
}

// TestDivide: what three runs take over of one, then five of those, and two, is together what that one had: each row once, each partition and each count once.
func TestDivide(t *testing.T) {
	m := vfs.NewMem()
	s := open(t, m, 2)
	save(t, s, 1, 2, 3, 4)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	dirs, model := []string{"state"}, modelOf(1, 2, 3, 4)
	for _, of := range []int{3, 5, 2} {
		dirs = divided(t, m, dirs, of)
		rows, partitions, read := map[string][]string{}, 0, int64(0)
		for n, dir := range dirs {
			s, snap := loaded(t, m, dir, n, of)
			if snap.Epoch != 4 || snap.Turn != 40 || snap.Finished || !snap.Inherits() || snap.Watermarks["levels"] != 98 || snap.StepWatermarks["minute"] != 99 || len(snap.Shipments) != 0 {
				t.Errorf("%s: %+v", dir, snap)
			}
			for _, table := range []*state.Table{windows, sessions} {
				rows[table.Name] = append(rows[table.Name], dump(t, snap.State, table, 2)...)
			}
			partitions += len(snap.Partitions)
			read += snap.Counts.Sources[0].Read
			// It goes on as any other.
			if _, err := s.Save(snapshot(5)); err != nil {
				t.Fatal(err)
			}
			if err := errors.Join(s.Close(), m.RemoveAll(dir+"/"+folderName(5))); err != nil {
				t.Fatal(err)
			}
		}
		for _, table := range []*state.Table{windows, sessions} {
			want := dump(t, model, table, 1)
			slices.Sort(want)
			slices.Sort(rows[table.Name])
			if !slices.Equal(rows[table.Name], want) {
				t.Errorf("%d runs: table %q has %d rows, and the one run had %d", of, table.Name, len(rows[table.Name]), len(want))
			}
		}
		if partitions != 2 || read != 4 {
			t.Errorf("%d runs: %d partitions and %d events", of, partitions, read)
		}
	}
}

// TestDivideWatermarks: runs that are to stand together and do not are refused; of others the least counts.
func TestDivideWatermarks(t *testing.T) {
	m := vfs.NewMem()
	var shares []Share
	for i, marks := range []map[string]row.Time{{"levels": 98, "posts": 5}, {"levels": 90}} {
		dir := fmt.Sprint("apart-", i)
		s, err := Open(m, dir, Options{Job: dir, Digest: "d"})
		if err != nil {
			t.Fatal(err)
		}
		snap := snapshot(int64(i + 1))
		snap.Watermarks, snap.Finished, snap.Begun = marks, i == 0, map[string]map[string]row.Time{"minute": {"mean": row.Time(7 - i)}}
		if _, err := s.Save(snap); err != nil {
			t.Fatal(err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		shares = append(shares, Share{Dir: dir})
	}
	if _, err := Divide(m, "alike", shares, owns(0, 1, true)); err == nil || !strings.Contains(err.Error(), "have not come to rest together") {
		t.Errorf("runs that are apart are divided: %v", err)
	}
	info, err := Divide(m, "least", shares, owns(0, 1, false))
	if err != nil {
		t.Fatal(err)
	}
	if _, some := info.Watermarks["posts"]; some || info.Watermarks["levels"] != 90 || info.Epoch != 2 || info.Finished || info.Begun["minute"]["mean"] != 7 {
		t.Errorf("%+v", info)
	}
	if _, err := Divide(m, "none", []Share{{Dir: "nowhere"}}, owns(0, 1, false)); !errors.Is(err, ErrNoCheckpoint) {
		t.Errorf("of nothing there is %v", err)
	}
}

// TestDivideFaults makes each operation of a division fail in turn: either there is no checkpoint then, or a whole one.
func TestDivideFaults(t *testing.T) {
	faults := 0
	for failAt := int64(1); ; failAt += int64(pace.Of(1, 5)) {
		m := vfs.NewMem()
		s := open(t, m, 2)
		save(t, s, 1, 2)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		f := &fault{counts: writes}
		f.n.Store(failAt)
		done := make(chan error, 1)
		go func() {
			_, err := Divide(errorfs.Wrap(m, f), "to", []Share{{Dir: "state", State: true, Counts: true}}, owns(0, 1, true))
			done <- err
		}()
		var err error
		select {
		case err = <-done:
		case <-time.After(10 * time.Second):
			t.Fatalf("operation %d failed, and the division does not end", failAt)
		}
		if !f.hit.Load() {
			if err != nil {
				t.Fatal(err)
			}
			break
		}
		faults++
		to, e := Open(m, "to", Options{Job: "run-0", Digest: fmt.Sprint("d", 0, 1), Keep: 2})
		if e != nil {
			t.Fatal(e)
		}
		snap, _, _, e := to.Newest()
		if e != nil || err == nil && snap == nil {
			t.Fatalf("operation %d failed (%v): %v, %v", failAt, err, snap, e)
		}
		if snap != nil {
			if got, want := dump(t, snap.State, windows, 1), dump(t, modelOf(1, 2), windows, 1); !slices.Equal(got, want) {
				t.Fatalf("operation %d failed (%v): %d rows, and there were %d", failAt, err, len(got), len(want))
			}
		}
		if e := to.Close(); e != nil {
			t.Fatal(e)
		}
	}
	if faults < pace.Of(20, 4) {
		t.Errorf("only %d operations were tried", faults)
	}
}

// BenchmarkDivide takes over half of the rows of a window's state: a million keys, with a count and a sum each.
func BenchmarkDivide(b *testing.B) {
	dir := b.TempDir()
	s, err := Open(Disk, dir+"/from", Options{Job: "levels", Digest: "d"})
	if err != nil {
		b.Fatal(err)
	}
	const keys = 1_000_000
	var changes []engine.LaneChanges
	for range 20 {
		changes = append(changes, engine.LaneChanges{Step: "minute", Lanes: 1, Tables: []*state.Changes{state.NewChanges(windows)}})
	}
	for i := range keys {
		c := row.NewColumn(row.String)
		c.AppendString(fmt.Sprintf("G%07d", i))
		var k state.Keys
		k.EncodeOne([]*row.Column{c}, 0)
		cols := changes[i%20].Tables[0].Put(k.Bytes(0), k.Hash[0], 60_000)
		cols[0].AppendInt(int64(i))
		cols[1].AppendDouble(float64(i))
		cols[2].AppendNull()
		cols[3].AppendNull()
	}
	snap := snapshot(1)
	snap.Changes = changes
	if _, err := s.Save(snap); err != nil {
		b.Fatal(err)
	}
	if err := s.Close(); err != nil {
		b.Fatal(err)
	}
	for n := 0; b.Loop(); n++ {
		d := owns(0, 2, true)
		d.Owner = func(string, *state.Table) (func(*state.Rows, int) (bool, error), error) {
			return func(r *state.Rows, i int) (bool, error) { return state.PortionOf(r.Hash[i], 2) == 0, nil }, nil
		}
		info, err := Divide(Disk, fmt.Sprintf("%s/%d", dir, n), []Share{{Dir: dir + "/from", State: true}}, d)
		if err != nil {
			b.Fatal(err)
		}
		if info.Saved.Rows < keys*4/10 || info.Saved.Rows > keys*6/10 {
			b.Fatalf("%d rows", info.Saved.Rows)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/keys, "ns/row")
}
