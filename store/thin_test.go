package store

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestThin runs the records of 200 jobs through thinning: what is left is what the rules say, of each run; the work is
// done in seconds, while others write, and is not done again the next time.
func TestThin(t *testing.T) {
	s := openStore(t, server(t).URL())
	const jobs = 200
	sql := func(query string, args ...any) {
		t.Helper()
		if err := s.db.Exec(query, args...).Error; err != nil {
			t.Fatal(err)
		}
	}
	count := func(query string, args ...any) (n int) {
		t.Helper()
		if err := s.db.Raw(query, args...).Scan(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	now := time.Now().UTC()
	hour := now.Truncate(time.Hour)
	sql("INSERT INTO jobs (name, created_at) SELECT 'job-' || n, now() FROM generate_series(1, ?) n", jobs)
	sql("INSERT INTO runs (job_id, version, status, wanted, started_at, generation) SELECT id, 1, 'running', true, now(), 1 FROM jobs")
	const text = `{"sentence":"Running 3 h, 1,204 events a second.","in_per_second":1204.5,"out_per_second":12,"watermark":"2026-03-01T12:00:00Z","late":0,"rejected":0,"checkpoint_age_seconds":1.5,"restarts":0}`
	fill := func(from, to time.Time, every string) {
		t.Helper()
		sql("INSERT INTO figures SELECT id, at, ?::jsonb FROM runs, generate_series(?::timestamptz, ?::timestamptz - interval '1 second', ?::interval) at", text, from, to, every)
	}
	fill(hour.Add(-24*time.Hour), hour.Add(-23*time.Hour), "10 seconds")                 // whole: not yet a day old, or just
	fill(hour.Add(-27*time.Hour), hour.Add(-24*time.Hour), "10 seconds")                 // to be thinned
	fill(hour.Add(-20*24*time.Hour), hour.Add(-20*24*time.Hour+time.Hour), "10 seconds") // found late: of a service that was away
	fill(hour.Add(-31*24*time.Hour), hour.Add(-30*24*time.Hour), "5 minutes")            // to be removed
	sql("INSERT INTO checkpoints SELECT r.id, n, 1, now(), 0.1, 0, 1000, false, '[]' FROM runs r, generate_series(1, CASE WHEN r.id % 20 = 0 THEN 1500 ELSE 30 END) n")
	sql("INSERT INTO history (job_id, at, kind, text) SELECT id, now() - n * interval '1 second', 'trouble', 'away' FROM jobs, generate_series(1, CASE WHEN id % 50 = 0 THEN 12000 ELSE 20 END) n")
	sql("INSERT INTO history (job_id, at, kind, text) SELECT id, now() - interval '91 days', 'saved', 'version 1' FROM jobs")

	stop, worst := make(chan struct{}), make(chan time.Duration, 1)
	go func() { // somebody writes meanwhile
		var longest time.Duration
		for n := 0; ; n++ {
			select {
			case <-stop:
				worst <- longest
				return
			default:
			}
			began := time.Now()
			if err := s.write(ctx, record{Sample: &Sample{RunID: 1, At: now.Add(time.Duration(n) * time.Millisecond), Figures: []byte(`{}`)}}); err != nil {
				t.Error(err)
			}
			longest = max(longest, time.Since(began))
			time.Sleep(5 * time.Millisecond)
		}
	}()
	began := time.Now()
	if err := s.Thin(ctx); err != nil {
		t.Fatal(err)
	}
	first := time.Since(began)
	close(stop)
	if w := <-worst; w > 2*time.Second || first > 60*time.Second {
		t.Errorf("thinning took %v, and a write beside it %v", first, w)
	}
	for _, c := range []struct {
		what string
		got  int
		want int
	}{
		{"figures of the last day", count("SELECT count(*) FROM figures WHERE at >= ? AND at < ?", hour.Add(-24*time.Hour), hour.Add(-23*time.Hour)), jobs * 360},
		{"thinned figures", count("SELECT count(*) FROM figures WHERE at < ? AND at > ?", hour.Add(-24*time.Hour), hour.Add(-28*time.Hour)), jobs * 36},
		{"thinned figures of days ago", count("SELECT count(*) FROM figures WHERE at < ?", hour.Add(-28*time.Hour)), jobs * 12},
		{"the first of five minutes", count("SELECT count(*) FROM figures WHERE at < ? AND date_bin('5 minutes', at, 'epoch') <> at", hour.Add(-24*time.Hour)), 0},
		{"runs with thinned figures", count("SELECT count(DISTINCT run_id) FROM figures WHERE at < ?", hour.Add(-24*time.Hour)), jobs},
		{"lines of the catalogue", count("SELECT count(*) FROM checkpoints"), jobs/20*1000 + (jobs-jobs/20)*30},
		{"the oldest line of the catalogue", count("SELECT min(epoch) FROM checkpoints WHERE run_id IN (SELECT id FROM runs WHERE id % 20 = 0)"), 501},
		{"lines of history", count("SELECT count(*) FROM history"), jobs/50*10_000 + (jobs-jobs/50)*20},
		{"lines of months ago", count("SELECT count(*) FROM history WHERE kind = 'saved'"), 0},
	} {
		if c.got != c.want {
			t.Errorf("%s: %d, want %d", c.what, c.got, c.want)
		}
	}
	began = time.Now()
	if err := s.Thin(ctx); err != nil {
		t.Fatal(err)
	}
	if again := time.Since(began); again > first/4 {
		t.Errorf("thinning again took %v, the first time %v", again, first)
	}
	// Removals find their rows by an index.
	for _, q := range []string{"DELETE FROM figures WHERE at < now() - interval '30 days'", "SELECT * FROM history WHERE at < now() - interval '90 days'"} {
		var plan []string
		if err := s.db.Raw("EXPLAIN " + q).Scan(&plan).Error; err != nil {
			t.Fatal(err)
		}
		if p := fmt.Sprint(plan); len(plan) == 0 || !strings.Contains(p, "_by_time") {
			t.Errorf("%s goes through all rows: %s", q, p)
		}
	}
}
