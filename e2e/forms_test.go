package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
)

const formsDocument = `undertide: 1
job: forms

# What comes from the cranes
sources:
  lifts:
    via: kafka
    with: {connection: port, topic: crane.lifts}
    fields:
      crane: string    # its number
      tonnes: double
      at: {type: timestamp, parse: epoch_ms}
    event_time: at
    watermark: {margin: 5s}

steps:
  minute:
    from: lifts
    key: [crane]
    window: {tumbling: 10m}   # short
    measures:
      lifts: count()      # how many
      load: sum(tonnes)

sinks:
  rates: {from: minute, via: kafka, with: {connection: port, topic: crane.rates, create: true}}
`

// TestMenus: all that the menus of Build add to a document is right as it begins, but for what only people can say: a reference
// that is not there yet, another input with the same fields. It can be taken out again.
func TestMenus(t *testing.T) {
	t.Parallel()
	p := tables(t)
	connections := map[string]*connect.Connection{}
	var listed []map[string]string
	for _, k := range connect.Kinds() {
		if k.Link != nil {
			connections["of_"+k.Name] = &connect.Connection{Name: "of_" + k.Name, Kind: k, Link: k.Link()}
			listed = append(listed, map[string]string{"name": "of_" + k.Name, "via": k.Name})
		}
	}
	connections["port"] = connections["of_kafka"]
	options := job.Options{Connections: connections, Env: func(string) (string, bool) { return "", false }}
	begun, err := job.Parse("forms.yaml", formsDocument, options)
	if err != nil {
		t.Fatal(err)
	}
	fields := map[string][]map[string]string{}
	for _, s := range job.PlanOf(begun).Sources {
		fields[s.Name] = fieldsOf(s.Fields)
	}
	for _, s := range job.PlanOf(begun).Steps {
		fields[s.Name] = fieldsOf(s.Fields)
	}
	given := func(v any) string {
		out, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	described := []map[string]string{{"name": "lifts", "about": "", "text": "  lifts:\n    via: kafka\n    with: {connection: port, topic: crane.lifts}\n    fields: {crane: string, at: timestamp}\n    event_time: at\n    watermark: {margin: 5s}\n"}}
	added := value[[]struct{ Menu, Kind, Text, Part, Without string }](p, fmt.Sprintf(`((text, kinds, fields, described, connections) => {
		const { add, splice } = tables
		tables.kinds.value = kinds
		return add.menus(described).flatMap((m) => m.kinds.map((k) => {
			const made = add.add(text, m.name, k.name, { fields: (n) => fields[n] ?? [], described, connections })
			const name = made.part.split(' ').at(-1), section = m.name + 's', only = splice.namesOf(text, section).length === 0
			return { menu: m.name, kind: k.name, text: made.text, part: made.part, without: splice.put(made.text, only ? [section] : [section, name], null) }
		}))
	})(%s, %s, %s, %s, %s)`, js(formsDocument), given(api.KindsOf()), given(fields), given(described), given(listed)))
	menus := map[string]int{}
	for _, a := range added {
		menus[a.Menu]++
		if a.Text == formsDocument || a.Part == "" {
			t.Errorf("%s %s adds nothing", a.Menu, a.Kind)
		}
		if _, err := job.Parse("forms.yaml", a.Text, options); err != nil && !strings.Contains(err.Error(), "no reference REFERENCE") && !strings.Contains(err.Error(), "no source or step OTHER") {
			t.Errorf("%s %s: %v\n%s", a.Menu, a.Kind, err, a.Text)
		}
		if strings.Join(strings.Fields(a.Without), " ") != strings.Join(strings.Fields(formsDocument), " ") {
			t.Errorf("%s %s, taken out again:\n%s", a.Menu, a.Kind, a.Without)
		}
	}
	for menu, least := range map[string]int{"source": 8, "reference": 3, "step": 16, "sink": 6, "value": 6, "function": 1, "alarm": 3} {
		if menus[menu] < least {
			t.Errorf("%d kinds of %s can be added, want %d at least", menus[menu], menu, least)
		}
	}
}

// fieldsOf takes a plan's fields apart.
func fieldsOf(list []string) (out []map[string]string) {
	for _, f := range list {
		name, typ, _ := strings.Cut(f, " ")
		out = append(out, map[string]string{"name": name, "type": typ})
	}
	return out
}

// TestForms writes documents by forms alone: a source's fields with the sample beside them, every kind of window, measures by
// choosing, values, functions, alarms and settings, and a described source.
func TestForms(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("connections", "add", "port", "--via", "kafka", "--brokers", broker)
	undertide(t, dir, "topics", "port", "--server", s.address, "--make", "crane.lifts", "--partitions", "1").want(t, 0)
	var lines []string
	begin := time.Now().Add(-10 * time.Minute).UnixMilli()
	for i := range 100 {
		lines = append(lines, fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d,"box":%d,"crew":{"driver":"Ane"}}`, i%4, 1+i%9, begin+int64(i)*1000, 400+i))
	}
	write(t, dir, "lifts.ndjson", strings.Join(lines, "\n")+"\n")
	undertide(t, dir, "send", "port", "crane.lifts", "lifts.ndjson", "--key", "crane", "--server", s.address).want(t, 0)
	s.must("save", write(t, dir, "forms.yaml", formsDocument))
	s.must("sources", "add", "lifts", "--from", dir+"/forms.yaml")
	p := browse(t, s.address+"/build?job=forms")
	p.shows("no mistakes")
	p.shows("nothing delivered")

	// The fields of a source: what the events have beside, with the first event of the sample as it is read now.
	p.choose("lifts")
	p.shows("not taken")
	p.shows("1.5")
	p.hit("keep box", `document.querySelector('[aria-label="keep box"]')`)
	p.holds("      at: {type: timestamp, parse: epoch_ms}\n      box: int\n    event_time")
	p.shows("400")
	p.pick("type of box", "string")
	p.holds("      box: string\n")
	p.pick("type of box", "decimal")
	p.fill("name of field crane", "hoist")
	p.holds("      hoist: {type: string, at: crane}    # its number\n")
	p.shows("mistake") // the key is of the old name
	p.choose("minute")
	p.fill("key", "hoist")
	p.choose("lifts")
	p.shows("no mistakes")
	p.fill("where box is taken from", "crew.driver")
	p.pick("type of box", "string")
	p.holds("      box: {type: string, at: crew.driver}\n")
	p.shows("Ane")
	p.fill("what tonnes is without a value", "0.0")
	p.holds("      tonnes: {type: double, default: 0.0}\n")
	p.fill("name of field at", "lifted_at")
	p.holds("      lifted_at: {type: timestamp, parse: epoch_ms, at: at}\n")
	p.holds("    event_time: lifted_at\n") // it goes with the name
	p.press("add field")
	p.holds("      field: string\n")
	p.hit("take field out", `document.querySelector('[aria-label="keep field"]')`)
	p.shows("no mistakes")

	// Every kind of window keeps the size of the one before.
	p.choose("minute")
	for _, w := range []struct{ kind, holds string }{
		{"sliding", "    window: {sliding: 10m, by: 5m}   # short\n"}, {"session", "    window: {session: 10m, longest: 12h}   # short\n"}, {"look back", "    window: {look_back: 10m}   # short\n"},
		{"the whole", "    key: [hoist]\n    measures:\n"}, {"tumbling", "    window: {tumbling: 1m}\n"},
	} {
		p.pick("window", w.kind)
		p.holds(w.holds)
		if w.kind == "the whole" {
			p.fill("forget a key after", "12h")
			p.shows("no mistakes")
			p.fill("forget a key after", "")
		} else {
			p.shows("no mistakes")
		}
	}
	p.fill("window of", "10m")

	// Measures by choosing; what is more than one call stays a text.
	p.press("add measure")
	p.pick("function of measure", "max")
	p.holds("      measure: max(tonnes)\n")
	p.fill("condition of measure", "tonnes < 9.0")
	p.fill("name of measure measure", "most_t")
	p.holds("      most_t: 'max(tonnes, tonnes < 9.0)'\n")
	p.pick("function of most_t", "quantile")
	p.fill("number of most_t", "0.5")
	p.holds("      most_t: 'quantile(tonnes, 0.5, tonnes < 9.0)'\n")
	p.pick("function of load", "count")
	p.holds("      load: count()\n")
	p.fill("condition of load", "tonnes > 3.0")
	p.holds("      load: 'count_if(tonnes > 3.0)'\n")
	p.shows("no mistakes")

	// Beside the map: a value stands for the span, a function in a measure, an alarm, and settings.
	p.press("value")
	p.press("span\na duration")
	p.holds("values:\n  span: {type: duration, default: 10m}\n")
	p.shows("value span")
	p.fill("default", "15m")
	p.choose("minute")
	p.fill("window of", "${values.span}")
	p.holds("    window: {tumbling: '${values.span}'}")
	p.shows("no mistakes")
	p.press("function")
	p.press("own\nan expression with a name, which others call")
	p.holds("functions:\n  own: {of: {x: double}, is: x * 1.0}\n")
	p.fill("is", "x * 1000.0")
	p.choose("minute")
	p.fill("condition of load", "own(tonnes) > 3000.0")
	p.shows("no mistakes")
	p.press("alarm")
	p.press("behind\nthe lag has been long for a while")
	p.fill("for", "2m")
	p.holds("alarms:\n  behind: {when: 'lag_seconds > 60', for: 2m, about: what waits to be read grows old}\n")
	p.press("settings")
	p.fill("lanes", "2")
	p.fill("checkpoint every", "5s")
	p.holds("settings: {lanes: 2, checkpoint: {every: 5s}}\n")
	p.shows("no mistakes")
	for _, comment := range []string{"# What comes from the cranes", "# its number", "# how many"} {
		if !strings.Contains(p.document(), comment) {
			t.Errorf("the forms lost the comment %q:\n%s", comment, p.document())
		}
	}

	// A described source is taken by its name, and written out by the save.
	p.press("source")
	p.press("lifts\na described source")
	p.holds("  lifts_2:\n    described: lifts\n    via: kafka\n")
	p.shows("no mistakes")
}
