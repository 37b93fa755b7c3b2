package run

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/engine"
	"undertide/job"
)

const shapes = `undertide: 1
job: shapes
values: {least: {type: double, default: 1.0}}
sources:
  levels:
    via: file
    with: {files: levels-*.csv}
    fields:
      gauge: string
      level_m: {type: double, default: 2.5}
      berth: {type: string, nullable: false}
      read_at: {type: timestamp, parse: epoch_s}
    event_time: read_at + duration('1s')
    watermark: {margin: 10s, ahead: none}
  marks:
    via: file
    with: {path: marks.ndjson}
    fields: {name: string, at: timestamp}
steps:
  named:
    from: levels
    set:
      place: gauge + '/' + berth
      file: meta.partition
      twice: cm * 2.0
      cm: level_m * 100.0
    where: level_m >= values.least
    only: [place, gauge, cm, twice, file]
  by_place: {from: named, key: [place], window: {tumbling: 1m}, measures: {n: count(), sum_cm: sum(cm)}}
  by_file: {from: named, key: [file], window: {tumbling: 1h}, measures: {n: count()}}
  all: {from: levels, window: {tumbling: 30s, shift: 5s}, measures: {n: count(), last_m: max(level_m)}}
  share: {from: by_place, where: n > 1, set: {each_cm: sum_cm / double(n - 2)}, without: [window_end]}
  very_late: {from: late of by_place, where: "late_by > duration('30s')", only: [place, late_by]}
  why: {from: rejects of levels, only: [reason, offset, partition]}
  plain: {from: marks, set: {long: size(name) > 3}}
sinks:
  s_place: {from: by_place, via: file, with: {path: out/place.ndjson}}
  s_file: {from: by_file, via: file, with: {path: out/file.csv}}
  s_all: {from: all, via: file, with: {path: out/all.ndjson}}
  s_share: {from: share, via: file, with: {path: out/share.ndjson}}
  s_bad_share: {from: rejects of share, via: file, with: {path: out/bad-share.ndjson}}
  s_late: {from: very_late, via: file, with: {path: out/late.ndjson}}
  s_why: {from: why, via: file, with: {path: out/why.csv}}
  s_plain: {from: plain, via: file, with: {path: out/plain.ndjson}}
  s_raw: {from: levels, via: file, with: {path: out/raw.csv}}
`

// TestShapes runs a document with most shapes at once: two sources, CSV in and out, defaults, required
// fields, a partition in an expression, two windows with different keys and one without, steps behind
// windows, late rows and rejects. What comes out is compared with a plain computation.
func TestShapes(t *testing.T) {
	dir := t.TempDir()
	base := int64(1_767_225_600)
	var all [2][]string
	total, without, dropped := 0, 0, 0
	byPlace, byFile, allRows := map[string]int{}, map[string]int{}, 0
	for f := range all {
		all[f] = []string{"read_at,extra,gauge,berth,level_m"}
		for i := range 6000 {
			at, berth, level := base+int64(i/2), fmt.Sprintf("B%d", i%3), strconv.FormatFloat(float64(i%40)/10, 'f', -1, 64)
			switch {
			case i%997 == 5:
				berth = "" // required: a reject
				without++
			case i%7 == 0:
				level = "" // the default, 2.5
			}
			total++
			gauge := fmt.Sprintf("G%d", i%5)
			all[f] = append(all[f], fmt.Sprintf("%d,\"a, b\",%s,%s,%s", at, gauge, berth, level))
			if berth == "" {
				continue
			}
			allRows++
			if v, err := strconv.ParseFloat(level, 64); err == nil && v < 1 {
				dropped++
				continue
			}
			minute := time.Unix((at+1)/60*60, 0).UTC().Format(time.RFC3339)
			byPlace[gauge+"/"+berth+" "+minute]++
			byFile[fmt.Sprintf("levels-%d.csv", f)]++
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("levels-%d.csv", f)), []byte(strings.Join(all[f], "\r\n")), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "marks.ndjson"), []byte(`{"name":"low","at":"2026-01-01T00:00:00Z"}`+"\n"+`{"name":"high"}`+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), shapes, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	res, err := Run(context.Background(), j, Options{Lanes: 3})
	if err != nil || !res.Finished || len(res.Unbalanced) > 0 {
		t.Fatalf("finished %v, unbalanced %v, %v", res.Finished, res.Unbalanced, err)
	}
	out := filepath.Join(dir, "out")

	got := map[string]int{}
	shares := map[string]int{}
	for _, l := range readLines(t, filepath.Join(out, "place.ndjson")) {
		var r struct {
			Place, Window_start string
			N                   int
			Sum_cm              float64
		}
		if err := json.Unmarshal([]byte(l), &r); err != nil {
			t.Fatal(err)
		}
		got[r.Place+" "+r.Window_start] += r.N
		if r.N > 1 {
			shares[map[bool]string{true: "bad", false: "good"}[r.N == 2]]++
		}
	}
	if fmt.Sprint(got) != fmt.Sprint(byPlace) {
		t.Errorf("by place: %d windows, want %d, or they differ", len(got), len(byPlace))
	}
	if n := len(readLines(t, filepath.Join(out, "share.ndjson"))); n != shares["good"] {
		t.Errorf("%d shares, want %d", n, shares["good"])
	}
	if l := readLines(t, filepath.Join(out, "share.ndjson"))[0]; strings.Contains(l, "window_end") || !strings.Contains(l, "each_cm") {
		t.Errorf("a share is %s", l)
	}
	bad := readLines(t, filepath.Join(out, "bad-share.ndjson"))
	if len(bad) != shares["bad"] || len(bad) > 0 && !strings.Contains(bad[0], `"message":"division by zero"`) {
		t.Errorf("%d shares divided by zero, want %d: %v", len(bad), shares["bad"], bad)
	}
	for _, l := range readLines(t, filepath.Join(out, "file.csv")) {
		cells, err := csv.NewReader(strings.NewReader(l)).Read()
		if err != nil {
			t.Fatal(err)
		}
		if cells[0] == "file" {
			continue
		}
		n, err := strconv.Atoi(cells[3])
		if err != nil {
			t.Fatal(err)
		}
		byFile[filepath.Base(cells[0])] -= n
	}
	for f, n := range byFile {
		if n != 0 {
			t.Errorf("%s: %d rows are missing", f, n)
		}
	}
	n := 0
	for _, l := range readLines(t, filepath.Join(out, "all.ndjson")) {
		var r struct {
			N      int
			Window time.Time `json:"window_start"`
		}
		if err := json.Unmarshal([]byte(l), &r); err != nil {
			t.Fatal(err)
		}
		if r.Window.Unix()%30 != 5 {
			t.Errorf("a window shifted by 5 s starts at %s", r.Window)
		}
		n += r.N
	}
	if n != allRows {
		t.Errorf("the windows without a key hold %d rows, want %d", n, allRows)
	}
	why := readLines(t, filepath.Join(out, "why.csv"))
	if len(why) != without+1 || !strings.HasPrefix(why[0], "missing,") {
		t.Errorf("%d rejects, want %d: %s", len(why)-1, without, why[0])
	}
	if got := strings.Join(readLines(t, filepath.Join(out, "plain.ndjson")), " "); got != `{"name":"high","at":null,"long":true} {"name":"low","at":"2026-01-01T00:00:00Z","long":false}` {
		t.Errorf("rows without event time are %s", got)
	}
	if raw := readLines(t, filepath.Join(out, "raw.csv")); len(raw) != total-without+1 {
		t.Errorf("%d raw rows, want %d", len(raw)-1, total-without)
	}
	if c := res.Figures.Steps[0]; c.Dropped != int64(dropped) || engine.Sum(res.Figures.Sources[0].Rejected) != int64(without) {
		t.Errorf("dropped %d, want %d", c.Dropped, dropped)
	}
	if late := readLines(t, filepath.Join(out, "late.ndjson")); len(late) != 0 {
		t.Errorf("%d rows are late, and none should be", len(late))
	}
	fig := Report(j, res.Graph, res.References, res.Figures, "finished")
	text, err := json.Marshal(fig)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"watermark":"end"`, fmt.Sprintf(`"rows_in":%d`, allRows), `"status":"finished"`, `"waiting":0`, `"lanes":[{"rows_in":`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("the figures lack %s: %s", want, text)
		}
	}
}

// TestFollowWithAnEmptyFile: a growing file that has never had an event does not hold the watermark
// for ever.
func TestFollowWithAnEmptyFile(t *testing.T) { synctest.Test(t, followWithAnEmptyFile) }

func followWithAnEmptyFile(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	write("a.ndjson", `{"k":"x","t":1000}`+"\n")
	write("b.ndjson", "")
	text := `undertide: 1
job: follow
sources:
  events:
    via: file
    with: {files: "*.ndjson", follow: true}
    fields: {k: string, t: {type: timestamp, parse: epoch_ms}}
    event_time: t
    watermark: {margin: 0s, idle: 300ms}
steps:
  w: {from: events, key: [k], window: {tumbling: 1s}, measures: {n: count()}}
sinks:
  out: {from: w, via: file, with: {path: "-"}}
`
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), text, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	rows := make(signal, 1)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() {
		_, err := Run(ctx, j, Options{Lanes: 2, Stdout: rows})
		ended <- err
	}()
	var writer sync.WaitGroup
	writer.Go(func() { // the stream goes on, a little at a time
		for i := 0; ctx.Err() == nil; i++ {
			write("a.ndjson", fmt.Sprintf(`{"k":"x","t":%d}`+"\n", 3000+i*10))
			time.Sleep(20 * time.Millisecond)
		}
	})
	select {
	case got := <-rows:
		if !strings.Contains(got, `"n":1`) {
			t.Errorf("the first row is %s", got)
		}
	case <-time.After(10 * time.Second):
		t.Error("no row in 10 s: the empty file holds the watermark")
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	writer.Wait()
}

// signal is an output that hands on what is written first.
type signal chan string

func (s signal) Write(p []byte) (int, error) {
	select {
	case s <- string(p):
	default:
	}
	return len(p), nil
}

// TestFolderWithoutCheckpoints: rolled files appear while an endless run goes on, also where it keeps
// no checkpoints.
func TestFolderWithoutCheckpoints(t *testing.T) { synctest.Test(t, folderWithoutCheckpoints) }

func folderWithoutCheckpoints(t *testing.T) {
	dir := t.TempDir()
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: endless
settings: {checkpoint: {every: 100ms}}
sources:
  lifts:
    via: simulate
    with: {rate: 2000/s, fields: {crane: {pick: [C1, C2]}, at: {now: true}}}
    fields: {crane: string, at: timestamp}
    event_time: at
    watermark: {margin: 0s}
steps:
  w: {from: lifts, key: [crane], window: {tumbling: 50ms}, measures: {n: count()}}
sinks:
  out: {from: w, via: file, with: {path: out/}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error)
	go func() {
		_, err := Run(ctx, j, Options{Lanes: 2})
		ended <- err
	}()
	time.Sleep(time.Second)
	found, err := filepath.Glob(filepath.Join(dir, "out", "*.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	if len(found) < 2 {
		t.Errorf("after a second the folder has %v", found)
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// TestOrderOfPlace: rows of steps without keys reach a sink in order of place, however many workers
// decode.
func TestOrderOfPlace(t *testing.T) {
	dir := t.TempDir()
	var b strings.Builder
	const rows = 60_000
	for i := range rows {
		fmt.Fprintf(&b, `{"n":%d}`+"\n", i)
	}
	if err := os.WriteFile(filepath.Join(dir, "in.ndjson"), []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: order
sources:
  events: {via: file, with: {path: in.ndjson}, fields: {n: int}}
steps:
  odd: {from: events, where: n % 2 == 1}
sinks:
  out: {from: odd, via: file, with: {path: out.csv}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Run(context.Background(), j, Options{Workers: 4}); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(filepath.Join(dir, "out.csv"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Fields(string(text))[1:]
	if len(lines) != rows/2 {
		t.Fatalf("%d rows, want %d", len(lines), rows/2)
	}
	for i, l := range lines {
		if l != strconv.Itoa(2*i+1) {
			t.Fatalf("row %d is %s, want %d", i, l, 2*i+1)
		}
	}
}

// TestLateTwice: rows that are late for a second step, a join among them, have one field late_by, that of the second.
func TestLateTwice(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "lifts.ndjson"), []byte(`{"crane":"C1","place":"quay","at":"2026-01-01T00:10:00Z"}
{"crane":"C1","place":"quay","at":"2026-01-01T00:01:00Z"}
`), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: twice
sources:
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {crane: string, place: string, at: timestamp}, event_time: at, watermark: {margin: 0s}}
  orders: {via: file, with: {path: lifts.ndjson}, fields: {of: {type: string, at: crane}, at: timestamp}, event_time: at, watermark: {margin: 0s}}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {n: count()}}
  again: {from: late of minute, key: [crane], window: {tumbling: 1m}, measures: {n: count(), most: max(late_by)}}
  named: {from: orders, only: [of]}
  pairs: {join: {left: late of minute, right: named, match: {crane: of}, within: 1s}}
sinks:
  lost: {from: late of again, via: file, with: {path: lost.ndjson}}
  apart: {from: late of pairs, via: file, with: {path: apart.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if twice := namedTwice(j); twice != "" {
		t.Error(twice)
	}
	if _, err := Run(t.Context(), j, Options{Lanes: 1}); err != nil {
		t.Fatal(err)
	}
	want := `{"crane":"C1","place":"quay","at":"2026-01-01T00:01:00Z","late_by":"540s"}` + "\n"
	if text, err := os.ReadFile(filepath.Join(dir, "lost.ndjson")); err != nil || string(text) != want {
		t.Errorf("%s, %v; want %s", text, err, want)
	}
}
