// Package kafka reads and writes topics of brokers that speak the Kafka wire protocol, over franz-go
// (docs/connectors.md, "kafka"). Positions are ours, in checkpoints; they are also committed to a
// group, so that other tools can show how far a job has come. A broker that cannot be reached is
// waited for, never an end; what is gone for good (events that the broker has deleted) fails the run.
package kafka

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// Connection says how a broker is reached.
type Connection struct {
	Name    string
	Brokers []string // host:port
}

func (c Connection) String() string {
	return fmt.Sprintf("broker %s (%s)", c.Name, strings.Join(c.Brokers, ", "))
}

// ErrUnreachable is wrapped where no broker of a connection answers: trying again may help.
var ErrUnreachable = errors.New("cannot be reached")

// reachIn bounds how long a start waits for a broker's first answer.
const reachIn = 5 * time.Second

func (c Connection) options() []kgo.Opt {
	return []kgo.Opt{kgo.SeedBrokers(c.Brokers...), kgo.ClientID("undertide"), kgo.DialTimeout(3 * time.Second), kgo.MetadataMinAge(250 * time.Millisecond), kgo.MetadataMaxAge(30 * time.Second),
		kgo.RetryBackoffFn(func(n int) time.Duration { return min(time.Duration(n)*100*time.Millisecond, time.Second) })}
}

// topic reads what the broker knows of a topic; one that is not there is an error that names those
// that are.
func (c Connection) topic(ctx context.Context, admin *kadm.Client, topic string) (kadm.TopicDetail, error) {
	limited, cancel := context.WithTimeout(ctx, reachIn)
	defer cancel()
	all, err := admin.ListTopics(limited)
	if err != nil {
		return kadm.TopicDetail{}, c.unreachable(err)
	}
	d, ok := all[topic]
	if !ok {
		return d, fmt.Errorf("%s has no topic %s; %s", c, topic, others(all))
	}
	if d.Err != nil {
		return d, fmt.Errorf("%s: topic %s: %w", c, topic, d.Err)
	}
	return d, nil
}

func others(all kadm.TopicDetails) string {
	names := all.Names()
	if len(names) == 0 {
		return "it has none yet: create it there first"
	}
	if len(names) > 8 {
		names = append(names[:8:8], "…")
	}
	return "it has " + strings.Join(names, ", ")
}

// unreachable words why a broker does not answer.
func (c Connection) unreachable(err error) error {
	var op *net.OpError
	why := err.Error()
	switch {
	case errors.As(err, &op) && op.Err != nil:
		why = op.Err.Error()
	case errors.Is(err, context.DeadlineExceeded):
		why = fmt.Sprintf("no answer within %s", reachIn)
	}
	return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", c, ErrUnreachable, why)
}

// health watches a client's talk with its brokers. Safe for concurrent use.
type health struct {
	mu      sync.Mutex // guards all below
	what    string
	failing time.Time // the first failure since the last success; zero for none
	why     string
	retries int64
}

func (h *health) ok() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.failing = time.Time{}
}

func (h *health) fault(err error) {
	if errors.Is(err, context.Canceled) || errors.Is(err, kgo.ErrClientClosed) || errors.Is(err, net.ErrClosed) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.failing.IsZero() {
		h.failing = time.Now()
	}
	h.retries++
	h.why = err.Error()
	if op := (*net.OpError)(nil); errors.As(err, &op) && op.Err != nil {
		h.why = op.Err.Error()
	}
}

// trouble words a failure that lasts; empty for none.
func (h *health) trouble() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.failing.IsZero() || time.Since(h.failing) < 2*time.Second {
		return ""
	}
	return fmt.Sprintf("%s has not answered for %s: %s", h.what, time.Since(h.failing).Round(time.Second), h.why)
}

func (h *health) retried() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.retries
}

// OnBrokerConnect and OnBrokerE2E are the library's hooks.
func (h *health) OnBrokerConnect(_ kgo.BrokerMetadata, _ time.Duration, _ net.Conn, err error) {
	if err != nil {
		h.fault(err)
	}
}

func (h *health) OnBrokerE2E(_ kgo.BrokerMetadata, key int16, e kgo.BrokerE2E) {
	if err := e.Err(); err != nil {
		h.fault(err)
	} else if key != int16(kmsg.ApiVersions) {
		h.ok()
	}
}
