package checkpoint

import (
	"errors"
	"flag"
	"os"
	"path"
	"path/filepath"
	"testing"

	"github.com/cockroachdb/pebble/v2/vfs"
	"github.com/cockroachdb/pebble/v2/vfs/errorfs"

	"undertide/pace"
)

// TestCopy: a copy is the checkpoint, also once that has gone; a run goes on from it with greater epochs, and the copy that
// was made to go back says so until there is a newer one.
func TestCopy(t *testing.T) {
	m := vfs.NewMem()
	s := open(t, m, 1)
	save(t, s, 1, 2)
	if info, err := Copy(m, "state", 0, "pins/calm", false); err != nil || info.Epoch != 2 {
		t.Fatalf("%+v, %v", info, err)
	}
	save(t, s, 3, 4)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy(m, "state", 2, "pins/late", false); !errors.Is(err, ErrNoCheckpoint) {
		t.Errorf("the copy of a checkpoint that has gone gives %v", err)
	}
	if _, err := m.Stat("pins/late"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("and leaves a folder: %v", err)
	}
	if _, err := Copy(m, "pins/calm", 0, "next", true); err != nil {
		t.Fatal(err)
	}
	opened := func(dir string) *Store {
		s, err := Open(m, dir, Options{Job: "levels", Digest: "d", Keep: 1})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for _, again := range []bool{true, false} {
		s := opened("next")
		snap, _, highest, err := s.Newest()
		if err != nil || snap.Again != again {
			t.Fatalf("%+v, %v; want again %v", snap, err, again)
		}
		if again {
			check(t, snap, 1, 2)
		} else {
			check(t, snap, 1, 2, 9)
		}
		save(t, s, max(highest+1, 9))
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	s = opened("pins/calm")
	snap, _, _, err := s.Newest()
	if err != nil || snap.Again {
		t.Fatalf("the pin: %+v, %v", snap, err)
	}
	check(t, snap, 1, 2)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}

// TestCopyFaults makes operation 1, 2, 3 … of a copy fail: the fault is told and nothing of the copy is left; a crash leaves
// a copy that is whole, or none that counts. What is copied stays as it is.
func TestCopyFaults(t *testing.T) {
	faults := 0
	for failAt := int64(1); ; failAt += int64(pace.Of(1, 7)) {
		m := vfs.NewCrashableMem()
		s := open(t, m, 2)
		save(t, s, 1, 2)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		f := &fault{counts: writes}
		f.n.Store(failAt)
		_, fault := Copy(errorfs.Wrap(m, f), "state", 2, "pins/calm", true)
		hit := f.hit.Load()
		crashed := m.CrashClone(vfs.CrashCloneCfg{})
		if !hit && fault != nil {
			t.Fatalf("without a fault the copy gives %v", fault)
		}
		for name, disk := range map[string]vfs.FS{"going on": m, "crash": crashed} {
			of := func(dir string) (*Store, int64) {
				s, err := Open(disk, dir, Options{Job: "levels", Digest: "d", Keep: 2})
				if err != nil {
					t.Fatal(err)
				}
				snap, _, _, err := s.Newest()
				if err != nil {
					t.Fatalf("operation %d failed, %s, %s: %v", failAt, name, dir, err)
				}
				if snap == nil {
					return s, 0
				}
				check(t, snap, 1, 2)
				if dir != "state" && !snap.Again {
					t.Fatalf("operation %d failed, %s: the copy does not say that it was gone back to", failAt, name)
				}
				return s, snap.Epoch
			}
			if _, err := disk.Stat(path.Join("pins/calm", folderName(2), manifestName)); err == nil == (fault != nil) && name == "going on" {
				t.Fatalf("operation %d failed and the copy gives %v; it is there: %v", failAt, fault, err == nil)
			}
			for dir, want := range map[string]int64{"state": 2, "pins/calm": -1} {
				s, epoch := of(dir)
				if want > 0 && epoch != want || fault == nil && epoch != 2 {
					t.Fatalf("operation %d failed, %s, %s: epoch %d", failAt, name, dir, epoch)
				}
				if err := s.Close(); err != nil {
					t.Fatal(err)
				}
			}
		}
		if !hit {
			break
		}
		faults++
	}
	if faults < pace.Of(8, 2) {
		t.Errorf("only %d operations were tried", faults)
	}
}

// TestAlone: a pin costs what only it has: nothing while the checkpoint is there.
func TestAlone(t *testing.T) {
	dir := t.TempDir()
	folder := filepath.Join(dir, "state")
	s, err := Open(Disk, folder, Options{Job: "levels", Digest: "d", Keep: 1})
	if err != nil {
		t.Fatal(err)
	}
	save(t, s, 1)
	pin := filepath.Join(dir, "pins", "calm")
	info, err := Copy(Disk, folder, 1, pin, false)
	if err != nil {
		t.Fatal(err)
	}
	manifest, err := os.Stat(filepath.Join(pin, folderName(1), manifestName))
	if err != nil {
		t.Fatal(err)
	}
	if n, err := Alone(pin); err != nil || n != manifest.Size() {
		t.Errorf("beside its checkpoint it costs %d bytes (%v), want its manifest, %d", n, err, manifest.Size())
	}
	if err := errors.Join(s.Close(), os.RemoveAll(folder)); err != nil {
		t.Fatal(err)
	}
	if n, err := Alone(pin); err != nil || n != manifest.Size()+info.Saved.Size {
		t.Errorf("alone it costs %d bytes (%v), want %d", n, err, manifest.Size()+info.Saved.Size)
	}
}

var writeGolden = flag.Bool("write-golden", false, "write testdata/format-2 anew, where the format changes before it is released")

// TestGolden: a checkpoint that an earlier build made is loaded, and the run goes on from it. Later versions keep this: a
// checkpoint of format 2 is theirs to read, or to refuse with a sentence.
func TestGolden(t *testing.T) {
	const golden = "testdata/format-2"
	if *writeGolden {
		if err := os.RemoveAll(golden); err != nil {
			t.Fatal(err)
		}
		s, err := Open(Disk, golden, Options{Job: "levels", Digest: "d", Keep: 1})
		if err != nil {
			t.Fatal(err)
		}
		save(t, s, 1, 2, 3)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
	dir := filepath.Join(t.TempDir(), "state")
	if err := os.CopyFS(dir, os.DirFS(golden)); err != nil {
		t.Fatal(err)
	}
	s, err := Open(Disk, dir, Options{Job: "levels", Digest: "d", Keep: 2})
	if err != nil {
		t.Fatal(err)
	}
	snap, passed, _, err := s.Newest()
	if err != nil || len(passed) > 0 || snap == nil || snap.Epoch != 3 {
		t.Fatalf("%+v, passed over %v, %v", snap, passed, err)
	}
	check(t, snap, 1, 2, 3)
	save(t, s, 4)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s, err = Open(Disk, dir, Options{Job: "levels", Digest: "d", Keep: 2})
	if err != nil {
		t.Fatal(err)
	}
	if snap, _, _, err = s.Newest(); err != nil {
		t.Fatal(err)
	}
	check(t, snap, 1, 2, 3, 4)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}
