package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// writtenPages are all pages of the project, by their paths.
func writtenPages(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, pattern := range []string{"../*.md", "../docs/*.md", "../docs/*/*.md", "../harbour/*.md"} {
		paths, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range paths {
			out[p] = read(t, p)
		}
	}
	if len(out) < 30 {
		t.Fatalf("only %d pages were found", len(out))
	}
	return out
}

var (
	link    = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	heading = regexp.MustCompile(`(?m)^#+ (.*)$`)
	fenced  = regexp.MustCompile("(?s)```.*?```")
	notSlug = regexp.MustCompile(`[^a-z0-9 _-]`)
)

// TestLinks: each link of a page leads to a file that is there, and to a heading of it.
func TestLinks(t *testing.T) {
	followed := 0
	for p, text := range writtenPages(t) {
		for _, m := range link.FindAllStringSubmatch(fenced.ReplaceAllString(text, ""), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			followed++
			file, anchor, _ := strings.Cut(m[1], "#")
			to := p
			if file != "" {
				to = filepath.Join(filepath.Dir(p), file)
			}
			if _, err := os.Stat(to); err != nil {
				t.Errorf("%s links to %s, which is not there", p, m[1])
				continue
			}
			there := anchor == ""
			if !there {
				for _, h := range heading.FindAllStringSubmatch(fenced.ReplaceAllString(read(t, to), ""), -1) {
					slug := strings.ReplaceAll(notSlug.ReplaceAllString(strings.ToLower(strings.TrimSpace(h[1])), ""), " ", "-")
					there = there || slug == anchor
				}
			}
			if !there {
				t.Errorf("%s links to %s, and %s has no such heading", p, m[1], to)
			}
		}
	}
	if followed < 100 {
		t.Errorf("only %d links were followed", followed)
	}
}

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
	named := 0
	for p, text := range writtenPages(t) {
		for _, name := range namedTest.FindAllString(text, -1) {
			if named++; !there[name] {
				t.Errorf("%s names %s, which is not a test", p, name)
			}
		}
	}
	if named < 30 {
		t.Errorf("the docs name only %d tests", named)
	}
}
