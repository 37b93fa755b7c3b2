package mqtt

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"undertide/connect"
	"undertide/connect/formats/ndjson"
	"undertide/connect/mqtt/peer"
	"undertide/connect/secure"
	"undertide/connect/secure/own"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

func started(t *testing.T, lines ...string) *peer.Broker {
	t.Helper()
	b, err := peer.Start(t.TempDir(), lines...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Stop)
	return b
}

// versions are those that are spoken.
var versions = []string{"5", "3.1.1"}

func to(addr, version string) *connect.Connection {
	return &connect.Connection{Name: "yard", Kind: Kind, Link: &Link{Address: address(addr), Version: version}}
}

// opened opens a source whose journal is in a folder.
func opened(t *testing.T, c *connect.Connection, dir string, topics ...string) (connect.Opened, engine.Partition) {
	t.Helper()
	s := &source{Connection: c, Topics: topics, Client: "undertide-j-s"}
	o, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: dir})
	if err != nil {
		t.Fatal(err)
	}
	return o, o.Partitions[0]
}

// got is a message that was read.
type got struct {
	text, key string
	levels    int
	stored    bool
}

// reads reads so many messages from a position on.
func reads(t *testing.T, p engine.Partition, n int, at []byte) (out []got, position []byte) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 60*time.Second)
	defer stop()
	if err := p.Open(ctx, at); err != nil {
		t.Fatal(err)
	}
	var c engine.Chunk
	key, topic, stored := row.NewColumn(row.String), row.NewColumn(row.ListOf(row.String)), row.NewColumn(row.Timestamp)
	for position = at; len(out) < n; position = c.Position {
		c.Reset()
		if err := p.Read(ctx, &c); err != nil {
			t.Fatalf("after %d of %d messages: %v", len(out), n, err)
		}
		key.Reset()
		topic.Reset()
		stored.Reset()
		for i := range c.Starts {
			c.Meta.Append(key, "meta.key", i)
			c.Meta.Append(topic, "meta.topic", i)
			c.Meta.Append(stored, "meta.stored", i)
			out = append(out, got{string(c.Event(i)), string(key.Bytes(i)), elements(topic, i), !stored.IsNull(i)})
		}
	}
	return out, position
}

func numbered(from, to int) (out []string) {
	for n := from; n < to; n++ {
		out = append(out, fmt.Sprintf(`{"n":%d}`, n))
	}
	return out
}

func texts(all []got) (out []string) {
	for _, g := range all {
		out = append(out, g.text)
	}
	return out
}

// TestMessages: messages come in their order with their topics; those that are published while nobody is there wait in the broker, also
// over its restart; a position goes on where it was.
func TestMessages(t *testing.T) {
	for _, version := range versions {
		t.Run(version, func(t *testing.T) {
			b, dir := started(t), t.TempDir()
			c := to(b.Address, version)
			o, p := opened(t, c, dir, "yard/+/level", "yard/berths/#")
			if err := b.Publish("yard/G1/level", numbered(0, 50)...); err != nil {
				t.Fatal(err)
			}
			if err := b.Publish("yard/G1/battery", "not asked for"); err != nil {
				t.Fatal(err)
			}
			all, at := reads(t, p, 50, nil)
			if want := (got{`{"n":0}`, "yard/G1/level", 3, true}); all[0] != want || !slices.Equal(texts(all), numbered(0, 50)) {
				t.Fatalf("got %+v first, want %+v; then %v", all[0], want, texts(all))
			}
			o.Close()
			if err := b.Publish("yard/berths/7/a/b", numbered(50, 80)...); err != nil {
				t.Fatal(err)
			}
			b.Stop()
			if err := b.Again(); err != nil {
				t.Fatal(err)
			}
			o, p = opened(t, c, dir, "yard/+/level", "yard/berths/#")
			defer o.Close()
			all, _ = reads(t, p, 30, at)
			if all[0].key != "yard/berths/7/a/b" || all[0].levels != 5 || !slices.Equal(texts(all), numbered(50, 80)) {
				t.Errorf("after a while away: %+v", all)
			}
		})
	}
}

// breaking passes connections on to an address, and breaks each after some time, in the middle of whatever it has.
func breaking(t *testing.T, address string, most time.Duration) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	t.Cleanup(func() { l.Close(); all.Wait() })
	all.Go(func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", address)
			if err != nil {
				in.Close()
				continue
			}
			end := func() {
				in.Close()
				out.Close()
			}
			time.AfterFunc(10*time.Millisecond+rand.N(most), end)
			pass := func(dst, src net.Conn) func() {
				return func() {
					_, _ = io.Copy(dst, src) // it ends as it may
					end()
				}
			}
			all.Go(pass(in, out))
			all.Go(pass(out, in))
		}
	})
	return l.Addr().String()
}

// TestBroken: over connections that break again and again, each message is read once, in both versions; also where the source is closed and
// opened meanwhile.
func TestBroken(t *testing.T) {
	const n = 12_000
	for _, version := range versions {
		t.Run(version, func(t *testing.T) {
			t.Parallel()
			b, dir := started(t), t.TempDir()
			c := to(breaking(t, b.Address, 200*time.Millisecond), version)
			published := make(chan error, 1)
			all := map[string]int{}
			var at []byte
			for life, read := 0, 0; read < n; life++ {
				o, p := tried(t, c, dir)
				if life == 0 {
					go func() { published <- b.Publish("yard/gauges", numbered(0, n)...) }()
				}
				var some []got
				some, at = reads(t, p, min(n-read, 2000), at)
				for _, g := range some {
					all[g.text]++
				}
				read += len(some)
				p.(engine.Acknowledger).Acknowledge(at)
				o.Close()
			}
			if err := <-published; err != nil {
				t.Fatal(err)
			}
			o, p := tried(t, c, dir)
			defer o.Close()
			if err := b.Publish("yard/gauges", "the end"); err != nil {
				t.Fatal(err)
			}
			if rest, _ := reads(t, p, 1, at); rest[0].text != "the end" {
				t.Errorf("%s came once more", rest[0].text)
			}
			for _, text := range numbered(0, n) {
				if all[text] != 1 {
					t.Errorf("%s was read %d times", text, all[text])
				}
			}
		})
	}
}

// tried opens a source over a way that may break as it does.
func tried(t *testing.T, c *connect.Connection, dir string) (connect.Opened, engine.Partition) {
	t.Helper()
	s := &source{Connection: c, Topics: []string{"yard/#"}, Client: "undertide-j-s"}
	for {
		o, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: dir})
		if err == nil {
			return o, o.Partitions[0]
		}
		if !strings.Contains(err.Error(), "reached") {
			t.Fatal(err)
		}
	}
}

// TestFull: a journal that is full acknowledges nothing: what it has no room for waits in the broker, and comes once there is.
func TestFull(t *testing.T) {
	b, dir := started(t), t.TempDir()
	s := &source{Connection: to(b.Address, "5"), Topics: []string{"a"}, Client: "c", Journal: 1 << 20}
	o, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: dir})
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	p := o.Partitions[0]
	long := strings.Repeat("x", 60_000)
	var want []string
	for n := range 60 {
		want = append(want, fmt.Sprint(n, long))
	}
	go func() { _ = b.Publish("a", want...) }() // what is lost is missed below
	trouble := p.(engine.Troubled)
	for until := time.Now().Add(20 * time.Second); !strings.Contains(trouble.Trouble(), "journal is full"); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("a full journal says %q", trouble.Trouble())
		}
	}
	var at []byte
	var all []string
	for len(all) < len(want) {
		var some []got
		some, at = reads(t, p, 1, at)
		all = append(all, texts(some)...)
		p.(engine.Acknowledger).Acknowledge(at)
	}
	if !slices.Equal(all, want) {
		t.Errorf("%d messages came, or others", len(all))
	}
}

// TestRefused: who may not, or reaches nobody, is told what would help.
func TestRefused(t *testing.T) {
	dir := t.TempDir()
	secret := dir + "/passwords"
	if err := run("mosquitto_passwd", "-c", "-b", secret, "keeper", "right"); err != nil {
		t.Fatal(err)
	}
	b := started(t, "allow_anonymous false", "password_file "+secret)
	for _, version := range versions {
		for name, c := range map[string]struct {
			link *Link
			want string
		}{
			"wrong password": {&Link{Address: address(b.Address), User: "keeper", Password: "wrong"}, "check user, password and rights"},
			"nobody":         {&Link{Address: address(b.Address)}, "access denied"},
			"no broker":      {&Link{Address: "127.0.0.1:1"}, "connection refused; check that it runs"},
			"no TLS there":   {&Link{Address: address(b.Address), TLS: &secure.Settings{}}, "cannot be reached"},
		} {
			c.link.Version = version
			s := &source{Connection: &connect.Connection{Name: "yard", Kind: Kind, Link: c.link}, Topics: []string{"a"}, Client: "c"}
			_, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: t.TempDir()})
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s, %s: %v, want %q", version, name, err, c.want)
			}
			l, err := c.link.Look("yard")
			if err != nil {
				t.Fatal(err)
			}
			steps := l.Try(context.Background(), "a")
			if last := steps[len(steps)-1]; last.State != "not asked" {
				t.Errorf("%s, %s: %+v", version, name, steps)
			}
		}
		good := &Link{Address: address(b.Address), User: "keeper", Password: "right", Version: version}
		l, err := good.Look("yard")
		if err != nil {
			t.Fatal(err)
		}
		if steps := l.Try(context.Background(), "a/+ b/#"); steps[2].State != "yes" {
			t.Errorf("%s: %+v", version, steps)
		}
		if steps := l.Try(context.Background(), "a/b+"); steps[2].State != "no" || !strings.Contains(steps[2].Text, "whole level") {
			t.Errorf("%s: %+v", version, steps)
		}
	}
}

// TestSample: a look takes what comes, and what the broker retains, and leaves nothing behind.
func TestSample(t *testing.T) {
	for _, version := range versions {
		b := started(t)
		host, port, _ := net.SplitHostPort(b.Address)
		if err := run("mosquitto_pub", "-h", host, "-p", port, "-r", "-t", "yard/gauge", "-m", "kept"); err != nil {
			t.Fatal(err)
		}
		s := &source{Connection: to(b.Address, version), Topics: []string{"yard/+"}, Client: "c"}
		got, err := s.Sample(context.Background(), connect.Opening{}, connect.Sampling{Rows: 1})
		if err != nil || len(got.Events) != 1 || string(got.Events[0].Text) != "kept" || string(got.Events[0].Key) != "yard/gauge" {
			t.Errorf("%s: %+v, %v", version, got, err)
		}
		s.Topics = []string{"elsewhere"}
		got, err = s.Sample(context.Background(), connect.Opening{}, connect.Sampling{Rows: 1, Wait: 200 * time.Millisecond})
		if err != nil || len(got.Events) != 0 || len(got.Notes) != 1 {
			t.Errorf("%s: %+v, %v", version, got, err)
		}
	}
}

// TestPublished: rows become messages of their topics, in order; over connections that break each comes at least once.
func TestPublished(t *testing.T) {
	schema := row.Schema{{Name: "crane", Kind: row.String}, {Name: "n", Kind: row.Int}}
	for _, version := range versions {
		for _, broken := range []bool{false, true} {
			t.Run(fmt.Sprint(version, " ", broken), func(t *testing.T) {
				b, dir := started(t), t.TempDir()
				o, p := opened(t, to(b.Address, version), dir, "alarms/#")
				defer o.Close()
				at, n := b.Address, 2000
				if broken {
					at = breaking(t, b.Address, 100*time.Millisecond)
				}
				s := &sink{Connection: to(at, version)}
				if err := s.Topic.UnmarshalText([]byte("alarms/{crane}")); err != nil {
					t.Fatal(err)
				}
				out, err := s.Open(context.Background(), connect.Opening{Format: ndjson.Format})
				if err != nil {
					t.Fatal(err)
				}
				for err := out.Open(nil, 1); err != nil; err = out.Open(nil, 1) {
					if !broken {
						t.Fatal(err)
					}
				}
				e := out.NewEncoder(schema)
				for from := 0; from < n; from += 100 {
					if broken { // longer together than a connection lasts
						time.Sleep(20 * time.Millisecond)
					}
					rows := row.NewBatch(schema)
					for i := from; i < from+100; i++ {
						rows.Cols[0].AppendString([]string{"C1", "C/2"}[i%2])
						rows.Cols[1].AppendInt(int64(i))
						rows.N++
					}
					if err := out.Write(e.Append(nil, step.ViewOf(rows)), 100); err != nil {
						t.Fatal(err)
					}
				}
				if _, err := out.Prepare(1); err != nil {
					t.Fatal(err)
				}
				if err := out.Finish(); err != nil {
					t.Fatal(err)
				}
				if err := b.Publish("alarms/end", "end"); err != nil {
					t.Fatal(err)
				}
				seen := map[string]int{}
				var position []byte
				for seen["alarms/end end"] == 0 {
					var some []got
					some, position = reads(t, p, 1, position)
					for _, g := range some {
						seen[g.key+" "+g.text]++
					}
				}
				for i := range n {
					text := fmt.Sprintf(`alarms/%s {"crane":"%s","n":%d}`, []string{"C1", "C_2"}[i%2], []string{"C1", "C/2"}[i%2], i)
					if times := seen[text]; times == 0 || times > 1 && !broken {
						t.Errorf("%s came %d times", text, times)
					}
				}
				if retried := out.(engine.Retrier).Retries(); broken == (retried == 0) {
					t.Errorf("%d tries failed", retried)
				}
			})
		}
	}
}

// FuzzFrames: bytes that are no frame are told, and a frame gives what was put into it.
func FuzzFrames(f *testing.F) {
	f.Add([]byte{1, 0, 1, 'a', 'b'})
	f.Add([]byte{1})
	f.Fuzz(func(t *testing.T, b []byte) {
		id, topic, text, err := cut(b)
		if err != nil {
			return
		}
		again := frame(message{id: id, topic: string(topic), text: text})
		id2, topic2, text2, err := cut(again)
		if err != nil || id2 != id || string(topic2) != string(topic) || string(text2) != string(text) {
			t.Errorf("%v %q %q came back as %v %q %q, %v", id, topic, text, id2, topic2, text2, err)
		}
	})
}

func run(name string, args ...string) error {
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, out)
	}
	return nil
}

// elements counts those of a list.
func elements(c *row.Column, i int) int {
	values := row.NewColumn(row.String)
	if !row.Elements(c.Kind, c.Bytes(i), nil, values, nil) {
		return -1
	}
	return values.Len()
}

// TestTLS: messages come over TLS from a broker whose authority is named; another is refused with what would help; with both versions.
func TestTLS(t *testing.T) {
	cert, key, err := own.Certificate("yard")
	if err != nil {
		t.Fatal(err)
	}
	other, _, err := own.Certificate("yard")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for name, text := range map[string]string{"cert.pem": cert, "key.pem": key} {
		if err := os.WriteFile(dir+"/"+name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b := started(t, "allow_anonymous true", "certfile "+dir+"/cert.pem", "keyfile "+dir+"/key.pem")
	for _, version := range versions {
		over := func(authority string) *connect.Connection {
			l := &Link{Address: address(b.Address), Version: version, TLS: &secure.Settings{CA: settings.PEMText(authority)}}
			return &connect.Connection{Name: "yard", Kind: Kind, Link: l}
		}
		o, p := opened(t, over(cert), t.TempDir(), "a/"+version)
		sender, err := over(cert).Link.(*Link).broker("yard")
		if err != nil {
			t.Fatal(err)
		}
		session, err := sender.begin(context.Background(), dialing{client: newName()})
		if err != nil {
			t.Fatal(err)
		}
		wait, err := session.publish(context.Background(), "a/"+version, []byte("over TLS"), false)
		if err == nil {
			err = wait(context.Background())
		}
		if err != nil {
			t.Fatal(err)
		}
		session.close()
		if got, _ := reads(t, p, 1, nil); got[0].text != "over TLS" {
			t.Errorf("%s: %+v", version, got)
		}
		o.Close()
		s := &source{Connection: over(other), Topics: []string{"a"}, Client: "c"}
		if _, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: t.TempDir()}); err == nil || !strings.Contains(err.Error(), "is not trusted") {
			t.Errorf("%s: another authority: %v", version, err)
		}
	}
}
