package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/disk"
)

// Follow gives the lines that a file gets from now on ([connect.Follower]). A line that is half written when it begins
// is given once it is whole.
func (s *source) Follow(ctx context.Context, next func([]connect.Event) error) error {
	path := s.at("")
	if path == "-" || isPattern(path) || isObject(path) {
		return fmt.Errorf("%w: one file is followed; name it", connect.ErrUsage)
	}
	if st, err := s.files.Stat(path); err != nil {
		return disk.Explain("open", path, err)
	} else if !st.Mode().IsRegular() {
		return fmt.Errorf("%w: %s is not a regular file; name a file that grows", connect.ErrUsage, path)
	}
	format := connect.FormatOf(path)
	p := newPartition(local{s.files}, path, recordsOf(format), true, 0)
	if err := p.Open(ctx, nil); err != nil {
		return err
	}
	defer p.Close()
	if err := p.skipToEnd(); err != nil {
		return err
	}
	var c engine.Chunk
	var n int64 // lines since it began
	for ctx.Err() == nil {
		c.Reset()
		second, cancel := context.WithTimeout(ctx, time.Second)
		err := p.Read(second, &c)
		cancel()
		if err != nil && ctx.Err() == nil && !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
		var events []connect.Event
		for i := range c.Starts {
			events = append(events, connect.Event{Partition: p.Name(), Offset: n, Text: bytes.Clone(c.Event(i))})
			n++
		}
		if err := next(events); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// skipToEnd goes to the last line that is whole.
func (p *Partition) skipToEnd() error {
	st, err := p.f.Stat()
	if err != nil {
		return disk.Explain("read", p.path, err)
	}
	from := max(p.pos, st.Size()-MaxEvent)
	text := make([]byte, st.Size()-from)
	n, err := p.f.ReadAt(text, from)
	if err != nil && err != io.EOF {
		return disk.Explain("read", p.path, err)
	}
	at := from + int64(bytes.LastIndexByte(text[:n], '\n')+1)
	if _, err := p.f.Seek(at, io.SeekStart); err != nil {
		return disk.Explain("read", p.path, err)
	}
	p.buf, p.start, p.pos, p.eof = p.buf[:0], 0, at, false
	return nil
}
