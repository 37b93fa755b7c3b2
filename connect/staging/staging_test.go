package staging

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"undertide/core/engine"
	"undertide/disk"
)

var errInjected = errors.New("injected fault")

// place is where rows go: it takes an epoch once, as a transaction that keeps its number does.
type place struct {
	epoch  int64
	rows   []string
	forget bool // it does not know its epoch any more
}

func (p *place) take(epoch int64, rows io.Reader) error {
	text, err := io.ReadAll(rows)
	if err == nil && epoch > p.epoch {
		p.epoch, p.rows = epoch, append(p.rows, strings.Fields(string(text))...)
	}
	return err
}

// ship is a sink over an area.
type ship struct {
	*Area
	to *place
}

func (s ship) Delivered(context.Context) (int64, error) {
	noted, err := s.Area.Delivered()
	if s.to.forget {
		return noted, err
	}
	return max(noted, s.to.epoch), errors.Join(err, s.Know(s.to.epoch))
}

func (s ship) Deliver(_ context.Context, sh engine.Shipment) error {
	if !Rows(sh) {
		return nil
	}
	if err := s.Read(sh, func(in io.Reader) error { return s.to.take(sh.Epoch, in) }); err != nil {
		return err
	}
	return s.Done(sh)
}

// life is what is left between runs: the folder, the place, and the newest checkpoint.
type life struct {
	dir      string
	to       place
	behind   int
	epoch    int64
	waiting  []engine.Shipment
	finished bool
}

// start runs from the newest checkpoint on, until the end or the first fault. The second epoch has no rows.
func (l *life) start() error {
	s, ctx := ship{New(l.dir, "out", "the place"), &l.to}, context.Background()
	if l.finished {
		return s.Recover(ctx, l.waiting, s)
	}
	done, err := s.Delivered(ctx)
	if err != nil {
		return err
	}
	if err := s.Open(l.waiting, l.epoch+1); err != nil {
		return err
	}
	undelivered := slices.DeleteFunc(slices.Clone(l.waiting), func(w engine.Shipment) bool { return w.Epoch <= done })
	for epoch := l.epoch + 1; epoch <= 4; epoch++ {
		for n := 0; n < 3 && epoch != 2; n++ {
			if err := s.Write(fmt.Appendf(nil, "%d.%d\n", epoch, n), 1); err != nil {
				return errors.Join(err, s.Close())
			}
		}
		sh, err := s.Prepare(epoch)
		if err != nil {
			return errors.Join(err, s.Close())
		}
		sh.Epoch = epoch
		undelivered = append(undelivered, sh)
		l.waiting, l.epoch, l.finished = slices.Clone(undelivered), epoch, epoch == 4
		for len(undelivered) > l.behind || l.finished && len(undelivered) > 0 {
			if err := s.Deliver(ctx, undelivered[0]); err != nil {
				return errors.Join(err, s.Close())
			}
			undelivered = undelivered[1:]
		}
	}
	return s.Close()
}

// TestFaults: whichever operation on the disk fails, alone or with each one after it until the next start, the place gets
// every row once; also where it forgets its epoch once all is delivered.
func TestFaults(t *testing.T) {
	var want []string
	for _, epoch := range []int{1, 3, 4} {
		for n := range 3 {
			want = append(want, fmt.Sprintf("%d.%d", epoch, n))
		}
	}
	for behind := range 3 {
		for _, lasts := range []bool{false, true} {
			for n := 1; ; n++ {
				l := &life{dir: filepath.Join(t.TempDir(), "shipments"), behind: behind}
				ops := 0
				disk.Failpoint = func(op, path string) error {
					if ops++; ops == n || lasts && ops > n {
						return fmt.Errorf("%s %s: %w", op, path, errInjected)
					}
					return nil
				}
				err := l.start()
				reached := ops >= n
				if reached && !errors.Is(err, errInjected) {
					t.Fatalf("behind %d, operation %d: the fault is swallowed: %v", behind, n, err)
				}
				disk.Failpoint = nil
				for range 3 {
					if err = l.start(); err == nil && l.finished {
						break
					}
				}
				if err != nil || !slices.Equal(l.to.rows, want) {
					t.Fatalf("behind %d, operation %d: %v: the place has %v", behind, n, err, l.to.rows)
				}
				l.to.forget, l.to.epoch = true, 0
				if err := l.start(); err != nil || len(l.to.rows) != len(want) {
					t.Fatalf("behind %d, operation %d: a place that has forgotten: %v: %v", behind, n, err, l.to.rows)
				}
				if left, err := filepath.Glob(filepath.Join(l.dir, "*.rows")); err != nil || len(left) > 0 {
					t.Fatalf("behind %d, operation %d: %v is left", behind, n, left)
				}
				if !reached {
					break
				}
			}
		}
	}
}

// TestDamage: rows that are missing or changed are not delivered, and neither are those made for another place; what no
// checkpoint counts on is removed, and nothing of other sinks.
func TestDamage(t *testing.T) {
	dir := t.TempDir()
	a := New(dir, "out", "topic a")
	if err := a.Open(nil, 7); err != nil {
		t.Fatal(err)
	}
	if err := a.Write([]byte("some rows\n"), 1); err != nil {
		t.Fatal(err)
	}
	sh, err := a.Prepare(7)
	if err != nil || sh.Bytes != 10 {
		t.Fatal(err, sh)
	}
	sh.Epoch = 7
	read := func(to string) error {
		return New(dir, "out", to).Read(sh, func(in io.Reader) error { _, err := io.Copy(io.Discard, in); return err })
	}
	if err := read("topic a"); err != nil {
		t.Error(err)
	}
	if err := read("topic b"); err == nil || !strings.Contains(err.Error(), "rows of epoch 7 wait for topic a, and this version writes topic b") {
		t.Errorf("rows for another place: %v", err)
	}
	path := filepath.Join(dir, "out-00000007.rows")
	for _, text := range []string{"some rowz\n", "some rows", "some rows\nmore\n", ""} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := read("topic a"); !errors.Is(err, ErrMissing) || !strings.Contains(err.Error(), path) {
			t.Errorf("a file of %q: %v", text, err)
		}
	}
	for _, name := range []string{"out-00000008.rows", "out.delivered", "outer-00000008.rows", "out-8.rows"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(`{"epoch":3}`), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := New(dir, "out", "topic a").Open([]engine.Shipment{sh}, 8); err != nil {
		t.Fatal(err)
	}
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range left {
		left[i] = filepath.Base(left[i])
	}
	if got := strings.Join(left, " "); got != "out-00000007.rows out-8.rows out.delivered outer-00000008.rows" {
		t.Errorf("left are %s", got)
	}
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if err := read("topic a"); !errors.Is(err, ErrMissing) {
		t.Errorf("a file that is not there: %v", err)
	}
	for _, data := range []string{`{"file":"../x.rows"}`, `7`, ``} {
		if err := a.Read(engine.Shipment{Data: []byte(data)}, nil); err == nil {
			t.Errorf("a shipment of %q is read", data)
		}
	}
}
