package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
)

// script builds what computes in the console as one script, once for all tests.
var script = sync.OnceValues(func() (string, error) {
	c := exec.Command("npx", "vite", "build", "--config", "vite.tables.config.ts", "--logLevel", "error")
	c.Dir = "../console"
	if out, err := c.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	text, err := os.ReadFile("../console/dist-tables/tables.js")
	return string(text), err
})

// tables loads what computes in the console into a browser.
func tables(t *testing.T) *page {
	t.Helper()
	text, err := script()
	if err != nil {
		t.Fatal(err)
	}
	p := browse(t, "about:blank")
	p.do(chromedp.Evaluate[chromedp.Void](text))
	return p
}

const spliced = `# a job
undertide: 1
job: levels          # its name
sources:
  levels:            # of the gauges
    via: file
    with: {path: a.ndjson}   # one file
    fields:
      gauge: string
      level_m: double    # metres
    event_time: read_at
    watermark: {margin: 5s, idle: 1m}
steps:
  minute:
    from: levels
    key: [gauge]
    window: {tumbling: 1m}
    measures:
      n: count()
      # the mean
      mean_m: mean(level_m)
sinks:
  out: {from: minute, via: file, with: {path: b.ndjson}}
`

// TestTables: what computes in the console, by tables. Each case is an expression over the functions, and what it gives as JSON.
func TestTables(t *testing.T) {
	t.Parallel()
	p := tables(t)
	doc := js(spliced)
	for _, c := range []struct{ expression, want string }{
		// Numbers, times and spans as people read them.
		{"format.count(1234567)", `"1,234,567"`},
		{"format.rate(3.25)", `"3.3/s"`}, {"format.rate(4718.4)", `"4,718/s"`},
		{"format.span(0.44)", `"0.4 s"`}, {"format.span(-3)", `"0.0 s"`}, {"format.span(119.9)", `"119 s"`}, {"format.span(120)", `"2 min"`}, {"format.span(7500)", `"2 h 5 min"`}, {"format.span(400000)", `"4 d"`},
		{"format.bytes(10239)", `"10,239 B"`}, {"format.bytes(10240)", `"10 KiB"`}, {"format.bytes(10 * 2 ** 20)", `"10 MiB"`},
		{"format.figure(0.05, 'ratio')", `"5.0 %"`}, {"format.figure(0.5, 'ratio')", `"50 %"`}, {"format.figure(0.25, 'seconds')", `"250 ms"`}, {"format.figure(12, 'events')", `"12"`}, {"format.figure(0.0123, '')", `"0.012"`},
		{"format.moment(null)", `"–"`}, {"format.moment('soon')", `"soon"`}, {"format.moment('2026-03-01T00:00:05.5Z')", `"2026-03-01 00:00:05"`},
		{"format.cell(null, 'int')", `"–"`}, {"format.cell(1.5, 'double')", `"1.500"`}, {"format.cell(1.256, 'double', 1)", `"1.3"`}, {"format.cell(12345, 'int')", `"12,345"`}, {"format.cell('10.10', 'decimal')", `"10.10"`},

		// Results.
		{"results.csv([{row: {a: '=1+1', b: 'x,\"y\"'}}, {row: {a: null, b: -2}}], ['a', 'b'])", js("a,b\n'=1+1,\"x,\"\"y\"\"\"\n,-2\n")},
		{"results.levelOf(2.6, [{name: 'raised', from: 2.5}, {name: 'high', from: 3}])", `{"name":"raised","rank":1,"of":2}`}, {"results.levelOf(1, [{name: 'raised', from: 2.5}])", "null"}, {"results.levelOf('3.10', [{name: 'high', from: 3}])", `{"name":"high","rank":1,"of":1}`},
		{"results.keyOf({a: 'x', b: 2}, ['a', 'b'])", `"x, 2"`}, {"results.keyOf({}, [])", `"all"`},
		{"results.chosen([{row: {k: 'G10', window_end: '2'}}, {row: {k: 'G9', window_end: '1'}}, {row: {k: 'G2', window_end: '2'}}], ['k'], {windows: 1, from: '', until: '', keys: [], most: 2})", `{"windows":["2"],"all":["G2","G9","G10"],"keys":["G2","G9"],"rest":["G10"]}`},
		{"results.lines([{row: {k: 'a', window_end: '1', n: 3}}, {row: {k: 'a', window_end: '1', n: 1}}], ['k'], 'n', ['1', '2'], ['a'])", `[{"name":"a","values":[3,null]}]`}, // the newest row stands first

		// What two sides have in common.
		{"match.matchOf([{name: 'n', type: 'int'}, {name: 'box', type: 'string'}], [{name: 'box', type: 'string'}, {name: 'n', type: 'int'}])", `["box","box"]`},
		{"match.matchOf([{name: 'berth', type: 'string'}], [{name: 'id', type: 'string'}])", `["berth","id"]`}, {"match.matchOf([{name: 'x', type: 'double'}], [{name: 'y', type: 'int'}])", "null"},
		{"match.matches({berth: 'id'}, [{name: 'berth'}], [{name: 'id'}])", "true"}, {"match.matches(['berth'], [{name: 'berth'}], [{name: 'id'}])", "false"}, {"match.matches([], [], [])", "false"},

		// Measures as a form takes them apart, and puts them together.
		{"measure.measureOf('sum(tonnes, side == \\'a, b\\')')", `{"of":"sum","field":"tonnes","beside":"","condition":"side == 'a, b'"}`}, {"measure.measureOf('count_if(f(a, b) > 1)')", `{"of":"count","field":"","beside":"","condition":"f(a, b) > 1"}`},
		{"measure.measureOf('quantile(x, 0.5, y > 1)')", `{"of":"quantile","field":"x","beside":"0.5","condition":"y > 1"}`}, {"measure.measureOf('count()')", `{"of":"count","field":"","beside":"","condition":""}`},
		{"['sum(a) + sum(b)', 'sum(a + 1)', 'double(count())', 'count(x)', 'sum()', 'x', 'sum(x, a, b)', 'sum(x', \"sum(x, 'a)\", 'count_if()'].map(measure.measureOf)", `[null,null,null,null,null,null,null,null,null,null]`},
		{"['count()', 'count_if(a > 1)', 'sum(x)', 'sum(x, a > 1)', 'quantile(x, 0.95)', 'collect(x, 10, a > 1)', \"first(x, s == '(')\"].map((t) => measure.textOf(measure.measureOf(t)) === t).every(Boolean)", "true"},

		// Names change in place.
		{"splice.rename(" + doc + ", ['steps', 'minute', 'measures', 'mean_m'], 'average_m') === " + doc + ".replace('mean_m:', 'average_m:')", "true"}, {"splice.rename(" + doc + ", ['steps', 'minute', 'measures', 'mean_m'], 'mean_m') === " + doc, "true"},
		{"splice.rename('a: {b: 1, c: 2}', ['a', 'b'], 'c')", js("a: {b: 1, c: 2}")}, {"splice.rename('a: {b: 1, c: 2}', ['a', 'x'], 'y')", js("a: {b: 1, c: 2}")},

		// Scalars as YAML takes them.
		{"splice.scalar('5s')", `"5s"`}, {"splice.scalar('1h30m')", `"1h30m"`}, {"splice.scalar('-1.5')", `"-1.5"`}, {"splice.scalar('')", `"''"`}, {"splice.scalar('a: b')", `"'a: b'"`}, {"splice.scalar(\"it's\")", `"'it''s'"`}, {"splice.scalar('no')", `"'no'"`}, {"splice.scalar('{x}')", `"'{x}'"`}, {"splice.scalar('true')", `"true"`}, {"splice.scalar('# x')", `"'# x'"`},

		// A document's own text.
		{"splice.valueAt(" + doc + ", ['sources', 'levels', 'watermark', 'margin'])", `"5s"`}, {"splice.valueAt(" + doc + ", ['sources', 'x'])", "undefined"},
		{"splice.namesOf(" + doc + ", 'steps')", `["minute"]`}, {"splice.freeName(" + doc + ", 'minute')", `"minute_2"`}, {"splice.freeName(" + doc + ", 'other')", `"other"`},
		{"outline.readable(" + doc + ")", `["levels","minute","late of minute","rejects of levels","rejects of minute"]`},
		{"outline.kindOf({where: 'a', set: {}})", `"filter and compute"`}, {"outline.kindOf({join: {}, where: 'x'})", `"join"`}, {"outline.kindOf({measures: {}})", `"window"`}, {"outline.kindOf({})", `"pass on"`},
		{"outline.outline('{').steps", "[]"}, {"outline.outline('')", "null"}, {"outline.outline(" + doc + ").steps[0].does", `["tumbling 1m"]`},
		{"graph.origins('minute, late of minute, refused of seen')", `[{"name":"minute","part":""},{"name":"minute","part":"late"},{"name":"seen","part":"refused"}]`},
		{"forms.formOf('step', {key: [], window: {session: '90s'}}).settings.map((s) => s.label).filter((l) => /gap|longest|window/.test(l))", `["window","gap","longest"]`},
	} {
		got := value[string](p, "JSON.stringify((({format, results, match, measure, splice, outline, graph, forms}) => "+c.expression+")(tables)) ?? 'undefined'")
		if got != c.want {
			t.Errorf("%s\ngives %s\nwant  %s", c.expression, got, c.want)
		}
	}

	// What forms write: one change, and all else as it was.
	for _, c := range []struct{ path, value, old, new string }{
		{`['sources', 'levels', 'watermark', 'margin']`, `'30s'`, "margin: 5s", "margin: 30s"},
		{`['sources', 'levels', 'watermark', 'silence']`, `'advance'`, "idle: 1m}", "idle: 1m, silence: advance}"},
		{`['sources', 'levels', 'watermark', 'idle']`, "null", ", idle: 1m}", "}"},
		{`['sources', 'levels', 'watermark', 'margin']`, "null", "{margin: 5s, idle", "{idle"},
		{`['sources', 'levels', 'event_time']`, "null", "    event_time: read_at\n", ""},
		{`['steps', 'minute', 'late', 'accept']`, `'1m'`, "      mean_m: mean(level_m)\n", "      mean_m: mean(level_m)\n    late: {accept: 1m}\n"},
		{`['steps', 'minute', 'measures', 'mean_m']`, `'median(level_m)'`, "mean(level_m)", "median(level_m)"},
		{`['steps', 'minute', 'measures', 'most_m']`, `'max(level_m)'`, "      mean_m: mean(level_m)\n", "      mean_m: mean(level_m)\n      most_m: max(level_m)\n"},
		{`['steps', 'minute', 'key']`, `'[gauge, site]'`, "key: [gauge]", "key: [gauge, site]"},
		{`['sources', 'levels', 'fields', 'level_m']`, `'{type: double, default: 0.0}'`, "level_m: double    # metres", "level_m: {type: double, default: 0.0}    # metres"},
		{`['about']`, `'levels by minute'`, "  out: {from: minute, via: file, with: {path: b.ndjson}}\n", "  out: {from: minute, via: file, with: {path: b.ndjson}}\nabout: levels by minute\n"},
	} {
		got := value[string](p, fmt.Sprintf("tables.splice.put(%s, %s, %s)", doc, c.path, c.value))
		if want := strings.Replace(spliced, c.old, c.new, 1); got != want {
			t.Errorf("put %s at %s gives\n%s\nwant\n%s", c.value, c.path, got, want)
		}
	}
}

// TestSplices: in each document of the harbour, and in those of the lessons, each value can be changed, taken out and put back by the
// forms' own means: nothing else changes, no comment is lost.
func TestSplices(t *testing.T) {
	t.Parallel()
	p := tables(t)
	paths, err := filepath.Glob("../harbour/*/*.yaml")
	if err != nil || len(paths) < 20 {
		t.Fatal(err, paths)
	}
	texts := []string{spliced}
	for _, path := range paths {
		texts = append(texts, read(t, path))
	}
	given, err := json.Marshal(texts)
	if err != nil {
		t.Fatal(err)
	}
	faults := value[string](p, `((texts) => {
		const { parse, plain, put, valueAt } = tables.splice, faults = []
		let tried = 0
		const same = (a, b) => JSON.stringify(a) === JSON.stringify(b)
		const all = (text) => plain(parse(text).contents)
		const walk = (v, path, visit) => {
			if (path.length) visit(path, v)
			if (v && typeof v === 'object' && !Array.isArray(v)) for (const [k, x] of Object.entries(v)) if (path[0] !== 'examples') walk(x, [...path, k], visit)
		}
		const set = (doc, path, v) => {
			const copy = structuredClone(doc), last = path.at(-1)
			let at = copy
			for (const k of path.slice(0, -1)) at = at[k]
			if (v === undefined) delete at[last]; else at[last] = v
			return copy
		}
		const comments = (text) => text.match(/#[^\n]*/g)?.length ?? 0
		for (const text of [...texts, ...tables.lessons.lessons.map((l) => tables.lessons.documentOf(l, {}))]) {
			const doc = all(text)
			walk(doc, [], (path, v) => {
				tried++
				const leaf = !v || typeof v !== 'object'
				const changed = put(text, path, 'changed')
				if (!same(all(changed), set(doc, path, 'changed'))) faults.push('put at ' + path.join('.') + ': ' + changed.slice(0, 300))
				if (leaf && comments(changed) !== comments(text)) faults.push('a comment went at ' + path.join('.'))
				const without = put(text, path, null), want = set(doc, path, undefined), got = all(without)
				const emptied = path.length > 1 && same(valueAt(text, path.slice(0, -1)) && Object.keys(valueAt(text, path.slice(0, -1))).length, 1)
				if (!emptied && !same(got, want)) faults.push('take out ' + path.join('.') + ': ' + without.slice(0, 300))
				if (leaf && !emptied && typeof v === 'string' && !/\n/.test(v)) {
					const again = put(without, path, tables.splice.scalar(v))
					if (!same(valueAt(again, path), v) && valueAt(again, path) !== Number(v)) faults.push('put back ' + path.join('.') + ': ' + JSON.stringify(valueAt(again, path)))
				}
			})
		}
		if (tried < 1000) faults.push('only ' + tried + ' values were tried')
		return faults.slice(0, 12).join('\n')
	})(`+string(given)+`)`)
	if faults != "" {
		t.Error(faults)
	}
}
