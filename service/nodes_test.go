package service

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/access"
	"undertide/api"
	"undertide/postgres"
	"undertide/store"
)

// at gives the same people, asking at another node.
func (p *peopled) at(base string) *peopled {
	other := *p
	other.base = base
	return &other
}

// twoNodes are nodes quay and pier, with people, that share a database, a folder for checkpoints and one for files.
func twoNodes(t *testing.T) (quay, pier *peopled, shared string, records *postgres.Server) {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	pg, err := postgres.Start(context.Background(), filepath.Join(dir, "postgres"), store.TrailSQL, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pg.Stop)
	shared = filepath.Join(dir, "shared")
	files := filepath.Join(dir, "files")
	for _, d := range []string{shared, files} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("TIDE_KEY", "bmV0cyBhcmUgbWVuZGVkIG9uIHRoZSBxdWF5IGJ5IG4=")
	o := func(name string) Options {
		return Options{SignIn: true, Database: pg.URL(), Node: name, Store: shared, SecretKeyFrom: []string{"env:TIDE_KEY"}, Files: []string{files}}
	}
	quay = servingPeopleWith(t, o("quay"))
	base, _ := servingWith(t, o("pier"))
	quay.dir = files
	return quay, quay.at(base), shared, pg
}

// TestNodes: whatever node is asked, it answers for all: by sessions and tokens that began on another, for jobs that another carries out, and with what was
// changed on another.
func TestNodes(t *testing.T) {
	quay, pier, shared, _ := twoNodes(t)
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
	both(func(p *peopled) { ena(p).want(200, "GET", "/jobs/lifts/history", nil, nil) })
	ena(quay).want(200, "POST", "/jobs/lifts/stop", nil, nil)
	both(func(p *peopled) {
		var j api.Job
		until(t, "the job is stopped", func() bool {
			ena(p).want(200, "GET", "/jobs/lifts", nil, &j)
			return j.Status == "stopped" && j.Node == ""
		})
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
	ena(pier).want(204, "DELETE", "/jobs/lifts", nil, nil)
	until(t, "the job is gone on both", func() bool { status, _ := ena(quay).ask("GET", "/jobs/lifts", nil); return status == 404 })
	if left, _ := filepath.Glob(filepath.Join(shared, "jobs/lifts")); len(left) > 0 {
		t.Errorf("the shared store has %v of a job that was deleted", left)
	}
}
