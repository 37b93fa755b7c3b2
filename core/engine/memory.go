package engine

import "undertide/core/state"

// Memory keeps the snapshots of a run in memory, in the plainest way: for runs whose state is wanted without a disk,
// and for tests. One run at a time.
type Memory struct {
	// Last is the newest snapshot; another run may start from it.
	Last *Snapshot
	rows *state.Memory
}

// Save is an [Options.Save].
func (m *Memory) Save(s *Snapshot) (saved Saved, err error) {
	if m.rows == nil {
		m.rows = state.NewMemory()
	}
	for _, l := range s.Changes {
		for _, c := range l.Tables {
			m.rows.Apply(l.Step, c, l.Lane, l.Lanes)
			saved.Rows += int64(c.Rows())
		}
	}
	s.Changes, s.State = nil, m.rows
	m.Last = s
	return saved, nil
}
