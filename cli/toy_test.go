package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"undertide/service"
)

// told is what a command line gave.
type told struct {
	status   int
	out, err string
}

// undertide runs a command line within the test.
func undertide(args ...string) told {
	var out, errOut bytes.Buffer
	status := Main(args, strings.NewReader(""), &out, &errOut)
	return told{status, out.String(), errOut.String()}
}

func (g told) want(t *testing.T, what string, status int, texts ...string) told {
	t.Helper()
	if g.status != status {
		t.Errorf("%s: status %d, want %d:\n%s%s", what, g.status, status, g.out, g.err)
	}
	for _, text := range texts {
		if !strings.Contains(g.out+g.err, text) {
			t.Errorf("%s does not say %q:\n%s%s", what, text, g.out, g.err)
		}
	}
	return g
}

const toyJob = `undertide: 1
job: ledger
sources:
  lifts:
    via: shelf
    with: {shelf: quay, book: lifts, pages: 3}
    decode: pairs
    sign: "|"
    fields: {crane: string, tonnes: double, at: {type: timestamp, parse: epoch_s}}
    event_time: at
    watermark: {margin: 1s}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {load: sum(tonnes)}}
sinks:
  loads: {from: minute, via: shelf, with: {shelf: quay, book: loads}, encode: pairs, cover: red}
`

const toyFaults = `undertide: 1
job: ledger
sources:
  lifts:
    via: shelf
    with: {shelf: key, book: a/b, pages: 2000, page: 1}
    sign: "||"
    decode: pairs
    fields: {crane: string}
  others: {via: shelf, with: {shelf: port, book: x}, pattern: x, fields: {crane: string}}
sinks:
  loads: {from: lifts, via: shelf, with: {book: x}, cover: green, key: [crane]}
`

// TestToyConnector: a kind of connector and a format that stand in their own files are known to everybody who reads
// documents, runs jobs, looks at events or shows forms, without a word about them anywhere else.
func TestToyConnector(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	shelf := filepath.Join(dir, "shelf")
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(filepath.Join(shelf, "lifts"), "crane=C1|tonnes=2.5|at=0\ncrane=C1|tonnes=3|at=30\ncrane=C2|tonnes=4|at=70\nsquall\n")
	write("undertide.yaml", "connections:\n  quay: {via: shelf, folder: "+shelf+"}\n  port: {via: kafka, brokers: [\"127.0.0.1:1\"]}\n")
	write("job.yaml", toyJob)
	write("faults.yaml", toyFaults)

	undertide("check", "job.yaml", "--plan").want(t, "plan", 0, "book lifts of quay, pairs", "pairs into book loads of quay", "exactly once, when the book is closed")
	undertide("check", "job.yaml", "--connect").want(t, "check --connect", 0, "source lifts, book lifts of quay: ok", "sink loads, book loads of quay: ok")
	undertide("check", "faults.yaml").want(t, "faults", 3,
		"there is no connection key", "known: port, quay", "name it without folders", "2000 is more than 1000", "unknown field page; did you mean pages?", "the sign between pairs is ||",
		"connection port is a kafka connection and no shelf one", "a pattern belongs to decode: text", "sinks.loads.with.shelf: shelf is missing; give shelf, book", "green is not one of red, blue", "a shelf sink has no key")
	toySchema(t)

	undertide("rehearse", "job.yaml").want(t, "rehearse", 0, "loads", "malformed")
	undertide("run", "job.yaml").want(t, "run", 0, "book loads of quay")
	if got, err := os.ReadFile(filepath.Join(shelf, "loads")); err != nil || !strings.Contains(string(got), "crane=C1|window_start=1970-01-01T00:00:00Z|window_end=1970-01-01T00:01:00Z|load=5.5\n") {
		t.Errorf("the book: %s, %v", got, err)
	}
	write("lifts.pairs", "crane=C9|tonnes=1|at=0\n")
	undertide("run", "job.yaml", "--in", "lifts=lifts.pairs", "--out", "loads=-").want(t, "run over a file of the format", 0, `{"crane":"C9"`)
	undertide("run", "job.yaml", "--out", "loads=-", "--format", "pairs").want(t, "run --format", 0, "crane=C2|")

	undertide("peek", "--connection", "quay", "--topic", "lifts").want(t, "peek", 0, "raw      crane=C1|tonnes=2.5|at=0", "decoded  crane=C1  tonnes=2.5")
	undertide("peek", "job.yaml").want(t, "peek at a document", 0, "decoded  crane=C1  tonnes=2.5", "reject   malformed: no pairs")
	begun := undertide("peek", "--connection", "quay", "--topic", "lifts", "--infer").want(t, "infer", 0, "decode: pairs", "with: {shelf: quay, book: lifts}", "crane: string")
	write("begun.yaml", begun.out)
	undertide("check", "begun.yaml").want(t, "the document that was begun", 0, "is right")
	undertide("topics", "quay").want(t, "topics", 0, "lifts", "loads")
	undertide("topics", "quay", "--make", "x").want(t, "make", 1, "cannot make a book")
	undertide("peek", "--connection", "quay", "--topic", "lifts", "--follow").want(t, "follow", 2, "is not a topic")
	undertide("connections", "test", "quay", "--topic", "loads").want(t, "test", 0, "book seen")
	toyService(t, dir, shelf)
}

// toySchema holds the JSON Schema against the documents.
func toySchema(t *testing.T) {
	t.Helper()
	text := undertide("check", "--schema").want(t, "schema", 0).out
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("job.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("job.json")
	if err != nil {
		t.Fatal(err)
	}
	job := func(with, cover string) error {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"undertide":1,"job":"a","sources":{"in":{"via":"shelf","with":` + with + `,"decode":"pairs","sign":"|","fields":{"a":"string"}}},
			"sinks":{"out":{"from":"in","via":"shelf","with":{"shelf":"quay","book":"x"},"encode":"pairs","cover":"` + cover + `"}}}`))
		if err != nil {
			t.Fatal(err)
		}
		return s.Validate(v)
	}
	if err := job(`{"shelf":"quay","book":"x","pages":3}`, "red"); err != nil {
		t.Errorf("the schema refuses a right document: %v", err)
	}
	for _, wrong := range [][2]string{{`{"shelf":"quay"}`, "red"}, {`{"shelf":"quay","book":"x","page":3}`, "red"}, {`{"shelf":"quay","book":"x","pages":0}`, "red"}, {`{"shelf":"quay","book":"x"}`, "green"}} {
		if job(wrong[0], wrong[1]) == nil {
			t.Errorf("the schema takes with: %s and cover: %s", wrong[0], wrong[1])
		}
	}
}

// toyService asks a service for the same: connections, forms, a job that runs.
func toyService(t *testing.T, dir, shelf string) {
	t.Helper()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil { // the database server has a user of its own
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- service.Serve(ctx, service.Options{Listen: "127.0.0.1:0", Data: dir + ".data", Files: []string{dir}, Ready: func(a string) { ready <- a }})
	}()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	}()
	select {
	case address := <-ready:
		t.Setenv("UNDERTIDE_SERVER", address)
	case err := <-ended:
		t.Fatal(err)
	}
	undertide("connections", "add", "pier", "--via", "shelf", "--folder", shelf, "--light", "lamp").want(t, "connections add", 0, "connection pier is stored", "shelf seen")
	undertide("connections", "add", "all", "--via", "shelf", "--folder", filepath.Join(dir, "disk")).want(t, "a wrong connection", 1, "a whole disk is not a shelf")
	undertide("connections").want(t, "connections", 0, "pier", "by lamp")
	undertide("peek", "--connection", "pier", "--topic", "lifts").want(t, "peek by the service", 0, "decoded  crane=C1")
	begun := undertide("peek", "--connection", "pier", "--topic", "lifts", "--infer", "--purpose", "clean").want(t, "infer by the service", 0, "with: {shelf: pier, book: lifts}")
	if err := os.WriteFile("pier.yaml", []byte(begun.out), 0o644); err != nil {
		t.Fatal(err)
	}
	undertide("rehearse", "pier.yaml").want(t, "rehearse by the service", 0, "results")
	undertide("save", "pier.yaml").want(t, "save", 0)
	undertide("start", "lifts-clean").want(t, "start", 0)
	var got []byte
	for deadline := time.Now().Add(20 * time.Second); len(got) == 0 && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		got, _ = os.ReadFile(filepath.Join(shelf, "lifts-clean")) // it appears when the run has finished
	}
	if !strings.Contains(string(got), `"crane":"C1"`) {
		t.Errorf("the service's job wrote %q", got)
	}
	cl, err := (&reach{}).client()
	if err != nil {
		t.Fatal(err)
	}
	kinds, err := cl.Kinds(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(kinds)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"name":"shelf","noun":"book"`, `"name":"folder","type":"path"`, `"choices":["lamp","sun"]`, `"name":"pages","type":"whole"`, `"name":"cover","type":"choice"`, `"name":"pairs"`, `"name":"sign","type":"text"`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the kinds lack %s: %s", want, text)
		}
	}
}
