package job

import (
	"fmt"
	"strings"
	"time"

	"undertide/core/expr"
	"undertide/core/step"
)

// window builds a windowed step.
func (b *builder) window(k, n *node, place string, in input, s *Step) {
	spec := step.Spec{Input: in.schema, KeepNull: b.nullKey(n, place)}
	spec.Key = b.keys(n.get("key"), place+".key", in)
	d := step.NewWindow(spec)
	b.shape(n, place, in, d)
	schema := d.ResultSchema()
	for i, f := range schema {
		if schema[:i].Index(f.Name) >= 0 {
			b.fault(n.get("key"), place+".key", f.Name+" is a field that the window adds", "rename the key by set before")
		}
	}
	schema, faulty := b.measures(n.get("measures"), place+".measures", k, in, d, schema, s)
	if h := n.get("having"); h != nil && !faulty {
		d.Having = b.expression(h, place+".having", expr.Scope{Fields: schema, Values: b.job.Values})
		b.wantBool(h, place+".having", d.Having)
		s.Does = append(s.Does, "having "+h.text)
	}
	d.Schema = append(schema, d.RevisionSchema()...)
	s.Keyed, s.Schema = d, d.Schema
	s.Timed, s.windowed, s.several = d.Bounds(), d.Bounds() && d.LookBack == 0, d.Revisions()
	s.identity = nil
	for _, f := range d.ResultSchema() {
		s.identity = append(s.identity, f.Name)
	}
	if d.LookBack > 0 {
		s.identity = nil // a row for each row
	}
	s.overlap = d.Aligned != nil && !d.Aligned.Tumbles() || d.LookBack > 0
	var how []string
	for _, x := range []struct {
		is   bool
		name string
	}{{d.Accept > 0, "accept"}, {d.Revised, "revised"}, {d.RepeatEvery > 0, "repeat"}} {
		if x.is {
			how = append(how, x.name)
		}
	}
	s.how = strings.Join(how, ", ")
}

// shape reads what a windowed step says apart from its measures.
func (b *builder) shape(n *node, place string, in input, d *step.Window) {
	w := n.get("window")
	if w != nil {
		b.windowKind(w, place+".window", d)
		b.needTime(w, place+".window", "a window", in)
	}
	whole := w == nil
	if l := n.get("late"); l != nil {
		if b.mapping(l, place+".late", fieldSpec{known: []string{"accept"}}) {
			if a := l.get("accept"); a != nil {
				if x, ok := b.duration(a, place+".late.accept", true); ok {
					d.Accept = x
				}
			}
		}
		switch {
		case whole:
			b.fault(l, place+".late", "without a window no row is late", "leave it out")
		case d.LookBack > 0 && d.Accept > 0:
			b.fault(l, place+".late.accept", "a look back publishes each row once", "give the source a greater margin, and read late of the step")
		}
	}
	if p := n.get("publish"); p != nil {
		d.Revised = b.choice(p, place+".publish", []string{"settled", "revised"}, nil) == "revised"
		if d.Revised && d.LookBack > 0 {
			b.fault(p, place+".publish", "a look back publishes each row once", "leave it out")
		}
	}
	if d.Revised {
		d.Every = time.Second
	}
	if e := n.get("every"); e != nil {
		if !d.Revised {
			b.fault(e, place+".every", "every bounds the previews of revised rows", "add publish: revised, or leave it out")
		} else if x, ok := b.duration(e, place+".every", false); ok {
			d.Every = x
		}
	}
	if r := n.get("repeat"); r != nil && b.mapping(r, place+".repeat", fieldSpec{known: []string{"every", "keep"}}) {
		if d.LookBack > 0 {
			b.fault(r, place+".repeat", "a look back publishes each row once", "leave it out")
		}
		if e := r.get("every"); e == nil {
			b.fault(r, place+".repeat.every", "how often is not said", "add every: 10s")
		} else if x, ok := b.duration(e, place+".repeat.every", false); ok {
			d.RepeatEvery = x
		}
		if k := r.get("keep"); k != nil {
			if x, ok := b.duration(k, place+".repeat.keep", true); ok {
				d.RepeatKeep = x
			}
			if d.Aligned != nil && !d.Aligned.Tumbles() && d.RepeatKeep > d.Accept { // a row that is late for it would be in it
				b.fault(k, place+".repeat.keep", "windows that overlap share their rows, and one that takes no late rows any more is not kept as it was", fmt.Sprintf("give late: {accept: %s} too, or leave out keep", k.text))
			}
		}
	}
	if f := n.get("forget"); f != nil {
		if !whole {
			b.fault(f, place+".forget", "a key with a window is forgotten with its last window", "leave it out")
		} else if x, ok := b.duration(f, place+".forget", false); ok {
			d.Forget = x
			b.needTime(f, place+".forget", "forget", in)
		}
	}
	if whole && in.unbounded {
		switch {
		case len(d.Spec().Key) > 0 && d.Forget == 0:
			b.fault(n.get("key"), place+".forget", "without a window each key is kept for ever, and the input does not end", "add forget: 24h, or a window")
		case !d.Revised && d.RepeatEvery == 0:
			b.warn(n, place, "without a window a settled row comes at the end of the input, and this input does not end", "add publish: revised, or repeat: {every: 1m}")
		}
	}
}
