package job

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"undertide/connect"
	_ "undertide/connect/all"
	"undertide/connect/kafka"
	"undertide/disk"
)

var update = flag.Bool("update", false, "write golden files anew")

// TestFaults: documents with many mistakes report all of them; the golden files hold the messages.
func TestFaults(t *testing.T) {
	paths, err := filepath.Glob("testdata/*.yaml")
	if err != nil || len(paths) < 3 {
		t.Fatalf("documents with mistakes: %v, %v", paths, err)
	}
	for _, path := range paths {
		_, err := Load(path, Options{Env: noEnv})
		var faults Faults
		if !errors.As(err, &faults) {
			t.Errorf("%s: %v, want faults", path, err)
			continue
		}
		got := faults.Error() + "\n"
		golden := strings.TrimSuffix(path, ".yaml") + ".faults"
		if *update {
			if err := os.WriteFile(golden, []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(golden)
		if err != nil {
			t.Fatal(err)
		}
		if got != string(want) {
			t.Errorf("%s: got\n%swant\n%srenew with: go test ./job -run TestFaults -update", path, got, want)
		}
		for _, f := range faults {
			if f.Remedy == "" || f.Line < 1 || f.Column < 1 {
				t.Errorf("%s: a fault without place or remedy: %+v", path, f)
			}
		}
	}
}

func noEnv(string) (string, bool) { return "", false }

const base = `undertide: 1
job: base
values:
  least: {type: double, default: 0.5}
sources:
  lifts:
    via: file
    with: {path: lifts.ndjson}
    fields: {crane: string, tonnes: double, box: int, at: timestamp}
    event_time: at
    watermark: {margin: 5s}
steps:
  useful: {from: lifts, where: tonnes > values.least}
  rate: {from: useful, key: [crane], window: {tumbling: 10m}, measures: {lifts: count()}}
sinks:
  out: {from: rate, via: file, with: {path: out.ndjson}}
`

// TestOneMistake changes one place of a right document and wants one fault, which names the place and
// says what would be right.
func TestOneMistake(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"undertide: 1\n", "", "base.yaml:1:1: undertide: the format's number is missing"},
		{"undertide: 1", "undertide: 2", "2 is not a format that this program reads"},
		{"job: base", "job: Base Job", `"Base Job" is not a name for a job`},
		{"job: base", "job: base\nabuot: x", "unknown field abuot; did you mean about?"},
		{"via: file\n", "via: fiel\n", "fiel is not one of"},
		{"crane: string", "crane: sting", "sting is not a type; did you mean string?"},
		{"tonnes: double", "tonnes: float", "float is not a type; did you mean double?"},
		{"    watermark: {margin: 5s}\n", "    watermark: {margin: ${env.X}}\n", "put it in quotes: watermark: {margin: \"${env.X}\"}"},
		{"crane: string", "in: string", "in means something in expressions"},
		{"crane: string", "the-crane: string", `"the-crane" is not a field name`},
		{"event_time: at", "event_time: box", "box is an int and not a timestamp"},
		{"event_time: at", "event_time: att", "unknown name att; did you mean at?"},
		{"    watermark: {margin: 5s}\n", "", "the margin is not said"},
		{"margin: 5s", "margin: 5", `"5" has no unit; say the unit: 5s, 5m`},
		{"margin: 5s", "margin: -5s", `"-5s" is not a duration`},
		{"margin: 5s", "idle: 5s", "the margin is not said"},
		{"from: lifts", "from: lift", "there is no source or step lift; did you mean lifts?"},
		{"from: useful", "from: late of useful", "useful has no late rows"},
		{"from: useful", "from: rejects of lifts", "a window needs an event time"},
		{"where: tonnes", "where: crane", "> does not take string and double"},
		{"values.least", "values.leest", "unknown name values.leest; did you mean values.least?"},
		{"values.least", "1.0 + tonnes + box", "+ does not take double and int; write double(…) around the int"},
		{"where: tonnes > values.least", "where: tonnes", "a condition is a bool, and this is a double"},
		{"where: tonnes > values.least", "where: count() > 1", "count is an aggregate"},
		{"where: tonnes > values.least", "set: {a: b + 1, b: a + 1}", "a and b use each other"},
		{"where: tonnes > values.least", "set: {box: box + 1}", "box uses itself"},
		{"where: tonnes > values.least", "without: [cran]", "there is no field cran; did you mean crane?"},
		{"where: tonnes > values.least", "whree: tonnes > 1.0", "unknown field whree; did you mean where?"},
		{"key: [crane]", "key: [carne]", "there is no field carne; did you mean crane?"},
		{"key: [crane]", "key: crane", "write [name] or [one, two]"},
		{"key: [crane]", "key: [crane], where: tonnes > 1.0", "are of two kinds of step"},
		{"tumbling: 10m", "tumbling: 0s", "0s is not above zero"},
		{"tumbling: 10m", "tumbling: 10m, shift: 10m", "the shift 10m is not shorter than the time between two starts"},
		{"lifts: count()", "lifts: count", "count is an aggregate; aggregates stand in the measures"},
		{"lifts: count()", "crane: count()", "crane is already a field of the row"},
		{"lifts: count()", "lifts: sum(tonnes) + tonnes", "field tonnes stands outside an aggregate"},
		{"lifts: count()", "lifts: sum(crane)", "sum does not take string"},
		{"lifts: count()", "lifts: sum(sum(tonnes))", "an aggregate stands within an aggregate"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m, session: 5m}", "tumbling and session are two kinds of window"},
		{"window: {tumbling: 10m}", "window: {}", "the kind of window is missing"},
		{"window: {tumbling: 10m}", "window: {tumblin: 10m}", "tumblin is not a kind of window; did you mean tumbling?"},
		{"window: {tumbling: 10m}, measures: {lifts: count()}}\nsinks:", "window: {tumblin: 10m}, measures: {lifts: count()}}\nsinks:\n  missed: {from: late of rate, via: file, with: {path: late.ndjson}}", "tumblin is not a kind of window"},
		{"window: {tumbling: 10m}", "window: {type: tumbling, size: 10m}", "type is not a kind of window; write {tumbling: 15m}"},
		{"lifts: count()", "lifts: mean(crane)", "mean does not take string; mean takes int, double or decimal"},
		{"lifts: count()", "lifts: count_if(tonnes)", "count_if does not take double; count_if takes bool"},
		{"window: {tumbling: 10m}", "window: {sliding: 10m}", "how far the window slides is not said"},
		{"window: {tumbling: 10m}", "window: {sliding: 10m, by: 11m}", "windows of 10m that start every 11m leave rows out"},
		{"window: {tumbling: 10m}", "window: {sliding: 10h, by: 1s}", "36000 windows would lie over each row; at most 10000 may"},
		{"window: {tumbling: 10m}", "window: {sliding: 1 month, by: 1 day}", "1 month and 1 day cannot be compared"},
		{"window: {tumbling: 10m}", "window: {tumbling: 1 day, zone: Mars}", `there is no time zone "Mars"`},
		{"window: {tumbling: 10m}", "window: {tumbling: 1 day, shift: 24h}", "is not shorter than the time between two starts"},
		{"window: {tumbling: 10m}", "window: {tumbling: 1 day, shift: 100ms}", "shifted by whole seconds"},
		{"window: {tumbling: 10m}", "window: {tumbling: 1 month, shift: 28d}", "not every month has so many days"},
		{"window: {tumbling: 10m}", "window: {sliding: 10m, by: 5m}, repeat: {every: 10s, keep: 1m}", "is not kept as it was"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m, zone: UTC}", "a fixed length follows no zone"},
		{"window: {tumbling: 10m}", "window: {session: 10m, longest: 5m}", "longer than 5m"},
		{"window: {tumbling: 10m}", "window: {session: 10m, by: 5m}", "a session window has no by"},
		{"window: {tumbling: 10m}", "window: {look_back: 10m}, late: {accept: 1m}", "a look back publishes each row once"},
		{"window: {tumbling: 10m}", "window: {look_back: 1 day}", "a calendar size is not a duration"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, every: 1s", "every bounds the previews of revised rows"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, forget: 1h", "a key with a window is forgotten with its last window"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, having: lifts", "a condition is a bool, and this is an int"},
		{"window: {tumbling: 10m}", "late: {accept: 1m}", "without a window no row is late"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, publish: revised", "publishes several rows for a key and window (revised), and the sink appends each; say append_revisions: true"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, repeat: {every: 1s}", "(repeat), and the sink appends each"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, repeat: {keep: 1s}", "how often is not said"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, null_key: maybe", "maybe is not one of keep, reject"},
		{"lifts: count()", "lifts: {fold: {initial: 0, next: so_far + box}}, window_end: count()", "window_end is already a field of the row"},
		{"{tumbling: 10m}, measures: {lifts: count()}", "{session: 10m}, measures: {lifts: {fold: {initial: 0, next: so_far + box}}}", "add combine: left + right"},
		{"lifts: count()", "lifts: {fold: {initial: 0, next: so_far + tonnes}}", "+ does not take int and double"},
		{"lifts: count()", "lifts: {fold: {initial: 0, next: tonnes}}", "this is a double, and initial an int"},
		{"lifts: count()", "lifts: 'quantile(tonnes, 95.0)'", "95 is not a share from 0 to 1"},
		{"lifts: count()", "lifts: 'collect(tonnes, 0)'", "0 is not a number of values"},
		{"lifts: count()", "lifts: 'collect(tonnes, box)'", "is a constant"},
		{"lifts: count()", "lifts: median(at)", "median does not take timestamp"},
		{"where: tonnes > values.least", "split: {heavy: tonnes}", "a condition is a bool"},
		{"where: tonnes > values.least", "split: {heavy: tonnes > 1.0}", "useful is a split and is read by its parts"},
		{"where: tonnes > values.least", "where: upper(crane) == 'C3'", "unknown function upper; did you mean upperAscii?"},
		{"where: tonnes > values.least", "where: \"crane.startWith('C')\"", "unknown function startWith; did you mean startsWith?"},
		{"lifts: count()", "lifts: avg(tonnes)", "unknown function avg; did you mean mean?"},
		{"where: tonnes > values.least", "expand: {item: crane}", "an expand takes a list, and this is a string"},
		{"where: tonnes > values.least", "deduplicate: {key: [crane]}", "how long a row is remembered is not said"},
		{"where: tonnes > values.least", "deduplicate: {key: [], within: 1m}", "the key is empty"},
		{"where: tonnes > values.least", "deduplicate: {key: [crane], within: 1m}, where: tonnes > 1.0", "are of two kinds of step"},
		{"where: tonnes > values.least", "key: [crane], remember: {n: {initial: 0, next: n + 1}}", "the values are kept without a bound; add forget: 1h"},
		{"where: tonnes > values.least", "key: [crane], forget: 1h, remember: {n: {initial: 0, next: tonnes}}", "next is a double, and initial an int"},
		{"where: tonnes > values.least", "key: [crane], forget: 1h, remember: {n: {initial: null, next: n}}", "null has no type here"},
		{"where: tonnes > values.least", "key: [crane], forget: 1h, remember: {crane: {initial: null, next: crane}}", "crane is already a field of the row"},
		{"where: tonnes > values.least", "key: [crane], absent: soon", `"soon" is not a duration`},
		{"where: tonnes > values.least", "rank: {by: tonnes, keep: 3}", "rank takes the rows of a step with a window"},
		{"where: tonnes > values.least", "key: [crane]", "key alone says not what the step does"},
		{"from: lifts", "from: [lifts, lifts]", "lifts stands twice"},
		{"from: lifts", "from: [lifts, rejects of lifts]", "cannot be merged with lifts: it has no field crane"},
		{"from: useful", "from: heavy of useful", "useful has no part heavy"},
		{"crane: string", "crane: list", "list is not a type; say of what: list<string>"},
		{"crane: string", "crane: list<list<string>>", "is not a type"},
		{"at: timestamp", "at: {type: timestamp, parse: '%Y-%m-%d', zone: Mars}", `there is no time zone "Mars"`},
		{"at: timestamp", "at: {type: timestamp, zone: UTC}", "a zone belongs to a pattern of a time"},
		{"    fields:", "    decode: text\n    fields:", "how a line is taken apart is not said"},
		{"    fields:", "    pattern: x\n    fields:", "a pattern belongs to decode: text"},
		{"    fields:", "    decode: text\n    pattern: '(?P<crane>.) (?P<tonnes>.) (?P<bos>.) (?P<at>.*)'\n    fields:", "the pattern has no group for field box; write (?P<box>…); did you mean bos?"},
		{"    fields:", "    decode: text\n    pattern: '('\n    fields:", "the pattern is not a regular expression"},
		{"sinks:", "examples: [{given: [{lift: {}}], expect: {rate: []}}]\nsinks:", "there is no source lift; did you mean lifts?"},
		{"sinks:", "examples: [{given: [{lifts: {cran: A}}], expect: {rate: []}}]\nsinks:", "lifts has no field cran; did you mean crane?"},
		{"sinks:", "examples: [{given: [{lifts: {}}], expect: {rate: [{lift: 1}]}}]\nsinks:", "rate has no field lift; did you mean lifts?"},
		{"sinks:", "examples: [{given: [{clock: 5}], expect: {rate: []}}]\nsinks:", "has no unit"},
		{"sinks:", "examples: [{given: []}]\nsinks:", "the rows are missing"},
		{"{path: out.ndjson}", "{path: out.ndjson}, append_revisions: true", "publishes one row for each key and window"},
		{"{path: out.ndjson}", "{paht: out.ndjson}", "unknown field paht; did you mean path?"},
		{"{path: out.ndjson}", "{path: out.ndjson, roll: {size: 1MiB}}", "one file is not rolled"},
		{"{path: out.ndjson}", "{path: '${env.NOWHERE}'}", "the environment variable NOWHERE is not set"},
		{"{path: out.ndjson}", "{path: '${secret.X}'}", "a secret would be shown here"},
		{"default: 0.5", "default: much", `"much" is not a double; give a double`},
		{"sinks:", "\tsinks:", "indent with spaces"},
		{"  rate:", "  lifts:", "lifts is also a source"},
		{"from: lifts", "from: rate", "steps read each other in a circle: useful, rate"},
	} {
		if strings.Count(base, c.old) == 0 {
			t.Fatalf("the document has no %q", c.old)
		}
		text := strings.Replace(base, c.old, c.new, 1)
		_, err := Parse("base.yaml", text, Options{Env: noEnv, NeedEnv: true})
		var faults Faults
		if !errors.As(err, &faults) {
			t.Errorf("%q for %q: %v, want a fault with %q", c.new, c.old, err, c.want)
			continue
		}
		if !strings.Contains(faults.Error(), c.want) {
			t.Errorf("%q for %q: got\n%s\nwant %q", c.new, c.old, faults.Error(), c.want)
		}
	}
	if _, err := Parse("base.yaml", base, Options{}); err != nil {
		t.Errorf("the right document: %v", err)
	}
}

func TestWarnings(t *testing.T) {
	text := strings.NewReplacer("margin: 5s", "margin: 0s", "tumbling: 10m", "tumbling: 30d", "path: lifts.ndjson", "path: lifts.ndjson, follow: true").Replace(base)
	j, err := Parse("base.yaml", text, Options{})
	if err != nil {
		t.Fatal(err)
	}
	if got := j.Warnings.Error(); !strings.Contains(got, "every event out of order is late") || !strings.Contains(got, "is a calendar size meant?") || !strings.Contains(got, "end the path with /") {
		t.Errorf("warnings: %s", got)
	}
}

// TestDigest: what shapes state tells documents apart, what does not leaves them the same.
func TestDigest(t *testing.T) {
	read := func(text string, set map[string]string) string {
		j, err := Parse("base.yaml", text, Options{Set: set})
		if err != nil {
			t.Fatal(err)
		}
		return j.Digest
	}
	was := read(base, nil)
	same := strings.Replace(base, "job: base", "# a comment\njob: base\nabout: x\nsettings: {lanes: 2}", 1)
	if read(same, nil) != was || read(base, map[string]string{"least": "0.5"}) != was {
		t.Error("a comment, about, settings or the default set by hand make another document")
	}
	for _, other := range []string{strings.Replace(base, "10m", "11m", 1), strings.Replace(base, "box: int, ", "", 1), strings.Replace(base, "0.5", "0.6", 1)} {
		if read(other, nil) == was {
			t.Error("another window, field or value makes the same document")
		}
	}
	if read(base, map[string]string{"least": "0.7"}) == was {
		t.Error("another --set makes the same document")
	}
}

// TestJSONDocument: JSON is YAML, also with tabs.
func TestJSONDocument(t *testing.T) {
	text, err := yaml.YAMLToJSON([]byte(base))
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := json.Indent(&b, text, "", "\t"); err != nil {
		t.Fatal(err)
	}
	j, err := Parse("base.json", b.String(), Options{})
	if err != nil {
		t.Fatal(err)
	}
	want, err := Parse("base.yaml", base, Options{})
	if err != nil {
		t.Fatal(err)
	}
	if got := PlanOf(j).Text(); got != PlanOf(want).Text() {
		t.Errorf("as JSON the job is\n%s", got)
	}
	_, err = Parse("base.json", strings.Replace(b.String(), "\"double\"", "\"dubble\"", 1), Options{})
	if err == nil || !strings.Contains(err.Error(), "did you mean double?") {
		t.Errorf("a mistake in JSON gives %v", err)
	}
}

func TestParseDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{"250us": 250 * time.Microsecond, "250ms": 250 * time.Millisecond, "5s": 5 * time.Second, "1h30m": 90 * time.Minute, "2d": 48 * time.Hour, "0s": 0} {
		if got, err := ParseDuration(text); err != nil || got != want {
			t.Errorf("%s: %v, %v; want %v", text, got, err, want)
		}
	}
	for _, text := range []string{"", "5", "s", "5 s", "-5s", "5s5m", "1.5h", "9999999999h", "5x", "5s5s", "5ss"} {
		if got, err := ParseDuration(text); err == nil {
			t.Errorf("%q gives %v, want an error", text, got)
		}
	}
}

// docYAML are the YAML blocks of the project's pages; a block that shows a part of a document begins
// with a comment that says so.
var docYAML = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// TestDocuments: every whole document in docs/, README and the harbour is right by the reader and by
// the JSON Schema, and so are the parts, put into a document.
func TestDocuments(t *testing.T) {
	schema := compileSchema(t)
	texts := map[string]string{}
	for _, pattern := range []string{"../docs/*.md", "../docs/*/*.md", "../README.md", "../harbour/*.md"} {
		paths, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range paths {
			page, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			for i, m := range docYAML.FindAllSubmatch(page, -1) {
				texts[fmt.Sprintf("%s, YAML %d", p, i+1)] = string(m[1])
			}
		}
	}
	jobs, err := filepath.Glob("../harbour/*/*.yaml")
	if err != nil || len(jobs) < 4 {
		t.Fatalf("harbour documents: %v, %v", jobs, err)
	}
	for _, p := range jobs {
		text, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		texts[p] = string(text)
	}
	if len(texts) < 8 {
		t.Errorf("only %d documents were found", len(texts))
	}
	known, err := LoadConnections("../" + ConnectionsFile)
	if err != nil || known["harbour"].Link.Words().Reaches != "127.0.0.1:19092" {
		t.Fatalf("the connections of the working folder: %v, %v", known, err)
	}
	for name, text := range texts {
		if _, err := Parse(name, text, Options{Env: noEnv, Connections: known}); err != nil {
			t.Errorf("%s:\n%v", name, err)
		}
		checkSchema(t, schema, name, text)
	}
	checkSchema(t, schema, "base", base)
}

// TestConnections: the document's own connections win over those given with it, and the file of the
// working folder is read with the same care as a document.
func TestConnections(t *testing.T) {
	given := map[string]*connect.Connection{"harbour": {Name: "harbour", Kind: kafka.Kind, Link: kafka.LinkTo("given:1")}}
	doc := "undertide: 1\njob: topics\nsettings: {delivery: at_least_once}\nsources:\n  in: {via: kafka, with: {connection: harbour, topic: a}, begin: 2026-03-01T00:00:00Z, fields: {k: string}}\nsinks:\n  out: {from: in, via: kafka, with: {connection: harbour, topic: b}, key: [k]}\n"
	j, err := Parse("a.yaml", doc, Options{Connections: given})
	if err != nil || reaches(j) != "given:1" || !strings.Contains(fmt.Sprintf("%+v", j.Sources[0].With), "Group:undertide.topics") || !strings.Contains(PlanOf(j).Text(), "from 2026-") || !strings.Contains(PlanOf(j).Text(), "keyed by k") {
		t.Errorf("a connection that is given: %+v, %v", j, err)
	}
	own := strings.Replace(doc, "sources:", "connections: {harbour: {via: kafka, brokers: [own:2]}}\nsources:", 1)
	if j, err := Parse("a.yaml", own, Options{Connections: given}); err != nil || reaches(j) != "own:2" {
		t.Errorf("a connection of the document's own: %v", err)
	}
	if given["harbour"].Link.Words().Reaches != "given:1" {
		t.Error("the document changed what was given")
	}
	once, err := Parse("a.yaml", strings.Replace(doc, "settings: {delivery: at_least_once}\n", "", 1), Options{Connections: given})
	if err != nil || len(once.Warnings) != 0 || !strings.Contains(PlanOf(once).Text(), "exactly once: rows appear with the checkpoint, every 10s, in one transaction") {
		t.Errorf("a document that says nothing of delivery: %v", err)
	}
	if text := PlanOf(j).Text(); !strings.Contains(text, "at least once: rows appear as they are made; after a restart those since the newest checkpoint come again") {
		t.Errorf("a document that asks for at least once: %s", text)
	}
	dir := t.TempDir()
	if got, err := LoadConnections(filepath.Join(dir, "none.yaml")); got != nil || err != nil {
		t.Errorf("no file: %v, %v", got, err)
	}
	for text, want := range map[string]string{
		"connections: {a: {via: kafka}}":                                  "the brokers are not named",
		"connections: {a: {via: smoke, brokers: [h:1]}}":                  "smoke is not one of file, kafka",
		"conections: {}":                                                  "did you mean connections?",
		"connections: {a: {via: kafka, brokers: [\"${env.NONE_SUCH}\"]}}": "NONE_SUCH",
		"connections: [a]":                                                "a list stands where connections belong",
		"connections: {a: {via: kafka, brokers: [h]":                      "",
	} {
		path := filepath.Join(dir, "undertide.yaml")
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := LoadConnections(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
}

// reaches says what the first source's connection reaches.
func reaches(j *Job) string {
	c, _ := j.Sources[0].With.(connect.Streaming).Stream()
	return c.Link.Words().Reaches
}

func compileSchema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
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
	return s
}

func checkSchema(t *testing.T, s *jsonschema.Schema, name, text string) {
	t.Helper()
	asJSON, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	if err := s.Validate(v); err != nil {
		t.Errorf("%s does not agree with the JSON Schema: %v", name, err)
	}
}

// TestSchemaNames keeps the names of the JSON Schema and of the reader together.
func TestSchemaNames(t *testing.T) {
	var s struct {
		Properties map[string]any
		Defs       map[string]struct{ Properties map[string]json.RawMessage } `json:"$defs"`
	}
	if err := json.Unmarshal(Schema(), &s); err != nil {
		t.Fatal(err)
	}
	compare := func(what string, got []string, spec fieldSpec) {
		want := slices.Sorted(slices.Values(spec.known))
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s: the schema has %v, the reader takes %v", what, got, want)
		}
	}
	compare("document", sortedKeys(s.Properties), documentFields)
	compare("source", sortedKeys(s.Defs["source"].Properties), sourceFields())
	compare("reference", sortedKeys(s.Defs["reference"].Properties), referenceFields())
	compare("step", sortedKeys(s.Defs["step"].Properties), stepFields)
	compare("sink", sortedKeys(s.Defs["sink"].Properties), sinkFields())
}

// FuzzParse: no text makes the reader panic, and what it takes has names and fields.
func FuzzParse(f *testing.F) {
	f.Add(base)
	paths, err := filepath.Glob("testdata/*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, p := range paths {
		text, err := os.ReadFile(p)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
	f.Fuzz(func(t *testing.T, text string) {
		lines := strings.Count(text, "\n") + 1
		for name, p := range Read(t.Context(), "", text).Places() {
			if p.From < 1 || p.To < p.From || p.To > lines {
				t.Errorf("%s stands on lines %d to %d of %d: %q", name, p.From, p.To, lines, text)
			}
		}
		if d := Differences(text, text); len(d) > 0 {
			t.Errorf("it differs from itself: %v", d)
		}
		Differences(text, base)
		_, _ = SourceText(text, "") // it must not panic
		j, err := Parse("fuzz.yaml", text, Options{Env: noEnv})
		if err != nil {
			if err.Error() == "" {
				t.Error("a fault without words")
			}
			return
		}
		if j.Name == "" || len(j.Sources) == 0 || len(j.Sinks) == 0 {
			t.Errorf("taken without name, source or sink: %q", text)
		}
		PlanOf(j).Text()
	})
}

func ExampleParse() {
	_, err := Parse("crane-rate.yaml", strings.Replace(base, "tumbling: 10m", "tumbling: 10", 1), Options{})
	fmt.Println(err)
	// Output: crane-rate.yaml:14:57: steps.rate.window.tumbling: "10" has no unit; say the unit: 10s, 10m
}

// TestChained: what may stand behind what.
func TestChained(t *testing.T) {
	for _, c := range []struct{ steps, want string }{
		{"  again: {from: rate, window: {tumbling: 1h}, measures: {n: sum(lifts)}}\n", ""},
		{"  some: {from: rate, where: lifts > 1}\n  again: {from: some, window: {tumbling: 1h}, measures: {n: sum(lifts)}}\n", ""},
		{"  late_ones: {from: rate, key: [crane], window: {tumbling: 1h}, late: {accept: 1m}, measures: {n: sum(lifts)}}\n  again: {from: late_ones, window: {tumbling: 1d}, measures: {n: sum(n)}}\n",
			"late_ones may publish several rows for one key and window (accept)"},
		{"  shown: {from: rate, key: [crane], window: {tumbling: 1h}, publish: revised, measures: {n: sum(lifts)}}\n  some: {from: shown, where: n > 1}\n  again: {from: some, deduplicate: {key: [crane], within: 1m}}\n",
			"some may publish several rows for one key and window (revised)"},
		{"  best: {from: rate, rank: {by: lifts, keep: 1}}\n  again: {from: best, window: {session: 1h}, measures: {n: count()}}\n", ""},
		{"  whole: {from: rate, measures: {n: count()}}\n  again: {from: whole, window: {session: 1h}, measures: {n: count()}}\n", "the rows of whole have none"},
	} {
		_, err := Parse("chain.yaml", strings.Replace(base, "sinks:\n", c.steps+"sinks:\n", 1), Options{Env: noEnv})
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, want %q", c.steps, err, c.want)
		}
	}
}

// TestWarned: what is right, and may not be meant.
func TestWarned(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"tumbling: 10m", "tumbling: 30d", "30d is a fixed length; is a calendar size meant?"},
		{"margin: 5s", "margin: 0s", "every event out of order is late"},
		{"window: {tumbling: 10m}", "window: {tumbling: 10m}, late: {accept: 1m}", "publishes corrections of closed windows, and the sink appends them"},
		{"sinks:", "  all: {from: rate2, window: {tumbling: 1h}, measures: {n: sum(lifts)}}\n  rate2: {from: useful, window: {sliding: 10m, by: 5m}, measures: {lifts: count()}}\nsinks:", "publishes windows that overlap"},
		{"with: {path: lifts.ndjson}", "with: {path: lifts.ndjson, follow: true}", "one file appears only when the run finishes"},
		{"tonnes: double", "tonnes: double, price: double", "price is a double, which is not exact; money is better a decimal"},
		{"tonnes: double", "tonnes: double, toll_eur: double", "toll_eur is a double, which is not exact; money is better a decimal"},
		{"tumbling: 10m", "tumbling: 7d", "7d is a fixed length, which begins on a Thursday; is a calendar size meant?"},
		{"tumbling: 10m", "tumbling: 14d", "write 2 weeks"},
		{"tumbling: 10m", "tumbling: 91d", "write 1 quarter"},
		{"tumbling: 10m", "tumbling: 28d", "write 1 month"},
		{"tumbling: 10m", "tumbling: 366d", "write 1 year"},
		{"lifts: count()", "lifts: {fold: {initial: '[0.0]', next: 'so_far + [tonnes]', combine: left + right}}", "so_far grows with each row, without end"},
		{"sinks:", "  again: {from: useful, key: [crane], remember: {all: {initial: \"''\", next: all + crane}}, forget: 1h, set: {seen: all}}\nsinks:", "all grows with each row, without end"},
		{"sinks:", "  all: {from: rate2, window: {tumbling: 1h}, measures: {n: {fold: {initial: 0, next: so_far + lifts}}}}\n  rate2: {from: useful, window: {sliding: 10m, by: 5m}, measures: {lifts: count()}}\nsinks:", "a fold that adds their values up takes rows several times"},
		{"sinks:", "  all: {from: rate2, remember: {n: {initial: 0, next: n + lifts}}, forget: 1h, set: {so_far_n: n}}\n  rate2: {from: useful, window: {look_back: 10m}, measures: {lifts: count()}}\nsinks:", "a remember that adds their values up takes rows several times"},
		{"sinks:", "  all: {from: rate2, window: {tumbling: 1h}, measures: {n: mean(mean_t)}}\n  rate2: {from: useful, window: {tumbling: 10m}, measures: {mean_t: mean(tonnes)}}\nsinks:", "a mean of means weighs windows of few rows like those of many"},
	} {
		j, err := Parse("base.yaml", strings.Replace(base, c.old, c.new, 1), Options{Env: noEnv})
		if err != nil {
			t.Errorf("%s: %v", c.new, err)
			continue
		}
		if !strings.Contains(j.Warnings.Error(), c.want) {
			t.Errorf("%s: warned of %v, want %q", c.new, j.Warnings, c.want)
		}
	}
}

// TestBoundedGrowth: a fold or remember that asks what it holds already is not warned of.
func TestBoundedGrowth(t *testing.T) {
	for _, c := range [][2]string{
		{"lifts: count()", "lifts: {fold: {initial: \"''\", next: \"so_far.contains(crane) ? so_far : so_far + crane\", combine: left + right}}"},
		{"lifts: count()", "lifts: {fold: {initial: '[\"\"]', next: 'crane in so_far ? so_far : so_far + [crane]', combine: left + right}}"},
		{"sinks:", "  again: {from: useful, key: [crane], remember: {all: {initial: \"''\", next: \"all.contains(crane) ? all : all + crane\"}}, forget: 1h, set: {seen: all}}\nsinks:"},
	} {
		j, err := Parse("base.yaml", strings.Replace(base, c[0], c[1], 1), Options{Env: noEnv})
		if err != nil || len(j.Warnings) > 0 {
			t.Errorf("%s: %v, %v", c[1], err, j.Warnings)
		}
	}
}

// TestDelayOfChains: the plan tells that windows over windows wait for both.
func TestDelayOfChains(t *testing.T) {
	text := strings.Replace(base, "sinks:", "  lives: {from: useful, key: [crane], window: {session: 50m, longest: 3h}, measures: {n: count()}}\n  hourly: {from: lives, window: {tumbling: 1h}, measures: {all: sum(n)}}\nsinks:", 1)
	j, err := Parse("base.yaml", text, Options{Env: noEnv})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range PlanOf(j).Steps {
		if has := strings.Contains(s.Delay, "come later than their events: by up to 3h (lives)"); has != (s.Name == "hourly") {
			t.Errorf("the delay of %s is told as %q", s.Name, s.Delay)
		}
	}
}

// TestNoCircles: names behind values and meta are no fields of the step. Once they were taken for such, and for
// circles.
func TestNoCircles(t *testing.T) {
	const text = `undertide: 1
job: names
values: {limit: {type: double, default: 4.5}}
connections: {b: {via: kafka, brokers: ["127.0.0.1:1"]}}
sources:
  lifts:
    via: kafka
    with: {connection: b, topic: lifts}
    fields: {tonnes: double, limit: double}
steps:
  named:
    from: lifts
    set:
      limit: values.limit
      key: meta.key
      trace: meta.headers['trace-id']
      span: meta.headers["span.id"]
      over: tonnes - limit
sinks:
  out: {from: named, via: file, with: {path: out.ndjson}}
`
	j, err := Parse("names.yaml", text, Options{Env: noEnv})
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(j.Steps[0].Schema.Names(), " "); got != "tonnes limit key trace span over" {
		t.Errorf("the step gives %s", got)
	}
	for _, hidden := range []string{"meta.key", "meta.headers.trace-id", "meta.headers.span.id"} {
		if j.Sources[0].Schema.Index(hidden) < 0 {
			t.Errorf("the source does not give %s: %v", hidden, j.Sources[0].Schema)
		}
	}
}

// TestSinksAside: where sinks are not opened, what they alone need is not asked for; what sources need is.
func TestSinksAside(t *testing.T) {
	const text = `undertide: 1
job: aside
connections:
  out: {via: kafka, brokers: ['${env.NO_BROKER}:9092'], sasl: {mechanism: scram-sha-256, user: a, password: '${secret.none}'}}
  in: {via: kafka, brokers: ['%s:9092']}
sources:
  levels: {via: kafka, with: {connection: in, topic: levels}, fields: {gauge: string, at: timestamp}, event_time: at, watermark: {margin: 1s}}
sinks:
  a: {from: levels, via: kafka, with: {connection: out, topic: x}}
  b: {from: levels, via: file, with: {path: /nowhere/b.ndjson}}
`
	files, err := disk.Within(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Env: noEnv, NeedEnv: true, Files: files}
	right := fmt.Sprintf(text, "harbour")
	_, err = Parse("aside.yaml", right, o)
	for _, want := range []string{"NO_BROKER is not set", "secrets are kept by a service", "no folder that the service may use"} {
		if !strings.Contains(message(err), want) {
			t.Errorf("before a run: %v, want %q", err, want)
		}
	}
	o.SinksAside = true
	if _, err := Parse("aside.yaml", right, o); err != nil {
		t.Errorf("with sinks aside: %v", err)
	}
	if _, err := Parse("aside.yaml", fmt.Sprintf(text, "${env.NO_HARBOUR}"), o); !strings.Contains(message(err), "NO_HARBOUR is not set") || strings.Contains(message(err), "NO_BROKER") {
		t.Errorf("what a source needs: %v", err)
	}
	o.Connections = map[string]*connect.Connection{"far": {Name: "far", Kind: connect.KindNamed("kafka"), Link: connect.KindNamed("kafka").Link(), Unready: Faults{{Message: "secret tide is not stored", Remedy: "store it"}}}}
	far := strings.Replace(right, "connection: out, topic", "connection: far, topic", 1)
	if _, err := Parse("aside.yaml", far, o); err != nil {
		t.Errorf("a sink's connection that is not ready: %v", err)
	}
	if _, err := Parse("aside.yaml", strings.Replace(right, "connection: in,", "connection: far,", 1), o); !strings.Contains(message(err), "connection far: secret tide is not stored; store it") {
		t.Errorf("a source's connection that is not ready: %v", err)
	}
}
