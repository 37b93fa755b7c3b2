package job

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
)

// Alarm is a condition over the figures of a job: when it has held for a while, somebody should know (docs/alarms.md). Immutable.
type Alarm struct {
	Name, About string
	// When asks about the figures of the job, in the order of [Job.Figures]; nil for one that is switched off.
	When   *expr.Program
	For    time.Duration
	Notify []string // names of notices
}

// Usual is an alarm that every job has, unless it is changed or switched off.
type Usual struct {
	Name, When, About string
	For               time.Duration
}

// UsualAlarms are those, by what matters most.
var UsualAlarms = []Usual{
	{"failed", "failed > 0", "the run has failed and is not started again", 0},
	{"restarts", "restarts_lately >= 3", "the run was started again three times in ten minutes", 0},
	{"no_checkpoint", "checkpoint_age_seconds > 3 * checkpoint_every_seconds || checkpoints_failed_running >= 2", "there was no checkpoint for three intervals, or two failed in a row", 10 * time.Second},
	{"unread_deleted", "retention_left_seconds < 10800", "the oldest unread event will be deleted within three hours", time.Minute},
	{"lag_grows", "lag_growing > 0", "the lag has grown for 15 minutes", 15 * time.Minute},
	{"rejects", "rejected_ratio > 0.05", "more than 5 % of 1,000 rows were rejected, null keys among them", 0},
	{"skew", "skew > 3", "a lane gets more than three times the rows of the mean", 5 * time.Minute},
	{"memory", "memory_ratio > 0.8", "state takes more than 80 % of the memory that it may", time.Minute},
	{"cpu", "cpu_ratio > 0.8", "the run takes more than 80 % of the machine's CPUs", 15 * time.Minute},
	{"stale_reference", "refreshes_missed >= 3", "a reference is older than three of its refreshes", 0},
}

// AlarmOf makes an alarm for all jobs of its text; the error says what is wrong with it, and what would be right.
func AlarmOf(name, when, about string, lasting time.Duration, notify []string) (Alarm, error) {
	a := Alarm{Name: name, About: about, For: lasting, Notify: notify}
	fields := figureFields(OfJob)
	p, faults := expr.Compile(when, expr.Scope{Fields: fields})
	for _, f := range faults {
		fix := f.Remedy
		if f.Name != "" {
			fix = "ask about figures of jobs as a whole: " + strings.Join(fields.Names(), ", ")
			if near := Nearest(f.Name, fields.Names()); near != "" {
				fix = "did you mean " + near + "?"
			}
		}
		return a, fmt.Errorf("%s; %s", f.Message, fix)
	}
	if p.Kind() != row.Bool {
		return a, fmt.Errorf("a condition is a bool, and this is %s; compare it with something, as in lag_seconds > 60", row.A(p.Kind()))
	}
	a.When = p
	return a, nil
}

// figureFields declares figures for expressions: doubles, null where they are not known.
func figureFields(list []Figure) row.Schema {
	var s row.Schema
	for _, f := range list {
		s = append(s, row.Field{Name: f.Name, Kind: row.Double})
	}
	return s
}

const (
	usualFor  = time.Minute // an alarm of a document holds so long before it is on
	maxAlarms = 100
)

// readAlarms reads the alarms of the document, once its parts are known.
func (b *builder) readAlarms() {
	n := b.doc.get("alarms")
	if n == nil || len(b.faults) > 0 { // of parts that have faults not all figures are known
		return
	}
	if n.kind != mapNode {
		b.fault(n, "alarms", fmt.Sprintf("%s stands where alarms belong", n.kind), `write alarms: {behind: {when: "lag_seconds > 60", for: 5m}}`)
		return
	}
	if len(n.keys) > maxAlarms {
		b.fault(n, "alarms", fmt.Sprintf("%d alarms are more than the %d that a job may have", len(n.keys), maxAlarms), "put conditions together with ||")
		return
	}
	fields := figureFields(b.job.Figures())
	for i, k := range n.keys {
		place, v := join("alarms", k.text), n.values[i]
		if !b.checkName(k, place) || !b.mapping(v, place, fieldSpec{known: []string{"when", "for", "notify", "about", "off"}}) {
			continue
		}
		b.job.Alarms = append(b.job.Alarms, b.alarm(k, v, place, fields))
	}
}

func (b *builder) alarm(k, v *node, place string, fields row.Schema) Alarm {
	a := Alarm{Name: k.text, For: usualFor}
	usual := slices.IndexFunc(UsualAlarms, func(u Usual) bool { return u.Name == k.text })
	if usual >= 0 {
		a.For, a.About = UsualAlarms[usual].For, UsualAlarms[usual].About
	}
	if about := v.get("about"); about != nil {
		a.About, _ = b.text(about, place+".about")
	}
	if d := v.get("for"); d != nil {
		a.For, _ = b.duration(d, place+".for", true)
	}
	if l := v.get("notify"); l != nil {
		a.Notify = b.noticeNames(l, place+".notify")
	}
	if off := v.get("off"); off != nil && b.boolean(off, place+".off") {
		if v.get("when") != nil {
			b.fault(off, place+".off", "an alarm that is off has no use for a condition", "leave out one of them")
		}
		if usual < 0 {
			b.fault(k, place, "there is no usual alarm of this name to switch off", b.didYouMean(k.text, usualNames()))
		}
		return a
	}
	when := v.get("when")
	switch {
	case when != nil:
		now := *when
		now.text = presentNames(when.text)
		a.When = b.expression(&now, place+".when", expr.Scope{Fields: fields, Values: b.job.Values})
		b.wantBool(&now, place+".when", a.When)
	case usual >= 0:
		of, err := AlarmOf(a.Name, UsualAlarms[usual].When, a.About, a.For, a.Notify)
		if err == nil { // a test keeps the usual ones right
			a.When = of.When
		}
	default:
		b.fault(v, place, "when is missing: the condition over figures", `write when: "lag_seconds > 60"; docs/figures.md lists the figures`)
	}
	return a
}

var (
	dottedNames  = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_.]*`)
	earlierNames = regexp.MustCompile(`^(|.*\.)(busy|blocked|held_up|writing|delivering|busiest|lost|late|rejected|memory|cpu)_share$`)
)

// presentNames writes figures by the names that they have now. In documents that were saved before 2026-12 a part of a whole may
// end with _share; a value or step of the document's own that does is left as it is. Both ends are six letters long, so that places
// in the text stay right.
func presentNames(condition string) string {
	return dottedNames.ReplaceAllStringFunc(condition, func(name string) string {
		if strings.HasPrefix(name, "values.") {
			return name
		}
		return earlierNames.ReplaceAllString(name, "${1}${2}_ratio")
	})
}

func usualNames() (names []string) {
	for _, u := range UsualAlarms {
		names = append(names, u.Name)
	}
	return names
}

// noticeNames reads who is told: one name, or a list.
func (b *builder) noticeNames(l *node, place string) (names []string) {
	list := []*node{l}
	if l.kind == listNode {
		list = l.values
	}
	for _, n := range list {
		if text, ok := b.text(n, place); ok && !slices.Contains(names, text) {
			names = append(names, text)
		}
	}
	return names
}
