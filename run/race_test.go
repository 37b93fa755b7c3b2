//go:build race

package run

// usualJobs: the race detector makes each job some ten times slower; `make test` runs 5,000 without it too.
const usualJobs = 600

const usualRounds = 2
