package step

import (
	"bytes"
	"encoding/binary"
	"math"

	"undertide/core/row"
)

// The order of an event's rows
//
// A row's place is its turn, its event's number in it, and its order among the rows of that event
// (docs/time.md, "Turns and places"). The order goes with the row through every step and exchange, as bytes
// that compare as the rows stand:
//
//	(nothing)                              the event's own row, as the source made it
//	item                                   4 bytes; an expand appends the number of the item
//	input ...                              2 bytes; a step with several inputs puts the input's number first
//	ff, time, start and key, number        a row that was made because the event moved a watermark: after all
//	                                       own rows, by its time (8 bytes), what appendOrder makes of window_start
//	                                       and key, and what tells rows of one key and time apart
//	ff, time, input, ...                   the same behind a step with several inputs
//	ff, time, 0, ...                       a pair of such a row, by its own time, then by the row's order
//
// Inputs and items have a first byte below ff. An example: event 7 has the list [a, b] and goes on two ways, x
// and y, which meet in `from: [x, y]`. Its rows stand as 0000 00000000 (a by x), 0000 00000001 (b by x), 0001
// 00000000 (a by y), 0001 00000001 (b by y), whatever lanes they came through.

// made begins the order of a row that was made because a watermark moved.
const made = 0xff

// appendMade begins the order of a row of time at that was made because a watermark moved.
func appendMade(dst []byte, at row.Time) []byte {
	return binary.BigEndian.AppendUint64(append(dst, made), uint64(at)^1<<63)
}

// appendLater begins the order of a row that was made of another and may have a later time. Rows that a watermark made stand
// by their own time, and of one time by what they were made of, before those that have waited for that time.
func appendLater(dst, order []byte, at row.Time) []byte {
	if len(order) > 0 && order[0] == made {
		dst = append(appendMade(dst, at), 0)
	}
	return append(dst, order...)
}

// appendItem ends the order of an expand's row.
func appendItem(dst []byte, item int) []byte {
	return binary.BigEndian.AppendUint32(dst, uint32(item))
}

// MaxInputs is how many inputs a step may have.
const MaxInputs = 1 << 12

// appendInput gives the order of a row behind a step with several inputs.
func appendInput(dst, order []byte, input int) []byte {
	if len(order) > 0 && order[0] == made {
		dst = append(dst, order[:9]...)
		return append(binary.BigEndian.AppendUint16(dst, uint16(input)), order[9:]...)
	}
	return append(binary.BigEndian.AppendUint16(dst, uint16(input)), order...)
}

// Inputs puts the number of a step's input into the order of rows. One goroutine at a time.
type Inputs struct {
	order *row.Column
	buf   []byte
}

// Apply gives v with the order that its rows have behind the step; it lasts until the next Apply.
func (o *Inputs) Apply(v View, input int) View {
	if o.order == nil {
		o.order = row.NewColumn(row.Bytes)
	}
	o.order.Reset()
	for i := range v.N {
		o.buf = appendInput(o.buf[:0], v.order(i), input)
		o.order.AppendBytes(o.buf)
	}
	v.Order = o.order
	return v
}

// appendOrder appends values so that the bytes order as the values do: null first, numbers by size,
// texts by bytes.
func appendOrder(dst []byte, c *row.Column, i int) []byte {
	if c.IsNull(i) {
		return append(dst, 0)
	}
	dst = append(dst, 1)
	switch {
	case c.Kind == row.Double:
		bits := math.Float64bits(c.F[i])
		if bits>>63 != 0 {
			bits = ^bits
		} else {
			bits |= 1 << 63
		}
		return binary.BigEndian.AppendUint64(dst, bits)
	case c.Kind == row.Decimal:
		return appendDecimalOrder(dst, c.Bytes(i))
	case c.Kind.Text():
		for _, b := range c.Bytes(i) { // 0 ends a text; 0 within it is written 0 1
			if dst = append(dst, b); b == 0 {
				dst = append(dst, 1)
			}
		}
		return append(dst, 0, 0)
	}
	return binary.BigEndian.AppendUint64(dst, uint64(c.I[i])^1<<63)
}

// appendDecimalOrder appends a decimal so that the bytes order as the numbers do, whatever digits they are written
// with: its sign, how many digits stand before the point, then the digits; of a negative number all turned round.
//
// 12.50 gives 2, 0 2, "125", 0; 9.9 gives 2, 0 1, "99", 0: its one digit before the point makes it the lesser.
func appendDecimalOrder(dst, text []byte) []byte {
	text, negative := bytes.CutPrefix(text, []byte("-"))
	whole, fraction, _ := bytes.Cut(text, []byte("."))
	whole, fraction = bytes.TrimLeft(whole, "0"), bytes.TrimRight(fraction, "0")
	if len(whole)+len(fraction) == 0 {
		return append(dst, 1)
	}
	from := len(dst)
	dst = binary.BigEndian.AppendUint16(append(dst, 2), uint16(len(whole)))
	dst = append(append(append(dst, whole...), fraction...), 0)
	if negative {
		dst[from] = 0
		for i := from + 1; i < len(dst); i++ {
			dst[i] = ^dst[i]
		}
	}
	return dst
}
