package kafka

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"

	"undertide/connect"
)

// The steps of a test, in order: one that fails leaves those after it not asked.
const (
	reached = iota
	signedIn
	topicSeen
	mayRead
	mayWrite
)

// test is a connection that is tried step by step.
type test struct {
	l     *Looker
	topic string
	steps connect.Trial
}

// Try tries the connection step by step, and a topic where one is named. It reads and writes no event:
// rights are what the broker says they are.
func (l *Looker) Try(ctx context.Context, topic string) []connect.Step {
	defer endsWith(ctx, l.client)()
	t := &test{l, topic, connect.NewTrial([]connect.Step{{Name: "reached"}, {Name: "signed in"}, {Name: "topic seen", Needs: connect.ByMaking}, {Name: "may read", Needs: connect.ByReading}, {Name: "may write", Needs: connect.ByWriting}}...)}
	limited, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	if !t.reach(limited) {
		return t.steps
	}
	all, ok := t.signIn(limited)
	if !ok {
		return t.steps
	}
	if topic == "" {
		t.steps[topicSeen].Text = fmt.Sprintf("name one of %d topics to ask for its rights", len(all.Names()))
		return t.steps
	}
	if t.see(all) {
		t.rights(limited)
	}
	return t.steps
}

// reach dials the brokers until one answers, and shakes hands over TLS with that one.
func (t *test) reach(ctx context.Context) bool {
	var why error
	began := time.Now()
	for _, address := range t.l.c.Brokers {
		d := net.Dialer{Timeout: 3 * time.Second}
		conn, err := d.DialContext(ctx, "tcp", address)
		if err != nil {
			why = err
			continue
		}
		defer conn.Close()
		t.steps.Say(reached, true, "%s answers in %s", address, max(time.Millisecond, time.Since(began).Round(time.Millisecond)))
		if t.l.c.TLS != nil {
			if err := t.l.c.shake(ctx, conn, address); err != nil {
				return t.steps.Say(signedIn, false, "%v", err)
			}
		}
		return true
	}
	return t.steps.Say(reached, false, "%v", t.l.c.unreachable(why))
}

// signIn asks for the topics, which a broker answers only to those whom it knows.
func (t *test) signIn(ctx context.Context) (kadm.TopicDetails, bool) {
	c := t.l.c
	all, err := t.l.admin.ListTopics(ctx)
	switch {
	case err != nil:
		return nil, t.steps.Say(signedIn, false, "%v", c.unreachable(err))
	case c.SASL != nil && c.TLS != nil:
		t.steps.Say(signedIn, true, "over TLS, by %s", c.SASL.Name())
	case c.SASL != nil:
		t.steps.Say(signedIn, true, "by %s, in the clear", c.SASL.Name())
	case c.TLS != nil:
		t.steps.Say(signedIn, true, "over TLS, without a name")
	default:
		t.steps.Say(signedIn, true, "nobody has to, and it is in the clear")
	}
	return all, true
}

// see looks for the topic among those that this user may see.
func (t *test) see(all kadm.TopicDetails) bool {
	d, ok := all[t.topic]
	switch {
	case !ok:
		return t.steps.Say(topicSeen, false, "there is no topic %s, or this user may not see it; %s", t.topic, others(all, t.topic))
	case d.Err != nil:
		return t.steps.Say(topicSeen, false, "topic %s: %v", t.topic, d.Err)
	}
	return t.steps.Say(topicSeen, true, "%s has %d partitions", t.topic, len(d.Partitions))
}

// rights reads the newest event, which shows the right to, and asks what else the broker says this user may do.
func (t *test) rights(ctx context.Context) {
	got, err := t.l.Peek(ctx, PeekConfig{Topic: t.topic, Limit: 1, Wait: time.Second})
	if t.steps.Say(mayRead, err == nil, "%s", textOr(err, "its newest event was read")) && len(got.Events) == 0 {
		t.steps[mayRead].Text = "it has no event to read yet"
	}
	rights, err := t.l.admin.Metadata(kadm.WithAuthorizedOps(ctx), t.topic)
	ops := rights.Topics[t.topic].AuthorizedOperations
	may := func(op kadm.ACLOperation) bool { return slices.Contains(ops, op) || slices.Contains(ops, kadm.OpAll) }
	if err == nil && len(ops) > 0 && t.steps[mayRead].State == "yes" && !may(kadm.OpRead) {
		t.steps.Say(mayRead, false, "the broker says that this user may not read %s; ask for the right", t.topic)
	}
	switch {
	case err != nil:
		t.steps.Say(mayWrite, false, "%v", t.l.c.unreachable(err))
	case len(ops) == 0:
		t.steps[mayWrite].Text = "the broker does not say; a job that writes finds out when it starts"
	case may(kadm.OpWrite):
		t.steps.Say(mayWrite, true, "the broker says so")
	default:
		t.steps.Say(mayWrite, false, "the broker says that this user may not write to %s; ask for the right, where a job is to write there", t.topic)
	}
}

// shake tries TLS on a connection of its own, whose faults say more than those of requests.
func (c Connection) shake(ctx context.Context, conn net.Conn, address string) error {
	config := c.TLS.Clone()
	if config.ServerName == "" {
		config.ServerName, _, _ = net.SplitHostPort(address)
	}
	limited, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	err := tls.Client(conn, config).HandshakeContext(limited)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s does not answer to TLS; perhaps it speaks none here: leave tls out, or take the port that does", c)
	}
	if err != nil {
		return c.unreachable(err)
	}
	return nil
}

func textOr(err error, good string) string {
	if err != nil {
		return err.Error()
	}
	return good
}
