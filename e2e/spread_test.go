package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/api"
)

// TestSpreadFails: a job spread over three nodes, which reads a topic of eight partitions, while nodes are killed and one is suspended, cut off, and the broker is killed. It gives the
// very rows that one run of the same steps gives on the same nodes; no portion is carried out by two nodes at one time.
func TestSpreadFails(t *testing.T) {
	f := newFleet(t, 3, "8")
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
	goesOn := func(what string, but *seaNode, begun time.Time) {
		t.Helper()
		at := asked(but)
		made := map[string]int64{}
		eventually(t, goesOnWithin+30*time.Second, what+": all portions go on", func() bool {
			j, ok := wideJob(at)
			if !ok || j.Status != "running" || but != nil && j.Node == but.name || len(j.Portions) != 6 {
				return false
			}
			return !slices.ContainsFunc(j.Portions, func(p api.Portion) bool { return p.Status != "running" || but != nil && p.Node == but.name })
		})
		eventually(t, 30*time.Second, what+": all portions make checkpoints", func() bool {
			further := 0
			for part := 1; part <= 2; part++ {
				for n := 1; n <= 3; n++ {
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
			return further == 6
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
	for part := 1; part <= 2; part++ {
		for n := 1; n <= 3; n++ {
			f.oneAtATime(fmt.Sprintf("wide.%d-%d", part, n), 2)
		}
	}
	f.oneAtATime("wide", 2)
}
