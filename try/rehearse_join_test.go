package try

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undertide/job"
)

// lookedAt are orders, lifts and a list of berths that a rehearsal looks at; %s are their texts.
const lookedAt = `undertide: 1
job: looked-at
sources:
  orders: {via: file, with: {path: orders.ndjson}, fields: {box: string, berth: string, n: int, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none}}
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {box: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none}}
references:
  berths: {via: file, with: {path: berths.ndjson}, fields: {id: string, depth: double}, key: [id]}
steps:
  met: {join: {left: orders, right: lifts, match: [box], within: %s, kind: left}}
  placed: {from: orders, lookup: {reference: berths, match: {berth: id}, add: [depth]}, where: depth > 5.0 && n >= 0}
sinks:
  out: {from: met, via: file, with: {path: out.ndjson}}
`

// numbered puts a number in the place of %d.
func numbered(text string, n int) string { return strings.ReplaceAll(text, "%d", fmt.Sprint(n)) }

// TestRehearseJoin: what a rehearsal says of joins and lookups whose sides hardly meet, and that it judges rows by what was
// looked up.
func TestRehearseJoin(t *testing.T) {
	for _, c := range []struct {
		name, within     string
		box, lift, berth string
		want             []string
	}{
		{"all is well", "1s", "b%d", "b%d", "B%d", nil},
		{"another case", "1s", "b%d", "B%d", "b%d", []string{
			`met: the left has 40 keys (box) and the right 40, and 0 stand on both sides: hardly any row meets a partner. "b0" of the left and "B0" of the right differ in upper and lower case`,
			`met: none of the 40 rows of the left met a partner`,
			`placed: 40 of 40 rows have no row in berths, such as berth "b0"; berths has berth "B0", which differs in upper and lower case, or in blanks; bring both to one form`,
		}},
		{"other things", "1s", "b%d", "c%d", "C%d", []string{
			`hardly any row meets a partner, such as b0 on the left and c0 on the right; check that match names the same thing on both sides`,
			`placed: 40 of 40 rows have no row in berths, such as berth "C0"; add them to the reference`,
		}},
		{"a long way", "10m", "b%d", "b%d", "B%d", []string{`met: the sample has 3.9s of both sides, and partners may be 10m apart: many are outside of it; rehearse more rows`}},
		{"no key", "1s", "b%d", "", "B%d", []string{`met: 40 of 40 rows of the right have a null in what is matched: they meet no partner; fill the field`, `met: none of the 40 rows of the left met a partner`}},
		{"all with all", "1h", "b", "b", "B%d", []string{`met: 80 rows make 1600 pairs: a row meets some 40 partners, and all that follows has as many rows; match more fields`}},
	} {
		dir := t.TempDir()
		put := func(name string, line func(i int) string) {
			var b strings.Builder
			for i := range 40 {
				b.WriteString(line(i) + "\n")
			}
			if err := os.WriteFile(filepath.Join(dir, name), []byte(b.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		put("orders.ndjson", func(i int) string {
			return fmt.Sprintf(`{"box":"%s","berth":"%s","n":%d,"at":%d}`, numbered(c.box, i), numbered(c.berth, i), i, i*100)
		})
		put("lifts.ndjson", func(i int) string {
			return strings.Replace(fmt.Sprintf(`{"box":"%s","at":%d}`, numbered(c.lift, i), i*100), `""`, "null", 1)
		})
		put("berths.ndjson", func(i int) string { return fmt.Sprintf(`{"id":"B%d","depth":%d}`, i, i) })
		j, err := job.Parse(filepath.Join(dir, "job.yaml"), fmt.Sprintf(lookedAt, c.within), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		r, err := Rehearse(context.Background(), j, RehearseOptions{})
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		var said []string
		for _, w := range r.Warnings {
			if w.At == "met" || w.At == "placed" {
				said = append(said, w.At+": "+w.Text+"; "+w.Fix)
			}
		}
		for _, want := range c.want {
			if !strings.Contains(strings.Join(said, "\n"), want) {
				t.Errorf("%s: want %s in\n%s", c.name, want, strings.Join(said, "\n"))
			}
		}
		if len(c.want) == 0 {
			if len(said) > 0 {
				t.Errorf("%s: %s", c.name, strings.Join(said, "\n"))
			}
			judged := fmt.Sprint(r.Steps[1].Examples)
			if s := r.Steps[1]; s.Out != 34 || len(s.Examples) != 10 || s.Examples[5].Why != "depth > 5.0 is false" {
				t.Errorf("%s: %d of %d rows pass; examples %s", c.name, s.Out, s.In, judged)
			}
		}
	}
}
