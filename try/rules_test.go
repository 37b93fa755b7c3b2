package try

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"undertide/job"
)

// TestRules runs the examples of testdata/rules: each is a rule of docs/time.md, and a test of its own
// (the table in docs/rules.md names them).
func TestRules(t *testing.T) {
	paths, err := filepath.Glob("testdata/rules/*.yaml")
	if err != nil || len(paths) == 0 {
		t.Fatalf("no rules: %v", err)
	}
	for _, p := range paths {
		j, err := job.Load(p, job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		results, err := Examples(context.Background(), j)
		if err != nil {
			t.Fatalf("%s: %v", p, err)
		}
		if len(results) == 0 {
			t.Errorf("%s has no examples", p)
		}
		for _, r := range results {
			t.Run(j.Name+"/"+r.About, func(t *testing.T) {
				if len(r.Differences) > 0 {
					t.Errorf("%s:%d: %s", p, r.Line, strings.Join(r.Differences, "\n"))
				}
			})
		}
	}
}
