package avro

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"github.com/hamba/avro/v2"

	"undertide/connect/codec"
	"undertide/core/row"
)

// program reads events of one writer's schema into the columns of a source. Fields are found by name, as Avro resolves schemas
// (Avro 1.12, "Schema resolution"): what the writer does not have is missing, what nobody asked for is passed over, and numbers
// are widened where that loses nothing.
type program struct {
	read func(p *reading)
}

// reading is what a program works on.
type reading struct {
	cursor
	cols   []*row.Column
	row    int    // rows that the columns have
	wrong  int    // the first field that was given a value of another type; -1 for none
	reason string // what it was given
}

// result says what became of a value; it is read in any case.
type result uint8

const (
	taken result = iota
	null         // nothing was appended
	other        // nothing was appended: it is of another type
)

// taker reads a value onto a column.
type taker func(p *reading, c *row.Column) result

// compiler makes programs.
type compiler struct {
	fields codec.Fields
	skips  map[string]*func(p *reading) // of records, by name: they may hold themselves
}

// compile makes the program of a writer's schema.
//
// before are the names that fields of the outermost record had, by their names now.
func compile(schema avro.Schema, fields codec.Fields, before map[string][]string) (*program, error) {
	record, ok := actual(schema).(*avro.RecordSchema)
	if !ok {
		return nil, fmt.Errorf("the schema is of type %s, and events are records", schema.Type())
	}
	k := &compiler{fields: fields, skips: map[string]*func(p *reading){}}
	wanted := map[string][]want{}
	for i := range fields {
		f := &fields[i]
		path := []string{f.Name}
		if len(f.At) > 0 {
			path = path[:0]
			for _, part := range f.At {
				if part.Item {
					return nil, fmt.Errorf("field %s takes an item of a list, which is not taken from Avro; take the list, and the item by an expression", f.Name)
				}
				path = append(path, part.Name)
			}
		}
		name := written(record, path[0], before[path[0]])
		wanted[name] = append(wanted[name], want{i, path[1:]})
	}
	return &program{k.record(record, wanted)}, nil
}

// written gives the name by which a record has a field: that of now, or one of before.
func written(s *avro.RecordSchema, now string, before []string) string {
	has := func(name string) bool {
		return slices.ContainsFunc(s.Fields(), func(f *avro.Field) bool { return f.Name() == name })
	}
	if has(now) {
		return now
	}
	if i := slices.IndexFunc(before, has); i >= 0 {
		return before[i]
	}
	return now
}

// want is a field that lies within a value, at a path.
type want struct {
	field int
	path  []string
}

func actual(s avro.Schema) avro.Schema {
	if ref, ok := s.(*avro.RefSchema); ok {
		return ref.Schema()
	}
	return s
}

// record reads a record of which some values are wanted.
func (k *compiler) record(s *avro.RecordSchema, wanted map[string][]want) func(p *reading) {
	named := map[string]int{}
	for _, f := range s.Fields() {
		named[f.Name()]++
	}
	var steps []op
	for _, f := range s.Fields() {
		o := k.simple(f.Type(), wanted[f.Name()])
		if o.kind == anyOp || named[f.Name()] > 1 { // the last of one name counts
			o = op{kind: anyOp, read: k.value(f.Type(), wanted[f.Name()])}
		}
		steps = append(steps, o)
	}
	return func(p *reading) { p.run(steps) }
}

// op is how a value of a record is read. What most values are, a text, a number or a time for a column of its kind, is read at its place; the rest has a
// function of its own.
type op struct {
	kind  opKind
	field int
	unit  int64 // of a time, in microseconds
	read  func(p *reading)
}

type opKind uint8

const (
	anyOp opKind = iota
	textOp
	doubleOp
	wholeOp
	timeOp
	pastLongOp // nobody wants it
	pastDoubleOp
	pastBytesOp
)

// simple gives the op of a value that is one of the usual; anyOp for another.
func (k *compiler) simple(s avro.Schema, wants []want) op {
	s = actual(s)
	if len(wants) == 0 {
		switch s.Type() {
		case avro.Int, avro.Long:
			return op{kind: pastLongOp}
		case avro.Double:
			return op{kind: pastDoubleOp}
		case avro.String, avro.Bytes:
			return op{kind: pastBytesOp}
		}
		return op{}
	}
	if len(wants) > 1 || len(wants[0].path) > 0 {
		return op{}
	}
	o := op{field: wants[0].field}
	f, logical := &k.fields[o.field], logicalName(logicalOf(s))
	switch t := s.Type(); {
	case t == avro.String && f.Kind == row.String:
		o.kind = textOp
	case t == avro.Double && f.Kind == row.Double:
		o.kind = doubleOp
	case (t == avro.Int || t == avro.Long) && f.Kind == row.Int:
		o.kind = wholeOp
	case t == avro.Long && f.Kind == row.Timestamp && (logical == avro.TimestampMillis || logical == avro.TimestampMicros):
		o.kind, o.unit = timeOp, microseconds[logical]
	}
	return o
}

// run reads the values of a record.
func (p *reading) run(ops []op) {
	for i := range ops {
		o, from := &ops[i], p.at
		switch o.kind {
		case textOp:
			if s := p.bytes(); utf8.Valid(s) {
				p.cols[o.field].AppendBytes(s)
			} else {
				p.other(o.field, from)
			}
		case doubleOp:
			if v := p.double(); v-v == 0 {
				c := p.cols[o.field]
				c.F = append(c.F, v)
			} else {
				p.other(o.field, from)
			}
		case wholeOp:
			c := p.cols[o.field]
			c.I = append(c.I, p.long())
		case timeOp:
			if v := p.long(); v <= math.MaxInt64/o.unit && v >= math.MinInt64/o.unit {
				c := p.cols[o.field]
				c.I = append(c.I, v*o.unit)
			} else {
				p.other(o.field, from)
			}
		case pastLongOp:
			p.long()
		case pastDoubleOp:
			p.take(8)
		case pastBytesOp:
			p.bytes()
		default:
			o.read(p)
		}
	}
}

// other notes that a field was given a value of another type, which began at from.
func (p *reading) other(field, from int) {
	if p.wrong < 0 && p.err == nil {
		p.wrong, p.reason = field, preview(p.b[from:p.at])
	}
}

// value reads a value of which this is wanted.
func (k *compiler) value(s avro.Schema, wants []want) func(p *reading) {
	switch {
	case len(wants) == 0:
		return k.skip(s)
	case len(wants) == 1 && len(wants[0].path) == 0:
		return k.into(wants[0].field, k.taker(s, &k.fields[wants[0].field]))
	}
	// Several fields of one value, or values within it: it is read once for each.
	var each []func(p *reading)
	within := map[string][]want{}
	for _, w := range wants {
		if len(w.path) == 0 {
			each = append(each, k.into(w.field, k.taker(s, &k.fields[w.field])))
		} else {
			within[w.path[0]] = append(within[w.path[0]], want{w.field, w.path[1:]})
		}
	}
	if len(within) > 0 {
		each = append(each, k.inner(s, within))
	}
	return func(p *reading) {
		from := p.at
		for _, read := range each {
			p.at = from
			if p.err == nil {
				read(p)
			}
		}
	}
}

// inner reads values within a record, or within the branch of a union that is one.
func (k *compiler) inner(s avro.Schema, wanted map[string][]want) func(p *reading) {
	switch s := actual(s).(type) {
	case *avro.RecordSchema:
		read := k.record(s, wanted)
		return func(p *reading) { p.within(func() { read(p) }) }
	case *avro.UnionSchema:
		var branches []func(p *reading)
		for _, b := range s.Types() {
			branches = append(branches, k.inner(b, wanted))
		}
		return union(branches)
	}
	return k.skip(s)
}

// union reads the branch that its number names.
func union(branches []func(p *reading)) func(p *reading) {
	return func(p *reading) {
		if n := p.branch(len(branches)); n >= 0 {
			branches[n](p)
		}
	}
}

// branch reads the number of a union's branch; -1 where there is none.
func (p *reading) branch(of int) int {
	n := p.long()
	if p.err != nil || n < 0 || n >= int64(of) {
		p.fail(fmt.Errorf("a union of %d has no branch %d", of, n))
		return -1
	}
	return int(n)
}

// into reads a value into a field's column. A null is as good as a missing value.
func (k *compiler) into(field int, take taker) func(p *reading) {
	return func(p *reading) {
		c, from := p.cols[field], p.at
		if c.Len() > p.row { // a name that stands twice in a schema: the last one counts
			c.Truncate(p.row)
		}
		if take(p, c) == other {
			p.other(field, from)
		}
	}
}

// skip passes over a value.
func (k *compiler) skip(s avro.Schema) func(p *reading) {
	switch s := actual(s).(type) {
	case *avro.RecordSchema:
		if known, ok := k.skips[s.FullName()]; ok { // perhaps of the record that it is being made for
			return func(p *reading) { (*known)(p) }
		}
		made := new(func(p *reading))
		k.skips[s.FullName()] = made
		read := k.record(s, nil)
		*made = func(p *reading) { p.within(func() { read(p) }) }
		return *made
	case *avro.UnionSchema:
		var branches []func(p *reading)
		for _, b := range s.Types() {
			branches = append(branches, k.skip(b))
		}
		return union(branches)
	case *avro.ArraySchema:
		each := k.skip(s.Items())
		return func(p *reading) { p.elements(func() { each(p) }) }
	case *avro.MapSchema:
		each := k.skip(s.Values())
		return func(p *reading) { p.elements(func() { p.bytes(); each(p) }) }
	case *avro.FixedSchema:
		n := int64(s.Size())
		return func(p *reading) { p.take(n) }
	}
	switch s.Type() {
	case avro.Int, avro.Long, avro.Enum:
		return func(p *reading) { p.long() }
	case avro.Float:
		return func(p *reading) { p.take(4) }
	case avro.Double:
		return func(p *reading) { p.take(8) }
	case avro.Boolean:
		return func(p *reading) { p.boolean() }
	case avro.String, avro.Bytes:
		return func(p *reading) { p.bytes() }
	}
	return func(*reading) {} // null
}

// taker makes what reads a value of a writer's type for a field.
func (k *compiler) taker(s avro.Schema, f *codec.Field) taker {
	s = actual(s)
	switch s := s.(type) {
	case *avro.UnionSchema:
		var branches []taker
		for _, b := range s.Types() {
			branches = append(branches, k.taker(b, f))
		}
		return func(p *reading, c *row.Column) result {
			n := p.branch(len(branches))
			if n < 0 {
				return null
			}
			return branches[n](p, c)
		}
	case *avro.ArraySchema:
		if f.Kind.IsList() && !f.Kind.IsCommon() {
			return k.list(s.Items(), f)
		}
	case *avro.MapSchema:
		if f.Kind.IsMap() {
			return k.entries(s.Values(), f)
		}
	case *avro.EnumSchema:
		return k.enum(s, f)
	}
	logical := logicalOf(s)
	switch s.Type() {
	case avro.Null:
		return func(*reading, *row.Column) result { return null }
	case avro.Boolean:
		if f.Kind == row.Bool {
			return func(p *reading, c *row.Column) result { c.AppendBool(p.boolean()); return taken }
		}
	case avro.Int, avro.Long:
		if put := whole(f, logical); put != nil {
			return func(p *reading, c *row.Column) result { return put(c, p.long()) }
		}
	case avro.Float:
		if put := fraction(f, 32); put != nil {
			return func(p *reading, c *row.Column) result { return put(c, p.float()) }
		}
	case avro.Double:
		if put := fraction(f, 64); put != nil {
			return func(p *reading, c *row.Column) result { return put(c, p.double()) }
		}
	case avro.String:
		return func(p *reading, c *row.Column) result { return text(f, c, p.bytes()) }
	case avro.Bytes:
		return k.binary(f, s, func(p *reading) []byte { return p.bytes() })
	case avro.Fixed:
		n := int64(s.(*avro.FixedSchema).Size())
		return k.binary(f, s, func(p *reading) []byte { return p.take(n) })
	}
	skip := k.skip(s)
	return func(p *reading, _ *row.Column) result { skip(p); return other }
}

// logicalOf gives a type's logical type; nil for none.
func logicalOf(s avro.Schema) avro.LogicalSchema {
	if l, ok := s.(avro.LogicalTypeSchema); ok {
		return l.Logical()
	}
	return nil
}

func logicalName(l avro.LogicalSchema) avro.LogicalType {
	if l == nil {
		return ""
	}
	return l.Type()
}

// microseconds are how many a unit of a logical type has.
var microseconds = map[avro.LogicalType]int64{
	avro.TimestampMillis: 1000, avro.TimestampMicros: 1, avro.LocalTimestampMillis: 1000, avro.LocalTimestampMicros: 1,
	avro.TimeMillis: 1000, avro.TimeMicros: 1, avro.Date: 24 * 3600 * 1_000_000,
}

// whole makes what puts an int or long; nil where the field takes none.
func whole(f *codec.Field, l avro.LogicalSchema) func(c *row.Column, v int64) result {
	logical := logicalName(l)
	switch {
	case f.Kind == row.Timestamp && logical != "" && logical != avro.TimeMillis && logical != avro.TimeMicros, f.Kind == row.Duration && (logical == avro.TimeMillis || logical == avro.TimeMicros):
		unit := microseconds[logical]
		return func(c *row.Column, v int64) result {
			if unit > 1 && (v > math.MaxInt64/unit || v < math.MinInt64/unit) {
				return other
			}
			c.AppendInt(v * unit)
			return taken
		}
	case f.Kind == row.Timestamp && f.Parse.Epochs():
		return func(c *row.Column, v int64) result {
			us, ok := f.Parse.Epoch(v)
			if !ok {
				return other
			}
			c.AppendInt(us)
			return taken
		}
	case f.Kind == row.Int, f.Kind == row.Duration && logical == "": // a duration as it is written: microseconds
		return func(c *row.Column, v int64) result { c.AppendInt(v); return taken }
	case f.Kind == row.Double:
		return func(c *row.Column, v int64) result { c.AppendDouble(float64(v)); return taken }
	case f.Kind == row.Decimal:
		return func(c *row.Column, v int64) result { c.AppendString(strconv.FormatInt(v, 10)); return taken }
	}
	return nil
}

// fraction makes what puts a float or double; nil where the field takes none. What is not a number is of another type.
func fraction(f *codec.Field, bits int) func(c *row.Column, v float64) result {
	set := func(c *row.Column, v float64) result {
		if v-v != 0 || !f.Set(c, strconv.AppendFloat(nil, v, 'f', -1, bits)) {
			return other
		}
		return taken
	}
	switch {
	case f.Kind == row.Double:
		return func(c *row.Column, v float64) result {
			if v-v != 0 {
				return other
			}
			c.AppendDouble(v)
			return taken
		}
	case f.Kind == row.Int, f.Kind == row.Decimal, f.Kind == row.Timestamp && f.Parse.Epochs():
		return set
	}
	return nil
}

// text puts a string, as JSON's are put.
func text(f *codec.Field, c *row.Column, s []byte) result {
	switch {
	case f.Kind == row.String:
		if !utf8.Valid(s) {
			return other
		}
		c.AppendBytes(s)
		return taken
	case f.Kind == row.Int, f.Kind == row.Double, f.Kind == row.Bool, !f.Kind.Plain(), f.Kind == row.Timestamp && f.Parse.Epochs(), !f.Set(c, s):
		return other
	}
	return taken
}

// binary makes what takes bytes or a fixed: a decimal, a UUID, or bytes as they are.
func (k *compiler) binary(f *codec.Field, s avro.Schema, read func(p *reading) []byte) taker {
	switch l := logicalOf(s); {
	case logicalName(l) == avro.Decimal && (f.Kind == row.Decimal || f.Kind == row.Double):
		scale := int32(l.(*avro.DecimalLogicalSchema).Scale())
		return func(p *reading, c *row.Column) result {
			if !codec.SetScaled(c, read(p), scale) {
				return other
			}
			return taken
		}
	case logicalName(l) == avro.UUID && f.Kind == row.String && s.Type() == avro.Fixed:
		return func(p *reading, c *row.Column) result {
			b := read(p)
			if len(b) != 16 {
				return other
			}
			c.AppendString(codec.UUID(b))
			return taken
		}
	}
	return func(p *reading, c *row.Column) result {
		b := read(p)
		if f.Kind == row.Bytes {
			c.AppendBytes(b)
			return taken
		}
		if f.Kind != row.String || !utf8.Valid(b) {
			return other
		}
		c.AppendBytes(b)
		return taken
	}
}

func (k *compiler) enum(s *avro.EnumSchema, f *codec.Field) taker {
	symbols := s.Symbols()
	return func(p *reading, c *row.Column) result {
		n := p.long()
		if n < 0 || n >= int64(len(symbols)) {
			p.fail(fmt.Errorf("%s has no value %d", s.Name(), n))
			return null
		}
		return text(f, c, []byte(symbols[n]))
	}
}

// element makes what reads an element of a list or map for a field of these, and gives it as they hold it; false for one of another type. What
// it gives lasts until the next one.
func (k *compiler) element(s avro.Schema, f *codec.Field) func(p *reading) ([]byte, bool) {
	elem := *f
	elem.Kind = f.Kind.Elem()
	one, take := row.NewColumn(elem.Kind), k.taker(s, &elem)
	var out []byte
	return func(p *reading) ([]byte, bool) {
		one.Reset()
		switch take(p, one) {
		case other:
			return nil, false
		case null:
			one.AppendNull()
		}
		out = row.AppendElement(out[:0], one, 0)
		return out, true
	}
}

// list reads an array.
func (k *compiler) list(items avro.Schema, f *codec.Field) taker {
	next := k.element(items, f)
	var out []byte
	return func(p *reading, c *row.Column) result {
		out = out[:0]
		good := taken
		p.elements(func() {
			v, ok := next(p)
			if !ok {
				good = other
			}
			out = append(out, v...)
		})
		if good == taken {
			c.AppendBytes(out)
		}
		return good
	}
}

// entries reads a map; of a name that stands twice the last one counts.
func (k *compiler) entries(values avro.Schema, f *codec.Field) taker {
	next := k.element(values, f)
	return func(p *reading, c *row.Column) result {
		good, found := taken, map[string][]byte{}
		p.elements(func() {
			name := string(p.bytes())
			v, ok := next(p)
			if !ok {
				good = other
			}
			found[name] = slices.Clone(v)
		})
		if good == taken {
			c.AppendBytes(codec.AppendEntries(nil, found))
		}
		return good
	}
}

// preview shows bytes that did not fit.
func preview(b []byte) string {
	if len(b) > 20 {
		return fmt.Sprintf("%x…", b[:20])
	}
	return fmt.Sprintf("%x", b)
}
