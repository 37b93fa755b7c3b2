package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// outage is how long databases and brokers stay away; a minute by hand: go test ./e2e -run Away -outage 60s
var outage = flag.Duration("outage", 8*time.Second, "how long what a service needs stays away")

// batch is readings n to n+200, keyed for kcat.
func batch(n int) string {
	var b strings.Builder
	for i := n; i < n+200; i++ {
		fmt.Fprintf(&b, "G%02d|"+`{"gauge":"G%02d","level_m":%d.5,"read_at":%d}`+"\n", i*7%20, i*7%20, i%5, 1767225600000+int64(i)*100)
	}
	return b.String()
}

// feeding sends readings from number n on until it is told to end; then it gives the next number.
func feeding(t *testing.T, broker string, n int) (end func() int) {
	t.Helper()
	stop, sent := make(chan struct{}), make(chan int, 1)
	go func() {
		defer func() { sent <- n }()
		for {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
			}
			c := exec.Command("kcat", "-b", broker, "-t", "levels", "-P", "-K", "|")
			c.Stdin = strings.NewReader(batch(n))
			if out, err := c.CombinedOutput(); err != nil {
				t.Errorf("kcat: %v: %s", err, out)
				return
			}
			n += 200
		}
	}()
	return func() int { close(stop); return <-sent }
}

// allCounted waits until the job has read everything, stops it, and checks that its finished files hold
// each reading once.
func (s *serving) allCounted(sent int) {
	s.t.Helper()
	eventually(s.t, 60*time.Second, fmt.Sprintf("all %d readings are read", sent), func() bool {
		_, text, _ := s.get(fmt.Sprintf("/api/v1/runs/%d/figures", s.job("means").Run.ID))
		var f struct {
			Sources map[string]struct{ Read int }
		}
		return json.Unmarshal([]byte(text), &f) == nil && f.Sources["levels"].Read == sent
	})
	s.must("stop", "means")
	counted := 0
	seen := map[string]bool{}
	for _, line := range delivered(s.t, filepath.Join(s.dir, "out")) {
		var r struct {
			Gauge string
			Start string `json:"window_start"`
			N     int
		}
		if err := json.Unmarshal([]byte(line), &r); err != nil {
			s.t.Fatal(err)
		}
		if seen[r.Gauge+r.Start] {
			s.t.Errorf("twice: %s", line)
		}
		seen[r.Gauge+r.Start] = true
		counted += r.N
	}
	for _, line := range delivered(s.t, filepath.Join(s.dir, "late")) {
		s.t.Errorf("late: %s", line)
	}
	// What the open windows hold has not been published: at most a minute and the margin.
	if open := sent - counted; open < 0 || open > 700 {
		s.t.Errorf("%d readings were sent, %d are in closed windows", sent, counted)
	}
}

func (s *serving) ready() (int, string) {
	code, text, _ := s.get("/readyz")
	return code, text
}

// TestDatabaseAway: jobs go on while the database is away, /readyz says so, and afterwards the records
// of that time are there.
func TestDatabaseAway(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", strings.Replace(topicJob(broker, dir), "idle: 1s", "idle: 1m", 1)))
	s.must("start", "means")
	end := feeding(t, broker, 0)
	if code, text := s.ready(); code != http.StatusOK {
		t.Fatalf("/readyz before: %d %s", code, text)
	}
	pid := postmaster(t, dir)
	freeze(t, pid, syscall.SIGSTOP) // it neither answers nor ends, the worst it can do
	began := time.Now()
	eventually(t, 15*time.Second, "/readyz says so", func() bool {
		code, text := s.ready()
		return code == http.StatusServiceUnavailable && strings.Contains(text, `"database":{"well":false`)
	})
	rows := func() int { return len(delivered(t, filepath.Join(dir, "out"))) }
	before := rows()
	s.run("save", "means.yaml").want(t, 1, "the database cannot be reached")
	s.run("history", "means").want(t, 1, "the database cannot be reached")
	if o := s.must("jobs"); !strings.Contains(o.out, "running") {
		t.Errorf("jobs while the database is away:\n%s", o.out)
	}
	time.Sleep(*outage - time.Since(began))
	during := rows() - before
	if during < 20 {
		t.Errorf("%d rows were delivered while the database was away", during)
	}
	_, text := s.ready()
	if strings.Contains(text, `"records_waiting":0`) {
		t.Errorf("no records wait: %s", text)
	}
	freeze(t, pid, syscall.SIGCONT)
	eventually(t, 30*time.Second, "/readyz is well again and no records wait", func() bool {
		code, text := s.ready()
		return code == http.StatusOK && strings.Contains(text, `"records_waiting":0`)
	})
	s.allCounted(end())
	// The list of checkpoints has a line for every epoch, also of the time without a database.
	_, text, _ = s.get(fmt.Sprintf("/api/v1/runs/%d/checkpoints?limit=1000", s.job("means").Run.ID))
	var page struct{ Items []struct{ Epoch int64 } }
	if err := json.Unmarshal([]byte(text), &page); err != nil || len(page.Items) < 10 {
		t.Fatalf("checkpoints: %v %s", err, text)
	}
	for i, c := range page.Items {
		if want := page.Items[0].Epoch - int64(i); c.Epoch != want {
			t.Fatalf("the list has epoch %d where %d belongs", c.Epoch, want)
		}
	}
}

// freeze halts a PostgreSQL or lets it go on: the server and its children, which are groups of their own.
func freeze(t *testing.T, pid int, sig syscall.Signal) {
	t.Helper()
	children, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range append(strings.Fields(string(children)), strconv.Itoa(pid)) {
		n, err := strconv.Atoi(p)
		if err != nil {
			t.Fatal(err)
		}
		_ = syscall.Kill(n, sig) // a child may just have ended
	}
}

func postmaster(t *testing.T, dir string) int {
	t.Helper()
	pid, err := strconv.Atoi(strings.SplitN(read(t, filepath.Join(dataOf(dir), "postgres/data/postmaster.pid")), "\n", 2)[0])
	if err != nil {
		t.Fatal(err)
	}
	return pid
}

// TestPrivateDatabaseDies: the service starts its private database again when it dies; it runs as an
// unprivileged user, and listens on no address.
func TestPrivateDatabaseDies(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	pid := postmaster(t, dir)
	st, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		t.Fatal(err)
	}
	if uid := st.Sys().(*syscall.Stat_t).Uid; uid == 0 {
		t.Error("PostgreSQL runs as root")
	}
	if listens := strings.Split(read(t, filepath.Join(dataOf(dir), "postgres/data/postmaster.pid")), "\n")[5]; strings.TrimSpace(listens) != "" {
		t.Errorf("PostgreSQL listens on the address %q", listens)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	eventually(t, 30*time.Second, "another server is up and answers", func() bool {
		code, _ := s.ready()
		text, err := os.ReadFile(filepath.Join(dataOf(dir), "postgres/data/postmaster.pid"))
		return err == nil && code == http.StatusOK && !strings.HasPrefix(string(text), strconv.Itoa(pid)+"\n")
	})
	s.must("save", write(t, dir, "means.yaml", topicJob("127.0.0.1:1", dir)))
}

// TestBrokerAway: while the broker is away jobs wait and say so; then they go on where they were, and
// nothing is lost, twice or late.
func TestBrokerAway(t *testing.T) {
	t.Parallel()
	dir := open(t)
	b, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("save", write(t, dir, "means.yaml", strings.Replace(topicJob(broker, dir), "idle: 1s", "idle: 5s", 1)))
	s.must("start", "means")
	sent := feeding(t, broker, 0)
	time.Sleep(2 * time.Second)
	n := sent()
	b.end(t, syscall.SIGINT)
	began := time.Now()
	eventually(t, 20*time.Second, "/readyz and the job say so", func() bool {
		code, text := s.ready()
		return code == http.StatusServiceUnavailable && strings.Contains(text, `"harbour":{"well":false`) && s.job("means").Live.Trouble != ""
	})
	if j := s.job("means"); j.Status != "running" || !strings.Contains(j.Live.Sentence, "Waiting: broker harbour ("+broker+") has not answered for") {
		t.Errorf("the job says: %s, %s", j.Status, j.Live.Sentence)
	}
	s.must("jobs").want(t, 0, "Waiting: broker harbour")
	time.Sleep(*outage - time.Since(began))
	startBroker(t, dir, broker)
	sent = feeding(t, broker, n)
	eventually(t, 30*time.Second, "/readyz is well again", func() bool { code, _ := s.ready(); return code == http.StatusOK })
	s.allCounted(sent())
	if j := s.job("means"); j.Run.Restarts != 0 {
		t.Errorf("%d restarts; a broker that is away is waited for", j.Run.Restarts)
	}
	eventually(t, 5*time.Second, "history tells of it", func() bool {
		o := s.must("history", "means").out
		return strings.Contains(o, "has not answered") && strings.Contains(o, "answers again")
	})
}
