package try

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undertide/connect"
	"undertide/job"
	"undertide/look"
)

// TestSampleFile: the oldest and the newest events of files, of several partitions together, with the
// header of CSV.
func TestSampleFile(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, from, to int, head string) {
		var b strings.Builder
		b.WriteString(head)
		for i := from; i < to; i++ {
			fmt.Fprintf(&b, "%d,%d\n", i, i*10)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("a.csv", 0, 5000, "id,tonnes\n")
	write("b.txt", 0, 3, "")
	write("c.txt", 10, 90, "")
	write("none.txt", 0, 0, "")
	for _, c := range []struct {
		name, pattern, decode string
		o                     connect.Sampling
		want                  string
	}{
		{"oldest of CSV", "a.csv", "csv", connect.Sampling{Rows: 3, From: connect.Oldest}, "0,0 1,10 2,20"},
		{"newest of CSV", "a.csv", "csv", connect.Sampling{Rows: 3}, "4997,49970 4998,49980 4999,49990"},
		{"fewer than asked for", "b.txt", "text", connect.Sampling{Rows: 100}, "0,0 1,10 2,20"},
		{"several files", "[bc].txt", "text", connect.Sampling{Rows: 4}, "1,10 2,20 88,880 89,890"},
		{"an empty file", "none.txt", "text", connect.Sampling{Rows: 1000}, ""},
	} {
		s, err := connect.AtPath(filepath.Join(dir, c.pattern)).Sample(context.Background(), connect.Opening{Format: connect.FormatNamed(c.decode)}, c.o)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		var got []string
		for _, e := range s.Events {
			got = append(got, string(e.Text))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %v, want %s", c.name, got, c.want)
		}
		if c.decode == "csv" && !strings.Contains(s.Header, "id,tonnes") {
			t.Errorf("%s: the header is %q", c.name, s.Header)
		}
	}
	if _, err := connect.AtPath(filepath.Join(dir, "*.ndjson")).Sample(context.Background(), connect.Opening{Format: connect.FormatNamed("json")}, connect.Sampling{}); err == nil || !strings.Contains(err.Error(), "no file matches") {
		t.Errorf("a pattern of nothing: %v", err)
	}
	s, err := connect.AtPath(filepath.Join(dir, "a.csv")).Sample(context.Background(), connect.Opening{Format: connect.FormatNamed("csv")}, connect.Sampling{Rows: 50})
	if err != nil {
		t.Fatal(err)
	}
	_, inf, err := look.Infer(s)
	if err != nil || len(inf.Fields) != 2 || inf.Fields[1].Name != "tonnes" || inf.Fields[1].Type != "int" {
		t.Errorf("inferred of CSV: %+v, %v", inf.Fields, err)
	}
}

// TestDecodeSample: a document's source decodes a sample's events one by one, with what the broker knew of
// them, and says why one is a reject; sources are found by name.
func TestDecodeSample(t *testing.T) {
	j, err := job.Parse("job.yaml", `undertide: 1
job: lifts
settings: {delivery: at_least_once}
connections: {port: {via: kafka, brokers: ["127.0.0.1:1"]}}
sources:
  lifts:
    via: kafka
    with: {connection: port, topic: lifts}
    fields: {crane: string, tonnes: double, at: {type: timestamp, parse: epoch_s}}
    event_time: at
    watermark: {margin: 5s}
steps:
  known: {from: lifts, where: meta.key == crane && meta.headers.trace != ''}
  minute: {from: known, key: [crane], window: {sliding: 2m, by: 1m}, measures: {n: count()}, late: {accept: 30s}}
sinks:
  out: {from: minute, via: file, with: {path: /dev/null}, append_revisions: true}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	src, err := j.SourceNamed("")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := j.SourceNamed("lift"); !errors.Is(err, job.ErrNoSource) || !strings.Contains(err.Error(), "did you mean lifts?") {
		t.Errorf("a source that is not there: %v", err)
	}
	sample := connect.Sample{Events: []connect.Event{
		{Partition: "0", Key: []byte("C1"), Headers: []connect.Header{{Name: "trace", Value: "x"}}, Text: []byte(`{"crane":"C1","tonnes":2,"at":600}`)},
		{Partition: "0", Offset: 1, Text: []byte(`{"crane":"C1","tonnes":"two","at":600}`)},
		{Partition: "0", Offset: 2, Text: []byte(`{"crane":"C1","tonnes":2}`)},
		{Partition: "0", Offset: 3, Text: []byte(`{"crane":"C1","tonnes":2,"at":480}`)},
		{Partition: "0", Offset: 4, Text: []byte(`{"crane":"C1","tonnes":2,"at":420}`)},
	}}
	got := Decode(src, sample)
	if string(got[0].Row) != `{"crane":"C1","tonnes":2,"at":"1970-01-01T00:10:00Z"}` || got[0].Time == nil || *got[0].Time != "1970-01-01T00:10:00Z" {
		t.Errorf("a row: %s at %v", got[0].Row, got[0].Time)
	}
	if !strings.HasPrefix(got[1].Reason, "wrong type: ") || got[1].Row != nil {
		t.Errorf("a reject: %+v", got[1])
	}
	if got[2].Reason != "no event time: at is null" {
		t.Errorf("without a time: %+v", got[2])
	}
	// With a margin of 5 s the watermark stands at 595 s. The windows over 480 s end at 540 and 600 s: one
	// takes it; those over 420 s end at 480 and 540 s, and are kept for 30 s more: it is lost.
	for _, m := range LatenessIn(j, src, sample).Margins {
		if m.Current && (m.Late != 2 || *m.Lost != 1 || m.Margin != 5) {
			t.Errorf("the margin in use: %+v, want 2 late and 1 lost", m)
		}
	}
}
