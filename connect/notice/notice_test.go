package notice

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/connect"
	"undertide/connect/pattern"
	"undertide/core/row"
	"undertide/core/step"
)

var fields = row.Schema{{Name: "crane", Kind: row.String}, {Name: "n", Kind: row.Int}}

func text(t *testing.T, s string) pattern.Text {
	t.Helper()
	p, err := pattern.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// tells writes rows to a sink and waits until they are told.
func tells(t *testing.T, s *Sink, rows ...string) error {
	t.Helper()
	b := row.NewBatch(fields)
	for i, crane := range rows {
		b.Cols[0].AppendString(crane)
		b.Cols[1].AppendInt(int64(i))
		b.N++
	}
	if err := s.Write(s.NewEncoder(fields).Append(nil, step.ViewOf(b)), len(rows)); err != nil {
		return err
	}
	_, err := s.Prepare(1)
	return err
}

func opened(t *testing.T, c Config) *Sink {
	t.Helper()
	s := New(c)
	if err := s.Open(nil, 1); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Abort() })
	return s
}

// TestQuiet: of each key one row is told in so long, and with the next how many were held back.
func TestQuiet(t *testing.T) {
	now := time.Unix(0, 0)
	var told []string
	s := opened(t, Config{To: "r", Key: []string{"crane"}, Quiet: 10 * time.Minute, Most: 1, Texts: []pattern.Text{text(t, "{crane} {n} ({held} held)")}, Now: func() time.Time { return now },
		Deliver: func(_ context.Context, all []Notice) error {
			for _, n := range all {
				told = append(told, string(n.Texts[0])+" "+string(n.Row))
			}
			return nil
		}})
	for _, c := range []struct {
		after time.Duration
		rows  []string
	}{{0, []string{"A", "A", "B", "A"}}, {9 * time.Minute, []string{"A", "B"}}, {time.Minute, []string{"A", "C"}}, {time.Minute, []string{"A"}}, {time.Hour, []string{"A", "B"}}} {
		now = now.Add(c.after)
		if err := tells(t, s, c.rows...); err != nil {
			t.Fatal(err)
		}
	}
	want := []string{
		`A 0 (0 held) {"crane":"A","n":0,"held":0}`, `B 2 (0 held) {"crane":"B","n":2,"held":0}`,
		`A 0 (3 held) {"crane":"A","n":0,"held":3}`, `C 1 (0 held) {"crane":"C","n":1,"held":0}`,
		`A 0 (1 held) {"crane":"A","n":0,"held":1}`, `B 1 (1 held) {"crane":"B","n":1,"held":1}`,
	}
	if !slices.Equal(told, want) {
		t.Errorf("told\n%s\nwant\n%s", strings.Join(told, "\n"), strings.Join(want, "\n"))
	}
}

// TestRefused: a refused row among others is found, and ends the run or is passed over; what fails for a while is told again.
func TestRefused(t *testing.T) {
	for _, pass := range []bool{true, false} {
		var told []string
		fails := 2
		s := opened(t, Config{To: "receiver r", PassOver: pass, Most: 4, Deliver: func(_ context.Context, all []Notice) error {
			if fails > 0 {
				fails--
				return fmt.Errorf("%w for now", connect.ErrUnreachable)
			}
			for _, n := range all {
				if strings.Contains(string(n.Row), "bad") {
					return &Refused{"it answers 400"}
				}
			}
			for _, n := range all {
				told = append(told, string(n.Row))
			}
			return nil
		}})
		err := tells(t, s, "a", "b", "bad", "c", "d", "e")
		rows, why := s.Refused()
		if pass {
			if err != nil || len(told) != 5 || rows != 1 || why != "it answers 400" || s.Retries() != 2 {
				t.Errorf("passed over: %v, told %v, %d refused, %d tries", err, told, rows, s.Retries())
			}
			continue
		}
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), `{"crane":"bad","n":2}`) || !strings.Contains(err.Error(), "refused: pass") || len(told) != 2 {
			t.Errorf("stopped: %v, told %v", err, told)
		}
	}
}
