// Package objects reaches a store of objects by the interface that stores share with Amazon's S3 (Signature Version 4, path and host
// style): it lists, reads from any place and writes objects, and tries again while the store is away (docs/connectors.md, "Object
// stores").
package objects

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"undertide/connect"
	"undertide/connect/secure"
)

// Scheme begins the paths of objects: s3://bucket/key.
const Scheme = "s3://"

// Split takes a path apart; the key may be empty.
func Split(path string) (bucket, key string, err error) {
	rest, ok := strings.CutPrefix(path, Scheme)
	bucket, key, _ = strings.Cut(rest, "/")
	if !ok || bucket == "" {
		return "", "", fmt.Errorf("%q names no bucket; write s3://bucket/key", path)
	}
	return bucket, key, nil
}

// Store is a store. Safe for concurrent use.
type Store struct {
	what   string // connection lake (127.0.0.1:9000)
	core   minio.Core
	Health *connect.Health
}

// Config says where a store is and who signs in: nobody where User is empty.
type Config struct {
	Name, URL, Region, User, Password string
	TLS                               *tls.Config
}

// answerIn bounds how long a store may be silent before it counts as away.
const answerIn = 20 * time.Second

// New makes a store; it is reached by its methods.
func New(c Config) (*Store, error) {
	u, err := url.Parse(c.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%q is not an address of a store; write https://127.0.0.1:9000", c.URL)
	}
	way := http.DefaultTransport.(*http.Transport).Clone()
	way.TLSClientConfig, way.ResponseHeaderTimeout, way.IdleConnTimeout = c.TLS, answerIn, 10*time.Second
	way.DisableCompression = true // objects are as they are
	opts := &minio.Options{Secure: u.Scheme == "https", Region: c.Region, Transport: way, MaxRetries: 1}
	if c.User != "" {
		opts.Creds = credentials.NewStaticV4(c.User, c.Password, "")
	}
	core, err := minio.NewCore(u.Host, opts)
	if err != nil {
		return nil, err
	}
	core.SetAppInfo("undertide", "1")
	return &Store{what: fmt.Sprintf("store %s (%s)", c.Name, u.Host), core: *core, Health: &connect.Health{}}, nil
}

func (s *Store) String() string { return s.what }

// ErrTaken: an object is there, or is not the one that is to be replaced.
var ErrTaken = errors.New("it has been changed by another")

// explain words what went wrong with an object or bucket. Only what wraps ErrUnreachable may be otherwise the next time.
func (s *Store) explain(err error, what string) error {
	var op *net.OpError
	said := minio.ToErrorResponse(err)
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case said.StatusCode == http.StatusNotFound && said.Code == "NoSuchBucket":
		return fmt.Errorf("%s has no bucket %s; make it, or name another: %w", s.what, said.BucketName, os.ErrNotExist)
	case said.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%s has no %s: %w", s.what, what, os.ErrNotExist)
	case said.StatusCode == http.StatusForbidden, said.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%s: %w to %s: %s; check user, password and rights", s.what, connect.ErrDenied, what, said.Message)
	case said.StatusCode == http.StatusPreconditionFailed, said.StatusCode == http.StatusConflict, said.StatusCode == http.StatusRequestedRangeNotSatisfiable:
		return fmt.Errorf("%s: %s: %w", s.what, what, ErrTaken)
	case said.StatusCode >= 400 && said.StatusCode < 500 && said.StatusCode != http.StatusTooManyRequests && said.StatusCode != http.StatusRequestTimeout:
		return fmt.Errorf("%s: %s: %s", s.what, what, said.Message)
	case said.StatusCode > 0:
		return fmt.Errorf("%s %w: it answers %d, %s", s.what, connect.ErrUnreachable, said.StatusCode, said.Message)
	case secure.Why(err) != "":
		return fmt.Errorf("%s: %w: %s", s.what, connect.ErrDenied, secure.Why(err))
	case errors.As(err, &op) && op.Err != nil:
		return fmt.Errorf("%s %w: %s; check that it runs and that the address is right", s.what, connect.ErrUnreachable, op.Err)
	}
	return fmt.Errorf("%s %w: %w", s.what, connect.ErrUnreachable, err)
}

// again does something until the store is reached, or ctx is done; where its time is up the error is the store's.
func (s *Store) again(ctx context.Context, do func() error) error {
	pauses := connect.Pauses()
	for {
		err := do()
		if !errors.Is(err, connect.ErrUnreachable) {
			s.Health.OK()
			return err
		}
		s.Health.Fault(err.Error())
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-ctx.Done():
		}
		switch ctx.Err() {
		case nil:
		case context.DeadlineExceeded: // why counts
			return err
		default:
			return ctx.Err()
		}
	}
}

// Object is what a store tells of an object.
type Object struct {
	Key      string
	Size     int64
	Tag      string // changes with its content
	Modified time.Time
}

// List gives the objects whose keys begin so, in the order of their keys, up to the most that are asked for; 0 for all.
func (s *Store) List(ctx context.Context, bucket, prefix string, most int) (out []Object, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for o := range s.core.ListObjectsIter(ctx, bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: true}) {
		if o.Err != nil {
			return nil, s.explain(o.Err, "objects in "+bucket)
		}
		if !strings.HasSuffix(o.Key, "/") { // what some make in place of folders
			out = append(out, Object{o.Key, o.Size, o.ETag, o.LastModified})
		}
		if most > 0 && len(out) == most {
			break
		}
	}
	return out, nil
}

// ListAll is List of all that waits for a store that is away.
func (s *Store) ListAll(ctx context.Context, bucket, prefix string) (out []Object, err error) {
	err = s.again(ctx, func() error {
		out, err = s.List(ctx, bucket, prefix, 0)
		return err
	})
	return out, err
}

// Buckets gives the buckets that whoever signs in may see.
func (s *Store) Buckets(ctx context.Context) (out []string, err error) {
	all, err := s.core.ListBuckets(ctx)
	for _, b := range all {
		out = append(out, b.Name)
	}
	return out, s.explain(err, "list buckets")
}

// Stat tells of an object.
func (s *Store) Stat(ctx context.Context, bucket, key string) (Object, error) {
	o, err := s.core.StatObject(ctx, bucket, key, minio.StatObjectOptions{})
	return Object{key, o.Size, o.ETag, o.LastModified}, s.explain(err, Scheme+bucket+"/"+key)
}

// Find is Stat that waits for a store that is away.
func (s *Store) Find(ctx context.Context, bucket, key string) (o Object, err error) {
	err = s.again(ctx, func() error {
		o, err = s.Stat(ctx, bucket, key)
		return err
	})
	return o, err
}

// Get reads a small object whole.
func (s *Store) Get(ctx context.Context, bucket, key string, most int64) (text []byte, o Object, err error) {
	err = s.again(ctx, func() error {
		in, info, _, err := s.core.GetObject(ctx, bucket, key, minio.GetObjectOptions{})
		if err != nil {
			return s.explain(err, Scheme+bucket+"/"+key)
		}
		defer in.Close()
		o = Object{key, info.Size, info.ETag, info.LastModified}
		text, err = io.ReadAll(io.LimitReader(in, most))
		return s.explain(err, Scheme+bucket+"/"+key)
	})
	return text, o, err
}

// Put writes an object from a file, in several parts where it is large, and gives its tag. if says which object it may replace: any, the one of a
// tag, or none; else the error wraps ErrTaken.
func (s *Store) Put(ctx context.Context, bucket, key string, in io.ReadSeeker, size int64, may Replace) (tag string, err error) {
	err = s.again(ctx, func() error {
		if _, err := in.Seek(0, io.SeekStart); err != nil {
			return err
		}
		opts := minio.PutObjectOptions{ContentType: "application/octet-stream", NumThreads: 2, PartSize: 16 << 20}
		switch {
		case may.none:
			opts.SetMatchETagExcept("*")
		case may.tag != "":
			opts.SetMatchETag(may.tag)
		}
		info, err := s.core.Client.PutObject(ctx, bucket, key, in, size, opts)
		tag = info.ETag
		return s.explain(err, Scheme+bucket+"/"+key)
	})
	return tag, err
}

// Replace says what an object may take the place of; the zero value: of any.
type Replace struct {
	none bool
	tag  string
}

// Nothing: the object must not be there. Tagged: it must be the one of this tag.
var Nothing = Replace{none: true}

// Tagged is the object of a tag.
func Tagged(tag string) Replace { return Replace{tag: tag} }

// MayWrite begins to write an object, and gives it up.
func (s *Store) MayWrite(ctx context.Context, bucket, key string) error {
	id, err := s.core.NewMultipartUpload(ctx, bucket, key, minio.PutObjectOptions{})
	if err == nil {
		err = s.core.AbortMultipartUpload(ctx, bucket, key, id)
	}
	return s.explain(err, "write into "+Scheme+bucket)
}

// Remove removes an object.
func (s *Store) Remove(ctx context.Context, bucket, key string) error {
	return s.again(ctx, func() error {
		return s.explain(s.core.RemoveObject(ctx, bucket, key, minio.RemoveObjectOptions{}), Scheme+bucket+"/"+key)
	})
}
