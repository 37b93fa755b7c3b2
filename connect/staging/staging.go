// Package staging keeps the rows of shipments in files until they are delivered, for sinks whose other side has no place
// where rows can wait unseen: a topic, a table (docs/time.md, "Checkpoints and delivery").
//
// The rows of an epoch go into SINK-EPOCH.rows, which is synced before the checkpoint that ends the epoch counts on it. Its
// length and checksum are in the checkpoint, as the shipment; the file goes once the other side has the rows for certain. So
// the files of a folder are the shipments that wait, and at most one that was just delivered.
package staging

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/cespare/xxhash/v2"

	"undertide/core/engine"
	"undertide/disk"
)

// Area holds the shipments of one sink. Its methods are called as those of a sink: Read and Done beside Write and Prepare of
// later epochs.
type Area struct {
	dir, sink string
	to        string // where the rows go, in words
	epoch     int64  // of what is written
	// Head begins each epoch's rows.
	Head []byte

	out  *disk.Output // nil while the epoch has no rows
	sum  *xxhash.Digest
	size int64
}

// New makes the area of a sink in a folder, which sinks of one job share; to says where its rows go.
func New(dir, sink, to string) *Area { return &Area{dir: dir, sink: sink, to: to, sum: xxhash.New()} }

// waiting is what a checkpoint keeps of a shipment. An epoch without rows has no file.
type waiting struct {
	File string `json:"file,omitempty"`
	Sum  string `json:"sum,omitempty"` // XXH64, hexadecimal
	To   string `json:"to,omitempty"`
}

// ErrMissing is wrapped where a shipment's rows are not there, or not as they were written.
var ErrMissing = errors.New("rows that wait for their delivery are missing")

// Open begins an epoch, and removes what no checkpoint counts on: it is made again.
func (a *Area) Open(shipments []engine.Shipment, epoch int64) error {
	a.epoch = epoch
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return disk.Explain("make folder", a.dir, err)
	}
	noted, err := a.Delivered()
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, s := range shipments {
		w, err := read(s)
		if err != nil {
			return err
		}
		kept[w.File] = s.Epoch > noted
	}
	entries, err := os.ReadDir(a.dir)
	if err != nil {
		return disk.Explain("read folder", a.dir, err)
	}
	for _, e := range entries {
		if epoch, rows := strings.CutSuffix(strings.TrimPrefix(e.Name(), a.sink+"-"), ".rows"); !rows || len(epoch) != len("00000001") || !strings.HasPrefix(e.Name(), a.sink+"-") || kept[e.Name()] {
			continue // of another sink, too: names hold no dashes, epochs eight digits
		}
		if err := os.Remove(filepath.Join(a.dir, e.Name())); err != nil {
			return disk.Explain("remove", e.Name(), err)
		}
	}
	return nil
}

// read gives what a shipment says.
func read(s engine.Shipment) (w waiting, err error) {
	if err := json.Unmarshal(s.Data, &w); err != nil {
		return w, fmt.Errorf("read what the checkpoint says of epoch %d: %w", s.Epoch, err)
	}
	if w.File != "" && filepath.Base(w.File) != w.File {
		return w, fmt.Errorf("the checkpoint names the file %s, which is in another folder", w.File)
	}
	return w, nil
}

func (a *Area) file() string { return fmt.Sprintf("%s-%08d.rows", a.sink, a.epoch) }

// Write adds encoded rows to the epoch at hand.
func (a *Area) Write(data []byte, _ int) error {
	if a.out == nil {
		out, err := disk.OpenForWriting(nil, filepath.Join(a.dir, a.file()), os.O_TRUNC)
		if err != nil {
			return err
		}
		a.out, a.size = out, 0
		a.sum.Reset()
		if len(a.Head) > 0 {
			if err := a.Write(a.Head, 0); err != nil {
				return err
			}
		}
	}
	n, err := a.out.Put(data)
	a.size += int64(n)
	a.sum.Write(data)
	return err
}

// Prepare makes the epoch's rows durable and begins the next one.
func (a *Area) Prepare(epoch int64) (out engine.Shipment, err error) {
	var w waiting
	if a.out != nil {
		w = waiting{a.file(), fmt.Sprintf("%016x", a.sum.Sum64()), a.to}
		out.Bytes, out.Files = a.size, []string{w.File}
		if err := a.close(); err != nil {
			return out, err
		}
		if err := disk.SyncFolder(nil, a.dir); err != nil { // the name lasts before the checkpoint counts on it
			return out, err
		}
	}
	a.epoch = epoch + 1
	out.Data, err = json.Marshal(w)
	return out, err
}

func (a *Area) close() error {
	o := a.out
	a.out = nil
	return errors.Join(o.Sync(), o.Close())
}

// Rows says whether a shipment has any.
func Rows(s engine.Shipment) bool {
	w, err := read(s)
	return err != nil || w.File != ""
}

// Read gives a shipment's rows to take. An error that wraps ErrMissing comes after the rows where they are not those that
// were written, so whoever takes them makes them visible only once Read has given nil.
func (a *Area) Read(s engine.Shipment, take func(io.Reader) error) error {
	w, err := read(s)
	if err != nil || w.File == "" {
		return err
	}
	if w.To != a.to {
		return fmt.Errorf("rows of epoch %d wait for %s, and this version writes %s; start the version that made them, which delivers them, and stop it again", s.Epoch, w.To, a.to)
	}
	path := filepath.Join(a.dir, w.File)
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: those of epoch %d were in %s; put the file back, or begin anew with an empty checkpoint folder", ErrMissing, s.Epoch, path)
	}
	if err != nil {
		return disk.Explain("read", path, err)
	}
	defer f.Close()
	sum := xxhash.New()
	if err := take(io.TeeReader(f, sum)); err != nil {
		return err
	}
	if fmt.Sprintf("%016x", sum.Sum64()) != w.Sum {
		return fmt.Errorf("%w: %s is not as it was written; put a copy of it back, or begin anew with an empty checkpoint folder", ErrMissing, path)
	}
	return nil
}

func (a *Area) note() string { return filepath.Join(a.dir, a.sink+".delivered") }

// Delivered gives the epoch that Done was last told of; 0 for none. The other side knows it too, but may forget: a broker
// drops what a group committed after a week of silence.
func (a *Area) Delivered() (int64, error) {
	text, err := os.ReadFile(a.note())
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, disk.Explain("read", a.note(), err)
	}
	var n struct{ Epoch int64 }
	if err := json.Unmarshal(text, &n); err != nil {
		return 0, fmt.Errorf("%s cannot be read (%w); put a copy of it back, or remove it where the other side knows its epoch", a.note(), err)
	}
	return n.Epoch, nil
}

// Know notes that the other side has an epoch.
func (a *Area) Know(epoch int64) error {
	if noted, err := a.Delivered(); err != nil || noted >= epoch {
		return err
	}
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return disk.Explain("make folder", a.dir, err)
	}
	return disk.ReplaceFile(nil, a.note(), fmt.Appendf(nil, "{\"epoch\":%d}\n", epoch))
}

// Done notes that the other side has a shipment for certain, and lets its rows go.
func (a *Area) Done(s engine.Shipment) error {
	w, err := read(s)
	if err != nil || w.File == "" {
		return err
	}
	if err := a.Know(s.Epoch); err != nil {
		return err
	}
	path := filepath.Join(a.dir, w.File)
	if err := errors.Join(disk.Try("remove", path), os.Remove(path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return disk.Explain("remove", path, err)
	}
	return nil
}

// Recover delivers what is left of a run that came to its end: nothing where the folder says that it was delivered, and
// what the other side lacks elsewhere.
func (a *Area) Recover(ctx context.Context, shipments []engine.Shipment, to interface {
	Delivered(context.Context) (int64, error)
	Deliver(context.Context, engine.Shipment) error
}) error {
	last := int64(0)
	for _, s := range shipments {
		if Rows(s) {
			last = s.Epoch
		}
	}
	if noted, err := a.Delivered(); err != nil {
		return err
	} else if noted >= last {
		return a.Open(nil, last+1) // what Done could not remove
	}
	done, err := to.Delivered(ctx)
	if err != nil {
		return err
	}
	for _, s := range shipments {
		if s.Epoch > done {
			if err := to.Deliver(ctx, s); err != nil {
				return err
			}
		}
	}
	return a.Open(nil, last+1)
}

// Close ends the area; what waits stays.
func (a *Area) Close() error {
	if a.out == nil {
		return nil
	}
	return a.close()
}
