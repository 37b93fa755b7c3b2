package job

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
)

// warnGrowth warns of a value that takes in each row and grows without end: so_far + [v]. One that asks what it holds
// already, by contains or in, grows with the different values alone.
func (b *builder) warnGrowth(n *node, place, name string, prog *expr.Program) {
	text := n.text
	if prog == nil || !prog.Kind().Text() || prog.Kind() == row.Decimal || strings.Contains(text, "size(") {
		return
	}
	asks := regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\.contains\(|\bin\s+` + regexp.QuoteMeta(name) + `\b`)
	if slices.Contains(expr.Names(text), name) && !asks.MatchString(text) && strings.Contains(text, "+") {
		b.warn(n, place, fmt.Sprintf("%s grows with each row, without end", name), fmt.Sprintf("bound it: size(%s) < 100 ? %s : %s", name, strings.TrimSpace(text), name))
	}
}

// warnOverlap warns of what adds up rows of windows that overlap, other than by sum.
func (b *builder) warnOverlap(n *node, place string, in input, prog *expr.Program, what string) {
	if in.overlap && prog != nil && strings.Contains(n.text, "+") && (prog.Kind() == row.Int || prog.Kind() == row.Double || prog.Kind() == row.Decimal) {
		b.warn(n, place, in.text+" publishes windows that overlap, and a "+what+" that adds their values up takes rows several times", "add up what the windows read")
	}
}
