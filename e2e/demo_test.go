package e2e

import (
	"bytes"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"undertide/api"
)

// TestDemo opens the harbour twice on the same data: both times two jobs show rows, and nothing of it
// is left running.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir := open(t)
	data := filepath.Join(dir, "demo")
	demo := func(args ...string) (*serving, time.Duration) {
		t.Helper()
		began := time.Now()
		s := &serving{t: t, dir: dir}
		s.process = launch(t, dir, append([]string{"demo", "--data", data, "--listen", "127.0.0.1:0", "--broker", "127.0.0.1:0", "--registry", "127.0.0.1:0", "--notices", "127.0.0.1:0"}, args...)...)
		s.address = s.says(t, `console   (http://\S+)`)
		return s, time.Since(began)
	}
	rows := func(s *serving) {
		t.Helper()
		for job, step := range map[string]string{"mean-level": "minute", "crane-load": "five_minutes"} {
			eventually(t, 30*time.Second, job+" shows rows", func() bool { return s.must("rows", job, step, "--limit", "1", "--format", "json").out != "" })
		}
	}
	s, _ := demo()
	rows(s)
	for _, sink := range []string{"sink means", "sink table"} { // messages of a topic, rows of a table
		eventually(t, 20*time.Second, sink+" has rows", func() bool {
			return strings.Count(s.must("rows", "mean-level", sink, "--where", "readings > 0", "--limit", "3", "--format", "json").out, `"mean_m"`) == 3
		})
	}
	page := browse(t, s.address+"/jobs")
	page.press("picture")
	page.shows("vessel.pings")
	page.hit("the job in the picture", `[...document.querySelectorAll('.picture a')].find((e) => e.innerText.startsWith('port-calls'))`)
	page.shows("vessel.silent of harbour")
	examplesRun(t, s)
	practised(t, s)
	s.end(t, syscall.SIGINT)
	left(t, data)
	if s.cmd.ProcessState.ExitCode() != 0 {
		t.Errorf("the demo ends with status %d after Ctrl-C", s.cmd.ProcessState.ExitCode())
	}

	s, took := demo("--for", "20s")
	if took > 15*time.Second {
		t.Errorf("the second start took %s, want 15 s at most", took)
	}
	for job, step := range map[string]string{"mean-level": "minute", "crane-load": "five_minutes"} {
		if s.must("rows", job, step, "--limit", "1", "--format", "json").out == "" {
			t.Errorf("%s shows no rows as soon as it is started again", job)
		}
	}
	if n := strings.Count(s.must("history", "mean-level").out, "started"); n < 2 {
		t.Errorf("history tells of %d starts; the data was to stay", n)
	}
	if v := s.must("versions", "mean-level").out; strings.Count(v, "\n") != 2 {
		t.Errorf("the second start saved another version:\n%s", v)
	}
	select {
	case err := <-s.done:
		s.done <- err
		if err != nil {
			t.Errorf("--for 20s: %v", err)
		}
	case <-time.After(40 * time.Second):
		t.Error("--for 20s does not end by itself")
	}
	left(t, data)
}

// practised makes each fault in the harbour: its alarm comes within its time, the sentence names the cause, and the job is gone afterwards.
func practised(t *testing.T, s *serving) {
	t.Helper()
	faults := []struct{ name, alarm, says string }{
		{"bad-events", "rejects", "of the events of source lifts are rejected"},
		{"crash", "restarts", "Sink board: receiver board does not take a row"},
		{"slow-sink", "held_up", "Sink board holds up the run"},
		{"silence", "stands", "Partition 1 of lifts has had no event since"},
		{"skew", "skew", "of step minute has had"},
		{"lag", "behind", "events behind, growing. Lane 0 of step searched is busy"},
	}
	var all []*process
	for _, f := range faults {
		all = append(all, launch(t, s.dir, "demo", "fault", f.name, "--for", "90s", "--server", s.address))
	}
	for i, f := range faults {
		p := all[i]
		p.says(t, "expected   (alarm "+f.alarm+"), within 1m0s")
		eventually(t, 70*time.Second, "the alarm of "+f.name, func() bool { return strings.Contains(p.text(), "practice-"+f.name+" says: ") })
		// The alarm may come a moment before the cause is certain.
		eventually(t, 20*time.Second, f.name+" names its cause, "+f.says, func() bool {
			return strings.Contains(p.text(), f.says) || strings.Contains(s.job("practice-"+f.name).Sentence, f.says)
		})
		if f.name == "crash" { // each try fails at its checkpoint, and none of these is forgotten with its try
			eventually(t, 10*time.Second, "failed checkpoints are counted", func() bool { return most(t, s, "practice-crash", "checkpoints_failed") >= 2 })
		}
		p.end(t, syscall.SIGINT)
		if p.cmd.ProcessState.ExitCode() != 0 || strings.Contains(s.must("jobs").out, "practice-"+f.name) {
			t.Errorf("%s ends with status %d; jobs are then\n%s", f.name, p.cmd.ProcessState.ExitCode(), s.must("jobs").out)
		}
	}
	s.run("demo", "fault", "lagg").want(t, 2, "give lag, skew, silence, slow-sink, bad-events, crash")
	s.run("demo", "fault", "lag", "--for", "1s").want(t, 2, "5s or more")
}

// most gives the greatest value that a figure had lately.
func most(t *testing.T, s *serving, job, figure string) (most float64) {
	t.Helper()
	var past api.PastFigures
	if err := json.Unmarshal([]byte(s.must("figures", job, "--name", figure, "--since", "2m", "--format", "json").out), &past); err != nil {
		t.Fatal(err)
	}
	for _, v := range past.Lines[0].Greatest {
		if v != nil {
			most = max(most, *v)
		}
	}
	return most
}

// left fails when processes still work on a folder.
func left(t *testing.T, dir string) {
	t.Helper()
	entries, err := os.ReadDir("/proc")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		line, err := os.ReadFile(filepath.Join("/proc", e.Name(), "cmdline"))
		if err != nil {
			continue // no process, or one that has just ended
		}
		if bytes.Contains(line, []byte(dir)) {
			t.Errorf("still running: %s", bytes.ReplaceAll(line, []byte{0}, []byte{' '}))
		}
	}
}

// TestForeigners: what pages of other sites would send is refused, and answers say what a page may do.
func TestForeigners(t *testing.T) {
	s := serve(t, open(t))
	port := s.address[strings.LastIndex(s.address, ":")+1:]
	for _, c := range []struct {
		name         string
		method, path string
		header       []string
		status       int
		code         string
	}{
		{"own console", "GET", "/api/v1/jobs", []string{"Origin", s.address, "Sec-Fetch-Site", "same-origin"}, 200, ""},
		{"a program", "GET", "/api/v1/jobs", nil, 200, ""},
		{"localhost", "GET", "/api/v1/jobs", []string{"Host", "localhost:" + port}, 200, ""},
		{"a tunnel's port", "GET", "/api/v1/jobs", []string{"Host", "127.0.0.1:9999"}, 200, ""},
		{"a name made to point here", "GET", "/api/v1/jobs", []string{"Host", "harbour.example:" + port}, 403, "foreign-host"},
		{"its pages", "GET", "/", []string{"Host", "harbour.example:" + port}, 403, "foreign-host"},
		{"its metrics", "GET", "/metrics", []string{"Host", "harbour.example"}, 403, "foreign-host"},
		{"another origin", "POST", "/api/v1/jobs", []string{"Origin", "https://harbour.example", "Content-Type", "application/yaml"}, 403, "foreign-origin"},
		{"another port of this machine", "POST", "/api/v1/jobs/x/stop", []string{"Origin", "http://127.0.0.1:1"}, 403, "foreign-origin"},
		{"a sandboxed page", "DELETE", "/api/v1/jobs/x", []string{"Origin", "null"}, 403, "foreign-origin"},
		{"a stream from another page", "GET", "/api/v1/jobs", []string{"Sec-Fetch-Site", "cross-site", "Accept", "text/event-stream"}, 403, "foreign-origin"},
		{"a link from another page", "GET", "/jobs", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate"}, 200, ""},
		{"a form", "POST", "/api/v1/jobs", []string{"Content-Type", "text/plain"}, 400, "wrong-request"},
		{"nothing there", "GET", "/api/v1/nothing", nil, 404, "no-such-address"},
		{"another method", "PUT", "/api/v1/jobs", nil, 405, "wrong-request"},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, text, header := s.ask(c.method, c.path, "undertide: 1", c.header...)
			if status != c.status || c.code != "" && !strings.Contains(text, `"code":"`+c.code+`"`) {
				t.Errorf("%d %s, want %d %s", status, text, c.status, c.code)
			}
			if c.code != "" && header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("a problem comes as %s", header.Get("Content-Type"))
			}
			if !strings.Contains(header.Get("Content-Security-Policy"), "default-src 'self'") || header.Get("X-Content-Type-Options") != "nosniff" || header.Get("Access-Control-Allow-Origin") != "" {
				t.Errorf("headers: %v", header)
			}
		})
	}
}

// TestMetrics: Prometheus' own checker finds nothing to complain of.
func TestMetrics(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	kcat(t, keyed(readings(5_000))+"x|no reading\n", "-b", broker, "-t", "levels", "-P", "-K", "|")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", topicJob(broker, dir)))
	s.must("start", "means")
	var text string
	eventually(t, 15*time.Second, "metrics tell of the job", func() bool {
		_, text, _ = s.get("/metrics")
		return strings.Contains(text, `undertide_source_events_total{job="means",source="levels"} 5001`) && strings.Contains(text, "undertide_checkpoint_age_seconds")
	})
	for _, want := range []string{`undertide_rejected_total{at="levels",job="means",reason="malformed"} 1`, `undertide_job_up{job="means",status="running"} 1`, "undertide_database_up 1", `undertide_source_lag_events{job="means",source="levels"} 0`, "undertide_watermark_timestamp_seconds"} {
		if !strings.Contains(text, want) {
			t.Errorf("metrics lack %s", want)
		}
	}
	promtool, err := exec.LookPath("promtool")
	if err != nil {
		if promtool, err = filepath.Abs("../bin/tools/usr/bin/promtool"); err != nil {
			t.Fatal(err)
		}
		if _, err := os.Stat(promtool); err != nil {
			t.Fatal("promtool is missing; run scripts/install.sh tools")
		}
	}
	c := exec.Command(promtool, "check", "metrics")
	c.Stdin = strings.NewReader(text)
	if out, err := c.CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("promtool: %v: %s", err, out)
	}
	if code, text, _ := s.get("/healthz"); code != http.StatusOK || text != "ok\n" {
		t.Errorf("/healthz: %d %s", code, text)
	}
}

// TestBrokerStandIn: Debian's kcat works with it, keys, headers and groups too, and its topics last.
func TestBrokerStandIn(t *testing.T) {
	dir := open(t)
	b, address := startBroker(t, dir, "")
	kcat(t, "k1|v1\nk2|v2\n", "-b", address, "-t", "levels", "-P", "-K", "|", "-H", "source=kcat")
	if list := kcat(t, "", "-b", address, "-L"); !strings.Contains(list, `topic "levels" with 2 partitions`) {
		t.Errorf("kcat -L:\n%s", list)
	}
	b.end(t, syscall.SIGINT)
	startBroker(t, dir, address)
	got := kcat(t, "", "-b", address, "-t", "levels", "-C", "-e", "-q", "-f", "%k=%s %h\n")
	if !strings.Contains(got, "k1=v1 source=kcat") || !strings.Contains(got, "k2=v2 source=kcat") {
		t.Errorf("after another start:\n%s", got)
	}
}
