package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// Files opens files for whoever names them by paths. Nil opens what the process may: the program runs for the one who
// wrote the path. [Within] gives one that opens regular files in some folders alone: a service runs for others, who may
// name what they like (docs/security.md, "Files"). Safe for concurrent use.
//
// Within folders every opening goes through [os.Root], so that neither `..` nor a link leads out; what is not a regular
// file is refused before it is opened, since opening a pipe waits and opening a device may act. New files are for their
// owner alone.
type Files struct{ roots []root }

type root struct {
	dir string // absolute and clean
	at  *os.Root
}

// Places that hold no data of anybody: what is there is the kernel's, and reading may act or never end.
var kernel = []string{"/proc", "/sys", "/dev"}

// Within opens the folders. None of them may hold, or be in, one of the forbidden: the service's own data, and the
// kernel's files. Close closes them.
func Within(dirs, forbidden []string) (*Files, error) {
	f := &Files{}
	for _, dir := range dirs {
		if err := f.add(dir, slices.Concat(forbidden, kernel)); err != nil {
			return nil, errors.Join(err, f.Close())
		}
	}
	return f, nil
}

func (f *Files) add(dir string, forbidden []string) error {
	if !filepath.IsAbs(dir) {
		return fmt.Errorf("the folder %s is relative; write the whole path, from /", dir)
	}
	dir = filepath.Clean(dir)
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return Explain("open the folder", dir, err)
	}
	for _, no := range forbidden {
		if hidden, err := filepath.EvalSymlinks(no); err == nil {
			no = hidden
		}
		if in(real, no) || in(no, real) {
			return fmt.Errorf("the folder %s cannot be given: %s is nobody's to read or write; name the folders that jobs need and no more", dir, no)
		}
	}
	at, err := os.OpenRoot(dir)
	if err != nil {
		return Explain("open the folder", dir, err)
	}
	f.roots = append(f.roots, root{dir, at})
	return nil
}

// in says whether a clean path is dir or lies in it.
func in(path, dir string) bool {
	return path == dir || dir == "/" || strings.HasPrefix(path, dir+"/")
}

// Close closes the folders.
func (f *Files) Close() error {
	var err error
	if f != nil {
		for _, r := range f.roots {
			err = errors.Join(err, r.at.Close())
		}
	}
	return err
}

// ErrOutside is wrapped where a path is in none of the folders.
var ErrOutside = errors.New("it is in no folder that the service may use")

// Allows says whether a path, or a pattern, is in one of the folders; the error says what would be right.
func (f *Files) Allows(path string) error {
	if f == nil {
		return nil
	}
	_, _, err := f.find(path)
	return err
}

// find gives the folder that a path is in, the longest that fits, and the path within it.
func (f *Files) find(path string) (r root, name string, err error) {
	clean := filepath.Clean(path)
	for _, one := range f.roots {
		if in(clean, one.dir) && len(one.dir) > len(r.dir) {
			r = one
		}
	}
	if r.at == nil {
		var dirs []string
		for _, one := range f.roots {
			dirs = append(dirs, one.dir)
		}
		if len(dirs) == 0 {
			return r, "", fmt.Errorf("%s: %w; start the service with --files FOLDER for the folders that jobs may use", path, ErrOutside)
		}
		return r, "", fmt.Errorf("%s: %w; put the file into %s, or start the service with --files for its folder", path, ErrOutside, strings.Join(dirs, " or "))
	}
	name, err = filepath.Rel(r.dir, clean)
	return r, name, err
}

// Stat is as os.Stat.
func (f *Files) Stat(path string) (fs.FileInfo, error) {
	if f == nil {
		return os.Stat(path)
	}
	r, name, err := f.find(path)
	if err != nil {
		return nil, err
	}
	st, err := r.at.Stat(name)
	return st, leadsOut(path, err)
}

// leadsOut words what [os.Root] says of a link that leads out of its folder: it has no error of its own for that.
func leadsOut(path string, err error) error {
	if err != nil && strings.Contains(err.Error(), "path escapes from parent") {
		return fmt.Errorf("%s: %w, since a link leads out of it; put the file itself there", path, ErrOutside)
	}
	return err
}

// ErrSpecial is wrapped where a file is not a regular one.
var ErrSpecial = errors.New("it is a pipe, a device or a socket")

// Open opens a file to read. Where folders bound what is opened, it is a regular one; else a pipe is waited for until
// somebody writes to it, or ctx is done.
func (f *Files) Open(ctx context.Context, path string) (*os.File, error) {
	if f == nil {
		return patient(ctx, path, os.O_RDONLY)
	}
	return f.regular(path, os.O_RDONLY)
}

// OpenOutput opens a pipe or device to write to it, which waits for a reader as Open does for a writer.
func (f *Files) OpenOutput(ctx context.Context, path string) (*os.File, error) {
	if f == nil {
		return patient(ctx, path, os.O_WRONLY)
	}
	return nil, fmt.Errorf("%s: %w; name a file, or a folder with / at its end", path, ErrSpecial)
}

// Create opens a regular file to read and write it, and makes it where it is missing.
func (f *Files) Create(path string, flags int) (*os.File, error) {
	if f == nil {
		return os.OpenFile(path, os.O_RDWR|os.O_CREATE|flags, 0o644)
	}
	return f.regular(path, os.O_RDWR|os.O_CREATE|flags)
}

// regular opens a regular file of a folder.
func (f *Files) regular(path string, flags int) (*os.File, error) {
	r, name, err := f.find(path)
	if err != nil {
		return nil, err
	}
	if st, err := r.at.Stat(name); err == nil && !st.Mode().IsRegular() && !st.IsDir() {
		return nil, fmt.Errorf("%s: %w; name a file", path, ErrSpecial)
	}
	file, err := r.at.OpenFile(name, flags|syscall.O_NONBLOCK, 0o600) // it may have become a pipe since
	if err != nil {
		return nil, leadsOut(path, err)
	}
	if st, err := file.Stat(); err != nil || !st.Mode().IsRegular() && !st.IsDir() {
		return nil, errors.Join(fmt.Errorf("%s: %w; name a file", path, ErrSpecial), file.Close())
	}
	return file, nil
}

// patient opens what may be a pipe. Opening a pipe waits for its other end, and no signal ends that: so whoever gives up
// is the other end itself for a moment.
func patient(ctx context.Context, path string, flags int) (*os.File, error) {
	if st, err := os.Stat(path); err != nil || st.Mode()&fs.ModeNamedPipe == 0 {
		return os.OpenFile(path, flags, 0)
	}
	type opened struct {
		f   *os.File
		err error
	}
	done := make(chan opened, 1)
	go func() {
		f, err := os.OpenFile(path, flags, 0)
		done <- opened{f, err}
	}()
	select {
	case o := <-done:
		return o.f, o.err
	case <-ctx.Done():
	}
	if other, err := os.OpenFile(path, os.O_RDWR|syscall.O_NONBLOCK, 0); err == nil {
		if o := <-done; o.f != nil {
			_ = o.f.Close() // nothing was read or written
		}
		_ = other.Close()
	}
	return nil, ctx.Err()
}

// ReadFile reads a regular file of at most so many bytes.
func (f *Files) ReadFile(path string, most int64) ([]byte, error) {
	if st, err := f.Stat(path); err != nil {
		return nil, Explain("read", path, err)
	} else if !st.Mode().IsRegular() {
		return nil, fmt.Errorf("read %s: it is not a regular file; name a file", path)
	}
	file, err := f.Open(context.Background(), path) // a regular one does not wait
	if err != nil {
		return nil, Explain("read", path, err)
	}
	text, err := io.ReadAll(io.LimitReader(file, most+1))
	if err = errors.Join(err, file.Close()); err != nil {
		return nil, Explain("read", path, err)
	}
	if int64(len(text)) > most {
		return nil, fmt.Errorf("read %s: it has more than %d KiB; is it the right file?", path, most>>10)
	}
	return text, nil
}

// MkdirAll makes a folder and those around it.
func (f *Files) MkdirAll(path string) error {
	if f == nil {
		return os.MkdirAll(path, 0o755)
	}
	r, name, err := f.find(path)
	if err != nil {
		return err
	}
	return leadsOut(path, r.at.MkdirAll(name, 0o700))
}

// ReadDir gives the names in a folder, in byte order.
func (f *Files) ReadDir(path string) ([]string, error) {
	dir, err := f.Open(context.Background(), path)
	if err != nil {
		return nil, err
	}
	names, err := dir.Readdirnames(-1)
	slices.Sort(names)
	return names, errors.Join(err, dir.Close())
}

// Rename gives a file another name in its folder.
func (f *Files) Rename(from, to string) error {
	if f == nil {
		return os.Rename(from, to)
	}
	r, old, err := f.find(from)
	if err != nil {
		return err
	}
	at, name, err := f.find(to)
	if err != nil {
		return err
	}
	if at.dir != r.dir {
		return fmt.Errorf("rename %s to %s: they are in two of the folders that the service may use", from, to)
	}
	return leadsOut(to, r.at.Rename(old, name))
}

// Remove removes a file.
func (f *Files) Remove(path string) error {
	if f == nil {
		return os.Remove(path)
	}
	r, name, err := f.find(path)
	if err != nil {
		return err
	}
	return r.at.Remove(name)
}

// Glob gives the files of a pattern, in byte order.
func (f *Files) Glob(pattern string) ([]string, error) {
	if f == nil {
		return filepath.Glob(pattern)
	}
	r, within, err := f.find(pattern)
	if err != nil {
		return nil, err
	}
	found, err := fs.Glob(r.at.FS(), within)
	for i, name := range found {
		found[i] = filepath.Join(r.dir, name)
	}
	return found, err
}
