package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"undertide/api"
)

// TestRestored: a data folder that was copied while the service stood takes its place again, as docs/upgrade.md says. A run whose
// sink got more since then is refused, until somebody names the checkpoint. People, tokens and secrets are there as they were.
func TestRestored(t *testing.T) {
	t.Parallel()
	dir := open(t)
	at := func(second int) string {
		return fmt.Sprintf(`{"gauge":"G1","level_m":1.5,"read_at":%d}`+"\n", 1767225600000+1000*second)
	}
	in := write(t, dir, "levels.ndjson", at(0)+at(70))
	doc := strings.NewReplacer("path: levels.ndjson", "path: "+in+", follow: true", "path: means.ndjson", "path: "+dir+"/means/").Replace(levels)
	for _, job := range []string{"levels", "quiet"} {
		write(t, dir, job+".yaml", strings.NewReplacer("job: levels", "job: "+job, "/means/", "/"+job+"/").Replace(doc))
	}
	rows := func(job string) (n int) {
		files, _ := filepath.Glob(filepath.Join(dir, job, "*.ndjson"))
		for _, f := range files {
			n += strings.Count(read(t, f), "\n")
		}
		return n
	}
	s := serve(t, dir)
	for _, job := range []string{"levels", "quiet"} {
		s.must("save", job+".yaml")
		s.must("start", job)
		eventually(t, 20*time.Second, "the first minute is there", func() bool { return rows(job) == 1 })
	}
	if o := s.must("show", "levels", "--document"); o.out != read(t, filepath.Join(dir, "levels.yaml")) {
		t.Errorf("the document that is shown:\n%s", o.out)
	}
	s.must("stop", "quiet")
	setSecret := exec.Command(binary, "secrets", "set", "port", "--server", s.address)
	setSecret.Stdin = strings.NewReader("low water\n")
	finish(t, setSecret).want(t, 0)
	s.must("people", "add", "kit", "--role", "keeper")
	token := strings.TrimSpace(s.must("tokens", "--make", "own", "--person", "kit").out)
	s.end(t, syscall.SIGINT)
	if out, err := exec.Command("cp", "-a", dataOf(dir), dataOf(dir)+".copy").CombinedOutput(); err != nil {
		t.Fatal(err, string(out))
	}

	s = serve(t, dir)
	write(t, dir, "levels.ndjson", at(0)+at(70)+at(130))
	eventually(t, 20*time.Second, "the second minute is there", func() bool { return rows("levels") == 2 })
	s.end(t, syscall.SIGINT)
	if err := os.RemoveAll(dataOf(dir)); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(dataOf(dir)+".copy", dataOf(dir)); err != nil {
		t.Fatal(err)
	}

	s = serve(t, dir)
	status := func(job string) string { // whoever asks has to sign in now, and the command line does
		var jobs []api.Job
		if err := json.Unmarshal([]byte(s.must("jobs", "--format", "json").out), &jobs); err != nil {
			t.Fatal(err)
		}
		for _, j := range jobs {
			if j.Name == job {
				return j.Status
			}
		}
		return "gone"
	}
	if o := s.must("secrets"); !strings.Contains(o.out, "port") || strings.Contains(o.out, "store it again") {
		t.Errorf("the secrets after it was restored:\n%s", o.out)
	}
	if o := s.must("me", "--token", token); !strings.Contains(o.out, "you are kit, and a keeper") {
		t.Errorf("the token of before is of: %s", o.out)
	}
	s.must("start", "quiet")
	eventually(t, 20*time.Second, "the quiet job goes on", func() bool { return rows("quiet") == 2 })
	eventually(t, 20*time.Second, "the other is refused", func() bool {
		return strings.Contains(s.must("history", "levels").out, "delivered") && status("levels") == "failed"
	})
	var list []api.Checkpoint
	if err := json.Unmarshal([]byte(s.must("checkpoints", "levels", "--format", "json").out), &list); err != nil || len(list) == 0 {
		t.Fatal(err)
	}
	epoch := fmt.Sprint(list[0].Epoch)
	s.must("start", "levels", "--resume", "checkpoint:"+epoch).want(t, 0)
	eventually(t, 20*time.Second, "it goes on", func() bool { return status("levels") == "running" && rows("levels") >= 2 })
}
