package checkpoint

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"

	"github.com/cockroachdb/pebble/v2"

	"undertide/core/row"
	"undertide/core/state"
)

// Write implements [state.Behind], as do the methods below.
func (s *Store) Write(step string, lane, lanes int, changes []*state.Changes) error {
	if err := s.ensure(); err != nil {
		return err
	}
	s.writing.Lock() // one lane at a time: what is sorted takes memory, too
	defer s.writing.Unlock()
	var b batch
	for _, c := range changes {
		b.add(s.number(step, c.Table), c, lane, lanes)
	}
	_, err := s.live.write(&b)
	return err
}

// Find looks at names in order, so that neighbours are in one block.
func (s *Store) Find(step string, t *state.Table, wanted *state.Rows, take func(*state.Rows) error) error {
	n, ok := s.numberOf(step, t)
	if !ok {
		return nil
	}
	var data []byte
	ends := make([]int, wanted.N)
	for i := range wanted.N {
		at := row.Time(0)
		if t.Span != "" {
			at = wanted.Span[i]
		}
		data = append(t.AppendBefore(data, n, at, state.ShareOf(wanted.Hash[i])), wanted.Key(i)...)
		ends[i] = len(data)
	}
	names := make([][]byte, wanted.N)
	from := 0
	for i, to := range ends {
		names[i], from = data[from:to], to
	}
	slices.SortFunc(names, bytes.Compare)
	names = slices.CompactFunc(names, bytes.Equal)
	return s.live.do(func() (err error) {
		it, err := s.live.db.NewIter(&pebble.IterOptions{LowerBound: binary.BigEndian.AppendUint16(nil, uint16(n)), UpperBound: binary.BigEndian.AppendUint16(nil, uint16(n)+1)})
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, it.Close()) }() // also where take panics
		reading := state.Reading{Table: t, Take: take}
		for _, name := range names {
			if len(t.Rest) == 0 { // the name is whole: filters say which files have it
				if it.SeekPrefixGE(name) {
					if err := addTo(&reading, it); err != nil {
						return err
					}
				}
				if err := it.Error(); err != nil {
					return err
				}
				continue
			}
			for ok := it.SeekGE(name); ok && bytes.HasPrefix(it.Key(), name); ok = it.Next() {
				if err := addTo(&reading, it); err != nil {
					return err
				}
			}
			if err := it.Error(); err != nil {
				return err
			}
		}
		return reading.Flush()
	})
}

// Scan goes from span to span, and in each over the shares that are asked for.
func (s *Store) Scan(step string, t *state.Table, from, to row.Time, first, last uint8, take func(*state.Rows) (bool, error)) error {
	n, ok := s.numberOf(step, t)
	if !ok {
		return nil
	}
	more := true
	err := s.live.read(n, t, from, to, int(first), int(last), func(r *state.Rows) (err error) {
		if more, err = take(r); err == nil && !more {
			err = errEnough
		}
		return err
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

var errEnough = errors.New("that is enough")

// numberOf gives the number of a step's table; false where the store has none.
func (s *Store) numberOf(step string, t *state.Table) (state.TableNumber, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.live == nil {
		return 0, false
	}
	if k := s.find(step, t.Name); k != nil {
		return k.Number, true
	}
	return 0, false
}
