package file

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sync"
	"sync/atomic"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// contained reads a file whose events are no lines, as an engine.Partition. It is read from its beginning, also to go on: what
// was read before is passed over.
type contained struct {
	files *disk.Files
	path  string
	open  func(in io.Reader) (connect.Container, error)
	in    io.Reader // standard input; nil for a file

	mu sync.Mutex // guards f, which Close may ask for at any time
	f  *os.File

	container connect.Container
	bytes     counting     // that were read of the file
	ahead     engine.Chunk // events that were read and not given
	next      int          // of these
	given     int64
	ended     bool
	closed    atomic.Bool
	size      int64
}

// counting counts what is read.
type counting struct {
	in io.Reader
	n  int64
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n += int64(n)
	return n, err
}

// containedPosition is where reading goes on. Sum tells the file's header from that of another.
type containedPosition struct {
	Event int64  `json:"event"`
	Size  int64  `json:"size"`
	Sum   uint32 `json:"header_sum"`
}

func newContained(files *disk.Files, path string, open func(io.Reader) (connect.Container, error)) *contained {
	p := &contained{files: files, path: path, open: open}
	if st, err := files.Stat(path); err == nil {
		p.size = st.Size()
	}
	return p
}

func (p *contained) Name() string { return p.path }
func (p *contained) Size() int64  { return p.size }

// Empty implements [engine.Partition].
func (p *contained) Empty(ctx context.Context) (bool, error) {
	if err := p.Open(ctx, nil); err != nil {
		return false, err
	}
	more, err := p.more()
	if p.in == nil {
		err = errors.Join(err, p.Close())
		p.closed.Store(false)
	}
	return !more, err
}

// Open implements [engine.Partition].
func (p *contained) Open(ctx context.Context, at json.RawMessage) error {
	var pos containedPosition
	if at != nil {
		if p.in != nil {
			return fmt.Errorf("%s cannot be read again from where the checkpoint stood; put the events into a file", p.path)
		}
		if err := json.Unmarshal(at, &pos); err != nil {
			return fmt.Errorf("read the position in %s: %w", p.path, err)
		}
		if pos.Size != p.size {
			return p.another()
		}
	}
	in := p.in
	if in == nil {
		f, err := p.files.Open(ctx, p.path)
		if err != nil {
			return disk.Explain("open", p.path, err)
		}
		p.mu.Lock()
		p.f = f
		p.mu.Unlock()
		in = f
	}
	if p.container != nil && p.in != nil { // it was looked into
		return nil
	}
	p.bytes = counting{in: in}
	c, err := p.open(&p.bytes)
	if err != nil {
		return fmt.Errorf("%s: %w", p.path, err)
	}
	p.container, p.given, p.next, p.ended = c, 0, 0, false
	p.ahead.Reset()
	if at != nil && crc32.ChecksumIEEE(c.Header()) != pos.Sum {
		return p.another()
	}
	for p.given < pos.Event {
		more, err := p.more()
		if err != nil {
			return err
		}
		if !more {
			return p.another()
		}
		n := min(int64(len(p.ahead.Starts)-p.next), pos.Event-p.given)
		p.given, p.next = p.given+n, p.next+int(n)
	}
	return nil
}

func (p *contained) another() error {
	return fmt.Errorf("%s is not the file that the checkpoint read; put the old file back, or begin anew with an empty checkpoint folder", p.path)
}

// more makes sure that an event is at hand; false at the end.
func (p *contained) more() (bool, error) {
	for p.next == len(p.ahead.Starts) {
		if p.ended {
			return false, nil
		}
		p.ahead.Reset()
		p.next = 0
		err := p.container.Next(&p.ahead)
		switch {
		case p.closed.Load():
			return false, context.Canceled
		case errors.Is(err, io.EOF):
			p.ended = true
		case err != nil:
			return false, fmt.Errorf("%s: behind event %d: %w", p.path, p.given, err)
		}
	}
	return true, nil
}

// Read implements [engine.Partition].
func (p *contained) Read(_ context.Context, c *engine.Chunk) error {
	c.Header = p.container.Header()
	before := p.bytes.n
	more, err := p.more()
	for err == nil && more && len(c.Starts) < row.MaxRows && len(c.Raw) < turnBytes {
		event := p.ahead.Event(p.next)
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, event...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		p.next++
		p.given++
		more, err = p.more()
	}
	if err != nil {
		return err
	}
	c.Last = !more
	c.Bytes = p.bytes.n - before
	c.Position, err = json.Marshal(containedPosition{p.given, p.size, crc32.ChecksumIEEE(c.Header)})
	return err
}

// Close implements [engine.Partition].
func (p *contained) Close() error {
	p.closed.Store(true)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.f == nil {
		return nil
	}
	err := p.f.Close()
	p.f = nil
	return err
}
