package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// killing is a run that is killed again and again; its rows, which have a number n from 0 on, go into the folder out, exactly once.
type killing struct {
	t        *testing.T
	dir, doc string
	env      []string
	run      *exec.Cmd
	said     bytes.Buffer
	kills    int
}

// kills starts the run of a document, with these variables.
func kills(t *testing.T, dir, doc string, env ...string) *killing {
	t.Helper()
	k := &killing{t: t, dir: dir, doc: doc, env: env}
	k.start()
	return k
}

func (k *killing) start() {
	k.t.Helper()
	k.said.Reset()
	k.run = exec.Command(binary, "run", k.doc, "--checkpoints", "state")
	k.run.Dir, k.run.Stderr, k.run.Env = k.dir, &k.said, append(os.Environ(), k.env...)
	k.run.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := k.run.Start(); err != nil {
		k.t.Fatal(err)
	}
}

// again kills it so many times at random, and starts it again each time.
func (k *killing) again(times int) {
	k.t.Helper()
	for range times {
		time.Sleep(time.Duration(50+rand.IntN(700)) * time.Millisecond)
		if err := k.run.Process.Kill(); err != nil {
			k.t.Fatalf("the run has ended by itself: %v; it said\n%s", err, k.said.String())
		}
		_ = k.run.Wait() // killed
		k.kills++
		k.start()
	}
}

// rows are those of whole files.
func (k *killing) rows() (out []string) {
	k.t.Helper()
	files, err := filepath.Glob(filepath.Join(k.dir, "out", "*.ndjson"))
	if err != nil {
		k.t.Fatal(err)
	}
	for _, f := range files {
		out = append(out, sortedLines(read(k.t, f))...)
	}
	return out
}

// seen stops the run, and gives how often each number was delivered.
func (k *killing) seen() map[int64]int {
	k.t.Helper()
	if err := k.run.Process.Signal(syscall.SIGINT); err != nil {
		k.t.Fatal(err)
	}
	_ = k.run.Wait() // interrupted
	seen := map[int64]int{}
	for _, line := range k.rows() {
		var r struct{ N int64 }
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			k.t.Fatal(err)
		}
		seen[r.N]++
	}
	return seen
}

// once says what was not delivered once of the rows 0 to want-1, and stops the run.
func (k *killing) once(want int64) {
	t := k.t
	t.Helper()
	defer func() {
		if t.Failed() {
			t.Logf("the run said\n%s", k.said.String())
		}
	}()
	eventually(t, 30*time.Second, fmt.Sprintf("%d rows", want), func() bool { return int64(len(k.rows())) >= want })
	seen := k.seen()
	lost, twice := 0, 0
	for n := range want {
		switch seen[n] {
		case 0:
			lost++
		case 1:
		default:
			twice++
		}
	}
	if lost > 0 || twice > 0 || int64(len(seen)) != want {
		t.Errorf("%d kills: of %d events %d are lost and %d came twice, and there are %d", k.kills, want, lost, twice, len(seen))
	}
}
