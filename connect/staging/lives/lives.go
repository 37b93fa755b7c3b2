// Package lives lets tests live the lives of sinks that deliver exactly once: runs that begin, prepare, deliver, die at any
// moment and begin again from the newest checkpoint, over a network that loses requests.
package lives

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync/atomic"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// Fields are those of the rows.
var Fields = row.Schema{{Name: "gauge", Kind: row.String}, {Name: "n", Kind: row.Int}}

// Life is what one sink's job has, over several runs.
type Life struct {
	Sink func() engine.Sink // a new one, of the next run
	// Epoch is of the newest checkpoint, and Waiting its shipments that were not known to be delivered.
	Epoch   int64
	Waiting []engine.Shipment
	Rows    []string // all that was to be delivered, as gauge=n
}

// Start begins a run: what waits is delivered.
func (l *Life) Start() (engine.Sink, error) {
	s, ctx := l.Sink(), context.Background()
	done, err := s.Delivered(ctx)
	if err == nil {
		err = s.Open(l.Waiting, l.Epoch+1)
	}
	for _, w := range l.Waiting {
		if err == nil && w.Epoch > done {
			err = s.Deliver(ctx, w)
		}
	}
	if err != nil {
		return nil, errors.Join(err, s.Abort())
	}
	l.Waiting = nil
	return s, nil
}

// Prepare makes an epoch of three rows and completes its checkpoint.
func (l *Life) Prepare(s engine.Sink) (engine.Shipment, error) {
	b := row.NewBatch(Fields)
	for n := range 3 {
		b.Cols[0].AppendString(fmt.Sprintf("G%d", n))
		b.Cols[1].AppendInt(l.Epoch + 1)
		b.N++
	}
	if err := s.Write(s.NewEncoder(Fields).Append(nil, step.ViewOf(b)), 3); err != nil {
		return engine.Shipment{}, err
	}
	sh, err := s.Prepare(l.Epoch + 1)
	if err != nil {
		return sh, err
	}
	l.Epoch++
	sh.Epoch = l.Epoch
	l.Waiting = append(l.Waiting, sh)
	for n := range 3 {
		l.Rows = append(l.Rows, fmt.Sprintf("G%d=%d", n, l.Epoch))
	}
	return sh, nil
}

// Same says what is wrong with the rows that are there: each is to be there once.
func (l *Life) Same(got []string) error {
	slices.Sort(got)
	if want := slices.Sorted(slices.Values(l.Rows)); !slices.Equal(got, want) {
		return fmt.Errorf("there are the rows %v, want %v", got, want)
	}
	return nil
}

// Live begins runs until so many epochs are delivered. A start may fail and is tried again; a run that has begun may not.
func (l *Life) Live(epochs int64) error {
	for tries := 0; l.Epoch < epochs; tries++ {
		if tries > 2 {
			return errors.New("it does not get on")
		}
		s, err := l.Start()
		if err != nil {
			continue
		}
		for err == nil && l.Epoch < epochs {
			var sh engine.Shipment
			if sh, err = l.Prepare(s); err == nil {
				err = s.Deliver(context.Background(), sh)
			}
		}
		if err := errors.Join(err, s.Abort()); err != nil {
			return fmt.Errorf("a run that had begun gives up: %w", err)
		}
	}
	return nil
}

// Losing is a network that loses request N, or its answer.
type Losing struct {
	N      int64
	Answer bool
	Asked  atomic.Int64 // requests so far
}

type losingConn struct {
	net.Conn
	l    *Losing
	lost atomic.Bool // the answer that comes next
}

// Dial connects.
func (l *Losing) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &losingConn{Conn: conn, l: l}, nil
}

func (c *losingConn) Write(b []byte) (int, error) {
	if c.l.Asked.Add(1) != c.l.N {
		return c.Conn.Write(b)
	}
	if !c.l.Answer {
		c.Close()
		return 0, io.ErrClosedPipe
	}
	c.lost.Store(true)
	return c.Conn.Write(b)
}

func (c *losingConn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if c.lost.Load() {
		c.Close()
		return 0, io.ErrUnexpectedEOF
	}
	return n, err
}
