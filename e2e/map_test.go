package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// largeDocument has thirty parts with long names, in five chains.
func largeDocument() string {
	var b strings.Builder
	b.WriteString("undertide: 1\njob: large\nsources:\n  made_up: {via: simulate, with: {rate: 10/s, count: 1000, start: '2026-01-01T00:00:00Z', fields: {crane: {pick: [C1, C2]}, v: {between: [0.0, 40.0]}, at: {now: true}}}, fields: {crane: string, v: double, at: timestamp}, event_time: at, watermark: {margin: 5s}}\nsteps:\n")
	for i := range 24 {
		from := fmt.Sprintf("lifts_above_a_bound_of_%d", i-1)
		if i%5 == 0 {
			from = "made_up"
		}
		fmt.Fprintf(&b, "  lifts_above_a_bound_of_%d: {from: %s, where: v > %d}\n", i, from, i)
	}
	b.WriteString("sinks:\n")
	for i, of := range []int{4, 9, 14, 19, 23} {
		fmt.Fprintf(&b, "  the_loads_of_chain_%d: {from: 'rejects of lifts_above_a_bound_of_%d', via: http, with: {connection: office, path: /x}}\n", i, of)
	}
	return b.String() + "connections: {office: {via: http, url: 'http://127.0.0.1:1'}}\n"
}

// onMap tells of the parts of the map that are in sight: how many, the least size of their words in pixels, and those whose name is cut.
const onMap = `(() => { const box = document.querySelector('.map').getBoundingClientRect()
	const seen = [...document.querySelectorAll('.part')].filter((e) => { const r = e.getBoundingClientRect(); return r.left >= box.left - 1 && r.right <= box.right + 1 && r.top >= box.top - 1 && r.bottom <= box.bottom + 1 })
	const zoom = new DOMMatrix(getComputedStyle(document.querySelector('.vue-flow__transformationpane')).transform).a
	return { all: document.querySelectorAll('.part').length, seen: seen.length, size: zoom * Math.min(...seen.map((e) => parseFloat(getComputedStyle(e.querySelector('.does')).fontSize))), cut: [...document.querySelectorAll('.part b')].filter((b) => b.scrollWidth > b.clientWidth + 1).map((b) => b.innerText) } })()`

type mapSight struct {
	All, Seen int
	Size      float64
	Cut       []string
}

// TestMap: a map of thirty parts can be read beside the text at 1024 pixels: words of a size for reading, whole names, and what is
// out of sight is reached by the mouse, by buttons and by the keyboard alone.
func TestMap(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	s.must("save", write(t, dir, "large.yaml", largeDocument()))
	p := browse(t, s.address+"/build?job=large")
	p.do(chromedp.EmulateViewport(1024, 800))
	p.shows("no mistakes")
	sight := func() mapSight { return value[mapSight](p, onMap) }
	eventually(t, 15*time.Second, "thirty parts", func() bool { return sight().All == 30 })
	at := sight()
	if at.Size < 8 || at.Seen == 0 || at.Seen == 30 {
		t.Errorf("%d of %d parts are in sight, the least words %.1f pixels high", at.Seen, at.All, at.Size)
	}
	if len(at.Cut) > 0 {
		t.Errorf("names are cut: %v", at.Cut)
	}
	if labels := value[int](p, `[...document.querySelectorAll('.vue-flow__edge-text')].filter((e) => e.textContent === 'rejects').length`); labels != 5 {
		t.Errorf("%d lines say that they are of rejects, want 5", labels)
	}

	// By the keyboard: each part that has the focus is in sight.
	p.tabTo("made_up")
	for range 29 {
		p.keys(kb.Tab)
		eventually(t, 5*time.Second, "the part with the focus is in sight", func() bool {
			return value[bool](p, `(() => { const e = document.activeElement, box = document.querySelector('.map').getBoundingClientRect(), r = e.getBoundingClientRect(); return e.classList.contains('part') && r.left >= box.left && r.right <= box.right && r.top >= box.top && r.bottom <= box.bottom })()`)
		})
	}
	last := value[string](p, `document.activeElement.querySelector('b').innerText`)
	p.enter()
	p.shows("sink " + last)
	place := `document.querySelector('.vue-flow__transformationpane').style.transform`
	moves := func(what string, act func()) {
		t.Helper()
		before := value[string](p, place)
		act()
		eventually(t, 5*time.Second, what, func() bool { return value[string](p, place) != before })
	}
	p.hit("the part "+last, part(last))
	moves("arrow keys move the map", func() { p.keys(kb.ArrowLeft) })
	moves("minus makes it smaller", func() { p.keys("-") })

	// By the mouse: the whole, larger, and dragged.
	p.press("whole map")
	eventually(t, 5*time.Second, "the whole map", func() bool { return sight().Seen == 30 })
	moves("plus makes it larger", func() { p.press("larger") })
	moves("the map is dragged", func() { p.drag("the map", `document.querySelector('.vue-flow__pane')`, 60, 30, 200*time.Millisecond) })
}

// TestHundredJobs: with a hundred jobs each place of the console is there within a second, once the browser has the console.
func TestHundredJobs(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	const lifts = "undertide: 1\njob: lifts-%03d\nabout: Lifts of the quay, a hundredth of them\nsources:\n  lifts: {via: simulate, with: {rate: 10/s, fields: {crane: {pick: [C1, C2]}, at: {now: true}}}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 5s}}\nsteps:\n  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {lifts: count()}}\nsinks:\n  out: {from: minute, via: http, with: {connection: office, path: /x}}\nconnections: {office: {via: http, url: 'http://127.0.0.1:1'}}\n"
	for i := range 100 {
		if status, text, _ := s.ask("POST", "/api/v1/jobs", fmt.Sprintf(lifts, i), "Content-Type", "application/yaml"); status != http.StatusCreated {
			t.Fatalf("%d: %s", status, text)
		}
	}
	p := browse(t, s.address+"/jobs")
	p.shows("lifts-099")
	for _, c := range []struct{ place, press, shows string }{
		{"Streams", "Streams", "There is no connection yet"}, {"Jobs", "Jobs", "lifts-099"}, {"Alarms", "Alarms", "memory"}, {"Build", "Build", "From nothing"}, {"Try", "Try", "one event at a time"}, {"a job", "", "Process the past"},
	} {
		best := time.Hour
		for range 3 {
			p.press(map[bool]string{true: "Jobs", false: "Try"}[c.place != "Jobs"])
			p.shows(map[bool]string{true: "lifts-099", false: "one event at a time"}[c.place != "Jobs"])
			press := pressed(c.press)
			if c.press == "" {
				press = `[...document.querySelectorAll('a')].find((e) => e.innerText.trim() === 'lifts-050')`
			}
			took := value[float64](p, `new Promise((done) => { const from = performance.now(), e = `+press+`; e.click()
				const look = () => document.querySelector('main').innerText.includes(`+js(c.shows)+`) && !document.querySelector('.loading') ? done(performance.now() - from) : performance.now() - from > 5000 ? done(5000) : requestAnimationFrame(look)
				requestAnimationFrame(() => requestAnimationFrame(look)) })`)
			best = min(best, time.Duration(took*float64(time.Millisecond)))
		}
		t.Logf("%s is there after %s", c.place, best.Round(time.Millisecond))
		if best > time.Second {
			t.Errorf("%s is there after %s, want a second at most", c.place, best)
		}
	}
}
