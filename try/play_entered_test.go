package try

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"undertide/job"
)

// TestEntered: each event is said to be in the windows that hold it, and in no others: of its key, not one that it came too late for,
// and of sessions that which the stretches were joined into.
func TestEntered(t *testing.T) {
	for _, c := range []struct {
		name, window string
		seconds      []int
		want         string // of each event its windows' starts, in seconds
	}{
		{"tumbling, the last but one lost", "window: {tumbling: 1m}", []int{10, 50, 130, 20, 140}, "0; 0; 120; ; 120"},
		{"tumbling, accepted", "window: {tumbling: 1m}\n    late: {accept: 5m}", []int{10, 50, 130, 20, 140}, "0; 0; 120; 0; 120"},
		{"sliding", "window: {sliding: 1m, by: 30s}", []int{10, 70}, "-30 0; 30 60"},
		{"two sessions joined by a third event", "window: {session: 30s}", []int{10, 60, 35, 300}, "10; 10; 10; 300"},
	} {
		document := strings.NewReplacer("window: {tumbling: 1m}", c.window, "margin: 5s", "margin: 40s").Replace(rehearsal)
		if !strings.Contains(document, c.window) {
			t.Fatalf("the document has another window:\n%s", document)
		}
		j, err := job.Parse("play.yaml", document, job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var given []Given
		for _, s := range c.seconds {
			given = append(given, Given{Event: json.RawMessage(fmt.Sprintf(`{"crane":"C1","tonnes":2.5,"at":%d}`, (s+1200)*1000))})
		}
		p, err := Play(context.Background(), j, given, false)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, m := range p.Moments[:len(given)] {
			var starts []string
			for _, n := range m.Windows {
				var row struct {
					Start string `json:"window_start"`
				}
				if err := json.Unmarshal(p.Windows[n].Rows[0], &row); err != nil {
					t.Fatal(err)
				}
				starts = append(starts, row.Start)
			}
			got = append(got, strings.Join(starts, " "))
		}
		var want []string
		for _, list := range strings.Split(c.want, ";") {
			var starts []string
			for _, s := range strings.Fields(list) {
				var n int
				fmt.Sscan(s, &n)
				starts = append(starts, fmt.Sprintf("1970-01-01T00:%02d:%02dZ", (n+1200)/60, (n+1200)%60))
			}
			want = append(want, strings.Join(starts, " "))
		}
		if strings.Join(got, "; ") != strings.Join(want, "; ") {
			t.Errorf("%s: %q, want %q", c.name, got, want)
		}
	}
}
