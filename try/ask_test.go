package try

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"undertide/connect"
)

// TestAsk: a condition over events that no document declares finds those that fit, the last or the first of them; what is wrong with it is said, with
// what would be right.
func TestAsk(t *testing.T) {
	var sample connect.Sample
	for i := range 100 {
		text := fmt.Sprintf(`{"gauge":"G%02d","level_m":%d.5,"read_at":"2026-03-01T10:%02d:00Z","crew":{"driver":"Finn \"%d\""}}`, i%4, i, i%60, i)
		if i == 50 {
			text = `{"gauge":"G02","level_m":null,"read_at":null,"crew":null}`
		}
		if i == 51 {
			text = `no event`
		}
		sample.Events = append(sample.Events, connect.Event{Partition: "0", Offset: int64(i), Text: []byte(text)})
	}
	for _, c := range []struct {
		q    Question
		want string
		note string
	}{
		{Question{Where: `level_m > 89.5 && gauge == "G02"`, Rows: 10}, "90 94 98", "3 of 100 events"},
		{Question{Where: `level_m > 9.5`, Rows: 3}, "97 98 99", "88 of 100 events that were looked through fit; 3 are shown"},
		{Question{Where: `level_m > 9.5`, Rows: 3, First: true}, "10 11 12", "3 are shown"},
		{Question{Where: `read_at < timestamp("2026-03-01T10:02:00Z") && level_m > 30.0`, Rows: 9}, "60 61", "2 of 100"},
		{Question{Where: `level_m == null`, Rows: 9}, "50", "1 of 100"},
		{Question{Where: `driver == "Finn \"7\""`, Rows: 9}, "7", "1 of 100"},
		{Question{Where: `level_m > 1000.0`, Rows: 9}, "", "0 of 100"},
	} {
		a, err := AskSample(c.q, sample)
		if err != nil {
			t.Errorf("%s: %v", c.q.Where, err)
			continue
		}
		var got []string
		out := a.Of(sample)
		for _, e := range out.Events {
			got = append(got, fmt.Sprint(e.Offset))
		}
		if strings.Join(got, " ") != c.want || len(out.Notes) != 1 || !strings.Contains(out.Notes[0], c.note) {
			t.Errorf("%s: %s (%v), want %s (%s)", c.q.Where, strings.Join(got, " "), out.Notes, c.want, c.note)
		}
	}
	for _, c := range []struct {
		q    Question
		want string
	}{
		{Question{Where: "level > 3.0"}, "did you mean level_m?"},
		{Question{Where: "tonnes > 3.0"}, "the fields are gauge, level_m, read_at, driver"},
		{Question{Where: "level_m"}, "a condition is a bool, and this is a double"},
		{Question{Only: []string{"gauge", "gage"}}, "did you mean gauge?"},
	} {
		var wrong WrongQuestion
		if _, err := AskSample(c.q, sample); !errors.As(err, &wrong) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %s", c.q, err, c.want)
		}
	}
	a, err := AskSample(Question{Only: []string{"level_m", "gauge"}}, sample)
	if err != nil {
		t.Fatal(err)
	}
	if got := a.Shown([]connect.Header{{Name: "gauge", Value: "G01"}, {Name: "read_at", Value: "x"}, {Name: "level_m", Value: "2"}}); len(got) != 2 || got[0].Name != "level_m" || got[1].Name != "gauge" {
		t.Errorf("shown are %v", got)
	}
	if out := a.Of(sample); len(out.Events) != 100 || len(out.Notes) != 0 {
		t.Errorf("without a condition %d events are left, %v", len(out.Events), out.Notes)
	}
}
