// Package codec is what formats share: the fields of a source, the texts of values (docs/time.md, "Nulls, errors,
// values"), and how a decoder goes through a chunk. Each format is a folder of connect/formats.
package codec

import (
	"encoding/base64"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

// Parse says how a timestamp is written in the input.
type Parse uint8

const (
	RFC3339 Parse = iota // also the default
	EpochS
	EpochMS
	EpochUS
	EpochNS
	ByLayout // text by the field's Layout
)

// Epochs says whether times are whole numbers.
func (p Parse) Epochs() bool { return p >= EpochS && p <= EpochNS }

// ParseNames are the document's names of the forms that are built.
var ParseNames = map[string]Parse{"rfc3339": RFC3339, "epoch_s": EpochS, "epoch_ms": EpochMS, "epoch_us": EpochUS, "epoch_ns": EpochNS}

// Field is one field of a source as its events carry it.
type Field struct {
	Name string
	Kind row.Kind
	// At is the path to the value; nil means Name.
	At member.Path
	// Parse is for timestamps. Layout, in the form of package time, and Zone go with ByLayout.
	Parse  Parse
	Layout string
	Zone   *time.Location
	// Default stands in for what is missing or null; a null Value for none.
	Default expr.Value
	// Required makes what is missing, null and without default a reject.
	Required bool
}

// Column is the name of the column or group that the field is of, in formats whose events have no objects.
func (f *Field) Column() string {
	if len(f.At) > 0 {
		return f.At.Column()
	}
	return f.Name
}

// Path is the path to the value as documents write it.
func (f *Field) Path() string {
	if len(f.At) > 0 {
		return f.At.String()
	}
	return f.Name
}

// Fields are a source's fields in the order of its schema.
type Fields []Field

// Schema is that of the rows that the fields give.
func (f Fields) Schema() row.Schema {
	s := make(row.Schema, len(f))
	for i := range f {
		s[i] = row.Field{Name: f[i].Name, Kind: f[i].Kind}
	}
	return s
}

// Epoch brings a whole number of the form's unit to microseconds; false when it does not fit.
func (p Parse) Epoch(v int64) (int64, bool) {
	switch p {
	case EpochS:
		return v * 1_000_000, v > -1<<43 && v < 1<<43
	case EpochMS:
		return v * 1000, v > -1<<53 && v < 1<<53
	case EpochNS:
		us := v / 1000
		if v%1000 < 0 {
			us-- // towards the past, as all times are cut
		}
		return us, true
	}
	return v, true
}

func (p Parse) unit() string {
	return [...]string{"RFC 3339 text", "epoch seconds", "epoch milliseconds", "epoch microseconds", "epoch nanoseconds", "text of the pattern in parse"}[p]
}

// parseTime reads RFC 3339 text.
func parseTime(text []byte) (int64, bool) {
	var t time.Time
	if t.UnmarshalText(text) != nil {
		return 0, false
	}
	return int64(row.TimeOf(t)), true
}

// Set appends the value that a text stands for (a CSV cell, or a JSON string); false when it is of
// another type.
func (f *Field) Set(c *row.Column, text []byte) bool {
	switch f.Kind {
	case row.String:
		c.AppendBytes(text)
	case row.Bytes:
		b, err := base64.StdEncoding.DecodeString(string(text))
		if err != nil {
			return false
		}
		c.AppendBytes(b)
	case row.Int:
		v, ok := whole(text)
		if !ok {
			if v, ok = WholeNumber(string(text)); !ok {
				return false
			}
		}
		c.AppendInt(v)
	case row.Double:
		if len(text) > 0 {
			if v, end := DoubleAt(text, 0); end == len(text) {
				c.AppendDouble(v)
				return true
			}
		}
		v, err := strconv.ParseFloat(string(text), 64)
		if err != nil || v-v != 0 {
			return false
		}
		c.AppendDouble(v)
	case row.Bool:
		switch string(text) {
		case "true":
			c.AppendBool(true)
		case "false":
			c.AppendBool(false)
		default:
			return false
		}
	case row.Timestamp:
		if f.Parse == ByLayout {
			t, err := time.ParseInLocation(f.Layout, string(text), f.Zone)
			if err != nil {
				return false
			}
			c.AppendInt(int64(row.TimeOf(t)))
			return true
		}
		if f.Parse == RFC3339 {
			v, ok := parseTime(text)
			if !ok {
				return false
			}
			c.AppendInt(v)
			return true
		}
		var ok bool
		v, short := whole(text)
		if short {
			v, ok = f.Parse.Epoch(v)
		} else {
			v, ok = f.Parse.EpochText(string(text))
		}
		if !ok {
			return false
		}
		c.AppendInt(v)
	case row.Duration:
		d, err := time.ParseDuration(string(text))
		if err != nil {
			return false
		}
		c.AppendInt(d.Microseconds())
	case row.Decimal:
		return setDecimal(c, text)
	default:
		return f.setList(c, text)
	}
	return true
}

// WholeNumber reads an int64, also where it is written with a fraction of zeros or an exponent.
func WholeNumber(s string) (int64, bool) {
	v, err := strconv.ParseInt(s, 10, 64)
	if err == nil {
		return v, true
	}
	v, whole, ok := scaled(s, 0)
	return v, whole && ok
}

// EpochText brings the text of a number of the form's unit, perhaps with a fraction, to microseconds; what is
// finer is cut towards the past. False when it is not a number or does not fit.
func (p Parse) EpochText(s string) (int64, bool) {
	if v, err := strconv.ParseInt(s, 10, 64); err == nil {
		return p.Epoch(v)
	}
	v, whole, ok := scaled(s, [...]int{EpochS: 6, EpochMS: 3, EpochUS: 0, EpochNS: -3}[p])
	if ok && !whole && strings.HasPrefix(s, "-") {
		v--
	}
	return v, ok
}

// scaled reads a decimal number times 10^shift, cut towards 0, and says whether that was whole; ok is false
// when it is not a number, or does not fit 64 bits. It works on the digits, so that 1.0000000000000001 is not whole
// and 9007199254740993.0 is.
func scaled(s string, shift int) (v int64, whole, ok bool) {
	mantissa, exponent, has := strings.Cut(strings.ToLower(s), "e")
	if has {
		e, err := strconv.Atoi(exponent)
		if err != nil || e > 400 || e < -400 {
			return 0, false, false
		}
		shift += e
	}
	sign := ""
	if strings.HasPrefix(mantissa, "-") || strings.HasPrefix(mantissa, "+") {
		sign, mantissa = mantissa[:1], mantissa[1:]
	}
	before, after, point := strings.Cut(mantissa, ".")
	digits := before + after
	if before == "" || point && after == "" || strings.Trim(digits, "0123456789") != "" {
		return 0, false, false
	}
	shift -= len(after)
	whole = true
	if shift < 0 {
		cut := max(0, len(digits)+shift)
		whole = strings.Trim(digits[cut:], "0") == ""
		digits, shift = digits[:cut], 0
	}
	digits = strings.TrimLeft(digits, "0")
	if digits == "" {
		return 0, whole, true
	}
	if len(digits)+shift > 19 {
		return 0, whole, false
	}
	v, err := strconv.ParseInt(sign+digits+strings.Repeat("0", shift), 10, 64)
	return v, whole, err == nil
}

// EachEvent lets read append each event to the first columns of the batch, or say why it cannot.
func EachEvent(c *engine.Chunk, b *row.Batch, columns int, rejects []step.Reject, read func(event []byte, b *row.Batch) (reason, message string)) []step.Reject {
	for i := range c.Starts {
		reason, message := read(c.Event(i), b)
		if reason == "" {
			b.Index = append(b.Index, uint16(i))
			b.N++
			continue
		}
		CutBack(b, columns)
		rejects = append(rejects, step.Reject{Index: uint16(i), Row: -1, Reason: reason, Message: message})
	}
	return rejects
}

// CutBack drops what the first columns of a batch took of a row that did not become one.
func CutBack(b *row.Batch, columns int) {
	for _, c := range b.Cols[:columns] {
		if c.Len() > b.N {
			c.Truncate(b.N)
		}
	}
}

// expects words what a field takes, for messages.
func (f *Field) expects() string {
	switch {
	case f.Kind == row.Timestamp:
		return "a timestamp (" + f.Parse.unit() + ")"
	case f.Kind == row.Int:
		return "a whole number of 64 bits"
	case f.Kind == row.Duration:
		return `a duration such as "90s"`
	case f.Kind == row.Bytes:
		return "base64 text"
	case f.Kind == row.Decimal:
		return `a decimal such as "12.50"`
	}
	return "a " + f.Kind.String()
}

// Missing appends the default or null for a field without a value; false when it is required.
func (f *Field) Missing(c *row.Column) bool {
	if f.Default.Kind != row.Invalid && !f.Default.Null {
		f.Default.AppendTo(c)
		return true
	}
	c.AppendNull()
	return !f.Required
}

// WrongType words that a field got a value of another type.
func WrongType(f *Field, got string) string {
	if len(got) > 60 {
		got = got[:60] + "…"
	}
	return fmt.Sprintf("field %s takes %s, got %s", f.Name, f.expects(), got)
}

// AppendText appends the text of a value that is not null, without quotes. Duration and timestamp
// texts are those of docs/time.md.
func AppendText(dst []byte, c *row.Column, i int) []byte {
	switch c.Kind {
	case row.Int:
		return strconv.AppendInt(dst, c.I[i], 10)
	case row.Double:
		return AppendDouble(dst, c.F[i])
	case row.Bool:
		return strconv.AppendBool(dst, c.I[i] != 0)
	case row.Timestamp:
		return row.AppendTime(dst, row.Time(c.I[i]))
	case row.Duration:
		return appendDuration(dst, c.I[i])
	case row.Bytes:
		return base64.StdEncoding.AppendEncode(dst, c.Bytes(i))
	}
	if !c.Kind.Plain() {
		return appendList(dst, c, i)
	}
	return append(dst, c.Bytes(i)...)
}

// appendShort writes a double that is a whole number of millionths of at most 15 digits, as most measured values are. That it is one is asked by dividing back: both the
// whole number and the million are exact, so the quotient is the double nearest to that decimal. No other decimal of up to 15 digits has the same
// nearest double, so none is shorter but this one without zeros at its end. Example: 3.217 is 3217000 millionths, and is written 3.217.
func appendShort(dst []byte, f float64) ([]byte, bool) {
	const million = 1_000_000
	abs := math.Abs(f)
	if !(abs < 1e9) || abs < 1e-6 {
		return dst, false
	}
	u := uint64(abs*million + 0.5)
	if float64(u)/million != abs {
		return dst, false
	}
	if f < 0 {
		dst = append(dst, '-')
	}
	dst = strconv.AppendUint(dst, u/million, 10)
	part := u % million
	if part == 0 {
		return dst, true
	}
	digits := 6
	for part%10 == 0 {
		part /= 10
		digits--
	}
	var b [7]byte
	b[0] = '.'
	for i := digits; i > 0; i-- {
		b[i] = '0' + byte(part%10)
		part /= 10
	}
	return append(dst, b[:digits+1]...), true
}

// appendDuration writes microseconds as seconds with a fraction: 90s, 0.25s, -1.5s. The form reads
// back as a CEL duration.
func appendDuration(dst []byte, us int64) []byte {
	v := uint64(us)
	if us < 0 {
		dst, v = append(dst, '-'), -v
	}
	dst = strconv.AppendUint(dst, v/1_000_000, 10)
	if f := v % 1_000_000; f != 0 {
		dst = append(dst, '.')
		for unit := uint64(100_000); f != 0; unit /= 10 {
			dst = append(dst, byte('0'+f/unit))
			f %= unit
		}
	}
	return append(dst, 's')
}

// AppendDouble writes a double as encoding/json does: by the fewest digits that read back as it.
func AppendDouble(dst []byte, f float64) []byte {
	if dst, ok := appendShort(dst, f); ok {
		return dst
	}
	format := byte('f')
	if abs := max(f, -f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	dst = strconv.AppendFloat(dst, f, format, -1, 64)
	if format == 'e' { // e-09 is written e-9
		if n := len(dst); n >= 4 && dst[n-4] == 'e' && dst[n-3] == '-' && dst[n-2] == '0' {
			dst[n-2] = dst[n-1]
			dst = dst[:n-1]
		}
	}
	return dst
}
