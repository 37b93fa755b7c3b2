//go:build !race

package pace

// Race says whether the race detector looks on.
const Race = false
