package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
)

// TestDeployed: what the unit and the image start is a service that comes up, and that ends by the signal that they name.
func TestDeployed(t *testing.T) {
	t.Parallel()
	unit, image := read(t, "../deploy/undertide.service"), read(t, "../deploy/Dockerfile")
	line := regexp.MustCompile(`(?m)^ExecStart=/usr/local/bin/undertide (.*)$`).FindStringSubmatch(unit)
	if line == nil {
		t.Fatal("the unit starts nothing")
	}
	var command []string
	if err := json.Unmarshal([]byte(regexp.MustCompile(`(?m)^CMD (.*)$`).FindStringSubmatch(image)[1]), &command); err != nil {
		t.Fatal(err)
	}
	if strings.Join(command, " ") != "undertide "+line[1] {
		t.Errorf("the image starts %q, and the unit %q", command, line[1])
	}
	if !strings.Contains(unit, "\nKillSignal=SIGINT\n") || !strings.Contains(image, "\nSTOPSIGNAL SIGINT\n") {
		t.Error("a run takes its last checkpoint at an interrupt: both have to send one")
	}
	dir := open(t)
	here := strings.NewReplacer("/var/lib/undertide", dataOf(dir), "/srv/undertide", dir).Replace(line[1])
	args := append(strings.Fields(here), "--listen", "127.0.0.1:0")
	if os.Geteuid() == 0 {
		args = append(args, "--user", servant)
	}
	c := exec.Command(binary, args...)
	c.Dir = dir
	p := running(t, c)
	p.says(t, `the console is at (http://\S+);`)
	p.end(t, syscall.SIGINT)
	if analyze, err := exec.LookPath("systemd-analyze"); err == nil {
		out, err := exec.Command(analyze, "verify", "--man=no", filepath.Join("..", "deploy", "undertide.service")).CombinedOutput()
		if err != nil && !strings.Contains(string(out), "is not executable") {
			t.Errorf("the unit: %v\n%s", err, out)
		}
	}
}
