package crossing

import (
	"encoding/binary"
	"errors"
	"fmt"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
)

// A block is what one turn of a writer has for one portion. Numbers are variable-length integers as in package encoding/binary, signed ones in zigzag form:
//
//	format      one byte, 1
//	state       one byte: 1 where the writer is asleep
//	rows        how many follow, at most row.MaxRows
//	watermark   of the last row; of a block without rows, that which stands now
//	marks       for each row, how far its watermark is from the one of the row before, the first from `watermark`
//	sizes       for each row, its bytes
//	rows        one behind the other: the event time, from the row's watermark on (from 0 where there is none yet), then the columns (state.AppendValues)
//
// Of a writer whose watermark stands at 10:00 and that has rows of 10:03 and 10:01 for a portion, the first of which moves the watermark by a minute:
// 1, 0, 2, 10:01, -1m, +1m, sizes, {+3m, columns}, {0, columns}.
const blockFormat = 1

const asleep = 1

// ErrBlock is wrapped where bytes are no block.
var ErrBlock = errors.New("this is no block of rows as Under Tide writes them")

// Encoder writes the rows of a [Step] as blocks, each behind the number of its portion and its length: what [Next] takes apart. It implements [engine.Encoder].
type Encoder struct {
	portions [][]uint16 // rows by portion, of one call
	timed    bool
	sizes    []byte
	rows     []byte
	block    []byte
}

// NewEncoder makes an encoder of rows for so many portions; timed says whether they have event times.
func NewEncoder(portions int, timed bool) *Encoder {
	return &Encoder{portions: make([][]uint16, portions), timed: timed}
}

// Append adds the selected rows of v to dst.
func (e *Encoder) Append(dst []byte, v step.View) []byte {
	n := len(v.Cols) - 2
	to, marks := v.Cols[n].I, v.Cols[n+1].I
	for p := range e.portions {
		e.portions[p] = e.portions[p][:0]
	}
	for _, r := range v.Sel {
		e.portions[to[r]] = append(e.portions[to[r]], r)
	}
	for p, sel := range e.portions {
		for len(sel) > 0 {
			dst, sel = e.frame(dst, p, v, sel, marks)
		}
	}
	return dst
}

// fullBlock is how many bytes of rows end a block.
const fullBlock = 256 << 10

// frame adds a block of one portion, and gives the rows that it had no room for.
func (e *Encoder) frame(dst []byte, portion int, v step.View, sel []uint16, marks []int64) ([]byte, []uint16) {
	e.sizes, e.rows = e.sizes[:0], e.rows[:0]
	cols := v.Cols[:len(v.Cols)-2]
	var left []uint16
	for n, r := range sel {
		at := len(e.rows)
		if at >= fullBlock {
			sel, left = sel[:n], sel[n:]
			break
		}
		if e.timed {
			e.rows = binary.AppendVarint(e.rows, int64(v.Times[r])-base(row.Time(marks[r])))
		}
		e.rows = state.AppendValues(e.rows, cols, int(r))
		e.sizes = binary.AppendUvarint(e.sizes, uint64(len(e.rows)-at))
	}
	before := marks[sel[len(sel)-1]]
	b := begin(e.block[:0], len(sel), Mark{Watermark: row.Time(before)})
	for _, r := range sel {
		b = binary.AppendVarint(b, marks[r]-before)
		before = marks[r]
	}
	e.block = append(append(b, e.sizes...), e.rows...)
	return appendFrame(dst, portion, e.block), left
}

// base is what an event time is counted from behind a watermark.
func base(mark row.Time) int64 {
	if mark == row.MinTime || mark == row.MaxTime {
		return 0
	}
	return int64(mark)
}

func begin(dst []byte, rows int, m Mark) []byte {
	flags := byte(0)
	if m.Asleep {
		flags = asleep
	}
	return binary.AppendVarint(binary.AppendUvarint(append(dst, blockFormat, flags), uint64(rows)), int64(m.Watermark))
}

func appendFrame(dst []byte, portion int, block []byte) []byte {
	return append(binary.AppendUvarint(binary.AppendUvarint(dst, uint64(portion)), uint64(len(block))), block...)
}

// AppendMark adds, for a portion, a block without rows: how far the writer is. At the end there are two, so that the reader gets to know what stood before it.
func AppendMark(dst []byte, portion int, m Mark) []byte {
	if m.Watermark == row.MaxTime {
		dst = appendFrame(dst, portion, begin(nil, 0, Mark{Watermark: m.Before}))
	}
	return appendFrame(dst, portion, begin(nil, 0, m))
}

// Next takes the first block, and the portion that it is for, off what [Encoder.Append] and [AppendMark] wrote. The block is a part of data; false where data ends within it.
func Next(data []byte) (portion int, block, rest []byte, whole bool) {
	p, w := binary.Uvarint(data)
	if w <= 0 {
		return 0, nil, nil, false
	}
	n, w2 := binary.Uvarint(data[w:])
	if w2 <= 0 || uint64(len(data)-w-w2) < n {
		return 0, nil, nil, false
	}
	from := w + w2
	end := from + int(n)
	return int(p), data[from:end:end], data[end:], true
}

// Fill adds the rows of a block to a chunk as events, unless they are more than it has room for; then it leaves the chunk as it is, and gives false. A block that says that the
// writer has come to its end is alone in its chunk. The chunk's watermark and whether its writer is asleep are the block's from then on. An error wraps ErrBlock.
func Fill(c *engine.Chunk, block []byte) (bool, error) {
	if len(block) < 2 || block[0] != blockFormat || block[1] > asleep {
		return false, fmt.Errorf("%w: it begins with other bytes", ErrBlock)
	}
	n, w := binary.Uvarint(block[2:])
	if w <= 0 || n > row.MaxRows {
		return false, fmt.Errorf("%w: it has no number of rows, or more than %d", ErrBlock, row.MaxRows)
	}
	if len(c.Starts)+int(n) > row.MaxRows {
		return false, nil
	}
	rest := block[2+w:]
	number := func() (v int64) {
		if v, w = binary.Varint(rest); w <= 0 {
			rest = nil
			return 0
		}
		rest = rest[w:]
		return v
	}
	mark := number()
	after := row.Time(mark)
	if after == row.MaxTime && n == 0 && (len(c.Starts) > 0 || c.After > row.MinTime) {
		return false, nil
	}
	marks, starts, ends := len(c.Marks), len(c.Starts), len(c.Ends)
	back := func() {
		c.Marks, c.Starts, c.Ends = c.Marks[:marks], c.Starts[:starts], c.Ends[:ends]
	}
	for range n {
		mark += number()
		c.Marks = append(c.Marks, row.Time(mark))
	}
	at := len(c.Raw)
	for range n {
		size, w := binary.Uvarint(rest)
		if w <= 0 || size > uint64(len(block)) {
			back()
			return false, fmt.Errorf("%w: a row has no size", ErrBlock)
		}
		rest = rest[w:]
		c.Starts = append(c.Starts, uint32(at))
		at += int(size)
		c.Ends = append(c.Ends, uint32(at))
	}
	if at-len(c.Raw) != len(rest) || rest == nil {
		back()
		return false, fmt.Errorf("%w: its rows have other sizes than it says", ErrBlock)
	}
	c.Raw = append(c.Raw, rest...)
	c.After, c.Asleep = max(c.After, after), block[1] == asleep
	return true, nil
}

// Decoder reads the rows that [Fill] brought into chunks. It implements [engine.Decoder].
type Decoder struct {
	Timed bool
}

// Decode appends the rows of a chunk to b. Bytes that are no row become rejects.
func (d *Decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		event, w := c.Event(i), 0
		var at int64
		if d.Timed {
			if at, w = binary.Varint(event); w <= 0 {
				rejects = append(rejects, malformed(i))
				continue
			}
			at += base(c.Marks[i])
		}
		if err := state.ReadValues(b.Cols, event[w:]); err != nil {
			for _, col := range b.Cols {
				col.Truncate(min(col.Len(), b.N))
			}
			rejects = append(rejects, malformed(i))
			continue
		}
		if d.Timed {
			b.Times = append(b.Times, row.Time(at))
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}

func malformed(i int) step.Reject {
	return step.Reject{Index: uint16(i), Row: -1, Reason: step.Malformed, Message: "the row is not as Under Tide writes it"}
}
