package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// looked are the pages of the console, and what is done there before it is looked at: see TEXT, press LABEL, choose PART.
var looked = []struct{ name, path, steps string }{
	{"jobs", "/jobs", "see mean-level"},
	{"jobs as a picture", "/jobs", "see mean-level; press picture"},
	{"a job", "/jobs/mean-level", "see Results; see window_start"},
	{"a step", "/jobs/mean-level", "see Results; choose minute; see late"},
	{"a source", "/jobs/mean-level", "see Results; choose levels; see partition"},
	{"a sink", "/jobs/mean-level", "see Results; choose means; see gauge"},
	{"a join", "/jobs/ordered-and-lifted", "see Results; choose met; see left"},
	{"history", "/jobs/mean-level", "see Results; press History; see version 1"},
	{"log", "/jobs/mean-level", "see Results; press Log; see running"},
	{"checkpoints", "/jobs/mean-level", "see Results; press Checkpoints; see rows changed"},
	{"lateness of a job", "/jobs/mean-level", "see Results; press Lateness; see in use"},
	{"versions", "/jobs/mean-level", "see Results; press Versions; see version"},
	{"process the past", "/jobs/mean-level", "see Results; press Process the past; see earliest"},
	{"streams", "/streams", "see Topics of harbour"},
	{"a connection", "/streams", "see Topics of harbour; press Test; see reached"},
	{"a topic", "/streams/harbour/crane.lifts", "see as it is stored"},
	{"a topic's profile", "/streams/harbour/crane.lifts", "see as it is stored; press Profile; see message key"},
	{"a topic's fields", "/streams/harbour/crane.lifts", "see as it is stored; press Fields and event time; see event time"},
	{"a topic's lateness", "/streams/harbour/crane.lifts", "see as it is stored; press Lateness; see proposed"},
	{"begin a job", "/streams/harbour/crane.lifts", "see as it is stored; press Begin a job from it; see What is it for"},
	{"build, empty", "/build", "see per-minute"},
	{"build a job", "/build?job=mean-level", "see no mistakes; see 1,000"},
	{"a form", "/build?job=mean-level", "see no mistakes; see 1,000; choose minute; see accept late rows for"},
	{"a form of a source", "/build?job=mean-level", "see no mistakes; see 1,000; choose levels; see margin"},
	{"settings of a job", "/build?job=mean-level", "see no mistakes; see 1,000; press settings; see checkpoint every"},
	{"what a step is added for", "/build?job=mean-level", "see no mistakes; see 1,000; press step; see filter"},
	{"a lesson", "/try?lesson=margin", "see by arrival; press To the end; see closed"},
	{"alarms", "/alarms", "see lag_grows"},
	{"an alarm", "/alarms", "see lag_grows; press Change lag_grows; see when"},
	{"people, none yet", "/people", "see Nobody has to sign in; see There are no people yet; press Add somebody; see Mail address"},
	{"a code that is wrong", "/enter#none", "see was used"},
	{"nowhere", "/nowhere", "see nothing at this address"},
}

// violations are what axe finds wrong on the page by some rules, a line each: the rule, and where.
func (p *page) violations(rules string) string {
	p.t.Helper()
	if !value[bool](p, "'axe' in window") {
		p.do(chromedp.Evaluate[chromedp.Void](read(p.t, "peers/node_modules/axe-core/axe.min.js")))
	}
	return value[string](p, `axe.run(document, {resultTypes: ['violations'], runOnly: `+rules+`}).then((r) => r.violations.flatMap((v) => v.nodes.map((n) =>
		v.id + ' at ' + n.target.join(' ') + ': ' + n.html.slice(0, 160) + ' | ' + (n.any[0] ?? n.all[0] ?? n.none[0])?.message)).join('\n'))`)
}

// forEverybody looks at each page of the console at the least width, by axe-core in light and, what hangs on colours, in dark: it finds
// nothing, and nothing is cut off (docs/console.md, "For everybody").
func forEverybody(t *testing.T, address string) {
	p := browse(t, address)
	value[bool](p, "(localStorage.setItem('undertide.theme', 'light'), true)")
	p.do(chromedp.EmulateViewport(1024, 768))
	for _, at := range looked {
		t.Run(at.name, func(t *testing.T) {
			p.t = t
			p.do(chromedp.Navigate(address + at.path))
			value[bool](p, `(document.head.insertAdjacentHTML('beforeend', '<style>*, *::before, *::after { transition: none !important; animation: none !important }</style>'), true)`) // colours half way count as wrong
			for step := range strings.SplitSeq(at.steps, "; ") {
				switch does, what, _ := strings.Cut(step, " "); does {
				case "see":
					p.shows(what)
				case "press":
					p.press(what)
				case "choose":
					p.choose(what)
				}
			}
			for _, theme := range []struct{ name, rules string }{
				{"light", `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']`}, {"dark", `{type: 'rule', values: ['color-contrast']}`},
			} {
				value[bool](p, fmt.Sprintf("(document.documentElement.classList.toggle('dark', %t), true)", theme.name == "dark"))
				if found := p.violations(theme.rules); found != "" {
					t.Errorf("%s: %d violations\n%s", theme.name, strings.Count(found, "\n")+1, found)
				}
			}
			if wide := value[int](p, "document.documentElement.scrollWidth"); wide > 1024 {
				t.Errorf("the page is %d wide in a window of 1024", wide)
			}
		})
	}
}
