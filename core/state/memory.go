package state

import (
	"bytes"
	"maps"
	"slices"
	"sync"

	"undertide/core/row"
)

// Memory keeps rows of tables in memory: what a store on a disk does, in the plainest way. It serves where a run's state
// is to be had without a disk, and the tests as the model of a store. Safe for concurrent use.
type Memory struct {
	mu     sync.RWMutex
	tables map[tableOf]map[string]string
}

type tableOf struct{ step, table string }

// NewMemory holds nothing.
func NewMemory() *Memory { return &Memory{tables: map[tableOf]map[string]string{}} }

// Clone gives another with the same rows.
func (m *Memory) Clone() *Memory {
	m.mu.RLock()
	defer m.mu.RUnlock()
	out := NewMemory()
	for of, rows := range m.tables {
		out.tables[of] = maps.Clone(rows)
	}
	return out
}

// Apply carries out the changes of a lane of so many, which owns some shares.
func (m *Memory) Apply(step string, c *Changes, lane, lanes int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	of := tableOf{step, c.Table.Name}
	rows := m.tables[of]
	if rows == nil {
		rows = map[string]string{}
		m.tables[of] = rows
	}
	if c.Emptied || c.Passed > row.MinTime {
		maps.DeleteFunc(rows, func(name, _ string) bool {
			span, share, err := c.Table.SpanOf([]byte(name))
			return err == nil && LaneOf(share, lanes) == lane && (c.Emptied || span < c.Passed)
		})
	}
	for _, r := range c.Gone {
		for i := range r.N {
			delete(rows, string(c.Table.AppendName(nil, 0, r, i)))
		}
	}
	for _, r := range c.New {
		for i := range r.N {
			rows[string(c.Table.AppendName(nil, 0, r, i))] = string(c.Table.AppendContent(nil, r, i))
		}
	}
}

// Read implements [Reader].
func (m *Memory) Read(step string, t *Table, lane, lanes int, take func(*Rows) error) error {
	m.mu.RLock()
	defer m.mu.RUnlock()
	rows := m.tables[tableOf{step, t.Name}]
	reading := Reading{Table: t, Take: take}
	for _, name := range slices.SortedFunc(maps.Keys(rows), func(a, b string) int { return bytes.Compare([]byte(a), []byte(b)) }) {
		if _, share, err := t.SpanOf([]byte(name)); err != nil || LaneOf(share, lanes) != lane {
			continue
		}
		if err := reading.Add([]byte(name), []byte(rows[name])); err != nil {
			return err
		}
	}
	return reading.Flush()
}
