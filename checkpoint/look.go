package checkpoint

import (
	"encoding/json"
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
	Begun      map[string]map[string]row.Time // by step and measure: see [engine.Snapshot]
	References json.RawMessage                // see [engine.Snapshot]; nil for none
	// Shipments are, by sink, what it says of the newest.
	Shipments map[string]json.RawMessage
}

func (m *manifest) info() Info {
	out := Info{Epoch: m.Epoch, Job: m.Job, Document: m.Document, Began: m.Began, Written: m.Written, Stall: m.Stall, Finished: m.Finished, Watermarks: m.Watermarks, StepMarks: m.StepMarks, Begun: m.Begun, References: m.References,
		Saved: engine.Saved{Rows: m.Changed.Rows, Gone: m.Changed.Gone, Written: m.Changed.Bytes}, Partitions: m.partitions()}
	for _, f := range m.Files {
		out.Saved.Size += f.Bytes
	}
	for sink, all := range m.Shipments {
		if len(all) > 0 {
			if out.Shipments == nil {
				out.Shipments = map[string]json.RawMessage{}
			}
			out.Shipments[sink] = all[len(all)-1].Data
		}
	}
	return out
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
	for tried := int64(0); ; {
		s := &Store{fs: fsys, dir: dir, digests: map[string]storeFile{}, look: true}
		m, err := s.wanted(epoch)
		if err != nil {
			return nil, err
		}
		o, err := s.opened(m)
		if err == nil || epoch > 0 || m.Epoch == tried {
			return o, err
		}
		tried = m.Epoch // a run that keeps few may have pruned it since; then there is a newer one
	}
}

func (s *Store) opened(m *manifest) (*Opened, error) {
	from := path.Join(s.folder(m.Epoch), storeName)
	if err := s.verify(from, m.Files); err != nil {
		return nil, fmt.Errorf("checkpoint %d: %w", m.Epoch, err)
	}
	if err := s.begin(m.Files, from); err != nil {
		return nil, fmt.Errorf("open checkpoint %d: %w", m.Epoch, errors.Join(err, s.Close()))
	}
	s.tables = m.Tables
	return &Opened{Info: m.info(), s: s}, nil
}

// wanted gives the manifest of an epoch, or of the newest checkpoint that is complete.
func (s *Store) wanted(epoch int64) (*manifest, error) {
	if epoch == 0 {
		m, err := s.newest()
		if m == nil && err == nil {
			err = fmt.Errorf("%w: %s has none that is complete yet", ErrNoCheckpoint, s.dir)
		}
		return m, err
	}
	m, err := s.manifest(epoch)
	if errors.Is(err, errIncomplete) {
		err = fmt.Errorf("%w: %d is not in %s, or not complete; the list of checkpoints has those that are", ErrNoCheckpoint, epoch, s.dir)
	}
	return m, err
}

// Close lets go of it.
func (o *Opened) Close() error { return o.s.Close() }

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
