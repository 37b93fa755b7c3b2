package checkpoint

import (
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/cockroachdb/pebble/v2/vfs"

	"undertide/core/row"
	"undertide/core/state"
)

// Division is how a run goes on with its share of what other runs have kept, which have come to rest (docs/spread.md, "Other portions").
//
//	kept by two runs                kept by three, each made by Divide of its own
//	run 1: keys a b c       ->      run 1: a b      of run 1
//	run 2: keys d e f               run 2: c d      of run 1 and of run 2
//	                                run 3: e f      of run 2
type Division struct {
	Job    string
	Digest string            // of the document
	Pieces map[string]string // of it
	// Reads says whether the run reads a partition.
	Reads func(source, partition string) bool
	// Owner gives what says whether the run has a row of a step's table.
	Owner func(step string, t *state.Table) (func(r *state.Rows, i int) (bool, error), error)
	// Alike says that the watermarks of all runs have to be the same; else the least counts.
	Alike bool
}

// Share is a run of before.
type Share struct {
	Dir string // where its checkpoint is the newest
	// State says that the run may have some of its rows: without, the folder may lack them. Counts says that what it counted is taken over.
	State, Counts bool
}

// errUnlike: runs do not stand where they are to stand.
var errUnlike = errors.New("the runs have not come to rest together; this is a bug of Under Tide")

// Divide makes the first checkpoint of a folder, with the run's share of what those of before have kept. Its epoch is the greatest of theirs, so that no sink meets one twice.
// Nothing waits for delivery: they have delivered all.
func Divide(fsys vfs.FS, dir string, from []Share, d Division) (Info, error) {
	s, err := Open(fsys, dir, Options{Job: d.Job, Digest: d.Digest, Pieces: d.Pieces})
	if err != nil {
		return Info{}, err
	}
	m := &manifest{Format: format, Job: d.Job, Document: d.Digest, Pieces: d.Pieces, Finished: true, Began: time.Now().UTC()}
	if err := errors.Join(s.divide(m, from, d), s.Close()); err != nil {
		return Info{}, err // who reads a store that broke may not have noticed yet, and write what was to be told
	}
	return m.info(), nil
}

func (s *Store) divide(m *manifest, from []Share, d Division) error {
	if err := s.ensure(); err != nil {
		return err
	}
	for i, f := range from {
		one, err := (&Store{fs: s.fs, dir: f.Dir}).newest()
		if err == nil && one == nil {
			err = fmt.Errorf("%w in %s", ErrNoCheckpoint, f.Dir)
		}
		if err != nil {
			return err
		}
		if err := m.join(one, i == 0, f.Counts, d); err != nil {
			return fmt.Errorf("checkpoint %d of %s: %w", one.Epoch, one.Job, err)
		}
		if !f.State {
			continue
		}
		if err := s.takeRows(f.Dir, one.Epoch, &m.Changed, d); err != nil {
			return fmt.Errorf("take over the state of checkpoint %d of %s: %w", one.Epoch, one.Job, err)
		}
	}
	m.Written = time.Now().UTC()
	at := s.folder(m.Epoch)
	if err := s.fs.MkdirAll(at, 0o700); err != nil {
		return fmt.Errorf("make %s: %w", at, err)
	}
	return s.keep(at, m)
}

// join takes over what a run of before says of itself.
func (m *manifest) join(of *manifest, first, counts bool, d Division) error {
	m.Epoch, m.Turn, m.Finished = max(m.Epoch, of.Epoch), max(m.Turn, of.Turn), m.Finished && of.Finished
	if first || of.Started.Before(m.Started) {
		m.Started = of.Started
	}
	for _, p := range of.Partitions {
		if d.Reads(p.Source, p.Name) {
			m.Partitions = append(m.Partitions, p)
		}
	}
	if m.References == nil {
		m.References = of.References
	}
	if first {
		m.Counts = of.Counts.Nothing()
		m.Counts.Inherits = true
	}
	if counts {
		m.Counts.Add(of.Counts)
	}
	m.joinBegun(of)
	if first {
		m.Watermarks, m.StepMarks = maps.Clone(of.Watermarks), maps.Clone(of.StepMarks)
		return nil
	}
	if d.Alike {
		if !maps.Equal(m.Watermarks, of.Watermarks) || !maps.Equal(m.StepMarks, of.StepMarks) {
			return fmt.Errorf("%w: %v and %v, %v and %v", errUnlike, m.Watermarks, of.Watermarks, m.StepMarks, of.StepMarks)
		}
		return nil
	}
	least(m.Watermarks, of.Watermarks)
	least(m.StepMarks, of.StepMarks)
	return nil
}

// joinBegun takes over from when on measures are whole: from the last of all runs.
func (m *manifest) joinBegun(of *manifest) {
	for step, all := range of.Begun {
		if m.Begun == nil {
			m.Begun = map[string]map[string]row.Time{}
		}
		if m.Begun[step] == nil {
			m.Begun[step] = map[string]row.Time{}
		}
		for measure, at := range all {
			was, some := m.Begun[step][measure]
			if !some || at > was {
				m.Begun[step][measure] = at
			}
		}
	}
}

// least lowers watermarks to those of others; one that others do not have goes: it is before all.
func least(w, others map[string]row.Time) {
	for name, at := range w {
		other, some := others[name]
		if !some {
			delete(w, name)
			continue
		}
		w[name] = min(at, other)
	}
}

// takeRows writes the rows of a checkpoint that are the run's.
func (s *Store) takeRows(dir string, epoch int64, done *changed, d Division) error {
	o, err := OpenOne(s.fs, dir, epoch)
	if err != nil {
		return err
	}
	defer o.Close()
	for i := range o.s.tables {
		kept := &o.s.tables[i]
		if kept.Derived {
			continue
		}
		t, err := kept.declared()
		if err != nil {
			return err
		}
		mine, err := d.Owner(kept.Step, t)
		if err != nil {
			return err
		}
		written, err := s.live.fill(s.number(kept.Step, t), t, o.s.live, kept.Number, t, func(r *state.Rows) (*state.Rows, error) {
			own, err := only(r, mine)
			if own != nil {
				done.Rows += int64(own.N)
			}
			return own, err
		})
		if err != nil {
			return fmt.Errorf("step %s: %w", kept.Step, err)
		}
		done.Bytes += written
	}
	return nil
}

// only gives the rows that are somebody's; nil for none.
func only(r *state.Rows, mine func(r *state.Rows, i int) (bool, error)) (*state.Rows, error) {
	var others []int
	for i := range r.N {
		own, err := mine(r, i)
		if err != nil {
			return nil, err
		}
		if !own {
			others = append(others, i)
		}
	}
	if len(others) == r.N {
		return nil, nil
	}
	return r.Without(others), nil
}
