package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// document gives the text that stands in the editor; the editor draws only the lines in sight.
func (p *page) document() string {
	p.t.Helper()
	return value[string](p, `sessionStorage.getItem('undertide draft') ?? ''`)
}

// holds waits until the document holds a text.
func (p *page) holds(text string) {
	p.t.Helper()
	for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if strings.Contains(p.document(), text) {
			return
		}
	}
	p.t.Fatalf("the document does not hold %q:\n%s", text, p.document())
}

// until presses a button until the document holds a text.
func (p *page) until(label, text string) {
	p.t.Helper()
	for range 30 {
		if strings.Contains(p.document(), text) {
			return
		}
		p.press(label)
	}
	p.holds(text)
}

const buildDocument = `# The harbour's own words
undertide: 1
job: lifts     # by crane
settings: {delivery: at_least_once}

sources:
  lifts:
    via: kafka
    with: {connection: port, topic: crane.lifts}
    fields: {crane: string, tonnes: double, at: {type: timestamp, parse: epoch_ms}}   # as they come
    event_time: at
    watermark: {margin: 5s}   # guessed

steps:
  # Empty hooks do not count.
  useful:
    from: lifts
    where: tonnes > 2.0
  minute:
    from: useful
    key: [crane]
    window: {tumbling: 1m}     # short
    measures:
      lifts: count()           # how many
      load: sum(tonnes)

sinks:
  rates: {from: minute, via: kafka, with: {connection: port, topic: crane.rates, create: true}}
`

// TestBuild drives Build and Try in the browser: mistakes in place with a change that mends them, forms
// that leave comments as they are, completion, parts that are added, rehearsal and examples, a play by
// hand that becomes an example; a connection with a secret; versions, and what a start keeps.
func TestBuild(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	p := browse(t, s.address+"/streams")
	p.shows("There is no connection yet.")

	// A connection with a secret, which is sealed and never shown; the stand-in wants none, and says so.
	p.press("Add a connection")
	p.fill("name", "port")
	p.fill("brokers", broker)
	p.pick("sign-in", "yes")
	p.pick("mechanism", "plain")
	p.fill("user", "tide")
	p.fill("password", "ebb-and-flow")
	p.press("Store and test")
	p.shows("✕ not signed in")
	p.shows("check mechanism, user and password")
	p.shows("sealed")
	if text := p.text() + s.must("connections", "--format", "json").out + s.must("secrets", "--format", "json").out; strings.Contains(text, "ebb-and-flow") {
		t.Error("the secret is shown")
	}
	p.press("Change")
	p.pick("sign-in", "no")
	p.press("Store and test")
	p.shows("✓ reached, signed in")

	undertide(t, dir, "topics", "port", "--server", s.address, "--make", "crane.lifts", "--partitions", "1").want(t, 0, "topic crane.lifts is made")
	var lines []string
	begin := time.Now().Add(-10 * time.Minute).UnixMilli()
	for i := range 300 {
		at := begin + int64(i)*1000
		if i%20 == 11 {
			at -= 9000
		}
		lines = append(lines, fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d}`, i%4, 1+i%9, at))
	}
	write(t, dir, "lifts.ndjson", strings.Join(lines, "\n")+"\n")
	undertide(t, dir, "send", "port", "crane.lifts", "lifts.ndjson", "--key", "crane", "--server", s.address).want(t, 0, "sent 300 events to crane.lifts")
	p.press("Ask again")
	p.shows("300")
	p.press("crane.lifts")
	p.shows(`{"crane":"C3","tonnes":`)
	p.press("Begin a job")
	p.fill("Name of the described source", "lifts")
	p.press("Keep as a described source")
	p.shows("Kept as lifts")
	p.press("▶ Follow")
	p.shows("nothing new for 3 s; the oldest are from")
	p.press("Send …")
	p.fill("Events to send", `{"crane":"C9","tonnes":7.25,"at":`+fmt.Sprint(begin+300_000)+`}`)
	p.fill("message key", "crane")
	p.press("Send 1")
	p.shows("Sent 1 of 1 events.")
	p.press("Close")
	p.shows(`{"crane":"C9","tonnes":7.25`) // it came while it was followed
	p.press("■ Stop following")

	s.must("save", write(t, dir, "lifts.yaml", buildDocument))
	p.do(chromedp.Navigate(s.address + "/build?job=lifts"))
	p.shows("made of lifts version 1")
	p.shows("nothing delivered")
	p.shows("come later than the margin of 5s") // the sample warns
	p.press("useful")
	p.shows("✕ dropped: tonnes > 2.0 is false")

	// A mistake in place, and the change that mends it.
	p.edit("sum(tonnes)", "sum(tones)")
	p.shows("1 mistake")
	p.shows("did you mean tonnes?")
	p.shows("✕ a mistake") // on the map
	if !value[bool](p, `document.querySelector('.cm-lintRange-error') !== null && [...document.querySelectorAll('button')].find((b) => b.innerText === 'Save').disabled`) {
		t.Error("the mistake is not marked in the text, or the document can be saved")
	}
	p.press("Change it to tonnes")
	p.shows("no mistakes")

	// Completion knows the schema, and the fields.
	p.after("    event_time: at")
	p.enter()
	p.keys("si")
	eventually(t, 10*time.Second, "no completion for a key that is not there", func() bool {
		return !value[bool](p, `document.querySelector('.cm-tooltip-autocomplete') !== null`)
	})
	p.keys(kb.Backspace + kb.Backspace + "beg")
	eventually(t, 10*time.Second, "begin is offered", func() bool {
		return strings.Contains(value[string](p, `document.querySelector('.cm-tooltip-autocomplete')?.innerText ?? ''`), "begin")
	})
	p.hit("the completion", `document.querySelector('.cm-tooltip-autocomplete li')`)
	p.holds("\n    begin: ")
	p.keys("earliest" + kb.Escape)
	p.shows("no mistakes")

	// Forms change the same text by splicing.
	p.choose("lifts")
	p.fill("margin", "12s")
	p.holds("watermark: {margin: 12s}   # guessed")
	p.fill("idle", "2m")
	p.holds("watermark: {margin: 12s, idle: 2m}   # guessed")
	p.choose("minute")
	p.fill("window of", "2m")
	p.holds("window: {tumbling: 2m}     # short")
	p.fill("accept late rows for", "30s")
	p.holds("      load: sum(tonnes)\n    late: {accept: 30s}\n\nsinks:")
	p.fill("condition of load", "tonnes > 3.0")
	p.holds("      lifts: count()           # how many\n      load: 'sum(tonnes, tonnes > 3.0)'\n    late:")
	p.press("add measure")
	p.holds("      measure: count()\n    late:")
	p.fill("key", "")
	p.holds("    from: useful\n    window:")
	p.fill("key", "crane, tonnes")
	p.holds("    key: [crane, tonnes]\n")
	p.shows("no mistakes")
	p.press("step")
	p.press("deduplicate")
	p.holds("  deduplicate:\n    from: minute\n    deduplicate: {key: [crane], within: 10m}\n\nsinks:")
	p.press("take out step deduplicate")
	p.holds("    late: {accept: 30s}\n    key: [crane, tonnes]\n\nsinks:")
	p.slowChecks() // the answer to an older text once took away the part that was just added
	p.press("source")
	p.press("lifts\nTopic crane.lifts")
	p.holds("  lifts_2:\n    described: lifts\n    via: kafka\n    with: {connection: port, topic: crane.lifts}\n")
	p.press("take out source lifts_2")
	for _, comment := range []string{"# The harbour's own words", "# by crane", "# as they come", "# guessed", "  # Empty hooks do not count.\n", "# short", "# how many"} {
		if !strings.Contains(p.document(), comment) {
			t.Errorf("the forms lost the comment %q:\n%s", comment, p.document())
		}
	}
	p.choose("rates")
	p.press("Fields")
	p.shows("Makes topic crane.rates, unless it is there; its messages are JSON objects {crane string, tonnes double, window_start timestamp")

	// A play by hand becomes an example, which holds.
	p.press("Try")
	for i, tonnes := range []string{"2.5", "1.5", "4.5"} {
		p.fill("An event by hand", fmt.Sprintf(`{"crane": "C1", "tonnes": %s, "at": %d}`, tonnes, i*90_000))
		p.press("Give it")
		p.shows(fmt.Sprintf("Event %d happened at", i+1))
	}
	p.fill("An event by hand", `{"crone": "C1"}`)
	p.press("Give it")
	p.shows("Event 4 is a reject")
	p.press("To the end")
	p.shows("The end of all input")
	p.press("by arrival")
	p.shows("as they would come by arrival")
	p.press("by event time")
	p.press("Save as an example")
	p.holds("examples:\n  - about: 'as it was tried'\n    given:\n      - lifts: {crane: \"C1\", tonnes: 2.5, at: 0}")
	p.shows("Examples 1 of 1")
	p.shows("✓ as it was tried")
	p.edit("'as it was tried'", "two windows")
	p.shows("✓ two windows")

	// Saved and started; the next version says what it keeps.
	p.press("Save")
	p.shows("What changed since version 1 of lifts")
	p.shows("two windows")
	p.press("Back")
	const undone, redone = "- about: 'as it was tried'", "- about: two windows"
	p.until("Undo", undone) // what was typed slowly goes back in several steps
	p.shows("✓ as it was tried")
	p.until("Redo", redone)
	p.shows("✓ two windows")
	p.press("Save")
	p.press("Save as version 2")
	p.shows("Saved as version 2 of lifts.")
	p.press("Start …")
	p.shows("The job has no checkpoint")
	p.press("Start")
	p.shows("Results")
	eventually(t, 15*time.Second, "the job runs", func() bool { return s.job("lifts").Status == "running" })
	s.must("stop", "lifts")
	p.press("Versions")
	p.press("changes")
	p.shows("steps.minute.window.tumbling: 2m, was 1m")
	p.shows("sources.lifts.watermark.idle: added, 2m")
	p.press("start version 1")
	p.shows("its state does not fit")
	p.press("leave it behind")
	p.press("Start")
	eventually(t, 15*time.Second, "version 1 runs", func() bool { j := s.job("lifts"); return j.Status == "running" && j.Run.Version == 1 })
	p.press("Lateness")
	p.shows("● in use")
}
