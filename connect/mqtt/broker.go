package mqtt

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/secure"
)

// broker says how a broker is reached.
type broker struct {
	name, address  string
	old            bool // it speaks 3.1.1
	user, password string
	tls            *tls.Config // nil: in the clear
}

func (b *broker) String() string { return fmt.Sprintf("broker %s (%s)", b.name, b.address) }

const (
	// reachIn bounds how long is waited for an answer.
	reachIn = 5 * time.Second
	// keepAlive is how long a silent connection lasts before the other side is asked whether it is there.
	keepAlive = 15 * time.Second
	// underWay is how many messages may be on their way without an acknowledgment.
	underWay = 200
	// remembered is how many of the last messages are known again: as many as there are identifiers. Brokers have been seen to send
	// thousands again whose acknowledgments they had, after connections that broke many times.
	remembered = 1 << 16
)

// dialing says as whom a session is begun.
type dialing struct {
	client string
	// expiry is how long the broker keeps the session once it is left; 0: it begins anew and ends with the connection.
	expiry time.Duration
	// take is given each message, one after another; it may wait. nil for who only sends.
	take func(message)
}

// message is one that came.
type message struct {
	topic string
	text  []byte
	// id is that of its packet, 0 where nobody waits for an acknowledgment; again says that the broker may have sent it
	// before (DUP: MQTT 5, section 3.3.1.1).
	id    uint16
	again bool
	ack   func()
}

// session is a connection to a broker: one for each version. Safe for concurrent use.
type session interface {
	// resumed says whether the broker knew the client from before.
	resumed() bool
	// subscribe asks for messages of these filters, once each (QoS 1).
	subscribe(ctx context.Context, filters []string) error
	// publish hands a message over, in the order of the calls; wait returns once the broker has it.
	publish(ctx context.Context, topic string, text []byte, retain bool) (wait func(context.Context) error, err error)
	// over is closed when the connection has ended; why says why, then.
	over() <-chan struct{}
	why() error
	// close takes leave. take is not called any more when it returns.
	close()
}

// begin reaches the broker.
func (b *broker) begin(ctx context.Context, d dialing) (session, error) {
	limited, stop := context.WithTimeout(ctx, reachIn)
	defer stop()
	conn, err := secure.Dial(limited, b.address, b.tls)
	if err != nil {
		return nil, b.explain(err)
	}
	begin := beginNew
	if b.old {
		begin = beginOld
	}
	s, err := begin(limited, b, conn, d)
	if err != nil {
		conn.Close()
		return nil, b.explain(err)
	}
	return s, nil
}

// refusal is what a broker says in place of what it was asked for.
type refusal struct {
	denied bool // for who asks: trying again does not help
	text   string
}

func (r *refusal) Error() string { return r.text }

// explain words why a broker does not do what it is asked for.
func (b *broker) explain(err error) error {
	var said *refusal
	var op *net.OpError
	why := err.Error()
	switch {
	case errors.Is(err, connect.ErrUnreachable), errors.Is(err, connect.ErrDenied), errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &said) && said.denied:
		return fmt.Errorf("%s: %w: %s; check user, password and rights", b, connect.ErrDenied, said.text)
	case errors.As(err, &said):
		return fmt.Errorf("%s: %w", b, err)
	case secure.Why(err) != "":
		return fmt.Errorf("%s: %w: %s", b, connect.ErrDenied, secure.Why(err))
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), strings.Contains(why, "connection reset"):
		why = "it ends the conversation at once; perhaps it wants TLS, or speaks another version"
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		why = fmt.Sprintf("no answer within %s", reachIn)
	case errors.As(err, &op) && op.Err != nil:
		why = op.Err.Error()
	}
	return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", b, connect.ErrUnreachable, why)
}
