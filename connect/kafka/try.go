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

// Try tries the connection step by step, and a topic where one is named. It reads and writes no event:
// rights are what the broker says they are.
func (l *Looker) Try(ctx context.Context, topic string) []connect.Step {
	out := []connect.Step{{Name: "reached"}, {Name: "signed in"}, {Name: "topic seen", Needs: connect.ByMaking}, {Name: "may read", Needs: connect.ByReading}, {Name: "may write", Needs: connect.ByWriting}}
	for i := range out {
		out[i].State = "not asked"
	}
	set := func(i int, ok bool, format string, args ...any) {
		out[i].State, out[i].Text = "no", fmt.Sprintf(format, args...)
		if ok {
			out[i].State = "yes"
		}
	}
	limited, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	var why error
	began := time.Now()
	for _, address := range l.c.Brokers {
		d := net.Dialer{Timeout: 3 * time.Second}
		conn, err := d.DialContext(limited, "tcp", address)
		if err != nil {
			why = err
			continue
		}
		defer conn.Close()
		why = nil
		set(0, true, "%s answers in %s", address, max(time.Millisecond, time.Since(began).Round(time.Millisecond)))
		if l.c.TLS != nil {
			if err := l.c.shake(limited, conn, address); err != nil {
				set(1, false, "%v", err)
				return out
			}
		}
		break
	}
	if why != nil {
		set(0, false, "%v", l.c.unreachable(why))
		return out
	}
	all, err := l.admin.ListTopics(limited)
	switch {
	case err != nil:
		set(1, false, "%v", l.c.unreachable(err))
		return out
	case l.c.SASL != nil && l.c.TLS != nil:
		set(1, true, "over TLS, by %s", l.c.SASL.Name())
	case l.c.SASL != nil:
		set(1, true, "by %s, in the clear", l.c.SASL.Name())
	case l.c.TLS != nil:
		set(1, true, "over TLS, without a name")
	default:
		set(1, true, "nobody has to, and it is in the clear")
	}
	if topic == "" {
		out[2].Text = fmt.Sprintf("name one of %d topics to ask for its rights", len(all.Names()))
		return out
	}
	d, ok := all[topic]
	if !ok || d.Err != nil {
		if ok {
			set(2, false, "topic %s: %v", topic, d.Err)
		} else {
			set(2, false, "there is no topic %s, or this user may not see it; %s", topic, others(all, topic))
		}
		return out
	}
	set(2, true, "%s has %d partitions", topic, len(d.Partitions))
	got, err := l.Peek(limited, PeekConfig{Topic: topic, Limit: 1, Wait: time.Second})
	set(3, err == nil, "%s", textOr(err, "its newest event was read"))
	if err == nil && len(got.Events) == 0 {
		out[3].Text = "it has no event to read yet"
	}
	rights, err := l.admin.Metadata(kadm.WithAuthorizedOps(limited), topic)
	ops := rights.Topics[topic].AuthorizedOperations
	may := func(op kadm.ACLOperation) bool { return slices.Contains(ops, op) || slices.Contains(ops, kadm.OpAll) }
	if err == nil && len(ops) > 0 && out[3].State == "yes" && !may(kadm.OpRead) {
		set(3, false, "the broker says that this user may not read %s; ask for the right", topic)
	}
	switch {
	case err != nil:
		set(4, false, "%v", l.c.unreachable(err))
	case len(ops) == 0:
		out[4].Text = "the broker does not say; a job that writes finds out when it starts"
	case may(kadm.OpWrite):
		set(4, true, "the broker says so")
	default:
		set(4, false, "the broker says that this user may not write to %s; ask for the right, where a job is to write there", topic)
	}
	return out
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
