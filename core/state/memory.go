package state

import (
	"maps"
	"slices"
	"strings"
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
	first, last := LaneShares(lane, lanes)
	return m.Scan(step, t, row.MinTime, row.MaxTime, uint8(first), uint8(last), func(r *Rows) (bool, error) { return true, take(r) })
}

// Write implements [Behind], as do the methods below.
func (m *Memory) Write(step string, lane, lanes int, changes []*Changes) error {
	for _, c := range changes {
		ahead := *c
		ahead.Passed = row.MinTime
		m.Apply(step, &ahead, lane, lanes)
	}
	return nil
}

func (m *Memory) Find(step string, t *Table, wanted *Rows, take func(*Rows) error) error {
	names := make([]string, wanted.N)
	for i := range names {
		at := row.Time(0)
		if t.Span != "" {
			at = wanted.Span[i]
		}
		names[i] = string(append(t.AppendBefore(nil, 0, at, ShareOf(wanted.Hash[i])), wanted.Key(i)...))
	}
	slices.Sort(names)
	names = slices.Compact(names)
	return m.each(step, t, take, func(name string) bool {
		at, found := slices.BinarySearch(names, name)
		return found || at > 0 && strings.HasPrefix(name, names[at-1])
	})
}

func (m *Memory) Scan(step string, t *Table, from, to row.Time, first, last uint8, take func(*Rows) (bool, error)) error {
	more := true
	return m.each(step, t, func(r *Rows) (err error) {
		if more {
			more, err = take(r)
		}
		return err
	}, func(name string) bool {
		span, share, err := t.SpanOf([]byte(name))
		return err == nil && share >= first && share <= last && (t.Span == "" || span >= from && (span < to || to == row.MaxTime))
	})
}

// each hands over the rows of a table whose name is asked for, in order.
func (m *Memory) each(step string, t *Table, take func(*Rows) error, asked func(name string) bool) error {
	m.mu.RLock()
	rows := m.tables[tableOf{step, t.Name}]
	var names, held []string
	for name := range rows {
		if asked(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		held = append(held, rows[name])
	}
	m.mu.RUnlock()
	reading := Reading{Table: t, Take: take}
	for i, name := range names {
		if err := reading.Add([]byte(name), []byte(held[i])); err != nil {
			return err
		}
	}
	return reading.Flush()
}
