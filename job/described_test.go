package job

import (
	"context"
	"slices"
	"strings"
	"testing"
)

const liftsDescribed = `  lifts:
    via: file   # each day's
    with: {path: lifts.ndjson}
    fields:
      crane: string

      tonnes: double   # of the box, not the spreader
      at: timestamp
    event_time: at
    watermark: {margin: 5s}
`

// TestDescribed: a source that names a description is what the description says, with what stands beside it before; written
// into the text it is the same document, with every comment and line where it was.
func TestDescribed(t *testing.T) {
	find := func(_ context.Context, name string) (string, []string) {
		return map[string]string{"lifts": liftsDescribed, "short": "  short: {via: file, with: {path: short.ndjson}, fields: {crane: string, tonnes: double, at: timestamp}, event_time: at, watermark: {margin: 1s}}\n"}[name], []string{"lifts", "short"}
	}
	around := func(source string) string {
		return "undertide: 1   # ours\njob: shared\n\nsources:\n" + source + "\n# what is counted\nsteps:\n  rate: {from: lifts, key: [crane], window: {tumbling: 10m}, measures: {lifts: count()}}\nsinks:\n  out: {from: rate, via: file, with: {path: out.ndjson}}\n"
	}
	for what, c := range map[string]struct{ source, want string }{
		"alone":            {"  lifts:\n    described: lifts\n", "  lifts:\n    described: lifts\n    via: file   # each day's\n    with: {path: lifts.ndjson}\n    fields:\n      crane: string\n\n      tonnes: double   # of the box, not the spreader\n      at: timestamp\n    event_time: at\n    watermark: {margin: 5s}\n"},
		"with its own":     {"  lifts:\n      described: lifts   # as all do\n      watermark:\n        margin: 9s\n", "  lifts:\n      described: lifts   # as all do\n      watermark:\n        margin: 9s\n      via: file   # each day's\n      with: {path: lifts.ndjson}\n      fields:\n        crane: string\n\n        tonnes: double   # of the box, not the spreader\n        at: timestamp\n      event_time: at\n"},
		"in braces":        {"  lifts: {described: lifts, watermark: {margin: 9s}}\n", "  lifts:\n    described: lifts\n    watermark:\n      margin: 9s\n    via: file   # each day's\n    with: {path: lifts.ndjson}\n    fields:\n      crane: string\n\n      tonnes: double   # of the box, not the spreader\n      at: timestamp\n    event_time: at\n"},
		"described short":  {"  lifts:\n    described: short\n", "  lifts:\n    described: short\n    via: file\n    with:\n      path: short.ndjson\n    fields:\n      crane: string\n      tonnes: double\n      at: timestamp\n    event_time: at\n    watermark:\n      margin: 1s\n"},
		"two of them":      {"  lifts: {described: lifts}\n  # the second\n  more:\n    described: short\n    event_time: arrival\n", ""},
		"written already":  {"  lifts:\n    described: lifts\n" + liftsDescribed[len("  lifts:\n"):], "  lifts:\n    described: lifts\n" + liftsDescribed[len("  lifts:\n"):]},
		"one of its words": {liftsDescribed, liftsDescribed},
	} {
		text := around(c.source)
		was, err := Parse("shared.yaml", text, Options{Described: find})
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		filled, names, err := Read(context.Background(), "", text).Filled(context.Background(), find)
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		if c.want != "" && filled != around(c.want) {
			t.Errorf("%s: written as\n%s\nwant\n%s", what, filled, around(c.want))
		}
		if n := strings.Count(c.source, "described:"); !strings.Contains(what, "written") && len(names) != n {
			t.Errorf("%s: %v were written, want %d", what, names, n)
		}
		now, err := Parse("shared.yaml", filled, Options{})
		if err != nil {
			t.Errorf("%s: the text that was written does not read: %v\n%s", what, err, filled)
			continue
		}
		if was.Digest != now.Digest {
			t.Errorf("%s: the text that was written is another document:\n%s", what, filled)
		}
		if again, names, _ := Read(context.Background(), "", filled).Filled(context.Background(), find); again != filled || names != nil {
			t.Errorf("%s: written a second time", what)
		}
	}
	for _, text := range []string{
		"undertide: 1\njob: shared\nsources: {lifts: {described: lifts}}\nsinks:\n  out: {from: lifts, via: file, with: {path: out.ndjson}}\n",
		"{undertide: 1, job: shared, sources: {lifts: {described: lifts}}, sinks: {out: {from: lifts, via: file, with: {path: out.ndjson}}}}\n",
	} {
		if _, err := Parse("shared.yaml", text, Options{Described: find}); err != nil {
			t.Error(err)
		}
		if filled, _, err := Read(context.Background(), "", text).Filled(context.Background(), find); err == nil || !strings.Contains(err.Error(), "write each below sources:") {
			t.Errorf("sources in braces are written as %s, %v", filled, err)
		}
	}
	doc := Read(context.Background(), "", around("  lifts:\n    described: lifts\n    watermark: {margin: 9s}\n"+strings.Replace(strings.Replace(liftsDescribed, "  lifts:\n", "", 1), "    watermark: {margin: 5s}\n", "", 1)))
	if differ := doc.DifferFrom("lifts", liftsDescribed); !slices.Equal(differ, []string{"watermark"}) || doc.DescribedBy()["lifts"] != "lifts" {
		t.Errorf("differs in %v, described by %v", differ, doc.DescribedBy())
	}
	for source, want := range map[string]string{
		"  lifts: {described: lift}\n": "sources.lifts.described: there is no described source lift; did you mean lifts?",
		"  lifts: {described: lifts, fields: {crane: string, at: timestamp, tonnes: float}}\n": "float is not a type",
		"  lifts: {described: lifts, event_time: crane}\n":                                     "crane is a string and not a timestamp",
		"  lifts: {described: [lifts]}\n":                                                      "a list stands where a text belongs",
	} {
		if _, err := Parse("shared.yaml", around(source), Options{Described: find}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v\nwant %s", source, err, want)
		}
	}
	if _, err := Parse("shared.yaml", around("  lifts: {described: lifts}\n"), Options{}); err == nil || !strings.Contains(err.Error(), "described sources are kept by a service") || len(strings.Split(err.Error(), "\n")) != 1 {
		t.Errorf("without a service: %v", err)
	}
}
