package journal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"undertide/disk"
	"undertide/pace"
)

var errInjected = errors.New("injected fault")

func open(t *testing.T, dir string, o Options) *Journal {
	t.Helper()
	j, err := Open(dir, o)
	if err != nil {
		t.Fatal(err)
	}
	return j
}

// readAll reads what is there from an event on.
func readAll(t *testing.T, j *Journal, at int64) (out []string) {
	t.Helper()
	r, err := j.Read(at)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for {
		e, _, ok, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		if !ok {
			return out
		}
		out = append(out, string(e))
	}
}

func lines(from, n int) (out [][]byte) {
	for i := range n {
		out = append(out, fmt.Appendf(nil, "event %d", from+i))
	}
	return out
}

// TestRandom: appends, repeats, reads, releases, faults of the disk and crashes in any order. What was acknowledged is there, once
// and in order, until it is released; what failed is not there.
func TestRandom(t *testing.T) {
	defer func() { disk.Failpoint = nil }()
	for seed := range uint64(pace.Of(120, 15)) {
		r := rand.New(rand.NewPCG(seed, 3))
		now := time.Unix(1_800_000_000, 0)
		o := Options{Segment: 400, Limit: 1 << 20, Now: func() time.Time { return now }}
		dir := t.TempDir()
		j := open(t, dir, o)
		var want []string
		keys := map[string]int64{} // of the last ten minutes
		faults := 0
		disk.Failpoint = func(op, path string) error {
			if faults > 0 && r.IntN(3) == 0 {
				faults--
				return fmt.Errorf("%s: %w", op, errInjected)
			}
			return nil
		}
		released := int64(0)
		for op := range 200 {
			switch r.IntN(12) {
			case 0: // the disk fails a few times from now on
				faults = r.IntN(4)
			case 1: // a crash loses what was not synced, or leaves some of it
				faults = 0
				last, size := j.path(j.segments[len(j.segments)-1]), j.segments[len(j.segments)-1].size
				_ = j.Close() // what it syncs is cut off below
				if f, err := os.OpenFile(last, os.O_WRONLY, 0); err == nil {
					junk := make([]byte, r.IntN(40))
					for i := range junk {
						junk[i] = byte(r.Uint32())
					}
					if _, err := f.WriteAt(junk, size); err != nil {
						t.Fatal(err)
					}
					if err := errors.Join(f.Truncate(size+int64(len(junk))), f.Close()); err != nil {
						t.Fatal(err)
					}
				}
				j = open(t, dir, o)
			case 2:
				released = max(released, r.Int64N(int64(len(want)+1)))
				if err := j.Release(released); err != nil && !errors.Is(err, errInjected) {
					t.Fatal(err)
				}
				if first, _ := j.Bounds(); first > released {
					t.Fatalf("seed %d: released up to %d, and %d is the first", seed, released, first)
				}
			case 3: // ten minutes pass for all keys
				if r.IntN(4) == 0 {
					now = now.Add(KeysLast + time.Second)
					clear(keys)
				}
			case 4:
				first, next := j.Bounds()
				at := first + r.Int64N(next-first+1)
				if got := readAll(t, j, at); !slices.Equal(got, want[at:]) {
					t.Fatalf("seed %d, %d: from %d on there is %q, want %q", seed, op, at, got, want[at:])
				}
			default:
				events, key := lines(len(want), 1+r.IntN(5)), ""
				if r.IntN(2) == 0 {
					key = fmt.Sprint("k", r.IntN(10))
				}
				before, known := keys[key]
				known = known && key != ""
				first, again, err := j.Append(key, events)
				switch {
				case err != nil && !errors.Is(err, errInjected):
					t.Fatal(err)
				case err != nil:
				case again != known || known && first != before || !known && first != int64(len(want)):
					t.Fatalf("seed %d, %d: an append with key %q got %d, again: %v; want %d, %v", seed, op, key, first, again, before, known)
				case !again:
					for _, e := range events {
						want = append(want, string(e))
					}
					keys[key] = first
				}
			}
		}
		disk.Failpoint = nil
		first, next := j.Bounds()
		if got := readAll(t, j, first); next != int64(len(want)) || !slices.Equal(got, want[first:]) {
			t.Fatalf("seed %d: at the end there is %q, want %q", seed, got, want[first:])
		}
		if err := j.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestTogether: many append at once while one reads and lets go; all is read once, in the order of the numbers that were
// given, and syncs are shared.
func TestTogether(t *testing.T) {
	defer func() { disk.Failpoint = nil }()
	var syncs, mu = 0, sync.Mutex{}
	disk.Failpoint = func(op, path string) error {
		if op == "sync" {
			mu.Lock()
			syncs++
			mu.Unlock()
		}
		return nil
	}
	j := open(t, t.TempDir(), Options{Segment: 4 << 10})
	const posters, each = 20, 100
	given := make([]string, posters*each)
	var posts sync.WaitGroup
	for p := range posters {
		posts.Go(func() {
			for i := range each {
				e := fmt.Sprintf("event %d of %d", i, p)
				first, _, err := j.Append("", [][]byte{[]byte(e)})
				if err != nil {
					t.Error(err)
					return
				}
				given[first] = e
			}
		})
	}
	r, err := j.Read(0)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for len(got) < posters*each && r.Wait(context.Background(), nil) {
		e, at, ok, err := r.Next()
		if err != nil || !ok || time.Since(at) > time.Minute {
			t.Fatal(ok, err, at)
		}
		got = append(got, string(e))
		if err := j.Release(int64(len(got)) - 1); err != nil {
			t.Fatal(err)
		}
	}
	posts.Wait()
	if !slices.Equal(got, given) {
		t.Error("what was read is not what was given")
	}
	if first, _ := j.Bounds(); first == 0 || j.Size() > 8<<10 {
		t.Errorf("nothing was let go: the first event is %d, and %d bytes are kept", first, j.Size())
	}
	if syncs >= posters*each {
		t.Errorf("%d syncs for %d appends", syncs, posters*each)
	}
	waits := make(chan bool)
	go func() { waits <- r.Wait(context.Background(), nil) }()
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	if <-waits {
		t.Error("a closed journal has an event")
	}
	if _, _, err := j.Append("", lines(0, 1)); !errors.Is(err, ErrClosed) {
		t.Errorf("a closed journal takes events: %v", err)
	}
}

// TestTogetherFaults: many append at once while the disk fails now and then. What was acknowledged is there, under the number that was
// given, and nothing else is.
func TestTogetherFaults(t *testing.T) {
	defer func() { disk.Failpoint = nil }()
	for seed := range uint64(pace.Of(20, 5)) {
		var mu sync.Mutex
		r := rand.New(rand.NewPCG(seed, 5))
		disk.Failpoint = func(op, path string) error {
			mu.Lock()
			defer mu.Unlock()
			if r.IntN(8) == 0 {
				return fmt.Errorf("%s: %w", op, errInjected)
			}
			return nil
		}
		dir := t.TempDir()
		j := open(t, dir, Options{Segment: 1 << 10})
		given := map[int64]string{}
		failed := 0
		var posts sync.WaitGroup
		for p := range 10 {
			posts.Go(func() {
				for i := range 60 {
					e := fmt.Sprintf("event %d of %d", i, p)
					first, _, err := j.Append("", [][]byte{[]byte(e)})
					mu.Lock()
					switch other, taken := given[first]; {
					case err != nil && !errors.Is(err, errInjected):
						t.Error(err)
					case err != nil:
						failed++
					case taken:
						t.Errorf("seed %d: %q and %q both got %d", seed, e, other, first)
					default:
						given[first] = e
					}
					mu.Unlock()
				}
			})
		}
		posts.Wait()
		disk.Failpoint = nil
		if err := j.Close(); err != nil {
			t.Fatal(err)
		}
		j = open(t, dir, Options{})
		got := readAll(t, j, 0)
		if len(got) != len(given) || failed == 0 {
			t.Errorf("seed %d: %d events are there, %d were acknowledged, %d failed", seed, len(got), len(given), failed)
		}
		for n, e := range got {
			if given[int64(n)] != e {
				t.Fatalf("seed %d: event %d is %q, and %q was acknowledged", seed, n, e, given[int64(n)])
			}
		}
		if err := j.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestFull: a journal that has no room says so, and takes events again once some were let go.
func TestFull(t *testing.T) {
	j := open(t, t.TempDir(), Options{Segment: 100, Limit: 1000})
	n := 0
	var err error
	for ; err == nil; n++ {
		_, _, err = j.Append("", lines(n, 1))
	}
	if n--; !errors.Is(err, ErrFull) || n < 10 || j.Size() > 1000 {
		t.Fatalf("%d events: %v", n, err)
	}
	if err := j.Release(int64(n) / 2); err != nil {
		t.Fatal(err)
	}
	if first, _, err := j.Append("", lines(n, 1)); err != nil || first != int64(n) {
		t.Fatal(first, err)
	}
	if _, err := j.Read(0); !errors.Is(err, ErrPassed) {
		t.Errorf("events that were let go can be read: %v", err)
	}
	if _, err := j.Read(int64(n) + 2); !errors.Is(err, ErrPassed) {
		t.Errorf("events that will be can be read: %v", err)
	}
}

// TestDamage: what was acknowledged and is not there any more, or is another thing, is an error with its place; it is not
// passed over.
func TestDamage(t *testing.T) {
	make3 := func() (string, []string) {
		dir := t.TempDir()
		j := open(t, dir, Options{Segment: 60})
		for i := range 9 {
			if _, _, err := j.Append("", lines(i, 1)); err != nil {
				t.Fatal(err)
			}
		}
		if err := j.Close(); err != nil {
			t.Fatal(err)
		}
		files, err := filepath.Glob(filepath.Join(dir, "*"+ending))
		if err != nil || len(files) < 3 {
			t.Fatal(files, err)
		}
		return dir, files
	}
	for what, hurt := range map[string]func(files []string) error{
		"a byte": func(files []string) error {
			return change(files[1], func(b []byte) []byte { b[len(b)-1] ^= 1; return b })
		},
		"its length":  func(files []string) error { return change(files[1], func(b []byte) []byte { b[3] = 0xff; return b }) },
		"cut short":   func(files []string) error { return change(files[1], func(b []byte) []byte { return b[:len(b)-3] }) },
		"a record":    func(files []string) error { return change(files[1], func(b []byte) []byte { return nil }) },
		"the segment": func(files []string) error { return os.Remove(files[1]) },
	} {
		dir, files := make3()
		if err := hurt(files); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(dir, Options{}); !errors.Is(err, ErrDamaged) || !strings.Contains(err.Error(), filepath.Base(files[1])[:20]) && !strings.Contains(err.Error(), filepath.Base(files[2])) {
			t.Errorf("%s: %v", what, err)
		}
	}
	dir, files := make3()
	j := open(t, dir, Options{})
	if err := change(files[1], func(b []byte) []byte { b[len(b)-1] ^= 1; return b }); err != nil {
		t.Fatal(err)
	}
	r, err := j.Read(0)
	if err != nil {
		t.Fatal(err)
	}
	for ok := true; ok && err == nil; {
		_, _, ok, err = r.Next()
	}
	if !errors.Is(err, ErrDamaged) {
		t.Errorf("reading gives %v", err)
	}
}

func change(path string, f func([]byte) []byte) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, f(b), 0o600)
}

// FuzzRecords: no bytes make the reader of records panic, or take memory that they do not have; what it takes is written
// again as it was.
func FuzzRecords(f *testing.F) {
	rec := record{first: 7, at: time.Unix(1_800_000_000, 0), key: "a"}
	f.Add(rec.encode(nil, [][]byte{[]byte("one"), nil, []byte("three")}))
	f.Add([]byte{0xff, 0xff, 0xff, 0x0f, 0, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, data []byte) {
		r := newRecords(bytes.NewReader(data))
		at := int64(0)
		for {
			rec, err := r.next()
			if err != nil {
				return
			}
			events, err := rec.split(nil)
			if err == nil && !bytes.Equal(rec.encode(nil, events), data[at:r.at]) {
				t.Fatalf("%x is written as %x", data[at:r.at], rec.encode(nil, events))
			}
			at = r.at
		}
	})
}

// TestSmall: a journal that is smaller than a file usually is gains room as its events are passed.
func TestSmall(t *testing.T) {
	j := open(t, t.TempDir(), Options{Limit: 64 << 10})
	event := bytes.Repeat([]byte("x"), 1000)
	for n := range 1000 {
		if _, _, err := j.Append("", [][]byte{event}); err != nil {
			t.Fatalf("after %d events: %v", n, err)
		}
		if err := j.Release(int64(n)); err != nil {
			t.Fatal(err)
		}
	}
}
