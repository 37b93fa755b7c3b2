package reference

import (
	"slices"

	"undertide/core/row"
)

// Joined is a reference whose rows have columns of another one: boxes with the ship that each is on. It keeps nothing: both
// are looked up in, one after the other, so that what is found is always of their newest versions.
type Joined struct {
	Base Finder
	// Of is looked up in by these fields of Base; Fields of it stand behind those of Base under the names of Fields.
	Of     Finder
	Match  []int
	Fields []int
	// Drop leaves out rows of Base that have none in Of; else their columns of it are null.
	Drop bool
	// All are the fields of both.
	All row.Schema
}

// Schema gives the fields of its rows.
func (j *Joined) Schema() row.Schema { return j.All }

// NewProbe makes what looks rows up in both.
func (j *Joined) NewProbe(fields []int) Probe {
	p := &joinedProbe{j: j, match: make([]*row.Column, len(j.Match)), cols: make([]*row.Column, len(fields)), from: make([]place, len(fields))}
	width := len(j.Base.Schema())
	var base, of []int
	add := func(list *[]int, field int) int {
		if at := slices.Index(*list, field); at >= 0 {
			return at
		}
		*list = append(*list, field)
		return len(*list) - 1
	}
	for _, m := range j.Match {
		p.matchAt = append(p.matchAt, add(&base, m))
	}
	for i, f := range fields {
		if f < width {
			p.from[i] = place{false, add(&base, f)}
		} else {
			p.from[i] = place{true, add(&of, j.Fields[f-width])}
		}
	}
	p.base, p.of = j.Base.NewProbe(base), j.Of.NewProbe(of)
	return p
}

// place is a column of the second reference's answer, or of the first's.
type place struct {
	second bool
	at     int
}

type joinedProbe struct {
	j        *Joined
	base, of Probe
	matchAt  []int // columns of base
	from     []place
	match    []*row.Column
	cols     []*row.Column
	sel      []uint16
}

// Look gives the columns of both answers.
func (p *joinedProbe) Look(match []*row.Column, n int, sel []uint16) ([]*row.Column, []bool) {
	first, found := p.base.Look(match, n, sel)
	for i, at := range p.matchAt {
		p.match[i] = first[at]
	}
	p.sel = p.sel[:0]
	for _, i := range sel {
		if found[i] {
			p.sel = append(p.sel, i)
		}
	}
	second, both := p.of.Look(p.match, n, p.sel)
	if p.j.Drop {
		for _, i := range sel {
			if found[i] && !both[i] {
				for _, c := range first {
					c.SetNull(int(i), true)
				}
			}
		}
		found = both
	}
	for i, f := range p.from {
		if f.second {
			p.cols[i] = second[f.at]
		} else {
			p.cols[i] = first[f.at]
		}
	}
	return p.cols, found
}
