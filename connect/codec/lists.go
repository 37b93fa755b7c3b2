package codec

import (
	"maps"
	"slices"
	"strings"

	"github.com/go-faster/jx"

	"undertide/core/expr"
	"undertide/core/row"
)

// setList appends a list or map that is written as JSON; false when an element is of another type.
func (f *Field) setList(c *row.Column, text []byte) bool {
	out, ok := f.list(jx.DecodeBytes(text))
	if ok {
		c.AppendBytes(out)
	}
	return ok
}

// list reads an array, or an object whose members are sorted by name; of a name that stands twice the
// last one counts.
func (f *Field) list(d *jx.Decoder) ([]byte, bool) {
	elem := *f
	elem.Kind = f.Kind.Elem()
	one := row.NewColumn(elem.Kind)
	var out []byte
	ok := true
	add := func(dst []byte, d *jx.Decoder) ([]byte, error) {
		one.Reset()
		good, err := elem.element(one, d)
		if ok = ok && good; !good || err != nil {
			return dst, err
		}
		return row.AppendElement(dst, one, 0), nil
	}
	if f.Kind.IsList() && d.Next() == jx.Array {
		err := d.Arr(func(d *jx.Decoder) (err error) {
			out, err = add(out, d)
			return err
		})
		return out, ok && err == nil
	}
	if !f.Kind.IsMap() || d.Next() != jx.Object {
		return nil, false
	}
	entries := map[string][]byte{}
	err := d.Obj(func(d *jx.Decoder, key string) error {
		v, err := add(nil, d)
		entries[key] = v
		return err
	})
	return AppendEntries(out, entries), ok && err == nil
}

// AppendEntries appends the elements of a map by their names, in the order of these.
func AppendEntries(dst []byte, entries map[string][]byte) []byte {
	for _, name := range slices.Sorted(maps.Keys(entries)) {
		dst = append(row.AppendText(dst, name), entries[name]...)
	}
	return dst
}

// element reads one value of a plain kind; false when it is of another type.
func (f *Field) element(c *row.Column, d *jx.Decoder) (bool, error) {
	switch t := d.Next(); {
	case t == jx.Null:
		c.AppendNull()
		return true, d.Null()
	case t == jx.String:
		s, err := d.Str()
		if f.Kind == row.Int || f.Kind == row.Double || f.Kind == row.Bool || f.Kind == row.Timestamp && f.Parse.Epochs() {
			return false, err
		}
		return err == nil && f.Set(c, []byte(s)), err
	case t == jx.Number && (f.Kind == row.Int || f.Kind == row.Double || f.Kind == row.Decimal || f.Kind == row.Timestamp && f.Parse.Epochs()),
		t == jx.Bool && f.Kind == row.Bool:
		raw, err := d.Raw()
		return err == nil && f.Set(c, raw), err
	}
	return false, d.Skip()
}

// setDecimal appends a decimal.
func setDecimal(c *row.Column, text []byte) bool {
	v, ok := expr.ParseDecimal(strings.TrimSpace(string(text)))
	if ok {
		c.AppendString(v)
	}
	return ok
}

// appendList writes a list or map as JSON.
func appendList(dst []byte, c *row.Column, i int) []byte {
	keys, values, counts := row.NewColumn(row.String), row.NewColumn(c.Kind.Elem()), row.NewColumn(row.Int)
	row.Elements(c.Kind, c.Bytes(i), keys, values, counts)
	opening, closing := byte('['), byte(']')
	if c.Kind.IsMap() {
		opening, closing = '{', '}'
	}
	dst = append(dst, opening)
	var w jx.Writer
	for n := range values.Len() {
		if n > 0 {
			dst = append(dst, ',')
		}
		switch w.Buf = dst; {
		case c.Kind.IsMap():
			w.ByteStr(keys.Bytes(n))
			dst = append(w.Buf, ':')
		case c.Kind.IsCommon():
			dst = append(dst, `{"value":`...)
		}
		dst = AppendValue(dst, values, n)
		if c.Kind.IsCommon() {
			dst = append(AppendText(append(dst, `,"count":`...), counts, n), '}')
		}
	}
	return append(dst, closing)
}

// AppendValue writes a value as JSON.
func AppendValue(dst []byte, c *row.Column, i int) []byte {
	if c.IsNull(i) {
		return append(dst, "null"...)
	}
	switch c.Kind {
	case row.String:
		w := jx.Writer{Buf: dst}
		w.ByteStr(c.Bytes(i))
		return w.Buf
	case row.Int, row.Double, row.Bool:
		return AppendText(dst, c, i)
	}
	if !c.Kind.Plain() {
		return appendList(dst, c, i)
	}
	return append(AppendText(append(dst, '"'), c, i), '"') // nothing in these needs escaping
}
