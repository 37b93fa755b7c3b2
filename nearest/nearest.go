// Package nearest finds the known name that a mistyped one most likely meant, for the remedies of messages.
package nearest

import (
	"strings"

	"github.com/agnivade/levenshtein"
)

// Name gives the known name that is closest to a wrong one, or "" when none is close.
func Name(wrong string, known []string) string {
	best, at := "", 1+max(2, len(wrong)/3)
	for _, k := range known {
		if d := levenshtein.ComputeDistance(strings.ToLower(wrong), strings.ToLower(k)); d < at && d < len(k) && d < len(wrong) {
			best, at = k, d
		}
	}
	return best
}
