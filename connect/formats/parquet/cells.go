package parquet

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"

	"undertide/connect/codec"
	"undertide/core/row"
)

// cells reads the values of one leaf in a row group, page by page.
type cells struct {
	leaf  *parquet.Column
	pages parquet.Pages
	page  parquet.Page

	n          int // values of the page, nulls among them
	at         int // of these
	defs, reps []byte
	given      int // of the values that are no nulls
	values
}

// values are those of a page that are no nulls, in one of these by the leaf's physical type, or those of a dictionary, by number.
type values struct {
	picks []int32 // of a dictionary; nil for none
	ints  []int64
	short []int32
	nums  []float64
	float []float32
	data  []byte
	off   []uint32 // with data: where each begins, and one more
	size  int      // with data: of each; 0 where off counts
}

// open goes to the beginning of a row group.
func (c *cells) open(g parquet.RowGroup) {
	c.close()
	c.pages = g.ColumnChunks()[c.leaf.Index()].Pages()
}

func (c *cells) close() {
	parquet.Release(c.page)
	if c.pages != nil {
		_ = c.pages.Close() // of what is read
	}
	*c = cells{leaf: c.leaf}
}

// more makes sure that a value is at hand; false at the end of the row group.
func (c *cells) more() (bool, error) {
	for c.at == c.n {
		parquet.Release(c.page)
		c.page = nil
		p, err := c.pages.ReadPage()
		if errors.Is(err, io.EOF) {
			c.n, c.at = 0, 0
			return false, nil
		}
		if err != nil {
			return false, err
		}
		c.page, c.n, c.at, c.given = p, int(p.NumValues()), 0, 0
		c.defs, c.reps = p.DefinitionLevels(), p.RepetitionLevels()
		if c.leaf.MaxDefinitionLevel() > 0 && len(c.defs) != c.n || c.leaf.MaxRepetitionLevel() > 0 && len(c.reps) != c.n {
			return false, errors.New("a page has more values than levels: the file is damaged")
		}
		if c.values, err = valuesOf(p); err != nil {
			return false, err
		}
		if got, want := c.len(), c.n-int(p.NumNulls()); got < want {
			return false, fmt.Errorf("a page has %d values and says %d: the file is damaged", got, want)
		}
	}
	return true, nil
}

// valuesOf gives the values of a page.
func valuesOf(p parquet.Page) (v values, err error) {
	if d := p.Dictionary(); d != nil {
		data := p.Data()
		picks := data.Int32()
		if v, err = valuesOf(d.Page()); err != nil {
			return v, err
		}
		most := v.len()
		for _, n := range picks {
			if n < 0 || int(n) >= most {
				return v, fmt.Errorf("a page takes value %d of a dictionary of %d: the file is damaged", n, most)
			}
		}
		if picks == nil {
			picks = []int32{}
		}
		v.picks = picks
		return v, nil
	}
	data := p.Data()
	switch p.Type().Kind() {
	case parquet.Int32:
		v.short = data.Int32()
	case parquet.Int64:
		v.ints = data.Int64()
	case parquet.Float:
		v.float = data.Float()
	case parquet.Double:
		v.nums = data.Double()
	case parquet.ByteArray:
		v.data, v.off = data.ByteArray()
	case parquet.FixedLenByteArray:
		v.size = p.Type().Length()
		v.data, _ = data.Data()
	case parquet.Int96:
		for _, t := range data.Int96() {
			v.ints = append(v.ints, microseconds(t))
		}
	default:
		v.ints, err = slowly(p)
	}
	return v, err
}

// slowly takes the values of a page of booleans, which are bits of it, from somewhere within a byte.
func slowly(p parquet.Page) (out []int64, err error) {
	in := p.Values()
	some := make([]parquet.Value, 256)
	for {
		n, err := in.ReadValues(some)
		for _, v := range some[:n] {
			switch {
			case v.IsNull():
			case v.Boolean():
				out = append(out, 1)
			default:
				out = append(out, 0)
			}
		}
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// microseconds gives a time of 12 bytes: nanoseconds of a day, and the Julian day.
func microseconds(t deprecated.Int96) int64 {
	const first = 2440588 // of 1970
	return (int64(t[2])-first)*24*3600*1_000_000 + (int64(t[1])<<32|int64(t[0]))/1000
}

// len is how many values there are.
func (v *values) len() int {
	switch {
	case v.picks != nil:
		return len(v.picks)
	case v.off != nil:
		return len(v.off) - 1
	case v.size > 0:
		return len(v.data) / v.size
	}
	return len(v.ints) + len(v.short) + len(v.nums) + len(v.float)
}

// bytes gives the bytes of value k of the page or its dictionary.
func (v *values) bytes(k int) []byte {
	if v.size > 0 {
		return v.data[k*v.size : (k+1)*v.size]
	}
	return v.data[v.off[k]:v.off[k+1]]
}

// next gives the number of the next value that is not a null, in its page or dictionary.
func (c *cells) next() int {
	k := c.given
	c.given++
	if c.picks != nil {
		return int(c.picks[k])
	}
	return k
}

// put appends value k of the page at hand to a field's column; false where it is none of the field's type.
type put func(v *values, k int, to *row.Column) bool

// putter makes what puts the values of a leaf into a field; nil where the field's type takes none of them.
func putter(leaf *parquet.Column, f *codec.Field) put {
	l := logicalOf(leaf)
	switch leaf.Type().Kind() {
	case parquet.Boolean:
		if f.Kind == row.Bool {
			return func(v *values, k int, to *row.Column) bool { to.AppendInt(v.ints[k]); return true }
		}
	case parquet.Int96:
		if f.Kind == row.Timestamp {
			return func(v *values, k int, to *row.Column) bool { to.AppendInt(v.ints[k]); return true }
		}
	case parquet.Int32:
		if set := whole(l, f); set != nil {
			if l.unsigned {
				return func(v *values, k int, to *row.Column) bool { return set(to, int64(uint32(v.short[k]))) }
			}
			return func(v *values, k int, to *row.Column) bool { return set(to, int64(v.short[k])) }
		}
	case parquet.Int64:
		if f.Kind == row.Int && l == (logical{}) {
			return func(v *values, k int, to *row.Column) bool { to.AppendInt(v.ints[k]); return true }
		}
		if set := whole(l, f); set != nil {
			return func(v *values, k int, to *row.Column) bool {
				return (!l.unsigned || v.ints[k] >= 0) && set(to, v.ints[k])
			}
		}
	case parquet.Float:
		if set := fraction(f, 32); set != nil {
			return func(v *values, k int, to *row.Column) bool { return set(to, float64(v.float[k])) }
		}
	case parquet.Double:
		if set := fraction(f, 64); set != nil {
			return func(v *values, k int, to *row.Column) bool { return set(to, v.nums[k]) }
		}
	case parquet.ByteArray, parquet.FixedLenByteArray:
		if set := text(l, f); set != nil {
			return func(v *values, k int, to *row.Column) bool { return set(to, v.bytes(k)) }
		}
	}
	return nil
}

// whole makes what puts a whole number; nil where the field takes none.
func whole(l logical, f *codec.Field) func(to *row.Column, v int64) bool {
	switch {
	case l.decimal && (f.Kind == row.Decimal || f.Kind == row.Double):
		return func(to *row.Column, v int64) bool { codec.SetScaledInt(to, v, l.scale); return true }
	case l.decimal:
		return nil
	case l.date && f.Kind == row.Timestamp:
		return func(to *row.Column, v int64) bool {
			to.AppendInt(v * 24 * 3600 * 1_000_000)
			return v > -100_000_000 && v < 100_000_000
		}
	case l.unit > 0 && (f.Kind == row.Duration || !l.time && f.Kind == row.Timestamp):
		return func(to *row.Column, v int64) bool {
			us, ok := inMicroseconds(v, l.unit)
			to.AppendInt(us)
			return ok
		}
	case l.date, l.unit > 0:
		return nil
	case f.Kind == row.Int, f.Kind == row.Duration: // durations have no type of Parquet's: they are microseconds, as they are written
		return func(to *row.Column, v int64) bool { to.AppendInt(v); return true }
	case f.Kind == row.Double:
		return func(to *row.Column, v int64) bool { to.AppendDouble(float64(v)); return true }
	case f.Kind == row.Decimal:
		return func(to *row.Column, v int64) bool { to.AppendString(strconv.FormatInt(v, 10)); return true }
	case f.Kind == row.Timestamp && f.Parse.Epochs():
		return func(to *row.Column, v int64) bool {
			us, ok := f.Parse.Epoch(v)
			to.AppendInt(us)
			return ok
		}
	}
	return nil
}

// inMicroseconds brings a time to microseconds; what is finer is cut towards the past (docs/time.md).
func inMicroseconds(v int64, unit time.Duration) (int64, bool) {
	switch unit {
	case time.Millisecond:
		return v * 1000, v > math.MinInt64/1000 && v < math.MaxInt64/1000
	case time.Nanosecond:
		return codec.EpochNS.Epoch(v)
	}
	return v, true
}

// fraction makes what puts a float or double; nil where the field takes none. What is not a number is of another type.
func fraction(f *codec.Field, bits int) func(to *row.Column, v float64) bool {
	switch {
	case f.Kind == row.Double:
		return func(to *row.Column, v float64) bool { to.AppendDouble(v); return v-v == 0 }
	case f.Kind == row.Int, f.Kind == row.Decimal, f.Kind == row.Timestamp && f.Parse.Epochs():
		return func(to *row.Column, v float64) bool {
			return v-v == 0 && f.Set(to, strconv.AppendFloat(nil, v, 'f', -1, bits))
		}
	}
	return nil
}

// text makes what puts bytes; nil where the field takes none.
func text(l logical, f *codec.Field) func(to *row.Column, v []byte) bool {
	switch {
	case l.decimal:
		if f.Kind == row.Decimal || f.Kind == row.Double {
			return func(to *row.Column, v []byte) bool { return codec.SetScaled(to, v, l.scale) }
		}
		return nil
	case l.half:
		if f.Kind == row.Double {
			return func(to *row.Column, v []byte) bool {
				d := half(binary.LittleEndian.Uint16(v))
				to.AppendDouble(d)
				return d-d == 0
			}
		}
		return nil
	case l.uuid && f.Kind == row.String:
		return func(to *row.Column, v []byte) bool { to.AppendString(codec.UUID(v)); return true }
	case f.Kind == row.Bytes && !l.text:
		return func(to *row.Column, v []byte) bool { to.AppendBytes(v); return true }
	case f.Kind == row.String: // also of writers that do not say that it is text
		return func(to *row.Column, v []byte) bool { to.AppendBytes(v); return utf8.Valid(v) }
	}
	return func(to *row.Column, v []byte) bool { return f.Set(to, v) }
}

// half gives a number of 16 bits (IEEE 754, binary16).
func half(v uint16) float64 {
	sign, exponent, fraction := 1.0, int(v>>10&31), float64(v&1023)
	if v&0x8000 != 0 {
		sign = -1
	}
	switch exponent {
	case 0:
		return sign * math.Ldexp(fraction, -24)
	case 31:
		return sign * math.Inf(1) // or no number: neither is taken
	}
	return sign * math.Ldexp(1024+fraction, exponent-25)
}

// shown words value k for a message.
func (c *cells) shown(k int) string {
	v := &c.values
	switch {
	case v.off != nil || v.size > 0:
		b := v.bytes(k)
		if utf8.Valid(b) && !bytes.ContainsRune(b, 0) {
			return strconv.Quote(string(b))
		}
		return "the bytes " + base64.StdEncoding.EncodeToString(b)
	case v.short != nil:
		return strconv.Itoa(int(v.short[k]))
	case v.float != nil:
		return fmt.Sprint(v.float[k])
	case v.nums != nil:
		return fmt.Sprint(v.nums[k])
	case logicalOf(c.leaf).unsigned:
		return strconv.FormatUint(uint64(v.ints[k]), 10)
	}
	return strconv.FormatInt(v.ints[k], 10)
}
