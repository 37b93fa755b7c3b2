package socket

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/secure"
)

const (
	// mostConnections are read at a time; others wait to be taken in.
	mostConnections = 256
	// gathered bounds what is written down in one piece.
	gathered      = 1 << 20
	gatheredLines = 10_000
)

// taker reads lines into a journal, until it is stopped.
type taker struct {
	in   *journal.Intake
	line int // the longest
	// gather bounds what is written down in one piece: the journal must have room for it.
	gather int
	ctx    context.Context
	end    context.CancelFunc
	done   sync.WaitGroup
	where  string
}

func newTaker(j *journal.Journal, line int, limit int64) *taker {
	t := &taker{in: journal.NewIntake(j), line: line, gather: int(min(gathered, limit/8))}
	t.ctx, t.end = context.WithCancel(context.Background())
	return t
}

// stop ends all connections, and returns once what was read of them is written down.
func (t *taker) stop() {
	t.end()
	t.done.Wait()
}

// trouble says what keeps lines from coming.
func (t *taker) trouble() string {
	return t.in.Trouble(t.where+" has not been reached", "lines could not be written down")
}

// reach reads what an address sends; where it ends the connection, or cannot be reached, it tries again.
func (t *taker) reach(address string, secured *tls.Config) {
	t.where = address
	t.done.Go(func() {
		pauses := connect.Pauses()
		for t.ctx.Err() == nil {
			c, err := t.dial(address, secured)
			if err == nil {
				t.in.Way.OK()
				pauses.Reset()
				err = t.read(c)
			}
			if t.ctx.Err() != nil {
				return
			}
			if err == nil {
				err = errors.New("it ended the connection")
			}
			t.in.Way.Fault(err.Error())
			select {
			case <-time.After(pauses.NextBackOff()):
			case <-t.ctx.Done():
			}
		}
	})
}

func (t *taker) dial(address string, secured *tls.Config) (net.Conn, error) {
	ctx, stop := context.WithTimeout(t.ctx, 10*time.Second)
	defer stop()
	return secure.Dial(ctx, address, secured)
}

// serve reads what all send who come to l.
func (t *taker) serve(l net.Listener) {
	room := make(chan struct{}, mostConnections)
	t.done.Go(func() {
		defer context.AfterFunc(t.ctx, func() { _ = l.Close() })()
		for {
			select {
			case room <- struct{}{}:
			case <-t.ctx.Done():
				return
			}
			c, err := l.Accept()
			if err != nil {
				<-room
				if t.ctx.Err() != nil {
					return
				}
				time.Sleep(50 * time.Millisecond) // too many files, perhaps
				continue
			}
			t.done.Go(func() {
				defer func() { <-room }()
				if err := t.read(c); err != nil && t.ctx.Err() == nil {
					slog.Warn("a connection that sends lines has broken", "from", c.RemoteAddr().String(), "error", err)
				}
			})
		}
	})
}

// read writes the lines of a connection down until it ends. A last line without an end counts where the connection was
// ended in order.
func (t *taker) read(c net.Conn) error {
	defer c.Close()
	defer context.AfterFunc(t.ctx, func() { _ = c.SetReadDeadline(time.Now()) })()
	in := bufio.NewReaderSize(c, 64<<10)
	var lines [][]byte
	size := 0
	for {
		line, err := t.next(in)
		if len(line) > 0 && (err == nil || errors.Is(err, io.EOF)) {
			lines, size = append(lines, line), size+len(line)
		}
		// What has come already is written down in one piece.
		if len(lines) > 0 && (err != nil || !another(in) || size >= t.gather || len(lines) >= gatheredLines) {
			if !t.in.Put(t.ctx, lines) {
				return nil
			}
			lines, size = lines[:0], 0
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// another says whether a whole line has come already.
func another(in *bufio.Reader) bool {
	b, _ := in.Peek(in.Buffered()) // that is there
	return bytes.IndexByte(b, '\n') >= 0
}

// next gives the next line without its end. One that is too long is passed over, and said.
func (t *taker) next(in *bufio.Reader) (line []byte, err error) {
	long := 0
	for {
		part, err := in.ReadSlice('\n')
		switch {
		case long > 0 || len(line)+len(part) > t.line+2: // with its end
			long += len(line) + len(part)
			line = nil
		default:
			line = append(line, part...)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if long > 0 {
			slog.Warn("a line was left out: it is too long; raise line: to take it", "bytes", long, "most", t.line)
		}
		return bytes.TrimRight(line, "\r\n"), err
	}
}
