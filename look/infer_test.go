package look

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/connect"
	_ "undertide/connect/all"
	"undertide/connect/kafka"
	"undertide/job"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// events makes a sample of texts, stored a second apart.
func events(n int, text func(i int) string) []connect.Event {
	out := make([]connect.Event, n)
	for i := range out {
		out[i] = connect.Event{Partition: "0", Offset: int64(i), Stored: noon.Add(time.Duration(i) * time.Second), Text: []byte(text(i))}
	}
	return out
}

// TestInfer: each case gives events, and the declaration and doubt that must come of field x.
func TestInfer(t *testing.T) {
	at := func(i int) time.Time { return noon.Add(time.Duration(i)*time.Second - 300*time.Millisecond) }
	for _, c := range []struct {
		name, want, doubt string
		value             func(i int) string
	}{
		{"whole numbers", "int", "", func(i int) string { return fmt.Sprint(i) }},
		{"whole numbers, few", "int", "only 12 values", func(i int) string { return fmt.Sprint(i) }},
		{"fractions", "double", "", func(i int) string { return fmt.Sprintf("%d.5", i) }},
		{"fractions and whole numbers", "double", "", func(i int) string { return []string{"1", "2.5"}[i%2] }},
		{"more digits than a double keeps", "decimal", "a double would change the last", func(i int) string { return fmt.Sprintf("0.12345678901234567%d", i%10) }},
		{"whole numbers beyond an int", "decimal", "too long for an int", func(i int) string { return fmt.Sprintf("1234567890123456789%d", 1+i%9) }},
		{"numbers in quotes", "decimal", "stand in quotes", func(i int) string { return fmt.Sprintf(`"%d.10"`, i) }},
		{"whole numbers in quotes", "string", "declare int to count", func(i int) string { return fmt.Sprintf(`"%d"`, i) }},
		{"texts", "string", "", func(i int) string { return `"G01"` }},
		{"truth", "bool", "", func(i int) string { return "true" }},
		{"lists", "list<string>", "", func(i int) string { return `["a","b"]` }},
		{"lists of numbers", "list<double>", "", func(i int) string { return `[1,2.5]` }},
		{"several types", "int", "several types", func(i int) string { return []string{"1", "2", `"x"`}[i%3] }},
		{"nulls", "int", "no value in 20 of 40", func(i int) string { return []string{"1", "null"}[i%2] }},
		{"always null", "string", "null in every event", func(i int) string { return "null" }},
		{"epoch seconds", "timestamp epoch_s", "taken for a time since", func(i int) string { return fmt.Sprint(at(i).Unix()) }},
		{"epoch milliseconds", "timestamp epoch_ms", "", func(i int) string { return fmt.Sprint(at(i).UnixMilli()) }},
		{"epoch microseconds", "timestamp epoch_us", "", func(i int) string { return fmt.Sprint(at(i).UnixMicro()) }},
		{"epoch nanoseconds", "timestamp epoch_ns", "", func(i int) string { return fmt.Sprint(at(i).UnixNano()) }},
		{"numbers that only look like seconds", "int", "", func(i int) string { return fmt.Sprint(1_000_000_000 + i*7_000_000) }},
		{"RFC 3339", "timestamp rfc3339", "", func(i int) string { return `"` + at(i).Format(time.RFC3339Nano) + `"` }},
		{"a pattern without zone", "timestamp %Y-%m-%d %H:%M:%S", "tells no zone", func(i int) string { return `"` + at(i).Format(time.DateTime) + `"` }},
		{"a pattern of another zone", "timestamp %Y-%m-%d %H:%M:%S", "another zone?", func(i int) string { return `"` + at(i).Add(2*time.Hour).Format(time.DateTime) + `"` }},
		{"days and months", "timestamp %d/%m/%Y %H:%M:%S", "both ways", func(i int) string { return `"` + at(i).Format("02/01/2006 15:04:05") + `"` }},
	} {
		t.Run(c.name, func(t *testing.T) {
			n := 40
			if strings.HasSuffix(c.name, "few") {
				n = 12
			}
			_, inf, err := Infer(connect.Sample{Events: events(n, func(i int) string { return `{"x":` + c.value(i) + `,"k":"a"}` })})
			if err != nil {
				t.Fatal(err)
			}
			f := inf.Fields[0]
			if got := strings.TrimSpace(f.Type + " " + f.Parse); got != c.want {
				t.Errorf("declared as %s, want %s (%v)", got, c.want, f.Doubts)
			}
			if doubts := strings.Join(f.Doubts, "; "); !strings.Contains(doubts, c.doubt) || c.doubt == "" && strings.Contains(doubts, "type") {
				t.Errorf("doubts %q, want %q", doubts, c.doubt)
			}
		})
	}
}

// TestInferWhole: what a sample as a whole tells: keys, event time, margin, malformed events.
func TestInferWhole(t *testing.T) {
	all := events(400, func(i int) string {
		read := noon.Add(time.Duration(i) * time.Second)
		if i%40 == 7 {
			read = read.Add(-9 * time.Second)
		}
		if i == 3 {
			return "not JSON"
		}
		return fmt.Sprintf(`{"crane":"C%d","crew":{"driver":"Bo"},"in":1,"tonnes":%d.5,"made_at":"2020-01-01T00:00:00Z","lifted_at":%d}`, i%5, i, read.UnixMilli())
	})
	for i := range all {
		if i%4 > 0 {
			all[i].Key = fmt.Appendf(nil, "C%d", i%5)
		}
	}
	p, inf, err := Infer(connect.Sample{Events: all})
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range inf.Fields {
		names = append(names, f.Name+"<"+f.At)
	}
	if want := []string{"crane<", "driver<crew.driver", "f_in<in", "tonnes<", "made_at<", "lifted_at<"}; !slices.Equal(names, want) {
		t.Errorf("fields %v, want %v", names, want)
	}
	if inf.EventTime != "lifted_at" || inf.Key != "crane" || p.Malformed != 1 || p.Key.Null != 100 {
		t.Errorf("event time %s, key %s, %d malformed, %d null keys; want lifted_at, crane, 1, 100", inf.EventTime, inf.Key, p.Malformed, p.Key.Null)
	}
	if l := inf.Lateness; l.OutOfOrder != 10 || l.Most != 8 || l.Proposed != 10 {
		t.Errorf("lateness: %d out of order, most %g s, proposed %g s; want 10, 8 and 10", l.OutOfOrder, l.Most, l.Proposed)
	}
	text := strings.Join(inf.Doubts, "\n")
	for _, want := range []string{"1 of 400 events do not read", "several fields hold times: lifted_at was taken", "100 of 400 messages have no key"} {
		if !strings.Contains(text, want) {
			t.Errorf("doubts\n%s\nlack %q", text, want)
		}
	}
	d, err := inf.Decoded(all[0])
	if err != nil || fmt.Sprint(d[len(d)-1]) != "{lifted_at 2026-03-01T12:00:00Z}" {
		t.Errorf("decoded %v, %v", d, err)
	}
	if _, _, err := Infer(connect.Sample{}); !errors.Is(err, ErrNothing) {
		t.Errorf("of nothing: %v, want ErrNothing", err)
	}
}

// TestPattern: lines of text are taken apart, and every line of the sample matches.
func TestPattern(t *testing.T) {
	for _, c := range []struct {
		name, groups string
		line         func(i int) string
	}{
		{"a gate", "at word_2 word_3 code ms", func(i int) string {
			return fmt.Sprintf("%s %s SM-%d %d %d ms", noon.Add(time.Duration(i)*time.Second).Format("02/01/2006 15:04:05"), []string{"north", "south"}[i%2], 4000+i, []int{200, 403}[i%2], 100+i)
		}},
		{"names and values", "at level gate n", func(i int) string {
			return fmt.Sprintf("%s level=%s gate=%d n=%d.5", noon.Add(time.Duration(i)*time.Second).Format(time.RFC3339), []string{"info", "warn"}[i%2], i, i)
		}},
		{"brackets and quotes", "at word_4 text_5 code", func(i int) string {
			return fmt.Sprintf(`[%s] host%d "GET /%d" %d`, noon.Add(time.Duration(i)*time.Second).Format("02/Jan/2006:15:04:05 +0000"), i, i, 200+i%3)
		}},
		{"lines of different length", "x rest_of_line", func(i int) string { return strings.Repeat(fmt.Sprint(i)+" x ", 1+i%7) }},
		{"one word", "word_1", func(i int) string { return fmt.Sprintf("w%d", i) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			all := events(50, c.line)
			p, inf, err := Infer(connect.Sample{Events: all})
			if err != nil || inf.Decode != "text" {
				t.Fatalf("%v, decode %s", err, inf.Decode)
			}
			var names []string
			for _, f := range inf.Fields {
				names = append(names, f.Name)
			}
			if got := strings.Join(names, " "); got != c.groups || p.Malformed != 0 {
				t.Errorf("groups %q, want %q; %d of the lines do not match %s", got, c.groups, p.Malformed, inf.Settings["pattern"])
			}
		})
	}
}

// topic says how a document over a topic begins.
func topic(name string) connect.Origin {
	k := kafka.Kind
	s, err := k.AtStream(&connect.Connection{Name: "harbour", Kind: k}, name)
	if err != nil {
		panic(err) // the names of tests are right
	}
	return s.(connect.Beginning).Document()
}

// TestBegin: the document of each purpose over each kind of sample reads without faults, and its
// comments hold the doubts.
func TestBegin(t *testing.T) {
	samples := map[string][]connect.Event{
		"json": events(100, func(i int) string {
			return fmt.Sprintf(`{"vessel":"V%d","knots":%d.5,"of":"x","sent_at":%q}`, i%4, i, noon.Add(time.Duration(i)*time.Second).Format(time.RFC3339))
		}),
		"money": events(100, func(i int) string { return fmt.Sprintf(`{"box":%d,"price":%d.25}`, i, i) }),
		"text":  events(100, func(i int) string { return fmt.Sprintf("%s it's 'gate' %d", noon.Format(time.RFC3339), i) }),
		"one":   events(1, func(int) string { return `{"a":{"b":[{"c":1}]},"d":true}` }),
	}
	connections := map[string]*connect.Connection{"harbour": {Name: "harbour", Kind: kafka.Kind, Link: kafka.LinkTo("127.0.0.1:1")}}
	for name, sample := range samples {
		_, inf, err := Infer(connect.Sample{Events: sample})
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range Purposes {
			for _, o := range []connect.Origin{topic("port." + name), connect.AtPath("/var/data/9-late of.ndjson").(connect.Beginning).Document()} {
				text, err := Begin(p.Name, o, inf)
				if err != nil {
					t.Fatal(err)
				}
				j, err := job.Parse("begun.yaml", text, job.Options{Connections: connections})
				if err != nil {
					t.Errorf("%s of %s: %v\n%s", p.Name, name, err, text)
					continue
				}
				for _, w := range j.Warnings {
					if !strings.Contains(w.Message, "double, which is not exact") {
						t.Errorf("%s of %s warns: %v", p.Name, name, w)
					}
				}
				for line := range strings.Lines(text) {
					if strings.HasPrefix(strings.TrimSpace(line), "#") && len(line) > commentWidth+1 {
						t.Errorf("%s of %s has a comment of %d signs: %s", p.Name, name, len(line), line)
					}
				}
				whole := strings.Join(strings.Fields(strings.ReplaceAll(text, "#", "")), " ") // comments are broken into lines
				for _, d := range inf.Doubts {
					if !strings.Contains(whole, strings.Join(strings.Fields(d), " ")) {
						t.Errorf("%s of %s does not say: %s", p.Name, name, d)
					}
				}
			}
		}
	}
	if _, err := Begin("nothing", topic("x"), Inference{}); err == nil || !strings.Contains(err.Error(), "per-minute") {
		t.Errorf("an unknown purpose: %v, want the known ones", err)
	}
}

// FuzzInfer: whatever the events hold, a document comes of it that reads, or none.
func FuzzInfer(f *testing.F) {
	f.Add(`{"a":1}`, `{"a":"x","b":{"c":[1,"y"]}}`)
	f.Add("12/03/2026 10:00:00 x=1", "[] \"a b\" 17 ms")
	f.Add(`{"true":1,"a.b":2,"":3}`, `{"a":{"b":4}}`)
	f.Fuzz(func(t *testing.T, a, b string) {
		p, inf, err := Infer(connect.Sample{Events: events(6, func(i int) string { return []string{a, b}[i%2] })})
		if err != nil {
			return
		}
		if p.Events != 6 || len(inf.Fields) == 0 {
			return
		}
		text, err := Begin("clean", topic("t"), inf)
		if err != nil {
			t.Fatal(err)
		}
		connections := map[string]*connect.Connection{"harbour": {Name: "harbour", Kind: kafka.Kind, Link: kafka.LinkTo("127.0.0.1:1")}}
		if _, err := job.Parse("begun.yaml", text, job.Options{Connections: connections}); err != nil {
			t.Errorf("%v\n%s", err, text)
		}
	})
}
