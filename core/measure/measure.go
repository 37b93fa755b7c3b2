// Package measure holds the aggregates of windows as columns: one accumulator for each key number.
// A column adds the rows of a batch in one typed loop, joins accumulators, gives results, and saves and
// loads its state as plain columns. Sums of doubles take rows one by one in the order given
// (docs/time.md, "Same input, same output").
package measure

import (
	"errors"
	"fmt"

	"undertide/core/expr"
	"undertide/core/row"
)

// ErrOverflow is returned when an int sum does not fit 64 bits at the end, ErrNotFinite when a sum
// of doubles is not finite.
var (
	ErrOverflow  = errors.New("the int result does not fit 64 bits")
	ErrNotFinite = errors.New("the double result is not finite")
)

// Spec describes an aggregate: the function's name, the kind of its argument (Invalid: none), and what
// stands beside the argument.
type Spec struct {
	Func string
	Arg  row.Kind
	N    int     // collect, largest, most_common: at most so many values
	Q    float64 // quantile
	Fold *expr.Fold
}

// Column is the accumulators of one aggregate for the keys of one slice. One goroutine at a time.
type Column interface {
	// Grow makes room for keys 0 to n-1; new ones are empty.
	Grow(n int)
	// Add takes row rows[i] of arg for key ids[i], for every i, in order. No row is null. times are the
	// rows' event times.
	Add(ids []uint32, rows []uint16, arg *row.Column, times []row.Time)
	// Merge joins accumulator from of src, whose rows come after, to accumulator to. src may be the
	// column itself. An empty accumulator becomes an equal one.
	Merge(to uint32, src Column, from uint32)
	// JoinAll makes accumulators 0 to n-1, whatever they were, what those of the same number in srcs give together, the oldest first: as
	// if one were merged after the other into an empty one. There is room for them.
	JoinAll(srcs []Column, n int)
	// Reset empties one accumulator.
	Reset(id uint32)
	// Append adds the result of key id to dst, which is not called for keys without a value.
	Append(dst *row.Column, id uint32) error
	// State names the columns of Save and Load.
	State() row.Schema
	// Save appends the accumulator of key id to columns as State says.
	Save(dst []*row.Column, id uint32)
	// Load sets the accumulator of key id, which is empty, from row i of such columns.
	Load(id uint32, src []*row.Column, i int) error
	// Bytes is about how much memory the column takes, with what its values hold. It is asked for after each turn,
	// and walks nothing.
	Bytes() int
	// Clear empties all accumulators and keeps the memory.
	Clear()
}

// Bulk is a column that appends the results of many keys in one loop, each of which has a value. It gives
// false, and appends nothing, where one of them has none after all.
type Bulk interface {
	AppendAll(dst *row.Column, ids []uint32) bool
	// AppendFrom does so for the keys from from to before to.
	AppendFrom(dst *row.Column, from, to int) bool
}

// BulkSaver is a column that saves many keys in one loop.
type BulkSaver interface {
	SaveAll(dst []*row.Column, ids []uint32)
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
		case row.Decimal:
			return &decimalSums{mean: mean}, nil
		}
	case "min", "max":
		greatest := s.Func == "max"
		switch s.Arg {
		case row.Double, row.Int, row.Duration, row.Timestamp, row.Bool:
			return newExtremes(s.Arg, greatest), nil
		case row.String, row.Bytes:
			return &textExtremes{kind: s.Arg, greatest: greatest}, nil
		case row.Decimal:
			return &decimalExtremes{greatest: greatest}, nil
		}
	case "first", "last":
		return &ends{kind: s.Arg, last: s.Func == "last"}, nil
	case "variance", "stddev":
		return &spreads{root: s.Func == "stddev", arg: s.Arg}, nil
	case "quantile", "median":
		return &quantiles{q: s.Q, median: s.Func == "median", arg: s.Arg}, nil
	case "count_distinct":
		return &distincts{kind: s.Arg}, nil
	case "collect":
		return &collections{kind: s.Arg, n: s.N}, nil
	case "largest":
		return &largest{kind: s.Arg, n: s.N}, nil
	case "most_common":
		return &commons{kind: s.Arg, n: s.N}, nil
	case "fold":
		return &folds{fold: s.Fold}, nil
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

// joinEach is JoinAll for columns without a loop of their own.
func joinEach(c Column, srcs []Column, n int) {
	for id := range uint32(n) {
		c.Reset(id)
	}
	for _, src := range srcs {
		for id := range uint32(n) {
			c.Merge(id, src, id)
		}
	}
}

// errState: a column of state does not have the form that Save gives it.
var errState = errors.New("the state of an aggregate is damaged")
