package job

import (
	"slices"
	"strings"
	"testing"
)

// TestDifferences: what differs is said with its place; comments, layout and order of keys do not count.
func TestDifferences(t *testing.T) {
	const a = "undertide: 1\njob: lifts\nsources:\n  lifts: {via: file, watermark: {margin: 5s}}\nsteps:\n  rate: {key: [crane], measures: {n: count()}}\n"
	for _, c := range []struct {
		name, b string
		want    []string
	}{
		{"nothing", a, []string{}},
		{"comments, layout, order", "job: lifts # by crane\nundertide: 1\n\nsources:\n  lifts:\n    watermark: {margin: 5s}\n    via: file\nsteps:\n  rate:\n    measures: {n: count()}\n    key:\n      - crane\n", []string{}},
		{"a value", strings.Replace(a, "5s", "9s", 1), []string{"sources.lifts.watermark.margin: 9s, was 5s"}},
		{"a list", strings.Replace(a, "[crane]", "[crane, berth]", 1), []string{"steps.rate.key: [crane, berth], was [crane]"}},
		{"added and taken out", strings.Replace(a, "n: count()", "load: sum(t)", 1), []string{"steps.rate.measures.n: taken out, was count()", "steps.rate.measures.load: added, sum(t)"}},
		{"where a source begins", strings.Replace(a, "via: file, ", "via: file, begin: latest, ", 1), []string{"sources.lifts.begin: added, latest; it is looked at where a run starts anew, and not by one that goes on from a checkpoint"}},
		{"a section", a + "sinks:\n  out: {from: rate}\n", []string{"sinks: added, {out: {from: rate}}"}},
	} {
		if got := Differences(a, c.b); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestPlaces: parts stand where they stand, without the comments of what follows, also in a document
// with faults.
func TestPlaces(t *testing.T) {
	text := "job: lifts\nsources:\n  lifts:\n    via: file\n\n  # of the gauges\n  levels: {via: nothing}\n\nsteps:\n  rate:\n    from: nowhere\n"
	want := map[string]Span{"source lifts": {3, 4}, "source levels": {7, 7}, "step rate": {10, 11}}
	got := Read(t.Context(), "", text).Places()
	for name, w := range want {
		if got[name] != w {
			t.Errorf("%s: %v, want %v", name, got[name], w)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%v, want %v", got, want)
	}
	if s, err := SourceText(text, "lifts"); err != nil || s != "  lifts:\n    via: file\n" {
		t.Errorf("the source's text: %q, %v", s, err)
	}
	if _, err := SourceText(text, "lift"); err == nil || !strings.Contains(err.Error(), "did you mean lifts?") {
		t.Errorf("a source that is not there: %v", err)
	}
	if _, err := SourceText(text, ""); err == nil || !strings.Contains(err.Error(), "2 sources") {
		t.Errorf("no name and two sources: %v", err)
	}
}
