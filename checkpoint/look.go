package checkpoint

import (
	"errors"
	"fmt"
	"os"
	"path"
	"syscall"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
)

// Info is what a checkpoint says of itself.
type Info struct {
	Epoch    int64
	Job      string
	Document string // the digest of its text
	Began    time.Time
	Written  time.Time
	Stall    time.Duration
	Finished bool
	// Rows, Gone and Written are what changed since the one before, Size what all its files have.
	Saved      engine.Saved
	Partitions []engine.PartitionState
	Watermarks map[string]row.Time // by source
	StepMarks  map[string]row.Time
	// Why says what is wrong with it: it was interrupted, it is damaged. Then nothing else counts but Epoch.
	Why string
}

func (m *manifest) info() Info {
	out := Info{Epoch: m.Epoch, Job: m.Job, Document: m.Document, Began: m.Began, Written: m.Written, Stall: m.Stall, Finished: m.Finished, Watermarks: m.Watermarks, StepMarks: m.StepMarks,
		Saved: engine.Saved{Rows: m.Changed.Rows, Gone: m.Changed.Gone, Written: m.Changed.Bytes}, Partitions: m.partitions()}
	for _, f := range m.Files {
		out.Saved.Size += f.Bytes
	}
	return out
}

// List gives the checkpoints of a folder, newest first, those that are unfinished or whose manifest does not verify too.
func List(fsys vfs.FS, dir string) ([]Info, error) {
	s := &Store{fs: fsys, dir: dir}
	epochs, err := s.epochs()
	if err != nil {
		return nil, err
	}
	out := make([]Info, 0, len(epochs))
	for _, e := range epochs {
		m, err := s.manifest(e)
		if err != nil {
			out = append(out, Info{Epoch: e, Why: err.Error()})
			continue
		}
		out = append(out, m.info())
	}
	return out, nil
}

// ErrNoCheckpoint: a folder does not have the checkpoint that is asked for.
var ErrNoCheckpoint = errors.New("there is no such checkpoint")

// Opened is a checkpoint that somebody looks into: a run may go on beside it, and the checkpoint may be removed.
type Opened struct {
	Info
	s *Store
}

// OpenOne opens the checkpoint of an epoch, 0 for the newest that is complete. It is read through links of its own. The
// caller closes it.
func OpenOne(fsys vfs.FS, dir string, epoch int64) (*Opened, error) {
	s := &Store{fs: fsys, dir: dir, digests: map[string]storeFile{}, look: true}
	if epoch == 0 {
		list, err := List(fsys, dir)
		if err != nil {
			return nil, err
		}
		for _, i := range list {
			if i.Why == "" {
				epoch = i.Epoch
				break
			}
		}
		if epoch == 0 {
			return nil, fmt.Errorf("%w: %s has none that is complete yet", ErrNoCheckpoint, dir)
		}
	}
	m, err := s.manifest(epoch)
	if errors.Is(err, errIncomplete) {
		return nil, fmt.Errorf("%w: %d is not in %s, or not complete; the list of checkpoints has those that are", ErrNoCheckpoint, epoch, dir)
	}
	if err != nil {
		return nil, err
	}
	from := path.Join(s.folder(epoch), storeName)
	for _, f := range m.Files {
		if err := s.verify(from, f); err != nil {
			return nil, fmt.Errorf("file %s of checkpoint %d: %w", f.Name, epoch, err)
		}
	}
	if err := s.begin(m.Files, from); err != nil {
		return nil, fmt.Errorf("open checkpoint %d: %w", epoch, errors.Join(err, s.Close()))
	}
	s.tables = m.Tables
	return &Opened{Info: m.info(), s: s}, nil
}

// Close lets go of it.
func (o *Opened) Close() error { return o.s.Close() }

// Steps names the steps that keep something, in the order of their tables.
func (o *Opened) Steps() (out []string) {
	for _, t := range o.s.tables {
		if len(out) == 0 || out[len(out)-1] != t.Step {
			out = append(out, t.Step)
		}
	}
	return out
}

// Tables gives the tables that are kept of a step, as they were declared when the checkpoint was made.
func (o *Opened) Tables(step string) (out []*state.Table, err error) {
	for i := range o.s.tables {
		if t := &o.s.tables[i]; t.Step == step && !t.Derived {
			d, err := t.declared()
			if err != nil {
				return nil, err
			}
			out = append(out, d)
		}
	}
	return out, nil
}

// Read hands over the rows of a table in order of span, share and key, until take says that it has enough.
func (o *Opened) Read(step string, t *state.Table, take func(*state.Rows) (more bool, err error)) error {
	return o.s.Scan(step, t, row.MinTime, row.MaxTime, 0, state.Shares-1, take)
}

// abandoned says whether a folder holds the links of one who looked and whose process has gone.
func abandoned(name string) bool {
	var pid, n int
	if c, err := fmt.Sscanf(name, "look-%d-%d", &pid, &n); c != 2 || err != nil || pid == os.Getpid() {
		return false
	}
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// lookFolder names the folder of links of one who looks: the process and a number.
func lookFolder() string { return fmt.Sprintf("look-%d-%d", os.Getpid(), lives.Add(1)) }
