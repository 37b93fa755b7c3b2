package expr

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/ext"
	"github.com/cespare/xxhash/v2"
	"github.com/ncruces/go-strftime"
	"github.com/shopspring/decimal"

	"undertide/core/row"
	"undertide/core/window"
)

// ownFunction is a function that documents have beside CEL's (docs/job-document.md, "Expressions"). It
// gets no nulls unless its node is lenient.
type ownFunction func(a []Value) (Value, error)

// isNullName is what `x == null` becomes before the check, so that it may be asked of every type. No
// document can write it.
const isNullName = "@is_null"

var timeParts = map[string]func(t time.Time) int{
	"week": func(t time.Time) int { _, w := t.ISOWeek(); return w }, "quarter": func(t time.Time) int { return (int(t.Month()) + 2) / 3 },
	"year": time.Time.Year, "month": func(t time.Time) int { return int(t.Month()) }, "day": time.Time.Day,
	"hour": time.Time.Hour, "minute": time.Time.Minute, "second": time.Time.Second,
}

// ownOptions declares the functions.
func ownOptions() []cel.EnvOption {
	any := cel.TypeParamType("A")
	d := decimalType
	two := func(name, id string, result *cel.Type) cel.EnvOption {
		return cel.Function(name, cel.Overload(id, []*cel.Type{d, d}, result))
	}
	opts := []cel.EnvOption{
		ext.Strings(), ext.Math(), // by the names that their own documentation gives
		cel.Function("date", cel.Overload("own_date", []*cel.Type{cel.TimestampType}, cel.StringType), cel.Overload("own_date_zone", []*cel.Type{cel.TimestampType, cel.StringType}, cel.StringType)),
		cel.Function("truncate", cel.Overload("own_truncate", []*cel.Type{cel.TimestampType, cel.StringType}, cel.TimestampType),
			cel.Overload("own_truncate_zone", []*cel.Type{cel.TimestampType, cel.StringType, cel.StringType}, cel.TimestampType)),
		cel.Function(isNullName, cel.Overload("own_is_null", []*cel.Type{any}, cel.BoolType)),
		cel.Function("parse_time",
			cel.MemberOverload("own_parse_time", []*cel.Type{cel.StringType, cel.StringType}, cel.TimestampType),
			cel.MemberOverload("own_parse_time_zone", []*cel.Type{cel.StringType, cel.StringType, cel.StringType}, cel.TimestampType)),
		cel.Function("format",
			cel.MemberOverload("own_format", []*cel.Type{cel.TimestampType, cel.StringType}, cel.StringType),
			cel.MemberOverload("own_format_zone", []*cel.Type{cel.TimestampType, cel.StringType, cel.StringType}, cel.StringType)),
		cel.Function("extract", cel.MemberOverload("own_extract", []*cel.Type{cel.StringType, cel.StringType}, cel.NullableType(cel.StringType))),
		cel.Function("round",
			cel.Overload("own_round", []*cel.Type{cel.DoubleType}, cel.DoubleType),
			cel.Overload("own_round_to", []*cel.Type{cel.DoubleType, cel.IntType}, cel.DoubleType),
			cel.Overload("own_round_decimal", []*cel.Type{d, cel.IntType}, d)),
		cel.Function("abs",
			cel.Overload("own_abs_int", []*cel.Type{cel.IntType}, cel.IntType),
			cel.Overload("own_abs_double", []*cel.Type{cel.DoubleType}, cel.DoubleType),
			cel.Overload("own_abs_duration", []*cel.Type{cel.DurationType}, cel.DurationType),
			cel.Overload("own_abs_decimal", []*cel.Type{d}, d)),
		cel.Function("hash", cel.Overload("own_hash", []*cel.Type{cel.StringType}, cel.IntType)),
		cel.Function("decimal",
			cel.Overload("own_decimal_string", []*cel.Type{cel.StringType}, d),
			cel.Overload("own_decimal_int", []*cel.Type{cel.IntType}, d),
			cel.Overload("own_decimal_double", []*cel.Type{cel.DoubleType}, d)),
		cel.Function("double", cel.Overload("own_double_decimal", []*cel.Type{d}, cel.DoubleType)),
		cel.Function("int", cel.Overload("own_int_decimal", []*cel.Type{d}, cel.IntType)),
		cel.Function("string", cel.Overload("own_string_decimal", []*cel.Type{d}, cel.StringType)),
		two(operators.Add, "own_add", d), two(operators.Subtract, "own_subtract", d), two(operators.Multiply, "own_multiply", d),
		two(operators.Divide, "own_divide", d), cel.Function(operators.Negate, cel.Overload("own_negate", []*cel.Type{d}, d)),
		two(operators.Less, "own_less", cel.BoolType), two(operators.LessEquals, "own_less_equals", cel.BoolType),
		two(operators.Greater, "own_greater", cel.BoolType), two(operators.GreaterEquals, "own_greater_equals", cel.BoolType),
	}
	var coalesce []cel.FunctionOpt
	for n := 2; n <= 8; n++ {
		coalesce = append(coalesce, cel.Overload(fmt.Sprintf("own_coalesce_%d", n), slices.Repeat([]*cel.Type{any}, n), any))
	}
	opts = append(opts, cel.Function("coalesce", coalesce...))
	for name := range timeParts {
		opts = append(opts, cel.Function(name,
			cel.Overload("own_"+name, []*cel.Type{cel.TimestampType}, cel.IntType),
			cel.Overload("own_"+name+"_zone", []*cel.Type{cel.TimestampType, cel.StringType}, cel.IntType)))
	}
	return opts
}

// own fits the node to a function of ours; false where the name is none for these types. Constant
// patterns and zones are checked here.
func (c *compiler) own(e ast.Expr, n *node, name string) bool {
	id := ""
	if ids := c.ast.GetOverloadIDs(e.ID()); len(ids) == 1 {
		id = ids[0]
	}
	f := listFunction(n, name)
	if f == nil && name == "coalesce" {
		f = coalesced(n)
	}
	if f == nil {
		f = c.timeFunction(e, n, name, id)
	}
	if f == nil {
		f = c.valueFunction(e, n, id)
	}
	if f == nil {
		return false
	}
	n.op, n.own = opOwn, f
	if !n.lenient {
		for i, a := range n.args {
			if isNullLiteral(a) {
				n.args[i] = &node{op: opConst, kind: row.Bool, value: NullOf(row.Bool)}
			}
		}
	}
	return true
}

// constant gives the text of an argument that is written out.
func (n *node) constant(i int) (string, bool) {
	if i < len(n.args) && n.args[i].op == opConst && !n.args[i].value.Null {
		return n.args[i].value.S, true
	}
	return "", false
}

// listFunction gives what asks lists and maps; nil for other names.
func listFunction(n *node, name string) ownFunction {
	switch {
	case name == operators.Index && len(n.args) == 2 && n.args[0].kind.IsList():
		return elementAt
	case name == operators.Index && len(n.args) == 2 && n.args[0].kind.IsMap():
		return entryOf
	case name == operators.In && len(n.args) == 2 && n.args[1].kind.IsMap():
		return func(a []Value) (Value, error) {
			_, ok := lookUp(a[1], a[0].S)
			return BoolOf(ok), nil
		}
	case name == operators.In && len(n.args) == 2 && !n.args[1].kind.Plain():
		return func(a []Value) (Value, error) { return evalIn(append([]Value{a[0]}, elements(a[1])...)), nil }
	case name == "size" && !n.args[0].kind.Plain():
		return func(a []Value) (Value, error) {
			return Value{Kind: row.Int, I: int64(len(elements(a[0])))}, nil
		}
	}
	return nil
}

// coalesced gives the first argument that is not null. The node takes nulls, and the kind of an argument where its own is
// not known.
func coalesced(n *node) ownFunction {
	kind := n.kind
	for _, a := range n.args {
		if kind == row.Invalid {
			kind = a.kind
		}
	}
	n.kind, n.lenient = kind, true
	return func(a []Value) (Value, error) {
		for _, v := range a {
			if !v.Null {
				return v, nil
			}
		}
		return NullOf(kind), nil
	}
}

// timeFunction gives what reads, writes and cuts times; nil for other names.
func (c *compiler) timeFunction(e ast.Expr, n *node, name, id string) ownFunction {
	switch {
	case strings.HasPrefix(id, "own_parse_time"), strings.HasPrefix(id, "own_format"):
		if p, ok := n.constant(1); ok {
			if _, err := strftime.Layout(p); err != nil {
				c.fault(e, fmt.Sprintf("%q is not a pattern of a time that can be used: %v", p, err), "write %Y-%m-%d %H:%M:%S, say")
			}
		}
		c.checkZone(e, n, 2)
		if strings.HasPrefix(id, "own_format") {
			return formatTime
		}
		return parseTime
	case strings.HasPrefix(id, "own_date"):
		c.checkZone(e, n, 1)
		return func(a []Value) (Value, error) {
			t, err := inZone(a[0], a[1:])
			return Value{Kind: row.String, S: t.Format(time.DateOnly)}, err
		}
	case strings.HasPrefix(id, "own_truncate"):
		if s, ok := n.constant(1); ok {
			if _, err := stepsOf(s, time.UTC); err != nil {
				c.fault(e, err.Error(), "write 15m, 1h, 1 day, 1 week, 1 month, 1 quarter or 1 year")
			}
		}
		c.checkZone(e, n, 2)
		return truncate
	}
	part, ok := timeParts[name]
	if !ok {
		return nil
	}
	c.checkZone(e, n, 1)
	return func(a []Value) (Value, error) {
		t, err := inZone(a[0], a[1:])
		return Value{Kind: row.Int, I: int64(part(t))}, err
	}
}

// valueFunction gives what works on texts and numbers; nil for other names.
func (c *compiler) valueFunction(e ast.Expr, n *node, id string) ownFunction {
	switch {
	case id == "own_extract":
		p, ok := n.constant(1)
		if !ok {
			return extract(nil)
		}
		re, err := regexp.Compile(p)
		if err != nil || re.NumSubexp() < 1 {
			c.fault(e, fmt.Sprintf("%q is not a regular expression with a group", p), "use RE2 syntax, with ( ) around what is meant")
			return extract(nil)
		}
		return extract(re)
	case id == "own_hash":
		return func(a []Value) (Value, error) {
			return Value{Kind: row.Int, I: int64(xxhash.Sum64String(a[0].S))}, nil
		}
	case strings.HasPrefix(id, "own_round"):
		return round
	case strings.HasPrefix(id, "own_abs"):
		return absolute
	case strings.HasPrefix(id, "own_decimal_"):
		return toDecimal
	case id == "own_double_decimal", id == "own_int_decimal", id == "own_string_decimal":
		return fromDecimal(n.kind)
	}
	return nil
}

// checkZone says where argument i, if it is written out, names no zone.
func (c *compiler) checkZone(e ast.Expr, n *node, i int) {
	if z, ok := n.constant(i); ok {
		if _, err := Zone(z); err != nil {
			c.fault(e, err.Error(), "write an IANA name such as Europe/Lisbon, or UTC")
		}
	}
}

func inZone(t Value, zone []Value) (time.Time, error) {
	at := row.Time(t.I).Std()
	if len(zone) == 0 {
		return at, nil
	}
	loc, err := Zone(zone[0].S)
	if err != nil {
		return at, err
	}
	return at.In(loc), nil
}

// zones are those that were asked for: a row need not load its zone again.
var zones sync.Map

// Zone gives an IANA time zone by name. The machine's own is refused: the same input must give the same
// output everywhere.
func Zone(name string) (*time.Location, error) {
	if loc, ok := zones.Load(name); ok {
		return loc.(*time.Location), nil
	}
	loc, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil, fmt.Errorf("there is no time zone %q", name)
	}
	zones.Store(name, loc)
	return loc, nil
}

func parseTime(a []Value) (Value, error) {
	loc := time.UTC
	if len(a) > 2 {
		var err error
		if loc, err = Zone(a[2].S); err != nil {
			return Value{}, err
		}
	}
	layout, err := strftime.Layout(a[1].S)
	if err != nil {
		return Value{}, fmt.Errorf("%q is not a pattern of a time", a[1].S)
	}
	t, err := time.ParseInLocation(layout, a[0].S, loc)
	if err != nil {
		return Value{}, fmt.Errorf("%q is not a time of the form %s", a[0].S, a[1].S)
	}
	return checkTime(Value{Kind: row.Timestamp, I: int64(row.TimeOf(t))})
}

func formatTime(a []Value) (Value, error) {
	t, err := inZone(a[0], a[2:])
	return Value{Kind: row.String, S: strftime.Format(a[1].S, t)}, err
}

// extract gives the first group of a match, null where there is none.
func extract(re *regexp.Regexp) ownFunction {
	return func(a []Value) (Value, error) {
		re := re
		if re == nil {
			var err error
			if re, err = regexp.Compile(a[1].S); err != nil || re.NumSubexp() < 1 {
				return Value{}, fmt.Errorf("%q is not a regular expression with a group", a[1].S)
			}
		}
		m := re.FindStringSubmatchIndex(a[0].S)
		if m == nil || m[2] < 0 {
			return NullOf(row.String), nil
		}
		return Value{Kind: row.String, S: a[0].S[m[2]:m[3]]}, nil
	}
}

// round goes to the nearest, halves away from zero.
func round(a []Value) (Value, error) {
	places := int64(0)
	if len(a) > 1 {
		places = a[1].I
	}
	if places < -300 || places > 300 {
		return Value{}, fmt.Errorf("%d is not a number of digits", places)
	}
	if a[0].Kind == row.Decimal {
		return decimalValue(DecimalOf([]byte(a[0].S)).Round(int32(places)))
	}
	if places == 0 {
		return Value{Kind: row.Double, F: math.Round(a[0].F)}, nil
	}
	// By the decimal form of the double, so that round(2.675, 2) is what people read: 2.68.
	v, _ := decimal.NewFromFloat(a[0].F).Round(int32(places)).Float64()
	return checkFinite(Value{Kind: row.Double, F: v})
}

func absolute(a []Value) (Value, error) {
	v := a[0]
	switch {
	case v.Kind == row.Double:
		v.F = math.Abs(v.F)
	case v.Kind == row.Decimal:
		return decimalValue(DecimalOf([]byte(v.S)).Abs())
	case v.I == math.MinInt64:
		return Value{}, errOverflow
	case v.I < 0:
		v.I = -v.I
	}
	return v, nil
}

func toDecimal(a []Value) (Value, error) {
	switch a[0].Kind {
	case row.Int:
		return decimalValue(decimal.NewFromInt(a[0].I))
	case row.Double:
		return decimalValue(decimal.NewFromFloat(a[0].F))
	}
	text, ok := ParseDecimal(a[0].S)
	if !ok {
		return Value{}, fmt.Errorf("%q is not a decimal", a[0].S)
	}
	return Value{Kind: row.Decimal, S: text}, nil
}

func fromDecimal(kind row.Kind) ownFunction {
	return func(a []Value) (Value, error) {
		d := DecimalOf([]byte(a[0].S))
		switch kind {
		case row.Double:
			f, _ := d.Float64()
			return checkFinite(Value{Kind: kind, F: f})
		case row.Int:
			whole := d.Truncate(0).BigInt()
			if !whole.IsInt64() {
				return Value{}, errOverflow
			}
			return Value{Kind: kind, I: whole.Int64()}, nil
		}
		return Value{Kind: kind, S: a[0].S}, nil
	}
}

// makeList writes values as a list.
func makeList(kind row.Kind) ownFunction {
	return func(a []Value) (Value, error) { return ListOf(kind, a), nil }
}

// ListOf makes a list of values of its element's kind.
func ListOf(kind row.Kind, values []Value) Value {
	c := row.NewColumn(kind.Elem())
	var out []byte
	for i, v := range values {
		v.AppendTo(c)
		out = row.AppendElement(out, c, i)
	}
	return Value{Kind: kind, S: string(out)}
}

// elements gives the values of a list, a map, or a list with counts.
func elements(v Value) []Value {
	keys, values, counts := row.NewColumn(row.String), row.NewColumn(v.Kind.Elem()), row.NewColumn(row.Int)
	if !row.Elements(v.Kind, []byte(v.S), keys, values, counts) {
		return nil
	}
	out := make([]Value, values.Len())
	for i := range out {
		out[i] = At(values, i)
	}
	return out
}

func elementAt(a []Value) (Value, error) {
	all := elements(a[0])
	if a[1].I < 0 || a[1].I >= int64(len(all)) {
		return Value{}, fmt.Errorf("there is no element %d in a list of %d", a[1].I, len(all))
	}
	return all[a[1].I], nil
}

// entryOf gives the value of a map's key, null where there is none.
func entryOf(a []Value) (Value, error) {
	v, _ := lookUp(a[0], a[1].S)
	return v, nil
}

func lookUp(m Value, key string) (Value, bool) {
	keys, values := row.NewColumn(row.String), row.NewColumn(m.Kind.Elem())
	if row.Elements(m.Kind, []byte(m.S), keys, values, nil) {
		for i := range keys.Len() {
			if string(keys.Bytes(i)) == key {
				return At(values, i), true
			}
		}
	}
	return NullOf(m.Kind.Elem()), false
}

// listText writes a list or map for messages.
func listText(v Value) string {
	keys, values, counts := row.NewColumn(row.String), row.NewColumn(v.Kind.Elem()), row.NewColumn(row.Int)
	row.Elements(v.Kind, []byte(v.S), keys, values, counts)
	parts := make([]string, values.Len())
	for i := range parts {
		parts[i] = At(values, i).String()
		if v.Kind.IsMap() {
			parts[i] = fmt.Sprintf("%q: %s", keys.Bytes(i), parts[i])
		} else if v.Kind.IsCommon() {
			parts[i] = fmt.Sprintf("{value: %s, count: %d}", parts[i], counts.I[i])
		}
	}
	if v.Kind.IsMap() {
		return "{" + strings.Join(parts, ", ") + "}"
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// stepsOf reads what times are cut to: a duration, or one unit of the calendar.
func stepsOf(text string, zone *time.Location) (window.Aligned, error) {
	unit, days := text, window.Aligned{Unit: window.Days, Size: 1, By: 1, Zone: zone}
	switch strings.TrimPrefix(unit, "1 ") {
	case "day":
		return days, nil
	case "week":
		days.Size, days.By, days.Shift = 7, 7, 4 // 1970-01-05 was a Monday
		return days, nil
	case "month", "quarter", "year":
		n := map[string]int64{"month": 1, "quarter": 3, "year": 12}[strings.TrimPrefix(unit, "1 ")]
		return window.Aligned{Unit: window.Months, Size: n, By: n, Zone: zone}, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Microsecond {
		return days, fmt.Errorf("%q is nothing that a time can be cut to", text)
	}
	return window.Tumbling(d, 0), nil
}

// truncate gives the beginning of the step that a time lies in.
func truncate(a []Value) (Value, error) {
	zone := time.UTC
	if len(a) > 2 {
		var err error
		if zone, err = Zone(a[2].S); err != nil {
			return Value{}, err
		}
	}
	w, err := stepsOf(a[1].S, zone)
	if err != nil {
		return Value{}, err
	}
	return checkTime(Value{Kind: row.Timestamp, I: int64(w.SliceStart(w.SliceOf(row.Time(a[0].I))))})
}
