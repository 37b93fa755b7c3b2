//go:build !race

package run

const usualJobs = 5000

const usualRounds = 6
