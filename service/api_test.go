package service

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"undertide/api"
	"undertide/api/operations"
	"undertide/inside"
	"undertide/job"
)

// simulated is a job that needs nothing outside.
const simulated = `undertide: 1
job: lifts
about: Made-up lifts
settings: {checkpoint: {every: 100ms}}
sources:
  lifts:
    via: simulate
    with: {rate: 500/s, seed: 3, fields: {crane: {pick: [C1, C2]}, tonnes: {normal: [18.0, 6.0]}, at: {now: true}}}
    fields: {crane: string, tonnes: double, at: timestamp}
    event_time: at
    watermark: {margin: 100ms}
steps:
  heavy: {from: lifts, where: tonnes > 1.0}
  second: {from: heavy, key: [crane], window: {tumbling: 1s}, measures: {n: count(), load: sum(tonnes)}}
sinks:
  loads: {from: second, via: file, with: {path: %s/}}
`

// serving runs a service for a test and gives its address.
func serving(t *testing.T) (address, dir string) { return servingWith(t, Options{}) }

func servingWith(t *testing.T, o Options) (address, dir string) {
	t.Helper()
	dir = t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	address, end := servingIn(t, dir, o)
	t.Cleanup(end)
	return address, dir
}

// servingIn runs a service whose files are in a folder and whose data beside it, until end is called.
func servingIn(t *testing.T, dir string, o Options) (address string, end func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		o.Listen, o.Data, o.Files, o.Ready = cmp.Or(o.Listen, "127.0.0.1:0"), dir+".data", append(o.Files, dir), func(a string) { ready <- a }
		ended <- Serve(ctx, o)
	}()
	select {
	case address = <-ready:
	case err := <-ended:
		cancel()
		t.Fatal(err)
	}
	return address, func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}
}

// ask sends a request and holds request and answer to the OpenAPI page.
func ask(t *testing.T, doc *openapi3.T, base, method, path, kind, body string) (int, string) {
	t.Helper()
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	r, err := http.NewRequest(method, base+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if kind != "" {
		r.Header.Set("Content-Type", kind)
	}
	judged := r.Clone(context.Background())
	judged.URL.Host, judged.URL.Scheme, judged.Host = "", "", ""
	judged.Body = io.NopCloser(strings.NewReader(body))
	route, params, err := router.FindRoute(judged)
	if err != nil {
		t.Fatalf("%s %s is not on the page: %v", method, path, err)
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	in := &openapi3filter.RequestValidationInput{Request: judged, PathParams: params, Route: route}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(text)), Options: &openapi3filter.Options{IncludeResponseStatus: true}}
	if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
		t.Errorf("%s %s: the answer %d does not fit the page: %v\n%s", method, path, res.StatusCode, err, text)
	}
	return res.StatusCode, string(text)
}

// TestAPI asks every address of the page, in the life of a job, and holds all answers to it.
func TestAPI(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background()); err != nil {
		t.Fatalf("the page is not an OpenAPI: %v", err)
	}
	doc.Servers = openapi3.Servers{{URL: "/api/v1"}}
	base, dir := serving(t)
	job := fmt.Sprintf(simulated, filepath.Join(dir, "out"))
	asked := map[string]bool{}
	want := func(method, path, kind, body string, status int, code string) string {
		t.Helper()
		got, text := ask(t, doc, base, method, path, kind, body)
		if got != status || code != "" && !strings.Contains(text, `"code":"`+code+`"`) {
			t.Errorf("%s %s: %d, want %d %s: %s", method, path, got, status, code, text)
		}
		asked[method+" "+shape(path)] = true
		return text
	}
	const yaml, js = "application/yaml", "application/json"
	want("GET", "/openapi.json", "", "", 200, "")
	want("GET", "/schema/job.json", "", "", 200, "")
	want("GET", "/status", "", "", 200, "")
	want("GET", "/jobs", "", "", 200, "")
	want("POST", "/jobs", yaml, job, 201, "")
	want("POST", "/jobs", yaml, job, 200, "")
	want("POST", "/jobs", yaml, strings.Replace(job, "tonnes > 1.0", "tonne > 1.0", 1), 422, "wrong-document")
	want("POST", "/jobs", yaml, strings.Repeat("#", 5<<20), 413, "too-large")
	want("POST", "/jobs", yaml, strings.Replace(job, "Made-up", "More made-up", 1), 201, "")
	want("GET", "/jobs?limit=1", "", "", 200, "")
	want("GET", "/jobs?limit=x", "", "", 400, "wrong-request")
	want("GET", "/jobs/lifts", "", "", 200, "")
	want("GET", "/jobs/lift", "", "", 404, "no-such-job")
	want("GET", "/jobs/lifts/map", "", "", 200, "")
	want("GET", "/jobs/lifts/map?version=1", "", "", 200, "")
	first := want("GET", "/jobs/lifts/versions?limit=1", "", "", 200, "")
	if !strings.Contains(first, `"number":2`) || !strings.Contains(first, `"next":"2"`) {
		t.Errorf("the first page of versions: %s", first)
	}
	if rest := want("GET", "/jobs/lifts/versions?limit=5&after=2", "", "", 200, ""); !strings.Contains(rest, `"number":1`) || !strings.Contains(rest, `"next":""`) {
		t.Errorf("the rest of the versions: %s", rest)
	}
	want("GET", "/jobs/lifts/versions/newest", "", "", 200, "")
	want("GET", "/jobs/lifts/versions/9", "", "", 404, "no-such-version")
	if d := want("GET", "/jobs/lifts/diff?a=1&b=2", "", "", 200, ""); !strings.Contains(d, "+about: More made-up lifts") {
		t.Errorf("the difference: %s", d)
	}
	want("POST", "/jobs/lifts/stop", "", "", 409, "not-running")
	want("POST", "/jobs/lifts/drain", "", "", 409, "not-running")
	want("POST", "/jobs/lifts/runs", js, `{"version":9}`, 404, "no-such-version")
	want("POST", "/jobs/lifts/runs", js, `{"resume":"yesterday"}`, 400, "wrong-request")
	want("POST", "/jobs/lifts/runs", js, `{"resume":"pin:x"}`, 404, "no-such-pin")
	want("POST", "/jobs/lifts/runs", js, `{"resume":"checkpoint:7"}`, 404, "no-such-checkpoint")
	want("POST", "/jobs/lifts/pins", js, `{"name":"calm"}`, 409, "not-running")
	want("GET", "/jobs/lifts/tokens", "", "", 200, "")
	want("POST", "/jobs/lifts/tokens", js, `{"name":"gate"}`, 400, "wrong-request") // it takes no posts
	want("POST", "/jobs/lifts/tokens", js, `{"name":"a/b"}`, 400, "wrong-request")
	want("DELETE", "/jobs/lifts/tokens/gate", "", "", 404, "no-such-token")
	want("POST", "/jobs/lifts/runs", js, `{"versoin":1}`, 400, "wrong-request")
	want("POST", "/jobs/lifts/runs", js, `{"set":{"none":"1"}}`, 422, "wrong-document")
	want("POST", "/jobs/lifts/runs", js, `{"lanes":2}`, 201, "")
	want("POST", "/jobs/lifts/runs", js, ``, 409, "already-running")
	want("DELETE", "/jobs/lifts", "", "", 409, "still-running")
	until(t, "rows", func() bool {
		_, text := ask(t, doc, base, "GET", "/runs/1/steps/second/rows?limit=3", "", "")
		return strings.Count(text, `"seq"`) == 3
	})
	asked["GET /runs/{run}/steps/{step}/rows"] = true
	want("GET", "/runs/1/steps/second/rows?key=C1&since=1h", "", "", 200, "")
	want("GET", "/runs/1/steps/heavy/rows?limit=2", "", "", 200, "")
	want("GET", "/runs/1/steps/rejects%20of%20lifts/rows", "", "", 200, "")
	want("GET", "/runs/1/steps/secnod/rows", "", "", 404, "no-such-step")
	want("GET", "/runs/1/steps/second/rows?since=yesterday", "", "", 400, "wrong-request")
	want("GET", "/runs/1", "", "", 200, "")
	want("GET", "/runs/77", "", "", 404, "no-such-run")
	want("GET", "/runs/x", "", "", 404, "no-such-run")
	want("GET", "/runs/1/figures", "", "", 200, "")
	want("GET", "/jobs/lifts/figures?since=1h", "", "", 200, "")
	want("GET", "/jobs/lifts/figures?name=sources.*.read_per_second&since=2026-03-01T00:00:00Z", "", "", 200, "")
	want("GET", "/jobs/lifts/figures?name=lag_event", "", "", 404, "no-such-figure")
	want("GET", "/jobs/lifts/figures?name=[", "", "", 400, "wrong-request")
	want("GET", "/jobs/lifts/figures?since=1h&until=2h", "", "", 400, "wrong-request")
	want("GET", "/jobs/nobody/figures", "", "", 404, "no-such-job")
	want("GET", "/jobs/lifts/steps/lifts/rows?where=crane%20!%3D%20''&limit=5", "", "", 200, "")
	want("GET", "/jobs/lifts/steps/lifts/rows?where=cran%20%3D%3D%20''", "", "", 400, "wrong-request")
	want("GET", "/jobs/lifts/steps/lifts/rows?format=xml", "", "", 400, "wrong-request")
	want("GET", "/jobs/lifts/steps/lift/rows", "", "", 404, "no-such-step")
	want("GET", "/jobs/nobody/steps/lifts/rows", "", "", 404, "no-such-job")
	want("GET", "/alarms?on=true", "", "", 200, "")
	want("GET", "/alarms?job=nobody", "", "", 404, "no-such-job")
	want("GET", "/jobs/lifts/alarms", "", "", 200, "")
	want("POST", "/alarms/9999/seen", js, `{"by":"Ada"}`, 404, "no-such-alarm")
	want("GET", "/notices", "", "", 200, "")
	want("PUT", "/notices/duty", js, `{"text":"via: file\nwith: {path: /x}","everything":false}`, 400, "wrong-request")
	want("PUT", "/notices/du-ty", js, `{"text":"","everything":false}`, 400, "wrong-request")
	want("POST", "/notices/duty/try", js, "", 404, "no-such-notice")
	want("DELETE", "/notices/duty", "", "", 404, "no-such-notice")
	want("GET", "/rules", "", "", 200, "")
	want("PUT", "/rules/behind", js, `{"when":"lag_secnds > 60","for":"","about":"","off":false}`, 400, "wrong-request")
	want("PUT", "/rules/behind", js, `{"when":"","for":"","about":"","off":false}`, 400, "wrong-request")
	want("PUT", "/rules/behind", js, `{"when":"lag_seconds > 60","for":"soon","about":"","off":false}`, 400, "wrong-request")
	want("PUT", "/rules/behind", js, `{"when":"lag_seconds > 60","for":"5m","about":"late","off":false,"notify":["duty"]}`, 200, "")
	want("PUT", "/rules/cpu", js, `{"when":"","for":"","about":"","off":true}`, 200, "")
	want("DELETE", "/rules/cpu", "", "", 204, "")
	want("DELETE", "/rules/cpu", "", "", 404, "no-such-alarm")
	want("GET", "/jobs/lifts/figures/names", "", "", 200, "")
	want("GET", "/jobs/lifts", "", "", 200, "")
	until(t, "checkpoints", func() bool {
		_, text := ask(t, doc, base, "GET", "/runs/1/checkpoints", "", "")
		return strings.Count(text, `"epoch"`) >= 3
	})
	want("GET", "/runs/1/checkpoints?limit=2", "", "", 200, "")
	want("GET", "/jobs/lifts/checkpoints?limit=2", "", "", 200, "")
	want("POST", "/jobs/lifts/pins", js, `{"name":"calm"}`, 201, "")
	want("POST", "/jobs/lifts/pins", js, `{"name":"calm"}`, 409, "pin-exists")
	want("POST", "/jobs/lifts/pins", js, `{"name":"a/b"}`, 400, "wrong-request")
	want("POST", "/jobs/lifts/pins", js, `{"name":"late","checkpoint":999}`, 404, "no-such-checkpoint")
	if pins := want("GET", "/jobs/lifts/pins", "", "", 200, ""); !strings.Contains(pins, `"name":"calm"`) || !strings.Contains(pins, "costs_bytes") {
		t.Errorf("the pins: %s", pins)
	}
	want("GET", "/jobs/lifts/state/second?checkpoint=pin:calm", "", "", 200, "")
	want("GET", "/jobs/lifts/state/second?checkpoint=pin:clam", "", "", 404, "no-such-pin")
	want("GET", "/jobs/lifts/kept?resume=pin:calm", "", "", 200, "")
	want("GET", "/jobs/lifts/state/second/spans", "", "", 200, "")
	want("GET", "/jobs/lifts/state/second/skew", "", "", 200, "")
	want("GET", "/jobs/lifts/state/heavy", "", "", 404, "no-such-step")
	want("GET", "/jobs/lifts/state/second?checkpoint=9999", "", "", 404, "no-such-checkpoint")
	want("GET", "/jobs/lifts/state/second?limit=none", "", "", 400, "wrong-request")
	want("POST", "/jobs/lifts/restart", js, `{}`, 201, "")
	want("POST", "/jobs/lifts/respread", js, `{"portions": 3}`, 400, "wrong-request") // only nodes spread a job
	want("POST", "/jobs/lifts/stop", "", "", 200, "")
	want("POST", "/jobs/lifts/respread", js, `{"portions": 3}`, 409, "not-running")
	want("GET", "/runs/1/figures", "", "", 409, "not-running")
	want("GET", "/jobs/lifts/runs", "", "", 200, "")
	want("GET", "/jobs/lifts/history", "", "", 200, "")
	want("GET", "/jobs/lifts/logs?level=debug&grep=CHECKPOINT", "", "", 200, "")
	want("GET", "/jobs/lifts/logs?level=loud", "", "", 400, "wrong-request")
	want("GET", "/jobs/lifts/kept", "", "", 200, "")
	var shown inside.Shown
	if err := json.Unmarshal([]byte(want("GET", "/jobs/lifts/state/second?raw=true&key=crane=C1", "", "", 200, "")), &shown); err != nil || shown.Epoch == 0 || len(shown.Rows) == 0 {
		t.Errorf("the state of the stopped job: %+v, %v", shown, err)
	}
	want("GET", fmt.Sprintf("/jobs/lifts/state/second/compare?from=%d&checkpoint=%d", shown.Epoch, shown.Epoch), "", "", 200, "")
	want("POST", "/jobs/lifts/runs", js, `{"resume":"pin:calm"}`, 201, "")
	want("POST", "/jobs/lifts/stop", "", "", 200, "")
	want("DELETE", "/jobs/lifts/pins/calm", "", "", 204, "")
	want("DELETE", "/jobs/lifts/pins/calm", "", "", 404, "no-such-pin")
	want("PUT", "/jobs/lifts/owners", js, `{"owners":["ann"]}`, 404, "no-such-person")
	want("PUT", "/jobs/lifts/owners", js, `{"owners":[]}`, 200, "")
	want("DELETE", "/jobs/lifts", "", "", 204, "")
	askStreams(t, base, want)
	askPeople(want)

	known := map[string]bool{}
	for _, o := range operations.All {
		known[o.ID] = true
	}
	for id := range (&Service{}).answers() {
		if !known[id] {
			t.Errorf("somebody answers %s, which is no address of the table of operations", id)
		}
	}
	listed := 0
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			listed++
			if name := method + " " + path; !asked[name] {
				t.Errorf("%s is on the page and was not asked", name)
			}
		}
	}
	if listed != len(operations.All) {
		t.Errorf("the page has %d addresses, the service %d; run go generate ./api", listed, len(operations.All))
	}
}

// askPeople asks for people on loopback, where nobody has to sign in until there is one.
func askPeople(want func(method, path, kind, body string, status int, code string) string) {
	const js = "application/json"
	want("GET", "/me", "", "", 200, "")
	want("POST", "/me/password", js, `{"old":"a","new":"b"}`, 400, "wrong-request")
	want("POST", "/sign-in", js, `{"name":"ann","password":"the tide is out"}`, 401, "wrong-password")
	want("POST", "/sign-out", "", "", 204, "")
	want("GET", "/single-sign-on", "", "", 404, "no-such-address")
	want("GET", "/single-sign-on/back", "", "", 404, "no-such-address")
	want("POST", "/enter/look", js, `{"code":"none"}`, 401, "wrong-code")
	want("POST", "/enter", js, `{"code":"none","password":"the tide is out"}`, 401, "wrong-code")
	want("POST", "/tokens", js, `{"name":"own"}`, 400, "wrong-request")
	want("GET", "/tokens", "", "", 200, "")
	want("DELETE", "/tokens/own?person=ann", "", "", 404, "no-such-person")
	want("PUT", "/people/ann", js, `{"role":"reader"}`, 404, "no-such-person")
	want("POST", "/people/ann/code", "", "", 404, "no-such-person")
	want("DELETE", "/people/ann", "", "", 404, "no-such-person")
	want("GET", "/people", "", "", 200, "")
	want("POST", "/secrets/rotate", "", "", 200, "")
	want("GET", "/trail?limit=2&since=1h", "", "", 200, "")
	want("GET", "/nodes", "", "", 200, "") // there are none
	want("GET", "/nodes/quay/jobs", "", "", 404, "no-such-node")
	want("POST", "/nodes/quay/drain", "", "", 404, "no-such-node")
	want("DELETE", "/nodes/quay/drain", "", "", 404, "no-such-node")
	want("DELETE", "/nodes/quay", "", "", 404, "no-such-node")
	want("GET", "/trail?since=soon", "", "", 400, "wrong-request")
	want("POST", "/people", js, `{"name":"ann","role":"reader"}`, 409, "last-keeper")
	want("POST", "/people", js, `{"name":"ann","role":"keeper"}`, 201, "")
	want("GET", "/people", "", "", 401, "not-signed-in") // from now on
	want("GET", "/me", "", "", 200, "")
}

// shape gives the path of the page that an address belongs to.
func shape(path string) string {
	path, _, _ = strings.Cut(path, "?")
	parts := strings.Split(path, "/")
	for i := range parts {
		switch {
		case i == 2 && parts[1] == "nodes":
			parts[i] = "{node}"
		case i == 2 && parts[1] == "people":
			parts[i] = "{person}"
		case i == 2 && parts[1] == "tokens":
			parts[i] = "{token}"
		case i == 2 && parts[1] == "jobs":
			parts[i] = "{job}"
		case i == 4 && parts[3] == "pins":
			parts[i] = "{pin}"
		case i == 4 && parts[3] == "tokens":
			parts[i] = "{token}"
		case i == 4 && parts[3] == "versions":
			parts[i] = "{version}"
		case i == 2 && parts[1] == "runs":
			parts[i] = "{run}"
		case i == 4 && (parts[3] == "steps" || parts[3] == "state"):
			parts[i] = "{step}"
		case i == 2 && parts[1] == "connections":
			parts[i] = "{connection}"
		case i == 4 && parts[3] == "topics":
			parts[i] = "{topic}"
		case i == 2 && parts[1] == "secrets" && parts[2] != "rotate":
			parts[i] = "{secret}"
		case i == 2 && parts[1] == "notices":
			parts[i] = "{notice}"
		case i == 2 && parts[1] == "rules":
			parts[i] = "{rule}"
		case i == 2 && parts[1] == "alarms":
			parts[i] = "{alarm}"
		case i == 2 && parts[1] == "sources":
			parts[i] = "{source}"
		}
	}
	return strings.Join(parts, "/")
}

func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for range 300 {
		if holds() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("not within 15 s: " + what)
}

// TestStreams: rows and figures come as server-sent events; a stream that is taken up again goes on
// after the row that it had, and ends with the run.
func TestStreams(t *testing.T) {
	base, dir := serving(t)
	post := func(path, kind, body string) {
		t.Helper()
		res, err := http.Post(base+"/api/v1"+path, kind, strings.NewReader(body))
		if err != nil || res.StatusCode >= 300 {
			t.Fatalf("%s: %v %v", path, res, err)
		}
		res.Body.Close()
	}
	post("/jobs", "application/yaml", fmt.Sprintf(simulated, filepath.Join(dir, "out")))
	post("/jobs/lifts/runs", "application/json", "")
	follow := func(path, last string, take func(event, id string, data []byte) bool) {
		t.Helper()
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		r, err := http.NewRequestWithContext(ctx, "GET", base+"/api/v1"+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Accept", "text/event-stream")
		if last != "" {
			r.Header.Set("Last-Event-ID", last)
		}
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		var event, id string
		for lines.Scan() {
			text := lines.Text()
			if v, ok := strings.CutPrefix(text, "event: "); ok {
				event = v
			} else if v, ok := strings.CutPrefix(text, "id: "); ok {
				id = v
			} else if v, ok := strings.CutPrefix(text, "data: "); ok && !take(event, id, []byte(v)) {
				return
			}
		}
		t.Fatalf("%s ended early: %v", path, lines.Err())
	}
	var seqs []int64
	rows := func(n int) func(string, string, []byte) bool {
		return func(event, id string, data []byte) bool {
			var r api.Row
			if err := json.Unmarshal(data, &r); err != nil || event != "row" || !strings.HasSuffix(id, fmt.Sprint("-", r.Seq)) {
				t.Errorf("event %s, id %s: %s", event, id, data)
			}
			seqs = append(seqs, r.Seq)
			return len(seqs) < n
		}
	}
	follow("/runs/1/steps/second/rows?limit=1", "", rows(3))
	last := seqs[len(seqs)-1]
	follow("/runs/1/steps/second/rows", fmt.Sprint(last), rows(6))
	for i := 1; i < len(seqs); i++ {
		if seqs[i] != seqs[i-1]+1 {
			t.Errorf("rows %v; want them one after another, over two streams", seqs)
			break
		}
	}
	n, ended := 0, false
	follow("/runs/1/figures", "", func(event, _ string, data []byte) bool {
		switch event {
		case "metrics":
			var f api.Figures
			if err := json.Unmarshal(data, &f); err != nil || f.Job != "lifts" {
				t.Errorf("metrics: %v %s", err, data)
			}
			if n++; n == 2 {
				go func() {
					res, err := http.Post(base+"/api/v1/jobs/lifts/stop", "", nil)
					if err == nil {
						res.Body.Close()
					}
				}()
			}
		case "end":
			ended = true
			return false
		}
		return true
	})
	if !ended || n < 2 {
		t.Errorf("%d metrics, ended %v", n, ended)
	}
	seen := map[string]bool{}
	follow("/jobs?run=1", "", func(event, _ string, _ []byte) bool { seen[event] = true; return !seen["metrics"] || !seen["jobs"] })
}

// TestRecovers: a run that fails goes on from its newest checkpoint and says why; one that can never

// call asks the service and gives the answer's text.
func call(t *testing.T, base, method, path, kind, body string) string {
	t.Helper()
	r, err := http.NewRequest(method, base+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", kind)
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// run fails at once.
func TestRecovers(t *testing.T) {
	base, dir := serving(t)
	out := filepath.Join(dir, "out")
	call := func(method, path, kind, body string) string { return call(t, base, method, path, kind, body) }
	call("POST", "/jobs", "application/yaml", fmt.Sprintf(simulated, out))
	call("POST", "/jobs/lifts/runs", "application/json", "")
	until(t, "files", func() bool { return len(wholeFiles(t, out)) > 0 })
	// A folder in place of the next files' names: renaming to them fails.
	if err := os.Rename(out, out+"-away"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(out, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	until(t, "the run recovers and says why", func() bool {
		text := call("GET", "/jobs/lifts", "", "")
		return strings.Contains(text, `"status":"resuming"`) && strings.Contains(text, out)
	})
	if err := os.Remove(out); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(out+"-away", out); err != nil {
		t.Fatal(err)
	}
	until(t, "it runs again", func() bool { return strings.Contains(call("GET", "/jobs/lifts", "", ""), `"status":"running"`) })
	until(t, "history tells of it", func() bool {
		return strings.Contains(call("GET", "/jobs/lifts/history", "", ""), `"kind":"resuming"`)
	})
	call("POST", "/jobs/lifts/stop", "", "")

	missing := strings.Replace(fmt.Sprintf(simulated, out), "via: simulate", "via: file", 1)
	missing = regexp.MustCompile(`with: \{rate.*`).ReplaceAllString(missing, "with: {path: "+dir+"/none.ndjson}")
	call("POST", "/jobs", "application/yaml", strings.Replace(missing, "job: lifts", "job: missing", 1))
	if text := call("POST", "/jobs/missing/runs", "application/json", ""); !strings.Contains(text, `"code":"start-failed"`) || !strings.Contains(text, "none.ndjson") {
		t.Errorf("a start that cannot work: %s", text)
	}
}

func wholeFiles(t *testing.T, dir string) []string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// TestWhoIsAway: a receiver that refuses a row is not a connection that is away, and what one part could not reach is not blamed on those of others.
func TestWhoIsAway(t *testing.T) {
	j, err := job.Parse("a.yaml", `undertide: 1
job: a
settings: {delivery: at_least_once}
connections:
  harbour: {via: kafka, brokers: ["127.0.0.1:1"]}
  board: {via: http, url: "http://127.0.0.1:2"}
sources:
  lifts: {via: kafka, with: {connection: harbour, topic: lifts}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}
sinks:
  told: {from: lifts, via: http, with: {connection: board, path: /, type: application/json}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		trouble       string
		away          bool
		harbour, told bool // are in trouble
	}{
		{"sink told: receiver board does not take a row", false, false, false},
		{"sink told: receiver board cannot be reached", true, false, true},
		{"source lifts: broker harbour cannot be reached", true, true, false},
		{"broker harbour cannot be reached", true, true, false},
		{"reference berths: table berths cannot be reached", true, false, false},
	} {
		r := &runner{job: j, trouble: c.trouble, away: c.away}
		r.rec.Status = resuming
		if got := r.troubles(); got["harbour"] != "" != c.harbour || got["board"] != "" != c.told {
			t.Errorf("%q gives %q", c.trouble, got)
		}
	}
}
