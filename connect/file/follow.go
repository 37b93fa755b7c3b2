package file

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"undertide/core/engine"
	"undertide/disk"
)

// Following a file under its name
//
// A followed file may be renamed while another one takes its name, as logs are. An example: gate.log becomes
// gate.log.1 with 70 lines that were not read yet, and a new gate.log begins. The partition gate.log reads those 70
// lines, then goes on with the first line of the new file. A file is told by its identity, the numbers that the
// file system gives it, which a new name does not change. Positions hold it, so that a run which was away
// meanwhile finds the renamed file in its folder. When a file is removed, the next one may get its numbers: so the
// text before the place where reading ended is compared too.

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
	files   tree
	pattern string
	as      records
	block   int

	mu    sync.Mutex // guards all below
	names map[string]bool
	read  map[identity]place // files that a partition has read or reads, under whatever name they are now
}

// follow makes the files of a path or pattern.
func follow(files tree, pattern string, as records, block int) *Followed {
	return &Followed{files: files, pattern: pattern, as: as, block: block, names: map[string]bool{}, read: map[identity]place{}}
}

// isPattern says whether a path names files by a pattern.
func isPattern(path string) bool { return strings.ContainsAny(path, "*?[") }

// Partition makes the partition of a path.
func (s *Followed) Partition(path string) *Partition {
	p := newPartition(s.files, path, s.as, true, s.block)
	p.set = s
	s.mu.Lock()
	s.names[path] = true
	s.mu.Unlock()
	if st, err := s.files.Stat(path); err == nil {
		s.note(place{File: identityOf(st)})
	}
	return p
}

func (s *Followed) note(p place) {
	if s != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.read[p.File] = p
	}
}

// leave notes how far a file was read that is read no more. Where nothing was, nothing tells it from the next file
// that gets its number, and it may be found again.
func (s *Followed) leave(p place) {
	if s == nil || p.Byte > 0 {
		s.note(p)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.read, p.File)
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
		paths, err := s.files.Glob(s.pattern)
		if err != nil {
			return fmt.Errorf("%q is not a pattern; use * and ?, and [ ] in pairs", s.pattern)
		}
		for _, path := range paths {
			if st, err := s.files.Stat(path); err == nil && st.Mode().IsRegular() && s.isNew(path, identityOf(st)) {
				found(s.Partition(path))
			}
		}
	}
}

// isNew says whether nobody reads a file: neither its name is known, nor is it one that had a known name before.
// A file system gives the number of a removed file to the next one, so what was read of the file is looked for too.
func (s *Followed) isNew(path string, id identity) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was, read := s.read[id]
	if s.names[path] || !read {
		return !s.names[path]
	}
	f := was.open(s.files, path)
	if f == nil {
		return true
	}
	_ = f.Close() // nothing was written
	return false
}

// open opens the file at path where it is the one that was read; nil otherwise.
func (p place) open(files tree, path string) handle {
	if st, err := files.Stat(path); err != nil || !st.Mode().IsRegular() {
		return nil
	}
	f, err := files.Open(context.Background(), path) // a regular one does not wait
	if err != nil {
		return nil
	}
	if st, err := f.Stat(); err == nil && st.Mode().IsRegular() && identityOf(st) == p.File {
		if _, stands := p.tail(f); stands {
			return f
		}
	}
	_ = f.Close() // nothing was written
	return nil
}

// tail gives the bytes before the place, where they are those that were read.
func (p place) tail(f handle) (tail []byte, stands bool) {
	tail = make([]byte, p.Len)
	_, err := f.ReadAt(tail, p.Byte-int64(p.Len))
	return tail, err == nil && crc32.ChecksumIEEE(tail) == p.Tail
}

// take notes that the partition reads f from now on.
func (p *Partition) take(f handle) error {
	st, err := f.Stat()
	if err != nil {
		return errors.Join(disk.Explain("open", p.path, err), f.Close())
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
	p.set.note(place{File: p.id}) // while it is open nobody else gets its number
	return nil
}

// find opens the file that a checkpoint read, which may have another name by now.
func (p *Partition) find(pos position) (handle, error) {
	if f := pos.open(p.files, p.path); f != nil {
		return f, nil
	}
	names, err := p.files.ReadDir(filepath.Dir(p.path))
	if err != nil {
		return nil, disk.Explain("read folder", filepath.Dir(p.path), err)
	}
	for _, name := range names {
		if f := pos.open(p.files, filepath.Join(filepath.Dir(p.path), name)); f != nil {
			return f, nil
		}
	}
	return nil, fmt.Errorf("%s is not the file that the checkpoint read up to byte %d, and that one is not in its folder under another name: what was written to it since then cannot be read; put it back, or begin anew with an empty checkpoint folder", p.path, pos.Byte)
}

// moved says whether another file has taken the name of the one that is read.
func (p *Partition) moved() bool {
	st, err := p.files.Stat(p.path)
	return err == nil && st.Mode().IsRegular() && identityOf(st) != p.id
}

// next goes on with the file that has the name now, from its beginning.
func (p *Partition) next() error {
	f, err := p.files.Open(context.Background(), p.path) // moved saw a regular file
	if errors.Is(err, fs.ErrNotExist) {
		p.last = false // it is being renamed too: wait for the next one
		return nil
	}
	if err != nil {
		return disk.Explain("open", p.path, err)
	}
	old := p.place()
	p.set.leave(old)
	if err := p.take(f); err != nil {
		return err
	}
	if old.Byte > 0 {
		p.before = append(p.before, old)
	}
	p.before = p.before[max(0, len(p.before)-maxBefore):]
	p.buf, p.start, p.pos, p.eof, p.names, p.last = p.buf[:0], 0, 0, false, nil, false
	return nil
}
