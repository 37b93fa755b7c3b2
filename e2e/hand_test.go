package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// The hand
//
// Tests drive the console by what a hand does: the mouse goes to where an element is and presses what lies there, and
// keys go to what has the focus. What is covered by something else, has no size, moves or is disabled cannot be pressed,
// and a test that tries fails with what lies on top.

// at is where the mouse can press an element: its middle, once it stays where it is.
type at struct {
	X, Y float64
	Why  string // why it cannot be pressed; empty where it can
}

// find gives where the element of a JavaScript expression can be pressed. It looks for a fifth of a second whether the element
// stays where it is: a hand is not a faster.
func (p *page) find(element string) at {
	p.t.Helper()
	return value[at](p, `(async () => {
		const e = `+element+`;
		if (!e) return { Why: 'it is not there' };
		e.scrollIntoView({ block: 'center', inline: 'center', behavior: 'instant' });
		const frame = () => new Promise((go) => requestAnimationFrame(() => go(e.getBoundingClientRect())));
		const a = await frame(); await new Promise((go) => setTimeout(go, 200)); const b = await frame();
		if (!e.isConnected) return { Why: 'it has gone' };
		if (!b.width || !b.height) return { Why: 'it has no size' };
		if (Math.abs(a.x - b.x) > 0.5 || Math.abs(a.y - b.y) > 0.5) return { Why: 'it moves' };
		if (e.disabled || e.closest('[aria-disabled=true]')) return { Why: 'it is disabled' };
		const X = b.x + b.width / 2, Y = b.y + b.height / 2, top = document.elementFromPoint(X, Y);
		if (!top) return { Why: 'it is outside of the window, at ' + X + ', ' + Y };
		if (top !== e && !e.contains(top) && !(top.contains(e) && top.tagName === 'LABEL')) return { Why: 'something lies on top of it: ' + top.outerHTML.slice(0, 200) };
		window.struck = undefined;
		addEventListener('pointerdown', (press) => { window.struck = e.contains(press.target) || press.target.contains(e) && press.target.tagName === 'LABEL' }, { capture: true, once: true });
		return { X, Y, Why: '' };
	})()`)
}

// hit presses an element with the mouse and lets it go; what is how the test calls it.
func (p *page) hit(what, element string, options ...chromedp.MouseOption) {
	p.t.Helper()
	p.strike(what, element, func(x, y float64) { p.do(chromedp.MouseClickXY(x, y, options...)) })
}

// strike does something with the mouse at the middle of an element. Where the page moved the element away between the look and the
// press, so that the press went to something else, it looks again, as a person does.
func (p *page) strike(what, element string, press func(x, y float64)) {
	p.t.Helper()
	var where at
	for until := time.Now().Add(15 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if where = p.find(element); where.Why == "" {
			press(where.X, where.Y)
			if !value[bool](p, "window.struck === false") { // where the press led to another page there is none
				return
			}
			where.Why = "it moved away as it was pressed"
			p.t.Logf("%s moved away as it was pressed", what)
		}
	}
	p.t.Fatalf("%s cannot be pressed: %s", what, where.Why)
}

// drag presses the mouse in the middle of an element, moves it by a distance in steps of 20 ms, as a hand does, and lets go. A slow hand
// takes long enough for the page to be drawn anew meanwhile.
func (p *page) drag(what, element string, byX, byY float64, takes time.Duration) {
	p.t.Helper()
	left := chromedp.ButtonLeft
	p.strike(what, element, func(x, y float64) {
		p.do(chromedp.MouseEvent(chromedp.MouseMoved, x, y), chromedp.MouseEvent(chromedp.MousePressed, x, y, left, chromedp.ClickCount(1)))
		const step = 20 * time.Millisecond
		for passed := step; passed <= takes; passed += step {
			share := float64(passed) / float64(takes)
			p.do(chromedp.MouseEvent(chromedp.MouseMoved, x+share*byX, y+share*byY, left))
			time.Sleep(step)
		}
		p.do(chromedp.MouseEvent(chromedp.MouseReleased, x+byX, y+byY, left, chromedp.ClickCount(1)))
	})
}

// keys presses keys, one after another, whatever has the focus.
func (p *page) keys(text string, options ...chromedp.KeyOption) {
	p.t.Helper()
	p.do(chromedp.KeyEvent(text, options...))
}

// enter presses the Enter key: down, with the character that comes of it unless a page prevents that, and up.
func (p *page) enter() {
	p.t.Helper()
	for _, kind := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeKeyDown, input.DispatchKeyEventTypeKeyUp} {
		e := input.DispatchKeyEventParams{Type: kind, Key: "Enter", Code: "Enter", WindowsVirtualKeyCode: 13, NativeVirtualKeyCode: 13}
		if kind == input.DispatchKeyEventTypeKeyDown {
			e.Text, e.UnmodifiedText = "\r", "\r"
		}
		if _, err := chromedp.Call(p.ctx, input.DispatchKeyEvent, e); err != nil {
			p.t.Fatal(err)
		}
	}
}

// paste puts a text where the focus is, as the clipboard does.
func (p *page) paste(text string) {
	p.t.Helper()
	if _, err := chromedp.Call(p.ctx, input.InsertText, input.InsertTextParams{Text: text}); err != nil {
		p.t.Fatal(err)
	}
}

// js is a text as JavaScript writes it.
func js(text string) string {
	out, err := json.Marshal(text)
	if err != nil {
		panic(err) // a string
	}
	return string(out)
}

// pressed is the element that begins with a label: a button, link, tab or row. Nothing behind a dialog can be reached.
func pressed(label string) string {
	return `(() => { const dialog = [...document.querySelectorAll('.el-dialog, .el-message-box')].filter((e) => e.getClientRects().length).pop();
		const all = [...(dialog ?? document).querySelectorAll('button, a, [role=tab], [role=menuitem], tbody tr, .el-radio, .el-radio-button, .el-checkbox')].filter((e) => e.getClientRects().length && !e.disabled);
		const of = (e) => (e.getAttribute('aria-label') ?? e.innerText ?? '').trim();
		return all.find((e) => of(e) === ` + js(label) + `) ?? all.find((e) => of(e).startsWith(` + js(label) + `)) })()`
}

// press presses what begins with a label.
func (p *page) press(label string) {
	p.t.Helper()
	p.hit(label, pressed(label))
}

// part is a part of a map.
func part(name string) string {
	return `[...document.querySelectorAll('.part')].find((e) => e.querySelector('b')?.innerText === ` + js(name) + `)`
}

// choose presses a part of the map; of one that is too large to be read whole, once the whole is shown.
func (p *page) choose(name string) {
	p.t.Helper()
	eventually(p.t, 15*time.Second, "a map that has "+name, func() bool { return value[bool](p, `!!`+part(name)) })
	eventually(p.t, 15*time.Second, "a map that shows "+name, func() bool {
		seen := value[bool](p, `(() => { const e = `+part(name)+`, a = e.getBoundingClientRect(), b = e.closest('.map').getBoundingClientRect();
			return a.left >= b.left - 1 && a.right <= b.right + 1 && a.top >= b.top - 1 && a.bottom <= b.bottom + 1 })()`)
		if !seen && value[bool](p, `[...document.querySelectorAll('button')].some((b) => b.innerText === 'whole map')`) {
			p.press("whole map")
		}
		return seen
	})
	p.hit("the part "+name+" of the map", part(name))
}

// field is the input of a label.
func field(label string) string {
	return `(() => { const l = [...document.querySelectorAll('label')].find((l) => l.getClientRects().length && l.innerText.trim() === ` + js(label) + `);
		const e = l ? document.getElementById(l.htmlFor) : [...document.querySelectorAll('[aria-label="' + ` + js(label) + ` + '"]')].find((e) => e.getClientRects().length);
		return !e ? null : e.matches('input, textarea') ? e : e.querySelector('input, textarea') })()`
}

// fill types into the field of a label, over what is there, and goes on to the next field.
func (p *page) fill(label, text string) {
	p.t.Helper()
	p.hit("the field "+label, field(label))
	p.keys("a", chromedp.KeyModifiers(chromedp.ModifierCtrl))
	if text == "" {
		p.keys(kb.Backspace)
	} else {
		p.keys(text)
	}
	p.keys(kb.Tab)
}

// pick chooses an option of the list of a label.
func (p *page) pick(label, option string) {
	p.t.Helper()
	p.hit("the list "+label, `(() => { const l = [...document.querySelectorAll('label')].find((l) => l.getClientRects().length && l.innerText.trim() === `+js(label)+`);
		const e = l ? document.getElementById(l.htmlFor) : document.querySelector('[aria-label="' + `+js(label)+` + '"]'); return e?.closest('.el-select__wrapper') ?? e?.querySelector('.el-select__wrapper') })()`)
	p.hit("the option "+option, `[...document.querySelectorAll('.el-select-dropdown__item')].find((e) => e.getClientRects().length && e.innerText.trim().startsWith(`+js(option)+`))`)
}

// editorAt gives where a place of the editor's text is, once it is in sight; before says how many characters of old stand
// before it.
func (p *page) editorAt(old string, before int) at {
	p.t.Helper()
	var where at
	for until := time.Now().Add(10 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		where = value[at](p, `(async () => {
			const c = document.querySelector('[data-editor] .cm-content'), view = (c?.cmView ?? c?.cmTile)?.view;
			const from = view ? view.state.doc.toString().indexOf(`+js(old)+`) : -1;
			if (from < 0) return { Why: 'the editor does not hold it' };
			const see = () => view.coordsAtPos(from + `+fmt.Sprint(before)+`);
			const s = view.scrollDOM, box = s.getBoundingClientRect();
			let r = see();
			if (!r || r.top < box.top || r.bottom > box.bottom) { s.scrollTop = view.lineBlockAt(from).top - s.clientHeight / 2; await new Promise((go) => setTimeout(go, 60)); r = see(); }
			if (r && (r.top < 0 || r.bottom > innerHeight)) { window.scrollBy(0, r.top - innerHeight / 2); await new Promise((go) => setTimeout(go, 60)); r = see(); }
			if (!r) return { Why: 'its place is not in sight' };
			const X = r.left, Y = (r.top + r.bottom) / 2, top = document.elementFromPoint(X, Y);
			return top?.closest('.cm-editor') ? { X, Y, Why: '' } : { Why: 'something lies on top of it: ' + top?.outerHTML.slice(0, 200) } })()`)
		if where.Why == "" {
			return where
		}
	}
	p.t.Fatalf("%q of the editor cannot be reached: %s", old, where.Why)
	return where
}

// after puts the cursor of the editor behind a text.
func (p *page) after(text string) {
	p.t.Helper()
	w := p.editorAt(text, len([]rune(text)))
	p.do(chromedp.MouseClickXY(w.X, w.Y))
}

// edit writes a text over another in the editor: the mouse marks it, and keys write; several lines are pasted.
func (p *page) edit(old, text string) {
	p.t.Helper()
	from := p.editorAt(old, 0)
	p.do(chromedp.MouseClickXY(from.X, from.Y))
	to := p.editorAt(old, len([]rune(old)))
	p.do(chromedp.MouseClickXY(to.X, to.Y, chromedp.ButtonModifiers(chromedp.ModifierShift)))
	if strings.Contains(text, "\n") {
		p.paste(text)
		return
	}
	p.keys(text)
	p.keys(kb.Escape) // a completion that is offered is not wanted
}

// tabTo goes by the Tab key to what begins with a label, as one who has no mouse does.
func (p *page) tabTo(label string) {
	p.t.Helper()
	var seen []string
	for range 120 {
		p.keys(kb.Tab)
		has := value[string](p, `(() => { const e = document.activeElement; return (e?.getAttribute('aria-label') ?? e?.innerText ?? '').trim() })()`)
		if seen = append(seen, has); strings.HasPrefix(has, label) {
			if !value[bool](p, `(() => { const e = document.activeElement, s = getComputedStyle(e); return e.matches(':focus-visible') && (s.outlineStyle !== 'none' && s.outlineWidth !== '0px' || s.boxShadow !== 'none') })()`) {
				p.t.Errorf("%s has the focus, and nothing shows it", label)
			}
			return
		}
	}
	p.t.Fatalf("Tab does not lead to %s, but to %q", label, seen)
}

// TestKeyboard walks through the console without a mouse: to a job, a part of its map, its records, stop and start.
func TestKeyboard(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", topicJob(broker, dir)))
	s.must("start", "means")
	kcat(t, keyed(readings(2_000)), "-b", broker, "-t", "levels", "-P", "-K", "|")
	p := browse(t, s.address)
	p.shows("1 running")
	p.tabTo("Streams")
	p.enter()
	p.shows("There is no connection yet.")
	p.tabTo("Jobs")
	p.enter()
	p.tabTo("means")
	p.enter()
	p.shows("harbour: reached")
	p.tabTo("minute")
	p.enter()
	p.shows("The counts add up.")
	p.tabTo("History") // a list of tabs is one stop; arrows go within it
	p.enter()
	p.shows("version 1 runs")
	p.do(chromedp.Navigate(s.address + "/jobs/means"))
	p.shows("harbour: reached")
	p.tabTo("Stop")
	p.enter()
	p.shows("with a checkpoint. The next start goes on from there.")
	p.tabTo("Start")
	p.enter()
	s.waitStatus("means", "running")
}

// TestHandSees: the hand does not press what a hand cannot press.
func TestHandSees(t *testing.T) {
	p := browse(t, "data:text/html,"+`<style>div{position:fixed;inset:0}</style><button id=a>a</button><button id=b disabled>b</button><button id=c style="display:none">c</button><button id=d style="pointer-events:none">d</button><div></div>`)
	for id, want := range map[string]string{"a": "something lies on top", "b": "it is disabled", "c": "it has no size", "d": "something lies on top", "e": "it is not there"} {
		if got := p.find(`document.getElementById('` + id + `')`); !strings.Contains(got.Why, want) {
			t.Errorf("%s: %+v, want %s", id, got, want)
		}
	}
}

// TestNothingUnasked: what cannot be taken back is asked for first; a draft is not lost by an address, and a version
// that somebody has saved meanwhile is not covered up; a job that is not there is named.
func TestNothingUnasked(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("connections", "add", "port", "--brokers", broker, "--no-test")
	put := func(path, body string) {
		t.Helper()
		if code, text, _ := s.ask("PUT", "/api/v1/"+path, body, "Content-Type", "application/json"); code != 200 {
			t.Fatal(text)
		}
	}
	put("secrets/pass", `{"text":"ebb"}`)
	put("sources/levels", `{"about":"levels of the basin","text":"  levels: {via: kafka, with: {connection: port, topic: levels}, fields: {gauge: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}\n"}`)
	p := browse(t, s.address+"/streams")
	remove := func(row string) string {
		return `[...[...document.querySelectorAll('tr')].filter((r) => r.cells[0]?.innerText.trim() === ` + js(row) + `)].flatMap((r) => [...r.querySelectorAll('button')]).find((b) => b.innerText.trim() === 'Remove')`
	}
	for row, question := range map[string]string{"port": "Remove the connection port?", "pass": "Remove the secret pass?", "levels": "Remove the described source levels?"} {
		p.hit("Remove "+row, remove(row))
		p.shows(question)
		p.press("Leave it")
		eventually(t, 5*time.Second, "the question has gone", func() bool { return !strings.Contains(p.text(), question) })
		if !value[bool](p, "!!("+remove(row)+")") {
			t.Errorf("%s was removed although it should be left", row)
		}
		p.hit("Remove "+row, remove(row))
		p.shows(question)
		p.press("Remove")
		eventually(t, 5*time.Second, row+" has gone", func() bool { return !value[bool](p, "!!("+remove(row)+")") })
	}

	doc := topicJob(broker, dir)
	s.must("save", write(t, dir, "means.yaml", doc))
	p.do(chromedp.Navigate(s.address + "/build?job=nothing"))
	p.shows("there is no job nothing")
	p.do(chromedp.Navigate(s.address + "/build?job=means"))
	p.holds("job: means")
	p.edit("Means of each gauge and minute", "Mine")
	p.holds("about: Mine")
	p.do(chromedp.Navigate(s.address + "/build?job=means"))
	p.shows("Your draft of means version 1 has changes that were not saved.")
	p.press("Leave it")
	p.holds("about: Mine")
	s.must("save", write(t, dir, "means.yaml", strings.Replace(doc, "Means of each gauge and minute", "Theirs", 1))).want(t, 0, "saved as version 2")
	p.shows("no mistakes")
	p.press("Save")
	p.press("Save as version 2")
	p.shows("somebody has saved it meanwhile")
	p.press("Save mine as the newest all the same")
	p.shows("Saved as version 3 of means.")
	p.do(chromedp.Navigate(s.address + "/build?job=means")) // nothing is lost by that
	p.holds("about: Mine")
	if strings.Contains(p.text(), "Leave them behind") {
		t.Error("a draft that was saved is asked about")
	}
	s.run("save", "means.yaml", "--made-from", "2").want(t, 1, "the document was made from version 2 of means, and the newest is 3; see undertide diff means 2 3")
	s.must("save", "means.yaml", "--made-from", "3").want(t, 0, "saved as version 4 of means")
}
