package job

import (
	"undertide/core/row"
	"undertide/core/step"
)

func (b *builder) absent(n *node, place string, in input, s *Step) {
	d := &step.Absent{Keys: step.Spec{Input: in.schema, KeepNull: b.nullKey(n, place)}}
	d.Keys.Key = b.keys(n.get("key"), place+".key", in)
	v := n.get("absent")
	if x, ok := b.duration(v, place+".absent", false); ok {
		d.After = x
	}
	s.Does = append(s.Does, "a row when a key has had none for "+row.DurationText(d.After))
	b.needTime(v, place+".absent", "absent", in)
	d.Schema = append(d.Keys.KeySchema(), row.Field{Name: "last_seen", Kind: row.Timestamp})
	if d.Keys.KeySchema().Index("last_seen") >= 0 {
		b.fault(n.get("key"), place+".key", "last_seen is the field that absent adds", "rename the key by set before")
	}
	s.windowed = false
	s.Keyed, s.Schema = d, d.Schema
}
