// Package pace says how much of a long test is enough. It is for tests alone.
//
// The race detector makes the tests of the core some ten times slower. So `make test` runs the long ones twice: a part of each with
// the detector, which needs few runs to see two goroutines at one value, and all of it without (PACED in the Makefile).
package pace

// Of gives how often, or how far apart, something is tried: full without the race detector, raced with it.
func Of(full, raced int) int {
	if Race {
		return raced
	}
	return full
}
