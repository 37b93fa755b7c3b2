package e2e

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"
)

// mistakesJob is a sound document over a topic that a case spoils.
func mistakesJob(broker, topic string) string {
	return fmt.Sprintf(`undertide: 1
job: spoiled
settings: {delivery: at_least_once}
connections:
  port: {via: kafka, brokers: ["%s"]}
sources:
  lifts:
    via: kafka
    with: {connection: port, topic: %s}
    fields:
      crane: string
      tonnes: double
      at: {type: timestamp, parse: epoch_ms}
    event_time: at
    watermark: {margin: 5s}
steps:
  useful:
    from: lifts
    where: tonnes > 0.5
  minute:
    from: useful
    key: [crane]
    window: {tumbling: 1m}
    measures: {lifts: count()}
sinks:
  rates: {from: minute, via: kafka, with: {connection: port, topic: crane.rates, create: true}}
`, broker, topic)
}

// TestMistakes makes each mistake of docs/mistakes.md and wants the words that stand there.
func TestMistakes(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../docs/mistakes.md")
	if err != nil {
		t.Fatal(err)
	}
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	write(t, dir, "undertide.yaml", fmt.Sprintf("connections:\n  port: {via: kafka, brokers: [%q]}\n", broker))
	begin := time.Now().Add(-time.Hour).UnixMilli()
	fill := func(topic string, event func(i int, at int64) string) {
		t.Helper()
		undertide(t, dir, "topics", "port", "--make", topic, "--partitions", "1").want(t, 0)
		var lines []string
		for i := range 300 {
			lines = append(lines, event(i, begin+int64(i)*1000))
		}
		write(t, dir, topic+".txt", strings.Join(lines, "\n")+"\n")
		undertide(t, dir, "send", "port", topic, topic+".txt").want(t, 0, "sent 300 events")
	}
	lift := func(i int, at int64) string {
		return fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":%d}`, i%4, 1+i%9, at)
	}
	fill("crane.lifts", lift)
	fill("gauge.levels", func(i int, at int64) string {
		return fmt.Sprintf(`{"gauge":"G%d","level_m":1.5,"read_at":%d}`, i%4, at)
	})
	fill("null.keys", func(i int, at int64) string {
		if i%2 == 0 {
			return fmt.Sprintf(`{"tonnes":2.5,"at":%d}`, at)
		}
		return lift(i, at)
	})
	fill("prices", func(i int, at int64) string {
		return fmt.Sprintf(`{"crane":"C%d","tonnes":2.5,"price":1.2345678901234567%d,"sent_at":%d,"at":%d}`, i%4, i%10, at, at)
	})
	fill("seconds", func(i int, at int64) string { return lift(i, at/1000) })
	fill("gate.log", func(i int, at int64) string {
		return fmt.Sprintf("%s gate %d", time.UnixMilli(at).UTC().Format(time.DateTime), i)
	})
	fill("one.key", func(i int, at int64) string { return lift(i*min(1, i%10/9)+(1-min(1, i%10/9))*3, at) })
	fill("future", func(i int, at int64) string { return lift(i, at+int64(i/299)*7200_000) })
	fill("late", func(i int, at int64) string { return lift(i, at-int64(i%20/19)*9000) })
	undertide(t, dir, "topics", "port", "--make", "empty", "--partitions", "1").want(t, 0)

	rehearse := func(topic string, changes ...string) outcome {
		t.Helper()
		text := mistakesJob(broker, topic)
		for i := 0; i+1 < len(changes); i += 2 {
			if !strings.Contains(text, changes[i]) {
				t.Fatalf("the document has no %q", changes[i])
			}
			text = strings.Replace(text, changes[i], changes[i+1], 1)
		}
		return undertide(t, dir, "rehearse", write(t, dir, "spoiled.yaml", text))
	}
	var service *serving
	inService := func(text string, args ...string) outcome {
		t.Helper()
		if service == nil {
			service = serve(t, dir)
		}
		service.must("save", write(t, dir, "spoiled.yaml", text))
		return undertide(t, dir, append(args, "--server", service.address)...)
	}
	for _, c := range []struct {
		name string
		make func() outcome
		says []string
	}{
		{"silent", func() outcome {
			p := launch(t, dir, "peek", "--connection", "port", "--topic", "crane.lifts", "--follow")
			p.says(t, `(look at them with --oldest or --newest)`)
			return outcome{err: p.text()}
		}, []string{"nothing new for 3 s; the oldest are from ", ": look at them with --oldest or --newest"}},
		{"empty", func() outcome { return undertide(t, dir, "peek", "--connection", "port", "--topic", "empty") }, []string{"is empty: nothing was ever sent to it"}},
		{"mistyped", func() outcome { return rehearse("crane.lift") }, []string{"did you mean crane.lifts?"}},
		{"another topic", func() outcome { return rehearse("gauge.levels") }, []string{"This is another stream than the document describes"}},
		{"field mistyped", func() outcome { return rehearse("crane.lifts", "tonnes: double", "tonnes: {type: double, at: tones}") }, []string{"no event has the field tones: it is null in every row; did you mean tonnes?"}},
		{"null keys", func() outcome { return rehearse("null.keys") }, []string{"rows have no key (crane is null) and become rejects: they count in no window; key by a field that always has a value"}},
		{"decimals", func() outcome { return rehearse("prices", "tonnes: double", "tonnes: double\n      price: double") }, []string{"holds numbers that a double does not keep exactly", "declare price: decimal"}},
		{"raw epochs", func() outcome { return rehearse("prices", "tonnes: double", "tonnes: double\n      sent_at: int") }, []string{"its values are times in epoch ms; declare sent_at: {type: timestamp, parse: epoch_ms}"}},
		{"seconds", func() outcome { return rehearse("seconds") }, []string{"the unit of the event time is mistaken; seconds were perhaps read as milliseconds: say parse: epoch_s"}},
		{"milliseconds", func() outcome { return rehearse("crane.lifts", "parse: epoch_ms", "parse: epoch_s") }, []string{"the unit of parse is another"}},
		{"raw lines", func() outcome {
			return rehearse("gate.log", "    fields:", `    decode: text
    pattern: '^(?P<crane>C\d) (?P<tonnes>\d+) (?P<at>\d+)$'
    fields:`)
		}, []string{"the line does not match the pattern"}},
		{"slow preview", func() outcome { return rehearse("crane.lifts") }, []string{"rehearsed in 0.", " s; nothing was delivered"}},
		{"all filtered", func() outcome { return rehearse("crane.lifts", "tonnes > 0.5", "tonnes > 500.0") }, []string{"the filter drops all 300 rows: tonnes > 500.0 is false"}},
		{"short sample", func() outcome { return rehearse("crane.lifts", "tumbling: 1m", "tumbling: 1h") }, []string{"less than a window of 1h: its rows appear only because the sample ends"}},
		{"one key", func() outcome { return rehearse("one.key") }, []string{"C3 has 9"}},
		{"future", func() outcome { return rehearse("future", "margin: 5s", "margin: 5s, ahead: none") }, []string{"lie in the future"}},
		{"no target", func() outcome {
			return inService(strings.Replace(mistakesJob(broker, "crane.lifts"), ", create: true", "", 1), "start", "spoiled")
		}, []string{"has no topic crane.rates; ", "; or say create: true beside topic"}},
		{"mixed up", func() outcome {
			return undertide(t, dir, "check", write(t, dir, "spoiled.yaml", strings.Replace(mistakesJob(broker, "crane.lifts"), "topic: crane.rates", "topic: crane.lifts", 1)))
		}, []string{"the sink writes topic crane.lifts, which source lifts reads: the job would read its own rows"}},
		{"state", func() outcome {
			inService(mistakesJob(broker, "crane.lifts"), "start", "spoiled").want(t, 0)
			service.must("stop", "spoiled")
			return inService(strings.Replace(mistakesJob(broker, "crane.lifts"), "tumbling: 1m", "tumbling: 2m", 1), "start", "spoiled")
		}, []string{"does not fit this version; see undertide start"}},
		{"margin", func() outcome { return rehearse("late") }, []string{"come later than the margin of 5s; see lateness; 10s would leave fewer than one in a thousand"}},
		{"password", func() outcome {
			return undertide(t, dir, "check", write(t, dir, "spoiled.yaml", strings.Replace(mistakesJob(broker, "crane.lifts"), `"]}`, `"], sasl: {mechanism: plain, user: tide, password: ebb-and-flow}}`, 1)))
		}, []string{"a password stands in the clear; write ${secret.NAME}"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			line := regexp.MustCompile(`(?m)^\|.*\| TestMistakes/` + c.name + ` \|$`).Find(page)
			if line == nil {
				t.Fatal("docs/mistakes.md has no line with this name")
			}
			o := c.make()
			rest, words := strings.ReplaceAll(o.err+o.out, "\n", " "), string(line)
			for _, want := range c.says {
				at := strings.Index(rest, want)
				if at < 0 {
					t.Fatalf("what is said lacks %q: status %d\n%s", want, o.status, o.err)
				}
				rest = rest[at:]
				for _, part := range strings.Fields(want)[:2] {
					if !strings.Contains(words, strings.Trim(part, ";:")) && !strings.HasPrefix(want, "C3") {
						t.Errorf("docs/mistakes.md does not say %q: %s", part, words)
					}
				}
			}
			if strings.Contains(o.err, "ebb-and-flow") {
				t.Errorf("the password is shown: %s", o.err)
			}
		})
	}
	if n := strings.Count(string(page), "| TestMistakes/"); n != 21 {
		t.Errorf("docs/mistakes.md has %d lines, and 21 are tested", n)
	}
}
