package codec

import (
	"errors"
	"fmt"
	"io"
	"strconv"
	"unicode/utf8"
	"unsafe"

	"github.com/go-faster/jx"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// jsonDecoder reads one JSON object an event. The library was chosen by measurement among well-kept
// ones (docs/speed.md, "JSON decoder"): it checks the grammar and does not allocate.
type jsonDecoder struct {
	fields Fields
	root   *branch
	dec    *jx.Decoder
	line   []byte
	batch  *row.Batch
	row    int
	seen   int // fields set in this row

	fault     bool // the first fault of this row that is not of the grammar
	reason    string
	faultText string
}

// branch is one object of the fields' paths.
type branch struct {
	d     *jsonDecoder
	names []string
	leaf  []int // field number, or -1
	inner []*branch
	index map[string]int
	next  int // the name that is likely to come next: events of a source mostly look alike
	visit func(*jx.Decoder, []byte) error
}

// NewJSONDecoder makes a decoder of JSON objects.
func NewJSONDecoder(fields Fields) engine.Decoder {
	d := &jsonDecoder{fields: fields, dec: jx.DecodeBytes(nil)}
	d.root = d.newBranch()
	for i, f := range fields {
		at := f.At
		if len(at) == 0 {
			at = []string{f.Name}
		}
		b := d.root
		for _, name := range at[:len(at)-1] {
			k := b.add(name)
			if b.inner[k] == nil {
				b.inner[k] = d.newBranch()
			}
			b = b.inner[k]
		}
		b.leaf[b.add(at[len(at)-1])] = i
	}
	return d
}

func (d *jsonDecoder) newBranch() *branch {
	b := &branch{d: d, index: map[string]int{}}
	b.visit = b.field
	return b
}

func (b *branch) add(name string) int {
	if k, ok := b.index[name]; ok {
		return k
	}
	b.index[name] = len(b.names)
	b.names, b.leaf, b.inner = append(b.names, name), append(b.leaf, -1), append(b.inner, nil)
	return len(b.names) - 1
}

func (d *jsonDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	d.batch = b
	for i := range c.Starts {
		d.line = c.Raw[c.Starts[i]:c.Ends[i]]
		d.row, d.seen, d.fault = b.N, 0, false
		if err := d.object(); err != nil {
			d.reason, d.faultText, d.fault = step.Malformed, "no JSON object: "+cause(err), true
		} else if d.seen < len(d.fields) && !d.fault {
			d.fillMissing()
		}
		if d.fault {
			for _, col := range b.Cols[:len(d.fields)] {
				if col.Len() > d.row {
					col.Truncate(d.row)
				}
			}
			rejects = append(rejects, step.Reject{Index: uint16(i), Row: -1, Reason: d.reason, Message: d.faultText})
			continue
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}

var errAfter = errors.New("more text after the object")

func (d *jsonDecoder) object() error {
	d.dec.ResetBytes(d.line)
	if err := d.dec.ObjBytes(d.root.visit); err != nil {
		return err
	}
	if _, err := d.dec.Elem(); err != io.EOF { // the cheapest way to ask for the end
		return errAfter
	}
	return nil
}

// cause words an error of the library without its wrapping.
func cause(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			break
		}
		err = inner
	}
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		return "the text ends too early"
	}
	return err.Error()
}

func (d *jsonDecoder) fillMissing() {
	for i := range d.fields {
		c := d.batch.Cols[i]
		if c.Len() == d.row && !d.fields[i].missing(c) {
			d.setFault(step.Missing, fmt.Sprintf("field %s is missing or null, and has no default", d.fields[i].Name))
			return
		}
	}
}

func (d *jsonDecoder) setFault(reason, message string) {
	if !d.fault {
		d.fault, d.reason, d.faultText = true, reason, message
	}
}

// field takes one member of an object.
func (b *branch) field(dec *jx.Decoder, key []byte) error {
	k := b.next
	if k >= len(b.names) || string(key) != b.names[k] {
		var ok bool
		if k, ok = b.index[string(key)]; !ok {
			return dec.Skip()
		}
	}
	b.next = k + 1
	if b.next == len(b.names) {
		b.next = 0
	}
	if in := b.inner[k]; in != nil && dec.Next() == jx.Object {
		return dec.ObjBytes(in.visit)
	}
	if b.leaf[k] < 0 {
		return dec.Skip()
	}
	return b.d.value(dec, b.leaf[k], key)
}

// value appends a member's value to its column, or notes the fault and passes over it.
func (d *jsonDecoder) value(dec *jx.Decoder, at int, key []byte) error {
	f, c := &d.fields[at], d.batch.Cols[at]
	if c.Len() > d.row { // a name that stands twice: the last one counts
		c.Truncate(d.row)
		d.seen--
	}
	switch t := dec.Next(); {
	case t == jx.Null:
		return dec.Null() // like missing
	case t == jx.String && f.Kind != row.Int && f.Kind != row.Double && f.Kind != row.Bool && !(f.Kind == row.Timestamp && f.Parse != RFC3339):
		s, err := dec.StrBytes()
		if err != nil {
			return err
		}
		if !utf8.Valid(s) {
			d.setFault(step.Malformed, fmt.Sprintf("field %s is not UTF-8", f.Name))
			return nil
		}
		if f.Kind == row.String {
			c.AppendBytes(s)
		} else if !f.set(c, s) {
			d.setFault(wrongType(f, strconv.Quote(string(s))))
			return nil
		}
	case t == jx.Number && f.Kind == row.Double:
		return d.double(dec, f, c, key)
	case t == jx.Number && (f.Kind == row.Int || (f.Kind == row.Timestamp && f.Parse != RFC3339)):
		return d.whole(dec, f, c, key)
	case t == jx.Bool && f.Kind == row.Bool:
		v, err := dec.Bool()
		if err != nil {
			return err
		}
		c.AppendBool(v)
	default:
		raw, err := dec.Raw()
		if err != nil {
			return err
		}
		d.setFault(wrongType(f, string(raw)))
		return nil
	}
	d.seen++
	return nil
}

// double reads a number. The library's own conversion is exact only up to 15 digits, and wrong
// beyond 19, so longer texts go to strconv.
func (d *jsonDecoder) double(dec *jx.Decoder, f *Field, c *row.Column, key []byte) error {
	text := d.numberAfter(key)
	if len(text) > 0 && len(text) <= 16 {
		v, err := dec.Float64()
		if err == nil && v-v == 0 {
			c.AppendDouble(v)
			d.seen++
			return nil
		}
		if err != nil {
			return err
		}
	} else if len(text) > 0 {
		if err := dec.Skip(); err != nil {
			return err
		}
	} else {
		n, err := dec.Num()
		if err != nil {
			return err
		}
		text = n
	}
	v, err := strconv.ParseFloat(unsafe.String(unsafe.SliceData(text), len(text)), 64)
	if err != nil || v-v != 0 {
		d.setFault(wrongType(f, string(text)))
		return nil
	}
	c.AppendDouble(v)
	d.seen++
	return nil
}

// whole reads a number that must be a whole one.
func (d *jsonDecoder) whole(dec *jx.Decoder, f *Field, c *row.Column, key []byte) error {
	text := d.numberAfter(key)
	if len(text) == 0 {
		n, err := dec.Num()
		if err != nil {
			return err
		}
		text = n
	} else if len(text) <= 18 && digitsOnly(text) {
		v, err := dec.Int64()
		if err != nil {
			return err
		}
		return d.putWhole(f, c, v, text)
	} else if err := dec.Skip(); err != nil {
		return err
	}
	v, ok := wholeNumber(string(text))
	if !ok {
		d.setFault(wrongType(f, string(text)))
		return nil
	}
	return d.putWhole(f, c, v, text)
}

func (d *jsonDecoder) putWhole(f *Field, c *row.Column, v int64, text []byte) error {
	if f.Kind == row.Timestamp {
		us, ok := f.Parse.epoch(v)
		if !ok {
			d.setFault(wrongType(f, string(text)))
			return nil
		}
		v = us
	}
	c.AppendInt(v)
	d.seen++
	return nil
}

func digitsOnly(text []byte) bool {
	for i, b := range text {
		if (b < '0' || b > '9') && (b != '-' || i > 0) {
			return false
		}
	}
	return true
}

// numberAfter gives the text of the number that follows a key, found by the key's place in the
// line; nil when the key was escaped and is a copy.
func (d *jsonDecoder) numberAfter(key []byte) []byte {
	p := cap(d.line) - cap(key)
	if p < 0 || len(key) == 0 || p+len(key) >= len(d.line) || &d.line[p] != &key[0] {
		return nil
	}
	rest := d.line[p+len(key)+1:] // past the closing quote
	i := 0
	for i < len(rest) && (rest[i] == ' ' || rest[i] == '\t' || rest[i] == ':') {
		i++
	}
	from := i
	for i < len(rest) {
		switch b := rest[i]; {
		case b >= '0' && b <= '9', b == '.', b == '-', b == '+', b == 'e', b == 'E':
			i++
			continue
		}
		break
	}
	return rest[from:i]
}
