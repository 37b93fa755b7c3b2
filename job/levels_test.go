package job

import (
	"reflect"
	"strings"
	"testing"
)

// TestLevels: what values are called is read in the order of their values, changes no state, and each fault has its place and what would be right.
func TestLevels(t *testing.T) {
	read := func(levels string) (*Job, error) {
		return Parse("a.yaml", `undertide: 1
job: mean-level
sources:
  levels: {via: file, with: {path: levels.ndjson}, fields: {gauge: string, level_m: double, read_at: timestamp}, event_time: read_at, watermark: {margin: 5s}}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {n: count(), mean_m: mean(level_m)}`+levels+`}
  tall: {from: minute, where: mean_m > 2.0, levels: {n: {many: 50}}}
sinks:
  means: {from: tall, via: file, with: {path: means/}}
`, Options{})
	}
	j, err := read(", levels: {mean_m: {high: 3.0, raised: 2.5}}")
	if err != nil {
		t.Fatal(err)
	}
	want := []FieldLevels{{"mean_m", []Level{{"raised", 2.5}, {"high", 3}}}}
	if !reflect.DeepEqual(j.Steps[0].Levels, want) || len(j.Steps[1].Levels) != 1 {
		t.Errorf("the levels are %+v and %+v", j.Steps[0].Levels, j.Steps[1].Levels)
	}
	for v, name := range map[float64]string{2.49: "", 2.5: "raised", 2.99: "raised", 3: "high", 9: "high"} {
		if got, rank := want[0].LevelOf(v); got != name || rank != map[string]int{"": 0, "raised": 1, "high": 2}[name] {
			t.Errorf("%v is %q, %d", v, got, rank)
		}
	}
	if text := PlanOf(j).Text(); !strings.Contains(text, "mean_m raised from 2.5, high from 3") {
		t.Errorf("the plan says\n%s", text)
	}
	plain, err := read("")
	if err != nil {
		t.Fatal(err)
	}
	if a, b := plain.Pieces, j.Pieces; !reflect.DeepEqual(a, b) {
		t.Errorf("levels changed what a new version keeps: %v, %v", a, b)
	}
	for levels, fault := range map[string]string{
		"{mean: {high: 3}}":                                "steps.minute.levels.mean: there is no field mean",
		"{gauge: {high: 3}}":                               "levels are of numbers, and gauge is a string",
		"{mean_m: 3}":                                      "write mean_m: {raised: 2.5, high: 3.0}",
		"{mean_m: {}}":                                     "write mean_m: {raised: 2.5, high: 3.0}",
		"{mean_m: {high: tall}}":                           "tall is not a number",
		"{mean_m: {high: 3, raised: 3.0}}":                 "high and raised begin at the same value",
		"{mean_m: {a: 1, b: 2, c: 3, d: 4, e: 5, f: 6}}":   "6 levels are more than the 5",
		"{mean_m: {far too long to be read at a look: 3}}": "a word of at most 20 letters",
		"[high]": "write levels: {mean_m",
	} {
		if _, err := read(", levels: " + levels); err == nil || !strings.Contains(err.Error(), fault) {
			t.Errorf("levels: %s: %v, want %q", levels, err, fault)
		}
	}
}
