// Package hostile holds documents that were made to cost whoever reads them much time or memory, for tests of the reader
// and of the service (docs/security.md, "Documents").
package hostile

import (
	"fmt"
	"strings"
)

// Right are those that are right for all their size.
var Right = []string{"comments", "1999 backwards", "1999 fields of 500", "1999 measures", "merges of 1999", "1999 fields in 500", "1000 chained fields", "1999 fields", "1000 computed fields", "1999 sinks", "1999 windows", "chained functions", "1999 steps", "loops in loops"}

// Documents are texts by what they do; each is read, or refused, in under a second.
func Documents() map[string]string {
	const head = "undertide: 1\njob: hostile\nsources:\n  s: {via: file, with: {path: a.ndjson}, fields: {k: string, v: int, t: timestamp}, event_time: t, watermark: {margin: 1s}}\n"
	const tail = "sinks:\n  out: {from: s, via: file, with: {path: out.ndjson}}\n"
	repeat := strings.Repeat
	lines := func(n int, form string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, form+"\n", i)
		}
		return b.String()
	}
	bomb := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 12; i++ {
		bomb += fmt.Sprintf("a%d: &a%d [%s*a%d]\n", i, i, repeat(fmt.Sprintf("*a%d, ", i-1), 9), i-1)
	}
	indented := ""
	for i := range 1400 {
		indented += repeat(" ", i) + "a:\n"
	}
	return map[string]string{
		"brackets":             repeat("[", 60_000),
		"braces":               repeat("{", 60_000),
		"brackets and keys":    repeat("{a: [", 12_000),
		"closed brackets":      repeat("[", 30_000) + repeat("]", 30_000),
		"many small lists":     "steps: [" + repeat("[],", 300_000) + "]\n",
		"dashes":               repeat("- ", 30_000) + "a\n",
		"question marks":       repeat("? ", 30_000) + "a\n",
		"deep block":           indented,
		"anchors":              lines(20_000, "a%[1]d: &a%[1]d x"),
		"anchor on anchor":     "a: " + repeat("&a ", 30_000) + "x\n",
		"tags":                 "a: " + repeat("!a ", 30_000) + "x\n",
		"tag a line":           lines(30_000, "a%d: !x"),
		"alias bomb":           bomb,
		"alias of itself":      "a: &a [*a]\n",
		"merge of itself":      "a: &a {<<: *a}\n",
		"open quote":           "a: \"" + repeat("x\n", 300_000),
		"open single quote":    "a: '" + repeat("x\n", 300_000),
		"blocks":               lines(50_000, "a%d: |\n  x"),
		"comments":             repeat("#\n", 500_000) + head + tail,
		"comment at each":      lines(50_000, "a%d: x # y"),
		"tabs":                 repeat("\t", 500_000),
		"spaces":               repeat(" ", 1_000_000) + "a: b\n",
		"colons":               repeat("a: ", 30_000),
		"documents":            repeat("---\n", 200_000),
		"conditions":           lines(1_600, "k%d: a: b ? c : d"),
		"conditions in braces": lines(20_000, "k%d: {a: f(b, c)}"),
		"not":                  lines(20_000, "k%d: !a"),
		"many keys":            lines(100_000, "k%d: x"),
		"one key":              repeat("k: x\n", 200_000),
		"a long key":           repeat("k", 1_000_000) + ": x\n",
		"a long text":          "about: " + repeat("k", 1_000_000) + "\n",
		"zeros":                repeat("\x00", 100_000),
		"high bytes":           repeat("\xff\xfe", 100_000),
		"unknown steps":        head + "steps:\n" + lines(20_000, "  step%[1]d: {from: nothing%[1]d, where: v > 1}") + tail,
		"unknown fields":       head + "steps:\n  a: {from: s, set: {" + repeat("", 1) + strings.ReplaceAll(lines(20_000, "f%[1]d: x%[1]d"), "\n", ", ") + "}}\n" + tail,
		"unknown keys":         head + "steps:\n" + lines(20_000, "  step%[1]d: {from: s, something%[1]d: 1}") + tail,
		"unknown kinds":        "undertide: 1\njob: hostile\nsources:\n" + lines(20_000, "  s%[1]d: {via: fil%[1]d}"),
		"many sinks":           head + "sinks:\n" + lines(10_000, "  out%d: {from: s, via: file, with: {path: out.ndjson}}"),
		"a chain of steps":     head + "steps:\n  a0: {from: s, where: v > 1}\n" + chain(9_000, "  a%d: {from: a%d, where: v > 1}\n") + tail,
		"a chain of fields":    head + "steps:\n  a0: {from: s, set: {x0: v}}\n" + chain(2_000, "  a%[1]d: {from: a%[2]d, set: {x%[1]d: v}}\n") + tail,
		"a chain of windows":   head + "steps:\n  a0: {from: s, key: [k], window: {tumbling: 1m}, measures: {v: sum(v)}}\n" + chain(2_000, "  a%d: {from: a%d, key: [k], window: {tumbling: 1m}, measures: {v: sum(v)}}\n") + tail,
		"backwards":            head + "steps:\n" + backwards(5_000) + tail,
		"a circle":             head + "steps:\n  a0: {from: a4000, where: v > 1}\n" + chain(4_000, "  a%d: {from: a%d, where: v > 1}\n") + tail,
		"all of all":           head + "steps:\n  a: {from: [" + repeat("s, ", 20_000) + "s], where: v > 1}\n" + tail,
		"wide merges":          head + "steps:\n" + lines(100, "  a%d: {from: s, where: v > 1}") + lines(100, "  b%d: {from: ["+repeat("a1, a2, a3, ", 30)+"a4], where: v > 1}") + tail,
		"parentheses":          head + "steps:\n  a: {from: s, where: '" + repeat("(", 30_000) + "v" + repeat(")", 30_000) + "'}\n" + tail,
		"nots":                 head + "steps:\n  a: {from: s, where: '" + repeat("!", 30_000) + "true'}\n" + tail,
		"minuses":              head + "steps:\n  a: {from: s, where: '" + repeat("-", 30_000) + "v > 1'}\n" + tail,
		"a long sum":           head + "steps:\n  a: {from: s, set: {x: '" + repeat("v + ", 50_000) + "v'}}\n" + tail,
		"a long condition":     head + "steps:\n  a: {from: s, set: {x: '" + repeat("v > 1 ? 1 : ", 20_000) + "v'}}\n" + tail,
		"lists in lists":       head + "steps:\n  a: {from: s, set: {x: '" + repeat("[", 5_000) + "v" + repeat("]", 5_000) + "'}}\n" + tail,
		"many expressions":     head + "steps:\n" + lines(5_000, "  a%d: {from: s, where: 'k.matches(\"(a|b)*c\") && v > 1 && v < 10'}") + tail,
		"a large pattern":      head + "steps:\n  a: {from: s, where: 'k.matches(\"((a{1,30}){1,30}){1,30}\")'}\n" + tail,
		"macros in macros":     head + "steps:\n  a: {from: s, set: {x: '" + repeat("[1,2].map(a, ", 200) + "v" + repeat(")", 200) + "'}}\n" + tail,
		"copies by macros":     head + "steps:\n  a: {from: s, set: {x: '" + repeat("[1,2,3,4,5,6,7,8,9].exists(a, ", 12) + "v > 1" + repeat(")", 12) + "'}}\n" + tail,
		"deep types":           "undertide: 1\njob: hostile\nsources:\n  s: {via: file, with: {path: a.ndjson}, fields: {k: " + repeat("list<", 20_000) + "int" + repeat(">", 20_000) + "}}\n" + tail,
		"many fields":          "undertide: 1\njob: hostile\nsources:\n  s:\n    via: file\n    with: {path: a.ndjson}\n    fields:\n" + lines(20_000, "      f%d: string") + tail,
		"many measures":        head + "steps:\n  a:\n    from: s\n    key: [k]\n    window: {tumbling: 1m}\n    measures:\n" + lines(10_000, "      m%d: sum(v)") + tail,
		"many examples":        head + tail + "examples:\n" + lines(5_000, "  - {about: e%d, given: {s: [{k: a, v: 1, t: 2026-01-01T00:00:00Z}]}, then: {out: []}}"),
		"references":           head + "steps:\n  a: {from: s, where: '" + repeat("${env.X}", 100_000) + "'}\n" + tail,
		"json":                 repeat(`{"steps":`, 30_000) + "1" + repeat("}", 30_000),

		// As much as is allowed.
		"1999 unknown steps":    head + "steps:\n" + lines(1_999, "  step%[1]d: {from: nothing%[1]d, where: v > 1}") + tail,
		"1999 unknown fields":   head + "steps:\n  a: {from: s, set: {" + strings.ReplaceAll(lines(1_999, "f%[1]d: x%[1]d"), "\n", ", ") + "}}\n" + tail,
		"1999 unknown settings": head + "steps:\n" + lines(1_999, "  step%[1]d: {from: s, something%[1]d: 1}") + tail,
		"1999 kinds":            "undertide: 1\njob: hostile\nsources:\n" + lines(1_999, "  s%[1]d: {via: fil%[1]d}"),
		"1999 sinks":            head + "sinks:\n" + lines(1_999, "  out%[1]d: {from: s, via: file, with: {path: out%[1]d.ndjson}}"),
		"1999 steps":            head + "steps:\n  a0: {from: s, where: v > 1}\n" + chain(1_998, "  a%d: {from: a%d, where: v > 1}\n") + tail,
		"1000 computed fields":  head + "steps:\n  a0: {from: s, set: {x0: v}}\n" + chain(1_000, "  a%[1]d: {from: a%[2]d, set: {x%[1]d: v}}\n") + tail,
		"1000 chained fields":   head + "steps:\n  a: {from: s, set: {" + strings.ReplaceAll(chain(1_000, "x%d: x%d + 1, "), "\n", "") + "x0: v}}\n" + tail,
		"1999 windows":          head + "steps:\n  a0: {from: s, key: [k], window: {tumbling: 1m}, measures: {v: sum(v)}}\n" + chain(1_998, "  a%d: {from: a%d, key: [k], window: {tumbling: 1m}, measures: {v: sum(v)}}\n") + tail,
		"1999 backwards":        head + "steps:\n" + backwards(1_998) + tail,
		"1999 in a circle":      head + "steps:\n  a0: {from: a1998, where: v > 1}\n" + chain(1_998, "  a%d: {from: a%d, where: v > 1}\n") + tail,
		"1999 functions":        head + "functions:\n" + lines(1_999, "  f%[1]d: {of: {t: int}, is: t + %[1]d}") + "steps:\n  a: {from: s, set: {x: f1(v) + f1998(v)}}\n" + tail,
		"chained functions":     head + "functions:\n" + chain(199, "  f%d: {of: {t: int}, is: 'f%d(t) + 1'}\n") + "  f0: {of: {t: int}, is: t}\nsteps:\n  a: {from: s, set: {x: f199(v)}}\n" + tail,
		"functions of two":      head + "functions:\n" + chain(199, "  f%[1]d: {of: {t: int}, is: 'f%[2]d(t) + f%[2]d(t)'}\n") + "  f0: {of: {t: int}, is: t}\nsteps:\n  a: {from: s, set: {x: f199(v)}}\n" + tail,
		"functions in a circle": head + "functions:\n" + chain(199, "  f%d: {of: {t: int}, is: 'f%d(t) + 1'}\n") + "  f0: {of: {t: int}, is: f199(t)}\nsteps:\n  a: {from: s, set: {x: f199(v)}}\n" + tail,
		"1999 patterns":         head + "steps:\n" + lines(1_999, "  a%d: {from: s, where: 'k.matches(\"(a|b)*c\") && v > 1 && v < 10'}") + tail,
		"1999 fields":           wide(1_999, "") + tail,
		"1999 fields of 500":    wide(1_999, "") + "steps:\n  a: {from: s, set: {" + strings.ReplaceAll(lines(500, "g%[1]d: f%[1]d"), "\n", ", ") + "}}\n" + tail,
		"1999 fields in 500":    wide(1_999, "") + "steps:\n" + lines(500, "  a%d: {from: s, where: f1 != ''}") + tail,
		"1999 measures":         head + "steps:\n  a:\n    from: s\n    key: [k]\n    window: {tumbling: 1m}\n    measures:\n" + lines(1_999, "      m%d: sum(v)") + tail,
		"1999 measures of 1999": wide(1_999, "event_time: t, ") + "steps:\n  a:\n    from: s\n    key: [f0]\n    window: {tumbling: 1m}\n    measures:\n" + lines(1_999, "      m%d: count()") + tail,
		"long expressions":      head + "steps:\n" + lines(100, "  a%d: {from: s, set: {x: '"+repeat("v + ", 1_900)+"v'}}") + tail,
		"long conditions":       head + "steps:\n" + lines(50, "  a%d: {from: s, set: {x: '"+repeat("v > 1 ? 1 : ", 240)+"v'}}") + tail,
		"loops in loops":        head + "steps:\n" + lines(500, "  a%d: {from: s, set: {x: '"+repeat("[1,2].exists(a, ", 6)+"v > 1"+repeat(")", 6)+"'}}") + tail,
		"2000 examples":         head + tail + "examples:\n" + lines(2_000, "  - {about: e%d, given: {s: [{k: a, v: 1, t: 2026-01-01T00:00:00Z}]}, then: {out: []}}"),
		"merges of 1999":        head + "steps:\n" + lines(1_000, "  a%d: {from: s, where: v > 1}") + "  b: {from: [" + strings.ReplaceAll(lines(1_000, "a%d"), "\n", ", ") + "s], where: v > 1}\n" + tail,
		"many conditions":       lines(1_600, "k%d: a: b ? c : d") + lines(1_900, "q%d: {a: 1, b: 2, c: 3}"),
	}
}

func wide(n int, more string) string {
	var b strings.Builder
	b.WriteString("undertide: 1\njob: hostile\nsources:\n  s:\n    via: file\n    with: {path: a.ndjson}\n    fields:\n")
	for i := range n {
		fmt.Fprintf(&b, "      f%d: string\n", i)
	}
	return b.String()
}

func chain(n int, form string) string {
	var b strings.Builder
	for i := 1; i <= n; i++ {
		fmt.Fprintf(&b, form, i, i-1)
	}
	return b.String()
}

func backwards(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "  a%d: {from: a%d, where: v > 1}\n", i, i+1)
	}
	return b.String() + fmt.Sprintf("  a%d: {from: s, where: v > 1}\n", n)
}
