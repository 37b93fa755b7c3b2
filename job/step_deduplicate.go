package job

import (
	"undertide/core/row"
	"undertide/core/step"
)

func (b *builder) deduplicate(n *node, place string, in input, s *Step) {
	v := n.get("deduplicate")
	p := place + ".deduplicate"
	if !b.mapping(v, p, fieldSpec{known: []string{"key", "within"}}) {
		return
	}
	d := &step.Deduplicate{Keys: step.Spec{Input: in.schema, KeepNull: b.nullKey(n, place)}}
	if k := v.get("key"); k == nil {
		b.fault(v, p+".key", "what makes two rows the same is not said", "add key: [id]")
	} else if d.Keys.Key = b.keys(k, p+".key", in); len(d.Keys.Key) == 0 && len(k.values) == 0 {
		b.fault(k, p+".key", "the key is empty: all rows but one would be repeats", "name the fields that make two rows the same")
	}
	if w := v.get("within"); w == nil {
		b.fault(v, p+".within", "how long a row is remembered is not said", "add within: 10m")
	} else if x, ok := b.duration(w, p+".within", false); ok {
		d.Within = x
	}
	s.Does = append(s.Does, "pass the first row of each key within "+row.DurationText(d.Within))
	b.needTime(v, p, "deduplicate", in)
	s.Keyed, s.Schema = d, in.schema
}
