package file

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"undertide/core/engine"
)

// Following a file under its name
//
// A followed file may be renamed while another one takes its name, as logs are. An example: gate.log becomes
// gate.log.1 with 70 lines that were not read yet, and a new gate.log begins. The partition gate.log reads those 70
// lines, then goes on with the first line of the new file. A file is told by its identity, the numbers that the
// file system gives it, which a new name does not change. Positions hold it, so that a run which was away
// meanwhile finds the renamed file in its folder.

// identity tells a file from others, whatever its name.
type identity struct {
	Device uint64 `json:"device"`
	Number uint64 `json:"number"`
}

func identityOf(st fs.FileInfo) identity {
	if s, ok := st.Sys().(*syscall.Stat_t); ok {
		return identity{uint64(s.Dev), s.Ino}
	}
	return identity{}
}

// maxBefore is how many files of one name a position remembers.
const maxBefore = 16

// Followed are the growing files of a source: those that there are, and those that appear later. Safe for
// concurrent use.
type Followed struct {
	pattern string
	format  Format
	block   int

	mu    sync.Mutex // guards all below
	names map[string]bool
	read  map[identity]bool // that a partition has read or reads, under whatever name they are now
}

// Follow makes the files of a path or pattern.
func Follow(pattern string, format Format, block int) *Followed {
	return &Followed{pattern: pattern, format: format, block: block, names: map[string]bool{}, read: map[identity]bool{}}
}

// IsPattern says whether a path names files by a pattern.
func IsPattern(path string) bool { return strings.ContainsAny(path, "*?[") }

// Partition makes the partition of a path.
func (s *Followed) Partition(path string) *Partition {
	p := NewPartition(path, s.format, true, s.block)
	p.set = s
	s.mu.Lock()
	s.names[path] = true
	s.mu.Unlock()
	if st, err := os.Stat(path); err == nil {
		s.note(identityOf(st))
	}
	return p
}

func (s *Followed) note(id identity) {
	if s != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.read[id] = true
	}
}

// Find looks for files that appear under the pattern, until ctx is done.
func (s *Followed) Find(ctx context.Context, found func(engine.Partition)) error {
	tick := time.NewTicker(10 * poll)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		paths, err := filepath.Glob(s.pattern)
		if err != nil {
			return fmt.Errorf("%q is no pattern; use * and ?, and [ ] in pairs", s.pattern)
		}
		for _, path := range paths {
			if st, err := os.Stat(path); err == nil && st.Mode().IsRegular() && s.isNew(path, identityOf(st)) {
				found(s.Partition(path))
			}
		}
	}
}

// isNew says whether nobody reads a file: neither its name is known, nor is it one that had a known name before.
func (s *Followed) isNew(path string, id identity) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.names[path] && !s.read[id]
}

// take notes that the partition reads f from now on.
func (p *Partition) take(f *os.File) error {
	st, err := f.Stat()
	if err != nil {
		return errors.Join(Explain("open", p.path, err), f.Close())
	}
	if st.IsDir() {
		return errors.Join(fmt.Errorf("%s is a folder; name a file, or a pattern such as %s/*.ndjson", p.path, p.path), f.Close())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed.Load() {
		return errors.Join(context.Canceled, f.Close())
	}
	if p.f != nil {
		_ = p.f.Close() // it was read to its end
	}
	p.f, p.id = f, identityOf(st)
	p.set.note(p.id)
	return nil
}

// find opens the file that a checkpoint read, which may have another name by now.
func (p *Partition) find(pos position) (*os.File, error) {
	same := func(path string) *os.File {
		f, err := os.Open(path)
		if err != nil {
			return nil
		}
		st, err := f.Stat()
		tail := make([]byte, pos.Len)
		if err == nil && st.Mode().IsRegular() && identityOf(st) == pos.File {
			if _, err := f.ReadAt(tail, pos.Byte-int64(pos.Len)); err == nil && crc32.ChecksumIEEE(tail) == pos.Tail {
				return f
			}
		}
		_ = f.Close() // nothing was written
		return nil
	}
	if f := same(p.path); f != nil {
		return f, nil
	}
	entries, err := os.ReadDir(filepath.Dir(p.path))
	if err != nil {
		return nil, Explain("read folder", filepath.Dir(p.path), err)
	}
	for _, e := range entries {
		if f := same(filepath.Join(filepath.Dir(p.path), e.Name())); f != nil {
			return f, nil
		}
	}
	return nil, fmt.Errorf("%s is not the file that the checkpoint read up to byte %d, and that one is not in its folder under another name: what was written to it since then cannot be read; put it back, or begin anew with an empty checkpoint folder", p.path, pos.Byte)
}

// moved says whether another file has taken the name of the one that is read.
func (p *Partition) moved() bool {
	st, err := os.Stat(p.path)
	return err == nil && st.Mode().IsRegular() && identityOf(st) != p.id
}

// next goes on with the file that has the name now, from its beginning.
func (p *Partition) next() error {
	f, err := os.Open(p.path)
	if errors.Is(err, fs.ErrNotExist) {
		p.last = false // it is being renamed too: wait for the next one
		return nil
	}
	if err != nil {
		return Explain("open", p.path, err)
	}
	old := p.id
	if err := p.take(f); err != nil {
		return err
	}
	if p.before = append(p.before, old); len(p.before) > maxBefore {
		p.before = p.before[1:]
	}
	p.buf, p.start, p.pos, p.eof, p.header, p.last = p.buf[:0], 0, 0, false, nil, false
	return nil
}
