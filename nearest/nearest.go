// Package nearest finds the known name that a mistyped one most likely meant, for the remedies of messages.
package nearest

import (
	"strings"

	"github.com/agnivade/levenshtein"
)

// mostLength bounds the names that are compared, since comparing costs the product of their lengths.
const mostLength = 200

// Name gives the known name that is closest to a wrong one, or "" when none is close.
func Name(wrong string, known []string) string {
	if len(wrong) > mostLength {
		return ""
	}
	best, at := "", 1+max(2, len(wrong)/3)
	for _, k := range known {
		if len(k) > mostLength {
			continue
		}
		if d := levenshtein.ComputeDistance(strings.ToLower(wrong), strings.ToLower(k)); d < at && d < len(k) && d < len(wrong) {
			best, at = k, d
		}
	}
	return best
}
