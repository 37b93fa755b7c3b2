package service

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"undertide/api"
)

// TestMetricsAreDocumented: each name of /metrics stands in docs/service.md with its labels and what it is, and no other does.
func TestMetricsAreDocumented(t *testing.T) {
	source, err := os.ReadFile("metrics.go")
	if err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("../docs/service.md")
	if err != nil {
		t.Fatal(err)
	}
	label := regexp.MustCompile(`"([a-z]+)"`)
	var want []string
	for _, m := range regexp.MustCompile(`desc\("(\w+)", "([^"]*)"((?:, "[a-z]+")*)\)`).FindAllStringSubmatch(string(source), -1) {
		var labels []string
		for _, l := range label.FindAllStringSubmatch(m[3], -1) {
			labels = append(labels, l[1])
		}
		want = append(want, "| `undertide_"+m[1]+"` | "+strings.Join(labels, ", ")+" | "+strings.TrimSuffix(m[2], ".")+" |")
	}
	if len(want) < 40 {
		t.Fatalf("%d names were found", len(want))
	}
	for _, line := range want {
		if !strings.Contains(string(page), line+"\n") {
			t.Errorf("docs/service.md lacks the line\n%s", line)
		}
	}
	if n := strings.Count(string(page), "| `undertide_"); n != len(want) {
		t.Errorf("docs/service.md lists %d names, and there are %d", n, len(want))
	}
}

// TestProblemsAreDocumented: docs/problems.md has each problem as it is, and no other.
func TestProblemsAreDocumented(t *testing.T) {
	page, err := os.ReadFile("../docs/problems.md")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, p := range api.Problems() {
		if line := fmt.Sprintf("| `%s` | %d | %s | %s |\n", p.Code, p.Status, p.Title, p.Fix); !strings.Contains(string(page), line) {
			t.Errorf("docs/problems.md lacks the line\n%s", line)
		}
		if seen[p.Code] {
			t.Errorf("two problems have the code %s", p.Code)
		}
		seen[p.Code] = true
	}
	if lines := strings.Count(string(page), "\n| `"); lines != len(seen) || lines < 40 {
		t.Errorf("docs/problems.md has %d problems, and the program %d", lines, len(seen))
	}
}

// TestLibrariesListed: docs/security.md has the versions of the libraries that stand between a stranger and the service.
func TestLibrariesListed(t *testing.T) {
	page, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	mod, err := os.ReadFile("../go.mod")
	if err != nil {
		t.Fatal(err)
	}
	_, table, _ := strings.Cut(string(page), "| library | version | for |")
	n := 0
	for line := range strings.Lines(table) {
		cells := strings.Split(line, "|")
		if len(cells) < 4 || !strings.Contains(cells[1], "`") {
			continue
		}
		n++
		if want := strings.Trim(cells[1], " `") + " " + strings.TrimSpace(cells[2]); !strings.Contains(string(mod), want+"\n") && !strings.Contains(string(mod), want+" ") {
			t.Errorf("docs/security.md lists %s, and go.mod another", want)
		}
	}
	if n < 8 {
		t.Errorf("%d libraries are listed", n)
	}
}
