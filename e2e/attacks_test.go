package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"undertide/job/hostile"
)

// memory is the most that a process has held, in MiB (VmHWM of proc(5)).
func (p *process) memory(t *testing.T) int {
	t.Helper()
	text := read(t, fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	_, rest, found := strings.Cut(text, "VmHWM:")
	n, err := strconv.Atoi(strings.Fields(rest)[0])
	if !found || err != nil {
		t.Fatalf("the memory of process %d cannot be seen: %v", p.cmd.Process.Pid, err)
	}
	return n >> 10
}

// cpu is how long the process has had a CPU, to the hundredth of a second (utime and stime of proc(5)).
func (p *process) cpu(t *testing.T) time.Duration {
	t.Helper()
	text := read(t, fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	fields := strings.Fields(text[strings.LastIndexByte(text, ')')+1:]) // the third of the line is the first here
	var ticks int
	for _, field := range fields[11:13] {
		n, err := strconv.Atoi(field)
		if err != nil {
			t.Fatalf("the time of process %d cannot be seen: %v", p.cmd.Process.Pid, err)
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// asJSON is a request about a document.
func asJSON(t *testing.T, document string) string {
	t.Helper()
	text, err := json.Marshal(map[string]any{"document": document})
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// documentPlaces are where a service reads documents, as method and path.
var documentPlaces = []string{"/documents/check", "/documents/rehearse", "/documents/examples", "/documents/play", "/documents/lateness", "/documents/peek", "/jobs"}

func (s *serving) document(place, text string) (int, string, http.Header) {
	s.t.Helper()
	if place == "/jobs" {
		return s.ask("POST", "/api/v1/jobs", text, "Content-Type", "application/yaml")
	}
	return s.ask("POST", "/api/v1"+place, asJSON(s.t, text), "Content-Type", "application/json")
}

// TestAttackDocuments: documents that were made to cost time and memory get an answer in under a second wherever
// documents are read, and cost little memory; many at once are let in some at a time, and told when to come again. All go to
// one place, and by turns to one of the others, which read them by the same code (package job tries each there).
func TestAttackDocuments(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	documents := hostile.Documents()
	for i, name := range slices.Sorted(maps.Keys(documents)) {
		text := documents[name]
		for k, place := range documentPlaces {
			if k > 0 && i%(len(documentPlaces)-1) != k-1 && name != "brackets" && name != "alias bomb" {
				continue
			}
			// On a quiet machine each takes half a second at most. What others do there is not its fault: the time on a CPU
			// counts, of two answers the lesser, and twice the second that is promised.
			var code int
			var answer string
			least := time.Hour
			for try := 0; try < 2 && least > time.Second; try++ {
				began, cpu := time.Now(), s.cpu(t)
				code, answer, _ = s.document(place, text)
				least = min(least, time.Since(began), s.cpu(t)-cpu)
			}
			if least > 2*time.Second {
				t.Errorf("%s at %s: an answer after %v", name, place, least)
			}
			if code == 0 || code >= 500 || strings.TrimSpace(answer) == "" {
				t.Errorf("%s at %s: %d %.300s", name, place, code, answer)
			}
			if len(answer) > 400_000 {
				t.Errorf("%s at %s: an answer of %d bytes", name, place, len(answer))
			}
		}
	}
	if m := s.memory(t); m > 1500 {
		t.Errorf("the service has held %d MiB", m)
	}

	var all sync.WaitGroup
	var mu sync.Mutex
	codes := map[int]int{}
	slow := hostile.Documents()["1999 windows"]
	for range 40 {
		all.Go(func() {
			code, text, header := s.document("/documents/check", slow)
			mu.Lock()
			defer mu.Unlock()
			codes[code]++
			if code == http.StatusTooManyRequests && (header.Get("Retry-After") == "" || !strings.Contains(text, `"code":"too-many"`)) {
				t.Errorf("too many: %v %s", header, text)
			}
		})
	}
	all.Wait()
	if codes[http.StatusOK] == 0 || codes[http.StatusOK]+codes[http.StatusTooManyRequests] != 40 {
		t.Errorf("40 documents at once get the answers %v", codes)
	}
	if m := s.memory(t); m > 2500 {
		t.Errorf("the service has held %d MiB", m)
	}

	for _, name := range []string{"brackets", "conditions", "alias bomb", "1999 unknown steps"} {
		c := exec.Command(binary, "check", write(t, dir, "hostile.yaml", hostile.Documents()[name]))
		o := finish(t, c)
		if took := c.ProcessState.UserTime() + c.ProcessState.SystemTime(); took > 1500*time.Millisecond || o.status != 3 {
			t.Errorf("check of %s: status %d after %v", name, o.status, took)
		}
		if held := c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10; held > 400 {
			t.Errorf("check of %s held %d MiB", name, held)
		}
	}
}

// fileJob reads one file and writes another.
func fileJob(source, sink string) string {
	return fmt.Sprintf(`undertide: 1
job: files
settings: {checkpoint: {every: 500ms}}
sources:
  levels: {via: file, with: {path: %q, follow: true}, fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}, event_time: read_at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: file, with: {path: %q}}
`, source, sink)
}

// TestAttackFiles: nobody reads or writes a file through the service but those of the folders that it was given, by no
// address and no link; what is refused is said when the document is checked.
func TestAttackFiles(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	secret := write(t, filepath.Dir(dir), "secret.ndjson", `{"gauge":"hidden treasure","level_m":1,"read_at":1767225600000}`+"\n")
	if err := os.Symlink(secret, filepath.Join(dir, "link.ndjson")); err != nil {
		t.Fatal(err)
	}
	in, out := write(t, dir, "levels.ndjson", readings(10)), filepath.Join(dir, "out.ndjson")
	refused := func(what string, code int, answer string) {
		t.Helper()
		if code < 400 || code >= 500 || strings.Contains(answer, "hidden treasure") || strings.Contains(answer, "root:") {
			t.Errorf("%s: %d %.500s", what, code, answer)
		}
	}
	for _, path := range []string{
		secret, "/etc/passwd", "/etc/../etc/shadow", dir + "/../secret.ndjson", dataOf(dir) + "/secrets.key", "/proc/self/environ", "/proc/1/cmdline", "/sys/kernel/uevent_seqnum", "/dev/urandom", "/dev/stdin",
		filepath.Dir(dir) + "/*.ndjson", "/*/passwd", "secret.ndjson", dir + "/*/../../secret.ndjson",
	} {
		for n, document := range []string{fileJob(path, out), fileJob(in, path)} {
			code, answer, _ := s.document("/documents/check", document)
			if code != http.StatusOK || !strings.Contains(answer, "no folder that the service may use") && !strings.Contains(answer, "is relative") {
				t.Errorf("check of %s: %d %.500s", path, code, answer)
			}
			if !strings.Contains(path, "secret.ndjson") && strings.Contains(path, "/") && !strings.Contains(answer, "--files") {
				t.Errorf("check of %s does not say what would help: %.500s", path, answer)
			}
			for _, place := range documentPlaces[1:] {
				code, answer, _ := s.document(place, document)
				if n == 1 && code == http.StatusOK && (place == "/documents/rehearse" || place == "/documents/lateness" || place == "/documents/peek") {
					continue // they open no sinks
				}
				refused(place+" of "+path, code, answer)
			}
		}
	}
	// What a link leads to is only known when it is opened.
	for _, place := range []string{"/documents/rehearse", "/documents/peek", "/documents/lateness"} {
		code, answer, _ := s.document(place, fileJob(filepath.Join(dir, "link.ndjson"), out))
		refused(place+" of a link", code, answer)
	}
	s.must("save", write(t, dir, "link.yaml", fileJob(filepath.Join(dir, "link.ndjson"), out)))
	if o := s.run("start", "files"); o.status == 0 || strings.Contains(o.out+o.err, "treasure") {
		t.Errorf("a job over a link starts: %+v", o)
	}
	for _, ca := range []string{"/etc/shadow", secret, filepath.Join(dir, "link.ndjson"), "/dev/urandom"} {
		body := fmt.Sprintf(`{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"tls":{"ca":%q}}}`, ca)
		code, answer, _ := s.ask("PUT", "/api/v1/connections/port", body, "Content-Type", "application/json")
		if strings.HasPrefix(ca, dir) { // a link: what it leads to is only known when it is opened
			code, answer, _ = s.ask("POST", "/api/v1/connections/port/test", "", "Content-Type", "application/json")
		}
		refused("a connection with "+ca, code, answer)
	}
	// A sink replaces no file of somebody else's, and leaves the rights of what is there; new files are the servant's alone.
	theirs := write(t, dir, "theirs.ndjson", "kept\n") // root's, where root runs the tests
	s.must("save", write(t, dir, "files.yaml", fileJob(in, theirs)))
	o := s.run("start", "files")
	if os.Geteuid() == 0 && o.status == 0 {
		s.must("stop", "files")
	}
	if text := read(t, theirs); os.Geteuid() == 0 && text != "kept\n" {
		t.Errorf("a file of somebody else's has become %q", text)
	}
	if text := read(t, secret); !strings.Contains(text, "treasure") {
		t.Errorf("a file outside has become %q", text)
	}
	s.must("save", write(t, dir, "files.yaml", fileJob(in, out+"/")))
	s.must("start", "files", "--fresh")
	eventually(t, 15*time.Second, "rows are delivered", func() bool { return len(delivered(t, out)) == 10 })
	s.must("stop", "files")
	for _, path := range []string{out, dataOf(dir)} {
		err := filepath.WalkDir(path, func(path string, d os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			st, err := d.Info()
			if err == nil && st.Mode().Perm()&0o077 != 0 && !strings.HasPrefix(path, filepath.Join(dataOf(dir), "postgres")) {
				t.Errorf("others may do with %s what %v says", path, st.Mode())
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
}

// TestAttackSpecialFiles: pipes that nobody reads or writes, in the service's folder, are refused at once, wherever they
// are named; the jobs over them are free again.
func TestAttackSpecialFiles(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o666); err != nil {
		t.Fatal(err)
	}
	in := write(t, dir, "levels.ndjson", readings(10))
	within := func(what string, f func() outcome) outcome {
		t.Helper()
		began := time.Now()
		o := f()
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s took %v", what, took)
		}
		return o
	}
	for _, document := range []string{fileJob(pipe, filepath.Join(dir, "out.ndjson")), fileJob(in, pipe), fileJob(dir, filepath.Join(dir, "out.ndjson"))} {
		for _, place := range documentPlaces[:6] {
			began := time.Now()
			code, answer, _ := s.document(place, document)
			if took := time.Since(began); took > 2*time.Second || code == 0 || code >= 500 {
				t.Errorf("%s: %d after %v: %.300s", place, code, took, answer)
			}
		}
		s.must("save", write(t, dir, "files.yaml", document))
		if o := within("start", func() outcome { return s.run("start", "files") }); o.status == 0 {
			t.Errorf("a job over a pipe or folder starts: %s", o.out)
		}
		within("stop", func() outcome { return s.run("stop", "files") })
		within("restart", func() outcome { return s.run("start", "files", "--fresh") })
		if o := within("delete", func() outcome { return s.run("delete", "files") }); o.status != 0 {
			t.Errorf("the job is not deleted: %s", o.err)
		}
	}
	body := fmt.Sprintf(`{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"tls":{"ca":%q}}}`, pipe)
	began := time.Now()
	s.ask("PUT", "/api/v1/connections/port", body, "Content-Type", "application/json")
	code, answer, _ := s.ask("POST", "/api/v1/connections/port/test", "", "Content-Type", "application/json")
	if took := time.Since(began); took > 2*time.Second || code != http.StatusUnprocessableEntity && !strings.Contains(answer, "regular file") {
		t.Errorf("a pipe as a certificate: %d after %v: %s", code, took, answer)
	}
}

// silent is a broker that takes connections and says nothing, until the test ends.
func silent(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		var held []net.Conn
		for {
			c, err := l.Accept()
			if err != nil {
				for _, c := range held {
					c.Close()
				}
				return
			}
			held = append(held, c)
		}
	}()
	return l.Addr().String()
}

// TestRequestsUnderWay: requests that are under way when the service ends finish, or are told that it stops; streams end
// with an event that says so; nothing is changed any more.
func TestRequestsUnderWay(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	s.must("connections", "add", "mute", "--brokers", silent(t), "--no-test")
	stream, err := http.NewRequest("GET", s.address+"/api/v1/jobs", nil)
	if err != nil {
		t.Fatal(err)
	}
	stream.Header.Set("Accept", "text/event-stream")
	res, err := http.DefaultClient.Do(stream)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	last := make(chan string, 1)
	go func() {
		lines, event := bufio.NewScanner(res.Body), ""
		for lines.Scan() {
			if e, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				event = e
			}
		}
		last <- event
	}()
	const many = 40
	answers := make(chan string, many)
	for range many {
		go func() {
			code, text, _ := s.get("/api/v1/connections/mute/topics")
			answers <- fmt.Sprintf("%d %s", code, text)
		}()
	}
	time.Sleep(500 * time.Millisecond)
	s.end(t, syscall.SIGTERM)
	for range many {
		if a := <-answers; !strings.HasPrefix(a, "503 ") || !strings.Contains(a, `"code":"service-stopping"`) && !strings.Contains(a, `"code":"connection-unreachable"`) {
			t.Errorf("a request under way gets %q", a)
		}
	}
	if event := <-last; event != "stopping" {
		t.Errorf("the last event of a stream is %q", event)
	}
}

// TestAttackValues: what variables and secrets hold does not leave the service, by no answer, log or address.
func TestAttackValues(t *testing.T) {
	t.Setenv("TIDE_KEY", "moon-and-sun")
	t.Setenv("TIDE_HOST", "127.0.0.1:1")
	dir := open(t)
	s := serve(t, dir)
	spec := func(broker string) string { return fmt.Sprintf(`{"via":"kafka","settings":{"brokers":[%q]}}`, broker) }
	put := func(name, body string) (int, string) {
		code, text, _ := s.ask("PUT", "/api/v1/"+name, body, "Content-Type", "application/json")
		return code, text
	}
	if code, text := put("connections/port", spec("${env.TIDE_KEY}:9092")); code != 422 || strings.Contains(text, "moon") || !strings.Contains(text, "--env TIDE_KEY") {
		t.Errorf("a variable that is not given: %d %s", code, text)
	}
	if _, text, _ := s.document("/documents/check", strings.Replace(fileJob("${env.TIDE_KEY}", dir+"/out"), "files", "env", 1)); strings.Contains(text, "moon") {
		t.Errorf("a variable that is not given: %s", text)
	}
	s.end(t, syscall.SIGTERM)

	s = serve(t, dir, "--env", "TIDE_KEY,TIDE_HOST")
	if code, text := put("connections/port", spec("${env.TIDE_HOST}")); code != 200 || strings.Contains(text, "127.0.0.1:1") {
		t.Errorf("a variable that is given: %d %s", code, text)
	}
	wrong := strings.Replace(fileJob(dir+"/levels.ndjson", dir+"/${env.TIDE_KEY}.ndjson"), "double", "${env.TIDE_KEY}", 1)
	var seen strings.Builder
	for _, at := range []string{"connections", "connections/port/topics", "status", "jobs"} {
		_, text, _ := s.get("/api/v1/" + at)
		seen.WriteString(text)
	}
	_, tested, _ := s.ask("POST", "/api/v1/connections/port/test", "", "Content-Type", "application/json")
	seen.WriteString(tested)
	for _, place := range documentPlaces {
		_, text, _ := s.document(place, wrong)
		seen.WriteString(text)
	}
	s.must("save", write(t, dir, "job.yaml", fileJob(dir+"/${env.TIDE_KEY}.ndjson", dir+"/out/")))
	s.run("start", "files")
	for _, at := range []string{"jobs/files", "jobs/files/map", "jobs/files/runs", "jobs/files/history", "jobs/files/logs", "jobs/files/versions/1", "jobs"} {
		_, text, _ := s.get("/api/v1/" + at)
		seen.WriteString(text)
	}
	seen.WriteString(s.text())
	for _, value := range []string{"moon-and-sun", "127.0.0.1:1/", `127.0.0.1:1"`, "127.0.0.1:1 "} {
		if at := strings.Index(seen.String(), value); at >= 0 {
			t.Errorf("%s leaves the service: …%s…", value, seen.String()[max(0, at-200):min(seen.Len(), at+100)])
		}
	}

	// A secret goes nowhere but where it was stored for.
	thief := silent(t)
	signed := func(broker string) string {
		return fmt.Sprintf(`{"via":"kafka","settings":{"brokers":[%q],"sasl":{"mechanism":"scram-sha-256","user":"tide","password":"${secret.pass}"}}}`, broker)
	}
	if code, text := put("secrets/pass", `{"text":"ebb-and-flow","for":["127.0.0.1:9"]}`); code != 200 || !strings.Contains(text, `"for":["127.0.0.1:9"]`) {
		t.Errorf("a secret is stored: %d %s", code, text)
	}
	if code, text := put("connections/thief", signed(thief)); code != 422 || !strings.Contains(text, "was stored for 127.0.0.1:9") {
		t.Errorf("a secret for another address: %d %s", code, text)
	}
	if code, text := put("connections/port", signed("127.0.0.1:9")); code != 200 {
		t.Errorf("a secret for its address: %d %s", code, text)
	}
	if code, text := put("connections/port", signed(thief)); code != 422 || !strings.Contains(text, "store it again") {
		t.Errorf("the address of a connection with a secret changes: %d %s", code, text)
	}
	document := strings.Replace(topicJob(thief, dir), `brokers: ["`+thief+`"]`, `brokers: ["`+thief+`"], sasl: {mechanism: scram-sha-256, user: tide, password: '${secret.pass}'}`, 1)
	if document == topicJob(thief, dir) {
		t.Fatal("the document's connection is not where it was")
	}
	for _, place := range []string{"/documents/rehearse", "/documents/peek", "/documents/lateness"} {
		if code, text, _ := s.document(place, document); code != 422 || !strings.Contains(text, "was stored for 127.0.0.1:9") {
			t.Errorf("%s sends a secret elsewhere: %d %s", place, code, text)
		}
	}
	plain := `{"via":"kafka","settings":{"brokers":["broker.example:9092"],"sasl":{"mechanism":"plain","user":"tide","password":"${secret.pass}"}}}`
	if code, text := put("connections/clear", plain); code != 422 || !strings.Contains(text, "tls") {
		t.Errorf("a password in the clear beyond loopback: %d %s", code, text)
	}
	// One that a document names is not deleted under it.
	s.must("connections", "remove", "port")
	if code, text := put("secrets/pass", `{"text":"ebb-and-flow","for":["`+thief+`"]}`); code != 200 {
		t.Errorf("a secret is stored again: %d %s", code, text)
	}
	s.must("save", write(t, dir, "means.yaml", document))
	s.run("secrets", "remove", "pass").want(t, 1, "is named by the documents of means")
}

// TestAttackNull: U+0000 is refused wherever it comes, with the place; answers about faults have a number that the log has.
func TestAttackNull(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	for _, c := range []struct{ method, path, body string }{
		{"GET", "/api/v1/jobs/%00", ""},
		{"GET", "/api/v1/jobs?limit=1&before=%00", ""},
		{"POST", "/api/v1/jobs", "undertide: 1\njob: a\x00b\n"},
		{"POST", "/api/v1/jobs", strings.Replace(fileJob(dir+"/a", dir+"/b"), "job: files", `job: files`+"\n"+`about: "a\0b"`, 1)},
		{"PUT", "/api/v1/connections/port", `{"via":"kafka","settings":{"brokers":["a\u0000:1"]}}`},
		{"PUT", "/api/v1/sources/levels", `{"about":"a\u0000","text":"levels: {}"}`},
	} {
		kind := "application/json"
		if c.path == "/api/v1/jobs" {
			kind = "application/yaml"
		}
		code, text, header := s.ask(c.method, c.path, c.body, "Content-Type", kind)
		if (code != 400 && code != 422) || !strings.Contains(text, "U+0000") {
			t.Errorf("%s %s: %d %s", c.method, c.path, code, text)
		}
		id := header.Get("X-Request-Id")
		if id == "" || !strings.Contains(text, `"request":"`+id+`"`) {
			t.Errorf("%s %s: the request's number %q is not in the answer: %s", c.method, c.path, id, text)
		}
		eventually(t, 5*time.Second, "the request's number is in the log", func() bool { return strings.Contains(s.text(), "request="+id) })
	}
}

// TestRootDoesNotServe: root names a user to run as, who has rights of its own to nothing but the data folder; a folder
// with other things in it is not given away.
func TestRootDoesNotServe(t *testing.T) {
	t.Parallel()
	dir := open(t)
	if os.Geteuid() != 0 {
		undertide(t, dir, "serve", "--data", dataOf(dir), "--user", "root").want(t, 1, "only root can run the service as user root")
		return
	}
	undertide(t, dir, "serve", "--data", dataOf(dir)).want(t, 2, "name a user to run as, with --user NAME")
	undertide(t, dir, "serve", "--data", dataOf(dir), "--user", "root").want(t, 2, "name a user without rights of its own")
	undertide(t, dir, "serve", "--data", dataOf(dir), "--user", "nobody-like-that").want(t, 1, "there is no user nobody-like-that")
	other := filepath.Join(filepath.Dir(dir), "other")
	if err := os.MkdirAll(other, 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, other, "letter.txt", "mine")
	undertide(t, dir, "serve", "--data", other, "--user", servant).want(t, 1, "has things in it that are not this service's")
	if st, err := os.Stat(filepath.Join(other, "letter.txt")); err != nil || st.Sys().(*syscall.Stat_t).Uid != 0 {
		t.Errorf("somebody's file was given away: %v", err)
	}
	shut := filepath.Join(filepath.Dir(dir), "shut")
	if err := os.Mkdir(shut, 0o700); err != nil {
		t.Fatal(err)
	}
	undertide(t, dir, "serve", "--data", filepath.Join(shut, "data"), "--user", servant).want(t, 1, "may not pass "+shut)
	// What an earlier start as another user made is usable again.
	s := serve(t, dir)
	s.end(t, syscall.SIGTERM)
	if err := filepath.WalkDir(dataOf(dir), func(path string, _ os.DirEntry, err error) error {
		if err == nil {
			err = os.Lchown(path, 0, 0)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	s = serve(t, dir)
	text := read(t, fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if !strings.Contains(text, "CapEff:\t0000000000000000") || strings.Contains(text, "Uid:\t0") || strings.Contains(text, "Groups:\t0 ") {
		t.Errorf("the service has rights left:\n%s", text)
	}
	write(t, dir, "undertide.yaml", "service: {files: ["+dir+"], user: "+servant+"}\n")
	p := launch(t, dir, "serve", "--data", dataOf(dir)+"2", "--listen", "127.0.0.1:0")
	p.says(t, "console is at (http://\\S+);")
}
