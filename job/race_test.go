//go:build race

package job

// slower is how much the race detector slows reading.
const slower = 12
