package file

import (
	"context"
	"io"
	"path"
	"strings"

	"undertide/connect"
	"undertide/connect/file/objects"
)

// Share implements [connect.Sharing].
func (l *Link) Share(name, address string) (connect.Shared, error) {
	bucket, prefix, err := objects.Split(address)
	if err != nil {
		return nil, err
	}
	s, err := l.store(name)
	if err != nil {
		return nil, err
	}
	return &shared{s, bucket, strings.Trim(prefix, "/")}, nil
}

// shared keeps objects of a bucket below a prefix for all nodes. Safe for concurrent use.
type shared struct {
	store          *objects.Store
	bucket, prefix string
}

func (s *shared) String() string { return objects.Scheme + path.Join(s.bucket, s.prefix) }

func (s *shared) key(name string) string { return path.Join(s.prefix, name) }

// Put implements [connect.Shared], as do the methods below.
func (s *shared) Put(ctx context.Context, name string, in io.ReadSeeker, size int64) error {
	_, err := s.store.Put(ctx, s.bucket, s.key(name), in, size, objects.Replace{})
	return err
}

func (s *shared) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	f, err := s.store.Open(ctx, s.bucket, s.key(name))
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (s *shared) List(ctx context.Context, prefix string) (out []string, err error) {
	key := s.key(prefix)
	if strings.HasSuffix(prefix, "/") {
		key += "/"
	}
	all, err := s.store.ListAll(ctx, s.bucket, key)
	for _, o := range all {
		out = append(out, strings.TrimPrefix(strings.TrimPrefix(o.Key, s.prefix), "/"))
	}
	return out, err
}

func (s *shared) Remove(ctx context.Context, name string) error {
	return s.store.Remove(ctx, s.bucket, s.key(name))
}

func (s *shared) RemoveAll(ctx context.Context, within string) error {
	all, err := s.List(ctx, within+"/")
	if err != nil {
		return err
	}
	for _, name := range all {
		if err := s.Remove(ctx, name); err != nil {
			return err
		}
	}
	return nil
}
