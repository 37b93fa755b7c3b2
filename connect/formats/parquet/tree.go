package parquet

import (
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"undertide/connect/codec"
	"undertide/core/row"
	"undertide/member"
)

// found is a column of a file that can be read: a leaf, or a list or map of them.
type found struct {
	path []string
	kind row.Kind
	leaf *parquet.Column
	// values are those of a map, whose names are leaf.
	values *parquet.Column
	// level is the definition level at which a list or map has an element; 0 for a single value. Below it, a list is empty at
	// level-1, and else null.
	level int
}

// columnsOf gives the columns of a file that can be read, and the paths of those that cannot: what lies in lists within lists, or in lists of
// groups (Parquet, "Nested Encoding", "Lists", "Maps").
func columnsOf(root *parquet.Column) (out []found, others []string) {
	var walk func(c *parquet.Column, path []string, level int)
	walk = func(c *parquet.Column, path []string, level int) {
		path = append(path[:len(path):len(path)], c.Name())
		if !c.Required() {
			level++
		}
		f, ok := found{path: path}, false
		switch inner := c.Columns(); {
		case c.Leaf() && c.Repeated():
			f, ok = listOf(f, c, level)
		case c.Leaf():
			f.leaf, f.kind, ok = c, kindOf(c), true
		case c.Repeated():
		case len(inner) == 1 && inner[0].Repeated():
			f, ok = repeatedOf(f, inner[0], level+1)
		default:
			for _, i := range inner {
				walk(i, path, level)
			}
			return
		}
		if ok && f.kind != row.Invalid {
			out = append(out, f)
		} else {
			others = append(others, strings.Join(path, "."))
		}
	}
	for _, c := range root.Columns() {
		walk(c, nil, 0)
	}
	return out, others
}

// listOf is a list of a leaf's values; level is where the list has an element.
func listOf(f found, c *parquet.Column, level int) (found, bool) {
	f.leaf, f.level = c, level
	if k := kindOf(c); k != row.Invalid {
		f.kind = row.ListOf(k)
	}
	return f, true
}

// repeatedOf is a list or map by the one repeated column that its group has.
func repeatedOf(f found, c *parquet.Column, level int) (found, bool) {
	inner := c.Columns()
	switch {
	case c.Leaf():
		return listOf(f, c, level)
	case len(inner) == 1 && inner[0].Leaf() && !inner[0].Repeated():
		return listOf(f, inner[0], level)
	case len(inner) == 2 && inner[0].Leaf() && inner[1].Leaf() && inner[0].Required() && kindOf(inner[0]) == row.String && !inner[1].Repeated() && kindOf(inner[1]) != row.Invalid:
		f.leaf, f.values, f.level, f.kind = inner[0], inner[1], level, row.MapOf(kindOf(inner[1]))
		return f, true
	}
	return f, false
}

// kindOf gives the type of ours that takes all values of a leaf; Invalid for none.
func kindOf(c *parquet.Column) row.Kind {
	l := logicalOf(c)
	switch {
	case l.decimal:
		return row.Decimal
	case l.time:
		return row.Duration
	case l.date, l.unit > 0:
		return row.Timestamp
	}
	switch c.Type().Kind() {
	case parquet.Boolean:
		return row.Bool
	case parquet.Int32, parquet.Int64:
		return row.Int
	case parquet.Float, parquet.Double:
		return row.Double
	case parquet.Int96:
		return row.Timestamp
	case parquet.ByteArray:
		if l.text {
			return row.String
		}
		return row.Bytes
	case parquet.FixedLenByteArray:
		switch {
		case l.uuid:
			return row.String
		case l.half:
			return row.Double
		}
		return row.Bytes
	}
	return row.Invalid
}

// logical is what a leaf's annotation says of its values (Parquet, "Logical Types").
type logical struct {
	decimal          bool
	scale            int32
	text, uuid, half bool
	unsigned         bool
	date             bool
	time             bool          // of a day
	unit             time.Duration // of times but dates; 0 for no time
}

// logicalOf reads a leaf's annotation.
func logicalOf(c *parquet.Column) (l logical) {
	t := c.Type().LogicalType()
	if t == nil {
		return l
	}
	switch v := t.Value.(type) {
	case *format.StringType, *format.EnumType, *format.JsonType:
		l.text = true
	case *format.DecimalType:
		l.decimal, l.scale = true, v.Scale
	case *format.DateType:
		l.date = true
	case *format.TimeType:
		l.time, l.unit = true, unitOf(v.Unit)
	case *format.TimestampType:
		l.unit = unitOf(v.Unit)
	case *format.IntType:
		l.unsigned = !v.IsSigned
	case *format.UUIDType:
		l.uuid = true
	case *format.Float16Type:
		l.half = true
	}
	return l
}

func unitOf(u format.TimeUnit) time.Duration {
	if u.Value == nil {
		return 0
	}
	return u.Value.Duration()
}

// fieldsOf gives fields for columns, named by their paths.
func fieldsOf(columns []found) (out codec.Fields) {
	names := map[string]bool{}
	for _, c := range columns {
		f := codec.Field{Name: member.FreeName(strings.Join(c.path, "."), names), Kind: c.kind}
		names[f.Name] = true
		if len(c.path) > 1 || f.Name != c.path[0] {
			f.At = member.Of(c.path...)
		}
		out = append(out, f)
	}
	return out
}
