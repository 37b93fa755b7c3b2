//go:build !race

package run

const usualJobs = 5000
