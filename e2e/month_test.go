package e2e

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// monthJobs is how many of the hundred jobs have a month of figures; the long form has all, and runs alone: it is there that a page has to be drawn within a second. Beside
// other tests several are allowed.
var monthJobs = flag.Int("month", 5, "how many of the hundred jobs of TestMonthOnThePage have figures of a month")

// TestMonthOnThePage: with a hundred jobs, and a month of figures behind them, the page of one job is there in less than a second, and so is any
// stretch of its figures; the list of all jobs too (docs/figures.md, "Over time").
func TestMonthOnThePage(t *testing.T) {
	most, goes := 1000.0, 3 // ms
	if *monthJobs < 100 {
		t.Parallel()
		most, goes = 5000, 1
	}
	dir := open(t)
	server, session := table(t)
	s := serve(t, dir, "--database", server.URL())
	doc := loads(dir, "settings: {checkpoint: {every: 500ms}}\n")
	s.must("save", write(t, dir, "loads.yaml", doc))
	for n := range 99 {
		name := fmt.Sprintf("loads-%02d", n)
		text := strings.ReplaceAll(strings.Replace(doc, "job: loads", "job: "+name, 1), dir+"/loads/", dir+"/"+name+"/")
		if code, answer, _ := s.ask("POST", "/api/v1/jobs", text, "Content-Type", "application/yaml"); code != 201 {
			t.Fatalf("%d: %s", code, answer)
		}
	}
	s.must("start", "loads")

	conn := session()
	defer conn.Close(context.Background())
	sql := func(query string, args ...any) {
		t.Helper()
		if _, err := conn.Exec(context.Background(), query, args...); err != nil {
			t.Fatal(err)
		}
	}
	eventually(t, 60*time.Second, "a point of the running job is kept", func() bool {
		var n int
		err := conn.QueryRow(context.Background(), "SELECT count(*) FROM points WHERE tier = 0").Scan(&n)
		return err == nil && n > 3
	})
	// The month of all others is that of the running job's newest point, with other numbers in each place.
	now := time.Now().UTC().Truncate(time.Second)
	for tier, x := range []struct {
		every string
		back  time.Duration
	}{{"1 second", 25 * time.Minute}, {"10 seconds", 190 * time.Minute}, {"1 minute", 24 * time.Hour}, {"10 minutes", 7 * 24 * time.Hour}, {"1 hour", 30 * 24 * time.Hour}, {"1 day", 400 * 24 * time.Hour}} {
		sql(`INSERT INTO points (job_id, tier, at, shape, means, greatest)
			SELECT j.id, $1::int, t.at, p.shape, v.v, v.v FROM (SELECT id FROM jobs ORDER BY name LIMIT $2) j, generate_series($3::timestamptz, $4::timestamptz, $5::text::interval) t(at),
			(SELECT * FROM points WHERE tier = 0 ORDER BY at DESC LIMIT 1) p, LATERAL (SELECT array_agg((random() * 1e3 + 0 * n * extract(epoch FROM t.at)::bigint * j.id)::real) AS v FROM generate_series(1, cardinality(p.means)) n) v
			ON CONFLICT DO NOTHING`, tier, *monthJobs, now.Add(-x.back), now.Add(-30*time.Second), x.every)
	}
	sql("ANALYZE points")
	var size string
	if err := conn.QueryRow(context.Background(), "SELECT count(*) || ' points of up to ' || max(cardinality(means)) || ' figures, ' || pg_size_pretty(pg_total_relation_size('points')) FROM points").Scan(&size); err != nil {
		t.Fatal(err)
	}
	t.Log(size)

	page := browse(t, s.address+"/jobs")
	page.shows("loads-98")
	time.Sleep(2 * time.Second)    // for a look at the list; what a page needs is fetched meanwhile
	took := map[string][]float64{} // ms
	// opens presses something, and takes the time until the page has drawn what is waited for.
	opens := func(what, label, shown string) {
		t.Helper()
		value[bool](page, fmt.Sprintf(`(() => {
			window.took = null
			addEventListener('pointerdown', () => {
				const began = performance.now()
				const look = () => { if (%s) requestAnimationFrame(() => (window.took = performance.now() - began)); else requestAnimationFrame(look) }
				look()
			}, { once: true, capture: true })
			return true
		})()`, shown))
		page.press(label)
		eventually(t, 30*time.Second, what+" is there", func() bool { return value[bool](page, "window.took !== null") })
		took[what] = append(took[what], value[float64](page, "window.took"))
	}
	const charts = `document.querySelector('section.results canvas') && document.querySelectorAll('section[aria-label=Figures] .chart').length > 8`
	stretch := func(back string) string { // its answer has come, and what is drawn is no longer what was
		return fmt.Sprintf(`performance.getEntriesByType('resource').some((r) => r.name.includes('since=%s&name') && r.responseEnd > 0 && performance.now() > r.responseEnd) && document.querySelectorAll('section[aria-label=Figures] .chart canvas').length > 2`, back)
	}
	for range goes {
		value[bool](page, "performance.clearResourceTimings() || true")
		opens("the page of a job", "loads", charts+` && location.pathname === '/jobs/loads'`)
		for name, back := range map[string]string{"3 h": "3h", "24 h": "24h", "7 days": "168h", "30 days": "720h"} {
			opens("its last "+name, name, stretch(back))
		}
		opens("the alarms of all jobs", "Alarms", `location.pathname === '/alarms' && document.querySelector('main h2')`)
		opens("the list of jobs", "Jobs", `location.pathname === '/jobs' && document.body.innerText.includes('loads-98')`)
	}
	for what, ms := range took {
		t.Logf("%s: %.0f ms", what, ms)
		if slices.Min(ms) > most { // the least: the machine may be busy with others
			t.Errorf("%s takes %.0f ms", what, ms)
		}
	}
}
