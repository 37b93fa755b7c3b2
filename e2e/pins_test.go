package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// pinsJob is stateJob with few checkpoints and rolled files.
var pinsJob = strings.NewReplacer("job: keeps", "job: pinned", "every: 200ms", "every: 200ms, keep: 1", "path: out.ndjson", "path: out/").Replace(stateJob)

// TestPins: a checkpoint that is pinned outlasts those that come after it, says what it costs, is looked into, and a run goes
// back to it: with its state, its positions and greater epochs, also once the service was started anew in between. What is
// unknown is refused before anything is stopped.
func TestPins(t *testing.T) {
	t.Parallel()
	dir := open(t)
	events := func(minute, n int) {
		t.Helper()
		f, err := os.OpenFile(filepath.Join(dir, "levels.ndjson"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		for i := range n {
			fmt.Fprintf(f, `{"gauge":"G%d","at":%d}`+"\n", i%5, minute*60_000+i)
		}
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	write(t, dir, "pinned.yaml", strings.ReplaceAll(pinsJob, "path: ", "path: "+dir+"/"))
	events(0, 10)
	s := serve(t, dir)
	s.must("save", "pinned.yaml")
	s.must("start", "pinned")
	keeps := func(what string) {
		t.Helper()
		eventually(t, 20*time.Second, "a checkpoint has "+what, func() bool {
			return strings.Contains(strings.Join(strings.Fields(s.run("state", "pinned", "minute", "--open").out), " "), what)
		})
	}
	keeps("1970-01-01T00:00:00Z 5 10 ")
	s.run("pin", "pinned", "calm").want(t, 0, "is kept as calm")
	s.run("pin", "pinned", "calm").want(t, 1, "has a pin calm already", "undertide unpin")
	s.run("pin", "pinned", "../calm").want(t, 1, "not a name for a pin")
	s.run("pin", "pinned", "late", "--checkpoint", "99999").want(t, 1, "has no checkpoint 99999")
	s.run("pin", "pinned", "--checkpoint", "1").want(t, 2, "NAME")
	events(1, 10)
	keeps("1970-01-01T00:01:00Z 5 10 ")
	shows := func(o outcome, texts ...string) {
		t.Helper()
		o.want(t, 0)
		for _, want := range texts {
			if !strings.Contains(o.out, want) {
				t.Errorf("%q is not shown:\n%s", want, o.out)
			}
		}
	}
	shows(s.run("state", "pinned", "minute", "--pin", "calm"), "1970-01-01T00:00:00Z")
	shows(s.run("state", "pinned", "minute", "--compare", "pin:calm,last"), "5 came, 0 changed, 5 went") // the next one replaces it soon
	s.run("state", "pinned", "minute", "--pin", "clam").want(t, 1, "did you mean calm?")
	shows(s.run("pins", "pinned"), "calm", "it alone keeps")
	eventually(t, 20*time.Second, "the list shows the pin, and others are pruned", func() bool {
		list := s.run("checkpoints", "pinned", "--limit", "1000").out
		return strings.Contains(list, "pin calm") && strings.Contains(list, "pruned") && strings.Contains(list, "rows changed")
	})

	s.run("start", "pinned", "--resume", "pin:calm").want(t, 1, "is running")
	s.run("restart", "pinned", "--resume", "pin:clam").want(t, 1, "did you mean calm?")
	s.run("restart", "pinned", "--resume", "checkpoint:99999").want(t, 1, "has no checkpoint 99999")
	s.run("restart", "pinned", "--resume", "yesterday").want(t, 2, "give last, pin:NAME or checkpoint:N")
	if o := s.run("jobs").out; !strings.Contains(o, "running") {
		t.Errorf("a refused start stopped the run:\n%s", o)
	}
	before := newestEpoch(t, s)
	s.run("restart", "pinned", "--resume", "pin:calm").want(t, 0, "goes back to checkpoint", "made again")
	keeps("1970-01-01T00:01:00Z 5 10 ")
	eventually(t, 20*time.Second, "the windows that had closed after it are delivered again", func() bool {
		return strings.Count(strings.Join(delivered(t, filepath.Join(dir, "out")), "\n"), `"window_start":"1970-01-01T00:00:00Z"`) == 10
	})
	if after := newestEpoch(t, s); len(after) < len(before) || len(after) == len(before) && after <= before {
		t.Errorf("the newest epoch is %s after %s", after, before)
	}
	s.end(t, syscall.SIGKILL)
	s = serve(t, dir)
	events(2, 10)
	keeps("1970-01-01T00:02:00Z 5 10 ")
	if n := strings.Count(strings.Join(delivered(t, filepath.Join(dir, "out")), "\n"), `"window_start":"1970-01-01T00:01:00Z"`); n != 5 {
		t.Errorf("the minute after is delivered %d times for 5 gauges", n)
	}
	s.must("stop", "pinned")
	list := s.run("checkpoints", "pinned", "--limit", "1000").out
	if !strings.Contains(list, "pin calm") {
		t.Errorf("the list has lost the checkpoints of the run before:\n%s", list)
	}
	s.run("unpin", "pinned", "calm").want(t, 0, "keeps no checkpoint as calm")
	s.run("unpin", "pinned", "calm").want(t, 1, "has no pin calm")
	if left, err := filepath.Glob(filepath.Join(dataOf(dir), "checkpoints", "pinned", "pins", "*")); err != nil || len(left) > 0 {
		t.Errorf("%v are left (%v)", left, err)
	}
	newest := newestEpoch(t, s)
	s.run("start", "pinned", "--resume", "checkpoint:"+newest).want(t, 0, "running")

	// A checkpoint that cannot be written stands in the list with the reason, and the run goes on once it can be.
	found, err := filepath.Glob(filepath.Join(dataOf(dir), "checkpoints", "pinned", "*", "again"))
	if err != nil || len(found) != 2 {
		t.Fatalf("folders that were gone back to: %v (%v)", found, err)
	}
	slices.Sort(found)
	folder := filepath.Dir(found[1])
	if err := os.Chmod(folder, 0o500); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, "the list tells of a checkpoint that is not complete", func() bool {
		list := s.run("checkpoints", "pinned").out
		return strings.Contains(list, "not complete: checkpoint ") && strings.Contains(list, "permission denied")
	})
	if err := os.Chmod(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	eventually(t, 30*time.Second, "it goes on", func() bool { return s.job("pinned").Status == "running" })
	s.must("stop", "pinned")
}

// newestEpoch gives the epoch of a job's newest checkpoint.
func newestEpoch(t *testing.T, s *serving) string {
	t.Helper()
	lines := strings.Split(s.run("checkpoints", "pinned", "--limit", "1").out, "\n")
	if len(lines) < 2 {
		t.Fatal("there is no checkpoint")
	}
	return strings.Fields(lines[1])[0]
}

// TestCheckpointsInConsole does by hand what the Checkpoints section offers: look into a checkpoint, in each view, pin it, compare
// it with another, start from it, and unpin it.
func TestCheckpointsInConsole(t *testing.T) {
	t.Parallel()
	dir := open(t)
	write(t, dir, "pinned.yaml", strings.ReplaceAll(strings.Replace(pinsJob, "every: 200ms, keep: 1", "every: 500ms, keep: 50", 1), "path: ", "path: "+dir+"/"))
	var text strings.Builder
	for i := range 40 {
		fmt.Fprintf(&text, `{"gauge":"G%d","at":%d}`+"\n", i%5, i*100)
	}
	write(t, dir, "levels.ndjson", text.String())
	s := serve(t, dir)
	s.must("save", "pinned.yaml")
	s.must("start", "pinned")
	eventually(t, 20*time.Second, "a checkpoint has all keys", func() bool {
		return strings.Contains(strings.Join(strings.Fields(s.run("state", "pinned", "minute", "--open").out), " "), "5 40 ")
	})
	old := newestEpoch(t, s)

	p := browse(t, s.address+"/jobs/pinned")
	p.shows("Map")
	p.press("Checkpoints")
	p.shows("rows changed")
	p.press("pin checkpoint " + old)
	p.fill("Keep checkpoint "+old+" as", "a b")
	p.press("Pin")
	p.shows("not a name for a pin")
	p.fill("Keep checkpoint "+old+" as", "calm")
	p.press("Pin")
	p.shows("it alone keeps")
	p.press("look into pin calm")
	p.shows("Inside pin calm")
	p.shows("rows_taken")
	p.fill("Key", "gauge=G3")
	eventually(t, 10*time.Second, "one row is left", func() bool {
		return value[int](p, "document.querySelectorAll('.inside tbody tr').length") == 1
	})
	p.press("accumulators")
	eventually(t, 10*time.Second, "accumulators in place of results", func() bool { return !strings.Contains(p.text(), "rows_taken") })
	p.press("Windows")
	p.shows("W has to go")
	p.press("Skew")
	p.shows("5 keys, 40 rows taken")
	p.press("Compare")
	p.shows("Choose what to compare pin calm with.")
	f, err := os.OpenFile(filepath.Join(dir, "levels.ndjson"), os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(f, `{"gauge":"G3","at":5000}`)
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, "a checkpoint has one more row", func() bool {
		return strings.Contains(strings.Join(strings.Fields(s.run("state", "pinned", "minute", "--open").out), " "), "5 41 ")
	})
	newest := newestEpoch(t, s)
	eventually(t, 20*time.Second, "the page lists it", func() bool { return strings.Contains(p.text(), "\n"+newest+"\t") })
	p.pick("Compare with", "with checkpoint "+newest)
	p.shows("From pin calm to checkpoint " + newest + ": 0 came, 1 changed, 0 went, 0 are the same.") // of the key that was asked for
	p.fill("Key", "")
	p.shows("0 came, 1 changed, 0 went, 4 are the same.")

	p.press("start from pin calm")
	p.shows("go back to pin calm")
	p.shows("goes on with its state")
	p.press("Stop the old run and start")
	eventually(t, 20*time.Second, "another run goes on from it", func() bool { j := s.job("pinned"); return j.Run.ID == 2 && j.Status == "running" })
	p.press("unpin calm")
	eventually(t, 10*time.Second, "the pin is gone", func() bool { return !strings.Contains(p.text(), "it alone keeps") })
}
