package job

import (
	"fmt"

	"undertide/core/expr"
	"undertide/core/step"
)

func (b *builder) rank(n *node, place string, in input, s *Step) {
	v := n.get("rank")
	p := place + ".rank"
	if !b.mapping(v, p, fieldSpec{known: []string{"by", "keep", "per"}}) {
		return
	}
	d := &step.Rank{Keys: step.Spec{Input: in.schema, KeepNull: true}}
	if !in.windowed {
		b.fault(n.get("from"), place+".from", "rank takes the rows of a step with a window, and "+in.text+" is none", "rank what a window step publishes")
	}
	if by := v.get("by"); by == nil {
		b.fault(v, p+".by", "what is ranked by is not said", "add by: and a measure; the greatest comes first")
	} else if d.By = b.expression(by, p+".by", expr.Scope{Fields: in.schema, Values: b.job.Values}); d.By != nil {
		s.Does = append(s.Does, "by "+d.By.Text()+", the greatest first")
	}
	if k := v.get("keep"); k == nil {
		b.fault(v, p+".keep", "how many rows are kept is not said", "add keep: 3")
	} else if x, ok := b.whole(k, p+".keep", 1); ok {
		d.Keep = int(min(x, 1<<20))
		s.Does = append(s.Does, fmt.Sprintf("keep the first %d of each window", d.Keep))
	}
	if per := v.get("per"); per != nil {
		d.Keys.Key = b.keys(per, p+".per", in)
	} else if c := in.schema.Index("window_start"); c >= 0 {
		d.Keys.Key = []int{c}
	} else if in.windowed {
		b.fault(v, p+".per", "the rows have no window_start any more", "keep it, or name the fields of a group: per: [quay]")
	}
	s.Keyed, s.Schema = d, in.schema
}
