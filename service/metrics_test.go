package service

import (
	"os"
	"regexp"
	"strings"
	"testing"
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
