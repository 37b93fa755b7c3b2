package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"

	"undertide/account"
	"undertide/api"
	"undertide/testcert"
)

var (
	nodeKills = flag.Int("node-kills", 2, "how often TestNodesFail kills a node that carries a job out")
	nodeCut   = flag.Duration("node-cut", 7*time.Second, "for how long it cuts one off")
)

// Addresses of what the nodes share, in a network of its own behind which each node has another.
const (
	recordsAt = "10.20.30.1" // PostgreSQL
	brokerAt  = "10.20.30.2"
	objectsAt = "10.20.30.3" // a store of objects, where there is one
)

// fleet are nodes in networks of their own, with what they share.
type fleet struct {
	t     *testing.T
	dir   string
	hub   string // the network of PostgreSQL and the broker
	nodes []*seaNode

	records    *records
	brokerRuns *process
	partitions string // of topics
	// store is where the nodes keep checkpoints.
	store []string
}

// seaNode is one of them.
type seaNode struct {
	f       *fleet
	name    string
	network string
	at      string // its address
	data    string
	cert    testcert.Made
	*process

	starts  []*started
	outside []span // when it was suspended
}

// started is one start of a node.
type started struct {
	*process
	ended time.Time // when it was killed; zero for not
}

type span struct{ from, to time.Time }

// forwarder is the variable by which the tests' program is what hands connections on, FROM TO, and runs no test: what listens on loopback alone is reached from another network
// so.
const forwarder = "UNDERTIDE_TEST_FORWARD"

// handOn hands connections on until it is killed.
func handOn(from, to string) error {
	l, err := net.Listen("tcp", from)
	if err != nil {
		return err
	}
	for {
		in, err := l.Accept()
		if err != nil {
			return err
		}
		go func() {
			defer in.Close()
			out, err := net.DialTimeout("tcp", to, 3*time.Second)
			if err != nil {
				return
			}
			go func() { _, _ = io.Copy(out, in); out.Close() }()
			_, _ = io.Copy(in, out)
		}()
	}
}

// keeper is the variable by which the tests' program is a store of objects at an address, with the bucket harbour, and runs no test.
const keeper = "UNDERTIDE_TEST_OBJECTS"

// keepObjects keeps objects until it is killed.
func keepObjects(at string) error {
	kept := s3mem.New()
	if err := kept.CreateBucket("harbour"); err != nil {
		return err
	}
	return http.ListenAndServe(at, gofakes3.New(kept, gofakes3.WithLogger(gofakes3.DiscardLog())).Server())
}

// forward hands connections on within a network.
func forward(t *testing.T, network, from, to string) {
	t.Helper()
	stands(t, network, forwarder+"="+from+" "+to)
}

// stands lets the tests' program be something else within a network, until the test ends.
func stands(t *testing.T, network, as string) {
	t.Helper()
	c := within(network, os.Args[0])
	c.Env = append(os.Environ(), as)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
}

func must(t *testing.T, command ...string) string {
	t.Helper()
	out, err := exec.Command(command[0], command[1:]...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %v: %s", strings.Join(command, " "), err, out)
	}
	return string(out)
}

// shareables makes what nodes share in a folder, which is their user's: shared, for checkpoints, and the key of secrets.
func shareables(t *testing.T, dir string) account.Account {
	t.Helper()
	if err := os.Mkdir(filepath.Join(dir, "shared"), 0o700); err != nil {
		t.Fatal(err)
	}
	key := write(t, dir, "key", "bmV0cyBhcmUgbWVuZGVkIG9uIHRoZSBxdWF5IGJ5IG4=")
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	a, err := account.Find(servant)
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{filepath.Join(dir, "shared"), key} {
		if err := os.Chown(path, a.UID, a.GID); err != nil {
			t.Fatal(err)
		}
	}
	return a
}

// newFleet starts PostgreSQL, the broker stand-in, whose topics have so many partitions, and some nodes, each in a network of its own. They keep checkpoints in a bucket of a
// stand-in, or in a shared folder.
func newFleet(t *testing.T, count int, partitions string, bucket bool) *fleet {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Fatal("a network of its own takes the rights of root; run it as root, as in a container")
	}
	f := &fleet{t: t, dir: open(t), partitions: partitions}
	id := os.Getpid() % 10_000
	f.hub = fmt.Sprintf("tide%dh", id)
	ip := func(args ...string) { t.Helper(); must(t, append([]string{"ip"}, args...)...) }
	network := func(name string) {
		ip("netns", "add", name)
		t.Cleanup(func() { ip("netns", "del", name) })
		ip("-n", name, "link", "set", "lo", "up")
	}
	network(f.hub)
	ip("-n", f.hub, "addr", "add", recordsAt+"/32", "dev", "lo")
	ip("-n", f.hub, "addr", "add", brokerAt+"/32", "dev", "lo")
	must(t, "ip", "netns", "exec", f.hub, "sh", "-c", "echo 1 > /proc/sys/net/ipv4/ip_forward")
	a := shareables(t, f.dir)
	f.records = newRecords(t, f.hub, f.dir, recordsAt, "5432")
	f.startBroker()
	forward(t, f.hub, brokerAt+":19092", "127.0.0.1:19092")
	f.store = []string{"--store", filepath.Join(f.dir, "shared")}
	if bucket {
		ip("-n", f.hub, "addr", "add", objectsAt+"/32", "dev", "lo")
		stands(t, f.hub, keeper+"="+objectsAt+":9000")
		write(t, f.dir, "undertide.yaml", "connections:\n  lake: {via: file, url: \"http://127.0.0.1:9000\"}\n")
		f.store = []string{"--store", "s3://harbour/tide", "--store-via", "lake"}
	}
	for i := range count {
		n := &seaNode{f: f, name: string(rune('a' + i)), network: fmt.Sprintf("tide%dn%d", id, i), at: fmt.Sprintf("10.20.4%d.2", i)}
		network(n.network)
		line := fmt.Sprintf("line%d", i)
		ip("link", "add", line, "netns", f.hub, "type", "veth", "peer", "name", "line", "netns", n.network)
		for _, end := range []struct{ network, dev, at string }{{f.hub, line, fmt.Sprintf("10.20.4%d.1", i)}, {n.network, "line", n.at}} {
			ip("-n", end.network, "link", "set", end.dev, "addrgenmode", "none")
			ip("-n", end.network, "addr", "add", end.at+"/24", "dev", end.dev)
			ip("-n", end.network, "link", "set", end.dev, "up")
		}
		ip("-n", n.network, "route", "add", "default", "via", fmt.Sprintf("10.20.4%d.1", i))
		forward(t, n.network, "127.0.0.1:19092", brokerAt+":19092")
		if bucket {
			forward(t, n.network, "127.0.0.1:9000", objectsAt+":9000")
		}
		certs := filepath.Join(f.dir, "cert-"+n.name)
		if err := os.Mkdir(certs, 0o755); err != nil {
			t.Fatal(err)
		}
		n.cert = testcert.Make(t, certs, n.name+".tide.test", time.Hour, net.ParseIP(n.at))
		if err := os.Chown(n.cert.Key, a.UID, a.GID); err != nil {
			t.Fatal(err)
		}
		n.data = filepath.Join(f.dir+".data", n.name)
		f.nodes = append(f.nodes, n)
		n.start()
	}
	t.Cleanup(func() { _ = os.RemoveAll(f.dir + ".data") })
	return f
}

// records are a PostgreSQL of a test's own, which can be killed and started again.
type records struct {
	t             *testing.T
	network       string // empty: that of this machine
	dir, at, port string
	url           string
}

// newRecords makes a database that trusts whoever reaches it, and starts its server.
func newRecords(t *testing.T, network, dir, at, port string) *records {
	t.Helper()
	r := &records{t: t, network: network, dir: dir, at: at, port: port, url: "postgres://tide@" + net.JoinHostPort(at, port) + "/postgres?sslmode=disable"}
	r.do("initdb", "-D", r.data(), "-A", "trust", "-U", "tide", "--no-sync")
	if err := os.WriteFile(filepath.Join(r.data(), "pg_hba.conf"), []byte("host all tide 10.20.0.0/16 trust\nhost all tide 127.0.0.1/32 trust\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = r.command("pg_ctl", "-D", r.data(), "-m", "immediate", "stop").Run() })
	r.start()
	return r
}

func (r *records) data() string { return filepath.Join(r.dir, "records") }

func (r *records) start() {
	r.t.Helper()
	r.do("pg_ctl", "-D", r.data(), "-w", "-l", filepath.Join(r.dir, "records.log"), "-o", "-p "+r.port+" -c listen_addresses="+r.at+" -c unix_socket_directories="+r.dir, "start")
}

// kill ends the server as a machine dies.
func (r *records) kill() {
	r.t.Helper()
	r.do("pg_ctl", "-D", r.data(), "-m", "immediate", "stop")
}

// command gives a command of PostgreSQL's, as its user.
func (r *records) command(program string, args ...string) *exec.Cmd {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + program)
	if len(found) == 0 {
		r.t.Fatalf("there is no %s", program)
	}
	all := append([]string{"setpriv", "--reuid=" + servant, "--regid=" + servant, "--clear-groups", found[len(found)-1]}, args...)
	if r.network == "" {
		return exec.Command(all[0], all[1:]...)
	}
	return within(r.network, all...)
}

func (r *records) do(program string, args ...string) {
	r.t.Helper()
	if out, err := r.command(program, args...).CombinedOutput(); err != nil {
		r.t.Fatalf("%s: %v: %s", program, err, out)
	}
}

func (f *fleet) startBroker() {
	f.t.Helper()
	c := within(f.hub, binary, "broker", "--listen", "127.0.0.1:19092", "--data", filepath.Join(f.dir, "broker"), "--topic", "gauge.levels", "--topic", "gauge.counts", "--topic", "gauge.posted", "--partitions", f.partitions)
	f.brokerRuns = running(f.t, c)
	f.brokerRuns.says(f.t, "listens on")
}

// start starts a node and waits until it serves.
func (n *seaNode) start() {
	n.f.t.Helper()
	c := within(n.network, append([]string{binary, "serve", "--user", servant, "--data", n.data, "--files", n.f.dir, "--listen", n.at + ":7400", "--tls-cert", n.cert.Cert, "--tls-key", n.cert.Key,
		"--database", n.f.records.url, "--node", n.name, "--secret-key-from", "file:" + filepath.Join(n.f.dir, "key"), "--log-level", "debug"}, n.f.store...)...)
	c.Dir = n.f.dir
	n.process = running(n.f.t, c)
	n.starts = append(n.starts, &started{process: n.process})
	n.says(n.f.t, `console is at (https://\S+);`)
}

// run runs a command that asks this node, in its network.
func (n *seaNode) run(args ...string) outcome {
	n.f.t.Helper()
	token, _, _ := strings.Cut(read(n.f.t, filepath.Join(n.data, "token")), "\n")
	c := within(n.network, append([]string{binary}, append(args, "--server", "https://"+n.at+":7400", "--authority", n.cert.Cert, "--token", token)...)...)
	c.Dir = n.f.dir
	return finish(n.f.t, c)
}

// ask runs a command whose answer is JSON.
func ask[V any](n *seaNode, args ...string) (v V, ok bool) {
	n.f.t.Helper()
	o := n.run(append(args, "--format", "json")...)
	return v, o.status == 0 && json.Unmarshal([]byte(o.out), &v) == nil
}

// holder gives the node that carries a job out, as another one says; nil for none just now.
func (f *fleet) holder(asked *seaNode, job string) *seaNode {
	list, ok := ask[[]api.Node](asked, "nodes")
	if !ok {
		return nil
	}
	for _, x := range list {
		if x.State != "away" && slices.Contains(x.Jobs, job) {
			return f.nodes[slices.IndexFunc(f.nodes, func(n *seaNode) bool { return n.name == x.Name })]
		}
	}
	return nil
}

// other gives a node that is not this one.
func (f *fleet) other(n *seaNode) *seaNode {
	for {
		if x := f.nodes[rand.IntN(len(f.nodes))]; x != n {
			return x
		}
	}
}

// cut cuts a node off from an address for a while.
func (n *seaNode) cut(addresses ...string) (mend func()) {
	n.f.t.Helper()
	for _, at := range addresses {
		must(n.f.t, "ip", "-n", n.network, "route", "add", "blackhole", at+"/32")
	}
	return func() {
		for _, at := range addresses {
			must(n.f.t, "ip", "-n", n.network, "route", "del", "blackhole", at+"/32")
		}
	}
}

// feeding sends readings to a topic until end is called. What it sent while the broker was away may have come, or not: the topic says what there is.
func (f *fleet) feeding() (end func()) {
	f.t.Helper()
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for n := 0; ; {
			c := within(f.hub, "kcat", "-P", "-b", "127.0.0.1:19092", "-t", "gauge.levels", "-K", "\t", "-X", "linger.ms=5")
			in, err := c.StdinPipe()
			if err == nil {
				err = c.Start()
			}
			for err == nil {
				select {
				case <-stop:
					in.Close()
					_ = c.Wait()
					return
				case <-time.After(50 * time.Millisecond):
				}
				for range 50 {
					gauge := fmt.Sprintf("G%02d", n%20)
					_, err = fmt.Fprintf(in, "%s\t{\"gauge\":%q,\"n\":%d,\"at\":%d}\n", gauge, gauge, n, time.Now().UnixMilli())
					n++
				}
			}
			_ = c.Wait() // the broker was killed
		}
	}()
	return func() {
		close(stop)
		<-ended
	}
}

// delivered reads what readers of committed messages see in a topic.
func (f *fleet) delivered(topic string) (out []map[string]any) {
	f.t.Helper()
	c := within(f.hub, "kcat", "-C", "-e", "-q", "-b", "127.0.0.1:19092", "-t", topic, "-X", "isolation.level=read_committed")
	text, err := c.Output()
	if err != nil {
		f.t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		var row map[string]any
		if err := json.Unmarshal([]byte(line), &row); err != nil {
			f.t.Fatalf("%s: %v", line, err)
		}
		out = append(out, row)
	}
	return out
}

// posting posts numbered readings, one after another, each to any node until one has acknowledged it; end gives how many.
func (f *fleet) posting(token string) (end func() int) {
	f.t.Helper()
	stop, ended := make(chan struct{}), make(chan int)
	go func() {
		for n := 0; ; n++ {
			for {
				at := f.nodes[rand.IntN(len(f.nodes))]
				c := within(f.hub, "curl", "-s", "-m", "4", "--cacert", at.cert.Cert, "-o", "/dev/null", "-w", "%{http_code}", "-H", "Authorization: Bearer "+token, "-H", "Content-Type: application/json",
					"-H", fmt.Sprintf("Idempotency-Key: reading %d", n), "-d", fmt.Sprintf(`{"gauge": "G1", "n": %d, "at": %d}`, n, time.Now().UnixMilli()), "https://"+at.at+":7400/in/posted/levels")
				if code, _ := c.Output(); string(code) == "202" {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
			select {
			case <-stop:
				ended <- n + 1
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	return func() int { close(stop); return <-ended }
}

const posted = `undertide: 1
job: posted
about: Readings that are posted
settings: {checkpoint: {every: 500ms}}
connections:
  yard: {via: kafka, brokers: ["127.0.0.1:19092"]}
sources:
  levels: {via: http, with: {tokens: true}, fields: {gauge: string, n: int, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: kafka, with: {connection: yard, topic: gauge.posted}}
`

const counts = `undertide: 1
job: counts
about: Readings of each gauge, second by second
settings: {checkpoint: {every: 500ms}}
connections:
  yard: {via: kafka, brokers: ["127.0.0.1:19092"]}
sources:
  levels:
    via: kafka
    with: {connection: yard, topic: gauge.levels}
    decode: json
    fields: {gauge: string, n: int, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 30s}
steps:
  second:
    from: levels
    key: [gauge]
    window: {tumbling: 1s}
    measures: {readings: count(), total: sum(n)}
sinks:
  out:
    from: second
    via: kafka
    with: {connection: yard, topic: gauge.counts}
  alike:
    from: second
    via: file
    with: {path: alike/, roll: {size: 1MiB}}
`

// goesOnWithin is how soon a job goes on elsewhere whose node has died.
const goesOnWithin = 10 * time.Second

// TestNodesFail: three nodes share a PostgreSQL, a broker and a folder, each in a network of its own, over TLS. While rows flow, nodes are killed and suspended
// for longer than their lease, cut off from the database, the broker and both, and PostgreSQL and the broker are killed. Nothing is lost, nothing comes twice,
// the job goes on within ten seconds, and no two nodes carry it out at one time.
func TestNodesFail(t *testing.T) {
	f := newFleet(t, 3, "4", false)
	write(t, f.dir, "counts.yaml", strings.Replace(counts, "path: alike/", "path: "+f.dir+"/alike/", 1))
	a := f.nodes[0]
	a.run("save", "counts.yaml").want(t, 0)
	write(t, f.dir, "posted.yaml", posted)
	a.run("save", "posted.yaml").want(t, 0)
	end := f.feeding()
	a.run("start", "counts").want(t, 0)
	a.run("start", "posted").want(t, 0)
	token := a.run("tokens", "posted", "--make", "gate", "--source", "levels")
	token.want(t, 0)
	endPosts := f.posting(strings.TrimSpace(token.out))

	// goesOn waits until a node other than one carries the job out and has made a checkpoint, and says how long it took.
	goesOn := func(what string, but *seaNode, begun time.Time, most time.Duration) *seaNode {
		t.Helper()
		asked := f.nodes[0]
		if asked == but {
			asked = f.nodes[1]
		}
		var at *seaNode
		checkpoints := func() int64 {
			list, ok := ask[[]api.Checkpoint](asked, "checkpoints", "counts")
			if !ok || len(list) == 0 {
				return 0
			}
			return list[0].Epoch
		}
		before := int64(0)
		eventually(t, most+20*time.Second, what+": the job goes on", func() bool {
			if at = f.holder(asked, "counts"); at == nil || at == but {
				before = 0
				return false
			}
			newest := checkpoints()
			if before == 0 {
				before = newest
			}
			return newest > before
		})
		took := time.Since(begun)
		t.Logf("%s: goes on at node %s after %.1f s", what, at.name, took.Seconds())
		if took > most {
			t.Errorf("%s: the job went on after %s", what, took)
		}
		return at
	}
	at := goesOn("start", nil, time.Now(), goesOnWithin)

	for range *nodeKills {
		if err := at.killed(); err != nil {
			t.Fatal(err)
		}
		dead := at
		at = goesOn("kill", dead, time.Now(), goesOnWithin)
		dead.start()
	}

	suspended, begun := at, time.Now()
	suspended.suspend(func() { at = goesOn("suspended", suspended, begun, goesOnWithin); time.Sleep(2 * time.Second) })
	suspended.says(t, "the run goes on elsewhere")

	cutOff := func(what string, elsewhere bool, from ...string) {
		cut, begun := at, time.Now()
		mend := cut.cut(from...)
		if elsewhere {
			at = goesOn("cut off from "+what, cut, begun, goesOnWithin)
		}
		time.Sleep(time.Until(begun.Add(*nodeCut)))
		mend()
		if !elsewhere {
			at = goesOn("cut off from "+what+", and no longer", nil, time.Now(), goesOnWithin)
		}
	}
	cutOff("the database", true, recordsAt)
	cutOff("the broker", false, brokerAt)
	cutOff("both", true, recordsAt, brokerAt)

	f.records.kill()
	time.Sleep(6 * time.Second) // longer than leases last
	f.records.start()
	goesOn("PostgreSQL killed", nil, time.Now(), goesOnWithin)
	if err := f.brokerRuns.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	f.startBroker()
	at = goesOn("the broker killed", nil, time.Now(), 15*time.Second)

	// A node ends in good order, and comes back: its jobs go elsewhere at once.
	ends, begun := at, time.Now()
	ends.end(t, syscall.SIGINT)
	at = goesOn("ended", ends, begun, goesOnWithin)
	ends.start()

	// A node is drained: its jobs go elsewhere at once.
	drained := at
	f.other(drained).run("nodes", "drain", drained.name).want(t, 0)
	at = goesOn("drained", drained, time.Now(), goesOnWithin)
	if got := f.other(drained).run("nodes"); !strings.Contains(got.out, "drained") {
		t.Errorf("nodes says:\n%s", got.out)
	}
	f.other(drained).run("nodes", "drain", drained.name, "--end").want(t, 0)

	end()
	eventually(t, 40*time.Second, "everything is read", func() bool {
		j, ok := ask[[]api.Job](at, "jobs")
		return ok && len(j) == 2 && lagOf(j[0]) == 0
	})
	f.other(at).run("drain", "counts").want(t, 0)
	eventually(t, 30*time.Second, "the job finishes", func() bool {
		j, ok := ask[[]api.Job](a, "jobs")
		return ok && len(j) == 2 && j[0].Status == "finished"
	})

	// What was acknowledged was taken, and what was posted again since nobody had is there once.
	posts := endPosts()
	t.Logf("%d posts were acknowledged", posts)
	eventually(t, 60*time.Second, "all posts are delivered, once each", func() bool {
		seen := map[int]bool{}
		for _, r := range f.delivered("gauge.posted") {
			n, _ := r["n"].(float64)
			if seen[int(n)] {
				t.Fatalf("post %d came twice", int(n))
			}
			seen[int(n)] = true
		}
		return len(seen) >= posts
	})

	sent := map[string]int64{}
	for _, r := range f.delivered("gauge.levels") {
		gauge, _ := r["gauge"].(string)
		sent[gauge]++
	}
	if len(sent) != 20 {
		t.Fatalf("readings of %d gauges came", len(sent))
	}
	f.onceEach("topic", sent, f.delivered("gauge.counts"))
	var rows []map[string]any
	for _, line := range folder(t, filepath.Join(f.dir, "alike")) {
		var row map[string]any
		if err := json.Unmarshal([]byte(line), &row); err != nil {
			t.Fatal(err)
		}
		rows = append(rows, row)
	}
	f.onceEach("folder", sent, rows)
	f.oneAtATime("counts", 6)
	f.oneAtATime("posted", 3)
}

// onceEach holds that windows came once each, and that together they have all readings.
func (f *fleet) onceEach(where string, sent map[string]int64, rows []map[string]any) {
	f.t.Helper()
	got, seen := map[string]int64{}, map[string]bool{}
	for _, r := range rows {
		gauge, _ := r["gauge"].(string)
		key := fmt.Sprint(gauge, r["window_start"])
		if seen[key] {
			f.t.Errorf("%s: the window %s came twice", where, key)
		}
		seen[key] = true
		n, _ := r["readings"].(float64)
		got[gauge] += int64(n)
	}
	total := int64(0)
	for gauge, n := range sent {
		total += n
		if got[gauge] != n {
			f.t.Errorf("%s: gauge %s has %d readings, and %d were sent", where, gauge, got[gauge], n)
		}
	}
	f.t.Logf("%s: %d readings in %d windows", where, total, len(seen))
}

// killed kills a node as a machine dies.
func (n *seaNode) killed() error {
	n.starts[len(n.starts)-1].ended = time.Now()
	err := n.signal(syscall.SIGKILL)
	<-n.done
	n.done <- nil
	return err
}

// signal signals the service itself: ip has become it.
func (n *seaNode) signal(s syscall.Signal) error { return n.cmd.Process.Signal(s) }

// suspend stops the node while something is done, as a machine does whose host is busy.
func (n *seaNode) suspend(meanwhile func()) {
	n.f.t.Helper()
	from := time.Now()
	if err := n.signal(syscall.SIGSTOP); err != nil {
		n.f.t.Fatal(err)
	}
	meanwhile()
	n.outside = append(n.outside, span{from, time.Now()})
	if err := n.signal(syscall.SIGCONT); err != nil {
		n.f.t.Fatal(err)
	}
}

// awake gives the part of a stretch before the node was suspended in it.
func (n *seaNode) awake(s span) span {
	for _, o := range n.outside {
		if o.from.After(s.from) && o.from.Before(s.to) {
			s.to = o.from
		}
	}
	return s
}

var (
	beginsRun = regexp.MustCompile(`time=(\S+) level=INFO msg=running job=(\S+) `)
	endsRun   = regexp.MustCompile(`time=(\S+) level=\S+ msg=("the run is broken off|"the run failed; it goes on|"the run goes on elsewhere|"stopped with a checkpoint|finished|stopped|"the run stopped)[^=]* job=(\S+) `)
)

// oneAtATime holds, by what the nodes have logged, that no two of them carried a job out at one time, and that it was carried out so often at least. It gives how often. A node that was suspended did nothing meanwhile.
func (f *fleet) oneAtATime(job string, least int) int {
	f.t.Helper()
	type stretch struct {
		node string
		span
	}
	var all []stretch
	for _, n := range f.nodes {
		for _, one := range n.starts {
			var begun time.Time
			for line := range strings.Lines(one.text()) {
				if m := beginsRun.FindStringSubmatch(line); m != nil && m[2] == job {
					begun, _ = time.Parse(time.RFC3339Nano, m[1])
				}
				if m := endsRun.FindStringSubmatch(line); m != nil && m[3] == job && !begun.IsZero() {
					end, _ := time.Parse(time.RFC3339Nano, m[1])
					all = append(all, stretch{n.name, n.awake(span{begun, end})})
					begun = time.Time{}
				}
			}
			if !begun.IsZero() {
				all = append(all, stretch{n.name, span{begun, one.ended}})
			}
		}
	}
	slices.SortFunc(all, func(x, y stretch) int { return x.from.Compare(y.from) })
	if len(all) < least {
		f.t.Errorf("the job was carried out %d times: %v", len(all), all)
	}
	for i := 1; i < len(all); i++ {
		if all[i].from.Before(all[i-1].to) {
			f.t.Errorf("node %s carried %s out until %s, and node %s from %s", all[i-1].node, job, all[i-1].to.Format(time.TimeOnly+".000"), all[i].node, all[i].from.Format(time.TimeOnly+".000"))
		}
	}
	return len(all)
}

// lagOf is how many events of a job wait to be read; -1 where that is not known.
func lagOf(j api.Job) int64 {
	if j.Live == nil || j.Live.LagEvents == nil {
		return -1
	}
	return *j.Live.LagEvents
}

// TestNodesPlace: the console's place for nodes shows which there are, how they are and what they carry out; a keeper drains and removes them there.
func TestNodesPlace(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Fatal("PostgreSQL and the service run as a user of their own; run it as root, as in a container")
	}
	dir := open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	r := newRecords(t, "", dir, "127.0.0.1", port)
	shareables(t, dir)
	node := func(name string) *serving {
		return serve(t, dir, "--data", filepath.Join(dataOf(dir), name), "--database", r.url, "--node", name, "--store", filepath.Join(dir, "shared"), "--secret-key-from", "file:"+filepath.Join(dir, "key"))
	}
	quay, pier := node("quay"), node("pier")
	write(t, dir, "lifts.yaml", `undertide: 1
job: lifts
settings: {checkpoint: {every: 200ms}}
sources:
  lifts:
    via: simulate
    with: {rate: 50/s, seed: 3, fields: {crane: {pick: [C1, C2]}, tonnes: {normal: [18.0, 6.0]}, at: {now: true}}}
    fields: {crane: string, tonnes: double, at: timestamp}
    event_time: at
    watermark: {margin: 100ms}
steps:
  second: {from: lifts, key: [crane], window: {tumbling: 1s}, measures: {n: count(), load: sum(tonnes)}}
sinks:
  loads: {from: second, via: file, with: {path: `+dir+`/out/}}
`)
	quay.run("save", "lifts.yaml").want(t, 0)
	quay.run("start", "lifts").want(t, 0)
	p := browse(t, pier.address+"/jobs")
	p.shows("Nodes")
	p.hit("the place Nodes", `[...document.querySelectorAll('nav a')].find((e) => e.innerText.startsWith('Nodes'))`)
	p.shows("2 of 2 well, 1 jobs")
	row := func(name string) string {
		return value[string](p, fmt.Sprintf(`document.querySelector('[data-node=%s]')?.innerText ?? ''`, name))
	}
	has := ""
	eventually(t, 20*time.Second, "one of them carries the job out", func() bool {
		for _, name := range []string{"quay", "pier"} {
			if strings.Contains(row(name), "lifts") {
				has = name
			}
		}
		return has != ""
	})
	other := map[string]string{"quay": "pier", "pier": "quay"}[has]
	if found := p.violations(`['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'best-practice']`); found != "" {
		t.Errorf("axe says:\n%s", found)
	}
	p.press("Drain " + has)
	p.shows("stop with a checkpoint and go on at other nodes: lifts")
	p.press("Drain it")
	eventually(t, 20*time.Second, "the other one carries the job out", func() bool {
		return strings.Contains(row(has), "drained") && !strings.Contains(row(has), "lifts") && strings.Contains(row(other), "lifts")
	})
	p.press("Let " + has + " take jobs again")
	eventually(t, 20*time.Second, "it is well again", func() bool { return strings.Contains(row(has), "well") })
	p.hit("the job", `[...document.querySelectorAll('[data-node] a')].find((e) => e.innerText === 'lifts')`)
	p.shows("on node " + other)
	p.shows("Running")

	// One dies: the page says so, and the job goes on.
	if err := quay.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-quay.done
	quay.done <- nil
	p.do(chromedp.Navigate(pier.address + "/nodes"))
	eventually(t, 20*time.Second, "the node is away, and its job is here", func() bool { return strings.Contains(row("quay"), "away") && strings.Contains(row("pier"), "lifts") })
	p.press("Remove quay")
	p.press("Remove it")
	p.shows("1 of 1 well, 1 jobs")
}
