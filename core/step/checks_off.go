//go:build !checks

package step

const (
	checked = 0
	// slack is how many entries may be dead before a state is rebuilt, beyond as many as are alive. Under the build
	// tag `checks` it is 0.
	slack = 1024
)
