package kafka

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"

	"undertide/broker"
	"undertide/connect"
	"undertide/connect/secure"
	"undertide/connect/secure/own"
	"undertide/core/engine"
)

// certificate makes one of its own for a name: PEM of certificate and key.
func certificate(t *testing.T, name string) (cert, key string) {
	t.Helper()
	cert, key, err := own.Certificate(name)
	if err != nil {
		t.Fatal(err)
	}
	return cert, key
}

// fake starts a broker of the library with settings that the stand-in does not have.
func fake(t *testing.T, opts ...kfake.Opt) string {
	t.Helper()
	c, err := kfake.NewCluster(append(opts, kfake.NumBrokers(1))...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	return c.ListenAddrs()[0]
}

func states(checks []connect.Step) string {
	var out []string
	for _, c := range checks {
		out = append(out, c.State)
	}
	return strings.Join(out, ", ")
}

// TestTry: each way in which a connection can fail is found at its step, with what to do about it.
func TestTry(t *testing.T) {
	cert, key := certificate(t, "port")
	pair, err := tls.X509KeyPair([]byte(cert), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	topics := kfake.SeedTopics(1, "crane.lifts", "gauge.levels")
	plainAddr := fake(t, topics)
	tlsAddr := fake(t, topics, kfake.TLS(&tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}))
	allow := func(topic string, ops ...kmsg.ACLOperation) (out []kfake.ACL) {
		for _, op := range ops {
			out = append(out, kfake.ACL{Resource: kmsg.ACLResourceTypeTopic, Name: topic, Pattern: kmsg.ACLResourcePatternTypeLiteral, Operation: op, Allow: true})
		}
		return out
	}
	reads := allow("crane.lifts", kmsg.ACLOperationRead, kmsg.ACLOperationDescribe)
	safeAddr := fake(t, topics, kfake.TLS(&tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}), kfake.EnableSASL(), kfake.EnableACLs(),
		kfake.Superuser("SCRAM-SHA-512", "master", "low water"), kfake.User("SCRAM-SHA-256", "reader", "ebb", reads...), kfake.User("PLAIN", "looker", "flow", allow("crane.lifts", kmsg.ACLOperationDescribe)...))
	connection := func(address string, tlsOn bool, mechanism, user, password string) Connection {
		t.Helper()
		c := Connection{Name: "port", Brokers: []string{address}}
		var err error
		if tlsOn {
			if c.TLS, err = secure.TLS(nil, cert, "", "", ""); err != nil {
				t.Fatal(err)
			}
		}
		if mechanism != "" {
			if c.SASL, err = SignIn(mechanism, user, password); err != nil {
				t.Fatal(err)
			}
		}
		return c
	}
	untrusted := Connection{Name: "port", Brokers: []string{tlsAddr}, TLS: &tls.Config{MinVersion: tls.VersionTLS12}}
	wrongName := connection(tlsAddr, true, "", "", "")
	wrongName.TLS.ServerName = "harbour"
	for _, c := range []struct {
		name          string
		c             Connection
		topic, states string
		says          string
	}{
		{"all well", connection(plainAddr, false, "", "", ""), "crane.lifts", "yes, yes, yes, yes, yes", "nobody has to"},
		{"no topic named", connection(plainAddr, false, "", "", ""), "", "yes, yes, not asked, not asked, not asked", "name one of 2 topics"},
		{"a topic that is not there", connection(plainAddr, false, "", "", ""), "crane.lift", "yes, yes, no, not asked, not asked", "did you mean crane.lifts?"},
		{"nobody listens", connection("127.0.0.1:1", false, "", "", ""), "", "no, not asked, not asked, not asked, not asked", "check that it runs"},
		{"TLS", connection(tlsAddr, true, "", "", ""), "crane.lifts", "yes, yes, yes, yes, yes", "over TLS"},
		{"TLS where there is none", connection(plainAddr, true, "", "", ""), "", "yes, no, not asked, not asked, not asked", "leave tls out"},
		{"no TLS where there is", connection(tlsAddr, false, "", "", ""), "", "yes, no, not asked, not asked, not asked", "perhaps it wants TLS"},
		{"a certificate that nobody trusts", untrusted, "", "yes, no, not asked, not asked, not asked", "tls.ca"},
		{"another name in the certificate", wrongName, "", "yes, no, not asked, not asked, not asked", "tls.server_name"},
		{"signed in", connection(safeAddr, true, "scram-sha-512", "master", "low water"), "crane.lifts", "yes, yes, yes, yes, yes", "over TLS, by SCRAM-SHA-512"},
		{"a wrong password", connection(safeAddr, true, "scram-sha-512", "master", "high water"), "", "yes, no, not asked, not asked, not asked", "check mechanism, user and password"},
		{"another mechanism", connection(safeAddr, true, "plain", "master", "low water"), "", "yes, no, not asked, not asked, not asked", "check mechanism, user and password"},
		{"no sign-in where there is one", connection(safeAddr, true, "", "", ""), "", "yes, no, not asked, not asked, not asked", "sign-in"},
		{"may read only", connection(safeAddr, true, "scram-sha-256", "reader", "ebb"), "crane.lifts", "yes, yes, yes, yes, no", "may not write to crane.lifts"},
		{"may only see", connection(safeAddr, true, "plain", "looker", "flow"), "crane.lifts", "yes, yes, yes, no, no", "may not read crane.lifts"},
		{"may not see", connection(safeAddr, true, "scram-sha-256", "reader", "ebb"), "gauge.levels", "yes, yes, no, not asked, not asked", "may not see it"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l, err := Look(c.c)
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
			got := l.Try(context.Background(), c.topic)
			if states(got) != c.states {
				t.Errorf("%s, want %s: %v", states(got), c.states, got)
			}
			if text := fmt.Sprint(got); !strings.Contains(text, c.says) {
				t.Errorf("%s does not say %q", text, c.says)
			}
			if text := fmt.Sprint(got); strings.Contains(text, "low water") || strings.Contains(text, "high water") {
				t.Errorf("a password is shown: %s", text)
			}
		})
	}
}

func TestSecure(t *testing.T) {
	cert, key := certificate(t, "port")
	_, other := certificate(t, "port")
	for _, c := range []struct{ name, ca, cert, key, want string }{
		{"no certificate in it", key, "", "", "tls.ca holds no certificate"},
		{"no such file", "/nowhere/ca.pem", "", "", "PEM, or the path of a file"},
		{"a certificate alone", "", cert, "", "belong together"},
		{"another's key", "", cert, other, "do not fit"},
		{"a long text as key", "", cert, strings.Repeat("k", 300), "neither PEM nor the path"},
		{"a secret as key that is not a PEM", "", cert, "kkkk-ebb", "neither PEM nor the path"},
	} {
		_, err := secure.TLS(nil, c.ca, c.cert, c.key, "")
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "kkkk") {
			t.Errorf("%s: %v, want %q", c.name, err, c.want)
		}
	}
	if s, err := secure.TLS(nil, cert, cert, key, "port"); err != nil || len(s.Certificates) != 1 || s.ServerName != "port" {
		t.Errorf("a certificate and its key: %v, %v", s, err)
	}
}

// TestPeek: the newest, the oldest and those since a time, over partitions, in the order in which they
// were stored, with keys, headers and deletions; and no trace of it at the broker.
func TestPeek(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"lifts", "empty"}, Partitions: 3})
	cl := client(t, c)
	base := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for i := range 90 {
		r := &kgo.Record{Topic: "lifts", Partition: int32(i % 3), Key: fmt.Appendf(nil, "C%d", i), Value: fmt.Appendf(nil, "lift %d", i), Timestamp: base.Add(time.Duration(i) * time.Second)}
		if i == 89 {
			r.Key, r.Value, r.Headers = nil, nil, []kgo.RecordHeader{{Key: "from", Value: []byte("quay")}}
		}
		send(t, cl, r)
	}
	l, err := Look(c)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	two := int32(2)
	for _, k := range []struct {
		name        string
		c           PeekConfig
		first, last int
	}{
		{"newest", PeekConfig{From: connect.Newest, Limit: 10}, 80, 89},
		{"oldest", PeekConfig{From: connect.Oldest, Limit: 10}, 0, 9},
		{"since a time", PeekConfig{From: connect.Since, At: base.Add(30 * time.Second), Limit: 5}, 30, 34},
		{"more than there are", PeekConfig{From: connect.Oldest, Limit: 1000}, 0, 89},
		{"since after the end", PeekConfig{From: connect.Since, At: base.Add(time.Hour), Limit: 5}, 0, -1},
		{"one", PeekConfig{From: connect.Newest, Limit: 1}, 89, 89},
	} {
		k.c.Topic = "lifts"
		got, err := l.Peek(context.Background(), k.c)
		if err != nil {
			t.Fatalf("%s: %v", k.name, err)
		}
		var want []int
		for i := k.first; i <= k.last; i++ {
			want = append(want, i)
		}
		var have []int
		for _, r := range got.Events {
			p, err := strconv.Atoi(r.Partition)
			if err != nil {
				t.Fatal(err)
			}
			have = append(have, int(r.Offset)*3+p)
		}
		if !slices.Equal(have, want) {
			t.Errorf("%s: lifts %v, want %v", k.name, have, want)
		}
		if len(got.Spans) != 3 || got.Spans[0].End != 30 {
			t.Errorf("%s: spans %v", k.name, got.Spans)
		}
	}
	got, err := l.Peek(context.Background(), PeekConfig{Topic: "lifts", From: connect.Newest, Limit: 1, Partition: &two})
	if err != nil || len(got.Events) != 1 {
		t.Fatal(got, err)
	}
	if r := got.Events[0]; r.Key != nil || r.Text != nil || len(r.Headers) != 1 || r.Headers[0] != (connect.Header{Name: "from", Value: "quay"}) {
		t.Errorf("a deletion with a header: %+v", r)
	}
	nine := int32(9)
	if _, err := l.Peek(context.Background(), PeekConfig{Topic: "lifts", Limit: 1, Partition: &nine}); err == nil || !strings.Contains(err.Error(), "has no partition 9; it has 3") {
		t.Errorf("a partition that is not there: %v", err)
	}
	if got, err := l.Peek(context.Background(), PeekConfig{Topic: "empty", Limit: 5}); err != nil || len(got.Events) != 0 || len(got.Spans) != 3 {
		t.Errorf("an empty topic: %v, %v", got, err)
	}
	if _, err := l.Peek(context.Background(), PeekConfig{Topic: "lift", Limit: 1}); !errors.Is(err, connect.ErrNoStream) {
		t.Errorf("a topic that is not there: %v, want ErrNoStream", err)
	}
	groups, err := l.admin.ListGroups(context.Background())
	if err != nil || len(groups) != 0 {
		t.Errorf("peeking left groups: %v, %v", groups, err)
	}
	list, err := l.Streams(context.Background())
	if err != nil || len(list) != 2 || list[1].Name != "lifts" || list[1].Events != 90 || list[1].Partitions != 3 || !list[1].Newest.Equal(base.Add(89*time.Second)) || !list[0].Newest.IsZero() {
		t.Errorf("topics: %+v, %v", list, err)
	}
}

// TestPeekAborted: events of a transaction that was undone are not shown, and nobody waits for them.
func TestPeekAborted(t *testing.T) {
	_, c := start(t, broker.Options{Topics: []string{"lifts"}, Partitions: 1})
	tx := client(t, c, kgo.TransactionalID("t"))
	for i := range 4 {
		if err := tx.BeginTransaction(); err != nil {
			t.Fatal(err)
		}
		send(t, tx, &kgo.Record{Topic: "lifts", Value: fmt.Append(nil, i)})
		if err := tx.EndTransaction(context.Background(), i%2 == 0); err != nil {
			t.Fatal(err)
		}
	}
	l, err := Look(c)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	began := time.Now()
	got, err := l.Peek(context.Background(), PeekConfig{Topic: "lifts", From: connect.Oldest, Limit: 100})
	if err != nil || len(got.Events) != 2 || string(got.Events[0].Text) != "0" || string(got.Events[1].Text) != "2" {
		t.Errorf("%+v, %v; want the events 0 and 2", got.Events, err)
	}
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("it took %s: markers at the end are waited for", took)
	}
}

// TestCreate: a sink makes the topic that it lacks when it is told to, and no other.
func TestCreate(t *testing.T) {
	address := fake(t, kfake.SeedTopics(1, "crane.lifts"))
	c := Connection{Name: "port", Brokers: []string{address}}
	s := NewSink(SinkConfig{Connection: c, Topic: "crane.loads"})
	if err := s.Open(nil, 1); err == nil || !strings.Contains(err.Error(), "create: true") {
		t.Errorf("a topic that is not there: %v, want how to make it", err)
	}
	for range 2 { // there is nothing to make the second time
		s = NewSink(SinkConfig{Connection: c, Topic: "crane.loads", Create: true, Partitions: 3})
		if err := s.Open(nil, 1); err != nil {
			t.Fatal(err)
		}
		if err := s.Abort(); err != nil {
			t.Fatal(err)
		}
	}
	l, err := Look(c)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	list, err := l.Streams(context.Background())
	if err != nil || len(list) != 2 || list[1].Name != "crane.loads" || list[1].Partitions != 3 {
		t.Errorf("topics: %+v, %v", list, err)
	}
	if err := l.Make(context.Background(), "crane.loads", 1); !errors.Is(err, connect.ErrStreamExists) {
		t.Errorf("made again: %v, want ErrStreamExists", err)
	}
}

// TestSecureJob: a source and a sink reach a broker over TLS with a sign-in; a wrong password is an error
// that trying again does not heal, and no job waits for it.
func TestSecureJob(t *testing.T) {
	cert, key := certificate(t, "port")
	pair, err := tls.X509KeyPair([]byte(cert), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	c := Connection{Name: "port", Brokers: []string{fake(t, kfake.SeedTopics(1, "lifts"), kfake.TLS(&tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}), kfake.EnableSASL(), kfake.Superuser("SCRAM-SHA-256", "tide", "ebb"))}}
	if c.TLS, err = secure.TLS(nil, cert, "", "", ""); err != nil {
		t.Fatal(err)
	}
	if c.SASL, err = SignIn("scram-sha-256", "tide", "ebb"); err != nil {
		t.Fatal(err)
	}
	w, err := NewWriterTo(context.Background(), c, "lifts")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	w.Send(context.Background(), "lifts", []byte("C1"), []byte(`{}`), time.Now(), nil)
	if err := w.Flush(context.Background()); err != nil {
		t.Fatal(err)
	}
	s := opened(t, SourceConfig{Connection: c, Topic: "lifts", Fresh: true})
	p := s.Partitions()[0]
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	limited, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	var chunk engine.Chunk
	for len(chunk.Starts) == 0 {
		chunk.Reset()
		if err := p.Read(limited, &chunk); err != nil {
			t.Fatal(err)
		}
	}
	if err := NewSink(SinkConfig{Connection: c, Topic: "lifts"}).Probe(); err != nil {
		t.Error(err)
	}
	if c.SASL, err = SignIn("scram-sha-256", "tide", "flow"); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(context.Background(), SourceConfig{Connection: c, Topic: "lifts"}); !errors.Is(err, connect.ErrDenied) || errors.Is(err, connect.ErrUnreachable) {
		t.Errorf("a wrong password: %v, want ErrDenied", err)
	}
	if err := NewSink(SinkConfig{Connection: c, Topic: "lifts"}).Probe(); !errors.Is(err, connect.ErrDenied) {
		t.Errorf("a sink with a wrong password: %v, want ErrDenied", err)
	}
}
