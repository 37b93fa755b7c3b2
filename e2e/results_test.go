package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"
)

// TestResultsShown: results are looked at by windows, keys, measures and levels; what is not drawn is named, what overlaps is said, and the file that is
// downloaded has what is shown. The same rows have their levels in the terminal.
func TestResultsShown(t *testing.T) {
	t.Parallel()
	dir := open(t)
	var events strings.Builder
	for minute := range 40 {
		for g := range 14 {
			fmt.Fprintf(&events, "{\"gauge\":\"G%02d\",\"level_m\":%d.25,\"at\":%d}\n", g+1, g, minute*60_000)
		}
	}
	write(t, dir, "in.ndjson", events.String())
	write(t, dir, "levels.yaml", fmt.Sprintf(`undertide: 1
job: levels
sources:
  levels:
    via: file
    with: {path: %[1]s/in.ndjson, follow: true}
    fields: {gauge: string, level_m: double, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none}
steps:
  moving:
    from: levels
    key: [gauge]
    window: {sliding: 2m, by: 1m}
    measures: {n: count(), mean_m: mean(level_m)}
    levels: {mean_m: {raised: 10.0, high: 13.0}}
sinks:
  means: {from: moving, via: file, with: {path: %[1]s/means/}}
`, dir))
	s := serve(t, dir)
	s.must("save", "levels.yaml")
	s.must("start", "levels")
	eventually(t, 20*time.Second, "39 windows of 14 gauges are there", func() bool {
		return strings.Count(s.must("rows", "levels", "moving", "--format", "json", "--limit", "1000").out, "\n") == 39*14
	})
	if o := s.must("rows", "levels", "moving", "--where", `gauge in ["G01", "G11", "G14"]`, "--limit", "3"); !strings.Contains(o.out, "10.250 ▲ raised") || !strings.Contains(o.out, "13.250 ▲▲ high") || !strings.Contains(o.out, " 0.250\n") {
		t.Errorf("levels in the terminal:\n%s", o.out)
	}
	if o := s.must("peek", "--file", filepath.Join(dir, "in.ndjson"), "--where", `level_m > 12.0 && gauge != "G13"`, "--only", "gauge,level_m", "--limit", "2"); o.out != "gauge  level_m\nG14    13.25\nG14    13.25\n" || !strings.Contains(o.err, "40 of 560 events that were looked through fit; 2 are shown") {
		t.Errorf("a question to a file gives\n%s%s", o.out, o.err)
	}
	s.run("peek", "--file", filepath.Join(dir, "in.ndjson"), "--where", "level > 12.0").want(t, 2, "did you mean level_m?")

	s.waitStatus("levels", "running")
	eventually(t, 20*time.Second, "the newest row of all lies in the sink's files", func() bool {
		return strings.Contains(s.must("rows", "levels", "sink means", "--where", "mean_m > 13.0", "--limit", "1").out, "1970-01-01 00:39:00  2  13.250")
	})
	s.run("rows", "levels", "sink mean").want(t, 1, "did you mean sink means?")
	s.run("rows", "levels", "sink means", "--since", "1h").want(t, 1, "leave out key, since and until")

	page := browse(t, s.address+"/jobs/levels")
	page.shows("Windows overlap: an event counts in several of them.")
	page.shows("12 of 14 keys are drawn. Not drawn: G13, G14.")
	page.shows("▲▲ high")
	page.shows("13.250")
	chart := func() string {
		return value[string](page, `[...document.querySelectorAll('.results-chart [role=img]')].map((e) => e.ariaLabel).join('; ')`)
	}
	eventually(t, 10*time.Second, "what has levels is drawn first", func() bool { return chart() == "mean_m of 12 keys in 30 windows" })
	page.pick("How many keys", "24 keys")
	page.pick("How many windows", "all that are kept")
	page.pick("Measures", "n")
	page.keys("\x1b")
	eventually(t, 10*time.Second, "all is drawn, of two measures", func() bool { return chart() == "n of 14 keys in 39 windows; mean_m of 14 keys in 39 windows" })
	if strings.Contains(page.text(), "keys are drawn. Not drawn") {
		t.Error("keys are said not to be drawn, and are")
	}
	page.pick("Decimals", "1 decimal")
	page.shows("13.3 ▲▲ high")
	page.drag("a chart", "document.querySelector('.results-chart canvas')", 90, 0, 300*time.Millisecond)
	page.shows("Back from")
	eventually(t, 10*time.Second, "fewer windows are drawn", func() bool {
		return !strings.Contains(chart(), "39 windows") && !strings.Contains(chart(), " 0 windows")
	})
	page.hit("the list Keys", `document.querySelector('[aria-label="Keys"]').closest('.el-select__wrapper')`)
	page.keys("G14") // its list draws what is seen alone; typing finds the rest
	page.hit("the option G14", `[...document.querySelectorAll('.el-select-dropdown__item')].find((e) => e.getClientRects().length && e.innerText.trim() === 'G14')`)
	page.keys("\x1b")
	eventually(t, 10*time.Second, "one key alone is drawn", func() bool { return strings.HasPrefix(chart(), "n of G14 in ") })

	page.choose("means")
	page.shows("What lies there, newest first")
	page.fill("Condition for rows", "gauge == 'G14'")
	page.enter()
	page.shows("39 rows")
	page.press("Close")

	down := t.TempDir()
	if _, err := chromedp.Call(page.ctx, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{Behavior: browser.SetDownloadBehaviorBehaviorAllow, DownloadPath: down}); err != nil {
		t.Fatal(err)
	}
	page.press("CSV")
	var text string
	eventually(t, 10*time.Second, "the file has come", func() bool {
		got, err := os.ReadFile(filepath.Join(down, "levels-moving.csv"))
		text = string(got)
		return err == nil && text != ""
	})
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if shown := fmt.Sprintf("n of G14 in %d windows", len(lines)-1); lines[0] != "gauge,window_start,window_end,n,mean_m" || !strings.HasPrefix(chart(), shown) || strings.Count(text, "\nG14,") != len(lines)-1 {
		t.Errorf("%s is shown, and the file has\n%s", chart(), text)
	}
}
