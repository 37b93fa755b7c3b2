package job

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
)

// Simulation are the settings of a simulated source (docs/connectors.md, "simulate").
type Simulation struct {
	PerSecond float64
	Count     int64 // 0: without end
	Seed      uint64
	Start     row.Time // MinTime: the moment of the first run
	Fields    []Maker

	DisorderShare float64
	DisorderUpTo  time.Duration
	AgainShare    float64
	Quiet         Quiet
}

// Quiet silences the events whose field has a value, every so often for so long.
type Quiet struct {
	Field, Value string
	Every, For   time.Duration
	Backlog      bool // they come late instead of never
}

// Maker makes one field. Names that begin with _ serve expressions and are not written.
type Maker struct {
	Name string // dots make nested objects
	Kind row.Kind
	Make string // pick, between, normal, walk, wave, count_from, id, now, expr
	Pick []expr.Value
	// Numbers are the maker's own: skew; low, high; mean, deviation; from, step, low, high; low, high.
	Numbers []float64
	Period  time.Duration
	Expr    *expr.Program // over the makers before it
}

var simulateFields = fieldSpec{known: []string{"rate", "count", "seed", "fields", "disorder", "again", "quiet", "start"}}

func (b *builder) simulation(n *node, place string) Simulation {
	s := Simulation{Start: row.MinTime, Seed: 1}
	if !b.mapping(n, place, simulateFields) {
		return s
	}
	if v := n.get("rate"); v == nil {
		b.fault(n, place+".rate", "the rate is missing", "add rate: 200/s")
	} else if t, ok := b.text(v, place+".rate"); ok {
		num, _ := strings.CutSuffix(t, "/s")
		f, err := strconv.ParseFloat(num, 64)
		if err != nil || !(f > 0 && f <= 1e7) || num == t {
			b.fault(v, place+".rate", t+" is no rate", "write events a second, such as 200/s")
		}
		s.PerSecond = f
	}
	if v := n.get("count"); v != nil {
		s.Count, _ = b.whole(v, place+".count", 1)
	}
	if v := n.get("seed"); v != nil {
		seed, _ := b.whole(v, place+".seed", 0)
		s.Seed = uint64(seed)
	}
	if v := n.get("start"); v != nil {
		if t, ok := b.text(v, place+".start"); ok {
			at, err := ParseValue(row.Timestamp, t)
			if err != nil {
				b.fault(v, place+".start", err.Error(), "write a time such as 2026-01-01T00:00:00Z")
			}
			s.Start = row.Time(at.I)
		}
	}
	if v := n.get("disorder"); v != nil && b.mapping(v, place+".disorder", fieldSpec{known: []string{"share", "up_to"}}) {
		s.DisorderShare = b.share(v, place+".disorder")
		if u := v.get("up_to"); u == nil {
			b.fault(v, place+".disorder.up_to", "the greatest delay is missing", "add up_to: 20s")
		} else {
			s.DisorderUpTo, _ = b.duration(u, place+".disorder.up_to", false)
		}
	}
	if v := n.get("again"); v != nil && b.mapping(v, place+".again", fieldSpec{known: []string{"share"}}) {
		s.AgainShare = b.share(v, place+".again")
	}
	b.makers(n.get("fields"), place+".fields", n, &s)
	b.quiet(n.get("quiet"), place+".quiet", &s)
	return s
}

func (b *builder) share(n *node, place string) float64 {
	v := n.get("share")
	if v == nil {
		b.fault(n, place+".share", "the share is missing", "add share: 0.05")
		return 0
	}
	f, ok := b.double(v, place+".share")
	if ok && (f < 0 || f > 1) {
		b.fault(v, place+".share", v.text+" is no share", "give a number from 0 to 1")
	}
	return f
}

func (b *builder) quiet(n *node, place string, s *Simulation) {
	if n == nil || !b.mapping(n, place, fieldSpec{known: []string{"field", "value", "every", "for", "backlog"}}) {
		return
	}
	q := &s.Quiet
	for _, need := range []string{"field", "value", "every", "for"} {
		if n.get(need) == nil {
			b.fault(n, join(place, need), need+" is missing", "write quiet: {field: gauge, value: G3, every: 10m, for: 1m}")
			return
		}
	}
	q.Field, _ = b.text(n.get("field"), place+".field")
	q.Value, _ = b.text(n.get("value"), place+".value")
	q.Every, _ = b.duration(n.get("every"), place+".every", false)
	q.For, _ = b.duration(n.get("for"), place+".for", false)
	q.Backlog = b.boolean(n.get("backlog"), place+".backlog")
	if !slices.ContainsFunc(s.Fields, func(m Maker) bool { return m.Name == q.Field }) {
		names := make([]string, len(s.Fields))
		for i, m := range s.Fields {
			names[i] = m.Name
		}
		b.fault(n.get("field"), place+".field", "there is no field "+q.Field, didYouMean(q.Field, names))
	}
}

var makerFields = fieldSpec{known: []string{"pick", "skew", "between", "normal", "walk", "wave", "count_from", "id", "now", "expr"}}

func (b *builder) makers(n *node, place string, parent *node, s *Simulation) {
	if n == nil || n.kind != mapNode || len(n.keys) == 0 {
		b.fault(parent, place, "the simulated events have no fields", "add fields: {crane: {pick: [C1, C2]}}")
		return
	}
	for i, k := range n.keys {
		p := join(place, k.text)
		v := n.values[i]
		if !b.mapping(v, p, makerFields) {
			continue
		}
		m := Maker{Name: k.text}
		for _, key := range v.keys {
			if key.text != "skew" && slices.Contains(makerFields.known, key.text) {
				if m.Make != "" {
					b.fault(key, p, m.Make+" and "+key.text+" stand together", "a field is made in one way")
				}
				m.Make = key.text
			}
		}
		if m.Make == "" {
			b.fault(v, p, "the field is not said to be made in any way", "one of "+strings.Join(makerFields.known, ", "))
			continue
		}
		if b.maker(v, p, s, &m) {
			s.Fields = append(s.Fields, m)
		}
	}
}

func (b *builder) maker(v *node, place string, s *Simulation, m *Maker) bool {
	arg := v.get(m.Make)
	place = join(place, m.Make)
	switch m.Make {
	case "pick":
		m.Numbers = []float64{0}
		if k := v.get("skew"); k != nil {
			m.Numbers[0], _ = b.double(k, place)
		}
		if arg.kind != listNode || len(arg.values) == 0 {
			b.fault(arg, place, "a list of values belongs here", "write pick: [C1, C2]")
			return false
		}
		m.Kind = row.Int
		for _, x := range arg.values {
			if _, err := strconv.ParseInt(x.text, 10, 64); err != nil || x.quoted {
				m.Kind = row.String
			}
		}
		for _, x := range arg.values {
			val, err := ParseValue(m.Kind, x.text)
			if err != nil || x.kind != scalarNode {
				b.fault(x, place, "no value to pick", "write texts or whole numbers")
				return false
			}
			m.Pick = append(m.Pick, val)
		}
	case "between", "normal":
		m.Numbers = b.numbers(arg, place, 2)
		m.Kind = row.Double
		if m.Make == "between" && m.Numbers != nil {
			if !strings.Contains(arg.values[0].text+arg.values[1].text, ".") {
				m.Kind = row.Int
			}
			if m.Numbers[0] > m.Numbers[1] {
				b.fault(arg, place, "the first number is greater than the second", "give the lesser first")
			}
		}
		return m.Numbers != nil
	case "walk", "wave":
		names := []string{"from", "step", "low", "high"}
		if m.Make == "wave" {
			names = []string{"low", "high"}
		}
		m.Kind = row.Double
		if !b.mapping(arg, place, fieldSpec{known: append([]string{"period"}, names...)}) {
			return false
		}
		for _, name := range names {
			x := arg.get(name)
			if x == nil {
				b.fault(arg, join(place, name), name+" is missing", "give "+strings.Join(names, ", "))
				return false
			}
			f, _ := b.double(x, join(place, name))
			m.Numbers = append(m.Numbers, f)
		}
		if m.Make == "wave" {
			x := arg.get("period")
			if x == nil {
				b.fault(arg, place+".period", "period is missing", "add period: 12h24m")
				return false
			}
			m.Period, _ = b.duration(x, place+".period", false)
		}
	case "count_from":
		n, _ := b.whole(arg, place, -1<<53)
		m.Kind, m.Numbers = row.Int, []float64{float64(n)}
	case "id":
		m.Kind = row.String
	case "now":
		m.Kind = row.Timestamp
	case "expr":
		var scope expr.Scope
		for _, f := range s.Fields {
			scope.Fields = append(scope.Fields, row.Field{Name: f.Name, Kind: f.Kind})
		}
		scope.Values = b.job.Values
		if m.Expr = b.expression(arg, place, scope); m.Expr == nil {
			return false
		}
		m.Kind = m.Expr.Kind()
	}
	return true
}

func (b *builder) numbers(n *node, place string, count int) []float64 {
	if n.kind != listNode || len(n.values) != count {
		b.fault(n, place, fmt.Sprintf("a list of %d numbers belongs here", count), "write [1, 9]")
		return nil
	}
	var out []float64
	for _, v := range n.values {
		f, ok := b.double(v, place)
		if !ok {
			return nil
		}
		out = append(out, f)
	}
	return out
}
