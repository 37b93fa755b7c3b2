package e2e

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// clicksJob joins views of adverts with clicks; %s are the broker, how it ends, and kind and accept.
const clicksJob = `undertide: 1
job: clicks
settings: {checkpoint: {every: 200ms}}
connections:
  port: {via: kafka, brokers: ["%s"]}
sources:
  adverts:
    via: kafka
    with: {connection: port, topic: levels}
    fields: {user: string, page: string, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none, idle: 2s}%s
  clicks:
    via: kafka
    with: {connection: port, topic: means}
    fields: {user: string, button: string, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none, idle: 2s}%s
steps:
  met:
    join: {left: adverts, right: clicks, match: [user], within: [0s, 10s]%s}
    only: [user, page, button]
sinks:
  out: {from: met, via: file, with: {path: "%s"}}
  tardy: {from: late of met, via: file, with: {path: "%s"}}
`

// sendClicks sends, in this order, to one partition each: a partner at just ten seconds (u1), one a millisecond too late
// (u2), one that comes once the watermark has passed it by four seconds (u3), one that is sent twice (u4), a view without
// (u5), a click without (u6), and at the end what moves the watermark on.
func sendClicks(t *testing.T, broker string) {
	t.Helper()
	view := func(user string, at int) string {
		return fmt.Sprintf(`{"user":"%s","page":"p","at":%d}`+"\n", user, at)
	}
	click := func(user string, at int) string {
		return fmt.Sprintf(`{"user":"%s","button":"b","at":%d}`+"\n", user, at)
	}
	kcat(t, view("u1", 10000)+view("u2", 10000)+view("u4", 11000)+view("u5", 12000)+view("u3", 40000)+view("end", 50000), "-b", broker, "-t", "levels", "-p", "0", "-P")
	kcat(t, click("u6", 5000)+click("u4", 12000)+click("u4", 12000)+click("u1", 20000)+click("u2", 20001)+click("end", 50000)+click("u3", 46000), "-b", broker, "-t", "means", "-p", "0", "-P")
}

// TestPracticeJoin: two topics joined within ten seconds, in the terminal.
func TestPracticeJoin(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	sendClicks(t, broker)
	pair := func(user string) string { return `{"user":"` + user + `","page":"p","button":"b"}` }
	view := func(user string) string { return `{"user":"` + user + `","page":"p","button":null}` }
	click := func(user string) string { return `{"user":"` + user + `","page":null,"button":"b"}` }
	pairs := []string{pair("u1"), pair("u4"), pair("u4"), pair("end")}
	for _, c := range []struct {
		how  string
		want []string
		late bool
	}{
		{"", pairs, true},
		{", kind: inner, accept: 5s", append([]string{pair("u3")}, pairs...), false},
		{", kind: left", append([]string{view("u2"), view("u3"), view("u5")}, pairs...), true},
		{", kind: outer", append([]string{view("u2"), view("u3"), view("u5"), click("u2"), click("u6")}, pairs...), true},
		{", kind: outer, accept: 5s", append([]string{view("u2"), view("u5"), click("u2"), click("u6"), pair("u3")}, pairs...), false},
	} {
		end := "\n    until: latest"
		write(t, dir, "clicks.yaml", fmt.Sprintf(clicksJob, broker, end, end, c.how, "out.ndjson", "late.ndjson"))
		o := undertide(t, dir, "run", "clicks.yaml")
		o.want(t, 0, "step met: ")
		got := strings.Split(strings.TrimSpace(read(t, filepath.Join(dir, "out.ndjson"))), "\n")
		want := strings.Split(strings.Join(c.want, "\n"), "\n")
		sortBoth(got, want)
		same(t, "join"+c.how, got, want)
		late := read(t, filepath.Join(dir, "late.ndjson"))
		if c.late != strings.Contains(late, `"user":"u3"`) || c.late != strings.Contains(late, `"late_by":"4s"`) || c.late != strings.Contains(o.err, "1 late row lost") {
			t.Errorf("join%s: late rows %q; it says\n%s", c.how, late, o.err)
		}
	}
	plan := undertide(t, dir, "check", "--plan", "clicks.yaml").out
	for _, want := range []string{"outer join", "clicks comes from 0s to 10s after adverts, both included", "the rows of the left until the watermark has passed its time by 15s", "a row of the right that met none once the watermark has passed its time by 5s"} {
		if !strings.Contains(plan, want) {
			t.Errorf("the plan lacks %q:\n%s", want, plan)
		}
	}
}

// detailsJob has sales with details of a topic and of a list of regions; %s are the broker, how it ends, and the folder.
const detailsJob = `undertide: 1
job: details
settings: {checkpoint: {every: 200ms}}
connections:
  port: {via: kafka, brokers: ["%s"]}
sources:
  sales:
    via: kafka
    with: {connection: port, topic: means}
    fields: {sale: int, customer: string, amount: decimal, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 1s, ahead: none}%s
references:
  customers:
    via: kafka
    with: {connection: port, topic: levels}
    fields: {id: string, name: string, region: int}
    key: [id]
  regions: {via: file, with: {path: %s/regions.csv}, fields: {region: int, country: string}, key: [region]}
  full: {from: customers, lookup: {reference: regions, match: [region], add: [country]}}
steps:
  large:
    from: sales
    lookup: {reference: full, match: {customer: id}, add: {name: name, country: country}}
    where: amount > decimal('100')
    set:
      abroad: country != 'PT'
      day: at.format('%%d.%%m.%%Y', 'Europe/Lisbon')
    only: [sale, name, country, abroad, day, amount]
sinks:
  out: {from: large, via: file, with: {path: "%s"}}
`

// sendDetails sends customers, one of them without an id and one that moved, and their sales.
func sendDetails(t *testing.T, dir, broker string) {
	t.Helper()
	write(t, dir, "regions.csv", "region,country\n1,PT\n2,ES\n")
	kcat(t, "c1|{\"id\":\"c1\",\"name\":\"Ane\",\"region\":1}\nc2|{\"id\":\"c2\",\"name\":\"Bo\",\"region\":1}\nx|{\"name\":\"Nobody\",\"region\":1}\nc2|{\"id\":\"c2\",\"name\":\"Bo\",\"region\":2}\n", "-b", broker, "-t", "levels", "-P", "-K", "|", "-p", "0")
	kcat(t, `{"sale":1,"customer":"c1","amount":100.01,"at":1767225600000}
{"sale":2,"customer":"c1","amount":100.00,"at":1767225601000}
{"sale":3,"customer":"c2","amount":250.5,"at":1767225602000}
{"sale":4,"customer":"c9","amount":999,"at":1767225603000}
{"sale":5,"amount":999,"at":1767225604000}
`, "-b", broker, "-t", "means", "-P", "-p", "0")
}

// detailsRows are what comes of them.
const detailsRows = `{"sale":1,"name":"Ane","country":"PT","abroad":false,"day":"01.01.2026","amount":"100.01"}
{"sale":3,"name":"Bo","country":"ES","abroad":true,"day":"01.01.2026","amount":"250.5"}
{"sale":4,"name":null,"country":null,"abroad":null,"day":"01.01.2026","amount":"999"}
{"sale":5,"name":null,"country":null,"abroad":null,"day":"01.01.2026","amount":"999"}
`

// TestPracticeDetails: sales with the details of a topic whose null keys are noticed, tables merged, a flag, readable dates, and
// only the large ones, in the terminal.
func TestPracticeDetails(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	sendDetails(t, dir, broker)
	write(t, dir, "details.yaml", fmt.Sprintf(detailsJob, broker, "\n    until: latest", dir, "out.ndjson"))
	undertide(t, dir, "run", "details.yaml").want(t, 0,
		"reference customers: 2 rows, ", "1 were not taken, 1 of them for a null in their key; the first: partition 0, offset 2 has no id, which is its key",
		`step large: 3 of 5 rows found in full; 1 has no row there, such as customer "c9"; 1 with a null; 1 dropped`)
	if got := read(t, filepath.Join(dir, "out.ndjson")); got != detailsRows {
		t.Errorf("got\n%swant\n%s", got, detailsRows)
	}
	if o := undertide(t, dir, "rehearse", "details.yaml"); !strings.Contains(o.out, "sink out from large: 4 rows would go") || !strings.Contains(o.err, `large: 1 of 5 rows have no row in full, such as customer "c9"`) {
		t.Errorf("rehearse says\n%s%s", o.out, o.err)
	}
}

// TestPracticesInConsole does both in the browser alone: a document of a topic becomes that of the practice, its join is changed
// by the form, it is rehearsed, saved and started; rows, sides, references and misses are read from the page.
func TestPracticesInConsole(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	sendClicks(t, broker)
	s := serve(t, dir)
	p := browse(t, s.address+"/streams")
	p.press("Add a connection")
	p.fill("name", "port")
	p.fill("brokers", broker)
	p.press("Store and test")
	p.shows("✓ reached")
	begin := func(document string) {
		t.Helper()
		p.press("Build")
		p.pick("topic", "levels")
		p.hit("the first purpose", "document.querySelector('.purpose:not([disabled])')")
		p.holds("topic: levels")
		p.after("undertide: 1")
		p.keys("a", chromedp.KeyModifiers(chromedp.ModifierCtrl))
		p.paste(document)
		p.shows("no mistakes")
	}
	begin(fmt.Sprintf(clicksJob, broker, "", "", ", kind: inner", dir+"/out/", dir+"/late/"))
	p.choose("met")
	p.pick("kind", "outer")
	p.holds("kind: outer")
	p.fill("accept late rows for", "5s")
	p.holds("accept: 5s")
	p.press("Rehearse")
	p.shows("nothing delivered")
	p.press("Save")
	p.press("Start …")
	p.press("Start")
	p.shows("Running")
	p.choose("met")
	p.shows("met none")
	text := ""
	defer func() {
		if t.Failed() {
			t.Log(text)
		}
	}()
	eventually(t, 20*time.Second, "five pairs, and both sides", func() bool {
		text = p.text()
		return strings.Contains(text, "pairs\t5\n") && strings.Contains(text, "left\t6\t4\t2\t") && strings.Contains(text, "right\t7\t5\t2\t")
	})

	sendDetails(t, dir, broker)
	p.press("Build")
	p.press("Begin another")
	begin(fmt.Sprintf(detailsJob, broker, "", dir, dir+"/sales/"))
	p.press("Save")
	p.press("Start …")
	p.press("Start")
	p.shows("Running")
	p.choose("customers")
	p.shows("of them for a null in the key")
	p.choose("large")
	p.shows(`customer "c9"`)
	p.shows("01.01.2026")
	p.shows("250.5")

	// A form proposes fields to match that both have, and proposes anew where those of before are not there.
	p.press("Build")
	p.choose("large")
	p.pick("reference", "regions")
	p.holds("reference: regions, match: {sale: region}")
	p.press("step")
	p.hit("the join of the menu", `[...document.querySelectorAll('.el-dropdown-menu__item')].find((e) => e.getClientRects().length && e.innerText.startsWith('join'))`)
	p.holds("join: {left: large, right: sales, match: {sale: sale}, within: 10s}")
}

func sortBoth(a, b []string) {
	slices.Sort(a)
	slices.Sort(b)
}
