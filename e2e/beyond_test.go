package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"undertide/account"
	"undertide/testcert"
)

// world is what those beyond loopback know of the service.
type world struct {
	Base, Enter    string // its address, and that of its first keeper
	Cert, Pin, Dir string
}

// beyond is the variable that holds the world for the part of TestBeyondLoopback that is in the other network.
const beyond = "UNDERTIDE_TEST_BEYOND"

// TestBeyondLoopback: the service listens on another address of this machine, over TLS, in a network of the test's own. Three people with three roles reach it from another one, by the command
// line and in a browser, and do what their roles let them; all else is refused.
func TestBeyondLoopback(t *testing.T) {
	if text := os.Getenv(beyond); text != "" {
		var w world
		if err := json.Unmarshal([]byte(text), &w); err != nil {
			t.Fatal(err)
		}
		w.visit(t)
		return
	}
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Fatal("a network of its own takes the rights of root; run it as root, as in a container")
	}
	ours, theirs, own := networks(t)
	dir := open(t)
	made := testcert.Make(t, dir, "tide.test", time.Hour, net.ParseIP(own))
	a, err := account.Find(servant)
	if err == nil {
		err = os.Chown(made.Key, a.UID, a.GID)
	}
	if err != nil {
		t.Fatal(err)
	}
	undertide(t, dir, served(dir, "--listen", own+":0")...).want(t, 1, "beyond loopback whoever listens on the way would read passwords and rows; give a certificate")
	c := within(ours, append([]string{binary}, served(dir, "--listen", own+":0", "--tls-cert", made.Cert, "--tls-key", made.Key)...)...)
	c.Dir = dir
	p := running(t, c)
	w := world{Enter: p.says(t, `become the first keeper, once, at (\S+)`), Base: p.says(t, `the console is at (https://[0-9.:]+)`), Cert: made.Cert, Pin: made.Pin, Dir: dir}
	listens(t, ours, p.cmd.Process.Pid, strings.TrimPrefix(w.Base, "https://"))
	text, err := json.Marshal(w)
	if err != nil {
		t.Fatal(err)
	}
	visit := within(theirs, os.Args[0], "-test.run", "^TestBeyondLoopback$", "-test.v", "-test.timeout", "5m")
	visit.Env = append(os.Environ(), beyond+"="+string(text), builtBinary+"="+binary)
	if out, err := visit.CombinedOutput(); err != nil {
		t.Errorf("from the other network: %v\n%s", err, out)
	}
}

// networks makes two networks with a line between them, and gives their names, and the address of the first. They are beside that of the other tests, whose browsers would take
// what comes and goes there for another network, and break off what they load. Nothing changes in them either once they are up: there are no addresses of version 6,
// which come to be a second later.
func networks(t *testing.T) (ours, theirs, address string) {
	t.Helper()
	id := os.Getpid() % 10_000
	ours, theirs = fmt.Sprintf("tide%da", id), fmt.Sprintf("tide%db", id)
	ip := func(args ...string) {
		t.Helper()
		if out, err := exec.Command("ip", args...).CombinedOutput(); err != nil {
			t.Fatalf("ip %s: %v: %s", strings.Join(args, " "), err, out)
		}
	}
	for _, name := range []string{ours, theirs} {
		ip("netns", "add", name)
		t.Cleanup(func() { ip("netns", "del", name) })
	}
	ip("link", "add", "line", "netns", ours, "type", "veth", "peer", "name", "line", "netns", theirs)
	for n, name := range []string{ours, theirs} {
		ip("-n", name, "link", "set", "line", "addrgenmode", "none")
		ip("-n", name, "addr", "add", fmt.Sprintf("10.20.30.%d/24", n+1), "dev", "line")
		ip("-n", name, "link", "set", "line", "up")
		ip("-n", name, "link", "set", "lo", "up")
	}
	return ours, theirs, "10.20.30.1"
}

// within runs a command in a network.
func within(network string, command ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", network}, command...)...)
}

// listens holds that of all sockets of a process and its children one listens beyond loopback: the one that is meant.
func listens(t *testing.T, network string, pid int, want string) {
	t.Helper()
	out, err := within(network, "ss", "-H", "-ltnp").Output()
	if err != nil {
		t.Fatal(err)
	}
	ours := map[string]bool{fmt.Sprintf("pid=%d,", pid): true}
	children, err := exec.Command("pgrep", "-P", fmt.Sprint(pid)).Output()
	if err != nil {
		t.Fatal("the service has no children, and so no database")
	}
	for child := range strings.FieldsSeq(string(children)) {
		ours["pid="+child+","] = true
	}
	found := false
	for line := range strings.Lines(string(out)) {
		at := strings.Fields(line)[3]
		for mark := range ours {
			if strings.Contains(line, mark) {
				found = found || at == want
				if at != want && !strings.HasPrefix(at, "127.0.0.1:") && !strings.HasPrefix(at, "[::1]:") {
					t.Errorf("beside %s the service listens at %s", want, at)
				}
			}
		}
	}
	if !found {
		t.Errorf("the service does not listen at %s:\n%s", want, out)
	}
}

// visitor is a person with a home of their own.
type visitor struct {
	t    *testing.T
	w    *world
	name string
	home string
	page *page
}

func (w *world) visitor(t *testing.T, name string) *visitor {
	home := filepath.Join(t.TempDir(), name)
	if err := os.Mkdir(home, 0o700); err != nil {
		t.Fatal(err)
	}
	return &visitor{t: t, w: w, name: name, home: home}
}

// browse opens an address in a browser of the person's own.
func (v *visitor) browse(address string) {
	v.t.Helper()
	v.page = browseWith(v.t, address, chromedp.Flag("ignore-certificate-errors-spki-list", v.w.Pin), chromedp.Flag("host-resolver-rules", "MAP tide.test "+strings.Split(strings.TrimPrefix(v.w.Base, "https://"), ":")[0]))
}

func (v *visitor) password() string { return v.name + " counts the gulls" }

// run runs a command as the person does, with nothing of the environment but a home.
func (v *visitor) run(input string, args ...string) outcome {
	v.t.Helper()
	c := exec.Command(binary, args...)
	c.Dir, c.Stdin = v.home, strings.NewReader(input)
	c.Env = []string{"HOME=" + v.home, "PATH=" + os.Getenv("PATH"), "UNDERTIDE_SERVER=" + v.w.Base}
	return finish(v.t, c)
}

// sees runs a command whose output has some texts.
func (v *visitor) sees(texts []string, args ...string) {
	v.t.Helper()
	o := v.run("", args...)
	o.want(v.t, 0)
	for _, text := range texts {
		if !strings.Contains(o.out, text) {
			v.t.Errorf("%s of %s lacks %q:\n%s", strings.Join(args, " "), v.name, text, o.out)
		}
	}
}

// signsIn signs in by the command line.
func (v *visitor) signsIn(role string) {
	v.t.Helper()
	v.run(v.password()+"\n", "sign-in", v.name, "--authority", v.w.Cert).want(v.t, 0, fmt.Sprintf("you are %s at %s, and %s", v.name, v.w.Base, map[string]string{"reader": "a reader", "engineer": "an engineer", "keeper": "a keeper"}[role]))
	if text := read(v.t, filepath.Join(v.home, ".config/undertide/sign-ins.json")); strings.Contains(text, v.password()) {
		v.t.Errorf("the password is kept: %s", text)
	}
}

const visited = `undertide: 1
job: lifts
about: Made-up lifts
sources:
  lifts:
    via: simulate
    with: {rate: 50/s, seed: 3, fields: {crane: {pick: [C1, C2]}, tonnes: {normal: [18.0, 6.0]}, at: {now: true}}}
    fields: {crane: string, tonnes: double, at: timestamp}
    event_time: at
    watermark: {margin: 100ms}
steps:
  second: {from: lifts, key: [crane], window: {tumbling: 1s}, measures: {n: count()}}
sinks:
  loads: {from: second, via: file, with: {path: DIR/loads/}}
`

// visit is the part in the other network.
func (w *world) visit(t *testing.T) {
	kit, ena, rea := w.visitor(t, "kit"), w.visitor(t, "ena"), w.visitor(t, "rea")

	// The first keeper, by the address that the service has printed; then two more, whom the keeper adds.
	kit.browse(w.Enter)
	kit.page.shows("Become the first keeper")
	kit.page.fill("Name", "kit")
	kit.page.fill("Password", kit.password())
	kit.page.press("Choose it and sign in")
	kit.page.shows("kit, keeper")
	kit.page.hit("the place People", `[...document.querySelectorAll('nav a')].find((e) => e.innerText === 'People')`)
	add := func(v *visitor, role string) {
		kit.page.press("Add somebody")
		kit.page.fill("Name", v.name)
		kit.page.pick("Role", role)
		kit.page.press("Add")
		kit.page.shows(v.name + " chooses a password at this address")
		v.browse(value[string](kit.page, `document.querySelector('[data-test=once]').innerText`))
		v.page.shows("Welcome, " + v.name)
		v.page.fill("Password", v.password())
		v.page.press("Choose it and sign in")
		v.page.shows(v.name + ", " + role)
	}
	add(ena, "engineer")
	add(rea, "reader")

	// Nobody is let in without saying who they are, in the clear, or by another name.
	nobody := w.visitor(t, "nobody")
	nobody.run("", "jobs").want(t, 4, "certificate signed by unknown authority; give the certificate of its authority with --authority FILE")
	nobody.run("", "jobs", "--authority", w.Cert).want(t, 1, "the service wants to know who asks; sign in")
	nobody.run("", "jobs", "--authority", w.Cert, "--token", "ut_made-up").want(t, 1, "the token is not known")
	nobody.run("", "jobs", "--server", strings.Replace(w.Base, "https", "http", 1)).want(t, 1, "answered 400")
	nobody.run("", "jobs", "--server", strings.Replace(w.Base, "https", "http", 1), "--token", "ut_made-up").want(t, 2, "a token is not sent to", "in the clear")
	nobody.run("wrong and wrong again\n", "sign-in", "kit", "--authority", w.Cert).want(t, 1, "name and password do not belong together")
	port := w.Base[strings.LastIndex(w.Base, ":"):]
	host := strings.TrimPrefix(strings.TrimSuffix(w.Base, port), "https://")
	curl := func(want string, args ...string) {
		t.Helper()
		if o := finish(t, exec.Command("curl", append([]string{"-s", "--cacert", w.Cert, "-w", " %{http_code}"}, args...)...)); !strings.Contains(o.out, want) {
			t.Errorf("curl %s: %s%s, want %s", strings.Join(args, " "), o.out, o.err, want)
		}
	}
	curl("ok\n 200", w.Base+"/healthz")
	curl("not-signed-in", w.Base+"/readyz")
	curl("not-signed-in", w.Base+"/metrics")
	curl("not-signed-in", w.Base+"/api/v1/jobs")
	curl("foreign-host", "-H", "Host: elsewhere.test", w.Base+"/api/v1/me")
	curl("foreign-host", "--resolve", "tide.test"+port+":"+host, "https://tide.test"+port+"/api/v1/me") // a name of the certificate, which --host does not name
	curl("foreign-origin", "-X", "POST", "-H", "Origin: https://elsewhere.test", "-H", "Sec-Fetch-Site: cross-site", w.Base+"/api/v1/sign-out")
	if o := finish(t, exec.Command("curl", "-s", "-i", "--cacert", w.Cert, w.Base+"/api/v1/jobs")); strings.Contains(o.out, "Undertide-Token-File") {
		t.Errorf("another machine is told where the token of this one lies:\n%s", o.out)
	}

	// The engineer saves and starts a job; the reader sees how it is, and not its rows.
	for v, role := range map[*visitor]string{kit: "keeper", ena: "engineer", rea: "reader"} {
		v.signsIn(role)
	}
	write(t, ena.home, "lifts.yaml", strings.Replace(visited, "DIR", w.Dir, 1))
	write(t, rea.home, "lifts.yaml", strings.Replace(visited, "DIR", w.Dir, 1))
	const lacks = "this needs a right of the engineer; ask kit"
	rea.run("", "save", "lifts.yaml").want(t, 1, "rea (token", "may do what a reader may; "+lacks)
	ena.run("", "save", "lifts.yaml").want(t, 0, "saved as version 1 of lifts")
	rea.run("", "start", "lifts").want(t, 1, lacks)
	ena.run("", "start", "lifts").want(t, 0, "lifts: run 1 of version 1, running")
	eventually(t, 20*time.Second, "a row", func() bool { return ena.run("", "rows", "lifts", "second", "--limit", "1").out != "" })
	rea.run("", "rows", "lifts", "second").want(t, 1, lacks)
	rea.sees([]string{"lifts"}, "jobs")
	rea.sees([]string{"second"}, "show", "lifts")
	ena.run("", "people").want(t, 1, "this needs a right of the keeper; ask kit")
	ena.run("secret\n", "secrets", "set", "port").want(t, 1, "this needs a right of the keeper; ask kit")
	ena.run("", "peek", "--connection", "none", "--topic", "none").want(t, 1, "there is no connection none")
	kit.sees([]string{"ena", "rea"}, "people")
	ena.sees([]string{"by ena (token"}, "versions", "lifts")
	kit.sees([]string{"ena (token", "save", "lifts, version 1", "rea (token", "not-allowed", "10."}, "trail")

	// In the browser the reader sees what they may not do as lacking; and how the job is, live.
	rea.page.hit("the job", `[...document.querySelectorAll('a')].find((e) => e.innerText === 'lifts')`)
	rea.page.shows("running")
	rea.page.shows("this needs a right of the engineer")
	stop := `[...document.querySelectorAll('button')].find((e) => e.innerText === 'Stop')`
	if title := value[string](rea.page, stop+`.title + ' ' + `+stop+`.getAttribute('aria-disabled')`); title != "This needs a right of the engineer; you are a reader. Ask kit. true" {
		t.Errorf("the reader's button Stop says %q", title)
	}
	if faults := rea.page.violations(`['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']`); faults != "" {
		t.Errorf("of the reader's page axe says:\n%s", faults)
	}
	value[string](rea.page, `(`+stop+`.click(), '')`) // as a program does, whatever it looks like
	ena.sees([]string{"Running"}, "show", "lifts")
	ena.page.hit("the job", `[...document.querySelectorAll('a')].find((e) => e.innerText === 'lifts')`)
	ena.page.press("Stop")
	ena.page.shows("stopped")
	ena.sees([]string{"by ena"}, "history", "lifts")

	// Whoever is made less, or removed, is so at once, in the browser too.
	kit.sees([]string{"kit"}, "owners", "lifts", "kit")
	ena.run("", "start", "lifts").want(t, 1, "job lifts may be changed by kit, and by keepers; ask one of them")
	kit.run("", "people", "remove", "ena").want(t, 0, "ena is removed")
	ena.run("", "jobs").want(t, 1, "the token is not known")
	ena.page.shows("Sign in")
	rea.run("", "sign-out").want(t, 0, "rea has signed out")
	rea.run("", "jobs", "--authority", w.Cert).want(t, 1, "the service wants to know who asks")
}
