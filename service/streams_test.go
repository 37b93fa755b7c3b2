package service

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"undertide/broker"
)

// askSchemas asks every address of schemas, with the registry stand-in.
func askSchemas(t *testing.T, brokers string, want func(method, path, kind, body string, status int, code string) string) {
	t.Helper()
	r, err := broker.StartRegistry("127.0.0.1:0", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(r.Close)
	const js = "application/json"
	schema := func(fields string) string {
		text, err := json.Marshal(`{"type":"record","name":"w","fields":[` + fields + `]}`)
		if err != nil {
			t.Fatal(err)
		}
		return `{"subject":"w-value","text":` + string(text) + `}`
	}
	first, wrong := schema(`{"name":"a","type":"string"}`), schema(`{"name":"b","type":"int"}`)
	want("GET", "/connections/port/schemas", "", "", 400, "wrong-request") // it has no registry
	want("PUT", "/connections/yard", js, fmt.Sprintf(`{"via":"kafka","settings":{"brokers":[%q],"registry":{"url":"http://%s"}}}`, brokers, r.Addr), 200, "")
	want("GET", "/connections/yard/schemas", "", "", 200, "")
	if made := want("POST", "/connections/yard/schemas", js, first, 201, ""); !strings.Contains(made, `"version":1`) || !strings.Contains(made, `"a string"`) {
		t.Errorf("registered: %s", made)
	}
	want("POST", "/connections/yard/schemas", js, `{"text":"x"}`, 400, "wrong-request")
	if list := want("GET", "/connections/yard/schemas?subject=w-value", "", "", 200, ""); !strings.Contains(list, `"subject":"w-value"`) {
		t.Errorf("the versions: %s", list)
	}
	want("GET", "/connections/yard/schemas?subject=none", "", "", 404, "no-such-schema")
	if fits := want("POST", "/connections/yard/schemas/check", js, wrong, 200, ""); !strings.Contains(fits, `"fits":false`) {
		t.Errorf("what does not fit: %s", fits)
	}
	want("DELETE", "/connections/yard", "", "", 204, "")
}

// askStreams asks every address of connections, streams and documents, with the broker stand-in.
func askStreams(t *testing.T, base string, want func(method, path, kind, body string, status int, code string) string) {
	t.Helper()
	b, err := broker.Start(broker.Options{Listen: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	const js = "application/json"
	spec := fmt.Sprintf(`{"via":"kafka","settings":{"brokers":[%q]}}`, b.Addr)
	want("PUT", "/connections/port", js, spec, 200, "")
	want("PUT", "/connections/9port", js, spec, 422, "wrong-connection")
	if got := want("GET", "/kinds", "", "", 200, ""); !strings.Contains(got, `"name":"brokers","type":"texts"`) {
		t.Errorf("the kinds of connectors: %s", got)
	}
	want("PUT", "/connections/bad", js, `{"via":"kafka","settings":{"brokers":["nowhere"]}}`, 422, "wrong-connection")
	clear := want("PUT", "/connections/bad", js, `{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","user":"a","password":"hunter2"}}}`, 422, "wrong-connection")
	if strings.Contains(clear, "hunter2") {
		t.Errorf("the answer repeats a password: %s", clear)
	}
	if l := want("GET", "/connections", "", "", 200, ""); !strings.Contains(l, `"port"`) || strings.Contains(l, "hunter2") {
		t.Errorf("connections: %s", l)
	}
	want("POST", "/connections/port/topics", js, `{"name":"crane.lifts","partitions":2}`, 201, "")
	want("POST", "/connections/port/topics", js, `{"name":"crane.lifts","partitions":2}`, 409, "topic-exists")
	want("POST", "/connections/port/topics", js, `{"name":"crane lifts"}`, 400, "wrong-request")
	if e := want("GET", "/connections/port/topics/yard%2F+%2Flevel/events", "", "", 404, ""); !strings.Contains(e, "yard/+/level") || strings.Contains(e, "nothing at") {
		t.Errorf("a name with slashes and a plus: %s", e) // once no route took it, and then the plus became a space
	}
	if e := want("GET", "/connections/port/topics/crane.lifts/events", "", "", 200, ""); !strings.Contains(e, "nothing was ever sent to it") {
		t.Errorf("an empty topic: %s", e)
	}
	want("GET", "/connections/port/topics/crane.lifts/document", "", "", 422, "no-events")
	var events []string
	for i := range 40 {
		events = append(events, fmt.Sprintf(`{"key":"C%d","text":"{\"crane\":\"C%d\",\"tonnes\":%d.5,\"lifted_at\":%d}"}`, i%4, i%4, i, 1795000000000+i*1000))
	}
	want("POST", "/connections/port/topics/crane.lifts/events", js, `{"events":[`+strings.Join(events, ",")+`]}`, 200, "")
	if m := want("POST", "/connections/port/topics/crane.lift/events", js, `{"events":[]}`, 404, "no-such-topic"); !strings.Contains(m, "did you mean crane.lifts?") {
		t.Errorf("a topic mistyped: %s", m)
	}
	if l := want("GET", "/connections/port/topics", "", "", 200, ""); !strings.Contains(l, `"events":40`) {
		t.Errorf("topics: %s", l)
	}
	if tried := want("POST", "/connections/port/test?topic=crane.lifts", js, `{}`, 200, ""); strings.Count(tried, `"yes"`) != 5 {
		t.Errorf("tried: %s", tried)
	}
	want("POST", "/connections/harbor/test", js, `{}`, 404, "no-such-connection")
	want("GET", "/connections/port/topics/crane.lifts/events?from=oldest&limit=5", "", "", 200, "")
	want("GET", "/connections/port/topics/crane.lifts/events?from=middle", "", "", 400, "wrong-request")
	want("GET", "/connections/port/topics/crane.lifts/events?from=time", "", "", 400, "wrong-request")
	want("GET", "/connections/port/topics/crane.lifts/document?purpose=nothing", "", "", 400, "wrong-request")
	askSchemas(t, b.Addr, want)
	var doc struct{ Document string }
	if err := json.Unmarshal([]byte(want("GET", "/connections/port/topics/crane.lifts/document?purpose=per-minute", "", "", 200, "")), &doc); err != nil {
		t.Fatal(err)
	}
	body := func(more string) string {
		text, err := json.Marshal(doc.Document)
		if err != nil {
			t.Fatal(err)
		}
		return `{"document":` + string(text) + more + `}`
	}
	want("GET", "/purposes", "", "", 200, "")
	want("GET", "/uses", "", "", 200, "")
	if c := want("POST", "/documents/check", js, body(""), 200, ""); !strings.Contains(c, `"faults":[]`) || !strings.Contains(c, `"step minute":{"from":`) {
		t.Errorf("check: %s", c)
	}
	if c := want("POST", "/documents/check", js, `{"document":"undertide: 1\njob: x\n"}`, 200, ""); !strings.Contains(c, `"the job has no sources"`) {
		t.Errorf("check of a document with faults: %s", c)
	}
	r := want("POST", "/documents/rehearse", js, body(`,"rows":100`), 200, "")
	if !strings.Contains(r, `"in":40`) || !strings.Contains(r, "makes") {
		t.Errorf("rehearse: %s", r)
	}
	want("POST", "/documents/rehearse", js, body(`,"rows":-1`), 400, "wrong-request")
	want("POST", "/documents/rehearse", js, body(`,"from":"middle"`), 400, "wrong-request")
	want("POST", "/documents/rehearse", js, `{"document":"job: x"}`, 422, "wrong-document")
	want("POST", "/documents/examples", js, body(""), 200, "")
	want("POST", "/documents/play", js, body(`,"events":[{"event":{"crane":"C1","tonnes":2,"lifted_at":1795000000000}},{"clock":"10s"},{"event":"{\"crane\":\"C1\",\"tonnes\":2.5,\"lifted_at\":1795000090000}"}]`), 200, "")
	if p := want("POST", "/documents/play", js, body(`,"events":[{"event":{"crone":"C1"}}]`), 400, "wrong-request"); !strings.Contains(p, "did you mean crane?") {
		t.Errorf("an event with a wrong field: %s", p)
	}
	want("POST", "/documents/lateness?rows=100", js, body(""), 200, "")
	want("POST", "/documents/lateness?source=lift", js, body(""), 400, "wrong-request")
	if p := want("POST", "/documents/peek?source=lifts&rows=3", js, body(""), 200, ""); !strings.Contains(p, `"decoded":[{"name":"crane"`) {
		t.Errorf("peek: %s", p)
	}
	want("POST", "/jobs", "application/yaml", doc.Document, 201, "")
	want("GET", "/jobs/crane-lifts-per-minute/lateness", "", "", 200, "")
	want("DELETE", "/connections/port", "", "", 409, "connection-in-use")

	if s := want("PUT", "/secrets/port", js, `{"text":"low water"}`, 200, ""); strings.Contains(s, "low water") {
		t.Errorf("a secret is given out: %s", s)
	}
	if s := want("POST", "/secrets/rotate", "", "", 200, ""); !strings.Contains(s, `"secrets":1`) {
		t.Errorf("sealed anew: %s", s)
	}
	want("PUT", "/secrets/port", js, `{"text":""}`, 400, "wrong-request")
	if s := want("PUT", "/secrets/port", js, `{"text":"low water"`, 400, "wrong-request"); strings.Contains(s, "low water") {
		t.Errorf("a secret is repeated: %s", s)
	}
	want("PUT", "/connections/safe", js, `{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","user":"a","password":"${secret.port}"}}}`, 200, "")
	if s := want("GET", "/secrets", "", "", 200, ""); strings.Contains(s, "low water") || !strings.Contains(s, `"used_by":["safe"]`) {
		t.Errorf("secrets: %s", s)
	}
	want("DELETE", "/secrets/port", "", "", 409, "secret-in-use")
	if m := want("GET", "/connections/safe/topics", "", "", 503, "connection-unreachable"); strings.Contains(m, "low water") {
		t.Errorf("a secret in a message: %s", m)
	}
	want("DELETE", "/connections/safe", "", "", 204, "")
	want("DELETE", "/connections/safe", "", "", 404, "no-such-connection")
	want("DELETE", "/secrets/port", "", "", 204, "")
	want("DELETE", "/secrets/port", "", "", 404, "no-such-secret")

	source := strings.SplitAfter(strings.SplitAfter(doc.Document, "sources:\n")[1], "}\n\n")[0]
	text, err := json.Marshal(source)
	if err != nil {
		t.Fatal(err)
	}
	want("PUT", "/sources/lifts", js, `{"about":"Lifts","text":`+string(text)+`}`, 200, "")
	want("PUT", "/sources/lifts", js, `{"about":"Lifts","text":"  lifts:\n    via: nothing\n"}`, 422, "wrong-document")
	if c := want("GET", "/sources", "", "", 200, ""); !strings.Contains(c, `{"job":"crane-lifts-per-minute","source":"lifts","same":true,"described":false,"differs":[]}`) {
		t.Errorf("sources: %s", c)
	}
	described := strings.Replace(doc.Document, source, "  lifts:\n    described: lifts\n\n", 1)
	if c := want("POST", "/jobs", "application/yaml", described, 201, ""); !strings.Contains(c, `"filled":["lifts"]`) || !strings.Contains(c, `"document":`) {
		t.Errorf("a document with a described source is saved as %s", c)
	}
	if c := want("GET", "/jobs/crane-lifts-per-minute/versions/newest", "", "", 200, ""); !strings.Contains(c, `described: lifts\n    via: kafka`) {
		t.Errorf("the version does not hold what the description says: %s", c)
	}
	want("POST", "/jobs", "application/yaml", strings.Replace(described, "described: lifts", "described: lift", 1), 422, "wrong-document")
	changed, err := json.Marshal(strings.Replace(source, "margin: ", "idle: 30s, margin: ", 1))
	if err != nil {
		t.Fatal(err)
	}
	want("PUT", "/sources/lifts", js, `{"about":"Lifts","text":`+string(changed)+`}`, 200, "")
	if c := want("GET", "/sources", "", "", 200, ""); !strings.Contains(c, `"described":true,"differs":["watermark"]`) {
		t.Errorf("after the description has changed: %s", c)
	}
	want("DELETE", "/sources/lifts", "", "", 204, "")
	want("DELETE", "/sources/lifts", "", "", 404, "no-such-description")

	want("DELETE", "/jobs/crane-lifts-per-minute", "", "", 204, "")
	want("DELETE", "/connections/port", "", "", 204, "")
}
