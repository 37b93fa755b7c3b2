// Package job reads job documents (docs/job-document.md): YAML or JSON in, a checked [Job] or all
// faults out, each with file, line, column, place, what is wrong and what would be right. It opens
// no connections and no files but the document. Callers begin with [Load] or [Parse].
package job

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"undertide/nearest"
)

// Fault is one thing wrong with a document.
type Fault struct {
	File         string
	Line, Column int    // from 1
	Place        string // such as steps.rate.window.by; empty for the whole document
	Message      string // what is wrong
	Remedy       string // what would be right
}

// Error writes place, fault and remedy in one line.
func (f Fault) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: ", f.File, f.Line, f.Column)
	if f.Place != "" {
		b.WriteString(f.Place + ": ")
	}
	b.WriteString(f.Message)
	if f.Remedy != "" {
		b.WriteString("; " + f.Remedy)
	}
	return b.String()
}

// Faults are all faults of a document, in its order. It is returned as the error of Load and Parse.
type Faults []Fault

// Error writes a line for each fault.
func (f Faults) Error() string {
	lines := make([]string, len(f))
	for i, x := range f {
		lines[i] = x.Error()
	}
	return strings.Join(lines, "\n")
}

func (f Faults) sort() {
	slices.SortStableFunc(f, func(a, b Fault) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
}

// Nearest gives the known name that is closest to a wrong one, or "" when none is close.
func Nearest(wrong string, known []string) string {
	return nearest.Name(wrong, known)
}

// didYouMeanOf is didYouMean where some names are of the contract and not built: they are recognised, and not
// listed.
func (r *reader) didYouMeanOf(wrong string, known, later []string) string {
	if r.over() {
		return ""
	}
	if n := Nearest(wrong, slices.Concat(known, later)); slices.Contains(later, n) {
		return fmt.Sprintf("did you mean %s? It is not built yet", n)
	}
	return didYouMean(wrong, known)
}

// didYouMean words the remedy for an unknown name.
func didYouMean(wrong string, known []string) string {
	if n := Nearest(wrong, known); n != "" {
		return fmt.Sprintf("did you mean %s?", n)
	}
	if len(known) == 0 {
		return "there is none here"
	}
	const most = 40
	if more := len(known) - most; more > 0 {
		return fmt.Sprintf("known here: %s and %d more", strings.Join(known[:most], ", "), more)
	}
	return "known here: " + strings.Join(known, ", ")
}
