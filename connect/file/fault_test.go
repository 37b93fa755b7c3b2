package file

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/connect"
	"undertide/connect/pattern"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

var errInjected = errors.New("injected fault")

// failAt makes the n-th operation that writes fail, once; it gives how many were asked for.
func failAt(t *testing.T, n int) *int {
	t.Helper()
	ops := 0
	disk.Failpoint = func(op, path string) error {
		if ops++; ops == n {
			return fmt.Errorf("%s %s: %w", op, path, errInjected)
		}
		return nil
	}
	t.Cleanup(func() { disk.Failpoint = nil })
	return &ops
}

type recoverable interface {
	engine.Sink
	Recover(context.Context, []engine.Shipment) error
}

// life is a run over three epochs with a sink, and what the newest checkpoint of it holds: each epoch's
// shipment is kept once Prepare has given it, as a checkpoint does before it delivers.
type life struct {
	open     func() recoverable
	frame    func(line []byte) []byte // as the encoder gives a row; nil: the line
	behind   int                      // deliveries are so many epochs behind
	epoch    int                      // of the newest checkpoint
	waiting  []engine.Shipment
	finished bool
}

// start runs from the newest checkpoint on, until the end or the first fault.
func (l *life) start() error {
	s, ctx := l.open(), context.Background()
	if l.finished {
		return s.Recover(ctx, l.waiting)
	}
	undelivered := slices.Clone(l.waiting)
	if err := s.Open(undelivered, int64(l.epoch+1)); err != nil {
		return errors.Join(err, s.Abort())
	}
	for epoch := l.epoch + 1; epoch <= 3; epoch++ {
		for n := range 3 {
			line := fmt.Appendf(nil, "epoch %d row %d\n", epoch, n)
			if l.frame != nil {
				line = l.frame(line)
			}
			if err := s.Write(line, 1); err != nil {
				return errors.Join(err, s.Abort())
			}
		}
		shipment, err := shipped(s, int64(epoch))
		if err != nil {
			return errors.Join(err, s.Abort())
		}
		undelivered = append(undelivered, shipment)
		l.waiting, l.epoch, l.finished = slices.Clone(undelivered), epoch, epoch == 3
		for len(undelivered) > l.behind || l.finished && len(undelivered) > 0 {
			if err := s.Deliver(ctx, undelivered[0]); err != nil {
				return errors.Join(err, s.Abort())
			}
			undelivered = undelivered[1:]
		}
	}
	return s.Finish()
}

// inFolder opens a folder whose clock goes on by ten minutes each time that it is asked.
func inFolder(rolled Rolled, o Output) func(dir string) recoverable {
	at := time.Date(2026, 3, 1, 6, 0, 0, 0, time.UTC)
	return func(dir string) recoverable {
		f := NewFolder(filepath.Join(dir, "out"), "rows", rolled, o)
		f.now = func() time.Time { at = at.Add(10 * time.Minute); return at }
		return f
	}
}

// onNode opens a folder for a job that is carried out by a lease.
func onNode(open func(dir string) recoverable) func(dir string) recoverable {
	return func(dir string) recoverable {
		s := open(dir)
		s.(*Folder).leased = true
		return s
	}
}

func folders(text string) pattern.Text {
	t, err := pattern.Parse(text)
	if err != nil {
		panic(err)
	}
	return t
}

// inOrder sorts paths by the order in which files were begun: their epoch, and the number behind it, which has no zeros before it.
func inOrder(paths []string) {
	slices.SortFunc(paths, func(a, b string) int {
		a, b = filepath.Base(a), filepath.Base(b)
		epochs := min(len("rows-00000001-"), len(a), len(b))
		return cmp.Or(strings.Compare(a[:epochs], b[:epochs]), cmp.Compare(len(a), len(b)), strings.Compare(a, b))
	})
}

// under gives the files below a folder whose names end so, in the order in which they were begun.
func under(t *testing.T, dir, ending string) (out []string) {
	must(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ending) {
			out = append(out, path)
		}
		return err
	}))
	inOrder(out)
	return out
}

func rolledRows(t *testing.T, dir string) (text string) {
	for _, p := range under(t, dir, ".csv") {
		text += strings.TrimPrefix(content(t, p), "k\n")
	}
	return text
}

func sealedRows(t *testing.T, dir string) (text string) {
	for _, p := range under(t, dir, ".seal") {
		text += unsealed(t, p)
	}
	return text
}

// sealed is a packer whose file ends with a seal that says how many rows there are.
type sealed struct {
	out  io.Writer
	n    int
	size int64
}

func (s *sealed) put(b []byte) error {
	n, err := s.out.Write(b)
	s.size += int64(n)
	return err
}

func (s *sealed) Write(rows []byte, n int) error { s.n += n; return s.put(rows) }
func (s *sealed) Size() int64                    { return s.size }
func (s *sealed) Close() error                   { return s.put(fmt.Appendf(nil, "sealed %d", s.n)) }

var asSealed = Output{Schema: asCSV.Schema, Format: &connect.Format{Name: "sealed", Endings: []string{".seal"}, Encode: asCSV.Format.Encode,
	Pack: func(out io.Writer, _ row.Schema) connect.Packer { return &sealed{out: out} }}}

// unsealed gives the rows of a file whose seal is right; none where there is no file.
func unsealed(t *testing.T, path string) string {
	text := content(t, path)
	if text == "not there" {
		return ""
	}
	rows, seal, _ := strings.Cut(text, "sealed ")
	if seal != fmt.Sprint(strings.Count(rows, "\n")) {
		t.Fatalf("%s looks whole and is %q", path, text)
	}
	return rows
}

// TestWriteFaults makes operation 1, 2, 3 … of a sink fail until a run passes. Each fault must
// surface; nothing may look whole that is not; and the next starts must end with every row once.
func TestWriteFaults(t *testing.T) {
	want := ""
	for epoch := 1; epoch <= 3; epoch++ {
		for n := range 3 {
			want += fmt.Sprintf("epoch %d row %d\n", epoch, n)
		}
	}
	for name, kind := range map[string]struct {
		behind int
		open   func(dir string) recoverable
		rows   func(t *testing.T, dir string) string // of what looks whole
		frame  func(line []byte) []byte
	}{
		"one file": {
			0,
			func(dir string) recoverable { return NewSingle(filepath.Join(dir, "out.csv"), asCSV) },
			func(t *testing.T, dir string) string {
				text := content(t, filepath.Join(dir, "out.csv"))
				if text == "not there" {
					return ""
				}
				return strings.TrimPrefix(text, "k\n")
			},
			nil,
		},
		"one file, packed": {
			0,
			func(dir string) recoverable { return NewSingle(filepath.Join(dir, "out.seal"), asSealed) },
			func(t *testing.T, dir string) string { return unsealed(t, filepath.Join(dir, "out.seal")) },
			nil,
		},
		"folder, packed, an epoch behind": {1, inFolder(Rolled{Size: 20}, asSealed), sealedRows, nil},
		"folder":                          {0, inFolder(Rolled{Size: 20}, asCSV), rolledRows, nil},
		"folder, an epoch behind":         {1, inFolder(Rolled{Size: 20}, asCSV), rolledRows, nil},
		"folder, all epochs behind":       {3, inFolder(Rolled{Size: 20}, asCSV), rolledRows, nil},
		"folder, over epochs":             {0, inFolder(Rolled{Every: time.Hour}, asCSV), rolledRows, nil},
		"folder, over epochs, behind":     {2, inFolder(Rolled{Every: 35 * time.Minute}, asCSV), rolledRows, nil},
		"folder, over epochs, packed":     {1, inFolder(Rolled{Every: 35 * time.Minute}, asSealed), sealedRows, nil},
		"on a node, over epochs":          {0, onNode(inFolder(Rolled{Every: time.Hour}, asCSV)), rolledRows, nil},
		"on a node, over epochs, behind":  {2, onNode(inFolder(Rolled{Every: 35 * time.Minute}, asCSV)), rolledRows, nil},
		"on a node, over epochs, packed":  {1, onNode(inFolder(Rolled{Every: 35 * time.Minute}, asSealed)), sealedRows, nil},
		"folder of folders": {1, inFolder(Rolled{Every: 25 * time.Minute, Folders: folders("{k}/x")}, asCSV), rolledRows, func(line []byte) []byte {
			return row.AppendText(append(row.AppendText(nil, "a/x"), 1), line)
		}},
	} {
		passes := false
		tried := 0
		for n := 1; !passes; n++ {
			dir := t.TempDir()
			l := &life{behind: kind.behind, frame: kind.frame, open: func() recoverable { return kind.open(dir) }}
			ops := failAt(t, n)
			err := l.start()
			passes = *ops < n
			if passes != (err == nil) || err != nil && !errors.Is(err, errInjected) {
				t.Fatalf("%s: operation %d failed and the run gave %v", name, n, err)
			}
			tried++
			if got := kind.rows(t, dir); !strings.HasPrefix(want, got) {
				t.Fatalf("%s: operation %d failed, and what looks whole is %q", name, n, got)
			}
			for starts := 0; err != nil; starts++ {
				if err = l.start(); starts > 3 {
					t.Fatalf("%s: operation %d failed, and the next starts give %v", name, n, err)
				}
			}
			if got := kind.rows(t, dir); got != want {
				t.Fatalf("%s: operation %d failed, and in the end there is %q", name, n, got)
			}
			if left := under(t, dir, ".part"); len(left) > 0 {
				t.Fatalf("%s: operation %d failed, and unfinished files are left: %v", name, n, left)
			}
		}
		t.Logf("%s: %d operations were made to fail", name, tried-1)
		if tried < 12 {
			t.Errorf("%s: only %d operations were tried", name, tried)
		}
	}
}

// TestOpenLetsGo: a sink that cannot be opened lets go of its lock, so that the next start has it.
func TestOpenLetsGo(t *testing.T) {
	dir := t.TempDir()
	folder := NewFolder(dir, "means", Rolled{}, asCSV)
	if err := os.WriteFile(folder.marker(), []byte("{}}"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := folder.Open(nil, 1); err == nil {
		t.Fatal("a marker that cannot be read is taken")
	}
	if err := os.Remove(folder.marker()); err != nil {
		t.Fatal(err)
	}
	again := NewFolder(dir, "means", Rolled{}, asCSV)
	if err := again.Open(nil, 1); err != nil {
		t.Errorf("after the fault was mended: %v", err)
	} else if err := again.Abort(); err != nil {
		t.Error(err)
	}
	single := NewSingle(dir+"/out.ndjson", asCSV)
	if err := single.Open([]engine.Shipment{{Data: json.RawMessage(`{"bytes":999}`)}}, 1); err == nil {
		t.Fatal("a file that is shorter than the checkpoint says is taken")
	}
	next := NewSingle(dir+"/out.ndjson", asCSV)
	if err := next.Open(nil, 1); err != nil {
		t.Errorf("after a fault: %v", err)
	} else if err := next.Abort(); err != nil {
		t.Error(err)
	}
}
