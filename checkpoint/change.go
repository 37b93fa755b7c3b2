package checkpoint

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
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
	Gone    What = "gone"
)

// Compare tells what becomes of each part between two versions, by kind and name. Measures ("measure rate.mean") are named
// where their step is kept.
func Compare(old, now map[string]string) []Change {
	var out []Change
	kept := func(p string) bool {
		of, _, measure := measureOf(p)
		return !measure || old["step "+of] == now["step "+of]
	}
	for _, p := range slices.Sorted(maps.Keys(now)) {
		switch was, there := old[p]; {
		case !kept(p):
		case !there:
			out = append(out, Change{p, New})
		case was == now[p]:
			out = append(out, Change{p, Kept})
		default:
			out = append(out, Change{p, Changed})
		}
	}
	for _, p := range slices.Sorted(maps.Keys(old)) {
		if _, there := now[p]; !there && kept(p) {
			out = append(out, Change{p, Gone})
		}
	}
	return out
}

// measureOf gives the step and name of a measure among the parts: "measure rate.mean"; false for another part.
func measureOf(part string) (step, name string, is bool) {
	of, is := strings.CutPrefix(part, "measure ")
	step, name, _ = strings.Cut(of, ".")
	return step, name, is
}

// MustDrop names the parts whose kept things would be lost and are not named in drop, by kind and name or
// by name alone. A sink keeps nothing that its rows do not hold; a measure goes, or begins anew, as its step's text says.
func MustDrop(all []Change, drop []string) []string {
	var out []string
	for _, c := range all {
		kind, name, _ := strings.Cut(c.Part, " ")
		if (c.What == Changed || c.What == Gone) && kind != "sink" && kind != "measure" && !slices.Contains(drop, c.Part) && !slices.Contains(drop, name) {
			out = append(out, c.Part)
		}
	}
	return out
}

// adapt leaves out of a snapshot what another version does not keep, and brings state into the form of this one's. Counts
// begin anew: they are of a version.
func (s *Store) adapt(snap *engine.Snapshot, m *manifest) error {
	kept := map[string]bool{}
	changed := map[string][]Change{} // by step, its measures
	for _, c := range Compare(m.Pieces, s.opt.Pieces) {
		kept[c.Part] = c.What == Kept
		if of, _, ok := measureOf(c.Part); ok && c.What != Kept {
			changed[of] = append(changed[of], c)
		}
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
	snap.Begun = begunOf(snap, kept, changed)
	for _, of := range slices.Sorted(maps.Keys(changed)) {
		if err := s.refit(of, changed[of]); err != nil {
			return err
		}
	}
	return nil
}

// begunOf gives by step and measure from when on windows have all of their rows in the measure: those that begin after the
// greatest event time that was read.
func begunOf(snap *engine.Snapshot, kept map[string]bool, changed map[string][]Change) map[string]map[string]row.Time {
	begun := map[string]map[string]row.Time{}
	for of, all := range snap.Begun {
		if kept["step "+of] {
			begun[of] = maps.Clone(all)
		}
	}
	next := row.MinTime
	for _, p := range snap.Partitions {
		if p.Greatest > row.MinTime {
			next = max(next, p.Greatest+1)
		}
	}
	for of, all := range changed {
		if begun[of] == nil {
			begun[of] = map[string]row.Time{}
		}
		for _, c := range all {
			_, name, _ := measureOf(c.Part)
			delete(begun[of], name)
			if c.What != Gone && next > row.MinTime {
				begun[of][name] = next
			}
		}
	}
	return begun
}

// refit writes the tables of a step anew whose measures are others: the rows of each get a new number in the live store, and
// what stands under the old one goes with the first mark.
func (s *Store) refit(of string, changed []Change) error {
	if s.opt.Fit == nil {
		return nil
	}
	var fresh []string
	for _, c := range changed {
		_, name, _ := measureOf(c.Part)
		fresh = append(fresh, name)
	}
	for i := range s.tables {
		k := &s.tables[i]
		if k.Step != of {
			continue
		}
		was, err := k.declared()
		if err != nil {
			return err
		}
		now, fit, err := s.opt.Fit(of, was, fresh)
		if err != nil {
			return fmt.Errorf("step %s: what it kept does not fit: %w; leave it behind with --leave-behind %s", of, err, of)
		}
		n := s.newNumber()
		if err := s.rewrite(k.Number, was, n, now, fit); err != nil {
			return fmt.Errorf("%w: bring the state of step %s into the form of this version: %w", ErrUnreadable, of, err)
		}
		s.drops = append(s.drops, k.Number)
		*k = tableOf(n, of, now)
	}
	return nil
}

// rewrite writes the rows of a table under another number, in the form that fit gives them.
func (s *Store) rewrite(from state.TableNumber, was *state.Table, to state.TableNumber, now *state.Table, fit func(*state.Rows) *state.Rows) error {
	_, err := s.live.fill(to, now, s.live, from, was, func(r *state.Rows) (*state.Rows, error) { return fit(r), nil })
	return err
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

// newest gives the newest manifest that verifies; nil where there is none. One that cannot be read is not passed over. A run at work may prune all that was listed before it is
// read; then it has a newer one, so there is none only where two looks list the same.
func (s *Store) newest() (*manifest, error) {
	var before []int64
	for again := false; ; again = true {
		epochs, err := s.epochs()
		if err != nil || again && slices.Equal(epochs, before) {
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
		before = epochs
	}
}
