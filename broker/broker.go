// Package broker is the stand-in for a broker that ships with Under Tide, for development, tests and
// the demo: it speaks the Kafka wire protocol on one address and keeps its topics in a folder. It is
// the fake of the franz-go library behind a command of ours; no data of worth belongs into it.
package broker

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"syscall"

	"github.com/twmb/franz-go/pkg/kfake"
)

// DefaultListen is where it listens unless told otherwise.
const DefaultListen = "127.0.0.1:19092"

// Options are how the stand-in is started.
type Options struct {
	Listen string // host:port on loopback; empty for DefaultListen, port 0 for a free one
	Data   string // the folder that keeps topics; empty for none: they last as long as the process
	// Topics are made if they are not there, with Partitions each (1 if zero).
	Topics     []string
	Partitions int32
}

// Broker is a running stand-in.
type Broker struct {
	cluster *kfake.Cluster
	lock    *os.File
	open    string // the file that is there while it runs; empty without a folder
	Addr    string
}

// Start starts it; it serves until Close.
func Start(o Options) (*Broker, error) {
	if o.Listen == "" {
		o.Listen = DefaultListen
	}
	host, port, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address; write it as %s", o.Listen, DefaultListen)
	}
	if !onLoopback(host) {
		return nil, fmt.Errorf("the broker stand-in has no sign-in and listens on loopback only; use 127.0.0.1:%s", port)
	}
	n, err := strconv.Atoi(port)
	if err != nil || n < 0 || n > 65535 {
		return nil, fmt.Errorf("%q is not a port; give 0 to 65535", port)
	}
	b := &Broker{}
	opts := []kfake.Opt{kfake.NumBrokers(1), kfake.Ports(n), kfake.AllowAutoTopicCreation(), kfake.DefaultNumPartitions(3),
		kfake.ListenFn(func(network, _ string) (net.Listener, error) { return net.Listen(network, o.Listen) })}
	if o.Data != "" {
		if err := os.MkdirAll(o.Data, 0o700); err != nil {
			return nil, fmt.Errorf("make the broker's data folder: %w", err)
		}
		if b.lock, err = os.OpenFile(o.Data+"/lock", os.O_CREATE|os.O_RDWR, 0o600); err != nil {
			return nil, fmt.Errorf("lock the broker's data folder: %w", err)
		}
		if syscall.Flock(int(b.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			b.lock.Close()
			return nil, fmt.Errorf("the data folder %s is in use by another broker stand-in; stop that one, or give this one a folder of its own", o.Data)
		}
		opts = append(opts, kfake.DataDir(o.Data))
	}
	if o.Data != "" {
		if err := mend(o.Data); err != nil {
			b.unlock()
			return nil, fmt.Errorf("end the transactions of a broker stand-in that was killed: %w", err)
		}
		b.open = filepath.Join(o.Data, openMark)
		if err := os.WriteFile(b.open, nil, 0o600); err != nil {
			b.unlock()
			return nil, fmt.Errorf("write into the broker's data folder: %w", err)
		}
	}
	if len(o.Topics) > 0 {
		opts = append(opts, kfake.SeedTopics(max(1, o.Partitions), o.Topics...))
	}
	c, err := kfake.NewCluster(opts...)
	if err != nil {
		b.unlock()
		if errors.Is(err, syscall.EADDRINUSE) {
			return nil, fmt.Errorf("%s is taken by another program; stop it, or choose another address with --listen", o.Listen)
		}
		return nil, fmt.Errorf("start the broker stand-in: %w", err)
	}
	if o.Data != "" {
		(&commits{dir: o.Data, under: map[string]commit{}}).watch(c)
	}
	b.cluster, b.Addr = c, c.ListenAddrs()[0]
	return b, nil
}

// onLoopback says whether a host is this machine alone.
func onLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (b *Broker) unlock() {
	if b.lock != nil {
		b.lock.Close()
	}
}

// Close ends it; what it took is on disk then.
func (b *Broker) Close() {
	b.cluster.Close()
	if b.open != "" {
		_ = os.Remove(b.open) // else the next start mends what is whole
		_ = os.RemoveAll(filepath.Join(filepath.Dir(b.open), commitsFolder))
	}
	b.unlock()
}
