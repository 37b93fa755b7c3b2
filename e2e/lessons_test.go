package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// held reads the table of windows of Try: number, from, to, state, events and what it holds, and whether it is lit.
func (p *page) held() string {
	p.t.Helper()
	return value[string](p, `[...document.querySelectorAll('section[aria-label=Windows] tbody tr')].map((r) => [...r.cells].map((c) => c.innerText.trim()).join(' | ') + (r.classList.contains('lit') ? ' *' : '')).join('\n')`)
}

// windowsAre waits until each text stands in a line of the table of windows, in order.
func (p *page) windowsAre(want ...string) {
	p.t.Helper()
	got := ""
	for until := time.Now().Add(8 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		got = p.held()
		lines := strings.Split(got, "\n")
		fits := len(lines) == len(want)
		for i := range want {
			fits = fits && strings.Contains(lines[i], want[i])
		}
		if fits {
			return
		}
	}
	p.t.Fatalf("the windows are\n%s\nwant %q", got, want)
}

// point moves the mouse over an element, as a hand does, or the keyboard's focus onto it.
func (p *page) point(what, element string) {
	p.t.Helper()
	at := p.find(element)
	if at.Why != "" {
		p.t.Fatalf("%s cannot be pointed at: %s", what, at.Why)
	}
	p.do(chromedp.MouseEvent(chromedp.MouseMoved, at.X, at.Y))
}

// lessonsTeach goes through the lessons of Try, which are there without a document: what each says comes out.
func lessonsTeach(t *testing.T, address string) {
	p := browse(t, address+"/try")
	p.shows("Six readings of a tide gauge")
	p.press("To the end")
	p.windowsAre("00:00:00 | 2026-03-01 00:01:00 | ● closed | 1, 2, 3, 5 | readings 4", "● closed | 4, 6 | readings 2")
	p.press("by arrival")
	p.windowsAre("| 1, 2, 3 | readings 3", "| 4, 5, 6 | readings 3")

	p.press("Sliding")
	p.shows("renewed every minute")
	p.press("To the end")
	p.point("event 4", "document.querySelectorAll('.events li')[3]")
	p.windowsAre("1 | ", "*", "*", "4 | ", "5 | ")
	p.shows("event 4 is in windows 2, 3")
	p.point("the heading", "document.querySelector('h1')")
	p.shows("point at an event")
	p.tabTo("up to event 1") // the keyboard does the same
	p.shows("event 1 is in windows 1, 2")

	p.press("Sessions")
	p.shows("When was the vessel near?")
	for range 4 {
		p.press("Next event")
	}
	p.windowsAre("◌ open | 1 | pings 1", "◌ open | 3 | pings 1")
	p.press("To the end")
	p.windowsAre("✕ withdrawn", "1, 3, 5 | pings 3", "✕ withdrawn", "| 7 |", "| 8 |")

	p.press("Margin and accept")
	p.shows("How long should a window wait?")
	p.press("To the end")
	p.windowsAre("| 1, 2 | readings 2", "| 3, 5 |", "| 7 |", "| 8 |")
	p.slide("margin", 50)
	p.windowsAre("● closed | 1, 2, 4, 6 | readings 4", "| 3, 5 |", "| 7 |", "| 8 |")
	p.slide("margin", 10)
	p.slide("accept", 60)
	p.windowsAre("◆ corrected | 1, 2, 4, 6 | readings 4", "| 3, 5 |", "| 7 |", "| 8 |")

	p.press("Join")
	p.shows("Which order was lifted")
	p.press("To the end")
	p.shows("5 rows")
	if got := value[string](p, "window.getComputedStyle(document.querySelector('.lessons .here')).fontWeight"); got != "600" {
		t.Errorf("the lesson that is open has the weight %s", got)
	}

	// From a job, its newest events are there already.
	p.do(chromedp.Navigate(address + "/jobs/mean-level"))
	p.shows("Results")
	p.press("Try its events")
	p.shows("300 events wait")
	p.shows("your document: mean-level")
}

// slide moves a slider by the arrow keys to a value.
func (p *page) slide(label string, to int) {
	p.t.Helper()
	slider := fmt.Sprintf(`[...document.querySelectorAll('.dials label')].find((l) => l.innerText.trim().startsWith(%q)).querySelector('input')`, label)
	value[bool](p, "("+slider+".focus(), true)")
	for range 60 {
		now := value[int](p, "Number("+slider+".value)")
		if now == to {
			return
		}
		if now < to {
			p.keys(kb.ArrowRight)
		} else {
			p.keys(kb.ArrowLeft)
		}
	}
	p.t.Fatalf("the slider %s does not reach %d", label, to)
}
