package job

import (
	"strings"
	"testing"
	"time"

	"undertide/core/step"
)

const shared = `undertide: 1
job: shared
values:
  span: {type: duration, default: 10m}
  month: {type: string, default: 1 month}
  accept: {type: duration, default: 1m}
  lanes: {type: int, default: 2}
  room: {type: size, default: 64MiB}
  folder: {type: path, default: lifts.ndjson}
  rates: {type: topic, default: crane.rates}
  heavy: {type: double, default: 20.0}
functions:
  heavier: {of: {t: double}, is: kilos(t) > kilos(values.heavy)}
  kilos: {of: {t: double}, is: t * 1000.0}
settings: {lanes: "${values.lanes}", memory: "${values.room}"}
connections:
  harbour: {via: kafka, brokers: ['127.0.0.1:9092']}
sources:
  lifts:
    via: file
    with: {path: "${values.folder}"}
    fields: {crane: string, tonnes: double, at: timestamp}
    event_time: at
    watermark: {margin: 5s}
steps:
  rate:
    from: lifts
    key: [crane]
    window:
      tumbling: ${values.span}
    measures: {heavy: "count_if(heavier(tonnes))", kg: "sum(kilos(tonnes))"}
    late: {accept: "${values.accept}"}
  monthly:
    from: lifts
    window:
      tumbling: ${values.month}
    measures: {kg: sum(kilos(tonnes))}
  other: {from: lifts, key: [crane], window: {tumbling: 1h}, measures: {n: count()}}
sinks:
  out: {from: rate, via: kafka, with: {connection: harbour, topic: "${values.rates}"}, append_revisions: true}
`

// TestValuesInTexts: values stand in durations, whole numbers, sizes, paths and topics, and functions in expressions; a
// start sets others. What is told apart by them is another part to go on with, and the rest is the same.
func TestValuesInTexts(t *testing.T) {
	read := func(set map[string]string, change ...string) *Job {
		t.Helper()
		j, err := Parse("shared.yaml", strings.NewReplacer(change...).Replace(shared), Options{Set: set})
		if err != nil {
			t.Fatal(err)
		}
		return j
	}
	checkSchema(t, compileSchema(t), "shared", shared)
	was := read(nil)
	window := func(j *Job, at int) *step.Window { return j.Steps[at].Keyed.(*step.Window) }
	if w := window(was, 0); was.Lanes != 2 || was.Memory != 64<<20 || w.Aligned.Size != int64(10*time.Minute/time.Microsecond) || w.Accept != time.Minute {
		t.Errorf("%d lanes, %d bytes, a window of %d that accepts %d", was.Lanes, was.Memory, w.Aligned.Size, w.Accept)
	}
	if text := PlanOf(was).Text(); !strings.Contains(text, "crane.rates") || !strings.Contains(text, "lifts.ndjson") || !strings.Contains(text, "tumbling window of 1 month") {
		t.Errorf("the plan does not have the values:\n%s", text)
	}
	if w := window(read(map[string]string{"span": "1h"}), 0); w.Aligned.Size != int64(time.Hour/time.Microsecond) {
		t.Errorf("--set span=1h gives a window of %d", w.Aligned.Size)
	}
	for what, c := range map[string]struct {
		now     *Job
		changed []string
	}{
		"the span":                                {read(map[string]string{"span": "1h"}), []string{"step rate"}},
		"the folder":                              {read(map[string]string{"folder": "more.ndjson"}), []string{"source lifts"}},
		"the topic":                               {read(map[string]string{"rates": "crane.other"}), []string{"sink out"}},
		"a value that only a function names":      {read(map[string]string{"heavy": "30"}), []string{"measure rate.heavy"}},
		"a function that another calls":           {read(nil, "t * 1000.0", "t * 1001.0"), []string{"measure rate.heavy", "measure rate.kg", "measure monthly.kg"}},
		"a function that no other is changed by":  {read(nil, "kilos(t) > ", "kilos(t) >= "), []string{"measure rate.heavy"}},
		"how much memory, which keeps everything": {read(map[string]string{"room": "1GiB", "lanes": "1"}), nil},
	} {
		if c.now.Digest == was.Digest {
			t.Errorf("%s: the same document by its digest", what)
		}
		changed := map[string]bool{}
		for _, name := range c.changed {
			changed[name] = true
		}
		for name, is := range c.now.Pieces {
			if (is != was.Pieces[name]) != changed[name] {
				t.Errorf("%s: %s changed: %v", what, name, is != was.Pieces[name])
			}
		}
	}
	types := map[string]string{}
	for _, v := range was.ValueList() {
		types[v.Name] = v.Type + " " + v.Default
	}
	if types["room"] != "size 64MiB" || types["rates"] != "topic crane.rates" || types["folder"] != "path lifts.ndjson" || types["span"] != "duration 10m" {
		t.Errorf("values: %v", types)
	}
}

// TestOneWrongValue: a value that is none of its type is one mistake, not one more for each place that it stands in.
func TestOneWrongValue(t *testing.T) {
	_, err := Parse("shared.yaml", shared, Options{Set: map[string]string{"span": "ten", "room": "much", "rates": "a b", "heavy": "much"}})
	if err == nil || strings.Count(err.Error(), "\n") != 3 || !strings.Contains(err.Error(), `"ten" is not a duration`) {
		t.Errorf("four wrong values give:\n%v", err)
	}
}

// TestValuesRefused: a value of another type, one that is not there, and functions that cannot be.
func TestValuesRefused(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"tumbling: ${values.span}", "tumbling: ${values.heavy}", "values.heavy is a double, and a duration belongs here; give the value the type duration"},
		{"tumbling: ${values.span}", "tumbling: ${values.spam}", "the document has no value spam; did you mean span?"},
		{"tumbling: ${values.span}", "tumbling: ${span}", "${span} means nothing here; write ${values.NAME} or ${env.NAME}"},
		{"duration, default: 10m}", "duration}", "the value span has no default, and this cannot be checked without it"},
		{"duration, default: 10m}", "duration, default: 10}", `"10" has no unit`},
		{"size, default: 64MiB", "size, default: 64", `64`},
		{"topic, default: crane.rates", "topic, default: crane rates", `"crane rates" is not the name of a topic; write it without spaces`},
		{"topic, default: crane.rates", "duration, default: 1m", "values.rates is a duration, and a topic belongs here; give the value the type topic or string"},
		{"path, default: lifts.ndjson", "size, default: 1MiB", "values.folder is a size, and a path belongs here"},
		{"lanes: {type: int, default: 2}", "lanes: {type: string, default: '2'}", "values.lanes is a string, and a whole number belongs here"},
		{"room: {type: size", "room: {type: bytes", "values.room is bytes, and a size belongs here"},
		{"type: topic", "type: topik", "topik is not a type; did you mean topic?"},
		{"count_if(heavier(tonnes))", "count_if(tonnes > ${values.heavy})", "an expression names values as they are; write values.NAME, without ${ }"},
		{"is: t * 1000.0", "is: tonnes * 1000.0", "functions.kilos.is: unknown name tonnes"},
		{"is: t * 1000.0", "was: t", "unknown field was; known here: of, is"},
		{"{of: {t: double}, is: t * 1000.0}", "{of: {t: double}}", "it is not said what the function is"},
		{"is: t * 1000.0", "is: heavier(t)", "heavier calls itself, by way of heavier, kilos; a function may call those that do not call it"},
		{"  kilos:", "  abs:", "abs is a function of the language already"},
		{"sum(kilos(tonnes))\"", "sum(kilo(tonnes))\"", "unknown function kilo; did you mean kilos?"},
		{"sum(kilos(tonnes))\"", "sum(kilos(crane))\"", "kilos does not take string; kilos takes double"},
	} {
		text := strings.Replace(shared, c.old, c.new, 1)
		if text == shared {
			t.Fatalf("%q does not stand in the document", c.old)
		}
		_, err := Parse("shared.yaml", text, Options{})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s for %s:\n%v\nwant: %s", c.new, c.old, err, c.want)
		}
	}
}
