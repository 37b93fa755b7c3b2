package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"undertide/pace"
)

// postsJob takes posts at %s; its rows go into a folder, exactly once.
const postsJob = `undertide: 1
job: posts
settings: {checkpoint: {every: 200ms}}
sources:
  levels:
    via: http
    with: {listen: %s, journal: 64MiB}
    fields: {n: int, level_m: double, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 5s, ahead: none, idle: 1s}
sinks:
  out: {from: levels, via: file, with: {path: out/}}
`

// TestPostsKilled: eight posters send events under keys, each until it is answered, while the run is killed at random: all events come
// out, each once, whatever became of the answers.
func TestPostsKilled(t *testing.T) {
	t.Parallel()
	dir := open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "posts.yaml", fmt.Sprintf(postsJob, address))
	k := kills(t, dir, "posts.yaml")
	const posters = 8
	var stop atomic.Bool
	var next atomic.Int64
	var posts sync.WaitGroup
	for range posters {
		posts.Go(func() {
			client := http.Client{Timeout: 5 * time.Second}
			for !stop.Load() {
				n := next.Add(5) - 5
				var body bytes.Buffer
				for i := range int64(5) {
					fmt.Fprintf(&body, "{\"n\":%d,\"level_m\":1.5,\"at\":%d}\n", n+i, 1767225600000+(n+i)*10)
				}
				for { // until it is answered
					r, err := http.NewRequest(http.MethodPost, "http://"+address+"/", bytes.NewReader(body.Bytes()))
					if err != nil {
						t.Error(err)
						return
					}
					r.Header.Set("Idempotency-Key", fmt.Sprint("post ", n))
					answer, err := client.Do(r)
					if err == nil {
						text, _ := io.ReadAll(answer.Body) // the status counts
						answer.Body.Close()
						if answer.StatusCode == http.StatusAccepted {
							break
						}
						if answer.StatusCode < 500 && answer.StatusCode != http.StatusTooManyRequests {
							t.Errorf("a post is answered %d %s", answer.StatusCode, text)
							return
						}
					}
					time.Sleep(20 * time.Millisecond)
				}
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	k.again(pace.Of(20, 5))
	stop.Store(true)
	posts.Wait()
	want := next.Load()
	k.once(want)
	if want < 1000 {
		t.Errorf("only %d events were posted", want)
	}
}

// TestPostsToService: what is posted to a service goes to the run of the job; without one nothing is taken, and the answer says so.
func TestPostsToService(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	write(t, dir, "posts.yaml", strings.NewReplacer("{listen: %s, journal: 64MiB}", "{journal: 64MiB}", "path: out/", "path: "+dir+"/out/").Replace(postsJob))
	sent := 0
	post := func(source string, status int, answer string) {
		t.Helper()
		r, err := http.Post(s.address+"/in/posts/"+source, "application/json", strings.NewReader(fmt.Sprintf(`{"n":%d,"level_m":1.5,"at":%d}`, sent, 1767225600000+sent)))
		if err != nil {
			t.Fatal(err)
		}
		defer r.Body.Close()
		text, err := io.ReadAll(r.Body)
		if err != nil || r.StatusCode != status || !strings.Contains(string(text), answer) || status == 503 && r.Header.Get("Retry-After") == "" {
			t.Errorf("a post is answered %d %s, %v; want %d %s", r.StatusCode, text, err, status, answer)
		}
		if r.StatusCode == 202 {
			sent++
		}
	}
	rows := func() (n int) {
		files, err := filepath.Glob(filepath.Join(dir, "out", "*.ndjson"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			n += len(sortedLines(read(t, f)))
		}
		return n
	}
	s.must("save", filepath.Join(dir, "posts.yaml"))
	post("levels", 503, "source levels of job posts takes no posts just now")
	s.must("start", "posts")
	post("levels", 202, `{"taken":1,"first":0}`)
	post("levels", 202, `{"taken":1,"first":1}`)
	post("other", 503, "source other of job posts takes no posts just now")
	eventually(t, 20*time.Second, "two rows", func() bool { return rows() == 2 })
	s.must("stop", "posts")
	post("levels", 503, "takes no posts just now")
	s.must("start", "posts")
	post("levels", 202, `"first":2`)
	eventually(t, 20*time.Second, "three rows", func() bool { return rows() == 3 })
	if o := s.must("logs", "posts"); !strings.Contains(o.out, "takes posts at /in/posts/levels of the service") {
		t.Errorf("the log does not say where posts go:\n%s", o.out)
	}
}
