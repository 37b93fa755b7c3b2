package checkpoint

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// machine is a node's folder, with its shelf.
type machine struct {
	t     *testing.T
	dir   string
	shelf *Shelf
}

func newMachine(t *testing.T, p Place, lease int64) *machine {
	t.Helper()
	dir := t.TempDir()
	return &machine{t, dir, &Shelf{FS: Disk, Place: p, Within: ShelfIn("rates", 1), Dir: filepath.Join(dir, "1"), Shipments: filepath.Join(dir, "shipments"), Lease: lease, inline: 1 << 10}}
}

// open opens the folder.
func (m *machine) open() *Store {
	m.t.Helper()
	s, err := Open(Disk, m.shelf.Dir, Options{Job: "rates", Digest: "d", Keep: 3})
	if err != nil {
		m.t.Fatal(err)
	}
	return s
}

// rowsOf are those that wait for their delivery since an epoch.
func rowsOf(epoch int64) string { return strings.Repeat(fmt.Sprintf("row of epoch %d\n", epoch), 1000) }

// save makes a checkpoint, which goes on from the newest of the folder, and puts it.
func (m *machine) save(epoch int64) (text string) {
	m.t.Helper()
	s := m.open()
	defer s.Close()
	if _, _, _, err := s.Newest(); err != nil {
		m.t.Fatal(err)
	}
	if err := os.MkdirAll(m.shelf.Shipments, 0o700); err != nil {
		m.t.Fatal(err)
	}
	name := fmt.Sprintf("means-%08d.rows", epoch)
	if err := os.WriteFile(filepath.Join(m.shelf.Shipments, name), []byte(rowsOf(epoch)), 0o600); err != nil {
		m.t.Fatal(err)
	}
	snap := snapshot(epoch)
	snap.Shipments["means"][1].Files = []string{name}
	if _, err := s.Save(snap); err != nil {
		m.t.Fatal(err)
	}
	text, _, err := m.shelf.Put(context.Background(), epoch)
	if err != nil {
		m.t.Fatal(err)
	}
	return text
}

// goesOn holds that the folder's newest checkpoint is what some epochs left, with the rows that wait since the last of them; none: it has none.
func (m *machine) goesOn(epochs ...int64) {
	m.t.Helper()
	s := m.open()
	defer s.Close()
	snap, passed, _, err := s.Newest()
	if err != nil || len(passed) > 0 {
		m.t.Fatalf("%v, passed over %v", err, passed)
	}
	if len(epochs) == 0 {
		if snap != nil {
			m.t.Errorf("it goes on from %d", snap.Epoch)
		}
		return
	}
	last := epochs[len(epochs)-1]
	if snap == nil || snap.Epoch != last {
		m.t.Fatalf("it does not go on from %d: %+v", last, snap)
	}
	snap.Shipments["means"][1].Files = nil // which snapshots of tests lack
	check(m.t, snap, epochs...)
	if rows, err := os.ReadFile(filepath.Join(m.shelf.Shipments, fmt.Sprintf("means-%08d.rows", last))); err != nil || string(rows) != rowsOf(last) {
		m.t.Errorf("%d bytes of rows wait, %v", len(rows), err)
	}
}

func (m *machine) settle(epoch int64, text string) {
	m.t.Helper()
	if err := m.shelf.Settle(context.Background(), epoch, text); err != nil {
		m.t.Fatal(err)
	}
}

// TestShelf: a node goes on from what another one has put and what counts, whatever else lies in the place or in its own folder.
func TestShelf(t *testing.T) {
	ctx := context.Background()
	place := SharedFolder(t.TempDir())
	a, b := newMachine(t, place, 1), newMachine(t, place, 2)
	a.settle(0, "")
	a.goesOn()
	one := a.save(1)
	two := a.save(2)
	if err := a.shelf.Thin(ctx, 3); err != nil {
		t.Fatal(err)
	}
	stale := a.save(3) // it never counts

	// The other node goes on from 2; in its own folder there is something of before.
	b.save(9)
	b.settle(2, two)
	b.goesOn(1, 2)
	five := b.save(5)
	if err := b.shelf.Thin(ctx, 1); err != nil {
		t.Fatal(err)
	}
	all, err := place.List(ctx, "jobs/rates/")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{one, two, stale} {
		if name := strings.Fields(text)[0]; slices.Contains(all, name) {
			t.Errorf("%s is left, and nothing needs it", name)
		}
	}

	// The first one takes the job again: its own 3 does not count.
	a.shelf.Lease = 3
	a.settle(5, five)
	a.goesOn(1, 2, 5)
	a.settle(5, five) // tried again
	a.goesOn(1, 2, 5)
	six := a.save(6)
	b.shelf.Lease = 4
	b.settle(6, six)
	b.goesOn(1, 2, 5, 6)
	if err := place.RemoveAll(ctx, ShelfOf("rates")); err != nil {
		t.Fatal(err)
	}
	if all, err := place.List(ctx, "jobs/"); err != nil || len(all) > 0 {
		t.Errorf("after the job was removed there are %v, %v", all, err)
	}
	a.settle(0, "")
	a.goesOn()
}

// damaging is a place whose files are not as they were written.
type damaging struct {
	Place
	spoil func(name string, text []byte) []byte
}

func (d damaging) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	in, err := d.Place.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := io.ReadAll(in)
	return io.NopCloser(bytes.NewReader(d.spoil(name, text))), err
}

// TestShelfDamaged: nothing that differs from what was put is taken, whichever bit it is; nothing is left behind that would be.
func TestShelfDamaged(t *testing.T) {
	place := SharedFolder(t.TempDir())
	text := newMachine(t, place, 1).save(1)
	names, err := place.List(context.Background(), "jobs/")
	if err != nil || len(names) < 3 {
		t.Fatalf("%v, %v", names, err)
	}
	for _, name := range names {
		for range 5 {
			b := newMachine(t, damaging{place, func(of string, text []byte) []byte {
				if of == name {
					text[rand.IntN(len(text))] ^= 1 << rand.IntN(8)
				}
				return text
			}}, 2)
			if err := b.shelf.Settle(context.Background(), 1, text); !errors.Is(err, ErrDamaged) {
				t.Errorf("%s was damaged: %v", name, err)
			}
			b.shelf.Place = place // it can be read again
			b.settle(1, text)
			b.goesOn(1)
		}
	}
	c := newMachine(t, place, 2)
	if err := c.shelf.Settle(context.Background(), 1, "jobs/rates/1/none.json "+strings.Repeat("0", 64)); !errors.Is(err, fs.ErrNotExist) || !errors.Is(err, ErrUnreadable) {
		t.Errorf("a checkpoint that is not there: %v", err)
	}
}
