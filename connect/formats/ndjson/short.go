package ndjson

import (
	"encoding/binary"
	"math/bits"
	"strconv"
	"unsafe"

	"undertide/connect/codec"
	"undertide/core/row"
)

// Events of a source look alike: the same members in the same order, written without white space or with a blank behind each colon and comma,
// numbers of a few digits, texts without escapes. Such a line is read here in one go over its bytes. Anything else, and anything of which it is not
// certain that the library would read the same, is left to the library: short then says no, and what it has added of the line is cut back.
//
// Example: with the fields gauge and level_m, after {"gauge":"G1","seq":7,"level_m":3.2} the decoder knows the members gauge, seq and level_m, and
// which comes after which. Of the next line it compares `"gauge":` as two words with what it expects, copies the text up to the next quote, compares
// `"seq":`, passes over a number, and so on. A member that is not the expected one is looked up by name.

// way is how the value of a member is read.
type way uint8

const (
	pastWay   way = iota // nobody wants it: passed over
	stringWay            // a text as it is
	textWay              // a text of which the field makes a value
	doubleWay
	wholeWay
	boolWay
	decimalWay
	objectWay // an object within which there are fields
	longWay   // left to the library: lists, and what several fields read
)

// slack is how many bytes have to lie behind a line for it to be read in words.
const slack = 16

// mostPast bounds how many names of members that nobody wants are remembered in an object.
const mostPast = 64

// short reads the line at hand; no means that the library is to read it.
func (d *decoder) short() bool {
	n := len(d.line)
	if n == 0 || cap(d.line) < n+slack {
		return false
	}
	return d.root.short(d.line[:n+slack], 0) == n
}

// no is where nothing ends.
const no = -1

// short reads an object that begins at i, and gives where it ends. Every place that it looks at lies before the slack, or it gives up.
func (b *branch) short(t []byte, i int) int {
	if t[i] != '{' {
		return no
	}
	if t[i+1] == '}' {
		return i + 2
	}
	end := len(t) - slack
	var before *jsonMember
	m := b.first
	for {
		if i++; t[i] == ' ' {
			i++
		}
		if i >= end {
			return no
		}
		if m == nil || !m.at(t[i:]) {
			if m = b.lookUp(t, i); m == nil {
				return no
			}
			if before == nil {
				b.first = m
			} else {
				before.next = m
			}
		}
		if i += len(m.quoted); i >= end {
			return no
		}
		if t[i] == ' ' {
			i++
		}
		if i = b.d.shortValue(m, t, i); i < 0 || i >= end {
			return no
		}
		switch t[i] {
		case ',':
			before, m = m, m.next
		case '}':
			return i + 1
		default:
			return no
		}
	}
}

// shortValue reads the value of a member, which begins at i, and gives where it ends.
func (d *decoder) shortValue(m *jsonMember, t []byte, i int) int {
	if m.way == pastWay {
		return passOver(t, i, 0)
	}
	if m.way == objectWay {
		if m.event == d.event || t[i] != '{' {
			return no // it stands twice, or is not an object
		}
		m.event = d.event
		return m.object.short(t, i)
	}
	if m.way == longWay || m.col.Len() != d.row {
		return no // of what stands twice the last one counts
	}
	c := m.col
	switch first := t[i]; {
	case first == 'n':
		return literal(t, i, "null") // like missing
	case m.way == stringWay:
		end := textEnd(t, i)
		if end < 0 {
			return no
		}
		c.AppendBytes(t[i+1 : end])
		d.seen++
		return end + 1
	case m.way == doubleWay:
		v, end := codec.DoubleAt(t, i)
		if end < 0 {
			v, end = longDouble(t, i)
		}
		if end < 0 || end == len(t) { // an object ends behind its last value
			return no
		}
		c.F = append(c.F, v)
		d.seen++
		return end
	case m.way == wholeWay:
		v, end := codec.WholeAt(t, i)
		if end < 0 || end == len(t) {
			return no
		}
		if m.parse.Epochs() {
			var ok bool
			if v, ok = m.parse.Epoch(v); !ok {
				return no
			}
		}
		c.I = append(c.I, v)
		d.seen++
		return end
	case m.way == textWay, m.way == decimalWay && first == '"':
		end := textEnd(t, i)
		if end < 0 || !d.fields[m.fields[0]].Set(c, t[i+1:end]) {
			return no
		}
		d.seen++
		return end + 1
	case m.way == decimalWay:
		end := numberEnd(t, i)
		if end < 0 || !d.fields[m.fields[0]].Set(c, t[i:end]) {
			return no
		}
		d.seen++
		return end
	case m.way == boolWay:
		end := literal(t, i, "true")
		if first == 'f' {
			end = literal(t, i, "false")
		}
		if end < 0 {
			return no
		}
		c.AppendBool(first == 't')
		d.seen++
		return end
	}
	return no
}

// at says whether the text begins with the member's name, in quotes and with its colon. There are slack bytes of text at least.
func (m *jsonMember) at(t []byte) bool {
	if len(m.quoted) > slack {
		return len(t) >= len(m.quoted) && string(t[:len(m.quoted)]) == m.quoted
	}
	t = t[:slack]
	return binary.LittleEndian.Uint64(t)&m.low == m.lowName && binary.LittleEndian.Uint64(t[8:])&m.high == m.highName
}

// learn prepares the comparison of names. One that has to be written with escapes is left to the library.
func (m *jsonMember) learn() {
	m.quoted = `"` + m.name + `":`
	if textEnd([]byte(m.quoted+"        "), 0) != len(m.quoted)-2 {
		m.low, m.lowName = 0, 1 // never so
		return
	}
	var name, mask [slack]byte
	for i := range min(len(m.quoted), slack) {
		name[i], mask[i] = m.quoted[i], 0xff
	}
	m.lowName, m.highName = binary.LittleEndian.Uint64(name[:]), binary.LittleEndian.Uint64(name[8:])
	m.low, m.high = binary.LittleEndian.Uint64(mask[:]), binary.LittleEndian.Uint64(mask[8:])
}

// lookUp finds the member whose name begins at i; those that nobody wants are remembered, so that they can be expected. Nil is what the library
// has to look at.
func (b *branch) lookUp(t []byte, i int) *jsonMember {
	end := textEnd(t, i)
	if end < 0 || end >= len(t)-slack || t[end+1] != ':' {
		return nil
	}
	name := t[i+1 : end]
	if k, ok := b.index[string(name)]; ok {
		return &b.members[k]
	}
	if m, ok := b.past[string(name)]; ok {
		return m
	}
	for _, c := range name {
		if c >= 0x80 {
			return nil
		}
	}
	m := &jsonMember{name: string(name)}
	m.learn()
	if len(b.past) < mostPast {
		b.past[m.name] = m
	}
	return m
}

// literal gives where a word that begins at i ends.
func literal(t []byte, i int, word string) int {
	if end := i + len(word); end <= len(t) && string(t[i:end]) == word {
		return end
	}
	return no
}

const (
	eachOne = 0x0101010101010101
	eachTop = 0x8080808080808080
)

// marks sets the top bit of each byte that is b; bytes behind the first may be marked wrongly.
func marks(w uint64, b byte) uint64 {
	x := w ^ eachOne*uint64(b)
	return (x - eachOne) &^ x & eachTop
}

// textEnd gives the place of the quote that ends the text whose first quote is at i; no for one with escapes or control signs. Eight bytes at a time:
// the first that is a quote, a backslash or below a blank ends the search.
func textEnd(t []byte, i int) int {
	if t[i] != '"' {
		return no
	}
	for i++; i+8 <= len(t); i += 8 {
		w := binary.LittleEndian.Uint64(t[i:])
		if found := marks(w, '"') | marks(w, '\\') | (w-eachOne*' ')&^w&eachTop; found != 0 {
			i += bits.TrailingZeros64(found) >> 3
			if t[i] != '"' {
				return no
			}
			return i
		}
	}
	return no
}

// digitsEnd gives where the digits that begin at i end.
func digitsEnd(t []byte, i int) int {
	for i < len(t) && t[i]-'0' <= 9 {
		i++
	}
	return i
}

// longDouble reads a number that is not short, and gives where it ends.
func longDouble(t []byte, i int) (v float64, end int) {
	if end = numberEnd(t, i); end < 0 {
		return 0, no
	}
	v, err := strconv.ParseFloat(unsafe.String(&t[i], end-i), 64)
	if err != nil || v-v != 0 {
		return 0, no
	}
	return v, end
}

// numberEnd gives where the number that begins at i ends (RFC 8259, section 6).
func numberEnd(t []byte, i int) int {
	if t[i] == '-' {
		i++
	}
	first := i
	if i = digitsEnd(t, i); i == first || i-first > 1 && t[first] == '0' || i == len(t) {
		return no
	}
	if t[i] == '.' {
		first = i + 1
		if i = digitsEnd(t, first); i == first || i == len(t) {
			return no
		}
	}
	if t[i]|0x20 == 'e' {
		if i++; i < len(t) && (t[i] == '+' || t[i] == '-') {
			i++
		}
		first = i
		if i = digitsEnd(t, first); i == first || i == len(t) {
			return no
		}
	}
	return i
}

// deepest is how many objects and lists within each other are passed over here.
const deepest = 16

// passOver gives where the value that begins at i ends, of which nothing is wanted but that it is one.
func passOver(t []byte, i, depth int) int {
	if i >= len(t)-slack || depth > deepest {
		return no
	}
	switch first := t[i]; first {
	case '"':
		if end := textEnd(t, i); end >= 0 {
			return end + 1
		}
	case 't':
		return literal(t, i, "true")
	case 'f':
		return literal(t, i, "false")
	case 'n':
		return literal(t, i, "null")
	case '{', '[':
		return passWithin(t, i, first == '{', depth)
	default:
		return numberEnd(t, i)
	}
	return no
}

// passWithin is passOver for an object or a list.
func passWithin(t []byte, i int, named bool, depth int) int {
	closing := byte(']')
	if named {
		closing = '}'
	}
	if t[i+1] == closing {
		return i + 2
	}
	for {
		if i++; t[i] == ' ' {
			i++
		}
		if named {
			name := i
			if i = textEnd(t, i); i < 0 || i >= len(t)-slack || t[i+1] != ':' {
				return no
			}
			for _, c := range t[name:i] {
				if c >= 0x80 {
					return no
				}
			}
			if i += 2; t[i] == ' ' {
				i++
			}
		}
		if i = passOver(t, i, depth+1); i < 0 || i >= len(t)-slack {
			return no
		}
		switch t[i] {
		case ',':
		case closing:
			return i + 1
		default:
			return no
		}
	}
}

// wayOf gives how a member of one field is read.
func wayOf(f *codec.Field, isWhole bool) way {
	switch {
	case f.Kind == row.String:
		return stringWay
	case f.Kind == row.Double:
		return doubleWay
	case isWhole:
		return wholeWay
	case f.Kind == row.Bool:
		return boolWay
	case f.Kind == row.Decimal:
		return decimalWay
	case f.Kind.Plain():
		return textWay
	}
	return longWay
}
