package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"undertide/api"
)

// TestSpreadFails: a job spread over three nodes, which reads a topic of eight partitions, while nodes are killed and one is suspended, cut off, and the broker is killed. It gives the
// very rows that one run of the same steps gives on the same nodes; no portion is carried out by two nodes at one time.
func TestSpreadFails(t *testing.T) {
	f := newFleet(t, 3, "8", true)
	document := strings.Replace(counts, "path: alike/", "path: "+f.dir+"/alike/", 1)
	wide := strings.NewReplacer("job: counts", "job: wide", "settings: {", "settings: {spread: 3, ", "/alike/", "/wide/", "gauge.counts", "gauge.posted").Replace(document)
	write(t, f.dir, "counts.yaml", document)
	write(t, f.dir, "wide.yaml", wide)
	asked := func(but *seaNode) *seaNode {
		if f.nodes[0] == but {
			return f.nodes[1]
		}
		return f.nodes[0]
	}
	a := f.nodes[0]
	for _, job := range []string{"counts", "wide"} {
		a.run("save", job+".yaml").want(t, 0)
	}
	end := f.feeding()
	for _, job := range []string{"counts", "wide"} {
		a.run("start", job).want(t, 0)
	}
	wideJob := func(at *seaNode) (j api.Job, ok bool) {
		list, ok := ask[[]api.Job](at, "jobs")
		i := slices.IndexFunc(list, func(j api.Job) bool { return j.Name == "wide" })
		if !ok || i < 0 {
			return j, false
		}
		return list[i], true
	}
	// goesOn waits until all portions are at work on nodes other than one, and have made checkpoints since.
	each := 3 // portions of each part
	goesOn := func(what string, but *seaNode, begun time.Time) {
		t.Helper()
		at := asked(but)
		made := map[string]int64{}
		eventually(t, goesOnWithin+30*time.Second, what+": all portions go on", func() bool {
			j, ok := wideJob(at)
			if !ok || j.Status != "running" || but != nil && j.Node == but.name || len(j.Portions) != 2*each {
				return false
			}
			return !slices.ContainsFunc(j.Portions, func(p api.Portion) bool { return p.Status != "running" || but != nil && p.Node == but.name })
		})
		eventually(t, 30*time.Second, what+": all portions make checkpoints", func() bool {
			further := 0
			for part := 1; part <= 2; part++ {
				for n := 1; n <= each; n++ {
					name := fmt.Sprintf("wide.%d-%d", part, n)
					list, ok := ask[[]api.Checkpoint](at, "checkpoints", name)
					if !ok || len(list) == 0 {
						return false
					}
					if was, seen := made[name]; !seen {
						made[name] = list[0].Epoch
					} else if list[0].Epoch > was {
						further++
					}
				}
			}
			return further == 2*each
		})
		took := time.Since(begun)
		t.Logf("%s: all portions are at work after %.1f s", what, took.Seconds())
		if took > 15*time.Second {
			t.Errorf("%s: the job went on after %s", what, took)
		}
	}
	// busiest gives the node with most of the portions.
	busiest := func() *seaNode {
		t.Helper()
		j, ok := wideJob(a)
		if !ok {
			t.Fatal("the job is not seen")
		}
		count := map[string]int{}
		for _, p := range j.Portions {
			count[p.Node]++
		}
		best := f.nodes[0]
		for _, n := range f.nodes {
			if count[n.name] > count[best.name] {
				best = n
			}
		}
		if count[best.name] == 0 {
			t.Fatalf("the portions are nowhere: %+v", j.Portions)
		}
		return best
	}
	goesOn("start", nil, time.Now())
	for range *nodeKills {
		dead := busiest()
		if err := dead.killed(); err != nil {
			t.Fatal(err)
		}
		goesOn("kill", dead, time.Now())
		dead.start()
	}
	b := busiest()
	begun := time.Now()
	b.suspend(func() { goesOn("suspended", b, begun); time.Sleep(2 * time.Second) })

	c, begun := busiest(), time.Now()
	mend := c.cut(recordsAt, brokerAt)
	goesOn("cut off", c, begun)
	time.Sleep(time.Until(begun.Add(*nodeCut)))
	mend()
	f.records.kill()
	time.Sleep(6 * time.Second) // longer than leases last
	f.records.start()
	goesOn("PostgreSQL killed", nil, time.Now())
	if err := f.brokerRuns.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	f.startBroker()
	goesOn("the broker killed", nil, time.Now())

	// A node is drained: its portions go elsewhere.
	d, begun := busiest(), time.Now()
	a.run("nodes", "drain", d.name).want(t, 0)
	goesOn("drained", d, begun)
	a.run("nodes", "drain", d.name, "--end").want(t, 0)

	// It goes on with more portions; then with fewer, though a node dies while what they keep is divided.
	each, begun = 5, time.Now()
	a.run("respread", "wide", "5").want(t, 0)
	goesOn("more portions", nil, begun)
	each = 2
	e, done := busiest(), make(chan struct{})
	go func() {
		defer close(done)
		asked(e).run("respread", "wide", "2") // who answers may be killed
	}()
	eventually(t, 20*time.Second, "the portions come to rest", func() bool {
		j, ok := wideJob(asked(e))
		return ok && j.Version == 3 && j.Status != "stopped" && j.Run != nil && j.Run.Version == 3
	})
	if err := e.killed(); err != nil {
		t.Fatal(err)
	}
	goesOn("fewer portions, and a kill", e, time.Now())
	<-done
	e.start()

	end()
	for _, job := range []string{"counts", "wide"} {
		eventually(t, 60*time.Second, "everything is read by "+job, func() bool {
			list, ok := ask[[]api.Job](a, "jobs")
			i := slices.IndexFunc(list, func(j api.Job) bool { return j.Name == job })
			return ok && i >= 0 && lagOf(list[i]) == 0
		})
		a.run("drain", job).want(t, 0)
		eventually(t, 60*time.Second, job+" finishes", func() bool {
			list, ok := ask[[]api.Job](a, "jobs")
			i := slices.IndexFunc(list, func(j api.Job) bool { return j.Name == job })
			return ok && i >= 0 && list[i].Status == "finished"
		})
	}
	sent := map[string]int64{}
	for _, r := range f.delivered("gauge.levels") {
		gauge, _ := r["gauge"].(string)
		sent[gauge]++
	}
	f.onceEach("topic", sent, f.delivered("gauge.posted"))
	rows := func(dir string) (out []string) {
		out = folder(t, filepath.Join(f.dir, dir))
		slices.Sort(out)
		return out
	}
	one, many := rows("alike"), rows("wide")
	if !slices.Equal(one, many) || len(one) < 100 {
		t.Errorf("one run gives %d rows, and the portions %d that are not all the same", len(one), len(many))
	}
	var parsed []map[string]any
	for _, line := range many {
		var row map[string]any
		if err := json.Unmarshal([]byte(line), &row); err != nil {
			t.Fatal(err)
		}
		parsed = append(parsed, row)
	}
	f.onceEach("folder", sent, parsed)
	// A portion, or the job, may have been all the time on a node that nothing befell; each node that something befell had two of them at least.
	times := f.oneAtATime("wide", 1)
	for part := 1; part <= 2; part++ {
		for n := 1; n <= 5; n++ {
			times += f.oneAtATime(fmt.Sprintf("wide.%d-%d", part, n), 1)
		}
	}
	if least := 11 + 2*(*nodeKills+3) + 6; times < least { // at rest, and of another number, they are carried out anew
		t.Errorf("the job and its portions were carried out %d times in all, and %d are sure", times, least)
	}
}

var spreadRows = flag.Int("spread-rows", 400_000, "how many events TestSpreadSpeed reads; of millions the ratio has to hold")

// TestSpreadSpeed: how many events a second a job takes that works hard for each of them, carried out by one node on one processor, and spread over two nodes with a processor each.
// What they share, PostgreSQL and the broker stand-in, runs on the same processors. Both give the same rows.
func TestSpreadSpeed(t *testing.T) {
	dir := open(t)
	const files = 8
	r := rand.New(rand.NewPCG(7, 7))
	for f := range files {
		var text strings.Builder
		at := int64(1_772_323_200_000)
		for i := range *spreadRows / files {
			at += r.Int64N(5)
			fmt.Fprintf(&text, `{"lift_id":"L%09d","crane":"C%d","berth":"B%d","tonnes":%.2f,"crew":{"driver":"D%02d","size":4},"lifted_at":%d}`+"\n", i*files+f, r.IntN(2000), r.IntN(40), float64(r.IntN(4000))/100, r.IntN(60), at-r.Int64N(2000))
		}
		write(t, dir, fmt.Sprintf("lifts-%d.ndjson", f), text.String())
	}
	document := `undertide: 1
job: loads
settings: {checkpoint: {every: 1s}SPREAD}
connections: {yard: {via: kafka, brokers: [BROKER]}}
sources:
  lifts:
    via: file
    with: {files: DIR/lifts-*.ndjson}
    fields:
      lift_id: string
      crane: string
      berth: string
      tonnes: double
      driver: {type: string, at: crew.driver}
      lifted_at: {type: timestamp, parse: epoch_ms}
    event_time: lifted_at
    watermark: {margin: 10s}
steps:
  useful:
    from: lifts
    where: "tonnes > 0.5 && crane != ''"
    set: {kilos: "int(tonnes * 1000.0)"}
    only: [crane, driver, tonnes, kilos]
  ten_minutes:
    from: useful
    key: [crane]
    window: {sliding: 10m, by: 1m}
    measures: {lifts: count(), load_kg: sum(kilos), heaviest_t: max(tonnes), p50: "quantile(tonnes, 0.5)", p99: "quantile(tonnes, 0.99)", drivers: count_distinct(driver)}
  quiet:
    from: useful
    key: [crane]
    window: {session: 2s}
    measures: {lifts: count(), load_kg: sum(kilos), heaviest_t: max(tonnes)}
sinks:
  loads: {from: ten_minutes, via: file, with: {path: DIR/out/loads/}}
  quiet: {from: quiet, via: file, with: {path: DIR/out/quiet/}}
`
	rows, took := map[bool][]string{}, map[bool]time.Duration{}
	for _, spread := range []bool{false, true} {
		rows[spread], took[spread] = carriedOut(t, dir, document, spread)
	}
	if !slices.Equal(rows[false], rows[true]) || len(rows[true]) < 1000 {
		t.Errorf("one node gives %d rows, and two %d that are not all the same", len(rows[false]), len(rows[true]))
	}
	ratio := took[false].Seconds() / took[true].Seconds()
	t.Logf("%d events: one node %.0f a second, two %.0f a second, %.2f times as much", *spreadRows, float64(*spreadRows)/took[false].Seconds(), float64(*spreadRows)/took[true].Seconds(), ratio)
	if *spreadRows >= 4_000_000 && ratio < 1.5 {
		t.Errorf("two nodes take %.2f times as much as one", ratio)
	}
}

// carriedOut carries the job out on one node, or spread over two, each on a processor of its own, and gives its rows and how long its run took.
func carriedOut(t *testing.T, dir, document string, spread bool) (rows []string, took time.Duration) {
	t.Helper()
	t.Setenv("GOMAXPROCS", "1")
	within := filepath.Join(dir, map[bool]string{false: "one", true: "two"}[spread])
	out := filepath.Join(dir, "out")
	for _, d := range []string{within, out} {
		if err := os.Mkdir(d, 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(d, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	port := freePort(t)
	records := newRecords(t, "", within, "127.0.0.1", port)
	shareables(t, within)
	pin := func(p *process, cores string) {
		t.Helper()
		must(t, "taskset", "-a", "-p", "-c", cores, fmt.Sprint(p.cmd.Process.Pid))
	}
	cores, more := "0", ""
	if spread {
		cores, more = "0,1", ", spread: 2"
	}
	broker := launch(t, within, "broker", "--listen", "127.0.0.1:"+freePort(t), "--data", filepath.Join(within, "broker"))
	at := broker.says(t, `listens on (\S+);`)
	pin(broker, cores)
	node := func(name, core string) *serving {
		s := serve(t, dir, "--data", filepath.Join(dataOf(dir), filepath.Base(within)+"-"+name), "--database", records.url, "--node", name, "--store", filepath.Join(within, "shared"), "--secret-key-from", "file:"+filepath.Join(within, "key"))
		pin(s.process, core)
		return s
	}
	first := node("a", "0")
	nodes := []*serving{first}
	if spread {
		nodes = append(nodes, node("b", "1"))
		eventually(t, 10*time.Second, "the nodes know one another", func() bool { return strings.Contains(first.must("nodes").out, "\nb ") })
	}
	write(t, dir, "loads.yaml", strings.NewReplacer("SPREAD", more, "BROKER", at, "DIR", dir).Replace(document))
	first.must("save", "loads.yaml")
	first.must("start", "loads")
	var job api.Job
	eventually(t, 10*time.Minute, "the job finishes", func() bool {
		_, text, _ := first.get("/api/v1/jobs/loads")
		return json.Unmarshal([]byte(text), &job) == nil && job.Run != nil && job.Run.EndedAt != nil
	})
	if job.Status != "finished" {
		t.Fatalf("the job is %s: %s", job.Status, job.Sentence)
	}
	for _, sink := range []string{"loads", "quiet"} {
		rows = append(rows, folder(t, filepath.Join(out, sink))...)
	}
	slices.Sort(rows)
	for _, n := range nodes {
		n.end(t, syscall.SIGTERM)
	}
	if err := os.RemoveAll(out); err != nil {
		t.Fatal(err)
	}
	return rows, job.Run.EndedAt.Sub(job.Run.StartedAt)
}

// freePort gives a port that is free.
func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// TestPortionsPlace: the page of a spread job shows its portions, part by part, where they are, and its results as one; a portion has a page of its own, from which nothing is started.
func TestPortionsPlace(t *testing.T) {
	t.Parallel()
	dir := open(t)
	r := newRecords(t, "", dir, "127.0.0.1", freePort(t))
	shareables(t, dir)
	broker := launch(t, dir, "broker", "--listen", "127.0.0.1:"+freePort(t), "--data", filepath.Join(dir, "broker"))
	at := broker.says(t, `listens on (\S+);`)
	node := func(name string) *serving {
		return serve(t, dir, "--data", filepath.Join(dataOf(dir), name), "--database", r.url, "--node", name, "--store", filepath.Join(dir, "shared"), "--secret-key-from", "file:"+filepath.Join(dir, "key"))
	}
	quay, pier := node("quay"), node("pier")
	eventually(t, 10*time.Second, "the nodes know one another", func() bool { return strings.Count(quay.must("nodes").out, "well") == 2 })
	for f := range 4 {
		var text strings.Builder
		for i := range 600 {
			fmt.Fprintf(&text, `{"crane":"C%d","tonnes":%d,"at":"%s"}`+"\n", (i+f)%7, i%40, time.Unix(1_772_323_200+int64(i), 0).UTC().Format(time.RFC3339))
		}
		write(t, dir, fmt.Sprintf("lifts-%d.ndjson", f), text.String())
	}
	write(t, dir, "loads.yaml", strings.NewReplacer("DIR", dir, "BROKER", at).Replace(`undertide: 1
job: loads
settings: {spread: 2, checkpoint: {every: 200ms}}
connections: {yard: {via: kafka, brokers: [BROKER]}}
sources:
  lifts: {via: file, with: {files: DIR/lifts-*.ndjson, follow: true}, fields: {crane: string, tonnes: int, at: timestamp}, event_time: at, watermark: {margin: 1s}}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {lifts: count(), load: sum(tonnes)}}
sinks:
  out: {from: minute, via: file, with: {path: DIR/out/}}
`))
	quay.must("save", "loads.yaml")
	quay.must("start", "loads")
	p := browse(t, pier.address+"/jobs/loads")
	p.shows("Portions")
	p.shows("4 runs on 2 nodes")
	p.shows("Part 2 · minute · reads lifts by crane")
	p.shows("C6") // a row of the results, of whichever portion has it
	if found := p.violations(`['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'best-practice']`); found != "" {
		t.Errorf("axe says:\n%s", found)
	}
	p.shows("By node")
	eventually(t, 10*time.Second, "the keys of both nodes are those of the portions", func() bool {
		return value[string](p, `(() => {
			const last = (rows) => rows.reduce((n, r) => n + Number(r.children[7].innerText), 0)
			return [[...document.querySelectorAll('[data-node]')], [...document.querySelectorAll('[data-portion]')]].map((rows) => rows.length + ':' + last(rows)).join(' ')
		})()`) == "2:7 4:7"
	})
	// Two more of each part, by the button beside the number.
	p.hit("more portions", `document.querySelector('.number .el-input-number__increase')`)
	p.press("Divide anew")
	p.hit("yes", `[...document.querySelectorAll('.el-message-box button')].find((e) => e.innerText === 'Divide anew')`)
	p.shows("6 runs on 2 nodes")
	eventually(t, 20*time.Second, "all portions are at work", func() bool {
		return value[int](p, `[...document.querySelectorAll('[data-portion]')].filter((e) => e.innerText.includes('running')).length`) == 6
	})
	if out := pier.must("versions", "loads").out; strings.Count(out, "\n") < 3 {
		t.Errorf("the versions are:\n%s", out)
	}
	quay.must("respread", "loads", "2")
	p.shows("4 runs on 2 nodes")
	p.shows("running")
	p.hit("portion 2-1", `[...document.querySelectorAll('[data-portion] a')].find((e) => e.innerText === '2-1')`)
	p.shows("A portion of loads, which starts and stops it.")
	p.shows("lifts.by.crane")
	if value[bool](p, `[...document.querySelectorAll('header button')].some((e) => ['Stop', 'Drain', 'Start'].includes(e.innerText))`) {
		t.Error("a portion can be stopped from its page")
	}
	p.hit("the job", `[...document.querySelectorAll('main a')].find((e) => e.innerText === 'loads')`)
	p.shows("4 runs on 2 nodes")
	p.press("Stop")
	p.shows("stopped")
	eventually(t, 10*time.Second, "all portions are stopped", func() bool {
		return value[int](p, `[...document.querySelectorAll('[data-portion]')].filter((e) => e.innerText.includes('stopped')).length`) == 4
	})
	if out := pier.must("show", "loads").out; strings.Count(out, "stopped") < 4 || !strings.Contains(out, "loads.2-2") {
		t.Errorf("show says:\n%s", out)
	}
}
