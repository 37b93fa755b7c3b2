package postgres

import (
	"context"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
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
	s, err := Start(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

func answers(s *Server) bool {
	c, err := net.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port())))
	if err == nil {
		c.Close()
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

// TestServer: the server runs as an unprivileged user, keeps its password to its owner, is started
// again on the same port when it dies, and ends with Stop.
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
	secret, err := os.Stat(filepath.Join(dir, "password"))
	if err != nil || secret.Mode().Perm() != 0o600 {
		t.Errorf("the password's file: %v, %v", secret.Mode(), err)
	}
	hba, err := os.ReadFile(filepath.Join(dir, "data", "pg_hba.conf"))
	if err != nil || strings.Contains(string(hba), "trust\n") {
		t.Errorf("somebody may come without a password: %v", err)
	}
	port, pid := s.Port(), s.PID()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	eventually(t, "another server answers on the same port", func() bool { return s.PID() != pid && s.Port() == port && answers(s) })
	pid = s.PID()
	s.Stop()
	if alive(pid) || answers(s) {
		t.Error("it runs after Stop")
	}
}

// TestLeftBehind: a server that an earlier process left behind is ended, and its data is used on.
func TestLeftBehind(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	pid, url := s.PID(), s.URL()
	s2, err := Start(context.Background(), dir, slog.New(slog.DiscardHandler)) // as after a crash of ours
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Stop()
	if alive(pid) && s2.PID() == pid {
		t.Error("the old server still runs")
	}
	password := func(u string) string { return strings.SplitN(strings.SplitN(u, "@", 2)[0], ":", 3)[2] }
	if password(url) != password(s2.URL()) {
		t.Error("the password has changed")
	}
	s.stop() // or it would go on starting its own
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
	if s, err := Start(context.Background(), filepath.Join(dir, "postgres"), slog.New(slog.DiscardHandler)); err == nil || !strings.Contains(err.Error(), "may not pass") {
		if s != nil {
			s.Stop()
		}
		t.Errorf("a closed folder gives %v", err)
	}
}
