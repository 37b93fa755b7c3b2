package file

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/engine"
)

// readUntil reads a partition until an event has this text; it gives the events and where reading stands.
func readUntil(t *testing.T, p *Partition, last string) (events []string, at json.RawMessage) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for {
		var c engine.Chunk
		if err := p.Read(ctx, &c); err != nil {
			t.Fatalf("after %v: %v", events, err)
		}
		for i := range c.Starts {
			events = append(events, string(c.Event(i)))
		}
		if at = c.Position; len(events) > 0 && events[len(events)-1] == last {
			return events, at
		}
	}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = f.WriteString(text)
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

func move(t *testing.T, from, to string) {
	t.Helper()
	if err := os.Rename(from, to); err != nil {
		t.Fatal(err)
	}
}

// TestFollowRenamed: a file that is renamed while another takes its name is read to its end, also what is
// written to it afterwards and its last line without a newline; then the new one from its beginning. Once the new
// one was never read.
func TestFollowRenamed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gate.log")
	write(t, path, "one\ntwo\n")
	p := newPartition(local{}, path, records{}, true, 0)
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	readUntil(t, p, "two")
	move(t, path, path+".1")
	write(t, path+".1", "three\nfo")
	write(t, path, "five\n")
	got, _ := readUntil(t, p, "five")
	if strings.Join(got, " ") != "three fo five" {
		t.Errorf("after the change of names: %v", got)
	}
	move(t, path, path+".2") // the next change
	write(t, path, "six\n")
	if got, _ := readUntil(t, p, "six"); strings.Join(got, " ") != "six" {
		t.Errorf("after another: %v", got)
	}
}

// TestFollowRenamedCSV: each file has its header.
func TestFollowRenamedCSV(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gate.csv")
	write(t, path, "")
	p := newPartition(local{}, path, ofCSV, true, 0)
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	write(t, path, "a,b\n1,2\n")
	if got, _ := readUntil(t, p, "1,2"); len(got) != 1 || string(p.names) != "a,b" {
		t.Errorf("%v under %s", got, p.names)
	}
	move(t, path, path+".1")
	write(t, path, "b,a\n4,3\n")
	if got, _ := readUntil(t, p, "4,3"); len(got) != 1 || string(p.names) != "b,a" {
		t.Errorf("%v under %s", got, p.names)
	}
}

// TestFollowRenamedWhileAway: a run that goes on finds the file that it read under its new name; where it is
// gone, it says so.
func TestFollowRenamedWhileAway(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gate.log")
	write(t, path, "one\ntwo\n")
	p := newPartition(local{}, path, records{}, true, 0)
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	_, at := readUntil(t, p, "two")
	p.Close()
	write(t, path, "three\n")
	move(t, path, path+".old")
	write(t, path, "four\n")
	again := newPartition(local{}, path, records{}, true, 0)
	if err := again.Open(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	got, at := readUntil(t, again, "four")
	if strings.Join(got, " ") != "three four" {
		t.Errorf("the run goes on with %v", got)
	}
	again.Close()
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	write(t, path, "fuur\nfive\n")
	gone := newPartition(local{}, path, records{}, true, 0)
	if err := gone.Open(context.Background(), at); err == nil || !strings.Contains(err.Error(), "is not the file that the checkpoint read") {
		t.Errorf("a file that is gone gives %v", err)
	}
}

// TestFollowFinds: files that appear later become partitions; one that a partition reads does not become another as it
// is renamed, also after a restart.
func TestFollowFinds(t *testing.T) { synctest.Test(t, followFinds) }

func followFinds(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	write(t, path("gate.log"), "one\n")
	find := func(set *Followed) []string {
		ctx, cancel := context.WithCancel(context.Background())
		defer cancel()
		var mu sync.Mutex
		var names []string
		done := make(chan error, 1)
		go func() {
			done <- set.Find(ctx, func(p engine.Partition) {
				mu.Lock()
				defer mu.Unlock()
				names = append(names, filepath.Base(p.Name()))
			})
		}()
		time.Sleep(2 * time.Second)
		cancel()
		if err := <-done; err != nil {
			t.Fatal(err)
		}
		return names
	}
	set := follow(local{}, path("gate.log*"), records{}, 0)
	p := set.Partition(path("gate.log"))
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	readUntil(t, p, "one")
	move(t, path("gate.log"), path("gate.log.1"))
	write(t, path("gate.log"), "two\n")
	_, at := readUntil(t, p, "two")
	write(t, path("gate.log-other"), "three\n")
	if got := find(set); strings.Join(got, " ") != "gate.log-other" {
		t.Errorf("found %v, want the new file alone", got)
	}
	// A file system gives the number of a removed file to the next one: gate.log.1 goes, and gate.log.late has its number.
	st, err := os.Stat(path("gate.log.1"))
	if err != nil {
		t.Fatal(err)
	}
	was := set.read[identityOf(st)]
	if err := os.Remove(path("gate.log.1")); err != nil {
		t.Fatal(err)
	}
	write(t, path("gate.log.late"), "four\nfive\n")
	if st, err = os.Stat(path("gate.log.late")); err != nil {
		t.Fatal(err)
	}
	was.File = identityOf(st)
	set.note(was)
	if got := find(set); strings.Join(got, " ") != "gate.log.late" {
		t.Errorf("found %v, want the file that got the number of a removed one", got)
	}
	p.Close()
	set = follow(local{}, path("gate.log*"), records{}, 0)
	p, other := set.Partition(path("gate.log")), set.Partition(path("gate.log-other"))
	if err := p.Open(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	defer other.Close()
	late := set.Partition(path("gate.log.late"))
	defer late.Close()
	write(t, path("gate.log.1"), "one\n") // as it was, text and number
	set.note(place{Byte: 4, Tail: was.Tail, Len: was.Len, File: func() identity {
		st, err := os.Stat(path("gate.log.1"))
		if err != nil {
			t.Fatal(err)
		}
		return identityOf(st)
	}()})
	if got := find(set); len(got) != 0 {
		t.Errorf("after a restart %v are found, although they were read", got)
	}
}
