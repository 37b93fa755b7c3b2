package job

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

// windowKind reads `window`.
func (b *builder) windowKind(n *node, place string, d *step.Window) {
	kinds := []string{"tumbling", "sliding", "session", "look_back"}
	may := map[string][]string{"tumbling": {"shift", "zone"}, "sliding": {"by", "shift", "zone"}, "session": {"longest"}, "look_back": nil}
	beside := []string{"by", "longest", "shift", "zone"}
	known := append(slices.Clone(kinds), beside...)
	const forms = "write {tumbling: 15m}, {sliding: 10m, by: 5m}, {session: 90s} or {look_back: 10s}"
	if n.kind == mapNode && !slices.ContainsFunc(kinds, func(k string) bool { return n.get(k) != nil }) {
		// One fault, not one for the name and another for the kind that is missing.
		if i := slices.IndexFunc(n.keys, func(k *node) bool { return !slices.Contains(known, k.text) }); i >= 0 {
			k, remedy := n.keys[i], forms
			if near := Nearest(k.text, kinds); near != "" {
				remedy = "did you mean " + near + "?"
			}
			b.fault(k, join(place, k.text), k.text+" is not a kind of window", remedy)
			return
		}
	}
	if !b.mapping(n, place, fieldSpec{known: known}) {
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
		b.fault(n, place, "the kind of window is missing", forms)
		return
	}
	for _, k := range n.keys {
		if k.text != kind && !slices.Contains(kinds, k.text) && !slices.Contains(may[kind], k.text) && slices.Contains(beside, k.text) {
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
		return b.filled(by.text)
	}
	return b.filled(n.get(kind).text)
}

var calendarUnits = map[string]struct {
	unit  window.Unit
	count int64
}{"day": {window.Days, 1}, "week": {window.Days, 7}, "month": {window.Months, 1}, "quarter": {window.Months, 3}, "year": {window.Months, 12}}

// size reads a window's size: a fixed length, or a number of calendar units.
func (b *builder) size(n *node, place string) (window.Unit, int64, bool) {
	if f := strings.Fields(b.filled(n.text)); n.kind == scalarNode && len(f) == 2 {
		if u, ok := calendarUnits[strings.TrimSuffix(f[1], "s")]; ok {
			count, err := strconv.ParseInt(f[0], 10, 64)
			if err != nil || count < 1 || count > 10_000 {
				b.fault(n, place, fmt.Sprintf("%q is not a number of %s", f[0], f[1]), "write 1 day, 2 weeks, 1 month")
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
