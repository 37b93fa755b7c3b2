package lease

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// model is the records as docs/nodes.md says they are: one step at a time, by a clock of its own.
type model struct {
	h     *history
	began time.Time
	rate  float64     // of its clock, to that of the nodes
	well  atomic.Bool // nothing goes wrong any more

	mu     sync.Mutex // guards all below
	nodes  map[string]*Node
	leases map[int64]*Lease
}

func (m *model) now() time.Time {
	return m.began.Add(time.Duration(float64(time.Since(m.began)) * m.rate))
}

func (m *model) join(self Node) {
	m.mu.Lock()
	defer m.mu.Unlock()
	self.HeardAt = m.now()
	m.nodes[self.Name] = &self
}

// alive says whether whoever has a lease was heard lately.
func (m *model) alive(name, boot string) bool {
	n := m.nodes[name]
	return n != nil && n.Boot == boot && m.now().Sub(n.HeardAt) < TakenAfter
}

func (m *model) beat(self Node) (v View, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	n := m.nodes[self.Name]
	if n == nil || n.Boot != self.Boot {
		return v, ErrReplaced
	}
	n.HeardAt = m.now()
	for _, x := range m.nodes {
		one := *x
		one.Alive = m.alive(x.Name, x.Boot)
		for _, l := range m.leases {
			if l.Node == x.Name && l.Boot == x.Boot {
				one.Jobs++
			}
		}
		v.Nodes = append(v.Nodes, one)
	}
	slices.SortFunc(v.Nodes, func(a, b Node) int { return strings.Compare(a.Name, b.Name) })
	for _, l := range m.leases {
		switch {
		case l.Node == self.Name && l.Boot == self.Boot:
			v.Mine = append(v.Mine, *l)
		case !m.alive(l.Node, l.Boot):
			v.Free = append(v.Free, *l)
		}
	}
	return v, nil
}

func (m *model) claim(job, number int64, self Node) (Lease, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	l := m.leases[job]
	if l.Number != number || m.alive(l.Node, l.Boot) {
		return Lease{}, ErrLost
	}
	n := m.nodes[self.Name]
	if n == nil || n.Boot != self.Boot {
		return Lease{}, ErrReplaced
	}
	n.HeardAt = m.now()
	l.Number, l.Node, l.Boot = number+1, self.Name, self.Boot
	return *l, nil
}

func (m *model) lease(job int64) Lease {
	m.mu.Lock()
	defer m.mu.Unlock()
	return *m.leases[job]
}

func (m *model) release(job, number int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	l := m.leases[job]
	if l.Number != number {
		return ErrLost
	}
	l.Node, l.Boot = "", ""
	return nil
}

// commit holds that checkpoints are a chain: each goes on from the one that counted before, whoever made it. Place says from which it goes on, and by which lease.
func (m *model) commit(c Lease) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	l := m.leases[c.JobID]
	if l.Number != c.Number {
		return ErrLost
	}
	if c.Epoch < l.Epoch {
		return nil // a late one
	}
	want := fmt.Sprintf("%d by %d", l.Epoch, c.Number)
	if c.Epoch == l.Epoch && c.Place == l.Place { // once more, since its answer was lost
		return nil
	}
	if c.Place != want || c.Epoch != l.Epoch+1 {
		m.h.t.Errorf("job %d: checkpoint %d goes on from %s, and %d counted", c.JobID, c.Epoch, c.Place, l.Epoch)
	}
	l.Epoch, l.Place = c.Epoch, c.Place
	return nil
}
