// Package peer runs a broker that is not ours, for tests and the demo: mosquitto, of Debian's packages.
package peer

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Broker is a mosquitto that keeps its sessions and messages in a folder.
type Broker struct {
	Address string // host:port
	dir     string
	cmd     *exec.Cmd
}

// Start starts a broker with these lines of settings beside its listener; sessions stand in dir. Where the caller is root it runs as
// the user of its package.
func Start(dir string, lines ...string) (*Broker, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b := &Broker{Address: l.Addr().String(), dir: dir}
	l.Close()
	_, port, _ := net.SplitHostPort(b.Address) // as it was listened to
	if len(lines) == 0 {
		lines = []string{"allow_anonymous true"}
	}
	lines = append([]string{"listener " + port + " 127.0.0.1", "persistence true", "persistence_location " + dir + "/", "max_inflight_messages 100", "max_queued_messages 0", "log_type error", "log_type subscribe"}, lines...)
	if err := os.WriteFile(filepath.Join(dir, "mosquitto.conf"), []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		return nil, err
	}
	for _, path := range []string{dir, filepath.Dir(dir)} { // its user must come there
		if os.Geteuid() != 0 {
			break // it is the caller
		}
		if err := os.Chmod(path, 0o777); err != nil {
			return nil, err
		}
	}
	return b, b.Again()
}

// Found says whether the program is there.
func Found() bool {
	_, err := program()
	return err == nil
}

// program finds the broker, which stands where administrators look.
func program() (string, error) {
	for _, path := range []string{"mosquitto", "/usr/sbin/mosquitto"} {
		if found, err := exec.LookPath(path); err == nil {
			return found, nil
		}
	}
	return "", errors.New("mosquitto is missing: scripts/install.sh tools installs it")
}

// Again starts it again at its place, and waits until it listens.
func (b *Broker) Again() error {
	path, err := program()
	if err != nil {
		return err
	}
	b.cmd = exec.Command(path, "-c", filepath.Join(b.dir, "mosquitto.conf"))
	log, err := os.Create(filepath.Join(b.dir, "broker.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	b.cmd.Stdout, b.cmd.Stderr = log, log
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := b.cmd.Start(); err != nil {
		return err
	}
	for range 200 {
		c, err := net.Dial("tcp", b.Address)
		if err == nil {
			return c.Close()
		}
		time.Sleep(25 * time.Millisecond)
	}
	text, _ := os.ReadFile(log.Name()) // it explains
	b.Stop()
	return fmt.Errorf("mosquitto does not listen at %s: %s", b.Address, text)
}

// Stop ends it in order: it keeps its sessions.
func (b *Broker) Stop() {
	_ = b.cmd.Process.Signal(syscall.SIGTERM) // it may have ended
	_ = b.cmd.Wait()
}

// Publish has mosquitto's own client publish texts to a topic, a message each, and waits until the broker has them.
func (b *Broker) Publish(topic string, texts ...string) error {
	host, port, _ := net.SplitHostPort(b.Address)
	c := exec.Command("mosquitto_pub", "-h", host, "-p", port, "-q", "1", "-t", topic, "-l")
	c.Stdin = strings.NewReader(strings.Join(texts, "\n") + "\n")
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("mosquitto_pub: %w: %s", err, out)
	}
	return nil
}

// Log is the file in which it says who subscribes to what.
func (b *Broker) Log() string { return filepath.Join(b.dir, "broker.log") }
