// Package measure holds the aggregates of windows as columns: one accumulator for each key number.
// A column adds the rows of a batch in one typed loop, gives results, and saves and loads its state
// as plain columns. Sums of doubles take rows one by one in the order given
// (docs/time.md, "Same input, same output").
package measure

import (
	"errors"
	"fmt"

	"undertide/core/row"
)

// ErrOverflow is returned when an int sum does not fit 64 bits at the end, ErrNotFinite when a sum
// of doubles is not finite.
var (
	ErrOverflow  = errors.New("the int result does not fit 64 bits")
	ErrNotFinite = errors.New("the double result is not finite")
)

// Spec describes an aggregate: the function's name and the kind of its argument (Invalid: none).
type Spec struct {
	Func string
	Arg  row.Kind
}

// Column is the accumulators of one aggregate for the keys of one slice. One goroutine at a time.
type Column interface {
	// Grow makes room for keys 0 to n-1; new ones are empty.
	Grow(n int)
	// Add takes row rows[i] of arg for key ids[i], for every i, in order. No row is null.
	Add(ids []uint32, rows []uint16, arg *row.Column)
	// Append adds the result of key id to dst, which is not called for keys without a value.
	Append(dst *row.Column, id uint32) error
	// State names the columns of Save and Load.
	State() row.Schema
	// Save appends the accumulator of key id to columns as State says.
	Save(dst []*row.Column, id uint32)
	// Load sets the accumulator of key id from row i of such columns.
	Load(id uint32, src []*row.Column, i int)
	// Move copies the accumulator of key from to key to of another column of the same spec.
	Move(dst Column, from, to uint32)
	// Bytes is about how much memory the column takes.
	Bytes() int
	// Clear empties all accumulators and keeps the memory.
	Clear()
}

// New makes an empty column.
func New(s Spec) (Column, error) {
	switch s.Func {
	case "count":
		return &counts{}, nil
	case "sum", "mean":
		mean := s.Func == "mean"
		switch s.Arg {
		case row.Double:
			return &doubleSums{mean: mean}, nil
		case row.Int, row.Duration:
			return &intSums{mean: mean}, nil
		}
	case "min", "max":
		sign := int64(1)
		if s.Func == "max" {
			sign = -1
		}
		switch s.Arg {
		case row.Double:
			return &doubleExtremes{greatest: sign < 0}, nil
		case row.Int, row.Duration, row.Timestamp:
			return &intExtremes{kind: s.Arg, greatest: sign < 0}, nil
		case row.String:
			return &textExtremes{greatest: sign < 0}, nil
		}
	}
	return nil, fmt.Errorf("no aggregate %s of %s", s.Func, s.Arg)
}

// grown extends s to n entries of zero.
func grown[T any](s []T, n int) []T {
	if n <= cap(s) {
		return s[:max(n, len(s))]
	}
	next := make([]T, n, n+n/4+16)
	copy(next, s)
	return next
}
