package file

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"undertide/connect/file/objects"
	"undertide/disk"
)

// handle is an open file, or object.
type handle interface {
	io.Reader
	io.ReaderAt
	io.Seeker
	io.Closer
	Stat() (fs.FileInfo, error)
}

// tree is where paths lead: the machine's files, or a store of objects.
type tree interface {
	Stat(path string) (fs.FileInfo, error)
	Open(ctx context.Context, path string) (handle, error)
	Glob(pattern string) ([]string, error)
	ReadDir(path string) ([]string, error)
}

// local are the machine's files, as far as they may be read; nil: all.
type local struct{ *disk.Files }

// Open implements tree.
func (l local) Open(ctx context.Context, path string) (handle, error) {
	f, err := l.Files.Open(ctx, path)
	if err != nil {
		return nil, err
	}
	return f, nil
}

// stored are the objects of a store.
type stored struct{ *objects.Store }

// statIn bounds how long is waited for a store before a run has begun.
const statIn = 20 * time.Second

// Stat implements tree.
func (s stored) Stat(p string) (fs.FileInfo, error) {
	bucket, key, err := objects.Split(p)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(context.Background(), statIn)
	defer stop()
	o, err := s.Find(ctx, bucket, key)
	if err != nil {
		return nil, err
	}
	return objects.Info{Object: o}, nil
}

// Open implements tree.
func (s stored) Open(ctx context.Context, p string) (handle, error) {
	bucket, key, err := objects.Split(p)
	if err != nil {
		return nil, err
	}
	f, err := s.Store.Open(ctx, bucket, key)
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Glob implements tree: * and ? stand for signs of one part of a key.
func (s stored) Glob(pattern string) (out []string, err error) {
	bucket, keys, err := objects.Split(pattern)
	if err != nil {
		return nil, err
	}
	if _, err := path.Match(keys, ""); err != nil {
		return nil, err
	}
	prefix := keys
	if i := strings.IndexAny(keys, `*?[\`); i >= 0 {
		prefix = keys[:i]
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*statIn)
	defer stop()
	all, err := s.ListAll(ctx, bucket, prefix)
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		if ok, _ := path.Match(keys, o.Key); ok { // the pattern was tried
			out = append(out, objects.Scheme+bucket+"/"+o.Key)
		}
	}
	return out, nil
}

// ReadDir implements tree: objects are not renamed, so that nobody looks for one.
func (s stored) ReadDir(string) ([]string, error) { return nil, nil }

// isObject says whether a path is of a store.
func isObject(path string) bool { return strings.HasPrefix(path, objects.Scheme) }

// explainOpen words why something cannot be opened.
func explainOpen(path string, err error) error {
	if isObject(path) { // it was worded
		return err
	}
	return disk.Explain("open", path, err)
}

// tree gives where the source's paths lead.
func (s *source) tree() (tree, error) {
	if !isObject(s.pattern) {
		return local{s.files}, nil
	}
	store, err := reach(s.Connection)
	if err != nil {
		return nil, err
	}
	return stored{store}, nil
}

var errNoStore = errors.New("it is not said which store the path is of: add connection: and a name of connections")

// globFault words a pattern that finds nothing, or cannot.
func globFault(pattern string, err error) error {
	if errors.Is(err, path.ErrBadPattern) {
		return fmt.Errorf("%q is not a pattern; use * and ?, and [ ] in pairs", pattern)
	}
	return explainOpen(pattern, err)
}

// troubleOf says what keeps a tree's files from being read.
func troubleOf(t tree) string {
	if s, ok := t.(stored); ok {
		return s.Health.Trouble(s.String() + " has not answered")
	}
	return ""
}

// Trouble implements [engine.Troubled].
func (p *Partition) Trouble() string { return troubleOf(p.files) }

// Trouble implements [engine.Troubled].
func (p *contained) Trouble() string { return troubleOf(p.files) }
