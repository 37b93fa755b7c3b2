package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"undertide/access"
	"undertide/api"
	"undertide/job"
	"undertide/postgres"
	"undertide/store"
)

// at gives the same people, asking at another node.
func (p *peopled) at(base string) *peopled {
	other := *p
	other.base = base
	return &other
}

// ownRecords starts a PostgreSQL for a test.
func ownRecords(t *testing.T) (dir, url string) {
	t.Helper()
	dir = t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	pg, err := postgres.Start(context.Background(), filepath.Join(dir, "postgres"), store.TrailSQL, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pg.Stop)
	return dir, pg.URL()
}

// twoNodes are nodes quay and pier, with people, that share a database, a folder for checkpoints and one for files; or what change says.
func twoNodes(t *testing.T, change func(o *Options)) (quay, pier *peopled, shared string) {
	t.Helper()
	dir, database := ownRecords(t)
	shared = filepath.Join(dir, "shared")
	files := filepath.Join(dir, "files")
	for _, d := range []string{shared, files} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("TIDE_KEY", "bmV0cyBhcmUgbWVuZGVkIG9uIHRoZSBxdWF5IGJ5IG4=")
	o := func(name string) Options {
		made := Options{SignIn: true, Database: database, Node: name, Store: shared, SecretKeyFrom: []string{"env:TIDE_KEY"}, Files: []string{files}}
		if change != nil {
			change(&made)
		}
		return made
	}
	quay = servingPeopleWith(t, o("quay"))
	base, _ := servingWith(t, o("pier"))
	quay.dir = files
	return quay, quay.at(base), shared
}

// TestNodes: whatever node is asked, it answers for all: by sessions and tokens that began on another, for jobs that another carries out, and with what was
// changed on another.
func TestNodes(t *testing.T) {
	quay, pier, shared := twoNodes(t, nil)
	both := func(do func(p *peopled)) { do(quay); do(pier) }

	// Who signed in on one is so on the other; who is removed on one is nobody on the other.
	var me api.Me
	if pier.as("rea").want(200, "GET", "/me", nil, &me); me.Name != "rea" {
		t.Errorf("rea is %+v on the other node", me)
	}
	pier.by(pier.tokens["ena"]).want(200, "GET", "/jobs", nil, nil)
	var made api.MadePerson
	pier.as("kit").want(201, "POST", "/people", api.NewPerson{Name: "bo", Role: "engineer"}, &made)
	until(t, "the other node knows bo", func() bool {
		_, text := quay.as("kit").ask("GET", "/people", nil)
		return strings.Contains(text, `"bo"`)
	})
	quay.comes("bo", api.Enter{Code: made.Code, Password: passwordOf("bo")})
	until(t, "bo is known on the other node", func() bool {
		status, _ := pier.at(pier.base).by(quay.tokens["bo"]).ask("GET", "/jobs", nil)
		return status == 200
	})
	bo := quay.tokens["bo"]

	// A secret that one has sealed the other opens; a connection counts on both.
	quay.as("kit").want(200, "PUT", "/secrets/pass", api.SecretText{Text: "ebb and flow"}, nil)
	until(t, "the other node has the secret", func() bool {
		_, text := pier.as("kit").ask("GET", "/secrets", nil)
		return strings.Contains(text, `"pass"`)
	})

	// The first job goes to one of them, the second to the other; each is seen and changed on both.
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	saves := quay.by(quay.tokens["ena"]).with("Content-Type", "application/yaml")
	lifts := fmt.Sprintf(simulated, filepath.Join(quay.dir, "out"))
	posted := `undertide: 1
job: posted
settings: {checkpoint: {every: 200ms}}
sources:
  levels: {via: http, with: {tokens: true}, fields: {gauge: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: file, with: {path: ` + filepath.Join(quay.dir, "posted") + `/}}
`
	saves.want(201, "POST", "/jobs", lifts, nil)
	saves.want(201, "POST", "/jobs", posted, nil)
	until(t, "both know the jobs", func() bool {
		status, _ := ena(pier).ask("GET", "/jobs/posted", nil)
		return status == 200
	})
	var begun, begunToo api.Started
	ena(pier).want(201, "POST", "/jobs/lifts/runs", "{}", &begun)
	until(t, "the load is known", func() bool {
		_, text := ena(pier).ask("GET", "/nodes", nil)
		return strings.Contains(text, `"lifts"`)
	})
	ena(pier).want(409, "POST", "/jobs/lifts/runs", "{}", nil)
	ena(quay).want(409, "POST", "/jobs/lifts/runs", "{}", nil)
	time.Sleep(600 * time.Millisecond) // until the next beat
	ena(quay).want(201, "POST", "/jobs/posted/runs", "{}", &begunToo)
	nodeOf := func(p *peopled) map[string]string {
		var list api.Page[api.Job]
		out := map[string]string{}
		ena(p).want(200, "GET", "/jobs", nil, &list)
		for _, j := range list.Items {
			out[j.Name] = j.Node
			if j.Live == nil {
				out[j.Name] = ""
			}
		}
		return out
	}
	until(t, "both lists have both jobs as their nodes see them", func() bool {
		a, b := nodeOf(quay), nodeOf(pier)
		return a["lifts"] != "" && a["posted"] != "" && a["lifts"] != a["posted"] && fmt.Sprint(a) == fmt.Sprint(b)
	})
	var nodes api.List[api.Node]
	ena(pier).want(200, "GET", "/nodes", nil, &nodes)
	if len(nodes.Items) != 2 || nodes.Items[0].Name != "pier" || !nodes.Items[0].This || nodes.Items[1].This || len(nodes.Items[0].Jobs) != 1 || len(nodes.Items[1].Jobs) != 1 || nodes.Items[0].State != "well" {
		t.Errorf("the nodes are %+v", nodes.Items)
	}
	both(func(p *peopled) {
		ena(p).want(200, "GET", fmt.Sprintf("/runs/%d/figures", begun.Run.ID), nil, nil)
		var rows api.Rows
		until(t, "there are rows to look at", func() bool {
			ena(p).want(200, "GET", fmt.Sprintf("/runs/%d/steps/second/rows", begun.Run.ID), nil, &rows)
			return len(rows.Rows) > 0
		})
		ena(p).want(200, "GET", "/jobs/lifts/logs", nil, nil)
		ena(p).want(200, "GET", "/jobs/lifts/state/second", nil, nil)
		var there api.List[api.Job]
		for _, n := range nodes.Items {
			if ena(p).want(200, "GET", "/nodes/"+n.Name+"/jobs", nil, &there); len(there.Items) != 1 || there.Items[0].Name != n.Jobs[0] {
				t.Errorf("node %s has the jobs %+v, want %v", n.Name, there.Items, n.Jobs)
			}
		}
		p.as("rea").want(403, "POST", "/jobs/lifts/stop", "{}", nil)
		p.as("").want(401, "GET", "/jobs/lifts", nil, nil)
	})

	// Posts are taken on both, by a token of the job; a node's own header from somebody else is worth nothing.
	var poster api.MadeToken
	ena(pier).want(201, "POST", "/jobs/posted/tokens", api.NewToken{Name: "gate", Source: "levels"}, &poster)
	both(func(p *peopled) {
		until(t, "the token counts", func() bool {
			status, _ := p.by(poster.Text).with("Content-Type", "application/json").ask("POST", "/in/posted/levels", []byte(`{"gauge": "G1", "at": "2026-03-01T00:00:00Z"}`))
			return status == 202
		})
		p.by("made up").with("Content-Type", "application/json").want(401, "POST", "/in/posted/levels", `{}`, nil)
		told, _ := json.Marshal(passed{Who: access.Who{Name: "kit", Role: access.Keeper, Means: access.BySession}})
		p.as("").with(nodeHeader, "quay "+access.NewToken()).with(askerHeader, string(told)).want(401, "GET", "/people", nil, nil)
	})
	if kept, _ := filepath.Glob(filepath.Join(shared, "jobs/posted/journals/levels/*/*.journal")); len(kept) == 0 {
		t.Error("what was posted is not where all nodes reach it")
	}

	// Each tells the monitoring of its own jobs, and of all nodes.
	told := map[string]int{}
	both(func(p *peopled) {
		_, text := p.by(p.tokens["rea"]).ask("GET", "/metrics", nil)
		for _, line := range []string{`undertide_node_up{node="quay"} 1`, `undertide_node_up{node="pier"} 1`, `undertide_node_jobs{node="quay"} 1`} {
			if !strings.Contains(text, line+"\n") {
				t.Errorf("the metrics lack %s", line)
			}
		}
		for _, job := range []string{"lifts", "posted"} {
			told[job] += strings.Count(text, `undertide_job_up{job="`+job+`",status="running"} 1`)
		}
	})
	if told["lifts"] != 1 || told["posted"] != 1 {
		t.Errorf("the metrics of both tell of %v", told)
	}

	// A stream that is passed on ends with who follows it.
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	follows := func(p *peopled, token string) *bufio.Reader {
		r, err := http.NewRequestWithContext(ctx, "GET", p.base+fmt.Sprintf("/api/v1/runs/%d/figures", begun.Run.ID), nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Accept", "text/event-stream")
		r.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { res.Body.Close() })
		if res.StatusCode != 200 || res.Header.Get("Content-Type") != "text/event-stream" {
			t.Fatalf("the stream answers %d %s", res.StatusCode, res.Header)
		}
		return bufio.NewReader(res.Body)
	}
	var streams []*bufio.Reader
	both(func(p *peopled) { streams = append(streams, follows(p, bo)) })
	for _, s := range streams {
		for metrics := 0; metrics < 2; {
			line, err := s.ReadString('\n')
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasPrefix(line, "event: metrics") {
				metrics++
			}
		}
	}
	pier.as("kit").want(204, "DELETE", "/people/bo", nil, nil)
	for _, s := range streams {
		if _, err := io.Copy(io.Discard, s); ctx.Err() != nil {
			t.Fatalf("a stream goes on for somebody who was removed: %v", err)
		}
	}

	// A pin that one node has made the other one reads, and goes back to.
	var pin api.Pin
	ena(quay).want(201, "POST", "/jobs/lifts/pins", `{"name": "before"}`, &pin)

	// Drained, a node lets its job go to the other one, with a checkpoint; both say so. What was done stands in the trail, by whom.
	at := nodeOf(quay)["lifts"]
	quay.as("ena").want(403, "POST", "/nodes/"+at+"/drain", nil, nil)
	var drained api.Node
	quay.as("kit").want(200, "POST", "/nodes/"+at+"/drain", nil, &drained)
	until(t, "the job goes on at the other node", func() bool {
		a, b := nodeOf(quay), nodeOf(pier)
		return a["lifts"] != "" && a["lifts"] != at && b["lifts"] == a["lifts"]
	})
	both(func(p *peopled) {
		var list api.List[api.Node]
		ena(p).want(200, "GET", "/nodes", nil, &list)
		i := slices.IndexFunc(list.Items, func(n api.Node) bool { return n.Name == at })
		if n := list.Items[i]; n.State != "drained" || len(n.Jobs) > 0 {
			t.Errorf("the node is %+v", n)
		}
	})
	quay.as("kit").want(409, "DELETE", "/nodes/"+at, nil, nil)
	quay.as("kit").want(404, "DELETE", "/nodes/peir", nil, nil)
	quay.as("kit").want(200, "DELETE", "/nodes/"+at+"/drain", nil, nil)
	both(func(p *peopled) {
		ena(p).want(200, "GET", "/jobs/lifts/history", nil, nil)
		ena(p).want(200, "GET", "/jobs/lifts/state/second?checkpoint=pin:before", nil, nil)
	})
	ena(quay).want(200, "POST", "/jobs/lifts/stop", nil, nil)
	ena(pier).want(201, "POST", "/jobs/lifts/runs", `{"resume": "pin:before"}`, &begun)
	if !slices.ContainsFunc(begun.Notes, func(n string) bool { return strings.Contains(n, fmt.Sprintf("goes back to checkpoint %d", pin.Epoch)) }) {
		t.Errorf("the start says %v", begun.Notes)
	}
	until(t, "it goes on from the pin", func() bool {
		var list api.Page[api.Checkpoint]
		ena(pier).want(200, "GET", "/jobs/lifts/checkpoints", nil, &list)
		return len(list.Items) > 0 && list.Items[0].Run == begun.Run.ID
	})
	ena(quay).want(204, "DELETE", "/jobs/lifts/pins/before", nil, nil)
	if left, _ := filepath.Glob(filepath.Join(shared, "jobs/lifts/pins/*")); len(left) > 0 {
		t.Errorf("of a pin that is gone there is %v", left)
	}
	ena(quay).want(200, "POST", "/jobs/lifts/stop", nil, nil)
	both(func(p *peopled) {
		var j api.Job
		until(t, "the job is stopped", func() bool {
			ena(p).want(200, "GET", "/jobs/lifts", nil, &j)
			return j.Status == "stopped" && j.Node == ""
		})
	})
	both(func(p *peopled) { // of a job that does not run either node has what it kept
		ena(p).want(200, "GET", "/jobs/lifts/state/second", nil, nil)
		if text := ena(p).want(200, "GET", "/jobs/lifts/logs", nil, nil); !strings.Contains(text, `"message":"stopped"`) {
			t.Errorf("the log of the job does not say how it ended: %s", text)
		}
		var kept api.Kept
		if ena(p).want(200, "GET", "/jobs/lifts/kept", nil, &kept); kept.From == nil || len(kept.Parts) == 0 {
			t.Errorf("a start would keep %+v", kept)
		}
	})
	for _, want := range []string{"start", "stop"} {
		until(t, "the trail has a "+want+" of ena", func() bool {
			var trail api.Page[api.TrailLine]
			pier.as("kit").want(200, "GET", "/trail?on=lifts", nil, &trail)
			return slices.ContainsFunc(trail.Items, func(l api.TrailLine) bool {
				return l.Action == want && l.Who == "ena (token own)" && l.Outcome == "done" && l.Address == "127.0.0.1"
			})
		})
	}

	// Where the shared store has lost what counts, a start says so and how to go on; one that begins anew does not need it.
	indexes, err := filepath.Glob(filepath.Join(shared, "jobs/lifts/*/*.json"))
	if err != nil || len(indexes) == 0 {
		t.Fatalf("the shared store has no checkpoint of the job: %v, %v", indexes, err)
	}
	for _, path := range indexes {
		if err := os.WriteFile(path, []byte("a gull was here"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	both(func(p *peopled) {
		if text := ena(p).want(422, "POST", "/jobs/lifts/runs", "{}", nil); !strings.Contains(text, "job lifts did not start: no checkpoint verifies: jobs/lifts/") || !strings.Contains(text, "is not as it was written") || !strings.Contains(text, "--fresh") {
			t.Errorf("a start from a damaged checkpoint says %s", text)
		}
	})
	ena(quay).want(201, "POST", "/jobs/lifts/runs", `{"resume": "fresh"}`, nil)

	// What one node has changed a moment ago the other one knows when it is asked to change more.
	for range 5 {
		ena(pier).want(409, "DELETE", "/jobs/lifts", nil, nil)
		ena(quay).want(409, "DELETE", "/jobs/lifts", nil, nil)
		ena(pier).want(200, "POST", "/jobs/lifts/stop", nil, nil)
		ena(quay).want(201, "POST", "/jobs/lifts/runs", "{}", nil)
	}

	// A job that waits for a node that takes it runs, as far as its users know: it is not deleted, and a stop of it stops it.
	drains := func(method string, status int) {
		for _, name := range []string{"quay", "pier"} {
			quay.as("kit").want(status, method, "/nodes/"+name+"/drain", nil, nil)
		}
	}
	until(t, "a node has the job", func() bool { return nodeOf(quay)["lifts"] != "" && nodeOf(pier)["lifts"] != "" })
	drains("POST", 200)
	until(t, "no node has the job", func() bool { return nodeOf(quay)["lifts"] == "" && nodeOf(pier)["lifts"] == "" })
	both(func(p *peopled) {
		ena(p).want(409, "DELETE", "/jobs/lifts", nil, nil)
		ena(p).want(503, "POST", "/jobs/lifts/drain", nil, nil)
	})
	var ended api.Run
	if ena(pier).want(200, "POST", "/jobs/lifts/stop", nil, &ended); ended.Status != "stopped" || ended.EndedAt == nil {
		t.Errorf("a stop of a job that waits answers %+v", ended)
	}
	drains("DELETE", 200)
	time.Sleep(3 * time.Second) // for a node that would take it
	both(func(p *peopled) {
		var j api.Job
		if ena(p).want(200, "GET", "/jobs/lifts", nil, &j); j.Status != "stopped" || j.Node != "" || !strings.Contains(j.Sentence, "no node carried it out") {
			t.Errorf("the job is %s on %q: %s", j.Status, j.Node, j.Sentence)
		}
	})
	ena(pier).want(204, "DELETE", "/jobs/lifts", nil, nil)
	until(t, "the job is gone on both", func() bool { status, _ := ena(quay).ask("GET", "/jobs/lifts", nil); return status == 404 })
	if left, _ := filepath.Glob(filepath.Join(shared, "jobs/lifts")); len(left) > 0 {
		t.Errorf("the shared store has %v of a job that was deleted", left)
	}
}

// TestNodesBucket: nodes keep checkpoints in a bucket. A job goes from one to the other and back, and each of its windows is there once.
func TestNodesBucket(t *testing.T) {
	kept := s3mem.New()
	if err := kept.CreateBucket("harbour"); err != nil {
		t.Fatal(err)
	}
	lake := httptest.NewServer(gofakes3.New(kept, gofakes3.WithLogger(gofakes3.DiscardLog())).Server())
	t.Cleanup(lake.Close)
	path := filepath.Join(t.TempDir(), "undertide.yaml")
	if err := os.WriteFile(path, []byte("connections:\n  lake: {via: file, url: "+lake.URL+"}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	set, err := job.LoadSettings(path)
	if err != nil {
		t.Fatal(err)
	}
	quay, pier, _ := twoNodes(t, func(o *Options) {
		o.Store, o.StoreVia, o.Connections = "s3://harbour/tide", "lake", set.Connections
	})
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	out := filepath.Join(quay.dir, "out")
	ena(quay).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", fmt.Sprintf(simulated, out), nil)
	posted := `undertide: 1
job: posted
sources:
  levels: {via: http, with: {tokens: true}, fields: {gauge: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: file, with: {path: ` + filepath.Join(quay.dir, "posted") + `/}}
`
	ena(quay).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", posted, nil)
	if text := ena(quay).want(422, "POST", "/jobs/posted/runs", "{}", nil); !strings.Contains(text, "has no place that all nodes reach: start them with --store and a folder") {
		t.Error(text)
	}
	single := strings.Replace(strings.Replace(posted, "/posted/}}", "/posted.ndjson}}", 1), "job: posted", "job: single", 1)
	single = strings.Replace(single, "{via: http, with: {tokens: true}, fields: {gauge: string, at: timestamp}", "{via: simulate, with: {rate: 5/s, seed: 1, fields: {gauge: {pick: [G1]}, at: {now: true}}}, fields: {gauge: string, at: timestamp}", 1)
	ena(quay).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", single, nil)
	if text := ena(quay).want(422, "POST", "/jobs/single/runs", "{}", nil); !strings.Contains(text, "let the rows go into files of a folder") {
		t.Error(text)
	}
	ena(quay).want(201, "POST", "/jobs/lifts/runs", "{}", nil)
	for range 2 {
		var j api.Job
		until(t, "the job has made checkpoints", func() bool {
			ena(pier).want(200, "GET", "/jobs/lifts", nil, &j)
			return j.Node != "" && j.Live != nil && j.Live.CheckpointAge != nil && j.Live.Restarts < 3
		})
		time.Sleep(1500 * time.Millisecond)
		at := j.Node
		quay.as("kit").want(200, "POST", "/nodes/"+at+"/drain", nil, nil)
		until(t, "it goes on at the other node", func() bool {
			ena(pier).want(200, "GET", "/jobs/lifts", nil, &j)
			return j.Node != "" && j.Node != at && j.Live != nil && j.Live.CheckpointAge != nil
		})
		quay.as("kit").want(200, "DELETE", "/nodes/"+at+"/drain", nil, nil)
	}
	ena(pier).want(200, "POST", "/jobs/lifts/drain", nil, nil)
	until(t, "it finishes", func() bool {
		var j api.Job
		ena(pier).want(200, "GET", "/jobs/lifts", nil, &j)
		return j.Status == "finished"
	})
	seen := map[string]bool{}
	for _, name := range wholeFiles(t, out) {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			var row struct {
				Crane string
				At    string `json:"window_start"`
			}
			if err := json.Unmarshal([]byte(line), &row); err != nil || seen[row.Crane+row.At] {
				t.Errorf("%s: %v, or it came twice", line, err)
			}
			seen[row.Crane+row.At] = true
		}
	}
	if len(seen) < 6 {
		t.Errorf("there are %d windows", len(seen))
	}
	list, err := kept.ListBucket("harbour", nil, gofakes3.ListBucketPage{})
	if err != nil || len(list.Contents) == 0 || len(list.Contents) > 30 {
		t.Errorf("the bucket has %d objects, %v", len(list.Contents), err)
	}
	ena(pier).want(204, "DELETE", "/jobs/lifts", nil, nil)
	if list, err = kept.ListBucket("harbour", &gofakes3.Prefix{HasPrefix: true, Prefix: "tide/jobs/lifts/"}, gofakes3.ListBucketPage{}); err != nil || len(list.Contents) > 0 {
		t.Errorf("the bucket has %d objects of a job that was deleted, %v", len(list.Contents), err)
	}
}

// TestBecomesNodes: a service that becomes a node brings the checkpoints of its jobs along, so that another node goes on with them. A node that lacks them does not begin
// a job anew, unless it is told to; and what lies in a folder of a job of the same name that is gone is not taken for its own.
func TestBecomesNodes(t *testing.T) {
	_, database := ownRecords(t)
	t.Setenv("TIDE_KEY", "bmV0cyBhcmUgbWVuZGVkIG9uIHRoZSBxdWF5IGJ5IG4=")
	files, shared := t.TempDir(), t.TempDir()
	quay, pier := filepath.Join(t.TempDir(), "quay"), filepath.Join(t.TempDir(), "pier")
	for _, d := range []string{quay, pier} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	alone := Options{Database: database, SecretKeyFrom: []string{"env:TIDE_KEY"}, Files: []string{files}}
	as := func(node string) Options {
		o := alone
		o.Node, o.Store = node, shared
		return o
	}
	count := func(base, job string) (epoch int64) {
		var list api.Page[api.Checkpoint]
		if err := json.Unmarshal([]byte(call(t, base, "GET", "/jobs/"+job+"/checkpoints", "", "")), &list); err != nil {
			t.Fatal(err)
		}
		if len(list.Items) > 0 {
			epoch = list.Items[0].Epoch
		}
		return epoch
	}
	lifts := fmt.Sprintf(simulated, filepath.Join(files, "out"))
	other := strings.NewReplacer("job: lifts", "job: other", "/out/", "/other/").Replace(lifts)

	// One service, with a job that runs and one that was stopped.
	base, end := servingIn(t, quay, alone)
	for _, text := range []string{lifts, other} {
		call(t, base, "POST", "/jobs", "application/yaml", text)
	}
	for _, name := range []string{"lifts", "other"} {
		call(t, base, "POST", "/jobs/"+name+"/runs", "application/json", "")
		until(t, "there are checkpoints", func() bool { return count(base, name) > 3 })
	}
	call(t, base, "POST", "/jobs/other/stop", "application/json", "")
	stood := count(base, "other")
	end()

	// A node that is not that one has nothing to go on from, and says so.
	base, end = servingIn(t, pier, as("pier"))
	if text := call(t, base, "POST", "/jobs/other/runs", "application/json", ""); !strings.Contains(text, "start that service with --node: it brings them to where all nodes reach them") {
		t.Error(text)
	}
	end()

	// The one that has them brings them along; its running job goes on. Then the other one goes on with both.
	base, end = servingIn(t, quay, as("quay"))
	from := count(base, "lifts")
	until(t, "the job goes on", func() bool { return count(base, "lifts") > from })
	end()
	base, end = servingIn(t, pier, as("pier"))
	call(t, base, "POST", "/jobs/other/runs", "application/json", "")
	until(t, "both go on at the other node", func() bool { return count(base, "other") > stood+2 })
	text := call(t, base, "GET", "/jobs/other/logs", "", "")
	if m := regexp.MustCompile(`going on from checkpoint (\d+) of`).FindStringSubmatch(text); m == nil {
		t.Errorf("the log of the job: %s", text)
	} else if n, _ := strconv.ParseInt(m[1], 10, 64); n < stood { // the stop made another one
		t.Errorf("it goes on from checkpoint %d, and there was %d", n, stood)
	}

	// A job of the name of one that is gone begins with nothing, on a node that has a folder of it still.
	for _, name := range []string{"other", "lifts"} {
		call(t, base, "POST", "/jobs/"+name+"/stop", "application/json", "")
		call(t, base, "DELETE", "/jobs/"+name, "", "")
	}
	call(t, base, "POST", "/jobs", "application/yaml", strings.Replace(other, "/other/", "/another/", 1))
	end()
	base, end = servingIn(t, quay, as("quay"))
	call(t, base, "POST", "/jobs/other/runs", "application/json", "")
	until(t, "the new job runs", func() bool { return count(base, "other") > 1 })
	if text := call(t, base, "GET", "/jobs/other/history", "", ""); strings.Contains(text, `"kind":"failed"`) {
		t.Error(text)
	}
	if epoch := count(base, "other"); epoch > stood {
		t.Errorf("the new job has checkpoint %d; that of its name had %d", epoch, stood)
	}
	end()

	// There is no way back by mistake.
	alone.Listen, alone.Data = "127.0.0.1:0", quay+".data"
	if err := Serve(context.Background(), alone); err == nil || !strings.Contains(err.Error(), "start this service as one of them, with --node and --store") {
		t.Errorf("a service that is no node any more: %v", err)
	}
}

// TestNodeOptions: what keeps a service from being a node is said before it begins, with what would be right.
func TestNodeOptions(t *testing.T) {
	right := Options{Node: "quay-1", Store: "/srv/shared", Database: "postgres://tide@db/tide", SecretKeyFrom: []string{"env:TIDE_KEY"}}
	if err := right.checkNode(); err != nil {
		t.Error(err)
	}
	bucket := right
	bucket.Store, bucket.StoreVia = "s3://harbour/tide", "lake"
	if err := bucket.checkNode(); err != nil {
		t.Error(err)
	}
	if _, err := bucket.placeOf(); err == nil || !strings.Contains(err.Error(), "undertide.yaml has no connection of that name") {
		t.Errorf("a connection that is not there: %v", err)
	}
	for want, change := range map[string]func(o *Options){
		"name this one with --node NAME":              func(o *Options) { o.Node = "" },
		"a name has up to 40 small letters":           func(o *Options) { o.Node = "Quay 1" },
		"name it with --database":                     func(o *Options) { o.Database = "" },
		"name a shared folder with --store /FOLDER":   func(o *Options) { o.Store = "" },
		"write its whole path, or s3://BUCKET/PREFIX": func(o *Options) { o.Store = "shared" },
		"is reached with --store-via NAME":            func(o *Options) { o.Store = "s3://harbour" },
		"--store-via is of a bucket":                  func(o *Options) { o.StoreVia = "lake" },
		"say where all of them have the key from":     func(o *Options) { o.SecretKeyFrom = nil },
		"give the node a certificate with --tls-cert": func(o *Options) { o.Behind = []string{"10.0.0.1"} },
		"would send its question to any of the nodes": func(o *Options) { o.PublicName = "tide.example.org" },
	} {
		wrong := right
		change(&wrong)
		if err := wrong.checkNode(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want %q, got %v", want, err)
		}
	}
}

// farFrom gives the address of a database by which each of its answers comes so much later: as from another building, or of a machine that is busy. None comes while away is
// held.
func farFrom(t *testing.T, database string, by time.Duration, away *sync.RWMutex) string {
	t.Helper()
	at, err := pgconn.ParseConfig(database)
	if err != nil {
		t.Fatal(err)
	}
	network, address := pgconn.NetworkAddress(at.Host, at.Port)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var open sync.WaitGroup
	t.Cleanup(func() {
		l.Close()
		open.Wait()
	})
	open.Go(func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial(network, address)
			if err != nil {
				near.Close()
				continue
			}
			open.Go(func() {
				defer far.Close()
				_, _ = io.Copy(far, near) // whoever asks ends it
			})
			open.Go(func() {
				defer near.Close()
				some := make([]byte, 64<<10)
				for {
					n, err := far.Read(some)
					time.Sleep(by)
					away.RLock()
					away.RUnlock() //nolint:staticcheck // it waits
					if _, written := near.Write(some[:n]); err != nil || written != nil {
						return
					}
				}
			})
		}
	})
	return fmt.Sprintf("postgres://%s@%s/%s?sslmode=disable", url.UserPassword(at.User, at.Password), l.Addr(), at.Database)
}

// TestLastWords: what the runs of a node that ends have to say is written before other nodes take its jobs over, though its database is far.
func TestLastWords(t *testing.T) {
	var as Options
	quay, pier, _ := twoNodes(t, func(o *Options) { as = *o })
	as.Node, as.Database = "mole", farFrom(t, as.Database, 20*time.Millisecond, new(sync.RWMutex))
	dir := filepath.Join(t.TempDir(), "mole")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	mole, end := servingIn(t, dir, as)
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	for _, p := range []string{"quay", "pier"} {
		quay.as("kit").want(200, "POST", "/nodes/"+p+"/drain", nil, nil)
	}
	const jobs = 6
	name := func(n int) string { return fmt.Sprint("lifts", n) }
	for n := range jobs {
		text := strings.Replace(fmt.Sprintf(simulated, filepath.Join(quay.dir, name(n))), "job: lifts", "job: "+name(n), 1)
		ena(quay).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", text, nil)
		ena(quay.at(mole)).want(201, "POST", "/jobs/"+name(n)+"/runs", "{}", nil)
	}
	node := func(n int) string {
		var j api.Job
		ena(pier).want(200, "GET", "/jobs/"+name(n), nil, &j)
		return j.Node
	}
	for n := range jobs {
		until(t, "all are at work on mole", func() bool { return node(n) == "mole" })
	}
	for _, p := range []string{"quay", "pier"} {
		quay.as("kit").want(200, "DELETE", "/nodes/"+p+"/drain", nil, nil)
	}
	end()
	for n := range jobs {
		until(t, "all are at work elsewhere", func() bool { at := node(n); return at == "quay" || at == "pier" })
		text := ena(quay).want(200, "GET", "/jobs/"+name(n)+"/history", nil, nil)
		if !strings.Contains(text, "node mole lets the job go; another one goes on with it") {
			t.Errorf("%s\n%s", name(n), text)
		}
	}
}
