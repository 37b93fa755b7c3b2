package checkpoint

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Place is where all nodes reach what is put there: a folder that they share, or a bucket (docs/nodes.md, "The shared store"). Names have slashes between
// their parts. Safe for concurrent use.
type Place interface {
	// Put keeps what in gives under a name, in place of what was there. It lasts once Put has given nil.
	Put(ctx context.Context, name string, in io.ReadSeeker, size int64) error
	// Get gives it; an error that wraps fs.ErrNotExist where there is nothing of the name. The caller closes it.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	// List gives the names that begin so.
	List(ctx context.Context, prefix string) ([]string, error)
	// Remove forgets a name; one that is not there is no error.
	Remove(ctx context.Context, name string) error
	// RemoveAll forgets all names below one.
	RemoveAll(ctx context.Context, within string) error
	String() string
}

// SharedFolder is a place in a folder that all nodes have mounted.
func SharedFolder(dir string) Place { return sharedFolder(dir) }

type sharedFolder string

func (d sharedFolder) String() string { return string(d) }

func (d sharedFolder) path(name string) string {
	return filepath.Join(string(d), filepath.FromSlash(name))
}

// partPrefix begins the names of files that are being written.
const partPrefix = ".part-"

func (d sharedFolder) Put(_ context.Context, name string, in io.ReadSeeker, _ int64) (err error) {
	to := d.path(name)
	dir := filepath.Dir(to)
	if err := makeFolders(dir); err != nil {
		return err
	}
	part := filepath.Join(dir, partPrefix+rand.Text())
	f, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_EXCL, ownFile)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part))
		}
	}()
	_, err = io.Copy(f, in)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(part, to); err != nil {
		return err
	}
	return (&Store{fs: Disk}).sync(dir)
}

// makeFolders makes a folder and those around it; their names last.
func makeFolders(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	if err := makeFolders(filepath.Dir(dir)); err != nil {
		return err
	}
	if err := os.Mkdir(dir, ownFolder); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return (&Store{fs: Disk}).sync(filepath.Dir(dir))
}

func (d sharedFolder) Get(_ context.Context, name string) (io.ReadCloser, error) {
	return os.Open(d.path(name))
}

func (d sharedFolder) List(_ context.Context, prefix string) (out []string, err error) {
	top := d.path(prefix[:strings.LastIndex(prefix, "/")+1])
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) { // removed meanwhile
			return nil
		}
		if err != nil || e.IsDir() || strings.HasPrefix(e.Name(), partPrefix) {
			return err
		}
		within, err := filepath.Rel(string(d), path)
		if name := filepath.ToSlash(within); err == nil && strings.HasPrefix(name, prefix) {
			out = append(out, name)
		}
		return err
	})
	slices.Sort(out)
	return out, err
}

func (d sharedFolder) RemoveAll(_ context.Context, within string) error {
	return os.RemoveAll(d.path(within))
}

func (d sharedFolder) Remove(_ context.Context, name string) error {
	if err := os.Remove(d.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
