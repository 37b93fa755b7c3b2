package e2e

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/postgres"
)

var onceKills = flag.Int("kills", 6, "how often each of TestOnceKilled's lives is hurt")

// table starts PostgreSQL on loopback, and gives its server and a session.
func table(t *testing.T) (*postgres.Server, func() *pgx.Conn) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := postgres.Start(ctx, filepath.Join(dir, strings.Repeat("long", 20)), "", slog.New(slog.NewTextHandler(io.Discard, nil))) // too long for a socket
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s, func() *pgx.Conn {
		var conn *pgx.Conn
		eventually(t, 30*time.Second, "PostgreSQL answers", func() bool {
			var err error
			conn, err = pgx.Connect(context.Background(), s.URL())
			return err == nil
		})
		return conn
	}
}

// onceSteps are a deduplication, windows with corrections, sessions that are joined by late rows, and a join of the events with
// an even id and those with an odd one, with the name that the gauge had at the time.
const onceSteps = `undertide: 1
job: once
settings: {checkpoint: {every: 100ms}}
%s
sources:
  events: {via: file, with: {path: %s, follow: %v}, fields: {id: int, gauge: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 1s, ahead: none}}
steps:
  first: {from: events, deduplicate: {key: [id], within: 10m}}
  tens: {from: first, key: [gauge], window: {tumbling: 10s}, late: {accept: 20s}, measures: {n: count(), ids: sum(id)}}
  calls: {from: first, key: [gauge], window: {session: 2s}, late: {accept: 20s}, measures: {n: count(), ids: sum(id)}}
  even: {from: first, where: id %% 2 == 0}
  odd: {from: first, where: id %% 2 != 0}
  met: {join: {left: even, right: odd, match: [gauge], within: 3s, kind: outer, accept: 2s}}
  named: {from: met, lookup: {reference: gauges, match: {gauge: gauge}, add: [name], as_of: event_time}}
references:
  gauges: {via: file, with: {path: %s}, fields: {gauge: string, name: string, since: {type: timestamp, parse: epoch_ms}}, key: [gauge], event_time: since, watermark: {margin: 0s, ahead: none}}
sinks:
`

// onceEvents are events of a batch: some out of order, some late, some twice. Each batch is ten seconds.
func onceEvents(batch int) string {
	r := rand.New(rand.NewPCG(uint64(batch), 14))
	var b strings.Builder
	for i := range 40 {
		id := batch*40 + i
		at := batch*10_000 + i*250 - r.IntN(900)
		switch r.IntN(12) {
		case 0:
			at -= 12_000 // late
		case 1:
			id -= r.IntN(40) // again
		}
		fmt.Fprintf(&b, `{"id":%d,"gauge":"G%d","at":%d}`+"\n", max(id, 0), r.IntN(9), max(at, 0))
	}
	return b.String()
}

// newestOf gives what a replacing place holds after these rows: of each identity the newest, unless it is withdrawn.
func newestOf(t *testing.T, lines []string) []string {
	t.Helper()
	rows := map[string]string{}
	for _, line := range lines {
		var w struct {
			Gauge     string
			Start     time.Time `json:"window_start"`
			End       time.Time `json:"window_end"`
			N, IDs    *int64
			Withdrawn bool
			Revision  int64
		}
		if err := json.Unmarshal([]byte(line), &w); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		key := fmt.Sprintf("%s %d %d", w.Gauge, w.Start.UnixMicro(), w.End.UnixMicro())
		if delete(rows, key); !w.Withdrawn {
			rows[key] = fmt.Sprintf("%s: %d %d, revision %d", key, *w.N, *w.IDs, w.Revision)
		}
	}
	var out []string
	for _, text := range rows {
		if !strings.HasPrefix(text, "last") {
			out = append(out, text)
		}
	}
	slices.Sort(out)
	return out
}

// withoutLast leaves out the rows of the event that closes all windows.
func withoutLast(lines []string) []string {
	out := slices.DeleteFunc(slices.Clone(lines), func(l string) bool { return strings.Contains(l, `"last"`) })
	slices.Sort(out)
	return out
}

// hurt is one life of TestOnceKilled: a job that follows a growing file while what it needs is killed.
type hurt struct {
	t       *testing.T
	dir     string
	r       *rand.Rand
	said    []string
	state   int      // number of the checkpoint folder of a run
	run     *process // a run in the terminal; nil where a service has it
	serve   *serving // nil where a run has it
	broker  *process
	at      string // of the broker
	store   *postgres.Server
	zombies bool
	env     string // the variable with the password of the store
	early   bool   // the last kill did not wait until the job ran
}

func (h *hurt) stateDir() string { return fmt.Sprintf("state%d", h.state) }

func (h *hurt) start() {
	if h.serve != nil {
		h.serve = serve(h.t, h.dir, "--env", h.env) // goes on with the job
		return
	}
	h.run = launch(h.t, h.dir, "run", "once.yaml", "--checkpoints", h.stateDir(), "--lanes", fmt.Sprint(1+h.r.IntN(3)))
}

// victim is who carries the job out.
func (h *hurt) victim() *process {
	if h.serve != nil {
		return h.serve.process
	}
	return h.run
}

// begun waits until the run has made a checkpoint: it has taken its sinks over, and is not a start that is only late.
func (h *hurt) begun() {
	newest := func() string {
		found, _ := filepath.Glob(filepath.Join(h.dir, h.stateDir(), "*", "manifest.json")) // the pattern is right
		if len(found) == 0 {
			return ""
		}
		return found[len(found)-1]
	}
	for range 2 { // the first that is found may be of the run before
		before := newest()
		eventually(h.t, 40*time.Second, "the run makes a checkpoint", func() bool {
			h.alive()
			return newest() > before
		})
	}
}

// alive starts a run again that could not begin: it says why, as where PostgreSQL was away just then.
func (h *hurt) alive() {
	for h.run != nil {
		select {
		case err := <-h.run.done:
			h.run.done <- err
			if !strings.Contains(h.run.text(), "cannot be reached") {
				h.t.Fatalf("the run has ended: %s", h.run.text())
			}
			h.start()
			time.Sleep(500 * time.Millisecond)
		default:
			return
		}
	}
}

// once hurts something at random, and lets all go on.
func (h *hurt) once() {
	t := h.t
	// A job that was at work in three boots in a row that crashed, without a checkpoint, is not gone on with.
	if h.early = !h.early && h.r.IntN(3) == 0; h.serve != nil && !h.early {
		h.serve.waitStatus("once", "running")
		time.Sleep(500 * time.Millisecond)
	}
	time.Sleep(time.Duration(200+h.r.IntN(700)) * time.Millisecond)
	h.alive()
	switch what := h.r.IntN(8); {
	case what == 0:
		h.said = append(h.said, "broker killed")
		h.broker.end(t, syscall.SIGKILL)
		time.Sleep(time.Duration(h.r.IntN(300)) * time.Millisecond)
		h.broker, _ = startBroker(t, h.dir, h.at)
	case what == 1:
		h.said = append(h.said, "PostgreSQL killed")
		eventually(t, 30*time.Second, "there is a server to kill", func() bool { // the last one may just have been
			pid := h.store.PID()
			return pid > 0 && syscall.Kill(pid, syscall.SIGKILL) == nil
		})
	case what >= 2 && what <= 4 && h.zombies:
		h.zombie()
	default:
		h.said = append(h.said, "killed")
		h.victim().end(t, syscall.SIGKILL)
		h.start()
	}
}

// zombie stops a run in its tracks, lets another one go on from a copy of its folder, as on another machine, and then lets
// the first one live on: it has to find out, and end.
func (h *hurt) zombie() {
	t := h.t
	h.said = append(h.said, "zombie")
	h.begun()
	first := h.run
	if err := first.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	eventually(t, 10*time.Second, "all its threads stand still", func() bool {
		threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", first.cmd.Process.Pid))
		return err == nil && len(threads) > 0 && !slices.ContainsFunc(threads, func(name string) bool {
			text, err := os.ReadFile(name)
			_, state, _ := strings.Cut(string(text), ") ") // proc(5)
			return err == nil && !strings.HasPrefix(state, "T")
		})
	})
	from := filepath.Join(h.dir, h.stateDir())
	h.state++
	if out, err := exec.Command("cp", "-a", from, filepath.Join(h.dir, h.stateDir())).CombinedOutput(); err != nil && !os.IsNotExist(err) {
		if _, e := os.Stat(from); e == nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	h.start()
	eventually(t, 40*time.Second, "the other run takes over", func() bool { // one that lives on before that is behind nobody
		h.alive()
		return strings.Contains(h.run.text(), "exactly once")
	})
	time.Sleep(time.Duration(h.r.IntN(1500)) * time.Millisecond)
	h.alive()
	if err := first.cmd.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-first.done:
		first.done <- err
		if text := first.text(); !strings.Contains(text, "another run of the job has taken over") {
			t.Errorf("the run that was taken over ends so: %s", text)
		}
	case <-time.After(30 * time.Second):
		t.Errorf("the run that was taken over lives on: %s", first.text())
		first.end(t, syscall.SIGKILL)
	}
}

// TestOnceKilled hurts a run and a service, each with a broker and a database, again and again while a job writes files,
// topics and tables, appending and replacing; lanes change between lives. In the end every row is everywhere once. The third
// has zombies: runs that stand still while another goes on; it writes no files, whose locks keep two runs apart on one
// machine.
func TestOnceKilled(t *testing.T) {
	for _, by := range []string{"run", "service", "zombies"} {
		t.Run(by, func(t *testing.T) {
			t.Parallel() // they wait most of the time
			onceKilled(t, by)
		})
	}
}

// onceRows are the steps whose rows are delivered.
var onceRows = []string{"first", "tens", "calls", "named"}

// sinkLines writes a sink for each of them.
func sinkLines(name, via, with, more string) string {
	var b strings.Builder
	for _, step := range onceRows {
		if step == "named" && strings.Contains(with, "replace: true") {
			continue // nothing tells its rows apart
		}
		line := fmt.Sprintf("  STEP_%s: {from: STEP, via: %s, with: {%s}%s", name, via, with, more)
		switch replaces := strings.Contains(with, "replace: true"); {
		case replaces && step == "first":
			line += ", key: [id]"
		case !replaces && (step == "tens" || step == "calls"):
			line += ", append_revisions: true"
		}
		b.WriteString(strings.ReplaceAll(line, "STEP", step) + "}\n")
	}
	return b.String()
}

func onceKilled(t *testing.T, by string) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("the seed is %d", seed)
	h := &hurt{t: t, dir: open(t), r: rand.New(rand.NewPCG(seed, 14)), zombies: by == "zombies"}
	h.broker, h.at = startBroker(t, h.dir, "")
	var look func() *pgx.Conn
	h.store, look = table(t)
	u, err := url.Parse(h.store.URL())
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	h.env = "ONCE_PASSWORD_" + strings.ToUpper(by)
	if err := os.Setenv(h.env, password); err != nil { // for the programs that are started
		t.Fatal(err)
	}
	input := write(t, h.dir, "in.ndjson", "")
	var names strings.Builder
	for i := range 400 { // every two minutes of the events another name
		fmt.Fprintf(&names, `{"gauge":"G%d","name":"name %d","since":%d}`+"\n", i%9, i, i*13_000)
	}
	gauges := write(t, h.dir, "gauges.ndjson", names.String())
	connections := fmt.Sprintf("connections:\n  harbour: {via: kafka, brokers: [%q]}\n  office: {via: postgres, url: \"postgres://tide@%s/postgres\", password: \"${env.%s}\"}", h.at, u.Host, h.env)
	document := fmt.Sprintf(onceSteps, connections, input, true, gauges) +
		sinkLines("topic", "kafka", "connection: harbour, topic: STEP, create: true, partitions: 2", "") +
		sinkLines("newest", "kafka", "connection: harbour, topic: STEP.newest, create: true, replace: true", "") +
		sinkLines("table", "postgres", "connection: office, table: STEP, create: true, replace: true", "") +
		"  ids: {from: first, via: postgres, with: {connection: office, table: ids, create: true}, columns: {id: id}}\n"
	if !h.zombies {
		document += sinkLines("files", "file", "path: "+h.dir+"/STEP/", "")
	}
	write(t, h.dir, "once.yaml", document)
	write(t, h.dir, "alone.yaml", fmt.Sprintf(onceSteps, "", input, false, gauges)+sinkLines("files", "file", "path: STEP.ndjson", ""))
	if by == "service" {
		h.serve = serve(t, h.dir, "--env", h.env)
		h.serve.must("save", "once.yaml")
		h.serve.must("start", "once")
	} else {
		h.start()
	}

	stop, fed := make(chan struct{}), make(chan int, 1)
	ended := sync.OnceValue(func() int { close(stop); return <-fed })
	defer ended()
	go func() {
		for batch := 0; ; batch++ {
			select {
			case <-stop:
				fed <- batch
				return
			case <-time.After(15 * time.Millisecond):
			}
			if err := appendTo(input, onceEvents(batch)); err != nil {
				t.Error(err)
			}
		}
	}()
	for range *onceKills {
		h.once()
	}
	batches := ended()
	if err := appendTo(input, fmt.Sprintf(`{"id":-1,"gauge":"last","at":%d}`+"\n", (batches+1000)*10_000)); err != nil {
		t.Fatal(err)
	}
	t.Logf("%d batches; %s", batches, strings.Join(h.said, ", "))

	undertide(t, h.dir, "run", "alone.yaml", "-q").want(t, 0)
	lines := func(step string) []string {
		return strings.Split(strings.TrimSpace(read(t, filepath.Join(h.dir, step+".ndjson"))), "\n")
	}
	first := lines("first")
	conn := look()
	defer func() { conn.Close(context.Background()) }()
	eventually(t, 90*time.Second, "all rows are in the table", func() bool {
		h.alive()
		var n int
		if err := conn.QueryRow(context.Background(), "SELECT count(*) FROM ids").Scan(&n); err != nil {
			conn = look() // PostgreSQL was killed last
		}
		return n >= len(first)
	})
	if by == "service" {
		h.serve.must("stop", "once") // delivers what waits
	} else {
		h.run.end(t, syscall.SIGTERM)
	}
	for _, step := range onceRows {
		want := withoutLast(lines(step))
		topic := strings.Split(strings.TrimSpace(kcat(t, "", "-b", h.at, "-t", step, "-C", "-e", "-q", "-X", "isolation.level=read_committed")), "\n")
		same(t, "topic "+step, withoutLast(topic), want)
		if !h.zombies {
			same(t, "files "+step, withoutLast(delivered(t, filepath.Join(h.dir, step))), want)
		}
		if step == "first" || step == "named" {
			continue
		}
		rows, err := conn.Query(context.Background(), fmt.Sprintf("SELECT format('%%s %%s %%s: %%s %%s, revision %%s', gauge, (extract(epoch FROM window_start) * 1000000)::bigint, (extract(epoch FROM window_end) * 1000000)::bigint, n, ids, revision) FROM %s WHERE gauge <> 'last'", step))
		if err != nil {
			t.Fatal(err)
		}
		got, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(got)
		newest := newestOf(t, lines(step))
		same(t, "table "+step, got, newest)
		messages := strings.Split(strings.TrimSpace(kcat(t, "", "-b", h.at, "-t", step+".newest", "-C", "-e", "-q", "-Z", "-f", `%k %s\n`)), "\n")
		same(t, "topic "+step+".newest", newestMessages(t, messages), newest)
	}
	rows, err := conn.Query(context.Background(), "SELECT id::text FROM ids")
	if err != nil {
		t.Fatal(err)
	}
	got, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	want := make([]string, len(first))
	for i, line := range first {
		want[i], _, _ = strings.Cut(strings.TrimPrefix(line, `{"id":`), ",")
	}
	slices.Sort(got)
	slices.Sort(want)
	same(t, "table ids", got, want)
}

// newestMessages gives what a compacted topic says in the end: keys and values, no value where a row was withdrawn.
func newestMessages(t *testing.T, messages []string) []string {
	t.Helper()
	var lines []string
	for _, m := range messages {
		key, value, _ := strings.Cut(m, "} ")
		if value == "NULL" {
			lines = append(lines, key+`,"withdrawn":true}`)
			continue
		}
		lines = append(lines, value)
	}
	return newestOf(t, lines)
}

// same compares sorted rows, and names the first that are lost or too many.
func same(t *testing.T, where string, got, want []string) {
	t.Helper()
	if slices.Equal(got, want) {
		return
	}
	count := map[string]int{}
	for _, w := range want {
		count[w]--
	}
	for _, g := range got {
		count[g]++
	}
	var lost, twice []string
	for row, n := range count {
		if n < 0 {
			lost = append(lost, row)
		} else if n > 0 {
			twice = append(twice, row)
		}
	}
	t.Errorf("%s has %d rows, want %d: lost %d %.300q, too many %d %.300q", where, len(got), len(want), len(lost), lost, len(twice), twice)
}
