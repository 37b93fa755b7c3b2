package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var namedTest = regexp.MustCompile(`\b(?:Test|Fuzz)[A-Z]\w+`)

// TestDocsNameTests: a test that the docs name is there.
func TestDocsNameTests(t *testing.T) {
	tests, err := exec.Command("git", "-C", "..", "grep", "-ohE", `^func (Test|Fuzz)[A-Z]\w+`, "--", "*_test.go").Output()
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, line := range strings.Fields(string(tests)) {
		there[line] = true
	}
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil || len(pages) < 10 {
		t.Fatal(err, pages)
	}
	named := 0
	for _, p := range append(pages, "../README.md") {
		text, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range namedTest.FindAllString(string(text), -1) {
			if named++; !there[name] {
				t.Errorf("%s names %s, which is not a test", p, name)
			}
		}
	}
	if named < 30 {
		t.Errorf("the docs name only %d tests", named)
	}
}
