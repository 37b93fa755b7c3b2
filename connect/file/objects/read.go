package objects

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"

	"undertide/connect"
)

// File is an object that is read as files are: from any place, and on where the connection broke. It is one version of the object: where that is
// replaced meanwhile, reading ends with an error.
type File struct {
	store       *Store
	ctx         context.Context
	stop        context.CancelFunc
	bucket, key string
	about       Object

	mu   sync.Mutex // guards the rest; Close may come at any time
	at   int64
	body io.ReadCloser // from at on; nil where it is to be asked for
}

// Open opens an object. It is read until Close; ctx bounds the opening alone.
func (s *Store) Open(ctx context.Context, bucket, key string) (*File, error) {
	about, err := s.Find(ctx, bucket, key)
	if err != nil {
		return nil, err
	}
	f := &File{store: s, bucket: bucket, key: key, about: about}
	f.ctx, f.stop = context.WithCancel(context.Background())
	return f, nil
}

// get asks for bytes from a place on, n of them or all.
func (f *File) get(from, n int64) (io.ReadCloser, error) {
	opts := minio.GetObjectOptions{}
	if err := opts.SetMatchETag(f.about.Tag); err != nil {
		return nil, err
	}
	var err error
	if n >= 0 {
		err = opts.SetRange(from, from+n-1)
	} else if from > 0 {
		err = opts.SetRange(from, 0) // to the end
	}
	if err != nil {
		return nil, err
	}
	in, _, _, err := f.store.core.GetObject(f.ctx, f.bucket, f.key, opts)
	if err = f.store.explain(err, Scheme+f.bucket+"/"+f.key); errors.Is(err, ErrTaken) {
		err = fmt.Errorf("%s%s/%s was replaced while it was read", Scheme, f.bucket, f.key)
	}
	return in, err
}

// Read implements [io.Reader].
func (f *File) Read(b []byte) (n int, err error) {
	if len(b) == 0 {
		return 0, nil
	}
	err = f.store.again(f.ctx, func() error {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.at >= f.about.Size {
			return io.EOF
		}
		if f.body == nil {
			if f.body, err = f.get(f.at, -1); err != nil {
				return err
			}
		}
		n, err = f.body.Read(b)
		f.at += int64(n)
		if err == nil || n > 0 {
			return nil
		}
		_ = f.body.Close() // it broke
		f.body = nil
		return fmt.Errorf("%s %w: it ended within %s: %w", f.store, connect.ErrUnreachable, f.key, err)
	})
	return n, err
}

// ReadAt implements [io.ReaderAt].
func (f *File) ReadAt(b []byte, from int64) (n int, err error) {
	want := min(int64(len(b)), f.about.Size-from)
	if want <= 0 {
		return 0, io.EOF
	}
	err = f.store.again(f.ctx, func() error {
		in, err := f.get(from, want)
		if err != nil {
			return err
		}
		defer in.Close()
		if n, err = io.ReadFull(in, b[:want]); err != nil {
			return fmt.Errorf("%s %w: it ended within %s: %w", f.store, connect.ErrUnreachable, f.key, err)
		}
		return nil
	})
	if err == nil && n < len(b) {
		err = io.EOF
	}
	return n, err
}

// Seek implements [io.Seeker].
func (f *File) Seek(offset int64, whence int) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch whence {
	case io.SeekCurrent:
		offset += f.at
	case io.SeekEnd:
		offset += f.about.Size
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	if offset != f.at && f.body != nil {
		_ = f.body.Close() // of what is not read
		f.body = nil
	}
	f.at = offset
	return offset, nil
}

// Close ends reading, also one that waits.
func (f *File) Close() error {
	f.stop()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.body == nil {
		return nil
	}
	err := f.body.Close()
	f.body = nil
	return err
}

// Stat implements [fs.File].
func (f *File) Stat() (fs.FileInfo, error) { return Info{f.about}, nil }

// Info tells of an object as of a file.
type Info struct{ Object Object }

func (i Info) Name() string       { return path.Base(i.Object.Key) }
func (i Info) Size() int64        { return i.Object.Size }
func (i Info) Mode() fs.FileMode  { return 0o444 }
func (i Info) ModTime() time.Time { return i.Object.Modified }
func (i Info) IsDir() bool        { return false }
func (i Info) Sys() any           { return nil }
