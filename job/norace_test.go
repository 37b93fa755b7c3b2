//go:build !race

package job

const slower = 1
