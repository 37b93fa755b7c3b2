package text

import (
	"fmt"
	"regexp"
	"strings"

	"undertide/connect"
	"undertide/member"
)

// pieces that a line is made of, the longest first. Names are given where the text tells what it is.
var pieces = []struct {
	shape, name string
}{
	{`\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?`, "at"},
	{`\d\d[/.]\d\d[/.]\d{4} \d\d:\d\d:\d\d`, "at"},
	{`\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}`, "at"},
	{`"[^"]*"`, "text"},
	{`-?\d+\.\d+`, "number"},
	{`-?\d+`, "number"},
	{`\S+`, "word"},
}

var pieceShapes = func() (out []*regexp.Regexp) {
	for _, p := range pieces {
		out = append(out, regexp.MustCompile(`^(?:`+p.shape+`)$`))
	}
	return out
}()

var (
	wholeText  = regexp.MustCompile(`^-?(0|[1-9]\d*)$`)
	tokenShape = regexp.MustCompile(`\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?|\d\d[/.]\d\d[/.]\d{4} \d\d:\d\d:\d\d|\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}|"[^"]*"|[^\s"\[\]()]+|[\[\]()]`)
	pairShape  = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_]*)=(.*)$`)
	unitShape  = regexp.MustCompile(`^[A-Za-z%]{1,4}$`)
)

// token is a piece of a line with what stood before it.
type token struct{ before, text string }

func tokens(line string) []token {
	var out []token
	at := 0
	for _, m := range tokenShape.FindAllStringIndex(line, -1) {
		out = append(out, token{line[at:m[0]], line[m[0]:m[1]]})
		at = m[1]
	}
	return out
}

// patternOf makes a pattern that takes the lines of a sample apart: the lines with the most common number
// of pieces decide, and those that have more give their rest to the last group.
func patternOf(events []connect.Event) (*regexp.Regexp, []string) {
	counts := map[int]int{}
	var lines [][]token
	for _, e := range events {
		if len(e.Text) > 0 {
			t := tokens(string(trimmed(e.Text)))
			lines = append(lines, t)
			counts[len(t)]++
		}
	}
	most := 0
	for n, c := range counts {
		if c > counts[most] || c == counts[most] && n < most {
			most = n
		}
	}
	open := counts[most]*10 < len(lines)*8 // lines differ: the common beginning, and the rest as it is
	if open {
		most = 1 << 30
		for n := range counts {
			if n > 0 {
				most = min(most, n)
			}
		}
	}
	var same [][]token
	for _, l := range lines {
		if len(l) == most || open && len(l) >= most {
			same = append(same, l)
		}
	}
	if most == 0 || len(same) == 0 {
		return regexp.MustCompile(`^(?P<line>.*)$`), []string{"the lines have nothing in common: each is taken whole, as line"}
	}
	names := map[string]bool{}
	var out strings.Builder
	out.WriteByte('^')
	for i := range most {
		column := make([]string, len(same))
		gap := same[0][i].before
		for n, l := range same {
			column[n] = l[i].text
			if l[i].before != gap {
				gap = " "
			}
		}
		out.WriteString(spaces(gap))
		if open && i == most-1 {
			out.WriteString(`(?P<rest_of_line>.*)`)
			break
		}
		next := ""
		if i+1 < most {
			next = constant(same, i+1)
		}
		if c := constant(same, i); c != "" && (len(same) > 3 || len(c) == 1) && !wholeText.MatchString(c) {
			if m := pairShape.FindStringSubmatch(c); m == nil {
				out.WriteString(regexp.QuoteMeta(c))
				continue
			}
		}
		out.WriteString(group(column, next, i, names))
	}
	out.WriteByte('$')
	re, err := regexp.Compile(out.String())
	if err != nil {
		return regexp.MustCompile(`^(?P<line>.*)$`), []string{"no pattern was found: each line is taken whole, as line"}
	}
	doubts := []string{"the lines are text: the pattern and the names of its groups were made up from the sample; rename them"}
	if open {
		doubts = append(doubts, "the lines differ in length: what follows their common beginning is rest_of_line")
	}
	return re, doubts
}

// constant gives the text that all lines have at a place; empty where they differ.
func constant(lines [][]token, i int) string {
	for _, l := range lines {
		if l[i].text != lines[0][i].text {
			return ""
		}
	}
	return lines[0][i].text
}

func spaces(gap string) string {
	if strings.TrimSpace(gap) != "" {
		return regexp.QuoteMeta(gap)
	}
	switch gap {
	case "", " ":
		return gap
	}
	return `\s+`
}

// group makes the group for a column. next is the text that follows in all lines, such as a unit.
func group(column []string, next string, i int, names map[string]bool) string {
	if m := pairShape.FindStringSubmatch(column[0]); m != nil {
		all := true
		for _, c := range column {
			all = all && strings.HasPrefix(c, m[1]+"=")
		}
		if all {
			values := make([]string, len(column))
			for n, c := range column {
				values[n] = strings.TrimPrefix(c, m[1]+"=")
			}
			return m[1] + "=" + groupOf(values, member.FreeName(m[1], names), names)
		}
	}
	for p, re := range pieceShapes {
		fits := true
		for _, c := range column {
			if !re.MatchString(c) {
				fits = false
				break
			}
		}
		if !fits {
			continue
		}
		name := pieces[p].name
		switch {
		case name == "number" && unitShape.MatchString(next):
			name = next
		case name == "number" && codes(column):
			name = "code"
		case name != "at":
			name = fmt.Sprintf("%s_%d", name, i+1)
		}
		return groupOf(column, member.FreeName(name, names), names)
	}
	return groupOf(column, member.FreeName(fmt.Sprintf("word_%d", i+1), names), names)
}

func groupOf(column []string, name string, names map[string]bool) string {
	names[name] = true
	for p, re := range pieceShapes {
		fits := true
		for _, c := range column {
			fits = fits && re.MatchString(c)
		}
		if fits {
			return "(?P<" + name + ">" + pieces[p].shape + ")"
		}
	}
	return "(?P<" + name + `>\S*)`
}

// codes says whether numbers are likely status codes: of three digits, few different ones.
func codes(column []string) bool {
	seen := map[string]bool{}
	for _, c := range column {
		if len(c) != 3 || c[0] < '1' || c[0] > '5' {
			return false
		}
		seen[c] = true
	}
	return len(seen) <= 20
}
