package store

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"gorm.io/gorm"
)

// TestTrail: a line stands with the change that it tells of, or not at all; and the service's role can do no more with the trail than read it and add to it.
func TestTrail(t *testing.T) {
	s := openStore(t, serverWith(t, TrailSQL).URL())
	if safe, err := s.TrailIsSafe(ctx); err != nil || !safe {
		t.Errorf("the trail of the private server is safe: %t, %v", safe, err)
	}
	act := func(action string) (context.Context, *Act) {
		a := &Act{Line: Line{At: time.Now().UTC().Truncate(time.Microsecond), Who: "ann", Means: "session", Address: "10.0.0.7", Action: action, Request: "r1"}}
		return WithAct(ctx, a), a
	}
	saving, a := act("save")
	if _, v, _, err := s.SaveVersion(saving, Job{Name: "lifts"}, "text", ""); err != nil || v.SavedBy != "ann" || !a.Written() {
		t.Fatalf("saved by %q, the line is written: %t, %v", v.SavedBy, a.Written(), err)
	}
	broken := errors.New("broken")
	failing, b := act("fail")
	if err := s.change(failing, "fail", func(tx *gorm.DB) error {
		if err := tx.Create(&Described{Name: "half"}).Error; err != nil {
			return err
		}
		return broken
	}); err == nil || b.Written() {
		t.Errorf("a change that failed has a line: %t, %v", b.Written(), err)
	}
	if list, err := s.Sources(ctx); err != nil || len(list) != 0 {
		t.Errorf("half of a change stands: %v, %v", list, err)
	}
	// Where the line cannot be written the change is not made either.
	lineless, c := act(strings.Repeat("x", 10) + "\x00") // which the database does not take
	if err := Put(lineless, s, Described{Name: "lineless"}); err == nil || c.Written() {
		t.Errorf("a change without its line is made: %v", err)
	}
	if list, err := s.Sources(ctx); err != nil || len(list) != 0 {
		t.Errorf("a change without its line stands: %v, %v", list, err)
	}
	later := Line{At: time.Now().UTC().Truncate(time.Microsecond), Who: "ben (token laptop)", Means: "token", Action: "stop", Target: "lifts", Outcome: Done, Request: "r2"}
	s.AddLine(later)
	s.AddLine(later) // as after a kill between writing it and forgetting it
	var lines []Line
	var err error
	for begun := time.Now(); len(lines) < 2 && time.Since(begun) < 10*time.Second; time.Sleep(20 * time.Millisecond) {
		if lines, err = s.Lines(ctx, LineQuery{Limit: 10}); err != nil {
			t.Fatal(err)
		}
	}
	if len(lines) != 2 || lines[0].Action != "stop" || lines[1].Action != "save" || lines[1].Target != "lifts" || lines[1].Version != 1 || lines[1].Outcome != Done {
		t.Errorf("the trail is %+v", lines)
	}
	for q, want := range map[LineQuery]int{{Who: "ben", Limit: 10}: 1, {Who: "be", Limit: 10}: 0, {Target: "lifts", Limit: 10}: 2, {Target: "lift", Limit: 10}: 0, {Since: time.Now().Add(time.Hour), Limit: 10}: 0, {Before: lines[0].ID, Limit: 10}: 1, {Limit: 1}: 1} {
		if got, err := s.Lines(ctx, q); err != nil || len(got) != want {
			t.Errorf("%+v gives %d lines, want %d: %v", q, len(got), want, err)
		}
	}
	for _, query := range []string{"UPDATE trail SET who = 'nobody'", "DELETE FROM trail", "TRUNCATE trail", "DROP TABLE trail", "ALTER TABLE trail DROP COLUMN who", "ALTER TABLE trail OWNER TO tide",
		"CREATE RULE gone AS ON INSERT TO trail DO INSTEAD NOTHING", "CREATE TRIGGER gone BEFORE INSERT ON trail FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger()", "INSERT INTO trail (id, at, who, means, address, action, target, version, outcome, request) OVERRIDING SYSTEM VALUE VALUES (1, now(), '', '', '', '', '', 0, '', '')"} {
		if err := s.db.Exec(query).Error; err == nil {
			t.Errorf("the service's role may: %s", query)
		}
	}
	s.db.Exec("GRANT ALL ON trail TO tide") // which is no fault there, and grants nothing
	if safe, err := s.TrailIsSafe(ctx); err != nil || !safe {
		t.Errorf("after all that the trail is safe: %t, %v", safe, err)
	}
	if own, err := openStore(t, server(t).URL()).TrailIsSafe(ctx); err != nil || own {
		t.Errorf("a trail that the service made itself is safe: %t, %v", own, err)
	}
	if got, err := s.Lines(ctx, LineQuery{Limit: 10}); err != nil || len(got) != 2 {
		t.Errorf("after all that the trail has %d lines, %v", len(got), err)
	}
}

// TestTrailIsTold: docs/operations.md makes the table as the migration does.
func TestTrailIsTold(t *testing.T) {
	page, err := os.ReadFile("../docs/operations.md")
	if err != nil {
		t.Fatal(err)
	}
	if table := strings.ReplaceAll(trailTable(), "\n    ", "\n\t"); !strings.Contains(string(page), table) {
		t.Errorf("docs/operations.md lacks\n%s", table)
	}
}
