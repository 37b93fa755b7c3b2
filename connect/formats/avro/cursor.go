package avro

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
)

// cursor reads values of Avro's binary encoding (Avro 1.12, "Binary encoding") from bytes. The first fault stays; what is read after it
// is zero.
type cursor struct {
	b   []byte
	at  int
	err error
	// items bounds how many elements of lists and maps one event may have: elements of no bytes could go on for ever. depth is
	// of records within records.
	items, depth int
}

const (
	mostItems = 1 << 24
	mostDepth = 500
)

var errShort = errors.New("it ends too early")

func (c *cursor) reset(b []byte) {
	*c = cursor{b: b, items: mostItems}
}

func (c *cursor) fail(err error) {
	if c.err == nil {
		c.err = err
	}
	c.at = len(c.b)
}

// long reads an int or long: zig-zag, by seven bits.
func (c *cursor) long() int64 {
	// Most are short.
	if c.at < len(c.b) && c.b[c.at] < 0x80 {
		v := uint64(c.b[c.at])
		c.at++
		return int64(v>>1) ^ -int64(v&1)
	}
	if c.at+8 <= len(c.b) { // eight bytes at once: the first without its top bit is the last; numbers of times have six
		w := binary.LittleEndian.Uint64(c.b[c.at:])
		if last := ^w & 0x8080808080808080; last != 0 {
			n := bits.TrailingZeros64(last)>>3 + 1
			w &= 1<<(8*n-1) - 1
			w = w&0x007f007f007f007f | w&0x7f007f007f007f00>>1
			w = w&0x00003fff00003fff | w&0x3fff00003fff0000>>2
			w = w&0x000000000fffffff | w&0x0fffffff00000000>>4
			c.at += n
			return int64(w>>1) ^ -int64(w&1)
		}
	}
	v, n := binary.Varint(c.b[c.at:])
	switch {
	case n == 0:
		c.fail(errShort)
		return 0
	case n < 0:
		c.fail(errors.New("a number has more than 64 bits"))
		return 0
	}
	c.at += n
	return v
}

// take gives the next n bytes; they are those that are read.
func (c *cursor) take(n int64) []byte {
	if n < 0 {
		c.fail(fmt.Errorf("a length is %d", n))
		return nil
	}
	if n > int64(len(c.b)-c.at) {
		c.fail(errShort)
		return nil
	}
	out := c.b[c.at : c.at+int(n) : c.at+int(n)]
	c.at += int(n)
	return out
}

// bytes reads bytes or a string.
func (c *cursor) bytes() []byte { return c.take(c.long()) }

func (c *cursor) boolean() bool {
	b := c.take(1)
	if len(b) == 0 {
		return false
	}
	if b[0] > 1 {
		c.fail(fmt.Errorf("a boolean is %d", b[0]))
	}
	return b[0] == 1
}

func (c *cursor) double() float64 {
	b := c.take(8)
	if b == nil {
		return 0
	}
	return math.Float64frombits(binary.LittleEndian.Uint64(b))
}

func (c *cursor) float() float64 {
	b := c.take(4)
	if b == nil {
		return 0
	}
	return float64(math.Float32frombits(binary.LittleEndian.Uint32(b)))
}

// elements reads the blocks of an array or map, and has each read for every element.
func (c *cursor) elements(each func()) {
	for c.err == nil {
		n := c.long()
		if n < 0 { // its size follows
			n = -n
			c.long()
		}
		if n == 0 {
			return
		}
		if n < 0 || n > int64(c.items) {
			c.fail(fmt.Errorf("a list has more than %d elements", mostItems))
			return
		}
		c.items -= int(n)
		for ; n > 0 && c.err == nil; n-- {
			each()
		}
	}
}

// within goes one record deeper while f reads.
func (c *cursor) within(f func()) {
	if c.depth++; c.depth > mostDepth {
		c.fail(fmt.Errorf("records stand within records %d deep", mostDepth))
		return
	}
	f()
	c.depth--
}
