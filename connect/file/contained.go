package file

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"sync"
	"sync/atomic"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
)

// contained reads a file whose events are no lines, as an engine.Partition. It is read from its beginning, also to go on: what
// was read before is passed over.
type contained struct {
	files  tree
	path   string
	open   func(in connect.Input) (connect.Container, error)
	fields codec.Fields // that are read; none for all
	in     io.Reader    // standard input; nil for a file

	mu sync.Mutex // guards f, which Close may ask for at any time
	f  handle

	container connect.Container
	bytes     *counting    // that were read of the file
	share     float64      // of its events that was given, where it is read by columns
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

func newContained(files tree, path string, f *connect.Format, fields codec.Fields) *contained {
	p := &contained{files: files, path: path, open: f.Open, fields: fields}
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
	if p.container != nil && p.in != nil { // it was looked into
		return nil
	}
	in, err := p.input(ctx)
	if err != nil {
		return err
	}
	c, err := p.open(in)
	if err != nil {
		return fmt.Errorf("%s: %w", p.path, err)
	}
	p.container, p.given, p.next, p.ended, p.share = c, 0, 0, false, 0
	p.ahead.Reset()
	if at == nil {
		return nil
	}
	if crc32.ChecksumIEEE(c.Header()) != pos.Sum {
		return p.another()
	}
	return p.passOver(pos.Event)
}

// input opens what is read.
func (p *contained) input(ctx context.Context) (in connect.Input, err error) {
	if p.in != nil {
		p.bytes = &counting{in: p.in}
		return connect.Input{Reader: p.bytes, Fields: p.fields}, nil
	}
	f, err := p.files.Open(ctx, p.path)
	if err != nil {
		return in, explainOpen(p.path, err)
	}
	p.mu.Lock()
	p.f = f
	p.mu.Unlock()
	p.bytes = &counting{in: f}
	if !isPacked(p.path) {
		return connect.Input{Reader: p.bytes, At: f, Size: p.size, Fields: p.fields}, nil
	}
	plain, err := unpacked(p.path, p.bytes)
	if err != nil {
		return in, cannotUnpack(p.path, err)
	}
	return connect.Input{Reader: plain, Fields: p.fields}, nil
}

// passOver goes behind the first n events.
func (p *contained) passOver(n int64) error {
	if c, ok := p.container.(connect.Columned); ok {
		err := c.Skip(n)
		if errors.Is(err, io.EOF) {
			return p.another()
		}
		p.given, p.share = n, c.Done()
		return err
	}
	for p.given < n {
		more, err := p.more()
		if err != nil {
			return err
		}
		if !more {
			return p.another()
		}
		some := min(int64(len(p.ahead.Starts)-p.next), n-p.given)
		p.given, p.next = p.given+some, p.next+int(some)
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
			if c, ok := p.container.(connect.Columned); ok {
				c.Close()
			}
		case err != nil:
			return false, fmt.Errorf("%s: behind event %d: %w", p.path, p.given, err)
		}
	}
	return true, nil
}

// Read implements [engine.Partition].
func (p *contained) Read(_ context.Context, c *engine.Chunk) error {
	c.Header = p.container.Header()
	if columned, ok := p.container.(connect.Columned); ok {
		c.Text = columned.Text
	}
	before := p.bytes.n
	more, err := p.more()
	if n := len(p.ahead.Starts); err == nil && more && p.next == 0 && len(c.Starts) == 0 && n <= row.MaxRows && len(p.ahead.Raw) < turnBytes {
		c.Raw, p.ahead.Raw = p.ahead.Raw, c.Raw // as they are, where they make a chunk
		c.Starts, p.ahead.Starts = p.ahead.Starts, c.Starts
		c.Ends, p.ahead.Ends = p.ahead.Ends, c.Ends
		p.given += int64(n)
		more, err = p.more()
	}
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
	c.Bytes = p.progress(before)
	c.Position, err = json.Marshal(containedPosition{p.given, p.size, crc32.ChecksumIEEE(c.Header)})
	return err
}

// progress gives how much of the file was read since it was so much.
func (p *contained) progress(before int64) int64 {
	c, ok := p.container.(connect.Columned)
	if !ok {
		return p.bytes.n - before
	}
	from := p.share
	p.share = c.Done()
	return int64(p.share*float64(p.size)) - int64(from*float64(p.size))
}

// Close implements [engine.Partition]. The container is closed by whoever reads it, with the last event.
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
