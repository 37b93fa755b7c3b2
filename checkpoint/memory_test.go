package checkpoint

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

var errInjected = errors.New("injected fault")

// memory is a file system in memory that makes operation number failAt fail, and gives copies as
// after a crash: of each file what was synced, of each folder the names that were synced.
type memory struct {
	mu      sync.Mutex
	files   map[string]*memoryFile // by path, as running programs see them
	lasting map[string]*memoryFile // by path, as they stand after a crash
	dirs    map[string]bool
	ops     int
	failAt  int // 0: never
}

type memoryFile struct {
	data, synced []byte
}

func newMemory() *memory {
	return &memory{files: map[string]*memoryFile{}, lasting: map[string]*memoryFile{}, dirs: map[string]bool{}}
}

// op counts an operation and fails the one that is to fail.
func (m *memory) op(what, path string) error {
	m.ops++
	if m.ops == m.failAt {
		return fmt.Errorf("%s %s: %w", what, path, errInjected)
	}
	return nil
}

func (m *memory) MkdirAll(dir string) error {
	if err := m.op("mkdir", dir); err != nil {
		return err
	}
	m.dirs[dir] = true
	return nil
}

type openFile struct {
	m    *memory
	path string
	f    *memoryFile
}

func (m *memory) Create(path string) (File, error) {
	if err := m.op("create", path); err != nil {
		return nil, err
	}
	f := &memoryFile{}
	m.files[path] = f
	return &openFile{m, path, f}, nil
}

func (o *openFile) Write(p []byte) (int, error) {
	if err := o.m.op("write", o.path); err != nil {
		n := len(p) / 2 // a fault in the middle
		o.f.data = append(o.f.data, p[:n]...)
		return n, err
	}
	o.f.data = append(o.f.data, p...)
	return len(p), nil
}

func (o *openFile) Sync() error {
	if err := o.m.op("sync", o.path); err != nil {
		return err
	}
	o.f.synced = slices.Clone(o.f.data)
	return nil
}

func (o *openFile) Close() error { return o.m.op("close", o.path) }

func (m *memory) ReadFile(path string) ([]byte, error) {
	if err := m.op("read", path); err != nil {
		return nil, err
	}
	f := m.files[path]
	if f == nil {
		return nil, fmt.Errorf("read %s: %w", path, fs.ErrNotExist)
	}
	return slices.Clone(f.data), nil
}

func (m *memory) ReadDir(dir string) ([]string, error) {
	if err := m.op("list", dir); err != nil {
		return nil, err
	}
	names := map[string]bool{}
	for p := range m.files {
		if rest, ok := strings.CutPrefix(p, dir+"/"); ok {
			name, _, _ := strings.Cut(rest, "/")
			names[name] = true
		}
	}
	for p := range m.dirs {
		if rest, ok := strings.CutPrefix(p, dir+"/"); ok {
			name, _, _ := strings.Cut(rest, "/")
			names[name] = true
		}
	}
	return slices.Sorted(maps.Keys(names)), nil
}

func (m *memory) Rename(from, to string) error {
	if err := m.op("rename", to); err != nil {
		return err
	}
	m.files[to] = m.files[from]
	delete(m.files, from)
	return nil
}

func (m *memory) RemoveAll(path string) error {
	if err := m.op("remove", path); err != nil {
		return err
	}
	for _, all := range []map[string]*memoryFile{m.files, m.lasting} {
		maps.DeleteFunc(all, func(p string, _ *memoryFile) bool { return p == path || strings.HasPrefix(p, path+"/") })
	}
	delete(m.dirs, path)
	return nil
}

// SyncDir makes the names of a folder's files last.
func (m *memory) SyncDir(dir string) error {
	if err := m.op("sync folder", dir); err != nil {
		return err
	}
	maps.DeleteFunc(m.lasting, func(p string, _ *memoryFile) bool { return filepath.Dir(p) == dir })
	for p, f := range m.files {
		if filepath.Dir(p) == dir {
			m.lasting[p] = f
		}
	}
	return nil
}

// crash gives the file system as a new start finds it: names that were synced, with synced bytes. A
// file whose name lasts and whose bytes do not is cut short.
func (m *memory) crash() *memory {
	out := newMemory()
	out.dirs = maps.Clone(m.dirs)
	for p, f := range m.lasting {
		out.files[p] = &memoryFile{data: slices.Clone(f.synced), synced: slices.Clone(f.synced)}
	}
	out.lasting = maps.Clone(out.files)
	return out
}
