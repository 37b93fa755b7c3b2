//go:build checks

package step

// Under the build tag `checks` state is rebuilt whenever it may be, and bags change their form with few keys, so
// that every test run goes through what large states alone would do.
const (
	checked = 1
	// slack is how many entries may be dead before a state is rebuilt, beyond as many as are alive.
	slack = 0
)
