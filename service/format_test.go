package service

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOldCheckpoints: a job whose checkpoints another version of the program made does not start, says so by a code of its
// own, is not tried again, and begins anew where that is asked for.
func TestOldCheckpoints(t *testing.T) {
	base, dir := serving(t)
	call(t, base, "POST", "/jobs", "application/yaml", fmt.Sprintf(simulated, filepath.Join(dir, "out")))
	call(t, base, "POST", "/jobs/lifts/runs", "application/json", "{}")
	call(t, base, "POST", "/jobs/lifts/stop", "application/json", "")
	manifests, err := filepath.Glob(filepath.Join(dir+".data", "checkpoints", "lifts", "*", "*", "manifest.json"))
	if err != nil || len(manifests) == 0 {
		t.Fatal(err, manifests)
	}
	bare := `{"format": 1, "job": "lifts", "checksum": ""}`
	old := strings.Replace(bare, `""}`, fmt.Sprintf(`"%x"}`, sha256.Sum256([]byte(bare))), 1)
	for _, m := range manifests {
		if err := os.WriteFile(m, []byte(old), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if text := call(t, base, "POST", "/jobs/lifts/runs", "application/json", "{}"); !strings.Contains(text, `"code":"old-checkpoints"`) || !strings.Contains(text, "--fresh") {
		t.Error(text)
	}
	if text := call(t, base, "POST", "/jobs/lifts/runs", "application/json", `{"resume":"fresh"}`); strings.Contains(text, `"code"`) {
		t.Error(text)
	}
}
