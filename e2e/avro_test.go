package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/hamba/avro/v2"
)

// startRegistry starts the broker stand-in with its registry.
func startRegistry(t *testing.T, dir string) (broker, registry string) {
	t.Helper()
	b := launch(t, dir, "broker", "--listen", "127.0.0.1:0", "--registry", "127.0.0.1:0", "--topic", "weights", "--partitions", "1")
	return b.says(t, `stand-in listens on (\S+);`), b.says(t, `registry is at (\S+)`)
}

// register puts a schema into the registry, as any program does, and gives its number.
func register(t *testing.T, registry, subject, schema string) int {
	t.Helper()
	body, err := json.Marshal(map[string]string{"schema": schema})
	if err != nil {
		t.Fatal(err)
	}
	r, err := http.Post(registry+"/subjects/"+subject+"/versions", "application/json", strings.NewReader(string(body)))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	var out struct{ ID int }
	if err != nil || json.Unmarshal(text, &out) != nil || out.ID == 0 {
		t.Fatalf("the registry says %d %s, %v", r.StatusCode, text, err)
	}
	return out.ID
}

// sendAvro sends a record as kcat sends files, with the number of its schema.
func sendAvro(t *testing.T, dir, broker string, id int, schema string, records ...map[string]any) {
	t.Helper()
	s, err := avro.ParseWithCache(schema, "", &avro.SchemaCache{})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range records {
		body, err := avro.Marshal(s, r)
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(dir, "message.bin")
		if err := os.WriteFile(path, append([]byte{0, 0, 0, byte(id >> 8), byte(id)}, body...), 0o600); err != nil {
			t.Fatal(err)
		}
		kcat(t, "", "-b", broker, "-t", "weights", "-P", "-p", "0", path)
	}
}

const (
	firstWeights  = `{"type":"record","name":"weight","fields":[{"name":"lorry","type":"string"},{"name":"tonnes","type":{"type":"bytes","logicalType":"decimal","precision":9,"scale":2}},{"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}}]}`
	secondWeights = `{"type":"record","name":"weight","fields":[{"name":"truck","type":"string","aliases":["lorry"]},{"name":"tonnes","type":{"type":"bytes","logicalType":"decimal","precision":9,"scale":2}},{"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}},{"name":"gate","type":"string","default":"NORTH"}]}`
)

// TestAvro: a topic of Avro whose schema changes in the middle is read without a word of its fields, exactly; what has no schema is a reject;
// a look infers what the schema says; a restart goes on.
func TestAvro(t *testing.T) {
	t.Parallel()
	dir := open(t)
	broker, registry := startRegistry(t, dir)
	one := register(t, registry, "weights-value", firstWeights)
	weight := func(name, value string, at int) map[string]any {
		v, ok := new(big.Rat).SetString(value)
		if !ok {
			t.Fatal(value)
		}
		return map[string]any{name: value + name, "tonnes": v, "at": time.UnixMilli(int64(at)).UTC(), "gate": "SOUTH"}
	}
	sendAvro(t, dir, broker, one, firstWeights, weight("lorry", "12.50", 1000), weight("lorry", "0.10", 2000))
	two := register(t, registry, "weights-value", secondWeights)
	sendAvro(t, dir, broker, two, secondWeights, weight("truck", "-7.25", 3000))
	sendAvro(t, dir, broker, 99, secondWeights, weight("truck", "1.00", 3500))
	kcat(t, "no avro\n", "-b", broker, "-t", "weights", "-P", "-p", "0")
	job := fmt.Sprintf(`undertide: 1
job: weigh
connections:
  yard: {via: kafka, brokers: [%q], registry: {url: %q}}
sources:
  weights:
    via: kafka
    with: {connection: yard, topic: weights}
    until: latest
    decode: avro
    event_time: at
    watermark: {margin: 0s, ahead: none}
sinks:
  out: {from: weights, via: file, with: {path: out.ndjson}}
  bad: {from: rejects of weights, via: file, with: {path: bad.ndjson}}
`, broker, registry)
	write(t, dir, "weigh.yaml", job)
	if o := undertide(t, dir, "run", "weigh.yaml"); o.status != 0 {
		t.Fatalf("%+v", o)
	}
	want := `{"truck":"12.50lorry","tonnes":"12.50","at":"1970-01-01T00:00:01Z","gate":"NORTH"}
{"truck":"0.10lorry","tonnes":"0.10","at":"1970-01-01T00:00:02Z","gate":"NORTH"}
{"truck":"-7.25truck","tonnes":"-7.25","at":"1970-01-01T00:00:03Z","gate":"SOUTH"}
`
	if got := read(t, filepath.Join(dir, "out.ndjson")); got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
	bad := read(t, filepath.Join(dir, "bad.ndjson"))
	if strings.Count(bad, "\n") != 2 || !strings.Contains(bad, "there is no such schema: schema 99") || !strings.Contains(bad, "it names no schema") {
		t.Errorf("the rejects are\n%s", bad)
	}
	write(t, dir, "undertide.yaml", fmt.Sprintf("connections:\n  yard: {via: kafka, brokers: [%q], registry: {url: %q}}\n", broker, registry))
	o := undertide(t, dir, "peek", "--connection", "yard", "--topic", "weights", "--infer")
	for _, line := range []string{"decode: avro", "truck: string", "tonnes: decimal", "at: {type: timestamp}", "gate: string", "event_time: at"} {
		if !strings.Contains(o.out, line) {
			t.Errorf("the inferred document has no %q:\n%s%s", line, o.out, o.err)
		}
	}
	write(t, dir, "inferred.yaml", o.out)
	if o := undertide(t, dir, "check", "inferred.yaml"); o.status != 0 {
		t.Errorf("what was inferred is wrong: %+v", o)
	}
	if o := undertide(t, dir, "peek", "--connection", "yard", "--topic", "weights", "--oldest", "--limit", "2"); !strings.Contains(o.out, "tonnes=12.50") {
		t.Errorf("peek shows\n%s%s", o.out, o.err)
	}
	second := write(t, dir, "second.avsc", secondWeights)
	wrong := write(t, dir, "wrong.avsc", `{"type":"record","name":"weight","fields":[{"name":"gross","type":"int"}]}`)
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"yard"}, 0, "weights-value        2       2  truck string, tonnes decimal, at timestamp, gate string"},
		{[]string{"yard", "weights-value"}, 0, "lorry string, tonnes decimal, at timestamp"},
		{[]string{"yard", "weights-value", "--version", "1"}, 0, firstWeights},
		{[]string{"yard", "weights-value", "--version", "3"}, 1, "has no version 3"},
		{[]string{"yard", "weights-value", "--check", wrong}, 1, "it does not fit the newest version"},
		{[]string{"yard", "weights-value", "--check", second}, 0, "it fits the newest version"},
		{[]string{"yard", "more-value", "--register", second}, 0, "version 1 of more-value, with the number 2"},
		{[]string{"yard", "none-value"}, 1, "there is no such schema: subject none-value"},
		{[]string{"yard", "--register", second}, 2, "the subject is not named"},
	} {
		if o := undertide(t, dir, append([]string{"schemas"}, c.args...)...); o.status != c.status || !strings.Contains(o.out+o.err, c.want) {
			t.Errorf("schemas %v: %+v, want %d %q", c.args, o, c.status, c.want)
		}
	}
}

// TestCSVTopics: rows go into a topic as records of CSV and come out of it again, by the columns that the document names.
func TestCSVTopics(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	kcat(t, "G1;2.5\n\"G;2\";\nG3\n", "-b", broker, "-t", "levels", "-p", "0", "-P")
	job := func(name, source, sink string) string {
		return fmt.Sprintf(`undertide: 1
job: %s
connections:
  harbour: {via: kafka, brokers: [%q]}
sources:
  levels:
    via: kafka
    until: latest
    %s
    fields: {gauge: string, level_m: double}
sinks:
  out: {from: levels, %s}
`, name, broker, source, sink)
	}
	write(t, dir, "in.yaml", job("in", "with: {connection: harbour, topic: levels}\n    decode: csv\n    delimiter: ';'\n    columns: [gauge, level_m]", "via: kafka, with: {connection: harbour, topic: means}, encode: csv, key: [gauge]"))
	write(t, dir, "out.yaml", job("out", "with: {connection: harbour, topic: means}\n    decode: csv\n    columns: [gauge, level_m]", "via: file, with: {path: out.ndjson}"))
	for _, doc := range []string{"in.yaml", "out.yaml"} {
		if o := undertide(t, dir, "run", doc); o.status != 0 {
			t.Fatalf("%s: %+v", doc, o)
		}
	}
	if got := kcat(t, "", "-b", broker, "-t", "means", "-C", "-e", "-q", "-f", "%k=%s\n"); !strings.Contains(got, "G1=G1,2.5\n") || !strings.Contains(got, "G;2=G;2,\n") {
		t.Errorf("the messages are\n%s", got)
	}
	got := strings.Join(sortedLines(read(t, filepath.Join(dir, "out.ndjson"))), "")
	if want := `{"gauge":"G1","level_m":2.5}` + "\n" + `{"gauge":"G;2","level_m":null}` + "\n"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}
