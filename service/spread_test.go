package service

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/api"
	"undertide/api/operations"
	"undertide/broker"
	"undertide/lease"
)

const spreadRates = `undertide: 1
job: rates
connections: {harbour: {via: kafka, brokers: [%s]}}
settings: {spread: 2, checkpoint: {every: 200ms}}
sources:
  lifts:
    via: kafka
    with: {connection: harbour, topic: lifts}
    fields: {crane: string, tonnes: int, at: timestamp}
    event_time: at
    watermark: {margin: 1s}
steps:
  heavy: {from: lifts, where: tonnes > 0}
  minute: {from: heavy, key: [crane], window: {tumbling: 1m}, measures: {n: count(), sum: sum(tonnes)}}
sinks:
  out: {from: minute, via: file, with: {path: %s/}}
`

// written reads the rows that a job has put into a folder.
func written(t *testing.T, dir string) (rows []map[string]any) {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			row := map[string]any{}
			if err := json.Unmarshal([]byte(line), &row); err != nil {
				t.Fatal(err)
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// liftsAt starts a broker stand-in with a topic of so many partitions, and gives a client that says itself into which it sends.
func liftsAt(t *testing.T, partitions int32) (*broker.Broker, *kgo.Client) {
	t.Helper()
	b, err := broker.Start(broker.Options{Listen: "127.0.0.1:0", Topics: []string{"lifts"}, Partitions: partitions})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	client, err := kgo.NewClient(kgo.SeedBrokers(b.Addr), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(client.Close)
	return b, client
}

// looksAt gives all that can be asked about a job, a run and a step without changing anything.
func looksAt(job string, run int64, step string) (paths []string) {
	fill := strings.NewReplacer("{job}", job, "{run}", fmt.Sprint(run), "{step}", step, "{version}", "newest")
	for _, o := range operations.All {
		path := fill.Replace(o.Path)
		if o.Method == "GET" && path != o.Path && !strings.Contains(path, "{") {
			paths = append(paths, path)
		}
	}
	return paths
}

// TestSpreadJob: a job is carried out by portions on both nodes; it is started, seen, drained, stopped, gone on with and removed as one.
func TestSpreadJob(t *testing.T) {
	b, client := liftsAt(t, 4)
	sent, sum := 0, 0
	send := func(from, seconds int) {
		t.Helper()
		var all []*kgo.Record
		for s := range seconds {
			for p := range 4 {
				tonnes := (s*7 + p) % 40
				if tonnes > 0 {
					sent++
					sum += tonnes
				}
				at := time.Date(2026, 3, 1, 0, 0, from+s, 0, time.UTC).Format(time.RFC3339)
				all = append(all, &kgo.Record{Topic: "lifts", Partition: int32(p), Value: fmt.Appendf(nil, `{"crane":"C%d","tonnes":%d,"at":"%s"}`, (s+p)%11, tonnes, at)})
			}
		}
		if err := client.ProduceSync(context.Background(), all...).FirstErr(); err != nil {
			t.Fatal(err)
		}
	}
	var away sync.RWMutex
	quay, pier, _ := twoNodes(t, func(o *Options) {
		o.evenAfter, o.Database = 500*time.Millisecond, farFrom(t, o.Database, 0, &away)
	})
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	out := filepath.Join(quay.dir, "rates")
	quay.by(quay.tokens["ena"]).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", fmt.Sprintf(spreadRates, b.Addr, out), nil)
	send(0, 600)
	until(t, "the nodes know one another", func() bool {
		var nodes api.List[api.Node]
		ena(quay).want(200, "GET", "/nodes", nil, &nodes)
		return len(nodes.Items) == 2
	})
	var begun api.Started
	ena(quay).want(201, "POST", "/jobs/rates/runs", "{}", &begun)
	job := func(p *peopled) (j api.Job) {
		t.Helper()
		ena(p).want(200, "GET", "/jobs/rates", nil, &j)
		return j
	}
	counted := func() (n, tonnes int) {
		for _, r := range written(t, out) {
			n += int(r["n"].(float64))
			tonnes += int(r["sum"].(float64))
		}
		return n, tonnes
	}
	until(t, "windows are there", func() bool { n, _ := counted(); return n > sent*8/10 })
	for _, p := range []*peopled{quay, pier} {
		until(t, "all portions are seen at work", func() bool {
			j := job(p)
			return j.Status == "running" && len(j.Portions) == 4 && !slices.ContainsFunc(j.Portions, func(o api.Portion) bool { return o.Status != "running" || o.Sentence == "" })
		})
		nodes := map[string]int{}
		for _, o := range job(p).Portions {
			nodes[o.Node]++
		}
		if nodes["quay"] == 0 || nodes["pier"] == 0 {
			t.Errorf("the portions are on %v", nodes)
		}
		var list api.Page[api.Job]
		if ena(p).want(200, "GET", "/jobs", nil, &list); len(list.Items) != 1 || list.Items[0].Name != "rates" || len(list.Items[0].Portions) != 4 {
			t.Errorf("the list has %+v", list.Items)
		}
		var f api.Figures
		until(t, "the figures are the sum", func() bool {
			ena(p).want(200, "GET", fmt.Sprintf("/runs/%d/figures", begun.Run.ID), nil, &f)
			return f.Sources["lifts"].Read == 2400 && f.Steps["heavy"].RowsOut == int64(sent) && f.Steps["minute"].RowsIn == int64(sent) && len(f.Sources["lifts"].Partitions) == 4 && len(f.Sources) == 1 && len(f.Sinks) == 1
		})
		// Rows to look at are those of all portions.
		cranes := map[string]bool{}
		until(t, "rows of all portions are shown", func() bool {
			var rows api.Rows
			ena(p).want(200, "GET", fmt.Sprintf("/runs/%d/steps/minute/rows?limit=200", begun.Run.ID), nil, &rows)
			for _, r := range rows.Rows {
				var row struct{ Crane string }
				if err := json.Unmarshal(r.Row, &row); err != nil {
					t.Fatal(err)
				}
				cranes[row.Crane] = true
			}
			return len(cranes) == 11 && rows.Passed >= int64(len(rows.Rows))
		})
		ena(p).want(400, "POST", "/jobs/rates.1-1/stop", "{}", nil)
		if _, text := ena(p).ask("GET", "/jobs/rates/state/minute", nil); !strings.Contains(text, "ask one of rates.2-1, rates.2-2") {
			t.Errorf("the state of the job is %s", text)
		}
		ena(p).want(200, "GET", "/jobs/rates.2-1/state/minute", nil, nil)
		ena(p).want(400, "DELETE", "/jobs/rates.2-1", nil, nil)
	}

	// Whatever is asked about it and its portions has an answer on both nodes, whether it is at work or not.
	asked := func() {
		t.Helper()
		for _, p := range []*peopled{quay, pier} {
			of := job(p).Run.ID
			for _, path := range slices.Concat(looksAt("rates", of, "minute"), looksAt("rates.1-1", of+1, "heavy"), looksAt("rates.2-2", of+2, "minute")) {
				if status, text := ena(p).ask("GET", path, nil); status >= 500 {
					t.Errorf("%s: %d %s", path, status, text)
				}
			}
		}
	}
	asked()

	// A token of the job is one of its portions, too.
	var made api.MadeToken
	quay.as("ena").want(201, "POST", "/tokens", api.NewPersonToken{Name: "mate", Job: "rates", Role: "reader"}, &made)
	until(t, "the token counts", func() bool {
		status, _ := pier.by(made.Text).ask("GET", "/jobs/rates.2-1/map", nil)
		return status == 200
	})

	// A node that is drained, and is not any more, gets portions of each part again.
	nodesOf := func() map[string]int {
		out := map[string]int{}
		for _, o := range job(quay).Portions {
			if o.Status == "running" {
				out[fmt.Sprint(o.Node, " ", o.Part)]++
			}
		}
		return out
	}
	pier.as("kit").want(200, "POST", "/nodes/pier/drain", "{}", nil)
	until(t, "all portions are on one node", func() bool { return nodesOf()["quay 1"] == 2 && nodesOf()["quay 2"] == 2 })
	pier.as("kit").want(200, "DELETE", "/nodes/pier/drain", nil, nil)
	until(t, "each node has portions of each part", func() bool { return len(nodesOf()) == 4 })

	// While the database is away for longer than the leases hold, all is broken off; it goes on by itself.
	before, _ := counted()
	away.Lock()
	time.Sleep(lease.TakenAfter + time.Second)
	away.Unlock()
	send(600, 60)
	until(t, "windows go on", func() bool { n, _ := counted(); return n > before })
	for _, p := range []*peopled{quay, pier} {
		until(t, "the job goes on, and the nodes see one another", func() bool {
			var nodes api.List[api.Node]
			ena(p).want(200, "GET", "/nodes", nil, &nodes)
			return job(p).Status == "running" && len(nodesOf()) == 4 && !slices.ContainsFunc(nodes.Items, func(n api.Node) bool { return n.State != "well" })
		})
	}

	// One that is stopped meanwhile stays so, with all of its portions.
	away.Lock()
	time.Sleep(lease.TakenAfter + time.Second)
	until(t, "it can be stopped", func() bool {
		status, _ := ena(quay).ask("POST", "/jobs/rates/stop", []byte("{}"))
		return status == 200
	})
	away.Unlock()
	for range 2 {
		until(t, "it is stopped, and all portions are", func() bool {
			return job(quay).Status == "stopped" && job(pier).Status == "stopped" && !slices.ContainsFunc(job(quay).Portions, func(o api.Portion) bool { return o.Status != "stopped" || o.Node != "" })
		})
		time.Sleep(time.Second)
	}
	ena(quay).want(201, "POST", "/jobs/rates/runs", "{}", nil)
	until(t, "it is at work again", func() bool { return job(quay).Status == "running" && len(nodesOf()) == 4 })

	// Stopped and started again, on with what they had; then drained.
	var stopped api.Run
	ena(pier).want(200, "POST", "/jobs/rates/stop", "{}", &stopped)
	if stopped.Status != "stopped" {
		t.Errorf("stopped: %+v", stopped)
	}
	until(t, "all portions are stopped", func() bool {
		return !slices.ContainsFunc(job(quay).Portions, func(o api.Portion) bool { return o.Status != "stopped" || o.Node != "" })
	})
	asked()
	send(660, 540)
	ena(pier).want(201, "POST", "/jobs/rates/runs", "{}", &begun)
	until(t, "more windows are there", func() bool { n, _ := counted(); return n > sent*8/10 })
	ena(quay).want(200, "POST", "/jobs/rates/drain", "{}", nil)
	until(t, "the job has come to its end", func() bool { return job(quay).Status == "finished" && job(pier).Status == "finished" })
	if n, tonnes := counted(); n != sent || tonnes != sum {
		t.Errorf("%d events of %d tonnes are counted, and there were %d of %d", n, tonnes, sent, sum)
	}

	asked()

	// The topic goes with the job, and its portions.
	topics := func() string {
		all, err := kadm.NewClient(client).ListTopics(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(all.Names(), ", ")
	}
	if all := topics(); !strings.Contains(all, "undertide.rates.1.heavy.by.crane") {
		t.Errorf("there are the topics %s", all)
	}
	ena(pier).want(204, "DELETE", "/jobs/rates", nil, nil)
	until(t, "the topic is gone", func() bool { return !strings.Contains(topics(), "undertide.rates") })
	until(t, "the job is gone everywhere", func() bool {
		status, _ := ena(quay).ask("GET", "/jobs/rates.1-1", nil)
		return status == 404
	})
}

// TestSpreadFaults: a spread job starts whole or not at all, and ends whole where one of its portions cannot go on; both say which portion it is, and why.
func TestSpreadFaults(t *testing.T) {
	b, client := liftsAt(t, 3)
	quay, pier, _ := twoNodes(t, nil)
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	saves := quay.by(quay.tokens["ena"]).with("Content-Type", "application/yaml")
	blocked := filepath.Join(quay.dir, "blocked")
	if err := os.WriteFile(blocked, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	document := strings.Replace(fmt.Sprintf(spreadRates, b.Addr, filepath.Join(blocked, "rates")), "every: 200ms}}", "every: 200ms}, restart: {tries: 0}}", 1)
	saves.want(201, "POST", "/jobs", document, nil)
	ended := func(why string) {
		t.Helper()
		until(t, "job and portions have ended", func() bool {
			var j api.Job
			ena(pier).want(200, "GET", "/jobs/rates", nil, &j)
			return j.Status == "failed" && strings.Contains(j.Sentence, why) && len(j.Portions) == 4 && !slices.ContainsFunc(j.Portions, func(o api.Portion) bool { return !hasEnded(o.Status) && o.Status != "saved" })
		})
	}
	status, text := ena(quay).ask("POST", "/jobs/rates/runs", []byte("{}"))
	if status == 201 || !strings.Contains(text, "portion 2-") || !strings.Contains(text, "blocked") {
		t.Fatalf("the start answers %d %s", status, text)
	}
	ended("portion 2-")

	// With another place it starts; then somebody else writes into the topic by which rows cross.
	saves.want(201, "POST", "/jobs", strings.Replace(document, filepath.Join(blocked, "rates"), filepath.Join(quay.dir, "rates"), 1), nil)
	ena(pier).want(201, "POST", "/jobs/rates/runs", `{"leave_behind": []}`, nil)
	r := &kgo.Record{Topic: "undertide.rates.1.heavy.by.crane", Partition: 1, Key: []byte("astray"), Value: []byte("{}")}
	if err := client.ProduceSync(context.Background(), r).FirstErr(); err != nil {
		t.Fatal(err)
	}
	ended("portion 2-2: ")
	var j api.Job
	ena(pier).want(200, "GET", "/jobs/rates", nil, &j)
	if !strings.Contains(j.Sentence, "the message is none of Under Tide") {
		t.Errorf("the job says: %s", j.Sentence)
	}

	// What portions have kept no single run goes on with, nor the other way round, nor others while one of them cannot come to rest; that is said, and --fresh begins anew.
	spread := strings.Replace(document, filepath.Join(blocked, "rates"), filepath.Join(quay.dir, "rates"), 1)
	refused := func(document, why string) {
		t.Helper()
		saves.want(201, "POST", "/jobs", document, nil)
		if status, text := ena(quay).ask("POST", "/jobs/rates/runs", []byte("{}")); status == 201 || !strings.Contains(text, why) {
			t.Errorf("the start answers %d %s", status, text)
		}
	}
	fresh := func(portions int) {
		t.Helper()
		ena(quay).want(201, "POST", "/jobs/rates/runs", `{"resume": "fresh"}`, nil)
		until(t, "it runs anew", func() bool {
			ena(pier).want(200, "GET", "/jobs/rates", nil, &j)
			return j.Status == "running" && len(j.Portions) == portions
		})
		if portions == 0 {
			until(t, "there is a checkpoint", func() bool {
				_, text := ena(quay).ask("GET", "/jobs/rates/checkpoints", nil)
				return strings.Contains(text, `"epoch"`)
			})
		}
		ena(quay).want(200, "POST", "/jobs/rates/stop", "{}", nil)
	}
	refused(strings.Replace(spread, "spread: 2", "spread: 3", 1), "portion 2-2: ")
	refused(strings.Replace(spread, "spread: 2, ", "", 1), "one run does not take over what those have kept")
	fresh(0)
	refused(spread, "portions do not take over what that has kept")
	fresh(4)
}
