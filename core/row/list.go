package row

import (
	"bytes"
	"encoding/binary"
	"math"
)

// AppendElement appends row i of a column of a plain kind to the bytes of a list: 0 for null, else 1
// and 8 bytes little endian, or the length and the bytes of a text.
func AppendElement(dst []byte, c *Column, i int) []byte {
	switch {
	case c.IsNull(i):
		return append(dst, 0)
	case c.Kind == Double:
		return binary.LittleEndian.AppendUint64(append(dst, 1), math.Float64bits(c.F[i]))
	case c.Kind.Text():
		return AppendText(append(dst, 1), c.Bytes(i))
	}
	return binary.LittleEndian.AppendUint64(append(dst, 1), uint64(c.I[i]))
}

// PlainDecimal gives the text of a decimal without closing zeros behind the point, and without a sign where it
// is zero: decimals of equal value have equal ones. It is a part of text.
func PlainDecimal(text []byte) []byte {
	if bytes.IndexByte(text, '.') >= 0 {
		text = bytes.TrimRight(bytes.TrimRight(text, "0"), ".")
	}
	if string(text) == "-0" {
		return text[1:]
	}
	return text
}

// AppendDistinct is AppendElement, but that values which are equal give equal bytes: both zeros of a double, and
// decimals with more or fewer closing zeros.
func AppendDistinct(dst []byte, c *Column, i int) []byte {
	switch {
	case c.IsNull(i):
	case c.Kind == Double && c.F[i] == 0:
		return binary.LittleEndian.AppendUint64(append(dst, 1), 0)
	case c.Kind == Decimal:
		text := PlainDecimal(c.Bytes(i))
		return AppendText(append(dst, 1), text)
	}
	return AppendElement(dst, c, i)
}

// NextElement reads one element onto a column of its kind, and gives the rest; false where the bytes
// are damaged.
func NextElement(data []byte, c *Column) ([]byte, bool) {
	if len(data) == 0 {
		return nil, false
	}
	tag := data[0]
	data = data[1:]
	switch {
	case tag == 0:
		c.AppendNull()
		return data, true
	case c.Kind.Text():
		text, rest, ok := NextText(data)
		if ok {
			c.AppendBytes(text)
		}
		return rest, ok
	case len(data) < 8:
		return nil, false
	case c.Kind == Double:
		c.AppendDouble(math.Float64frombits(binary.LittleEndian.Uint64(data)))
	default:
		c.AppendInt(int64(binary.LittleEndian.Uint64(data)))
	}
	return data[8:], true
}

// AppendText appends a text with its length before it.
func AppendText[T ~string | ~[]byte](dst []byte, text T) []byte {
	return append(binary.AppendUvarint(dst, uint64(len(text))), text...)
}

// NextText reads a text with its length.
func NextText(data []byte) (text, rest []byte, ok bool) {
	n, w := binary.Uvarint(data)
	if w <= 0 || uint64(len(data)-w) < n {
		return nil, nil, false
	}
	return data[w : w+int(n)], data[w+int(n):], true
}

// Elements reads the values of a list onto values, whose kind is that of the elements. For a map keys
// takes the texts of its keys; for a list with counts, counts takes them. The columns are emptied first.
// False where the bytes are damaged, which only a damaged checkpoint can bring.
func Elements(kind Kind, data []byte, keys, values, counts *Column) bool {
	values.Reset()
	if kind.IsMap() {
		keys.Reset()
	}
	if kind.IsCommon() {
		counts.Reset()
	}
	ok := true
	for len(data) > 0 && ok {
		if kind.IsMap() {
			var key []byte
			if key, data, ok = NextText(data); !ok {
				return false
			}
			keys.AppendBytes(key)
		}
		if data, ok = NextElement(data, values); ok && kind.IsCommon() {
			data, ok = NextElement(data, counts)
		}
	}
	return ok
}
