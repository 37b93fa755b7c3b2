// Package kafka reads and writes topics of brokers that speak the Kafka wire protocol, over franz-go
// (docs/connectors.md, "kafka"). Positions are ours, in checkpoints; they are also committed to a
// group, so that other tools can show how far a job has come. A broker that cannot be reached is
// waited for, never an end; what is gone for good (events that the broker has deleted) fails the run.
package kafka

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
	"github.com/twmb/franz-go/pkg/sasl"

	"undertide/connect"
	"undertide/connect/registry"
	"undertide/connect/secure"
	"undertide/nearest"
)

// Connection says how a broker is reached.
type Connection struct {
	Name    string
	Brokers []string       // host:port
	TLS     *tls.Config    // nil: in the clear
	SASL    sasl.Mechanism // nil: nobody signs in

	registry *registry.Client // nil: there is none

	dial func(ctx context.Context, network, address string) (net.Conn, error) // nil: as networks do; tests lose requests
}

func (c Connection) String() string {
	return fmt.Sprintf("broker %s (%s)", c.Name, strings.Join(c.Brokers, ", "))
}

// reachIn bounds how long a start waits for a broker's first answer.
const reachIn = 5 * time.Second

func (c Connection) options() []kgo.Opt {
	out := []kgo.Opt{kgo.SeedBrokers(c.Brokers...), kgo.ClientID("undertide"), kgo.MetadataMinAge(250 * time.Millisecond), kgo.MetadataMaxAge(30 * time.Second),
		kgo.RetryBackoffFn(func(n int) time.Duration {
			return min(time.Duration(n)*100*time.Millisecond, time.Second) * time.Duration(80+rand.IntN(41)) / 100 // not all at once
		})}
	if c.dial != nil {
		out = append(out, kgo.Dialer(c.dial))
	} else if c.TLS != nil {
		d := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 3 * time.Second}, Config: c.TLS}
		out = append(out, kgo.Dialer(d.DialContext))
	} else {
		out = append(out, kgo.DialTimeout(3*time.Second))
	}
	if c.SASL != nil {
		out = append(out, kgo.SASL(c.SASL))
	}
	return out
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
		return d, fmt.Errorf("%s %w %s; %s", c, connect.ErrNoStream, topic, others(all, topic))
	}
	if d.Err != nil {
		return d, fmt.Errorf("%s: topic %s: %w", c, topic, d.Err)
	}
	return d, nil
}

func others(all kadm.TopicDetails, wanted string) string {
	names := all.Names()
	if near := nearest.Name(wanted, names); near != "" {
		return "did you mean " + near + "?"
	}
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
	if denied := c.denied(err); denied != nil {
		return denied
	}
	var op *net.OpError
	why := err.Error()
	switch {
	case errors.As(err, &op) && op.Err != nil && op.Op == "dial":
		why = op.Err.Error()
	case errors.Is(err, io.EOF) && c.SASL != nil:
		return fmt.Errorf("%s: %w: it ends the conversation at the sign-in; check mechanism, user and password, and whether it wants TLS", c, connect.ErrDenied)
	case errors.Is(err, io.EOF):
		return fmt.Errorf("%s %w: it ends the conversation at once; perhaps it wants TLS, or another sign-in, or none", c, connect.ErrUnreachable)
	case errors.Is(err, context.DeadlineExceeded):
		why = fmt.Sprintf("no answer within %s", reachIn)
	}
	return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", c, connect.ErrUnreachable, why)
}

// denied words a refusal of the broker's: of the sign-in, the certificate, or a right. nil for others.
func (c Connection) denied(err error) error {
	if why := secure.Why(err); why != "" {
		return fmt.Errorf("%s: %w: %s", c, connect.ErrDenied, why)
	}
	switch {
	case errors.Is(err, kerr.SaslAuthenticationFailed), errors.Is(err, kerr.UnsupportedSaslMechanism), errors.Is(err, kerr.IllegalSaslState):
		return fmt.Errorf("%s: %w: the sign-in is refused; check mechanism, user and password of the connection", c, connect.ErrDenied)
	case errors.Is(err, kerr.TopicAuthorizationFailed), errors.Is(err, kerr.ClusterAuthorizationFailed), errors.Is(err, kerr.GroupAuthorizationFailed):
		return fmt.Errorf("%s: %w: %s; ask for the right, or sign in as another user", c, connect.ErrDenied, strings.ToLower(kerr.ErrorForCode(codeOf(err)).Error()))
	}
	return nil
}

func codeOf(err error) int16 {
	var k *kerr.Error
	if errors.As(err, &k) {
		return k.Code
	}
	return 0
}

// health watches a client's talk with its brokers. Safe for concurrent use.
type health struct {
	connect.Health
	what string
}

func (h *health) fault(err error) {
	if errors.Is(err, context.Canceled) || errors.Is(err, kgo.ErrClientClosed) || errors.Is(err, net.ErrClosed) {
		return
	}
	why := err.Error()
	if op := (*net.OpError)(nil); errors.As(err, &op) && op.Err != nil {
		why = op.Err.Error()
	}
	h.Fault(why)
}

// trouble words a failure that lasts; empty for none.
func (h *health) trouble() string { return h.Trouble(h.what + " has not answered") }

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
		h.OK()
	}
}
