// Package postgres runs a private PostgreSQL server from the machine's packages: in a folder of its
// own, over a socket in it that nobody else can reach, as an unprivileged user, with passwords that only this folder's
// owner can read. It starts the server again when it dies, and ends it with the process.
//
// Where the path of a socket would be longer than the system takes, the server listens on a free port of loopback.
// Another program could take that port between the choice and the start, or while the server is away: so clients ask
// for SCRAM (RFC 5802), which gives no password away to whoever answers in its place, and shows that it is not the server.
package postgres

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/account"
)

// ErrMissing is returned where the server's programs are not installed.
var ErrMissing = errors.New("PostgreSQL's server is not installed: install Debian's package postgresql (make demo does), or name a server with --database")

// runsAs is who runs the server where the process is root.
const runsAs = "postgres"

// Server is a running private server.
type Server struct {
	dir      string
	bin      string
	port     int              // on loopback; 0 where there is a socket
	password string           // of the role that owns the cluster
	role     string           // the password of the role that a service uses
	as       *account.Account // nil for the process's own user
	log      *slog.Logger
	owned    string // what its owner makes

	stop    context.CancelFunc
	stopped chan struct{} // closed when the keeper has ended
	ready   chan error    // of the first start

	up atomic.Bool // the first start has answered

	mu  sync.Mutex // guards cmd
	cmd *exec.Cmd
}

// Start makes the folder's database if need be, starts the server and waits until it answers. It runs
// until Stop. owned is what its owner makes in it beforehand, for the role tide to use; it may be run again, and may be empty.
func Start(ctx context.Context, dir, owned string, log *slog.Logger) (*Server, error) {
	s := &Server{dir: dir, log: log, owned: owned, stopped: make(chan struct{}), ready: make(chan error, 2)}
	var err error
	if s.bin, err = find(); err != nil {
		return nil, err
	}
	if s.as, err = unprivileged(); err != nil {
		return nil, err
	}
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	if len(s.socket())+len("/.s.PGSQL.5432.lock") > longestSocket {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
	}
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	return s, nil
}

// begin starts the keeper, and waits until the server answers.
func (s *Server) begin(ctx context.Context) error {
	keep, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = cancel
	go s.keep(keep)
	select {
	case err := <-s.ready:
		if err != nil {
			s.Stop()
		}
		return err
	case <-ctx.Done():
		s.Stop()
		return ctx.Err()
	}
}

// longestSocket is how long the path of a socket may be (sun_path of unix(7), with its end).
const longestSocket = 107

func (s *Server) socket() string { return filepath.Join(s.dir, "socket") }

// URL is where the server is reached, with the password of a role that owns its tables and is not a superuser: never to be
// shown.
func (s *Server) URL() string { return s.address("tide", s.role) }

func (s *Server) address(role, password string) string {
	q := url.Values{"sslmode": {"disable"}, "require_auth": {"scram-sha-256"}}
	host := fmt.Sprintf("127.0.0.1:%d", s.port)
	if s.port == 0 {
		host = ""
		q.Set("host", s.socket())
	}
	return (&url.URL{Scheme: "postgres", User: url.UserPassword(role, password), Host: host, Path: "/postgres", RawQuery: q.Encode()}).String()
}

// Where says where the server listens, without a password.
func (s *Server) Where() string {
	if s.port == 0 {
		return s.socket()
	}
	return fmt.Sprintf("127.0.0.1:%d", s.port)
}

// find looks for the newest server that the machine's packages have installed.
func find() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres") // the pattern is right
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", ErrMissing
}

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4]) // 0 for what is not a number
	return n
}

// unprivileged says as whom the server runs: nil for the process's own user.
func unprivileged() (*account.Account, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	a, err := account.Find(runsAs)
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user %s; install Debian's package postgresql, or run as another user: %w", runsAs, err)
	}
	return &a, nil
}

func (s *Server) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(s.bin, name), args...)
	c.Dir = s.dir
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	c.SysProcAttr = &syscall.SysProcAttr{}
	if s.as != nil {
		c.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(s.as.UID), Gid: uint32(s.as.GID)}
	}
	return c
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// prepare makes the database folder, once.
func (s *Server) prepare(ctx context.Context) error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("make the database's folder: %w", err)
	}
	secret := filepath.Join(s.dir, "password")
	if err := os.MkdirAll(s.socket(), 0o700); err != nil {
		return fmt.Errorf("make the folder of the database's socket: %w", err)
	}
	if err := errors.Join(s.give(s.dir), s.give(s.socket())); err != nil {
		return err
	}
	if s.as != nil {
		if err := s.as.Passes(s.dir); err != nil {
			return fmt.Errorf("PostgreSQL: %w; or run as another user than root", err)
		}
	}
	var err error
	if s.role, err = s.passwordIn(filepath.Join(s.dir, "password.tide")); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(s.data(), "PG_VERSION")); err == nil {
		if s.password, err = s.passwordIn(secret); err != nil {
			return err
		}
		return errors.Join(s.sameVersion(), s.noCopies())
	}
	if err := os.RemoveAll(s.data()); err != nil { // an interrupted try
		return fmt.Errorf("clear %s: %w", s.data(), err)
	}
	if s.password, err = s.passwordIn(secret); err != nil {
		return err
	}
	out, err := s.command(ctx, "initdb", "--pgdata", s.data(), "--username", "undertide", "--pwfile", secret, "--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C.UTF-8", "--no-instructions").CombinedOutput()
	if err != nil {
		return fmt.Errorf("make the database in %s: %w: %s", s.data(), err, lastLine(out))
	}
	return s.noCopies()
}

// noCopies lets nobody copy the whole server (pg_hba.conf, the keyword replication): who may follow the changes of one database
// sees no other.
func (s *Server) noCopies() error {
	path := filepath.Join(s.data(), "pg_hba.conf")
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read who may come to the database: %w", err)
	}
	lines := slices.DeleteFunc(strings.SplitAfter(string(text), "\n"), func(line string) bool {
		words := strings.Fields(line)
		return len(words) > 1 && words[0][0] != '#' && words[1] == "replication"
	})
	if err := os.WriteFile(path, []byte(strings.Join(lines, "")), 0o600); err != nil {
		return fmt.Errorf("write who may come to the database: %w", err)
	}
	return s.give(path)
}

// passwordIn reads a password, and makes one where there is none.
func (s *Server) passwordIn(path string) (string, error) {
	text, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("read the database's password: %w", err)
	}
	password := rand.Text()
	if err := os.WriteFile(path, []byte(password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the database's password: %w", err)
	}
	return password, s.give(path)
}

// give gives a file to the user that runs the server.
func (s *Server) give(path string) error {
	if s.as == nil {
		return nil
	}
	if err := os.Chown(path, s.as.UID, s.as.GID); err != nil {
		return fmt.Errorf("give %s to user %s: %w", path, runsAs, err)
	}
	return nil
}

func (s *Server) sameVersion() error {
	have, err := os.ReadFile(filepath.Join(s.data(), "PG_VERSION"))
	if err != nil {
		return fmt.Errorf("read the database's version: %w", err)
	}
	want := strings.TrimSpace(string(have))
	if bin := "/usr/lib/postgresql/" + want + "/bin"; bin != s.bin {
		if _, err := os.Stat(filepath.Join(bin, "postgres")); err == nil {
			s.bin = bin
			return nil
		}
		if n := strconv.Itoa(version(s.bin + "/postgres")); n != "0" && n != want {
			return fmt.Errorf("%s was made by PostgreSQL %s, and version %s is installed; install postgresql-%s, or choose another --data", s.data(), want, n, want)
		}
	}
	return nil
}

// endOld ends a server that an earlier process left behind.
func (s *Server) endOld() error {
	text, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	if err != nil {
		return nil //nolint:nilerr // there is none
	}
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	if err != nil || !s.isOurs(pid) {
		return nil
	}
	s.log.Info("a private PostgreSQL of an earlier start is still running; ending it", "pid", pid)
	for i, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT, syscall.SIGKILL} {
		if err := syscall.Kill(pid, sig); err != nil && !errors.Is(err, syscall.ESRCH) {
			return fmt.Errorf("end the PostgreSQL of an earlier start (process %d): %w", pid, err)
		}
		if i > 0 {
			_ = syscall.Kill(pid, syscall.SIGCONT) // it may have been halted
		}
		for range 50 {
			if !s.isOurs(pid) {
				return nil
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	return fmt.Errorf("the PostgreSQL of an earlier start (process %d) does not end; end it by hand", pid)
}

// endOrphans ends what a server that was killed has left: its children hold its memory until they notice, and no server
// starts before. One that computes, or is halted, notices late or never. They may be killed: a server that finds that
// another did not end well recovers from its log.
func (s *Server) endOrphans() error {
	for range 100 {
		left := s.orphans()
		if len(left) == 0 {
			return nil
		}
		for _, pid := range left {
			if err := syscall.Kill(pid, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
				return fmt.Errorf("end a process that a killed PostgreSQL has left (process %d): %w", pid, err)
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("the processes %v that a killed PostgreSQL has left in %s do not end; end them by hand", s.orphans(), s.data())
}

// orphans are the processes that work in the server's folder, as all of a server's do, without a server as parent.
func (s *Server) orphans() (pids []int) {
	data, err := filepath.EvalSymlinks(s.data())
	if err != nil {
		return nil // there is no folder yet
	}
	entries, _ := filepath.Glob("/proc/[0-9]*") // the pattern is right
	for _, entry := range entries {
		if cwd, err := os.Readlink(filepath.Join(entry, "cwd")); err != nil || cwd != data {
			continue // it may also be somebody else's, or gone
		}
		line, err := os.ReadFile(filepath.Join(entry, "cmdline"))
		if err != nil || !strings.HasPrefix(string(line), "postgres: ") {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(entry)) // of digits
		if parent, err := parentOf(pid); err == nil && !s.isOurs(parent) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// parentOf reads the parent of a process from its proc_pid_stat(5).
func parentOf(pid int) (int, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:])) // the state and what follows; a name may hold anything
	if len(fields) < 2 {
		return 0, fmt.Errorf("process %d has no parent", pid)
	}
	return strconv.Atoi(fields[1])
}

// isOurs says whether a process is a server of this folder.
func (s *Server) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(line), s.data())
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port for PostgreSQL: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// startTries is how often a server is started that ends before it has answered. A server that a killed process of ours had
// just begun to start is not seen: its lock is not yet written, and it has no children. It writes the lock a moment later,
// and ours ends. The next try sees it, and ends it.
const startTries = 4

// keep runs the server and starts it again when it dies, on the same port.
func (s *Server) keep(ctx context.Context) {
	defer close(s.stopped)
	runtime.LockOSThread() // the server ends with the thread that started it, so that none is left behind
	go s.announce(ctx)
	for try := 1; ctx.Err() == nil; try++ {
		err := s.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if try == startTries && !s.up.Load() {
			s.ready <- err
			return
		}
		s.log.Warn("the private PostgreSQL has ended; starting it again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// announce says when the server answers for the first time; one that recovers from a long log takes its time.
func (s *Server) announce(ctx context.Context) {
	for !s.answers(ctx) {
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("the private PostgreSQL does not answer yet", "see", filepath.Join(s.dir, "server.log"))
	}
	s.up.Store(true)
	s.ready <- nil
}

// once runs the server until it ends or is to end.
func (s *Server) once(ctx context.Context) error {
	if !s.up.Load() { // later it is our own lock
		if err := s.endOld(); err != nil {
			return err
		}
	}
	if err := s.endOrphans(); err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(s.dir, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write the server's log: %w", err)
	}
	defer logFile.Close()
	listen := []string{"-h", "", "-k", s.socket()}
	if s.port > 0 {
		listen = []string{"-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-k", ""}
	}
	c := s.command(context.Background(), "postgres", append(listen, "-D", s.data(),
		"-c", "max_connections=40", "-c", "shared_buffers=32MB", "-c", "log_min_messages=warning", "-c", "wal_level=logical", "-c", "max_wal_senders=10", "-c", "max_replication_slots=10")...)
	c.Stdout, c.Stderr = logFile, logFile
	c.SysProcAttr.Setpgid = true // Ctrl-C is for us: jobs stop before their records do
	c.SysProcAttr.Pdeathsig = syscall.SIGINT
	if err := c.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	s.mu.Lock()
	s.cmd = c
	s.mu.Unlock()
	exited := make(chan error, 1)
	go func() { exited <- c.Wait() }()
	select {
	case err := <-exited:
		text, _ := os.ReadFile(logFile.Name()) // what can be read explains
		return fmt.Errorf("PostgreSQL ended (%v): %s", err, lastLine(text))
	case <-ctx.Done():
	}
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT, syscall.SIGKILL} {
		_ = c.Process.Signal(sig) // it may just have ended
		select {
		case <-exited:
			return nil
		case <-time.After(5 * time.Second):
		}
	}
	return nil
}

// makeRole makes the role that a service uses, which owns what it makes and no more. Tables of before belonged to the
// role that owns the cluster, and are given to it; but for the trail, which it must not be able to change.
func (s *Server) makeRole(ctx context.Context) error {
	limited, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	c, err := pgx.Connect(limited, s.address("undertide", s.password))
	if err != nil {
		return err
	}
	defer c.Close(limited)
	_, err = c.Exec(limited, `DO $$
DECLARE t text;
BEGIN
	IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'tide') THEN
		CREATE ROLE tide LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE;
	END IF;
	GRANT USAGE, CREATE ON SCHEMA public TO tide;
	FOR t IN SELECT tablename FROM pg_tables WHERE schemaname = 'public' AND tableowner <> 'tide' AND tablename <> 'trail' LOOP
		EXECUTE format('ALTER TABLE public.%I OWNER TO tide', t);
	END LOOP;
END $$`)
	if err == nil {
		_, err = c.Exec(limited, "ALTER ROLE tide PASSWORD '"+s.role+"'") // of letters and digits
	}
	if err == nil {
		_, err = c.Exec(limited, s.owned)
	}
	return err
}

// Guest makes a database and a role that owns it, both with one name of lower-case letters, and gives where it is reached:
// for rows that are nobody's records. The role sees no other database, may follow the changes of this one, and nobody but it sees it. The password is
// also in a file NAME.pgpass of the server's folder, as psql takes it (PGPASSFILE).
func (s *Server) Guest(ctx context.Context, name string) (address string, err error) {
	password, err := s.passwordIn(filepath.Join(s.dir, "password."+name))
	if err != nil {
		return "", err
	}
	c, err := pgx.Connect(ctx, s.address("undertide", s.password))
	if err != nil {
		return "", err
	}
	defer c.Close(context.WithoutCancel(ctx))
	var there bool
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", name).Scan(&there); err != nil {
		return "", err
	}
	if !there {
		if _, err := c.Exec(ctx, "CREATE ROLE "+name+" LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE"); err != nil {
			return "", err
		}
	}
	if _, err := c.Exec(ctx, "ALTER ROLE "+name+" REPLICATION PASSWORD '"+password+"'"); err != nil { // of letters and digits
		return "", err
	}
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(&there); err != nil {
		return "", err
	}
	if !there {
		if _, err := c.Exec(ctx, "CREATE DATABASE "+name+" OWNER "+name); err != nil {
			return "", err
		}
	}
	if _, err := c.Exec(ctx, "REVOKE CONNECT ON DATABASE postgres FROM PUBLIC; GRANT CONNECT ON DATABASE postgres TO tide; REVOKE CONNECT ON DATABASE "+name+" FROM PUBLIC"); err != nil {
		return "", err
	}
	passfile := filepath.Join(s.dir, name+".pgpass")
	if err := os.WriteFile(passfile, []byte("*:*:"+name+":"+name+":"+password+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the database's password: %w", err)
	}
	u, err := url.Parse(s.address(name, password))
	if err != nil {
		return "", err
	}
	u.Path = "/" + name
	return u.String(), s.give(passfile)
}

// answers waits fifteen seconds at most for the server.
func (s *Server) answers(ctx context.Context) bool {
	for range 300 {
		if s.makeRole(ctx) == nil {
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(50 * time.Millisecond):
		}
	}
	return false
}

// PID is the server's process; 0 between two starts.
func (s *Server) PID() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd == nil || s.cmd.Process == nil {
		return 0
	}
	return s.cmd.Process.Pid
}

// Stop ends the server and waits for it.
func (s *Server) Stop() {
	s.stop()
	<-s.stopped
}

func lastLine(text []byte) string {
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return lines[len(lines)-1]
}
