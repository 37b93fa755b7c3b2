package all

import (
	"context"
	"io"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"undertide/connect"
	"undertide/connect/file"
	"undertide/connect/journal"
	"undertide/connect/kafka"
	"undertide/connect/postgres"
	"undertide/connect/settings"
	"undertide/connect/simulate"
	"undertide/core/engine"
	"undertide/core/row"
)

// abilities are the named interfaces of what only some can do.
var abilities = map[string]reflect.Type{
	"Streaming": reflect.TypeFor[connect.Streaming](), "Making": reflect.TypeFor[connect.Making](), "Follower": reflect.TypeFor[connect.Follower](), "Knowing": reflect.TypeFor[connect.Knowing](),
	"Storing": reflect.TypeFor[connect.Storing](), "Ended": reflect.TypeFor[connect.Ended](), "Beginning": reflect.TypeFor[connect.Beginning](), "Forgetting": reflect.TypeFor[connect.Forgetting](), "Sole": reflect.TypeFor[connect.Sole](), "Replacing": reflect.TypeFor[connect.Replacing](), "Readable": reflect.TypeFor[connect.Readable](), "Fitting": reflect.TypeFor[connect.Fitting](),
	"Schematic": reflect.TypeFor[connect.Schematic](), "Lister": reflect.TypeFor[connect.Lister](), "Maker": reflect.TypeFor[connect.Maker](), "Opener": reflect.TypeFor[connect.Opener](),
	"Flusher": reflect.TypeFor[engine.Flusher](), "Prober": reflect.TypeFor[engine.Prober](), "Recoverer": reflect.TypeFor[engine.Recoverer](),
	"Interrupter": reflect.TypeFor[engine.Interrupter](), "Knower": reflect.TypeFor[engine.Knower](), "Retrier": reflect.TypeFor[engine.Retrier](), "Refuser": reflect.TypeFor[engine.Refuser](), "Troubled": reflect.TypeFor[engine.Troubled](),
	"Starter": reflect.TypeFor[engine.Starter](), "Quieter": reflect.TypeFor[engine.Quieter](), "Acknowledger": reflect.TypeFor[engine.Acknowledger](), "Lagger": reflect.TypeFor[engine.Lagger](),
}

func abilitiesOf(v any) string {
	var out []string
	for name, t := range abilities {
		if reflect.TypeOf(v).Implements(t) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// TestAbilities lists what each kind can do beside what all can, so that no wrapper and no new name of a method drops
// one of them unseen.
func TestAbilities(t *testing.T) {
	sink := func(path string) engine.Sink {
		s := connect.ToPath(path)
		out, err := s.Open(context.Background(), connect.Opening{Name: "out", Format: connect.DefaultFormat(), Stdout: func() (io.Writer, *connect.Format, error) { return io.Discard, nil, nil }})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	dir := t.TempDir()
	var got []string
	for _, k := range connect.Kinds() {
		if k.Source != nil {
			got = append(got, k.Name+" source: "+abilitiesOf(k.Source()))
		}
		if k.Sink != nil {
			got = append(got, k.Name+" sink: "+abilitiesOf(k.Sink()))
		}
	}
	for _, k := range connect.Kinds() {
		if k.Lists != (k.Name == "kafka") { // whose looker is a Lister, below
			t.Errorf("%s lists its streams: %v", k.Name, k.Lists)
		}
	}
	got = append(got,
		"kafka looker: "+abilitiesOf(&kafka.Looker{}), "postgres looker: "+abilitiesOf(&postgres.Looker{}),
		"file partition: "+abilitiesOf(&file.Partition{}), "kafka partition: "+abilitiesOf(&kafka.Partition{}), "simulate partition: "+abilitiesOf(&simulate.Partition{}), "journal partition: "+abilitiesOf(&journal.Partition{}),
		"one file: "+abilitiesOf(sink(filepath.Join(dir, "out.ndjson"))), "rolled files: "+abilitiesOf(sink(dir+"/")), "objects: "+abilitiesOf(&file.Bucket{}), "file looker: "+abilitiesOf(&file.Looker{}), "standard output: "+abilitiesOf(sink("-")), "topic: "+abilitiesOf(kafka.NewSink(kafka.SinkConfig{})), "topic, once: "+abilitiesOf(&kafka.Once{}), "table: "+abilitiesOf(&postgres.Made{}), "table, once: "+abilitiesOf(&postgres.Once{}))
	want := []string{
		"file source: Beginning Ended Follower Streaming",
		"file sink: Ended Readable Sole Streaming",
		"kafka source: Beginning Follower Knowing Storing Streaming",
		"kafka sink: Making Readable Replacing Streaming",
		"mail sink: Streaming",
		"mqtt source: Beginning Follower Knowing Storing Streaming",
		"mqtt sink: Streaming",
		"postgres source: Beginning Forgetting Knowing Storing Streaming",
		"postgres sink: Fitting Making Readable Replacing Sole Streaming",
		"http source: ",
		"http sink: Streaming",
		"simulate source: ",
		"socket source: ",
		"kafka looker: Lister Maker Opener Schematic", "postgres looker: ",
		"file partition: Troubled",
		"kafka partition: Acknowledger Lagger Quieter Starter Troubled",
		"simulate partition: ",
		"journal partition: Acknowledger Lagger Quieter Starter",
		"one file: Flusher Recoverer",
		"rolled files: Recoverer", "objects: Interrupter Knower Recoverer Retrier Troubled", "file looker: ",
		"standard output: Flusher",
		"topic: Interrupter Prober Retrier Troubled",
		"topic, once: Interrupter Knower Recoverer Retrier Troubled",
		"table: Interrupter Prober Refuser Retrier Troubled",
		"table, once: Interrupter Knower Recoverer Refuser Retrier Troubled",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestDescribed: every setting says to people what it is: by a label or words of its own, a hint or a default; names of
// one description differ.
func TestDescribed(t *testing.T) {
	var walk func(place string, list []settings.Setting)
	walk = func(place string, list []settings.Setting) {
		seen := map[string]bool{}
		for _, s := range list {
			if s.Name == "" || seen[s.Name] || strings.ToLower(s.Name) != s.Name {
				t.Errorf("%s: the name %q", place, s.Name)
			}
			seen[s.Name] = true
			if s.Missing == "" != (s.Fix == "") {
				t.Errorf("%s.%s: what is missing and what would be right belong together", place, s.Name)
			}
			if s.Type == settings.Choice && len(s.Choices) == 0 {
				t.Errorf("%s.%s: a choice of nothing", place, s.Name)
			}
			walk(place+"."+s.Name, s.Settings)
		}
	}
	for _, k := range connect.Kinds() {
		if k.Source == nil && k.Sink == nil || k.Noun == "" || k.About == "" {
			t.Errorf("%s: a kind that nobody can name or use", k.Name)
		}
		if k.Source != nil {
			walk(k.Name+" source", settings.Of(k.Source()))
		}
		if k.Sink != nil {
			walk(k.Name+" sink", settings.Of(k.Sink()))
		}
		if k.Link != nil {
			walk(k.Name+" connection", settings.Of(k.Link()))
		}
	}
}

// TestFormatsByName: a file's name tells its format, and each format that is written reads back.
func TestFormatsByName(t *testing.T) {
	for name, want := range map[string]string{"a.ndjson": "json", "a.jsonl": "json", "b/a.csv": "csv", "a.log": "text", "a.txt": "text", "a.CSV": "", "a": "", "a.parquet": "parquet", "a.avro": "avro", "a.ndjson.gz": "json", "b/a.csv.zst": "csv", "a.gz": ""} {
		got := ""
		if f := connect.FormatOf(name); f != nil {
			got = f.Name
		}
		if got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
	if got := connect.FormatNames(true); !slices.Equal(got, []string{"json", "csv", "avro", "parquet"}) {
		t.Errorf("documents encode %v", got)
	}
	if got := connect.FormatNames(false); !slices.Equal(got, []string{"json", "csv", "text", "avro", "parquet"}) {
		t.Errorf("documents decode %v", got)
	}
	for _, f := range connect.Formats() {
		if f.Decode != nil && f.Encode != nil && (f.Guess == nil || len(f.Endings) == 0) {
			t.Errorf("%s is read and written, and no file's name tells it", f.Name)
		}
		if f.Encode == nil {
			continue
		}
		s := row.Schema{{Name: "k", Kind: row.String}}
		if f.Encode(s) == nil {
			t.Errorf("%s makes no encoder", f.Name)
		}
	}
}
