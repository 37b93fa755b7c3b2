package job

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones on every machine

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

// split builds a split.
func (b *builder) split(n *node, place string, in input, s *Step) {
	d := &step.Split{FirstOnly: b.boolean(n.get("first_only"), place+".first_only")}
	if d.FirstOnly {
		s.Does = append(s.Does, "to the first part that fits")
	}
	parts := n.get("split")
	place += ".split"
	if parts.kind != mapNode || len(parts.keys) == 0 {
		b.fault(parts, place, fmt.Sprintf("%s stands where parts belong", parts.kind), "write split: {good: code == 200, bad: code >= 400}")
		return
	}
	for i, k := range parts.keys {
		p := join(place, k.text)
		if !b.checkName(k, p) {
			continue
		}
		prog := b.expression(parts.values[i], p, expr.Scope{Fields: in.schema, Values: b.job.Values})
		b.wantBool(parts.values[i], p, prog)
		if prog == nil || prog.Kind() != row.Bool {
			continue
		}
		d.Names, d.Parts = append(d.Names, k.text), append(d.Parts, prog)
		s.Does = append(s.Does, k.text+" when "+prog.Text())
	}
	if len(d.Names) > 200 {
		b.fault(parts, place, "a split has at most 200 parts", "split again in a second step")
		return
	}
	if len(d.Names) == len(parts.keys) {
		s.Split, s.Schema = d, in.schema
	}
}

// expand builds an expand: the element takes the place of a field of its name, or stands last.
func (b *builder) expand(n *node, place string, in input, s *Step) {
	e := n.get("expand")
	place += ".expand"
	if e.kind != mapNode || len(e.keys) != 1 {
		b.fault(e, place, "an expand makes one field", "write expand: {item: items}")
		return
	}
	k := e.keys[0]
	p := join(place, k.text)
	if !b.checkField(k, p, k.text) {
		return
	}
	prog := b.expression(e.values[0], p, expr.Scope{Fields: in.schema, Values: b.job.Values})
	if prog == nil {
		return
	}
	if !prog.Kind().IsList() && !prog.Kind().IsCommon() {
		b.fault(e.values[0], p, fmt.Sprintf("an expand takes a list, and this is a %s", prog.Kind()), "name a field of type list<T>")
		return
	}
	d := &step.Expand{List: prog, Replaces: in.schema.Index(k.text), Schema: slices.Clone(in.schema)}
	f := row.Field{Name: k.text, Kind: prog.Kind().Elem()}
	if d.Replaces >= 0 {
		d.Schema[d.Replaces] = f
	} else {
		d.Schema = append(d.Schema, f)
	}
	s.Does = append(s.Does, "a row with "+k.text+" for each element of "+prog.Text())
	s.Expand, s.Schema = d, d.Schema
}

// keys reads the names of a key, for the spec of a keyed step.
func (b *builder) keys(n *node, place string, in input) (key []int) {
	names, at := b.names(n, place)
	for i, name := range names {
		c := in.schema.Index(name)
		switch {
		case c < 0 || in.schema[c].Hidden:
			b.fault(at[i], place, "there is no field "+name, didYouMean(name, in.schema.Names()))
		case !in.schema[c].Kind.Plain():
			b.fault(at[i], place, fmt.Sprintf("%s is a %s, which is no key", name, in.schema[c].Kind), "take a field of a plain type")
		default:
			key = append(key, c)
		}
	}
	return key
}

// nullKey reads null_key.
func (b *builder) nullKey(n *node, place string) bool {
	v := n.get("null_key")
	return v != nil && b.choice(v, place+".null_key", []string{"keep", "reject"}, nil) == "keep"
}

// needTime reports a step that needs event times and gets none.
func (b *builder) needTime(n *node, place, what string, in input) bool {
	if !in.timed {
		b.fault(n, place, what+" needs an event time, and the rows of "+in.text+" have none", "add event_time and watermark to the source")
	}
	return in.timed
}

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

func (b *builder) remember(k, n *node, place string, in input, s *Step) {
	d := &step.Remember{Keys: step.Spec{Input: in.schema, KeepNull: b.nullKey(n, place)}}
	d.Keys.Key = b.keys(n.get("key"), place+".key", in)
	if f := n.get("forget"); f == nil {
		b.fault(k, place+".forget", "the values are kept without a bound", "add forget: 1h, the time without rows after which a key starts anew")
	} else if x, ok := b.duration(f, place+".forget", false); ok {
		d.Forget = x
	}
	if o := n.get("order"); o != nil {
		d.Arrival = b.choice(o, place+".order", []string{"time", "arrival"}, nil) == "arrival"
	}
	v := n.get("remember")
	p := place + ".remember"
	b.needTime(v, p, "remember", in)
	if v.kind != mapNode || len(v.keys) == 0 {
		b.fault(v, p, fmt.Sprintf("%s stands where values to remember belong", v.kind), "write remember: {last_tonnes: {initial: 0.0, next: tonnes}}")
		return
	}
	var locals row.Schema
	var nexts []*node
	for i, name := range v.keys {
		p := join(p, name.text)
		if !b.checkField(name, p, name.text) || !b.mapping(v.values[i], p, fieldSpec{known: []string{"initial", "next"}}) {
			continue
		}
		if in.schema.Index(name.text) >= 0 {
			b.fault(name, p, name.text+" is already a field of the row", "choose another name for what is remembered")
			continue
		}
		initial, next := v.values[i].get("initial"), v.values[i].get("next")
		if initial == nil || next == nil {
			b.fault(name, p, "initial and next are needed", "write {initial: 0.0, next: tonnes}")
			continue
		}
		// A null to begin with takes the type of what follows.
		scope := expr.Scope{Values: b.job.Values}
		var prog *expr.Program
		if strings.TrimSpace(initial.text) == "null" || initial.kind == nullNode {
			if typed := b.quietly(next, expr.Scope{Fields: in.schema, Values: b.job.Values}); typed != nil {
				prog = expr.NullProgram(typed.Kind())
			} else {
				b.fault(initial, p+".initial", "null has no type here, since next uses what is remembered", "begin with a value, such as timestamp('1970-01-01T00:00:00Z')")
			}
		} else {
			prog = b.expression(initial, p+".initial", scope)
		}
		if prog == nil {
			continue
		}
		locals = append(locals, row.Field{Name: name.text, Kind: prog.Kind()})
		d.Names, d.Initial, nexts = append(d.Names, name.text), append(d.Initial, prog), append(nexts, next)
	}
	scope := expr.Scope{Fields: in.schema, Values: b.job.Values, Locals: locals}
	for i, next := range nexts {
		p := join(p, d.Names[i]) + ".next"
		prog := b.expression(next, p, scope)
		if prog != nil && prog.Kind() != d.Initial[i].Kind() {
			b.fault(next, p, fmt.Sprintf("next is a %s, and initial a %s", prog.Kind(), d.Initial[i].Kind()), "give both one type")
		}
		b.warnGrowth(next, p, d.Names[i], prog)
		if slices.ContainsFunc(expr.Names(next.text), func(u string) bool { return in.schema.Index(u) >= 0 }) {
			b.warnOverlap(next, p, in, prog, "remember")
		}
		if prog != nil {
			s.Does = append(s.Does, "remember "+d.Names[i]+": "+d.Initial[i].Text()+", then "+prog.Text())
		}
		d.Next = append(d.Next, prog)
	}
	if w := n.get("where"); w != nil {
		d.Where = b.expression(w, place+".where", scope)
		b.wantBool(w, place+".where", d.Where)
		s.Does = append(s.Does, "where "+w.text)
	}
	d.Schema = slices.Clone(in.schema)
	for i := range in.schema {
		d.Output = append(d.Output, i)
	}
	b.rememberSets(n.get("set"), place+".set", in, d, s, scope)
	s.windowed = false
	s.Keyed, s.Schema = d, d.Schema
}

// rememberSets adds the fields of set, each of which sees those before it.
func (b *builder) rememberSets(n *node, place string, in input, d *step.Remember, s *Step, scope expr.Scope) {
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, place, fmt.Sprintf("%s stands where a mapping belongs", n.kind), "write set: {name: expression}")
		return
	}
	for i, k := range n.keys {
		p := join(place, k.text)
		if !b.checkField(k, p, k.text) {
			continue
		}
		if scope.Locals.Index(k.text) >= 0 {
			b.fault(k, p, k.text+" is a name of what is remembered", "give the field a name of its own")
			continue
		}
		prog := b.expression(n.values[i], p, scope)
		if prog == nil {
			continue
		}
		f := row.Field{Name: k.text, Kind: prog.Kind()}
		at := len(in.schema) + len(d.Sets)
		d.Sets = append(d.Sets, prog)
		s.Does = append(s.Does, "set "+k.text+" = "+prog.Text())
		if c := d.Schema.Index(k.text); c >= 0 {
			d.Schema[c], d.Output[c] = f, at
			scope.Locals = append(scope.Locals, row.Field{}) // the field keeps its old value in expressions
		} else {
			d.Schema, d.Output = append(d.Schema, f), append(d.Output, at)
			scope.Locals = append(scope.Locals, f)
		}
	}
}

// quietly compiles an expression without reporting its faults.
func (b *builder) quietly(n *node, scope expr.Scope) *expr.Program {
	if n.kind != scalarNode {
		return nil
	}
	p, _ := expr.Compile(n.text, scope)
	return p
}

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

// windowKind reads `window`.
func (b *builder) windowKind(n *node, place string, d *step.Window) {
	kinds := []string{"tumbling", "sliding", "session", "look_back"}
	may := map[string][]string{"tumbling": {"shift", "zone"}, "sliding": {"by", "shift", "zone"}, "session": {"longest"}, "look_back": nil}
	if !b.mapping(n, place, fieldSpec{known: append(slices.Clone(kinds), "by", "longest", "shift", "zone")}) {
		return
	}
	kind := ""
	for _, k := range kinds {
		if n.get(k) != nil && kind != "" {
			b.fault(n.get(k), join(place, k), kind+" and "+k+" are two kinds of window", "keep one of them")
			return
		} else if n.get(k) != nil {
			kind = k
		}
	}
	if kind == "" {
		b.fault(n, place, "the kind of window is missing", "write {tumbling: 15m}, {sliding: 10m, by: 5m}, {session: 90s} or {look_back: 10s}")
		return
	}
	for _, k := range n.keys {
		if k.text != kind && !slices.Contains(kinds, k.text) && !slices.Contains(may[kind], k.text) && slices.Contains([]string{"by", "longest", "shift", "zone"}, k.text) {
			b.fault(k, join(place, k.text), fmt.Sprintf("a %s window has no %s", strings.ReplaceAll(kind, "_", " "), k.text), "leave it out")
		}
	}
	switch kind {
	case "session":
		d.Session = &step.Session{}
		if x, ok := b.duration(n.get(kind), join(place, kind), false); ok {
			d.Session.Gap = x
		}
		if l := n.get("longest"); l != nil {
			if x, ok := b.duration(l, place+".longest", false); ok {
				if d.Session.Longest = x; x < d.Session.Gap {
					b.fault(l, place+".longest", fmt.Sprintf("a session of one row lasts %s, longer than %s", row.DurationText(d.Session.Gap), l.text), "give at least the gap")
				}
			}
		}
	case "look_back":
		if x, ok := b.duration(n.get(kind), join(place, kind), false); ok {
			d.LookBack = x
		}
	default:
		b.aligned(n, place, kind, d)
	}
}

// maxWindows bounds the windows over one row.
const maxWindows = 10_000

func (b *builder) aligned(n *node, place, kind string, d *step.Window) {
	size := n.get(kind)
	unit, count, ok := b.size(size, join(place, kind))
	w := &window.Aligned{Unit: unit, Size: count, By: count, Zone: time.UTC}
	d.Aligned = w
	if kind == "sliding" {
		by := n.get("by")
		if by == nil {
			b.fault(n, place+".by", "how far the window slides is not said", "add by: 5m")
			return
		}
		u, c, fine := b.size(by, place+".by")
		switch {
		case !ok || !fine:
			return
		case u != unit:
			b.fault(by, place+".by", fmt.Sprintf("%s and %s cannot be compared", size.text, by.text), "give both in days or weeks, both in months, quarters or years, or both as fixed lengths")
			return
		case c > count:
			b.fault(by, place+".by", fmt.Sprintf("windows of %s that start every %s leave rows out", size.text, by.text), "give at most "+size.text)
			return
		case count/c > maxWindows:
			b.fault(by, place+".by", fmt.Sprintf("%d windows would lie over each row; at most %d may", count/c, maxWindows), "give a greater by")
			return
		}
		w.By = c
	}
	if !ok {
		return
	}
	if z := n.get("zone"); z != nil {
		name, _ := b.text(z, place+".zone")
		loc, err := expr.Zone(name)
		switch {
		case err != nil:
			b.fault(z, place+".zone", err.Error(), "write an IANA name such as Europe/Lisbon")
		case unit == window.Micros:
			b.fault(z, place+".zone", "a fixed length follows no zone", "write a calendar size such as 1 day, or a shift")
		default:
			w.Zone = loc
		}
	}
	if v := n.get("shift"); v != nil {
		x, fine := b.duration(v, place+".shift", true)
		switch {
		case !fine:
		case unit != window.Micros:
			b.calendarShift(v, place+".shift", x, w)
		case x.Microseconds() >= w.By:
			b.fault(v, place+".shift", fmt.Sprintf("the shift %s is not shorter than the time between two starts", v.text), "give less")
		default:
			w.Shift = x.Microseconds()
		}
	}
	if unit == window.Days && w.By%7 == 0 && strings.Contains(b.unitOf(n, kind), "week") {
		w.Shift += 4 // 1970-01-05 was a Monday
	}
}

// calendarShift moves calendar windows by whole days, and by hours of the zone's clocks: a day of business from
// 06:00, a week from Tuesday, a month from the 5th.
func (b *builder) calendarShift(v *node, place string, x time.Duration, w *window.Aligned) {
	const day = 24 * time.Hour
	days := int64(x / day)
	switch {
	case x%time.Second != 0:
		b.fault(v, place, "calendar windows are shifted by whole seconds", "write a shift such as 6h")
	case w.Unit == window.Days && days >= w.By:
		b.fault(v, place, fmt.Sprintf("the shift %s is not shorter than the time between two starts", v.text), "give less")
	case w.Unit == window.Months && days > 27:
		b.fault(v, place, "not every month has so many days", "give at most 27d23h")
	case w.Unit == window.Days:
		w.Shift, w.Clock = days, int64(x%day/time.Second)
	default:
		w.MonthDay, w.Clock = days, int64(x%day/time.Second)
	}
}

// unitOf gives the unit that the windows start by.
func (b *builder) unitOf(n *node, kind string) string {
	if by := n.get("by"); by != nil && kind == "sliding" {
		return by.text
	}
	return n.get(kind).text
}

var calendarUnits = map[string]struct {
	unit  window.Unit
	count int64
}{"day": {window.Days, 1}, "week": {window.Days, 7}, "month": {window.Months, 1}, "quarter": {window.Months, 3}, "year": {window.Months, 12}}

// size reads a window's size: a fixed length, or a number of calendar units.
func (b *builder) size(n *node, place string) (window.Unit, int64, bool) {
	if f := strings.Fields(n.text); n.kind == scalarNode && len(f) == 2 {
		if u, ok := calendarUnits[strings.TrimSuffix(f[1], "s")]; ok {
			count, err := strconv.ParseInt(f[0], 10, 64)
			if err != nil || count < 1 || count > 10_000 {
				b.fault(n, place, fmt.Sprintf("%q is no number of %s", f[0], f[1]), "write 1 day, 2 weeks, 1 month")
				return 0, 0, false
			}
			return u.unit, count * u.count, true
		}
	}
	x, ok := b.duration(n, place, false)
	if ok {
		b.warnDays(n, place, x)
	}
	return window.Micros, x.Microseconds(), ok
}

// warnDays warns of fixed lengths that look like weeks, months, quarters or years: they begin anywhere in them.
func (b *builder) warnDays(n *node, place string, x time.Duration) {
	const day = 24 * time.Hour
	if x%day != 0 {
		return
	}
	days := int(x / day)
	calendar, begins := "", ""
	switch {
	case days >= 28 && days <= 31:
		calendar = "1 month"
	case days >= 89 && days <= 92:
		calendar = "1 quarter"
	case days >= 364 && days <= 366:
		calendar = "1 year"
	case days%7 == 0:
		if calendar = fmt.Sprintf("%d weeks", days/7); days == 7 {
			calendar = "1 week"
		}
		begins = ", which begins on a Thursday"
	default:
		return
	}
	b.warn(n, place, fmt.Sprintf("%dd is a fixed length%s; is a calendar size meant?", days, begins), "write "+calendar+" for the calendar's, in a zone")
}

func (b *builder) measures(n *node, place string, k *node, in input, d *step.Window, schema row.Schema, s *Step) (row.Schema, bool) {
	if n == nil {
		b.fault(k, place, "the step measures nothing", "add measures: {rows: count()}")
		return schema, true
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, place, fmt.Sprintf("%s stands where measures belong", n.kind), "write measures: {rows: count()}")
		return schema, true
	}
	faulty := false
	s.means = nil
	for i, k := range n.keys {
		p := join(place, k.text)
		v := n.values[i]
		if v.kind == nullNode && strings.ContainsAny(k.text, ")]'\"") {
			b.fault(k, place, fmt.Sprintf("%q stands where a name belongs: YAML has cut an unquoted expression at its comma", k.text), "put the expression before it in quotes")
			continue
		}
		if !b.checkField(k, p, k.text) {
			continue
		}
		if schema.Index(k.text) >= 0 || d.RevisionSchema().Index(k.text) >= 0 {
			b.fault(k, p, k.text+" is already a field of the row", "choose another name")
			continue
		}
		var prog *expr.Program
		if v.kind == mapNode {
			prog = b.fold(v, p, in, d)
		} else {
			prog = b.expression(v, p, expr.Scope{Fields: in.schema, Values: b.job.Values, Measure: true})
		}
		if prog == nil {
			faulty = true
			continue
		}
		spec := d.Spec()
		first := len(spec.Aggregates)
		for _, a := range prog.Aggregates {
			if in.overlap && a.Func == "sum" {
				b.warn(v, p, in.text+" publishes windows that overlap, and a sum over them takes rows several times", "sum what the windows read")
			}
			if f := in.meanIn(a.Arg); a.Func == "mean" && f != "" {
				b.warn(v, p, f+" is a mean, and a mean of means weighs windows of few rows like those of many", "publish sum and count, and divide their sums: sum(total) / double(sum(n))")
			}
			spec.Aggregates = append(spec.Aggregates, step.NewAggregate(a))
		}
		d.Measures = append(d.Measures, prog.Shift(first))
		s.Does = append(s.Does, k.text+" = "+prog.Text())
		schema = append(schema, row.Field{Name: k.text, Kind: prog.Kind()})
		if n := len(prog.Aggregates); n == 1 && prog.Aggregates[0].Func == "mean" {
			s.means = append(s.means, k.text)
		}
	}
	return schema, faulty
}

// meanIn names a field that an argument uses and that is a mean; empty for none.
func (in *input) meanIn(arg *expr.Program) string {
	if arg == nil {
		return ""
	}
	for _, name := range expr.Names(arg.Text()) {
		if slices.Contains(in.means, name) {
			return name
		}
	}
	return ""
}

// warnGrowth warns of a value that takes in each row and grows without end: so_far + [v].
func (b *builder) warnGrowth(n *node, place, name string, prog *expr.Program) {
	text := n.text
	if prog == nil || !prog.Kind().Text() || prog.Kind() == row.Decimal || strings.Contains(text, "size(") {
		return
	}
	if slices.Contains(expr.Names(text), name) && strings.Contains(text, "+") {
		b.warn(n, place, fmt.Sprintf("%s grows with each row, without end", name), fmt.Sprintf("bound it: size(%s) < 100 ? %s : %s", name, strings.TrimSpace(text), name))
	}
}

// warnOverlap warns of what adds up rows of windows that overlap, other than by sum.
func (b *builder) warnOverlap(n *node, place string, in input, prog *expr.Program, what string) {
	if in.overlap && prog != nil && strings.Contains(n.text, "+") && (prog.Kind() == row.Int || prog.Kind() == row.Double || prog.Kind() == row.Decimal) {
		b.warn(n, place, in.text+" publishes windows that overlap, and a "+what+" that adds their values up takes rows several times", "add up what the windows read")
	}
}

// fold reads a measure of the document's own.
func (b *builder) fold(n *node, place string, in input, d *step.Window) *expr.Program {
	if !b.mapping(n, place, fieldSpec{known: []string{"fold"}}) {
		return nil
	}
	f := n.get("fold")
	place += ".fold"
	if f == nil {
		b.fault(n, place, "a mapping that is no fold", "write an expression, or {fold: {initial: …, next: …, combine: …, result: …}}")
		return nil
	}
	if !b.mapping(f, place, fieldSpec{known: []string{"initial", "next", "combine", "result"}}) {
		return nil
	}
	out := &expr.Fold{}
	if i := f.get("initial"); i == nil || f.get("next") == nil {
		b.fault(f, place, "a fold needs initial and next", "write {initial: 0.0, next: so_far + x, combine: left + right}")
		return nil
	} else if out.InitialOf = b.expression(i, place+".initial", expr.Scope{Values: b.job.Values}); out.InitialOf == nil {
		return nil
	}
	kind := out.InitialOf.Kind()
	local := func(names ...string) (s row.Schema) {
		for _, n := range names {
			s = append(s, row.Field{Name: n, Kind: kind})
		}
		return s
	}
	want := func(n *node, p string, prog *expr.Program) {
		if prog != nil && prog.Kind() != kind {
			b.fault(n, p, fmt.Sprintf("this is a %s, and initial a %s", prog.Kind(), kind), "give both one type")
		}
	}
	for _, name := range []string{"so_far", "left", "right"} {
		if in.schema.Index(name) >= 0 {
			b.fault(f, place, name+" is a field of the row, and a name within a fold", "rename the field by set before")
			return nil
		}
	}
	out.NextOf = b.expression(f.get("next"), place+".next", expr.Scope{Fields: in.schema, Values: b.job.Values, Locals: local("so_far")})
	b.warnGrowth(f.get("next"), place+".next", "so_far", out.NextOf)
	if uses := expr.Names(f.get("next").text); slices.ContainsFunc(uses, func(u string) bool { return in.schema.Index(u) >= 0 }) {
		b.warnOverlap(f.get("next"), place+".next", in, out.NextOf, "fold")
	}
	want(f.get("next"), place+".next", out.NextOf)
	if c := f.get("combine"); c != nil {
		out.CombineOf = b.expression(c, place+".combine", expr.Scope{Values: b.job.Values, Locals: local("left", "right")})
		want(c, place+".combine", out.CombineOf)
	} else if d.Session != nil || d.LookBack > 0 || d.Aligned != nil && !d.Aligned.Tumbles() {
		b.fault(f, place+".combine", "windows of this kind are joined from parts, and the fold does not say how", "add combine: left + right")
	}
	result := kind
	if r := f.get("result"); r != nil {
		if out.ResultOf = b.expression(r, place+".result", expr.Scope{Values: b.job.Values, Locals: local("so_far")}); out.ResultOf == nil {
			return nil
		}
		result = out.ResultOf.Kind()
	}
	if out.NextOf == nil {
		return nil
	}
	return expr.MeasureOf(expr.Aggregate{Func: "fold", Kind: result, Fold: out}, "fold from "+out.InitialOf.Text()+" by "+out.NextOf.Text())
}
