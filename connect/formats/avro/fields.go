package avro

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/hamba/avro/v2"

	"undertide/connect/codec"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/member"
)

// fieldsOf gives the fields that a record's schema describes: those of records within it by their paths. What has no type of ours is left
// out (records in lists, unions of several types).
func fieldsOf(s avro.Schema) (out codec.Fields, err error) {
	names := map[string]bool{}
	walk(actual(s).(*avro.RecordSchema), nil, nil, func(path []string, f *avro.Field) {
		kind := kindOf(f.Type())
		if kind == row.Invalid {
			return
		}
		field := codec.Field{Name: member.FreeName(strings.Join(path, "."), names), Kind: kind}
		names[field.Name] = true
		if field.Name != path[0] || len(path) > 1 {
			for _, name := range path {
				field.At = append(field.At, member.Part{Name: name})
			}
		}
		if f.HasDefault() && f.Default() != nil {
			field.Default = defaultOf(&field, f.Default())
		}
		out = append(out, field)
	})
	if len(out) == 0 {
		return nil, fmt.Errorf("the schema has no field of a type that is known")
	}
	return out, nil
}

// walk goes over the fields of a record and of records within it, but for one that holds itself. around are the records that
// s lies in.
func walk(s *avro.RecordSchema, around, at []string, each func(path []string, f *avro.Field)) {
	around = append(around[:len(around):len(around)], s.FullName())
	for _, f := range s.Fields() {
		path := append(at[:len(at):len(at)], f.Name())
		inner, ok := only(f.Type()).(*avro.RecordSchema)
		switch {
		case !ok:
			each(path, f)
		case !slices.Contains(around, inner.FullName()):
			walk(inner, around, path, each)
		}
	}
}

// only gives the type of a union beside null, where there is one alone.
func only(s avro.Schema) avro.Schema {
	s = actual(s)
	u, ok := s.(*avro.UnionSchema)
	if !ok {
		return s
	}
	var found avro.Schema
	for _, b := range u.Types() {
		if b.Type() == avro.Null {
			continue
		}
		if found != nil {
			return s
		}
		found = actual(b)
	}
	if found == nil {
		return s
	}
	return found
}

// kindOf gives the type of ours that takes all values of a schema; Invalid for none.
func kindOf(s avro.Schema) row.Kind {
	s = only(s)
	logical := logicalName(logicalOf(s))
	switch {
	case logical == avro.Decimal:
		return row.Decimal
	case logical == avro.UUID:
		return row.String
	case logical == avro.TimeMillis, logical == avro.TimeMicros:
		return row.Duration
	case microseconds[logical] > 0:
		return row.Timestamp
	}
	switch s.Type() {
	case avro.Boolean:
		return row.Bool
	case avro.Int, avro.Long:
		return row.Int
	case avro.Float, avro.Double:
		return row.Double
	case avro.String, avro.Enum:
		return row.String
	case avro.Bytes, avro.Fixed:
		return row.Bytes
	case avro.Array:
		if k := kindOf(s.(*avro.ArraySchema).Items()); k != row.Invalid && k.Plain() {
			return row.ListOf(k)
		}
	case avro.Map:
		if k := kindOf(s.(*avro.MapSchema).Values()); k != row.Invalid && k.Plain() {
			return row.MapOf(k)
		}
	}
	return row.Invalid
}

// defaultOf gives a field's default of its schema, as a value of ours; none where it is not a plain one.
func defaultOf(f *codec.Field, v any) expr.Value {
	if !f.Kind.Plain() || f.Kind == row.Bytes || f.Kind == row.Decimal || f.Kind == row.Timestamp || f.Kind == row.Duration {
		return expr.Value{} // written in bytes, or in units
	}
	text := []byte(fmt.Sprint(v))
	if s, ok := v.(string); !ok {
		if b, err := json.Marshal(v); err == nil {
			text = b
		}
	} else {
		text = []byte(s)
	}
	c := row.NewColumn(f.Kind)
	if !f.Set(c, text) {
		return expr.Value{}
	}
	return expr.At(c, 0)
}

// aliasesOf gives the names that a record's fields had before, by their names now (Avro 1.12, "Aliases").
func aliasesOf(s avro.Schema) map[string][]string {
	out := map[string][]string{}
	if s == nil {
		return out
	}
	for _, f := range actual(s).(*avro.RecordSchema).Fields() {
		out[f.Name()] = f.Aliases()
	}
	return out
}

// Describe gives the fields of a schema as documents declare them, name and type; none where it is not a record.
func Describe(text string) (out []string) {
	s, err := parse(text)
	if err != nil {
		return nil
	}
	fields, err := fieldsOf(s)
	if err != nil {
		return nil
	}
	for i := range fields {
		out = append(out, fields[i].Name+" "+fields[i].Kind.String())
	}
	return out
}
