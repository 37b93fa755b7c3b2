// Package expr turns CEL text into programs over column batches.
//
// The CEL library parses and type-checks ([Compile]); evaluation is ours, because the contract has
// null and error rules of its own (docs/time.md, "Nulls, errors, values"). There are two evaluators:
// a plain one that takes a row at a time ([Program.Eval]) and typed loops over columns ([Runner]).
// They are tested against each other on random expressions and rows. Functions that are rare come
// from the library, one call at a time.
package expr

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"undertide/core/row"
)

// Value is one value of a kind. The zero Value is a null without a kind.
type Value struct {
	Kind row.Kind
	Null bool
	I    int64 // Int, Bool (0 or 1), Timestamp and Duration (microseconds)
	F    float64
	S    string // String, Bytes, Decimal; lists and maps as [row.AppendElement] writes them
}

// NullOf gives the null of a kind.
func NullOf(k row.Kind) Value { return Value{Kind: k, Null: true} }

// BoolOf wraps a bool.
func BoolOf(b bool) Value { return Value{Kind: row.Bool, I: b2i(b)} }

// True says whether v is a bool, not null, and true: how a condition takes its result.
func (v Value) True() bool { return v.Kind == row.Bool && !v.Null && v.I != 0 }

func b2i(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// At reads row i of a column.
func At(c *row.Column, i int) Value {
	if c.IsNull(i) {
		return NullOf(c.Kind)
	}
	v := Value{Kind: c.Kind}
	switch {
	case c.Kind == row.Double:
		v.F = c.F[i]
	case c.Kind.Text():
		v.S = string(c.Bytes(i))
	default:
		v.I = c.I[i]
	}
	return v
}

// AppendTo adds v to a column of the same kind.
func (v Value) AppendTo(c *row.Column) {
	switch {
	case v.Null:
		c.AppendNull()
	case c.Kind == row.Double:
		c.AppendDouble(v.F)
	case c.Kind.Text():
		c.AppendString(v.S)
	default:
		c.AppendInt(v.I)
	}
}

// String writes v as people read it in messages.
func (v Value) String() string {
	if v.Null {
		return "null"
	}
	switch v.Kind {
	case row.String, row.Bytes:
		return fmt.Sprintf("%q", v.S)
	case row.Double:
		return fmt.Sprint(v.F)
	case row.Bool:
		return fmt.Sprint(v.I != 0)
	case row.Timestamp:
		return row.Time(v.I).String()
	case row.Duration:
		return row.DurationText(time.Duration(v.I) * time.Microsecond)
	case row.Decimal:
		return v.S
	}
	if !v.Kind.Plain() {
		return listText(v)
	}
	return fmt.Sprint(v.I)
}

// Compare orders two values of one kind that are not null.
func Compare(a, b Value) int {
	switch {
	case a.Kind == row.Decimal:
		return DecimalOf([]byte(a.S)).Cmp(DecimalOf([]byte(b.S)))
	case a.Kind == row.Double:
		return cmp.Compare(a.F, b.F)
	case a.Kind.Text():
		return strings.Compare(a.S, b.S)
	}
	return cmp.Compare(a.I, b.I)
}

// toLibrary hands v to a function of the CEL library.
func toLibrary(v Value) (ref.Val, error) {
	switch v.Kind {
	case row.String:
		return types.String(v.S), nil
	case row.Bytes:
		return types.Bytes(v.S), nil
	case row.Int:
		return types.Int(v.I), nil
	case row.Double:
		return types.Double(v.F), nil
	case row.Bool:
		return types.Bool(v.I != 0), nil
	case row.Timestamp:
		return types.Timestamp{Time: row.Time(v.I).Std()}, nil
	case row.Duration:
		if d := time.Duration(v.I) * time.Microsecond; d.Microseconds() == v.I {
			return types.Duration{Duration: d}, nil
		}
		return nil, errOverflow
	}
	if v.Kind.IsList() {
		var list []ref.Val
		for _, e := range elements(v) {
			if e.Null {
				list = append(list, types.NullValue)
				continue
			}
			x, err := toLibrary(e)
			if err != nil {
				return nil, err
			}
			list = append(list, x)
		}
		return types.NewRefValList(types.DefaultTypeAdapter, list), nil
	}
	return nil, fmt.Errorf("a %s cannot go to a function", v.Kind)
}

// fromLibrary takes a result of the CEL library, whose errors become ours.
func fromLibrary(r ref.Val) (Value, error) {
	switch x := r.(type) {
	case types.String:
		return Value{Kind: row.String, S: string(x)}, nil
	case types.Bytes:
		return Value{Kind: row.Bytes, S: string(x)}, nil
	case types.Int:
		return Value{Kind: row.Int, I: int64(x)}, nil
	case types.Double:
		return checkFinite(Value{Kind: row.Double, F: float64(x)})
	case types.Bool:
		return BoolOf(bool(x)), nil
	case types.Timestamp:
		return checkTime(Value{Kind: row.Timestamp, I: int64(row.TimeOf(x.Time))})
	case types.Duration:
		return Value{Kind: row.Duration, I: x.Duration.Microseconds()}, nil
	case *types.Err:
		return Value{}, fmt.Errorf("%s", x.Error())
	case traits.Lister:
		var values []Value
		for it := x.Iterator(); it.HasNext() == types.True; {
			v, err := fromLibrary(it.Next())
			if err != nil {
				return Value{}, err
			}
			values = append(values, v)
		}
		if len(values) == 0 {
			return Value{Kind: row.ListOf(row.String)}, nil
		}
		return ListOf(row.ListOf(values[0].Kind), values), nil
	}
	return Value{}, fmt.Errorf("a %s is not a value of a row", r.Type().TypeName())
}
