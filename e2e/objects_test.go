package e2e

import (
	"bytes"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
)

// lake starts a store of objects with a bucket harbour.
func lake(t *testing.T) (url string, kept gofakes3.Backend) {
	t.Helper()
	kept = s3mem.New()
	if err := kept.CreateBucket("harbour"); err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(gofakes3.New(kept, gofakes3.WithLogger(gofakes3.DiscardLog())).Server())
	server.Config.ErrorLog = log.New(io.Discard, "", 0) // of requests that were killed
	server.Start()
	t.Cleanup(server.Close)
	return server.URL, kept
}

// objectsOf gives the objects of a store whose keys end so, by key.
func objectsOf(t *testing.T, kept gofakes3.Backend, ending string) map[string]string {
	t.Helper()
	list, err := kept.ListBucket("harbour", nil, gofakes3.ListBucketPage{})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, o := range list.Contents {
		if !strings.HasSuffix(o.Key, ending) {
			continue
		}
		in, err := kept.GetObject("harbour", o.Key, nil)
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(in.Contents)
		if err != nil {
			t.Fatal(err)
		}
		out[o.Key] = string(text)
	}
	return out
}

// TestObjectsKilled: a job reads objects and writes objects by fields, and is killed twenty times; each row is there once.
func TestObjectsKilled(t *testing.T) {
	t.Parallel()
	dir := open(t)
	url, kept := lake(t)
	const files, each = 4, 200_000
	for f := range files {
		var text bytes.Buffer
		for n := range each {
			fmt.Fprintf(&text, `{"gauge":"G%d","n":%d,"at":%d}`+"\n", n%3, f*each+n, n)
		}
		meta := map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}
		if _, err := kept.PutObject("harbour", fmt.Sprintf("in/%d.ndjson", f), meta, &text, int64(text.Len()), nil); err != nil {
			t.Fatal(err)
		}
	}
	write(t, dir, "job.yaml", fmt.Sprintf(`undertide: 1
job: objects
settings: {checkpoint: {every: 40ms}}
connections:
  lake: {via: file, url: %q, user: tide, password: "${env.LAKE_KEY}"}
sources:
  all:
    via: file
    with: {connection: lake, files: "s3://harbour/in/*.ndjson"}
    fields: {gauge: string, n: int, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 1h}
sinks:
  rows: {from: all, via: file, with: {connection: lake, path: "s3://harbour/rows/{gauge}/", roll: {every: 300ms}}}
`, url))
	run := func(args ...string) *exec.Cmd {
		c := exec.Command(binary, args...)
		c.Dir, c.Env = dir, append(c.Environ(), "LAKE_KEY=secret")
		return c
	}
	finish(t, run("check", "job.yaml", "--connect")).want(t, 0)
	finish(t, run("peek", "job.yaml", "all", "--oldest", "--limit", "2")).want(t, 0)
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	killed := 0
	for lives := 0; ; lives++ {
		c := run("run", "job.yaml", "--checkpoints", "kept", "--lanes", fmt.Sprint(1+r.IntN(3)))
		var said bytes.Buffer
		c.Stderr = &said
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		done := make(chan error, 1)
		go func() { done <- c.Wait() }()
		wait := time.Duration(40+r.IntN(100)) * time.Millisecond
		if killed >= 20 {
			wait = time.Minute
		}
		select {
		case err := <-done:
			if err != nil {
				t.Fatalf("life %d: %v\n%s", lives, err, said.String())
			}
			t.Logf("killed %d times in %d lives", killed, lives)
			if killed < 3 {
				t.Errorf("killed only %d times", killed)
			}
			seen := map[string]int{}
			for key, text := range objectsOf(t, kept, ".ndjson") {
				gauge, ok := strings.CutPrefix(filepath.Dir(key), "rows/")
				for line := range strings.Lines(text) {
					if !ok {
						break // what is read
					}
					if !strings.Contains(line, `"gauge":"`+gauge+`"`) {
						t.Fatalf("%s has %s", key, line)
					}
					seen[line]++
				}
			}
			for line, n := range seen {
				if n != 1 {
					t.Fatalf("%d times: %s", n, line)
				}
			}
			if len(seen) != files*each {
				t.Errorf("%d rows, want %d", len(seen), files*each)
			}
			return
		case <-time.After(wait):
			if err := c.Process.Kill(); err != nil {
				t.Fatal(err)
			}
			<-done
			killed++
		}
	}
}
