package engine

import "undertide/core/state"

// Memory keeps the snapshots of a run in memory, in the plainest way: for runs whose state is wanted without a disk,
// and for tests. One run at a time.
type Memory struct {
	// Last is the newest snapshot; another run may start from it.
	Last *Snapshot
	live *state.Memory
}

// Behind gives what stands behind a run that starts from Last: call it once before each.
func (m *Memory) Behind() *state.Memory {
	m.live = state.NewMemory()
	if m.Last != nil {
		m.live = m.Last.State.(*state.Memory).Clone()
	}
	return m.live
}

// Save is an [Options.Save].
func (m *Memory) Save(s *Snapshot) (saved Saved, err error) {
	if m.live == nil {
		m.Behind()
	}
	for _, l := range s.Changes {
		for _, c := range l.Tables {
			m.live.Apply(l.Step, c, l.Lane, l.Lanes)
			saved.Rows += int64(c.Rows())
		}
	}
	s.Changes, s.State = nil, m.live.Clone()
	m.Last = s
	return saved, nil
}
