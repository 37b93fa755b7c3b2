package job

import (
	"context"
	"strings"
	"testing"

	"undertide/core/row"
	"undertide/core/state"
)

// TestWithPortions: the number is replaced where it stands, and nothing else.
func TestWithPortions(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"settings: {spread: 4}\n", "settings: {spread: 12}\n"},
		{"settings: {lanes: 4, spread: 4} # ä 4\n", "settings: {lanes: 4, spread: 12} # ä 4\n"},
		{"settings: {checkpoint: {every: 4s}, \"spread\": {via: häfen, portions: 4}}\n", "settings: {checkpoint: {every: 4s}, \"spread\": {via: häfen, portions: 12}}\n"},
		{"job: x\nsettings:\n  # 4 nodes\n  spread: 4   # 4\n  lanes: 4\n", "job: x\nsettings:\n  # 4 nodes\n  spread: 12   # 4\n  lanes: 4\n"},
		{"settings:\n  spread:\n    portions: 4\n    via: harbour\n", "settings:\n  spread:\n    portions: 12\n    via: harbour\n"},
	} {
		got, err := Read(context.Background(), "x.yaml", c.text).WithPortions(12)
		if err != nil || got != c.want {
			t.Errorf("%q becomes %q, %v; want %q", c.text, got, err, c.want)
		}
	}
	for text, why := range map[string]string{
		"settings: {lanes: 4}\n":                    "does not say into how many",
		"job: x\n":                                  "does not say into how many",
		"settings: {spread: {via: harbour}}\n":      "does not say into how many",
		"n: &n 4\nsettings: {spread: *n, lanes: 2}": "cannot be replaced",
	} {
		if got, err := Read(context.Background(), "x.yaml", text).WithPortions(12); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q becomes %q, %v; want an error with %q", text, got, err, why)
		}
	}
}

// TestOwner: each row of what a step keeps is one portion's, the one to which rows of its key cross, also where the step's key has more fields; and portions of another number
// have it of those that Overlaps names.
func TestOwner(t *testing.T) {
	text := `undertide: 1
job: rates
connections: {harbour: {via: kafka, brokers: ["127.0.0.1:1"]}}
settings: {spread: SPREAD}
sources:
  lifts: {via: kafka, with: {connection: harbour, topic: lifts}, fields: {crane: string, berth: int, tonnes: decimal, at: timestamp}, event_time: at, watermark: {margin: 1s}}
steps:
  minute: {from: lifts, key: [berth], window: {tumbling: 1m}, measures: {n: count()}, set: {m: n}}
  both: {from: lifts, key: [crane, berth], window: {tumbling: 1m}, measures: {n: count()}}
  ten: {from: both, key: [berth, n, crane], window: {tumbling: 10m}, measures: {k: count()}}
sinks: {out: {from: ten, via: file, with: {path: /tmp/out/}}, more: {from: minute, via: file, with: {path: /tmp/more/}}}
`
	text = strings.Replace(text, ", set: {m: n}", "", 1)
	portionsOf := func(n string) (out []*Job) {
		whole, err := Parse("rates.yaml", strings.Replace(text, "SPREAD", n, 1), Options{})
		if err != nil {
			t.Fatal(err)
		}
		for k := range whole.Spread.Portions {
			j, err := whole.Portion("rates.2-1", Portion{Part: 1, Number: k, Generation: 1})
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, j)
		}
		return out
	}
	three, seven := portionsOf("3"), portionsOf("7")
	crane, berth := row.NewColumn(row.String), row.NewColumn(row.Int)
	crossed := []*row.Column{crane, berth} // by which rows came to the steps both and ten
	had := map[int]int{}
	for i := range 2000 {
		crane.Reset()
		berth.Reset()
		crane.AppendBytes([]byte(strings.Repeat("c", i%7+1)))
		if berth.AppendInt(int64(i)); i%5 == 0 {
			berth.Reset()
			berth.AppendNull()
		}
		var keys state.Keys
		keys.EncodeOne(crossed, 0)
		hash := keys.Hash[0]
		n := row.NewColumn(row.Int)
		n.AppendInt(int64(i % 3))
		for _, step := range []struct {
			name string
			key  []*row.Column
		}{{"both", crossed}, {"ten", []*row.Column{berth, n, crane}}} {
			s := three[0].StepNamed(step.name)
			if s == nil {
				t.Fatalf("step %s is not in part 2", step.name)
			}
			table := s.Keyed.Tables()[0]
			rows := state.NewRows(table)
			keys.EncodeOne(step.key, 0)
			rows.N, rows.Data, rows.Off, rows.Hash = 1, keys.Bytes(0), keys.Off, keys.Hash
			owners := func(of []*Job) (at int) {
				at = -1
				for k, j := range of {
					mine, err := j.Owner(step.name, table)
					if err != nil {
						t.Fatal(err)
					}
					own, err := mine(rows, 0)
					if err != nil {
						t.Fatal(err)
					}
					if own && at >= 0 {
						t.Fatalf("a row of step %s is that of two portions", step.name)
					}
					if own {
						at = k
					}
				}
				return at
			}
			was, now := owners(three), owners(seven)
			if was != state.PortionOf(hash, 3) || now != state.PortionOf(hash, 7) {
				t.Fatalf("step %s: portions %d and %d have a row that crossed to %d and %d", step.name, was, now, state.PortionOf(hash, 3), state.PortionOf(hash, 7))
			}
			if !seven[now].TakesFrom(was, 3) {
				t.Fatalf("portion %d of 3 and %d of 7 have a key in common", was, now)
			}
			had[was]++
		}
	}
	if len(had) != 3 {
		t.Errorf("rows by portion: %v", had)
	}
	eight := portionsOf("8")[7]
	if eight.TakesFrom(0, 4) || !eight.TakesFrom(3, 4) {
		t.Error("portion 8 of 8 has rows of portion 4 of 4 alone")
	}
	if _, err := three[0].Owner("nowhere", &state.Table{}); err == nil {
		t.Error("a step that is not there has rows")
	}
}
