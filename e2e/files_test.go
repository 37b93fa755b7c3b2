package e2e

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// others runs the libraries of e2e/peers, which are not ours.
func others(t *testing.T, args ...string) string {
	t.Helper()
	c := exec.Command("node", append([]string{"peers/files.js"}, args...)...)
	o := finish(t, c)
	if o.status != 0 {
		t.Fatalf("node files.js %s: %s", strings.Join(args, " "), o.err)
	}
	return o.out
}

// shows says what a command's output lacks.
func shows(t *testing.T, o outcome, texts ...string) {
	t.Helper()
	for _, text := range texts {
		if o.status != 0 || !strings.Contains(o.out, text) {
			t.Errorf("status %d, and the output lacks %q:\n%s%s", o.status, text, o.out, o.err)
		}
	}
}

// weighed is the document over the weights that peers/files.js writes.
const weighed = `undertide: 1
job: weighed
sources:
  weights:
    via: file
    with: {path: weights%[1]s}
    fields: {truck: string, tonnes: double, axles: int, full: bool, at: timestamp, goods: %[2]s}
    event_time: at
    watermark: {margin: 0s}
sinks:
  text: {from: weights, via: file, with: {path: out.ndjson}}
  parquet: {from: weights, via: file, with: {path: out.parquet}}
  avro: {from: weights, via: file, with: {path: out.avro}}
  folder: {from: weights, via: file, with: {path: folder/}, encode: parquet}
`

// TestFilesOfOthers: what other libraries write as Parquet and Avro we read, value by value; what we write they read; and looking, inferring and
// rehearsing work on it.
func TestFilesOfOthers(t *testing.T) {
	t.Parallel()
	for ending, goods := range map[string]string{".parquet": "string", ".avro": "list<string>"} {
		t.Run(ending, func(t *testing.T) {
			t.Parallel()
			dir := open(t)
			others(t, "write", filepath.Join(dir, "weights"+ending))
			write(t, dir, "weighed.yaml", fmt.Sprintf(weighed, ending, goods))
			undertide(t, dir, "run", "weighed.yaml", "--lanes", "1", "--checkpoints", "kept").want(t, 0, "sink parquet: 40 rows")
			var want strings.Builder
			for n := range 40 {
				var list []string
				for i := range n % 4 {
					list = append(list, fmt.Sprintf(`"g%d"`, i))
				}
				text := "[" + strings.Join(list, ",") + "]"
				if goods == "string" {
					text = `"` + strings.ReplaceAll(text, `"`, `\"`) + `"`
				}
				tonnes := fmt.Sprint(float64(n) / 4)
				if n%9 == 8 {
					tonnes = "null"
				}
				fmt.Fprintf(&want, `{"truck":"L%d","tonnes":%s,"axles":%d,"full":%v,"at":"2026-03-01T06:00:%02dZ","goods":%s}`+"\n", n%7, tonnes, 2+n%3, n%2 == 0, n, text)
			}
			if got := read(t, filepath.Join(dir, "out.ndjson")); got != want.String() {
				t.Errorf("got\n%swant\n%s", got, want.String())
			}
			for file, row := range map[string]string{
				"out.parquet": `{"truck":"L3","tonnes":0.75,"axles":2,"full":false,"at":"2026-03-01T06:00:03.000Z","goods":`,
				"out.avro":    `{"truck":"L3","tonnes":0.75,"axles":2,"full":false,"at":1772344803000000,"goods":`,
			} {
				got := others(t, "read", filepath.Join(dir, file))
				if strings.Count(got, "\n") != 40 || !strings.Contains(got, row) {
					t.Errorf("others read in %s:\n%s", file, got)
				}
			}
			rolled, err := filepath.Glob(filepath.Join(dir, "folder", "*.parquet"))
			if err != nil || len(rolled) != 1 || strings.Count(others(t, "read", rolled[0]), "\n") != 40 {
				t.Errorf("the folder has %v, %v", rolled, err)
			}
			undertide(t, dir, "run", "weighed.yaml", "--in", "weights=out.parquet", "--out", "text=again.ndjson", "--lanes", "1").want(t, 0)
			if got := read(t, filepath.Join(dir, "again.ndjson")); got != want.String() {
				t.Errorf("of our own file we read\n%swant\n%s", got, want.String())
			}
			shows(t, undertide(t, dir, "peek", "--file", "weights"+ending, "--oldest", "--limit", "2"), "tonnes=0.25  axles=3  full=false")
			inferred := undertide(t, dir, "peek", "--file", "weights"+ending, "--infer")
			shows(t, inferred, "tonnes: double", "axles: int", "full: bool", "at: {type: timestamp}", "event_time: at")
			write(t, dir, "inferred.yaml", inferred.out)
			undertide(t, dir, "check", "inferred.yaml").want(t, 0)
			shows(t, undertide(t, dir, "rehearse", "weighed.yaml"), "source weights: 40 events")
		})
	}
}

// TestRejectsOfColumns: a value that its field does not take is a reject that shows the row; a column of another type ends the start with what to
// write; a file that was cut off says so.
func TestRejectsOfColumns(t *testing.T) {
	t.Parallel()
	dir := open(t)
	others(t, "write", filepath.Join(dir, "weights.parquet"))
	document := strings.Replace(fmt.Sprintf(weighed, ".parquet", "string"), "goods: string", "goods: {type: int, nullable: true}", 1)
	document = document[:strings.Index(document, "sinks:")] + "sinks:\n  bad: {from: rejects of weights, via: file, with: {path: bad.ndjson}}\n"
	write(t, dir, "weighed.yaml", document)
	undertide(t, dir, "run", "weighed.yaml").want(t, 0, "source weights: 40 rejected")
	if got := read(t, filepath.Join(dir, "bad.ndjson")); !strings.Contains(got, `field goods takes a whole number of 64 bits, got \"[\\\"g0\\\"]\"`) || !strings.Contains(got, `{\"truck\":\"L1\",\"tonnes\":0.25,`) {
		t.Errorf("rejects:\n%.600s", got)
	}
	write(t, dir, "other.yaml", strings.Replace(document, "axles: int", "axles: list<int>", 1))
	undertide(t, dir, "run", "other.yaml").want(t, 1, "weights.parquet: its column axles is int, and field axles is to be list<int>; write axles: int")
	write(t, dir, "cut.parquet", read(t, filepath.Join(dir, "weights.parquet"))[:300])
	undertide(t, dir, "run", "weighed.yaml", "--in", "weights=cut.parquet").want(t, 1, "it does not end with PAR1: is it still being written, or was it cut off?")
	write(t, dir, "topic.yaml", `undertide: 1
job: topic
connections: {yard: {via: kafka, brokers: ["127.0.0.1:1"]}}
sources:
  weights: {via: kafka, with: {connection: yard, topic: weights}, decode: parquet, fields: {truck: string, at: timestamp}, event_time: at, watermark: {margin: 0s}}
sinks:
  a: {from: weights, via: kafka, with: {connection: yard, topic: a}, encode: parquet}
  b: {from: weights, via: kafka, with: {connection: yard, topic: b}, encode: avro}
`)
	undertide(t, dir, "check", "topic.yaml").want(t, 3, "Parquet is of files: their columns stand together, and messages are one event each; decode: json, csv, text or avro",
		"Parquet is of files: its columns stand together, and messages are one row each; write json, csv or avro, or write a file",
		"messages of Avro name a schema of a registry, and this sink has none; add registry: {url: …} to the connection of a topic, or write a file")
}

// TestAvroSent: rows go to a topic as Avro, by a schema that is registered; another job reads it without a word of its fields, exactly once each over a
// restart; a schema that does not fit the topic's ends the start.
func TestAvroSent(t *testing.T) {
	t.Parallel()
	dir := open(t)
	broker, registry := startRegistry(t, dir)
	others(t, "write", filepath.Join(dir, "weights.avro"))
	yard := fmt.Sprintf("connections:\n  yard: {via: kafka, brokers: [%q], registry: {url: %q}}\n", broker, registry)
	send := strings.Replace(fmt.Sprintf(weighed, ".avro", "list<string>"), "job: weighed\n", "job: send\n"+yard, 1)
	send = send[:strings.Index(send, "sinks:")] + "sinks:\n  sent: {from: weights, via: kafka, with: {connection: yard, topic: sent.weights, create: true, partitions: 1}, encode: avro}\n"
	write(t, dir, "send.yaml", send)
	undertide(t, dir, "run", "send.yaml", "--lanes", "1", "--checkpoints", "kept").want(t, 0, "sink sent: 40 rows to topic sent.weights of yard")
	undertide(t, dir, "run", "send.yaml", "--lanes", "1", "--checkpoints", "kept").want(t, 0)
	write(t, dir, "undertide.yaml", yard)
	shows(t, undertide(t, dir, "schemas", "yard"), "sent.weights-value", "truck string, tonnes double, axles int, full bool, at timestamp, goods list<string>")
	write(t, dir, "take.yaml", "undertide: 1\njob: take\n"+yard+`sources:
  weights: {via: kafka, with: {connection: yard, topic: sent.weights}, until: latest, decode: avro, event_time: at, watermark: {margin: 0s}}
sinks:
  out: {from: weights, via: file, with: {path: out.ndjson}}
`)
	undertide(t, dir, "run", "take.yaml", "--lanes", "1").want(t, 0)
	got := read(t, filepath.Join(dir, "out.ndjson"))
	if strings.Count(got, "\n") != 40 || !strings.Contains(got, `{"truck":"L3","tonnes":0.75,"axles":2,"full":false,"at":"2026-03-01T06:00:03Z","goods":["g0","g1","g2"]}`) {
		t.Errorf("the topic has\n%s", got)
	}
	write(t, dir, "other.yaml", strings.Replace(strings.Replace(send, "job: send", "job: other", 1), "axles: int", "axles: string", 1))
	undertide(t, dir, "run", "other.yaml").want(t, 1, "register a schema of sent.weights-value")
}
