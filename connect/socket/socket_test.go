package socket

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/secure/own"
	"undertide/connect/settings"
	"undertide/core/engine"
)

// opened opens a source whose journal is in a folder.
func opened(t *testing.T, s *source, dir string) (connect.Opened, engine.Partition) {
	t.Helper()
	o, err := s.Open(context.Background(), connect.Opening{Job: "j", Name: "s", Journal: dir})
	if err != nil {
		t.Fatal(err)
	}
	return o, o.Partitions[0]
}

// reads reads so many events from a position on.
func reads(t *testing.T, p engine.Partition, n int, at []byte) (out []string, position []byte) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	if err := p.Open(ctx, at); err != nil {
		t.Fatal(err)
	}
	var c engine.Chunk
	for position = at; len(out) < n; position = c.Position {
		c.Reset()
		if err := p.Read(ctx, &c); err != nil {
			t.Fatalf("after %d of %d events: %v", len(out), n, err)
		}
		for i := range c.Starts {
			out = append(out, string(c.Event(i)))
		}
	}
	return out, position
}

func at(notes []string) string {
	n := slices.IndexFunc(notes, func(s string) bool { return strings.HasPrefix(s, "takes lines at ") })
	return strings.TrimPrefix(notes[n], "takes lines at ")
}

func send(t *testing.T, address string, texts ...string) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range texts {
		if _, err := c.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// TestListen: lines of several connections, in pieces, with both ends, empty ones, one that is too long, and a last one without an end.
// Another run goes on behind what a checkpoint has passed.
func TestListen(t *testing.T) {
	dir := t.TempDir()
	o, p := opened(t, &source{Listen: "127.0.0.1:0", Line: 1000}, dir)
	a := send(t, at(o.Notes), "one\ntw")
	got, position := reads(t, p, 1, nil)
	if _, err := a.Write([]byte("o\r\n\n" + strings.Repeat("x", 200_000) + "\nthree")); err != nil {
		t.Fatal(err)
	}
	if err := a.Close(); err != nil {
		t.Fatal(err)
	}
	more, position := reads(t, p, 2, position)
	got = append(got, more...)
	b := send(t, at(o.Notes), strings.Repeat("many\n", 5000), "never ends")
	more, position = reads(t, p, 5000, position)
	if got = append(got, more...); !slices.Equal(got[:4], []string{"one", "two", "three", "many"}) || len(got) != 5003 {
		t.Fatalf("%d lines, the first %q", len(got), got[:4])
	}
	p.(engine.Acknowledger).Acknowledge(position)
	o.Close()
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	o, p = opened(t, &source{Listen: "127.0.0.1:0"}, dir)
	defer o.Close()
	c := send(t, at(o.Notes), "four\n")
	defer c.Close()
	if got, _ := reads(t, p, 1, position); got[0] != "four" {
		t.Errorf("another run reads %q", got)
	}
}

// TestReach: lines of an address that goes away and comes back are all read; while it is away that is said.
func TestReach(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	o, p := opened(t, &source{Address: address}, t.TempDir())
	defer o.Close()
	var want, got []string
	var position []byte
	for n := range 3 {
		c, err := l.Accept()
		if err != nil {
			t.Fatal(err)
		}
		for i := range 50 {
			line := fmt.Sprintf("line %d of %d", i, n)
			want = append(want, line)
			if _, err := fmt.Fprintln(c, line); err != nil {
				t.Fatal(err)
			}
		}
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
		var more []string
		more, position = reads(t, p, 50, position)
		got = append(got, more...)
	}
	if !slices.Equal(got, want) {
		t.Errorf("%d lines are read, want %d", len(got), len(want))
	}
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(20 * time.Second); !strings.Contains(p.(engine.Troubled).Trouble(), address+" has not been reached for "); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("it is away, and the trouble is %q", p.(engine.Troubled).Trouble())
		}
	}
}

// TestSlow: while the journal is full nothing more is read, and that is said; once a checkpoint has passed, all comes.
func TestSlow(t *testing.T) {
	dir := t.TempDir()
	j, err := journal.Open(dir, journal.Options{Limit: 40_000, Segment: 10_000})
	if err != nil {
		t.Fatal(err)
	}
	k := newTaker(j, 1000, 40_000)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	k.serve(l)
	p := &partition{journal.NewPartition(j, "lines"), k}
	sent := make(chan error, 1)
	const lines = 20_000
	go func() {
		c, err := net.Dial("tcp", l.Addr().String())
		for i := 0; i < lines && err == nil; i++ {
			_, err = fmt.Fprintf(c, "line %d\n", i)
		}
		if err == nil {
			err = c.Close()
		}
		sent <- err
	}()
	for until := time.Now().Add(20 * time.Second); !strings.Contains(p.Trouble(), "lines could not be written down for "); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("the journal is full, and the trouble is %q", p.Trouble())
		}
	}
	if j.Size() > 40_000 {
		t.Errorf("the journal has %d bytes", j.Size())
	}
	var position []byte
	for n := 0; n < lines; {
		var got []string
		got, position = reads(t, p, 1, position)
		for _, e := range got {
			if e != fmt.Sprint("line ", n) {
				t.Fatalf("line %d is %q", n, e)
			}
			n++
		}
		p.Acknowledge(position)
	}
	if err := <-sent; err != nil {
		t.Error(err)
	}
	if text := p.Trouble(); text != "" {
		t.Errorf("all is well, and the trouble is %q", text)
	}
	k.stop()
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
}

// TestTLS: lines come over TLS from who shows a certificate of the named authority; nothing is read from another, and that is said.
func TestTLS(t *testing.T) {
	cert, key, err := own.Certificate("yard")
	if err != nil {
		t.Fatal(err)
	}
	other, _, err := own.Certificate("yard")
	if err != nil {
		t.Fatal(err)
	}
	pair, err := tls.X509KeyPair([]byte(cert), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = c.Write([]byte("over TLS\n")) // who does not trust us is gone
			c.Close()
		}
	}()
	over := func(authority, name string) *source {
		s := &source{Address: l.Addr().String()}
		described := reflect.ValueOf(s).Elem().FieldByName("TLS")
		described.Set(reflect.New(described.Type().Elem()))
		s.TLS.CA, s.TLS.ServerName = settings.PEMText(authority), name
		return s
	}
	for _, name := range []string{"yard", ""} { // by its address, where no name is given
		o, p := opened(t, over(cert, name), t.TempDir())
		if got, _ := reads(t, p, 1, nil); got[0] != "over TLS" {
			t.Errorf("it read %q", got)
		}
		o.Close()
	}
	for name, s := range map[string]*source{"another authority": over(other, ""), "another name": over(cert, "elsewhere")} {
		o, p := opened(t, s, t.TempDir())
		trouble := ""
		for until := time.Now().Add(10 * time.Second); trouble == "" && time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			trouble = p.(engine.Troubled).Trouble()
		}
		if !strings.Contains(trouble, "certificate") {
			t.Errorf("%s: %q", name, trouble)
		}
		if lag, _ := p.(engine.Lagger).Lag(nil); lag != 0 {
			t.Errorf("%s: %d lines were read", name, lag)
		}
		o.Close()
	}
}
