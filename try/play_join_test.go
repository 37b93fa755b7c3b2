package try

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"

	"undertide/job"
)

// TestPlayJoin: a play tells which events made pairs, also of a late one that made none, and how far each reaches.
func TestPlayJoin(t *testing.T) {
	j, err := job.Parse("job.yaml", `undertide: 1
job: met
sources:
  a: {via: file, with: {path: a.ndjson}, fields: {k: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none}}
  b: {via: file, with: {path: b.ndjson}, fields: {k: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none}}
steps:
  met: {join: {left: a, right: b, match: [k], within: [-1s, 10s], kind: outer}}
sinks:
  out: {from: met, via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	var events []Given
	for _, e := range []struct {
		source, key string
		at          int
	}{
		{"a", `"x"`, 20_000}, {"b", `"x"`, 19_000}, {"b", `"x"`, 30_000}, {"b", `"x"`, 30_001}, {"a", "null", 31_000}, {"b", `"y"`, 31_000}, {"a", `"y"`, 29_000},
	} {
		events = append(events, Given{Source: e.source, Event: json.RawMessage(fmt.Sprintf(`{"k":%s,"at":%d}`, e.key, e.at))})
	}
	p, err := Play(context.Background(), j, events, false)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range p.Pairs {
		got = append(got, fmt.Sprint(m.Key, " ", m.Left, " ", m.Right))
	}
	if want := "[x 0 1 x 0 2]"; fmt.Sprint(got) != want {
		t.Errorf("pairs %v, want %s", got, want)
	}
	got = nil
	for _, r := range p.Reaches {
		got = append(got, fmt.Sprint(r.Side, " ", r.Moment, " ", r.From[17:], " ", r.To[17:], " ", r.Late))
	}
	if want := "[left 0 19Z 30Z false right 1 09Z 20Z false right 2 20Z 31Z false right 3 20.001Z 31.001Z false right 5 21Z 32Z false left 6 28Z 39Z true]"; fmt.Sprint(got) != want {
		t.Errorf("reaches\n%v, want\n%s", got, want)
	}
}
