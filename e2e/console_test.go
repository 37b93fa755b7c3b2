package e2e

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// page is a page of the console in a real browser.
type page struct {
	t   *testing.T
	ctx context.Context
}

func browse(t *testing.T, address string) *page { return browseWith(t, address) }

// browseWith opens an address in a browser of its own, with more options.
func browseWith(t *testing.T, address string, more ...chromedp.ExecAllocatorOption) *page {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Fatal("chromium is missing; run scripts/install.sh browser")
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], more...)
	alloc, cancel := chromedp.NewExecAllocator(context.Background(), append(options, chromedp.ExecPath(path), chromedp.NoSandbox,
		chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("hide-scrollbars", false), chromedp.WindowSize(1280, 800))...) // users have scroll bars, which take room
	t.Cleanup(cancel)
	ctx, end := chromedp.NewContext(alloc)
	t.Cleanup(end)
	limited, stop := context.WithTimeout(ctx, 5*time.Minute) // of the whole page; each wait has its own
	t.Cleanup(stop)
	p := &page{t: t, ctx: limited}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(address))
	return p
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, steps...); err != nil {
		p.t.Fatal(err)
	}
}

// value evaluates an expression in the page.
func value[T any](p *page, expression string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
	if err != nil {
		p.t.Fatalf("%s: %v", expression, err)
	}
	return v
}

func (p *page) text() string {
	p.t.Helper()
	return value[string](p, "document.body.innerText")
}

// shows waits until the page holds a text.
func (p *page) shows(text string) {
	p.t.Helper()
	var last string
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if last = p.text(); strings.Contains(last, text) {
			return
		}
	}
	p.t.Fatalf("the page does not show %q:\n%s", text, last)
}

// hacked is what an attacker would put into a document or an event.
const hacked = `<img src=x onerror="window.hacked=1"><script>window.hacked=1</script>`

// TestConsole drives the console as people do: the list, a job, rows as they arrive, stop, start; and
// what it says while there is nothing, or no service.
func TestConsole(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	p := browse(t, s.address)
	p.shows("There are no jobs yet.")
	p.shows("PostgreSQL: well")

	doc := strings.Replace(topicJob(broker, dir), "about: Means of each gauge and minute", `about: 'Means `+hacked+`'`, 1)
	s.must("save", write(t, dir, "means.yaml", doc))
	p.shows("never started")
	p.shows(`Means <img src=x onerror="window.hacked=1">`) // as text
	p.press("Start means")
	p.shows("1 running")
	p.press("means")
	p.shows("Map")
	p.shows("No rows yet. They appear here as they are published.")
	p.shows("harbour: reached")

	kcat(t, keyed(readings(5_000))+"X|"+`{"gauge":"`+strings.ReplaceAll(hacked, `"`, `\"`)+`","level_m":1,"read_at":1767226099000}`+"\n", "-b", broker, "-t", "levels", "-P", "-K", "|")
	rows := func() int { return value[int](p, "document.querySelectorAll('[data-rows] tbody tr').length") }
	eventually(t, 15*time.Second, "rows arrive in the open page", func() bool { return rows() >= 10 })
	p.shows("open; the next closes when the watermark passes")
	eventually(t, 10*time.Second, "there is a chart", func() bool { return value[bool](p, "document.querySelector('canvas') !== null") })
	kcat(t, "a|"+`{"gauge":"later","level_m":7.25,"read_at":1767229000000}`+"\nb|"+`{"gauge":"later","level_m":7.25,"read_at":1767229100000}`+"\nb|"+`{"gauge":"later","level_m":7.25,"read_at":1767229200000}`+"\n", "-b", broker, "-t", "levels", "-P", "-K", "|")
	p.shows("7.250") // came while the page was open
	p.fill("Filter rows", "onerror")
	eventually(t, 10*time.Second, "the filter leaves the hacked row", func() bool { return rows() == 1 })
	p.shows(`<img src=x onerror="window.hacked=1"><script>`)

	p.choose("minute")
	p.shows("The counts add up.")
	p.shows("next closes at")
	p.press("late of minute")
	p.press("Log")
	p.shows("running")
	p.press("Checkpoints")
	var more strings.Builder
	for n := range 20 { // to both partitions, while the newest checkpoints are shown
		fmt.Fprintf(&more, "%d|"+`{"gauge":"later","level_m":7.25,"read_at":1767229200000}`+"\n", n)
	}
	kcat(t, more.String(), "-b", broker, "-t", "levels", "-P", "-K", "|")
	p.shows("levels 0: ")
	p.press("Versions")
	p.shows("via: kafka")
	p.press("History")
	p.shows("version 1 runs")

	p.press("Stop")
	p.shows("with a checkpoint. The next start goes on from there.")
	p.press("Start")
	p.shows("Nothing waits to be read.")
	if j := s.job("means"); j.Status != "running" || j.Run.ID != 2 {
		t.Errorf("after stop and start: %+v", j)
	}

	p.press("Dark colours")
	if !value[bool](p, "document.documentElement.classList.contains('dark')") {
		t.Error("it is not dark")
	}
	p.do(chromedp.Navigate(s.address + "/jobs/nothing"))
	p.shows("There is no job nothing.")
	p.do(chromedp.Navigate(s.address + "/elsewhere"))
	p.shows("There is nothing at this address")
	p.do(chromedp.Navigate(s.address + "/jobs/means"))
	p.shows("Map")
	if got := value[any](p, "window.hacked ?? null"); got != nil {
		t.Errorf("a script of a document or row ran: %v", got)
	}

	port := strings.TrimPrefix(s.address, "http://")
	s.end(t, syscall.SIGKILL)
	p.shows("The service does not answer; look whether it still runs")
	again := launch(t, dir, served(dir, "--listen", port)...)
	again.says(t, "console is at (http://\\S+);")
	eventually(t, 20*time.Second, "the page goes on by itself", func() bool {
		text := p.text()
		return !strings.Contains(text, "does not answer") && strings.Contains(text, "Nothing waits to be read.")
	})
	// Rows go on to come into the open page, although the numbers that the killed service gave are given again.
	kcat(t, "a|"+`{"gauge":"after","level_m":8.125,"read_at":1767229300000}`+"\nb|"+`{"gauge":"after","level_m":8.125,"read_at":1767229300000}`+"\na|"+`{"gauge":"end","level_m":1,"read_at":1767229500000}`+"\nb|"+`{"gauge":"end","level_m":1,"read_at":1767229500000}`+"\n", "-b", broker, "-t", "levels", "-P", "-K", "|")
	p.shows("8.125")
}

// TestConsoleSaysTroubles: what the service needs and does not reach stands at the top.
func TestConsoleSaysTroubles(t *testing.T) {
	t.Parallel()
	dir := open(t)
	b, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", topicJob(broker, dir)))
	s.must("start", "means")
	p := browse(t, s.address+"/jobs/means")
	p.shows("Nothing waits to be read.")
	b.end(t, syscall.SIGINT)
	p.shows("Connection harbour: broker harbour (" + broker + ") has not answered for")
	p.shows("harbour: no answer")
	p.shows("waits: no answer") // on the map
	postgres := postmaster(t, dir)
	freeze(t, postgres, syscall.SIGSTOP)
	p.shows("The database has not answered since")
	p.shows("PostgreSQL: no answer")
	freeze(t, postgres, syscall.SIGCONT)
	startBroker(t, dir, broker)
	p.shows("PostgreSQL: well")
	p.shows("harbour: reached")
}
