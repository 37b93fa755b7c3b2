package look

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"undertide/connect"
	"undertide/core/row"
)

// timeForm is a way in which times are written.
type timeForm struct {
	parse  string // as documents say it
	layout string // of a pattern
	zoned  bool   // the text tells its zone
	doubt  string
}

func (f timeForm) read(v any) (row.Time, bool) {
	switch f.parse {
	case "epoch_s", "epoch_ms", "epoch_us", "epoch_ns":
		n, err := strconv.ParseInt(fmt.Sprint(v), 10, 64)
		if err != nil {
			return 0, false
		}
		switch f.parse {
		case "epoch_s":
			return row.Time(n * 1_000_000), true
		case "epoch_ms":
			return row.Time(n * 1000), true
		case "epoch_ns":
			return row.Time(n / 1000), true
		}
		return row.Time(n), true
	case "rfc3339":
		s, _ := v.(string)
		t, err := time.Parse(time.RFC3339Nano, s)
		return row.TimeOf(t), err == nil
	}
	s, _ := v.(string)
	t, err := time.ParseInLocation(f.layout, s, time.UTC)
	return row.TimeOf(t), err == nil
}

// Units of epochs, and the seconds that one of each is.
var epochUnits = []struct {
	parse string
	per   int64 // of them make a second
}{{"epoch_s", 1}, {"epoch_ms", 1000}, {"epoch_us", 1_000_000}, {"epoch_ns", 1_000_000_000}}

// Whole numbers are times of this span at most: from 1990 to 2100.
const plausibleFrom, plausibleTo = 631_152_000, 4_102_444_800

// epochForm gives the one unit by which all numbers lie within the plausible span; false for none.
func epochForm(f *FieldProfile) (timeForm, bool) {
	for _, u := range epochUnits {
		ok := true
		for text := range f.texts {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < plausibleFrom*u.per || n/u.per > plausibleTo {
				ok = false
				break
			}
		}
		if ok && len(f.texts) > 0 {
			return timeForm{parse: u.parse, zoned: true}, true
		}
	}
	return timeForm{}, false
}

// patterns of times that are tried, and what their texts look like. Where day and month can be told
// apart by no value, the first that fits is taken and the doubt said.
var patterns = []struct{ shape, parse string }{
	{`^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d$`, "%Y-%m-%d %H:%M:%S"},
	{`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d$`, "%Y-%m-%dT%H:%M:%S"},
	{`^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d[.,]\d+$`, "%Y-%m-%d %H:%M:%S.%f"},
	{`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d[.,]\d+$`, "%Y-%m-%dT%H:%M:%S.%f"},
	{`^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d [+-]\d{4}$`, "%Y-%m-%d %H:%M:%S %z"},
	{`^\d{4}/\d\d/\d\d \d\d:\d\d:\d\d$`, "%Y/%m/%d %H:%M:%S"},
	{`^\d\d/\d\d/\d{4} \d\d:\d\d:\d\d$`, "%d/%m/%Y %H:%M:%S"},
	{`^\d\d/\d\d/\d{4} \d\d:\d\d:\d\d$`, "%m/%d/%Y %H:%M:%S"},
	{`^\d\d\.\d\d\.\d{4} \d\d:\d\d:\d\d$`, "%d.%m.%Y %H:%M:%S"},
	{`^\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}$`, "%d/%b/%Y:%H:%M:%S %z"},
	{`^\d{14}$`, "%Y%m%d%H%M%S"},
	{`^\d{4}-\d\d-\d\d$`, "%Y-%m-%d"},
}

var shapes = func() (out []*regexp.Regexp) {
	for _, p := range patterns {
		out = append(out, regexp.MustCompile(p.shape))
	}
	return out
}()

// textForms gives the forms in which all texts of a field can be read as times.
func textForms(f *FieldProfile) (out []timeForm) {
	all := func(t timeForm) bool {
		for text := range f.texts {
			if _, ok := t.read(text); !ok {
				return false
			}
		}
		return len(f.texts) > 0
	}
	if t := (timeForm{parse: "rfc3339", zoned: true}); all(t) {
		return []timeForm{t}
	}
	for i, p := range patterns {
		fits := true
		for text := range f.texts {
			if !shapes[i].MatchString(text) {
				fits = false
				break
			}
		}
		layout, err := strftime.Layout(p.parse)
		if !fits || err != nil {
			continue
		}
		if t := (timeForm{parse: p.parse, layout: layout, zoned: strings.Contains(p.parse, "%z")}); all(t) {
			out = append(out, t)
		}
	}
	return out
}

var timeName = regexp.MustCompile(`(?i)(^|[._])(at|ts|time|timestamp|date|when|created|updated|occurred|sent|read|started|ended|epoch)([._]|$)|(At|Time|Timestamp|Date|_ts)$`)

// apart gives the median of a form's times less the stored times, and whether there are stored times.
func apart(f *FieldProfile, form timeForm, events []connect.Event) (time.Duration, bool) {
	var all []time.Duration
	for _, s := range f.seen {
		t, ok := form.read(s.v)
		if e := events[s.event]; ok && !e.Stored.IsZero() {
			all = append(all, time.Duration(t-row.TimeOf(e.Stored))*time.Microsecond)
		}
	}
	if len(all) == 0 {
		return 0, false
	}
	slices.Sort(all)
	return all[len(all)/2], true
}

// asTime judges whether a field holds times: its form, and what is not certain.
func asTime(f *FieldProfile, events []connect.Event) (form timeForm, doubts []string, ok bool) {
	near := 366 * 24 * time.Hour
	switch {
	case f.Values == 0:
		return form, nil, false
	case f.Kinds["whole"] == f.Values:
		if form, ok = epochForm(f); !ok {
			return form, nil, false
		}
		away, stored := apart(f, form, events)
		named := timeName.MatchString(f.Path)
		switch {
		case stored && away.Abs() < near && named:
		case stored && away.Abs() < near:
			doubts = append(doubts, fmt.Sprintf("taken for a time since as %s it lies %s the time it was stored; declare int if it is a number", form.parse, beside(away)))
		case named && stored:
			doubts = append(doubts, fmt.Sprintf("as %s it lies %s the time it was stored: old events, or another unit", form.parse, beside(away)))
		case named:
			doubts = append(doubts, fmt.Sprintf("as %s it lies between %s and %s", form.parse, moment(f, form, false), moment(f, form, true)))
		default:
			return form, nil, false
		}
		return form, doubts, true
	case f.Kinds["text"] == f.Values:
		forms := textForms(f)
		if len(forms) == 0 {
			return form, nil, false
		}
		form = forms[0]
		if len(forms) > 1 { // day and month, say: the nearer to the stored times
			best := time.Duration(-1)
			for _, c := range forms {
				if away, stored := apart(f, c, events); stored && (best < 0 || away.Abs() < best) {
					best, form = away.Abs(), c
				}
			}
			other := forms[1]
			if form == other {
				other = forms[0]
			}
			doubts = append(doubts, fmt.Sprintf("its days and months can be read both ways; %s was taken, and not %s", form.parse, other.parse))
		}
		if !form.zoned {
			doubts = append(doubts, zoneDoubt(f, form, events))
		}
		return form, doubts, true
	}
	return form, nil, false
}

func zoneDoubt(f *FieldProfile, form timeForm, events []connect.Event) string {
	text := "the text tells no zone, so UTC was taken"
	if away, stored := apart(f, form, events); stored {
		if quarter := away.Round(15 * time.Minute); quarter != 0 && quarter.Abs() <= 14*time.Hour && (away-quarter).Abs() < 5*time.Minute {
			return text + fmt.Sprintf(", by which it lies %s the time it was stored: another zone? add zone: and an IANA name", beside(away))
		} else if away.Abs() < 5*time.Minute {
			return text + ": it lies " + beside(away) + " the time it was stored; add zone: where its clock has another, which may change with the season"
		}
	}
	return text + "; add zone: and an IANA name where its clock has another"
}

// moment words the least or greatest time of a field.
func moment(f *FieldProfile, form timeForm, greatest bool) string {
	var out row.Time
	first := true
	for _, s := range f.seen {
		if t, ok := form.read(s.v); ok && (first || greatest && t > out || !greatest && t < out) {
			out, first = t, false
		}
	}
	return out.String()
}

// beside words how a time lies to another.
func beside(d time.Duration) string {
	switch {
	case d.Abs() < time.Second:
		return "within a second of"
	case d < 0:
		return span(-d) + " before"
	}
	return span(d) + " after"
}

// span words a duration in its greatest units.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 2*time.Minute:
		return strings.TrimSuffix(strconv.FormatFloat(d.Seconds(), 'f', 1, 64), ".0") + " s"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	case d < 2*366*24*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	return fmt.Sprintf("%d years", int(d.Hours()/24/365.25))
}
