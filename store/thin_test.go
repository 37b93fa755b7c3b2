package store

import (
	"errors"
	"flag"
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
	sql("INSERT INTO shapes VALUES (1, (SELECT array_agg('figure_' || n) FROM generate_series(1, 80) n))")
	fill := func(tier int, from, to time.Time, every string) {
		t.Helper()
		sql("INSERT INTO points SELECT j.id, ?, at, 1, v.v, v.v FROM jobs j, generate_series(?::timestamptz, ?::timestamptz - interval '1 millisecond', ?::interval) at, (SELECT array_agg((n * 1.37)::real) AS v FROM generate_series(1, 80) n) v", tier, from, to, every)
	}
	fill(0, hour.Add(-20*time.Minute), hour.Add(-15*time.Minute), "1 second")           // to be removed, since an hour begins at most an hour ago
	fill(1, now.Add(-30*time.Minute), now, "10 seconds")                                // kept
	fill(1, now.Add(-4*time.Hour), now.Add(-3*time.Hour-time.Second), "10 seconds")     // to be removed
	fill(2, now.Add(-23*time.Hour), now.Add(-22*time.Hour), "1 minute")                 // kept
	fill(4, now.Add(-29*24*time.Hour), now.Add(-28*24*time.Hour), "1 hour")             // kept
	fill(4, now.Add(-40*24*time.Hour), now.Add(-30*24*time.Hour-time.Second), "1 hour") // to be removed
	tiers := []Kept{{0, 15 * time.Minute}, {1, 3 * time.Hour}, {2, 24 * time.Hour}, {4, 30 * 24 * time.Hour}}
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
			if _, err := s.write(ctx, []record{{Points: &Batch{Shapes: []Shape{{ID: 1, Names: Names{"lag_seconds"}}}, Points: []Point{{JobID: 1, Tier: 5, At: now.Add(time.Duration(n) * time.Millisecond), Shape: 1, Means: Reals{1}, Greatest: Reals{2}}}}}}); err != nil {
				t.Error(err)
			}
			longest = max(longest, time.Since(began))
			time.Sleep(5 * time.Millisecond)
		}
	}()
	began := time.Now()
	if err := errors.Join(s.Thin(ctx), s.ThinPoints(ctx, tiers)); err != nil {
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
		{"points of seconds", count("SELECT count(*) FROM points WHERE tier = 0"), 0},
		{"points of ten seconds", count("SELECT count(*) FROM points WHERE tier = 1"), jobs * 180},
		{"points of minutes", count("SELECT count(*) FROM points WHERE tier = 2"), jobs * 60},
		{"points of hours", count("SELECT count(*) FROM points WHERE tier = 4"), jobs * 24},
		{"lines of the list of checkpoints", count("SELECT count(*) FROM checkpoints"), jobs/20*1000 + (jobs-jobs/20)*30},
		{"the oldest checkpoint", count("SELECT min(epoch) FROM checkpoints WHERE run_id IN (SELECT id FROM runs WHERE id % 20 = 0)"), 501},
		{"lines of history", count("SELECT count(*) FROM history"), jobs/50*10_000 + (jobs-jobs/50)*20},
		{"lines of months ago", count("SELECT count(*) FROM history WHERE kind = 'saved'"), 0},
	} {
		if c.got != c.want {
			t.Errorf("%s: %d, want %d", c.what, c.got, c.want)
		}
	}
	began = time.Now()
	if err := errors.Join(s.Thin(ctx), s.ThinPoints(ctx, tiers)); err != nil {
		t.Fatal(err)
	}
	if again := time.Since(began); again > first/4 {
		t.Errorf("thinning again took %v, the first time %v", again, first)
	}
	// Removals find their rows by an index.
	for _, q := range []string{"DELETE FROM points WHERE tier = 4 AND at < now() - interval '30 days'", "SELECT * FROM history WHERE at < now() - interval '90 days'"} {
		var plan []string
		if err := s.db.Raw("EXPLAIN " + q).Scan(&plan).Error; err != nil {
			t.Fatal(err)
		}
		if p := fmt.Sprint(plan); len(plan) == 0 || !strings.Contains(p, "_by_time") {
			t.Errorf("%s goes through all rows: %s", q, p)
		}
	}
}

// monthJobs is how many jobs have a month of figures; the long form has a hundred.
var monthJobs = flag.Int("jobs", 10, "how many jobs TestMonth fills a month for")

// TestMonth: with the figures of a month of many jobs, those of one are there at once, and the database takes no more than is said
// (docs/figures.md, "Over time").
func TestMonth(t *testing.T) {
	s := openStore(t, server(t).URL())
	sql := func(query string, args ...any) {
		t.Helper()
		if err := s.db.Exec(query, args...).Error; err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now().UTC().Truncate(time.Second)
	sql("INSERT INTO jobs (name, created_at) SELECT 'job-' || n, now() FROM generate_series(1, ?) n", *monthJobs)
	sql("INSERT INTO shapes VALUES (1, (SELECT array_agg('figure_' || n) FROM generate_series(1, 100) n))")
	for tier, x := range []struct {
		every string
		back  time.Duration
	}{{"1 second", 25 * time.Minute}, {"10 seconds", 190 * time.Minute}, {"1 minute", 24 * time.Hour}, {"10 minutes", 7 * 24 * time.Hour}, {"1 hour", 30 * 24 * time.Hour}} {
		sql(`INSERT INTO points SELECT j.id, ?, t.at, 1, v.v, v.v FROM jobs j, generate_series(?::timestamptz, ?::timestamptz, ?::interval) t(at),
			LATERAL (SELECT array_agg((random() * 1e3 + 0 * n * extract(epoch FROM t.at)::bigint * j.id)::real) AS v FROM generate_series(1, 100) n) v`, tier, now.Add(-x.back), now, x.every)
	}
	sql("ANALYZE points")
	var bytes int64
	if err := s.db.Raw("SELECT pg_total_relation_size('points')").Scan(&bytes).Error; err != nil {
		t.Fatal(err)
	}
	const most = 8 << 20
	if each := bytes / int64(*monthJobs); each > most {
		t.Errorf("the figures of a job take %d bytes, more than %d", each, most)
	} else {
		t.Logf("the figures of a job take %d KiB", each>>10)
	}
	for tier, back := range []time.Duration{15 * time.Minute, 3 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 30 * 24 * time.Hour} {
		took := time.Hour
		var points []Point
		for range 3 { // the least: the machine may be busy with others
			began := time.Now()
			var err error
			if points, _, err = s.Points(ctx, 3, tier, now.Add(-back), now); err != nil {
				t.Fatal(err)
			}
			took = min(took, time.Since(began))
		}
		if len(points) < 600 || took > time.Second {
			t.Errorf("tier %d: %d points in %v", tier, len(points), took)
		}
	}
}
