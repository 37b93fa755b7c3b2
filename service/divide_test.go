package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/api"
	"undertide/store"
)

// TestRespread: a running job goes on with more portions, and with fewer, and one that was stopped starts with others: every event is counted once, in windows that come once each,
// and nothing is left of the portions and topics of before.
func TestRespread(t *testing.T) {
	b, client := liftsAt(t, 5)
	sent := 0
	second := 0
	send := func(seconds int) {
		t.Helper()
		var all []*kgo.Record
		for range seconds {
			second++
			for p := range 5 {
				sent++
				at := time.Date(2026, 3, 1, 0, 0, second, 0, time.UTC).Format(time.RFC3339)
				all = append(all, &kgo.Record{Topic: "lifts", Partition: int32(p), Value: fmt.Appendf(nil, `{"crane":"C%d","tonnes":%d,"at":"%s"}`, (second*3+p)%41, second%30+1, at)})
			}
		}
		if err := client.ProduceSync(context.Background(), all...).FirstErr(); err != nil {
			t.Fatal(err)
		}
	}
	quay, pier, shared := twoNodes(t, func(o *Options) { o.Database = farFrom(t, o.Database, 2*time.Millisecond, new(sync.RWMutex)) })
	ena := func(p *peopled) caller { return p.by(p.tokens["ena"]).with("Content-Type", "application/json") }
	saves := quay.by(quay.tokens["ena"]).with("Content-Type", "application/yaml")
	out := filepath.Join(quay.dir, "rates")
	document := strings.Replace(fmt.Sprintf(spreadRates, b.Addr, out), "sinks:\n", `  busy: {from: minute, key: [n], window: {sliding: 10m, by: 2m}, measures: {cranes: count(), lifts: sum(n)}}
sinks:
  counts: {from: busy, via: file, with: {path: `+filepath.Join(quay.dir, "busy")+"/, roll: {every: 1h}}}\n", 1)
	saves.want(201, "POST", "/jobs", document, nil)
	send(300)
	until(t, "the nodes know one another", func() bool {
		var nodes api.List[api.Node]
		ena(quay).want(200, "GET", "/nodes", nil, &nodes)
		return len(nodes.Items) == 2
	})
	ena(quay).want(409, "POST", "/jobs/rates/respread", `{"portions": 3}`, nil)
	ena(quay).want(201, "POST", "/jobs/rates/runs", "{}", nil)
	job := func(p *peopled) (j api.Job) {
		t.Helper()
		ena(p).want(200, "GET", "/jobs/rates", nil, &j)
		return j
	}
	counted := func() (n int) {
		for _, r := range written(t, out) {
			n += int(r["n"].(float64))
		}
		return n
	}
	// portions waits until the job is at work with so many of each part, and nothing is left of others.
	portions := func(each int) {
		t.Helper()
		left := ""
		defer func() {
			if t.Failed() {
				t.Log(left)
			}
		}()
		until(t, fmt.Sprintf("%d portions of each part are at work", each), func() bool {
			j := job(pier)
			if left = fmt.Sprintf("%s: %s", j.Status, j.Sentence); j.Status == "starting" {
				for _, o := range j.Portions {
					left += fmt.Sprintf("\n%s %s run %d: %s", o.Name, o.Status, o.Run, o.Sentence)
				}
			}
			return j.Status == "running" && len(j.Portions) == 3*each && !slices.ContainsFunc(j.Portions, func(o api.Portion) bool { return o.Status != "running" })
		})
		until(t, "windows go on", func() bool { return counted() > sent-5*70 })
		until(t, "nothing is left of the portions of before", func() bool {
			all, err := kadm.NewClient(client).ListTopics(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			topics := slices.DeleteFunc(all.Names(), func(n string) bool { return !strings.HasPrefix(n, "undertide.") })
			status, _ := ena(quay).ask("GET", fmt.Sprintf("/jobs/rates.2-%d", each+1), nil)
			folders, err := filepath.Glob(filepath.Join(shared, "jobs", "*", "*"))
			if err != nil {
				t.Fatal(err)
			}
			left = fmt.Sprintf("topics %v, folders %v, the portion behind the last: %d", topics, folders, status)
			return len(topics) == 2 && status == 404 && len(folders) == 3*each
		})
		var f api.Figures
		until(t, "the figures are the sum", func() bool {
			ena(quay).want(200, "GET", fmt.Sprintf("/runs/%d/figures", job(quay).Run.ID), nil, &f)
			return f.Sources["lifts"].Read == int64(sent) && f.Steps["minute"].RowsIn == int64(sent) && len(f.Sources["lifts"].Partitions) == 5
		})
	}
	// all runs but the newest have ended, and the records say so.
	ended := func() {
		t.Helper()
		var runs api.Page[api.Run]
		defer func() {
			if t.Failed() {
				t.Logf("runs: %+v", runs.Items)
			}
		}()
		until(t, "the runs of before have ended", func() bool {
			ena(pier).want(200, "GET", "/jobs/rates/runs?limit=50", nil, &runs)
			return !slices.ContainsFunc(runs.Items[1:], func(r api.Run) bool { return r.EndedAt == nil || r.Status != "stopped" })
		})
	}
	portions(2)
	var started api.Started
	looking, stop := context.WithCancel(context.Background())
	var looks sync.WaitGroup
	for _, p := range []*peopled{quay, pier} { // whoever looks meanwhile meets no fault of ours
		looks.Go(func() {
			for looking.Err() == nil {
				var j api.Job
				ena(p).ask("GET", "/jobs", nil)
				_, text := ena(p).ask("GET", "/jobs/rates", nil)
				if json.Unmarshal([]byte(text), &j) != nil || j.Run == nil {
					continue
				}
				all := append(looksAt("rates", j.Run.ID, "minute"), append(looksAt("rates.2-1", j.Run.ID, "minute"), "/nodes")...)
				for range 8 {
					path := all[rand.IntN(len(all))]
					if status, text := ena(p).ask("GET", path, nil); status == 500 {
						t.Errorf("%s: %s", path, text)
					}
				}
			}
		})
	}
	begun := time.Now()
	ena(pier).want(201, "POST", "/jobs/rates/respread", `{"portions": 5}`, &started)
	t.Logf("from 6 portions to 15: %.1f s", time.Since(begun).Seconds())
	if started.Run.Version != 2 || !slices.ContainsFunc(started.Notes, func(n string) bool { return strings.Contains(n, "divided anew, among 5") }) {
		t.Errorf("started: %+v", started)
	}
	send(200)
	portions(5)
	ended()
	begun = time.Now()
	ena(quay).want(201, "POST", "/jobs/rates/respread", `{"portions": 3}`, nil)
	stop()
	looks.Wait()
	t.Logf("from 15 portions to 9: %.1f s", time.Since(begun).Seconds())
	send(200)
	portions(3)

	ended()
	// One that was stopped starts with others where its version says so; also where it is stopped, and begun again, while it is divided.
	ena(quay).want(200, "POST", "/jobs/rates/stop", "{}", nil)
	send(100)
	four := strings.Replace(document, "spread: 2", "spread: {portions: 4}", 1)
	saves.want(201, "POST", "/jobs", four, nil)
	go ena(quay).ask("POST", "/jobs/rates/runs", []byte("{}"))
	until(t, "the portions come to rest", func() bool { return strings.Contains(job(quay).Sentence, "come to rest") })
	until(t, "it can be stopped", func() bool {
		status, _ := ena(quay).ask("POST", "/jobs/rates/stop", []byte("{}"))
		return status == 200 || job(quay).Status == "stopped"
	})
	until(t, "it is stopped", func() bool { return job(quay).Status == "stopped" })
	saves.want(201, "POST", "/jobs", strings.Replace(document, "spread: 2", "spread: 3", 1), nil)
	until(t, "it starts with as many as it had", func() bool {
		status, _ := ena(pier).ask("POST", "/jobs/rates/runs", []byte("{}"))
		return status == 201
	})
	portions(3)
	saves.want(201, "POST", "/jobs", four, nil)
	status, text := ena(quay).ask("POST", "/jobs/rates/respread", []byte(`{"portions": 6}`))
	if status != 400 || !strings.Contains(text, "has been saved since") {
		t.Errorf("%d %s", status, text)
	}
	ena(pier).want(201, "POST", "/jobs/rates/restart", "{}", nil)
	send(100)
	portions(4)
	for ask, why := range map[string]string{`{"portions": 4}`: "has 4 portions of each part already", `{"portions": 1}`: "give 2 to 64", `{"portions": 65}`: "give 2 to 64", `{}`: "give 2 to 64"} {
		if status, text := ena(quay).ask("POST", "/jobs/rates/respread", []byte(ask)); status != 400 || !strings.Contains(text, why) {
			t.Errorf("%s: %d %s", ask, status, text)
		}
	}

	// Other steps at once are refused, and the job goes on.
	saves.want(201, "POST", "/jobs", strings.Replace(strings.Replace(document, "spread: 2", "spread: 6", 1), "n: count(), ", "n: count(), most: max(tonnes), ", 1), nil)
	if status, text := ena(quay).ask("POST", "/jobs/rates/restart", []byte("{}")); status == 201 || !strings.Contains(text, "they differ in measure minute.most") {
		t.Errorf("%d %s", status, text)
	}
	if j := job(quay); j.Status != "running" {
		t.Errorf("the job is %s: %s", j.Status, j.Sentence)
	}

	// Where nothing is read, no rate is shown, though the portions tell one after another of what they had read before.
	ena(quay).want(201, "POST", "/jobs/rates/restart", fmt.Sprintf(`{"version": %d}`, job(quay).Run.Version), nil)
	for range 60 {
		if j := job(pier); j.Live != nil && j.Live.InPerSecond > 1 {
			t.Fatalf("the job reads %.0f events a second, and nobody sends any", j.Live.InPerSecond)
		}
		time.Sleep(50 * time.Millisecond)
	}
	portions(4)

	ena(quay).want(200, "POST", "/jobs/rates/drain", "{}", nil)
	until(t, "the job has come to its end", func() bool { return job(quay).Status == "finished" && job(pier).Status == "finished" })
	windows := map[string]bool{}
	for _, r := range written(t, out) {
		key := fmt.Sprint(r["crane"], r["window_start"])
		if windows[key] {
			t.Errorf("the window %s came twice", key)
		}
		windows[key] = true
	}
	if n := counted(); n != sent || len(windows) < 200 {
		t.Errorf("%d events are counted in %d windows, and there were %d", n, len(windows), sent)
	}
	lifts, busy := 0, map[string]bool{}
	for _, r := range written(t, filepath.Join(quay.dir, "busy")) {
		lifts += int(r["lifts"].(float64))
		key := fmt.Sprint(r["n"], r["window_start"])
		if busy[key] {
			t.Errorf("the sliding window %s came twice", key)
		}
		busy[key] = true
	}
	if lifts != 5*sent {
		t.Errorf("sliding windows have %d lifts, and each of %d is in five", lifts, sent)
	}
}

// TestRestsSince: a portion that was stopped before it had come to rest has not, whatever its run's number: what it has not read or delivered would be left behind.
func TestRestsSince(t *testing.T) {
	for _, c := range []struct {
		run  *store.Run
		want resting
	}{
		{nil, notAtRest},
		{&store.Run{ID: 7, Status: stopped}, notAtRest},
		{&store.Run{ID: 7, Status: stopped, Rested: true}, notAtRest}, // at the watermarks of before
		{&store.Run{ID: 7, Status: finished}, notAtRest},
		{&store.Run{ID: 7, Status: running, Wanted: true}, ranBefore},
		{&store.Run{ID: 8, Status: starting, Wanted: true}, comesTo},
		{&store.Run{ID: 8, Status: resuming, Wanted: true}, comesTo},
		{&store.Run{ID: 8, Status: stopped}, notAtRest},
		{&store.Run{ID: 8, Status: stopped, Rested: true}, atRestNow},
		{&store.Run{ID: 8, Status: finished}, atRestNow},
		{&store.Run{ID: 8, Status: failed, Error: "the disk is full"}, cannotRest},
	} {
		if got := (&portion{run: c.run}).restsSince(7); got != c.want {
			t.Errorf("%+v is %d, want %d", c.run, got, c.want)
		}
	}
}
