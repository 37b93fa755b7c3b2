package member

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// ExpressionWords mean something in expressions, and are no names of fields.
var ExpressionWords = []string{"true", "false", "null", "in", "as", "break", "const", "continue", "else", "for", "function", "if", "import", "let", "loop", "package", "namespace", "return", "var", "void", "while", "values", "meta"}

// InputWords mean something in `from`, and are no names of sources and steps.
var InputWords = []string{"late", "rejects", "rest", "of"}

// Free says whether a name means nothing yet, neither in expressions nor in `from`.
func Free(name string) bool {
	return !slices.Contains(ExpressionWords, name) && !slices.Contains(InputWords, name)
}

// FreeName makes a name for expressions of a path: its last part, or more of it where that is taken.
func FreeName(path string, taken map[string]bool) string {
	parts := []string{path} // of a column, whose name may be no path
	if p, err := Parse(path); err == nil {
		parts = parts[:0]
		for _, part := range p {
			parts = append(parts, part.Name)
		}
	}
	for n := 1; n <= len(parts); n++ {
		if name := safe(strings.Join(parts[len(parts)-n:], "_")); !taken[name] {
			return name
		}
	}
	for n := 2; ; n++ {
		if name := fmt.Sprintf("%s_%d", safe(strings.Join(parts, "_")), n); !taken[name] {
			return name
		}
	}
}

func safe(s string) string {
	out := strings.Map(func(c rune) rune {
		if c < unicode.MaxASCII && (unicode.IsLetter(c) || unicode.IsDigit(c) || c == '_') {
			return c
		}
		return '_'
	}, s)
	if out == "" || unicode.IsDigit(rune(out[0])) || !Free(out) {
		out = "f_" + out
	}
	return out
}
