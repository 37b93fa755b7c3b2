package checkpoint

import (
	"errors"
	"maps"
	"slices"
	"strings"

	"undertide/core/engine"
)

// Change is what becomes of a part that keeps something, in another version of the document.
type Change struct {
	Part string // kind and name: step rate
	What What
}

// What is kept, new, changed or gone.
type What string

const (
	Kept    What = "kept"
	New     What = "new"
	Changed What = "changed" // what it kept does not fit
	Gone    What = "dropped"
)

// Compare tells what becomes of each part between two versions, by kind and name.
func Compare(old, now map[string]string) []Change {
	var out []Change
	for _, p := range slices.Sorted(maps.Keys(now)) {
		switch was, there := old[p]; {
		case !there:
			out = append(out, Change{p, New})
		case was == now[p]:
			out = append(out, Change{p, Kept})
		default:
			out = append(out, Change{p, Changed})
		}
	}
	for _, p := range slices.Sorted(maps.Keys(old)) {
		if _, there := now[p]; !there {
			out = append(out, Change{p, Gone})
		}
	}
	return out
}

// MustDrop names the parts whose kept things would be lost and are not named in drop, by kind and name or
// by name alone. A sink keeps nothing that its rows do not hold.
func MustDrop(all []Change, drop []string) []string {
	var out []string
	for _, c := range all {
		_, name, _ := strings.Cut(c.Part, " ")
		if (c.What == Changed || c.What == Gone) && !strings.HasPrefix(c.Part, "sink ") && !slices.Contains(drop, c.Part) && !slices.Contains(drop, name) {
			out = append(out, c.Part)
		}
	}
	return out
}

// adapt leaves out of a snapshot what another version does not keep. Counts begin anew: they are of a
// version.
func (s *Store) adapt(snap *engine.Snapshot, m *manifest) {
	kept := map[string]bool{}
	for _, c := range Compare(m.Pieces, s.opt.Pieces) {
		kept[c.Part] = c.What == Kept
	}
	snap.Partitions = slices.DeleteFunc(snap.Partitions, func(p engine.PartitionState) bool { return !kept["source "+p.Source] })
	s.tables = slices.DeleteFunc(slices.Clone(s.tables), func(t table) bool {
		if kept["step "+t.Step] {
			return false
		}
		s.drops = append(s.drops, t.Number)
		return true
	})
	for source := range snap.Watermarks {
		if !kept["source "+source] {
			delete(snap.Watermarks, source)
		}
	}
	for step := range snap.StepWatermarks {
		if !kept["step "+step] {
			delete(snap.StepWatermarks, step)
		}
	}
	for sink := range snap.Shipments {
		if !kept["sink "+sink] {
			delete(snap.Shipments, sink)
		}
	}
	snap.Counts, snap.Adapted = engine.Counts{}, true
	for p := range s.opt.Pieces {
		if strings.HasPrefix(p, "source ") && !kept[p] {
			snap.Finished = false // it is still to be read
		}
	}
}

// Manifest is what a checkpoint says of itself, without its state.
type Manifest struct {
	Epoch  int64
	Same   bool // made by this very document
	Pieces map[string]string
}

// Look reads what the checkpoint of an epoch says of itself; with 0 the newest that is complete, nil where there is none.
func (s *Store) Look(epoch int64) (*Manifest, error) {
	m, err := s.wanted(epoch)
	if epoch == 0 && errors.Is(err, ErrNoCheckpoint) {
		return nil, nil
	}
	if m == nil {
		return nil, err
	}
	return &Manifest{Epoch: m.Epoch, Same: m.Document == s.opt.Digest, Pieces: m.Pieces}, nil
}

// newest gives the newest manifest that verifies; nil where there is none. One that cannot be read is not passed over.
func (s *Store) newest() (*manifest, error) {
	epochs, err := s.epochs()
	if err != nil {
		return nil, err
	}
	for _, e := range epochs {
		m, err := s.manifest(e)
		if errors.Is(err, ErrUnreadable) {
			return nil, err
		}
		if err == nil {
			return m, nil
		}
	}
	return nil, nil
}
