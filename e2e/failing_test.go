package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// lists are the places of the console that ask for something: what is pressed to come there from the list of jobs, what is asked
// there by its addresses, and the next step that is shown where there is nothing.
var lists = []struct {
	place, press string
	asked        []string
	empty        string
}{
	{"streams", "Streams", []string{"/connections$", "/sources$", "/secrets$"}, "There is no connection yet"},
	{"alarms", "Alarms", []string{`/alarms\?`, "/rules$", "/notices$"}, "No alarm is on"},
	{"build", "Build", []string{"/connections$"}, "Add one in Streams"},
	{"the picture of jobs", "picture", []string{"/uses$"}, ""},
	{"a job's map", "lifts", []string{"/jobs/lifts/map"}, ""},
	{"history", "lifts; History", []string{"/jobs/lifts/history"}, ""},
	{"log", "lifts; Log", []string{"/jobs/lifts/logs"}, ""},
	{"checkpoints", "lifts; Checkpoints", []string{"/jobs/lifts/checkpoints"}, ""},
	{"versions", "lifts; Versions", []string{"/jobs/lifts/versions"}, ""},
	{"lateness", "lifts; Lateness", []string{"/jobs/lifts/lateness"}, ""},
}

// TestListsFail: whatever a page asks for, it says that it waits while there is no answer, and why where it fails, each list for
// itself; and where there is nothing yet it says what to do next.
func TestListsFail(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	p := browse(t, s.address+"/streams")
	for _, l := range lists {
		if l.empty != "" {
			p.press(l.press)
			p.shows(l.empty)
		}
	}
	s.must("save", write(t, dir, "lifts.yaml", "undertide: 1\njob: lifts\nsources:\n  lifts: {via: simulate, with: {rate: 10/s, fields: {crane: {pick: [C1]}, at: {now: true}}}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 5s}}\nsteps:\n  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {lifts: count()}}\nsinks:\n  out: {from: minute, via: file, with: {path: "+dir+"/out/}}\n"))
	s.must("save", write(t, dir, "more.yaml", strings.Replace(read(t, dir+"/lifts.yaml"), "job: lifts", "job: more", 1)))
	s.must("start", "lifts")
	for _, l := range lists {
		t.Run(l.place, func(t *testing.T) {
			p.t = t
			p.do(chromedp.Navigate(s.address + "/jobs"))
			p.shows("lifts")
			// Each address first gives no answer, and once fails is called a problem.
			value[any](p, fmt.Sprintf(`(window.asked = 0, window.faults = [], window.addEventListener('unhandledrejection', (e) => window.faults.push(String(e.reason))),
				window.failing = new Promise((go) => (window.fail = go)),
				window.fetch = ((ask) => async (...what) => {
					const url = String(what[0]?.url ?? what[0])
					if (!%s.some((a) => new RegExp('/api/v1' + a).test(url))) return ask(...what)
					window.asked++
					await window.failing
					return new Response(JSON.stringify({type: 'about:blank', code: 'database-unreachable', title: 'the records cannot be reached', status: 503, detail: 'the records of ' + url.split('/api/v1')[1].split('?')[0] + ' are away', fix: 'wait'}), {status: 503, headers: {'Content-Type': 'application/problem+json'}})
				})(window.fetch), 1)`, "["+quotedList(l.asked)+"]"))
			for label := range strings.SplitSeq(l.press, "; ") {
				p.press(label)
			}
			eventually(t, 20*time.Second, "it asks", func() bool { return value[int](p, "window.asked") >= len(l.asked) })
			p.shows("Loading")
			value[any](p, "(window.fail(), 1)")
			for _, a := range l.asked {
				path, _, _ := strings.Cut(strings.Trim(a, "$"), `\?`)
				p.shows("the records of " + path + " are away")
			}
			eventually(t, 20*time.Second, "nothing waits any more", func() bool { return !strings.Contains(p.text(), "Loading") })
			if faults := value[string](p, "window.faults.join('; ')"); faults != "" {
				t.Errorf("nobody took care of %s", faults)
			}
		})
	}
}

// quotedList writes texts as a list of JavaScript.
func quotedList(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = js(s)
	}
	return strings.Join(out, ", ")
}
