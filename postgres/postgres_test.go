package postgres

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// folder is one that the server's user may reach.
func folder(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "postgres")
}

func start(t *testing.T, dir string) *Server {
	t.Helper()
	s, err := Start(context.Background(), dir, "", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

func answers(s *Server) bool {
	c, err := pgx.Connect(context.Background(), s.URL())
	if err == nil {
		c.Close(context.Background())
	}
	return err == nil
}

func alive(pid int) bool {
	text, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	return err == nil && !strings.Contains(string(text), ") Z ")
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for range 400 {
		if holds() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("not within 20 s: " + what)
}

// TestServer: the server runs as an unprivileged user, listens on a socket that others cannot reach and on no port, keeps
// its passwords to their owner, gives a role that is not a superuser, is started again when it dies, and ends with Stop.
func TestServer(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	st, err := os.Stat("/proc/" + strconv.Itoa(s.PID()))
	if err != nil {
		t.Fatal(err)
	}
	if st.Sys().(*syscall.Stat_t).Uid == 0 {
		t.Error("it runs as root")
	}
	for name, rights := range map[string]os.FileMode{"password": 0o600, "password.tide": 0o600, "socket": 0o700, "data": 0o700} {
		if st, err := os.Stat(filepath.Join(dir, name)); err != nil || st.Mode().Perm() != rights {
			t.Errorf("%s has the rights %v, %v; want %v", name, st.Mode(), err, rights)
		}
	}
	if ports := listens(t, s.PID()); len(ports) > 0 || s.Where() != filepath.Join(dir, "socket") {
		t.Errorf("it listens at %s and on TCP %q", s.Where(), ports)
	}
	if may := rights(t, s); may != "f f f" {
		t.Errorf("superuser, may make databases, may make roles: %s", may)
	}
	hba, err := os.ReadFile(filepath.Join(dir, "data", "pg_hba.conf"))
	if err != nil || strings.Contains(string(hba), "trust\n") {
		t.Errorf("somebody may come without a password: %v", err)
	}
	pid := s.PID()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	eventually(t, "another server answers at the same place", func() bool { return s.PID() != pid && answers(s) })
	pid = s.PID()
	s.Stop()
	if alive(pid) || answers(s) {
		t.Error("it runs after Stop")
	}
}

// rights are what the service's role may, as t and f: be a superuser, make databases, make roles.
func rights(t *testing.T, s *Server) (out string) {
	t.Helper()
	c, err := pgx.Connect(context.Background(), s.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if err := c.QueryRow(context.Background(), "SELECT concat_ws(' ', rolsuper, rolcreatedb, rolcreaterole) FROM pg_roles WHERE rolname = current_user").Scan(&out); err != nil {
		t.Fatal(err)
	}
	return out
}

// listens gives the TCP addresses that a process listens on, as /proc writes them.
func listens(t *testing.T, pid int) (out []string) {
	t.Helper()
	open := map[string]bool{}
	links, err := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
	if err != nil || len(links) == 0 {
		t.Fatalf("the files of process %d cannot be seen: %v", pid, err)
	}
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil {
			open[to] = true
		}
	}
	for _, table := range []string{"tcp", "tcp6"} {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", pid, table))
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			if f := strings.Fields(line); len(f) > 9 && f[3] == "0A" && open["socket:["+f[9]+"]"] {
				out = append(out, f[1])
			}
		}
	}
	return out
}

// TestLongPath: where the socket's path is too long, the server listens on loopback, and whoever takes its port while it
// is away gets no password: clients ask for SCRAM.
func TestLongPath(t *testing.T) {
	dir := filepath.Join(filepath.Dir(folder(t)), strings.Repeat("long", 25), "postgres")
	if err := os.Mkdir(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir)
	if len(listens(t, s.PID())) != 1 || !strings.HasPrefix(s.Where(), "127.0.0.1:") || !answers(s) {
		t.Fatalf("it listens at %s and on TCP %q", s.Where(), listens(t, s.PID()))
	}
	if may := rights(t, s); may != "f f f" {
		t.Errorf("superuser, may make databases, may make roles: %s", may)
	}
	thief, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer thief.Close()
	got := make(chan string, 1)
	go func() {
		c, err := thief.Accept()
		if err != nil {
			got <- err.Error()
			return
		}
		defer c.Close()
		b := make([]byte, 4096)
		n, _ := c.Read(b)                                           // how the client begins
		_, _ = c.Write([]byte("R\x00\x00\x00\x08\x00\x00\x00\x03")) // AuthenticationCleartextPassword
		m, _ := c.Read(b[n:])
		got <- string(b[:n+m])
	}()
	url := strings.Replace(s.URL(), s.Where(), thief.Addr().String(), 1)
	if c, err := pgx.Connect(context.Background(), url); err == nil {
		c.Close(context.Background())
		t.Error("the client takes another program for the server")
	}
	if text := <-got; !strings.Contains(text, "tide") || strings.Contains(text, s.role) {
		t.Errorf("the other program is told %q", text)
	}
}

// TestLeftBehind: a server that an earlier process left behind is ended, and its data is used on.
func TestLeftBehind(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	pid, url := s.PID(), s.URL()
	s2, err := Start(context.Background(), dir, "", slog.New(slog.DiscardHandler)) // as after a crash of ours
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Stop()
	if alive(pid) && s2.PID() == pid {
		t.Error("the old server still runs")
	}
	if url != s2.URL() || !answers(s2) {
		t.Error("the password or the place has changed")
	}
	s.stop() // or it would go on starting its own
}

// TestChildrenLeft: a server that was killed leaves children; one that is halted never notices. The server that is started
// again, by the keeper or by the next start, is not held up by it.
func TestChildrenLeft(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	kill := func(s *Server) {
		t.Helper()
		c, err := pgx.Connect(context.Background(), s.URL())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close(context.Background()) })
		child := int(c.PgConn().PID())
		for _, hurt := range []struct {
			pid int
			sig syscall.Signal
		}{{child, syscall.SIGSTOP}, {s.PID(), syscall.SIGKILL}} {
			if err := syscall.Kill(hurt.pid, hurt.sig); err != nil {
				t.Fatal(err)
			}
		}
		t.Cleanup(func() { _ = syscall.Kill(child, syscall.SIGKILL) }) // where the test fails
	}
	pid := s.PID()
	kill(s)
	eventually(t, "the keeper's next server answers", func() bool { return s.PID() != pid && answers(s) })
	kill(s)
	s.Stop() // before the keeper has started another
	if left := s.orphans(); len(left) == 0 {
		t.Fatal("no child is left: the test tests nothing")
	}
	next := start(t, dir)
	if !answers(next) {
		t.Error("the next start does not answer")
	}
}

// TestJustBegun: a server that takes its lock after its folder was looked through for old ones, as one does whose service was
// killed just when it started it, is not in the way. Here ours comes with another, once.
func TestJustBegun(t *testing.T) {
	s := start(t, folder(t))
	s.Stop()
	s.stopped, s.log = make(chan struct{}), slog.Default()
	s.up.Store(false)
	port, err := freePort()
	if err != nil {
		t.Fatal(err)
	}
	bin := t.TempDir()
	text := fmt.Sprintf(`#!/bin/sh
if [ ! -e %[1]s/once ]; then
	touch %[1]s/once
	%[2]s/postgres -h 127.0.0.1 -p %[4]d -k '' -D %[3]s &
	while [ ! -e %[3]s/postmaster.pid ]; do sleep 0.01; done
fi
exec %[2]s/postgres "$@"
`, s.dir, s.bin, s.data(), port)
	if err := errors.Join(os.WriteFile(filepath.Join(bin, "postgres"), []byte(text), 0o755), os.Chmod(filepath.Dir(bin), 0o755)); err != nil {
		t.Fatal(err)
	}
	s.bin = bin
	if err := s.begin(context.Background()); err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if _, err := os.Stat(filepath.Join(s.dir, "once")); err != nil || !answers(s) {
		t.Errorf("another was started: %v; ours answers: %v", err, answers(s))
	}
}

// TestUnreachableFolder: a folder that the server's user may not pass is refused with what would help.
func TestUnreachableFolder(t *testing.T) {
	if os.Geteuid() != 0 {
		return // everybody may pass their own folders
	}
	dir := t.TempDir() // its parent is closed to others
	if err := os.Chmod(filepath.Dir(dir), 0o700); err != nil {
		t.Fatal(err)
	}
	if s, err := Start(context.Background(), filepath.Join(dir, "postgres"), "", slog.New(slog.DiscardHandler)); err == nil || !strings.Contains(err.Error(), "may not pass") {
		if s != nil {
			s.Stop()
		}
		t.Errorf("a closed folder gives %v", err)
	}
}
