package cli

import (
	"maps"
	"slices"
	"strconv"
	"strings"
)

// group writes a number with its thousands apart.
func group(n int64) string {
	s := strconv.FormatInt(n, 10)
	neg := s[0] == '-'
	if neg {
		s = s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	if neg {
		s = "-" + s
	}
	return s
}

func plural(n int64, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// byWhom adds who did something to what it was; nothing where nobody had to sign in.
func byWhom(text, who string) string {
	if who == "" {
		return text
	}
	return strings.TrimPrefix(text+", by "+who, ", ")
}
