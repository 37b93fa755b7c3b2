// Package row holds the typed rows that move through a job: kinds, schemas and column batches.
//
// Rows are never handled one by one: a [Batch] holds up to [MaxRows] of them as columns, and a
// selection (row numbers) says which of them still count. The package knows nothing of where rows
// come from or go to. Callers begin with a [Schema] and [NewBatch].
package row

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// MaxRows is the greatest number of rows in a batch, and of events in a turn of a bounded run
// (docs/time.md, "Turns and places"). Row numbers within a batch fit 16 bits.
const MaxRows = 4096

// Kind is the type of a field.
type Kind uint8

// The kinds of fields (docs/job-document.md, "Types"). Bool, Timestamp and Duration are kept as
// int64: 0 or 1, microseconds since 1970, microseconds.
const (
	Invalid Kind = iota
	String
	Int
	Double
	Bool
	Bytes
	Timestamp
	Duration
	Decimal // kept as text without an exponent; those of equal value may differ in closing zeros, see [PlainDecimal]
)

// A list, a map from texts, or a list of values with their counts has the kind of its elements with
// one of these; values are kept as the bytes of [AppendElement] one after another.
const (
	listFlag   Kind = 0x40
	mapFlag    Kind = 0x80
	commonFlag Kind = 0xc0
)

// ListOf, MapOf and CommonOf give the kinds of list<T>, map<T> and what most_common gives.
func ListOf(k Kind) Kind   { return listFlag | k }
func MapOf(k Kind) Kind    { return mapFlag | k }
func CommonOf(k Kind) Kind { return commonFlag | k }

// Elem gives the kind of the elements of a list or map.
func (k Kind) Elem() Kind { return k &^ commonFlag }

// IsList, IsMap and IsCommon tell the kinds apart.
func (k Kind) IsList() bool   { return k&commonFlag == listFlag }
func (k Kind) IsMap() bool    { return k&commonFlag == mapFlag }
func (k Kind) IsCommon() bool { return k&commonFlag == commonFlag }

// Plain says whether the kind is neither list nor map.
func (k Kind) Plain() bool { return k&commonFlag == 0 }

var kindNames = [...]string{"invalid", "string", "int", "double", "bool", "bytes", "timestamp", "duration", "decimal"}

// A gives a kind's name behind its article, as sentences have it.
func A(k Kind) string { return Article(k.String()) }

// Article gives the name of a type behind its article, as sentences have it: "a string", "an int", "bytes".
func Article(name string) string {
	switch name {
	case "int":
		return "an int"
	case "bytes":
		return name
	}
	return "a " + name
}

// String gives the name that documents use.
func (k Kind) String() string {
	switch {
	case k.IsList():
		return "list<" + k.Elem().String() + ">"
	case k.IsMap():
		return "map<" + k.Elem().String() + ">"
	case k.IsCommon():
		return "list<{value: " + k.Elem().String() + ", count: int}>"
	case int(k) < len(kindNames):
		return kindNames[k]
	}
	return fmt.Sprintf("kind(%d)", uint8(k))
}

// ParseKind finds the kind with a document's name; false if there is none.
func ParseKind(name string) (Kind, bool) {
	for k := String; int(k) < len(kindNames); k++ {
		for _, flag := range []Kind{0, listFlag, mapFlag, commonFlag} {
			if (flag | k).String() == name {
				return flag | k, true
			}
		}
	}
	return Invalid, false
}

// Text says whether values of the kind are byte strings (kept as offsets and bytes).
func (k Kind) Text() bool { return k == String || k == Bytes || k == Decimal || !k.Plain() }

// Time is an event time: microseconds since 1970-01-01T00:00:00Z. [MinTime] and [MaxTime] stand for
// minus and plus infinity, which only watermarks take.
type Time int64

const (
	MinTime Time = math.MinInt64
	MaxTime Time = math.MaxInt64
	// FirstTime and LastTime bound the event times of rows: the years 1 to 9999.
	FirstTime Time = -62135596800_000000
	LastTime  Time = 253402300799_999999
)

// TimeOf converts t, cutting what is finer than a microsecond (towards the past).
func TimeOf(t time.Time) Time {
	return Time(t.Unix()*1_000_000 + int64(t.Nanosecond()/1000))
}

// DurationText writes d shortly: 1h rather than 1h0m0s.
func DurationText(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Std gives t in UTC.
func (t Time) Std() time.Time { return time.UnixMicro(int64(t)).UTC() }

// Minus gives t - d, and leaves the infinities where they are.
func (t Time) Minus(d time.Duration) Time {
	if t == MinTime || t == MaxTime {
		return t
	}
	return t - Time(d.Microseconds())
}

// Plus gives t + d, and leaves the infinities where they are; beyond the greatest time it gives plus infinity.
func (t Time) Plus(d time.Duration) Time {
	us := Time(d.Microseconds())
	switch {
	case t == MinTime || t == MaxTime:
		return t
	case us > 0 && t > MaxTime-us:
		return MaxTime
	}
	return t + us
}

// String writes t as RFC 3339 in UTC, the infinities as words.
func (t Time) String() string {
	switch t {
	case MinTime:
		return "the beginning"
	case MaxTime:
		return "the end"
	}
	return string(AppendTime(nil, t))
}

// AppendTime appends t as RFC 3339 in UTC with at most six fraction digits and no trailing zeros
// (docs/time.md, "Values"). It does not allocate beyond dst.
func AppendTime(dst []byte, t Time) []byte {
	secs, micros := int64(t)/1_000_000, int64(t)%1_000_000
	if micros < 0 {
		secs--
		micros += 1_000_000
	}
	u := time.Unix(secs, 0).UTC()
	y, mo, d := u.Date()
	h, mi, s := u.Clock()
	dst = appendPadded(dst, y, 4)
	dst = appendPadded(append(dst, '-'), int(mo), 2)
	dst = appendPadded(append(dst, '-'), d, 2)
	dst = appendPadded(append(dst, 'T'), h, 2)
	dst = appendPadded(append(dst, ':'), mi, 2)
	dst = appendPadded(append(dst, ':'), s, 2)
	if micros != 0 {
		dst = appendPadded(append(dst, '.'), int(micros), 6)
		for dst[len(dst)-1] == '0' {
			dst = dst[:len(dst)-1]
		}
	}
	return append(dst, 'Z')
}

func appendPadded(dst []byte, v, width int) []byte {
	var buf [20]byte
	i := len(buf)
	neg := v < 0
	if neg {
		v = -v
	}
	for v > 0 || len(buf)-i < width {
		i--
		buf[i] = byte('0' + v%10)
		v /= 10
	}
	if neg {
		dst = append(dst, '-')
	}
	return append(dst, buf[i:]...)
}

// Field is a name with its kind.
type Field struct {
	Name string
	Kind Kind
	// Hidden fields (meta.partition, meta.offset) serve expressions and are never written out.
	Hidden bool
}

// Schema is the ordered fields of a row. It is immutable once shared.
type Schema []Field

// Index finds a field by name, or -1.
func (s Schema) Index(name string) int {
	for i := range s {
		if s[i].Name == name {
			return i
		}
	}
	return -1
}

// Visible gives the numbers of the fields that are written out.
func (s Schema) Visible() []int {
	var out []int
	for i := range s {
		if !s[i].Hidden {
			out = append(out, i)
		}
	}
	return out
}

// Names lists the visible fields' names.
func (s Schema) Names() []string {
	var out []string
	for _, i := range s.Visible() {
		out = append(out, s[i].Name)
	}
	return out
}

// Only gives some of the fields.
func (s Schema) Only(fields []int) Schema {
	out := make(Schema, len(fields))
	for i, f := range fields {
		out[i] = s[f]
	}
	return out
}
