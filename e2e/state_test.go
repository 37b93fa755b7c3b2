package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
)

const stateJob = `undertide: 1
job: keeps
settings: {checkpoint: {every: 200ms}}
sources:
  levels:
    via: file
    with: {path: levels.ndjson, follow: true}
    fields: {gauge: string, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 0s, ahead: none}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {readings: count()}}
sinks:
  out: {from: minute, via: file, with: {path: out.ndjson}}
`

// TestState looks into what a job keeps, by the service and in a folder, in every form, while the run goes on.
func TestState(t *testing.T) {
	dir := open(t)
	var text strings.Builder
	for i := range 300 {
		fmt.Fprintf(&text, `{"gauge":"G%03d","at":%d}`+"\n", i%150, 1000+i*100)
	}
	write(t, dir, "levels.ndjson", text.String())
	write(t, dir, "keeps.yaml", strings.ReplaceAll(stateJob, "path: ", "path: "+dir+"/"))
	s := serve(t, dir)
	s.must("save", "keeps.yaml")
	s.must("start", "keeps")
	eventually(t, 20*time.Second, "a checkpoint has all keys", func() bool {
		return strings.Contains(s.run("state", "keeps", "minute", "--open").out, "150         300")
	})
	shows := func(o outcome, texts ...string) {
		t.Helper()
		o.want(t, 0)
		for _, want := range texts {
			if !strings.Contains(o.out, want) {
				t.Errorf("%q is not shown:\n%s", want, o.out)
			}
		}
	}
	shows(s.run("state", "keeps", "minute", "--key", "gauge=G007"), "G007", "1970-01-01T00:00:00Z", "2")
	shows(s.run("state", "keeps", "minute", "--skew"), "150 keys, 300 rows taken", "heaviest keys")
	shows(s.run("state", "keeps", "minute", "--raw", "--limit", "3"), "gauge", "rows", "the first 3 rows")
	s.run("state", "keeps", "minutes").want(t, 1, "did you mean minute?")
	s.run("state", "keeps", "minute", "--checkpoint", "9999").want(t, 1, "has no checkpoint 9999")
	s.run("state", "keeps", "minute", "--open", "--skew").want(t, 2, "give one of them")

	if n := strings.Count(s.run("state", "keeps", "minute", "--format", "json", "--limit", "0").out, "\n"); n != 150 {
		t.Errorf("%d rows as JSON, want all 150", n)
	}
	if n := strings.Count(s.run("state", "keeps", "minute", "--format", "json", "--limit", "7").out, "\n"); n != 7 {
		t.Errorf("%d rows as JSON, want the first 7", n)
	}
	rows, err := csv.NewReader(strings.NewReader(s.run("state", "keeps", "minute", "--format", "csv", "--limit", "0").out)).ReadAll()
	if err != nil || len(rows) != 151 || rows[0][0] != "gauge" {
		t.Errorf("CSV: %v, %v", rows, err)
	}
	file := s.run("state", "keeps", "minute", "--format", "parquet", "--limit", "0").out
	type kept struct {
		Gauge    string `parquet:"gauge"`
		Readings int64  `parquet:"readings"`
	}
	all, err := parquet.Read[kept](bytes.NewReader([]byte(file)), int64(len(file)))
	if err != nil || len(all) != 150 || all[0].Readings != 2 {
		t.Errorf("Parquet: %v, %v", all, err)
	}
	s.must("stop", "keeps")

	// The same without the service: a run that is stopped by a signal keeps its folder.
	c := exec.Command(binary, "run", "keeps.yaml", "-q", "--checkpoints", "folder")
	c.Dir = dir
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, "the folder has all keys", func() bool {
		return strings.Contains(undertide(t, dir, "state", "keeps.yaml", "minute", "--checkpoints", "folder", "--open").out, "150         300")
	})
	if err := c.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = c.Wait() // its status says that it was stopped
	shows(undertide(t, dir, "state", "keeps.yaml", "minute", "--checkpoints", "folder", "--limit", "2"), "step minute of job keeps", "the first 2 rows")
	if left, err := filepath.Glob(filepath.Join(dir, "folder", "l*-*")); err != nil || len(left) > 0 {
		t.Errorf("links are left: %v, %v", left, err)
	}
}
