package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestStreamCommands: connections, secrets, topics, send with its paces, peek in its forms, the
// described sources; through the service, and from the working folder's undertide.yaml.
func TestStreamCommands(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("connections").want(t, 0, "there are no connections yet; add one: undertide connections add NAME")
	s.must("secrets").want(t, 0, "there are no secrets yet")
	s.must("sources").want(t, 0, "no source is described")
	s.must("connections", "add", "port", "--brokers", broker).want(t, 0, "connection port is stored")
	s.run("connections", "add", "port", "--brokers", broker, "--user", "tide", "--password", "ebb").want(t, 1, "a password stands in the clear; write ${secret.NAME}")
	s.run("connections", "add", "po rt", "--brokers", broker).want(t, 1, "is not a name for a connection")
	s.run("connections", "add", "away", "--brokers", "127.0.0.1:1").want(t, 1, "connection away is stored")
	if o := s.run("connections", "test", "away"); o.status != 1 || !strings.Contains(o.out, "connection refused; check that it runs") {
		t.Errorf("a connection to nobody: status %d\n%s", o.status, o.out)
	}
	s.run("topics", "away").want(t, 1, "check that it runs and that the address is right")
	s.must("connections", "remove", "away").want(t, 0, "connection away is removed")
	s.run("topics", "porto").want(t, 1, "there is no connection porto; did you mean port?")

	sent := exec.Command(binary, "secrets", "set", "port", "--server", s.address)
	sent.Dir = dir
	sent.Stdin = strings.NewReader("ebb-and-flow\n")
	if o := finish(t, sent); o.status != 0 || strings.Contains(o.out+o.err, "ebb") {
		t.Errorf("a secret is stored: %+v", o)
	}
	if key, err := os.Stat(filepath.Join(dataOf(dir), "secrets.key")); err != nil || key.Mode().Perm() != 0o600 {
		t.Errorf("the key of secrets: %v, %v", key, err)
	}
	s.must("connections", "add", "safe", "--brokers", broker, "--user", "tide", "--mechanism", "plain", "--password", "${secret.port}", "--no-test")
	s.run("secrets", "remove", "port").want(t, 1, "secret port is used by connection safe")
	for _, form := range []string{"table", "json", "yaml"} {
		if o := s.must("connections", "--format", form); !strings.Contains(o.out, "${secret.port}") || strings.Contains(o.out, "ebb") {
			t.Errorf("connections as %s:\n%s", form, o.out)
		}
	}
	s.must("connections", "remove", "safe")
	s.must("secrets", "remove", "port").want(t, 0, "secret port is removed")
	for _, p := range []string{"service.log", "records.waiting"} {
		if text, err := os.ReadFile(filepath.Join(dataOf(dir), p)); err == nil && strings.Contains(string(text), "ebb-and-flow") {
			t.Errorf("%s holds the secret", p)
		}
	}

	var lines []string
	for i := range 40 {
		lines = append(lines, fmt.Sprintf(`{"crane":"C%d","tonnes":%d.5,"at":"2026-03-01T12:00:%02d.%03dZ"}`, i%4, i, i/10, i%10*100))
	}
	write(t, dir, "lifts.ndjson", strings.Join(lines, "\n")+"\n\n")
	s.must("topics", "port", "--make", "lifts", "--partitions", "1").want(t, 0, "topic lifts is made")
	s.run("topics", "port", "--make", "lifts").want(t, 1, "is there already")
	s.run("send", "port", "lift", "lifts.ndjson").want(t, 1, "did you mean lifts?")
	for _, c := range []struct {
		args        []string
		least, most time.Duration
	}{
		{[]string{"--pace", "full"}, 0, 5 * time.Second},
		{[]string{"--pace", "40/s", "--key", "crane"}, 900 * time.Millisecond, 6 * time.Second},
		{[]string{"--pace", "4x", "--event-time", "at"}, 900 * time.Millisecond, 6 * time.Second},
	} {
		began := time.Now()
		s.must(append([]string{"send", "port", "lifts", "lifts.ndjson"}, c.args...)...).want(t, 0, "sent 40 events to lifts")
		if took := time.Since(began); took < c.least || took > c.most {
			t.Errorf("%v took %s, want %s at least", c.args, took, c.least)
		}
	}
	write(t, dir, "undertide.yaml", fmt.Sprintf("connections:\n  here: {via: kafka, brokers: [%q]}\n", broker))
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"send", "here", "lifts", "lifts.ndjson", "--pace", "fast"}, "write full, true (as they happened)"},
		{[]string{"send", "here", "lifts", "lifts.ndjson", "--pace", "2x"}, "--event-time and a pace by the events' times belong together"},
		{[]string{"send", "here", "lifts", "none.ndjson"}, "name a file of events"},
		{[]string{"peek"}, "give --connection and --topic, --file, or a document and its source"},
		{[]string{"peek", "--connection", "here", "--topic", "lifts", "--limit", "0"}, "give 1 to 10000"},
		{[]string{"peek", "--connection", "here", "--topic", "lifts", "--since", "soon"}, "neither a time nor a duration"},
		{[]string{"peek", "--connection", "here", "--topic", "lifts", "--infer", "--purpose", "nothing"}, "there are per-minute, moving"},
		{[]string{"peek", "--connection", "here", "--topic", "lifts", "--purpose", "clean"}, "--purpose belongs to --infer"},
	} {
		undertide(t, dir, c.args...).want(t, 2, c.want)
	}
	undertide(t, dir, "send", "here", "lifts", write(t, dir, "text.txt", "no JSON\n"), "--key", "crane").want(t, 1, "text.txt:1: the line is not a JSON object")

	var events []struct {
		Key     *string
		Decoded []struct{ Name, Value string }
	}
	o := undertide(t, dir, "peek", "--connection", "here", "--topic", "lifts", "--oldest", "--limit", "80", "--format", "json")
	if err := json.Unmarshal([]byte(o.out), &events); err != nil || len(events) != 80 || events[0].Key != nil || events[40].Key == nil || *events[40].Key != "C0" || events[0].Decoded[2].Value != "2026-03-01T12:00:00Z" {
		t.Errorf("peek: %v, %d events, %s", err, len(events), o.out[:min(300, len(o.out))])
	}
	if o := s.must("peek", "--connection", "port", "--topic", "lifts", "--profile", "--format", "json"); !strings.Contains(o.out, `"null": 80`) {
		t.Errorf("the profile: %s", o.out)
	}
	document := undertide(t, dir, "peek", "--connection", "here", "--topic", "lifts", "--infer", "--purpose", "clean")
	document.want(t, 0, "doubt: 80 of 120 messages have no key")
	doc := write(t, dir, "clean.yaml", document.out)
	undertide(t, dir, "check", doc, "--connect").want(t, 0)
	if o := undertide(t, dir, "check", write(t, dir, "wrong.yaml", strings.Replace(document.out, "topic: lifts}", "topic: lift}", 1)), "--connect"); o.status != 1 || !strings.Contains(o.out, "did you mean lifts?") {
		t.Errorf("check --connect of a topic mistyped: status %d\n%s%s", o.status, o.out, o.err)
	}
	if o := undertide(t, dir, "peek", doc, "lifts", "--limit", "1"); !strings.Contains(o.out, "decoded  crane=C3") {
		t.Errorf("peek of a document's source:\n%s", o.out)
	}
	undertide(t, dir, "peek", doc, "lift").want(t, 2, "did you mean lifts?")

	s.run("sources", "add", "lifts", "--from", doc, "--about", "Lifts of the harbour").want(t, 3, "there is no connection here")
	port := write(t, dir, "port.yaml", strings.ReplaceAll(document.out, "connection: here", "connection: port"))
	s.must("sources", "add", "lifts", "--from", port, "--about", "Lifts of the harbour").want(t, 0, "source lifts is described")
	s.must("save", port)
	if o := s.must("sources"); !strings.Contains(o.out, "lifts-clean") || strings.Contains(o.out, "in other words") {
		t.Errorf("the described sources:\n%s", o.out)
	}
	s.run("sources", "show", "lift").want(t, 1, "did you mean lifts?")
	if o := s.must("sources", "show", "lifts"); !strings.HasPrefix(o.out, "  lifts:\n    via: kafka\n") {
		t.Errorf("the described source:\n%s", o.out)
	}
	s.must("sources", "remove", "lifts").want(t, 0, "is removed")
	if o := s.must("lateness", "lifts-clean", "--format", "json"); !strings.Contains(o.out, `"proposed_seconds"`) {
		t.Errorf("lateness: %s", o.out)
	}
	s.must("start", "lifts-clean", "--dry-run").want(t, 0, "has no checkpoint: a start begins with nothing")
	s.must("rehearse", port).want(t, 0, "nothing was delivered") // the service knows its connection
	s.run("connections", "remove", "port").want(t, 1, "connection port is used by lifts-clean")
}

// TestSecretsLast: secrets and connections outlast the service; with another key they are named as not
// readable and nothing else fails.
func TestSecretsLast(t *testing.T) {
	t.Parallel()
	dir := open(t)
	s := serve(t, dir)
	set := func(s *serving) {
		t.Helper()
		c := exec.Command(binary, "secrets", "set", "port", "--server", s.address)
		c.Stdin = strings.NewReader("ebb-and-flow")
		if o := finish(t, c); o.status != 0 {
			t.Fatal(o.err)
		}
	}
	set(s)
	s.must("connections", "add", "port", "--brokers", "127.0.0.1:1", "--user", "tide", "--password", "${secret.port}", "--no-test")
	s.end(t, syscall.SIGINT)

	s = serve(t, dir)
	if o := s.must("secrets"); !strings.Contains(o.out, "sealed ") || !strings.Contains(o.out, "port") {
		t.Errorf("after a restart:\n%s", o.out)
	}
	s.run("topics", "port").want(t, 1, "cannot be reached") // with its password
	s.end(t, syscall.SIGINT)

	if err := os.WriteFile(filepath.Join(dataOf(dir), "secrets.key"), []byte(strings.Repeat("k", 32)), 0o600); err != nil {
		t.Fatal(err)
	}
	s = serve(t, dir)
	if o := s.must("secrets"); !strings.Contains(o.out, "sealed with another key: store it again") {
		t.Errorf("with another key:\n%s", o.out)
	}
	s.run("topics", "port").want(t, 1, "secret port cannot be read: it was sealed with another key; store it: undertide secrets set port")
	set(s)
	s.run("topics", "port").want(t, 1, "cannot be reached")
}
