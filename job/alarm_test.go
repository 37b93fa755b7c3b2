package job

import (
	"strings"
	"testing"
	"time"

	"undertide/core/expr"
)

// TestUsualAlarms: their conditions are right, ask about figures that there are, and each of them is asked about in its place once.
func TestUsualAlarms(t *testing.T) {
	seen := map[string]bool{}
	for _, u := range UsualAlarms {
		a, err := AlarmOf(u.Name, u.When, u.About, u.For, nil)
		if err != nil || a.When == nil || seen[u.Name] || u.About == "" {
			t.Errorf("%s: %v", u.Name, err)
		}
		seen[u.Name] = true
	}
	if _, err := AlarmOf("x", "lag_secnds > 60", "", 0, nil); err == nil || !strings.Contains(err.Error(), "did you mean lag_seconds?") {
		t.Errorf("a figure that is not there: %v", err)
	}
	if _, err := AlarmOf("x", "lag_seconds", "", 0, nil); err == nil || !strings.Contains(err.Error(), "a condition is a bool") {
		t.Errorf("no condition: %v", err)
	}
	if _, err := AlarmOf("x", "steps.minute.lost_ratio > 0.1", "", 0, nil); err == nil {
		t.Error("a figure of a step, for all jobs")
	}
}

// TestAlarmsOfDocuments: what stands under alarms is read with what is usual, and each fault has its place and what would be right.
func TestAlarmsOfDocuments(t *testing.T) {
	read := func(alarms string) (*Job, error) {
		return Parse("a.yaml", `undertide: 1
job: mean-level
values: {most: {type: double, default: 60.0}}
sources:
  levels: {via: file, with: {path: levels.ndjson}, fields: {gauge: string, level_m: double, read_at: timestamp}, event_time: read_at, watermark: {margin: 5s}}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {mean_m: mean(level_m)}}
sinks:
  means: {from: minute, via: file, with: {path: means/}}
alarms: `+alarms+"\n", Options{})
	}
	j, err := read(`{behind: {when: "lag_seconds > values.most && steps.minute.lost_ratio > 0.01", for: 5m, about: late, notify: duty}, skew: {off: true}, lag_grows: {for: 0s, notify: [duty, night]}, cpu: {when: cpu_share > 0.5}}`)
	if err != nil {
		t.Fatal(err)
	}
	if len(j.Alarms) != 4 {
		t.Fatalf("%d alarms", len(j.Alarms))
	}
	for i, want := range []struct {
		name, when, about, notify string
		lasting                   time.Duration
	}{{"behind", "lag_seconds > values.most && steps.minute.lost_ratio > 0.01", "late", "duty", 5 * time.Minute}, {"skew", "", "a lane gets more than three times the rows of the mean", "", 5 * time.Minute},
		{"lag_grows", "lag_growing > 0", "the lag has grown for 15 minutes", "duty night", 0}, {"cpu", "cpu_ratio > 0.5", "the run takes more than 80 % of the machine's CPUs", "", 15 * time.Minute}} {
		a, when := j.Alarms[i], ""
		if a.When != nil {
			when = a.When.Text()
		}
		if a.Name != want.name || when != want.when || a.About != want.about || strings.Join(a.Notify, " ") != want.notify || a.For != want.lasting {
			t.Errorf("%+v (when %q), want %+v", a, when, want)
		}
	}
	for _, c := range []struct{ alarms, want string }{
		{`[behind]`, "alarms: a list stands where alarms belong"},
		{`{behind: {for: 5m}}`, "alarms.behind: when is missing"},
		{`{behind: {when: lag_secnds > 60}}`, "did you mean lag_seconds?"},
		{`{behind: {when: steps.minut.lost_ratio > 60}}`, "did you mean steps.minute.lost_ratio?"},
		{`{behind: {when: lag_seconds}}`, "a condition is a bool, and this is a double"},
		{`{behind: {when: lag_seconds > 1, for: soon}}`, "alarms.behind.for"},
		{`{behind: {when: lag_seconds > 1, wait: 1m}}`, "alarms.behind"},
		{`{skw: {off: true}}`, "did you mean skew?"},
		{`{skew: {off: true, when: skew > 1}}`, "leave out one of them"},
	} {
		if _, err := read(c.alarms); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.alarms, err, c.want)
		}
	}
	if names := expr.Names("steps.minute.lost_ratio > 1"); len(names) != 1 || names[0] != "steps" {
		t.Errorf("of a field steps, which is a map: %v", names)
	}
}

// TestPresentNames: figures are read by the names that they had before, and what is the document's own is left alone.
func TestPresentNames(t *testing.T) {
	for was, want := range map[string]string{
		"cpu_share > 0.5":       "cpu_ratio > 0.5",
		"busy_share>late_share": "busy_ratio>late_ratio",
		"steps.minute.lost_share > 0.1 && sources.a.late_share > 0.1": "steps.minute.lost_ratio > 0.1 && sources.a.late_ratio > 0.1",
		"cpu_share > values.cpu_share":                                "cpu_ratio > values.cpu_share",
		"steps.late_share.busy_share > 0.9":                           "steps.late_share.busy_ratio > 0.9",
		"lag_seconds > 1.0 || my_share > 2.0":                         "lag_seconds > 1.0 || my_share > 2.0",
	} {
		if got := presentNames(was); got != want {
			t.Errorf("%s is read as %s, want %s", was, got, want)
		}
	}
}
