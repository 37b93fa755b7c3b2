package main

import (
	"os"
	"regexp"
	"testing"
)

// TestSettingsPage: docs/settings.md has the settings of the program, and tells what each is for.
func TestSettingsPage(t *testing.T) {
	want, err := page()
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../../" + path)
	if err != nil {
		t.Fatal(err)
	}
	if string(got) != want {
		t.Errorf("%s is not what the program has; run make pages", path)
	}
	for _, line := range regexp.MustCompile("(?m)^\\| `[^|]*\\|.*\\|  \\|$").FindAllString(want, -1) {
		t.Errorf("it is not said what a setting is for: %s", line)
	}
}
