// Package file reads events from files, growing files and standard input, and writes rows to files,
// folders of rolled files and standard output (docs/connectors.md, "file").
package file

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

const (
	blockSize = 64 << 10 // each partition holds one, and there may be thousands
	// MaxEvent bounds one event's text; a longer one ends the run, since what follows it is unknown.
	MaxEvent = 64 << 20
	// turnBytes ends a turn whose text has become so long before it has all of its events (docs/time.md, "Turns and
	// places").
	turnBytes = 16 << 20
	linger    = 5 * time.Millisecond
	poll      = 50 * time.Millisecond
)

// Partition reads one file, or standard input, as an engine.Partition.
type Partition struct {
	files   tree
	path    string
	records // how events are cut
	follow  bool
	block   int
	in      io.Reader // standard input; nil for a file

	mu sync.Mutex // guards f, which Close may ask for at any time
	f  handle

	plain  io.Reader // what f holds, where it is packed; else nil
	buf    []byte    // read and not yet taken
	start  int       // of what is not taken in buf
	pos    int64     // of buf[start] in the file
	eof    bool
	names  []byte // the first record of a file with a header
	closed atomic.Bool
	size   int64
	told   bool // that it has caught up, since the last event

	// of a followed file
	set    *Followed // nil for a file alone
	id     identity  // of the file that is read
	before []place   // where files ended that had the name before
	last   bool      // another file has the name: this one is read to its end, and no further
}

// place is how far a file was read. Tail is the CRC of the bytes before, so that another file under the same name
// or number is noticed.
type place struct {
	Byte int64    `json:"byte"`
	Tail uint32   `json:"tail"`
	Len  int      `json:"tail_bytes"`
	File identity `json:"file,omitzero"` // of a followed file
}

// position is where reading goes on.
type position struct {
	place
	Before []place `json:"before,omitempty"`
}

const tailLength = 64

// records says how a file is cut into events, as connect.Format does: header, that the first one names the columns; quote, between two of which
// they may hold newlines; 0: each is a line.
type records struct {
	header bool
	quote  byte
}

func recordsOf(f *connect.Format) records {
	if f == nil {
		return records{}
	}
	return records{f.Header, f.Quote}
}

// newPartition reads the file at path, block bytes at a time; 0 means 64 KiB.
func newPartition(files tree, path string, as records, follow bool, block int) *Partition {
	p := &Partition{files: files, path: path, records: as, follow: follow, block: block}
	if st, err := files.Stat(path); err == nil && !isPacked(path) { // how much that is unpacked nobody knows
		p.size = st.Size()
	}
	return p
}

// newInput reads a stream that cannot be read again, such as standard input.
func newInput(name string, in io.Reader, as records) *Partition {
	return &Partition{path: name, records: as, in: in}
}

func (p *Partition) Name() string { return p.path }

func (p *Partition) Size() int64 {
	if p.follow {
		return 0
	}
	return p.size
}

// Empty opens the file and looks for a first event.
func (p *Partition) Empty(ctx context.Context) (bool, error) {
	if err := p.Open(ctx, nil); err != nil {
		return false, err
	}
	ok, err := p.more(ctx)
	if p.in == nil {
		err = errors.Join(err, p.f.Close())
		p.mu.Lock()
		p.f = nil
		p.mu.Unlock()
		p.buf, p.start, p.pos, p.eof, p.names = nil, 0, 0, false, nil
	}
	return !ok, err
}

// Open goes to a position, or to the beginning.
func (p *Partition) Open(ctx context.Context, at json.RawMessage) error {
	if p.in != nil {
		if at != nil {
			return fmt.Errorf("%s cannot be read again from where the checkpoint stood; put the events into a file", p.path)
		}
		return p.readHeader(ctx)
	}
	var pos position
	if at != nil {
		if err := json.Unmarshal(at, &pos); err != nil {
			return fmt.Errorf("read the position in %s: %w", p.path, err)
		}
	}
	var f handle
	var err error
	if p.follow && pos.File != (identity{}) {
		for _, was := range pos.Before {
			p.set.note(was)
		}
		p.before = pos.Before
		f, err = p.find(pos)
	} else if f, err = p.files.Open(ctx, p.path); err != nil {
		err = explainOpen(p.path, err)
	}
	if err != nil {
		return err
	}
	if err := p.take(f); err != nil {
		return err
	}
	if err := p.unpack(); err != nil {
		return err
	}
	if err := p.readHeader(ctx); err != nil {
		return err
	}
	if at == nil {
		return nil
	}
	tail, stands := []byte(nil), false
	if p.plain == nil {
		tail, stands = pos.tail(f)
	} else if tail, stands, err = p.again(pos.place); err != nil {
		return err
	}
	if !stands {
		return fmt.Errorf("%s is not the file that the checkpoint read: its text before byte %d has changed; put the old file back, or begin anew with an empty checkpoint folder", p.path, pos.Byte)
	}
	if p.plain == nil {
		if _, err := f.Seek(pos.Byte, io.SeekStart); err != nil {
			return disk.Explain("read", p.path, err)
		}
	}
	p.buf, p.start, p.pos, p.eof = append(p.buf[:0], tail...), len(tail), pos.Byte, false
	return nil
}

// readHeader takes the first record of a CSV file, which is not an event.
func (p *Partition) readHeader(ctx context.Context) error {
	if !p.header || p.names != nil {
		return nil
	}
	for {
		ok, err := p.more(ctx)
		if err != nil || !ok {
			return err
		}
		end, next, ok := p.cut()
		if ok {
			p.names = bytes.Clone(p.buf[p.start:end])
			p.names = bytes.TrimPrefix(p.names, []byte("\ufeff"))
			p.advance(next)
			return nil
		}
		if err := p.fill(ctx); err != nil {
			return err
		}
	}
}

func (p *Partition) advance(next int) {
	p.pos += int64(next - p.start)
	p.start = next
}

// fill reads on; at the end of the file it sets eof.
func (p *Partition) fill(ctx context.Context) error {
	if keep := min(p.start, tailLength); p.start > keep { // what positions tell of the text before them stays
		p.buf = append(p.buf[:0], p.buf[p.start-keep:]...)
		p.start = keep
	}
	if len(p.buf)-p.start > MaxEvent {
		return fmt.Errorf("%s: the event at byte %d is longer than %d MiB; is this a file of lines?", p.path, p.pos, MaxEvent>>20)
	}
	block := p.block
	if block == 0 {
		block = blockSize
	}
	if cap(p.buf)-len(p.buf) < (block+1)/2 {
		next := make([]byte, len(p.buf), 2*cap(p.buf)+block)
		copy(next, p.buf)
		p.buf = next
	}
	var src io.Reader = p.f
	if p.in != nil {
		src = p.in
	} else if p.plain != nil {
		src = p.plain
	}
	n, err := src.Read(p.buf[len(p.buf):cap(p.buf)])
	p.buf = p.buf[:len(p.buf)+n]
	switch {
	case p.closed.Load():
		return context.Canceled
	case err == io.EOF:
		p.eof = true
	case err != nil && p.plain != nil:
		return p.cannotUnpack(err)
	case err != nil:
		return disk.Explain("read", p.path, err)
	}
	return nil
}

// more makes sure that the buffer begins with something that is not blank; false at the end.
func (p *Partition) more(ctx context.Context) (bool, error) {
	for {
		for p.start < len(p.buf) {
			switch p.buf[p.start] {
			case '\n', '\r':
				p.advance(p.start + 1)
				continue
			case ' ', '\t':
				if p.quote == 0 { // else they belong to a cell
					p.advance(p.start + 1)
					continue
				}
			}
			return true, nil
		}
		if p.eof {
			return false, nil
		}
		if err := p.fill(ctx); err != nil {
			return false, err
		}
	}
}

// cut finds the end of the event that begins at start, and where the next line begins; false when
// the buffer does not hold it whole.
func (p *Partition) cut() (end, next int, ok bool) {
	rest := p.buf[p.start:]
	if p.quote == 0 {
		i := bytes.IndexByte(rest, '\n')
		if i < 0 {
			if !p.eof || p.grows() { // a growing file's last line may still grow
				return 0, 0, false
			}
			i = len(rest)
			next = p.start + i
		} else {
			next = p.start + i + 1
		}
		end = p.start + i
		if i > 0 && rest[i-1] == '\r' {
			end--
		}
		return end, next, i > 0 || next > p.start
	}
	quoted := false
	for i, b := range rest {
		switch {
		case b == p.quote:
			quoted = !quoted
		case b == '\n' && !quoted:
			end = p.start + i
			if i > 0 && rest[i-1] == '\r' {
				end--
			}
			return end, p.start + i + 1, true
		}
	}
	if p.eof && !p.grows() && len(rest) > 0 {
		return p.start + len(rest), p.start + len(rest), true
	}
	return 0, 0, false
}

// grows says whether the file that is read may still grow.
func (p *Partition) grows() bool { return p.follow && !p.last }

// Read fills c with the next events.
func (p *Partition) Read(ctx context.Context, c *engine.Chunk) error {
	c.Header = p.names
	from := p.pos
	var deadline time.Time
	for len(c.Starts) < row.MaxRows {
		if len(c.Raw) >= turnBytes {
			break
		}
		if p.header && p.names == nil { // of a file that was empty so far
			if err := p.readHeader(ctx); err != nil {
				return err
			}
			c.Header = p.names
		}
		if p.quote == 0 {
			p.takeLines(c)
			if len(c.Starts) == row.MaxRows {
				break
			}
		}
		ok, err := p.more(ctx)
		if err != nil {
			return err
		}
		if ok && (!p.header || p.names != nil) {
			end, next, whole := p.cut()
			if whole {
				start := len(c.Raw)
				c.Raw = append(c.Raw, p.buf[p.start:end]...)
				c.Starts, c.Ends = append(c.Starts, uint32(start)), append(c.Ends, uint32(len(c.Raw)))
				p.advance(next)
				continue
			}
			if !p.eof {
				if err := p.fill(ctx); err != nil {
					return err
				}
				continue
			}
		}
		if !p.follow {
			break // the end
		}
		if p.last { // it has been read to its end, and another has its name
			if len(c.Starts) > 0 {
				break
			}
			if err := p.next(); err != nil {
				return err
			}
			from, c.Header = 0, nil
			continue
		}
		// The file has been read to its end; wait for it to grow.
		p.eof = false
		if len(c.Starts) > 0 {
			if deadline.IsZero() {
				deadline = time.Now().Add(linger)
			} else if time.Now().After(deadline) {
				break
			}
		} else if !p.told {
			p.told = true
			break // an empty chunk says that nothing waits, so that the partition can be idle
		}
		if err := p.wait(ctx, len(c.Starts) > 0); err != nil {
			return err
		}
	}
	if !p.follow {
		ok, err := p.more(ctx) // blank lines at the end are no events
		if err != nil {
			return err
		}
		c.Last = !ok
	}
	c.CaughtUp = p.told || p.eof || p.start == len(p.buf)
	p.told = p.told && len(c.Starts) == 0
	c.Bytes = p.pos - from
	c.Position = p.where()
	if c.Last {
		p.buf, p.start = nil, 0 // nothing more is read: a run over many files holds only those that it reads
	}
	return nil
}

// takeLines takes the whole lines that are in the buffer by one copy. It stops at a line that is
// blank or begins with white space, which the slower way handles.
func (p *Partition) takeLines(c *engine.Chunk) {
	rest := p.buf[p.start:]
	base, at := len(c.Raw), 0
	for len(c.Starts) < row.MaxRows && at < len(rest) && rest[at] > ' ' {
		n := bytes.IndexByte(rest[at:], '\n')
		if n < 0 {
			break
		}
		end := at + n
		if rest[end-1] == '\r' {
			end--
		}
		c.Starts, c.Ends = append(c.Starts, uint32(base+at)), append(c.Ends, uint32(base+end))
		at += n + 1
	}
	c.Raw = append(c.Raw, rest[:at]...)
	p.advance(p.start + at)
}

func (p *Partition) wait(ctx context.Context, soon bool) error {
	d := poll
	if soon {
		d = linger
	} else if st, err := p.f.Stat(); err == nil && st.Size() < p.pos+int64(len(p.buf)-p.start) {
		return fmt.Errorf("%s has become shorter than the %d bytes that were read of it; a followed file may grow, or be renamed while another takes its name; begin anew with an empty checkpoint folder to read what it has now", p.path, p.pos)
	} else if p.moved() {
		p.last = true // once more to its end: somebody may have written to it under its new name
		return nil
	}
	select {
	case <-time.After(d):
	case <-ctx.Done():
		return ctx.Err()
	}
	if p.closed.Load() {
		return context.Canceled
	}
	return nil
}

// place is how far the file was read.
func (p *Partition) place() place {
	tail := p.buf[max(0, p.start-tailLength):p.start]
	at := place{Byte: p.pos, Tail: crc32.ChecksumIEEE(tail), Len: len(tail)}
	if p.follow {
		at.File = p.id
	}
	return at
}

// where gives the position after the chunk.
func (p *Partition) where() json.RawMessage {
	pos := position{place: p.place()}
	if p.follow {
		pos.Before = p.before
	}
	out, err := json.Marshal(pos)
	if err != nil {
		panic(err) // numbers
	}
	return out
}

// Close ends reading. A read from standard input that waits cannot be freed.
func (p *Partition) Close() error {
	p.closed.Store(true)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.f != nil {
		return p.f.Close()
	}
	return nil
}
