package ndjson

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"unicode/utf8"
	"unsafe"

	"github.com/go-faster/jx"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

// decoder reads one JSON object an event. A line that looks as most do is read by the short way (short.go); what that does not take, the library
// reads, which was chosen by measurement among well-kept ones (docs/speed.md, "JSON decoder"): it checks the grammar and does not allocate. Both give
// the same row of every line (FuzzShort).
type decoder struct {
	fields  []fieldWay
	root    *branch
	members []*jsonMember // those with a field
	dec     *jx.Decoder
	line    []byte
	batch   *row.Batch
	row     int
	seen    int // fields set in this row

	strict bool // texts are checked one by one, by the library alone, since the chunk holds some that are not UTF-8
	event  int  // the number of the line at hand, from 1

	inner []*jx.Decoder // for values that are read more than once; those behind depth are free
	depth int

	faults []fieldFault // of this row that are not of the grammar
}

// fieldFault is what is wrong with the value of a field.
type fieldFault struct {
	field           int
	reason, message string
}

// fieldWay is a field with what decides its way.
type fieldWay struct {
	codec.Field
	text  bool // takes JSON strings
	whole bool // takes whole numbers
}

// branch is one object of the fields' paths, or one list of which items are wanted.
type branch struct {
	d       *decoder
	members []jsonMember   // of an object; of a list the items that are wanted
	index   map[string]int // by name; of a list by number
	visit   func(*jx.Decoder, []byte) error

	first *jsonMember            // is expected to come first; nil where nothing is
	past  map[string]*jsonMember // that nobody wants, by name
}

// jsonMember is a value within an object or list: of one field mostly, or of several, which may read it
// differently; an object or a list within which there are fields; or several of these at once.
type jsonMember struct {
	name   string
	fields []int
	object *branch
	list   *branch
	event  int // the line that had it last

	way    way
	parse  codec.Parse
	col    *row.Column // of its first field, in the batch at hand
	next   *jsonMember // is expected after it; nil where nothing is
	quoted string      // the name in quotes, with its colon

	lowName, highName, low, high uint64 // that as two words, and which of their bits count
}

// NewDecoder makes a decoder of JSON objects.
func NewDecoder(fields codec.Fields) engine.Decoder {
	d := &decoder{dec: jx.DecodeBytes(nil)}
	d.root = d.newBranch()
	for i, f := range fields {
		whole := f.Kind == row.Int || f.Kind == row.Timestamp && f.Parse.Epochs()
		d.fields = append(d.fields, fieldWay{Field: f, whole: whole, text: !whole && f.Kind != row.Double && f.Kind != row.Bool && f.Kind.Plain()})
		at := f.At
		if len(at) == 0 {
			at = member.Of(f.Name)
		}
		m := d.root.at(at)
		m.fields, m.parse = append(m.fields, i), f.Parse
		m.way = wayOf(&f, whole)
	}
	d.collect(d.root)
	return d
}

func (d *decoder) newBranch() *branch {
	b := &branch{d: d, index: map[string]int{}, past: map[string]*jsonMember{}}
	b.visit = b.field
	return b
}

// at gives the member that a path leads to.
func (b *branch) at(p member.Path) *jsonMember {
	for ; ; p = p[1:] {
		name := p[0].Name
		if p[0].Item {
			name = strconv.Itoa(p[0].Number)
		}
		k, ok := b.index[name]
		if !ok {
			k = len(b.members)
			b.index[name] = k
			b.members = append(b.members, jsonMember{name: name})
		}
		m := &b.members[k]
		if len(p) == 1 {
			return m
		}
		within := &m.object
		if p[1].Item {
			within = &m.list
		}
		if *within == nil {
			*within = b.d.newBranch()
		}
		b = *within
	}
}

// collect gathers the members with a field, and says how each is read.
func (d *decoder) collect(b *branch) {
	for i := range b.members {
		m := &b.members[i]
		m.learn()
		if len(m.fields) > 0 {
			d.members = append(d.members, m)
		}
		switch {
		case m.list != nil, len(m.fields) > 1, len(m.fields) > 0 && m.object != nil:
			m.way = longWay
		case m.object != nil:
			m.way = objectWay
		}
		for _, within := range []*branch{m.object, m.list} {
			if within != nil {
				d.collect(within)
			}
		}
	}
}

func (d *decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	before := len(rejects)
	d.strict = false
	rejects = d.decode(c, b, rejects)
	for i := range d.fields {
		if d.fields[i].Kind == row.String && !allUTF8(b.Cols[i], b.N) {
			b.Reset()
			d.strict = true
			return d.decode(c, b, rejects[:before])
		}
	}
	return rejects
}

// allUTF8 checks the texts of a whole column at once: their bytes together, and that none begins
// within a character.
func allUTF8(c *row.Column, n int) bool {
	if !utf8.Valid(c.Data) {
		return false
	}
	for i := range n {
		if at := c.Off[i]; at < c.Off[i+1] && !utf8.RuneStart(c.Data[at]) {
			return false
		}
	}
	return true
}

func (d *decoder) decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	d.batch = b
	for _, m := range d.members {
		m.col = b.Cols[m.fields[0]]
	}
	for i := range c.Starts {
		d.line = c.Raw[c.Starts[i]:c.Ends[i]]
		d.row, d.seen, d.faults = b.N, 0, d.faults[:0]
		d.event++
		var err error
		if d.strict || !d.short() {
			codec.CutBack(b, len(d.fields))
			d.seen = 0
			d.event++
			err = d.object()
		}
		if err != nil {
			d.faults = append(d.faults[:0], fieldFault{reason: step.Malformed, message: "no JSON object: " + cause(err)})
		} else if d.seen < len(d.fields) && len(d.faults) == 0 {
			d.fillMissing()
		}
		if len(d.faults) > 0 {
			codec.CutBack(b, len(d.fields))
			rejects = append(rejects, step.Reject{Index: uint16(i), Row: -1, Reason: d.faults[0].reason, Message: d.faults[0].message})
			continue
		}
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}

var errAfter = errors.New("more text after the object")

func (d *decoder) object() error {
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

func (d *decoder) fillMissing() {
	for i := range d.fields {
		c := d.batch.Cols[i]
		if c.Len() == d.row && !d.fields[i].Missing(c) {
			d.refuse(i, step.Missing, fmt.Sprintf("field %s is missing or null, and has no default", d.fields[i].Name))
			return
		}
	}
}

// refuse notes what is wrong with a field; the member may stand once more, and count then.
func (d *decoder) refuse(field int, reason, message string) {
	d.faults = append(d.faults, fieldFault{field, reason, message})
}

// field takes one member of an object.
func (b *branch) field(dec *jx.Decoder, key []byte) error {
	k, ok := b.index[string(key)]
	if !ok {
		return dec.Skip()
	}
	return b.value(dec, &b.members[k])
}

// value takes any value of a member.
func (b *branch) value(dec *jx.Decoder, m *jsonMember) error {
	d := b.d
	if len(m.fields) == 1 && m.object == nil && m.list == nil {
		return d.take(dec, m.fields[0])
	}
	if m.event == d.event { // it stands twice: the last one counts, for all that lies within it
		d.forget(m)
	}
	m.event = d.event
	raw, err := dec.Raw()
	if err != nil {
		return err
	}
	again := func(f func(*jx.Decoder) error) {
		if err == nil {
			err = f(d.within(raw))
			d.depth--
		}
	}
	for _, i := range m.fields {
		again(func(dec *jx.Decoder) error { return d.take(dec, i) })
	}
	switch t := jx.DecodeBytes(raw).Next(); {
	case t == jx.Object && m.object != nil:
		again(func(dec *jx.Decoder) error { return dec.ObjBytes(m.object.visit) })
	case t == jx.Array && m.list != nil:
		again(m.list.items)
	}
	return err
}

// within gives a decoder of its own for a value that is read once more; depth counts those in use.
func (d *decoder) within(raw []byte) *jx.Decoder {
	if d.depth == len(d.inner) {
		d.inner = append(d.inner, jx.DecodeBytes(nil))
	}
	d.depth++
	dec := d.inner[d.depth-1]
	dec.ResetBytes(raw)
	return dec
}

// items takes the items of a list that are wanted.
func (b *branch) items(dec *jx.Decoder) error {
	n := 0
	return dec.Arr(func(dec *jx.Decoder) error {
		k, ok := b.index[strconv.Itoa(n)]
		if n++; !ok {
			return dec.Skip()
		}
		return b.value(dec, &b.members[k])
	})
}

// forget takes back what a member and all within it gave to this row.
func (d *decoder) forget(m *jsonMember) {
	for _, i := range m.fields {
		d.takeBack(i)
	}
	for _, within := range []*branch{m.object, m.list} {
		if within != nil {
			for i := range within.members {
				d.forget(&within.members[i])
			}
		}
	}
}

func (d *decoder) takeBack(field int) {
	if len(d.faults) > 0 {
		d.faults = slices.DeleteFunc(d.faults, func(f fieldFault) bool { return f.field == field })
	}
	if c := d.batch.Cols[field]; c.Len() > d.row {
		c.Truncate(d.row)
		d.seen--
	}
}

// take appends a value to a field's column, or notes the fault and passes over it.
func (d *decoder) take(dec *jx.Decoder, field int) error {
	f, c := &d.fields[field], d.batch.Cols[field]
	d.takeBack(field) // a name that stands twice: the last one counts
	switch t := dec.Next(); {
	case t == jx.Null:
		return dec.Null() // like missing
	case t == jx.String && f.text:
		s, err := dec.StrBytes()
		if err != nil {
			return err
		}
		if d.strict && !utf8.Valid(s) {
			d.refuse(field, step.Malformed, fmt.Sprintf("field %s is not UTF-8", f.Name))
			return nil
		}
		if f.Kind == row.String {
			c.AppendBytes(s)
		} else if !f.Set(c, s) {
			d.refuse(field, step.WrongType, codec.WrongType(&f.Field, strconv.Quote(string(s))))
			return nil
		}
	case t == jx.Number && f.Kind == row.Decimal, !f.Kind.Plain() && (t == jx.Array || t == jx.Object):
		raw, err := dec.Raw()
		if err != nil {
			return err
		}
		if !utf8.Valid(raw) {
			d.refuse(field, step.Malformed, fmt.Sprintf("field %s is not UTF-8", f.Name))
			return nil
		}
		if !f.Set(c, raw) {
			d.refuse(field, step.WrongType, codec.WrongType(&f.Field, string(raw)))
			return nil
		}
	case t == jx.Number && (f.Kind == row.Double || f.whole):
		return d.number(dec, field)
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
		d.refuse(field, step.WrongType, codec.WrongType(&f.Field, string(raw)))
		return nil
	}
	d.seen++
	return nil
}

// number reads a number by its text; the library checks its grammar.
func (d *decoder) number(dec *jx.Decoder, field int) error {
	f, c := &d.fields[field], d.batch.Cols[field]
	text, err := dec.Num()
	if err != nil {
		return err
	}
	if f.Kind == row.Double {
		v, err := strconv.ParseFloat(unsafe.String(unsafe.SliceData(text), len(text)), 64)
		if err != nil || v-v != 0 {
			d.refuse(field, step.WrongType, codec.WrongType(&f.Field, string(text)))
			return nil
		}
		c.AppendDouble(v)
		d.seen++
		return nil
	}
	read := codec.WholeNumber
	if f.Kind == row.Timestamp {
		read = f.Parse.EpochText
	}
	v, ok := read(string(text))
	if !ok {
		d.refuse(field, step.WrongType, codec.WrongType(&f.Field, string(text)))
		return nil
	}
	c.AppendInt(v)
	d.seen++
	return nil
}
