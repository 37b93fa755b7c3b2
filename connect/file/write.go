package file

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Output says how rows become text, and what opens files; nil as in [disk.Files].
type Output struct {
	Format *connect.Format
	Schema row.Schema
	Files  *disk.Files
}

func (o Output) head() []byte {
	if o.Format.Head == nil {
		return nil
	}
	return o.Format.Head(o.Schema)
}

// Single is a sink that writes one file: aside as NAME.part, renamed when the run finishes. Its
// length is noted in each checkpoint and cut back to on resume (docs/connectors.md, "file").
type Single struct {
	Output
	path  string
	out   *disk.Output
	size  int64
	piece []byte
}

// NewSingle makes a sink for the file at path.
func NewSingle(path string, o Output) *Single { return &Single{Output: o, path: path} }

func (s *Single) part() string { return part(s.path) }

func (s *Single) NewEncoder(sc row.Schema) engine.Encoder { return s.Format.Encode(sc) }

type singleShipment struct {
	Bytes int64 `json:"bytes"`
}

// Check says what would stand in the way of writing, without touching an existing file.
func (s *Single) Check() error {
	if st, err := s.Files.Stat(s.path); err == nil && st.IsDir() {
		return fmt.Errorf("%s is a folder; end the path with / to write rolled files into it, or name a file", s.path)
	}
	return checkFolder(s.Files, filepath.Dir(s.path))
}

// checkFolder says whether files can be made in a folder, by making one.
func checkFolder(files *disk.Files, dir string) error {
	path := filepath.Join(dir, ".undertide-"+rand.Text())
	f, err := files.Create(path, os.O_EXCL)
	if err != nil {
		return disk.Explain("write into", dir, err)
	}
	err = f.Close()
	return errors.Join(err, files.Remove(path))
}

// keepRights gives the file that is written the rights of the one whose name it will take. One that belongs to somebody
// else is not replaced: it would belong to us.
func (s *Single) keepRights() error {
	st, err := s.Files.Stat(s.path)
	if err != nil {
		return nil //nolint:nilerr // there is none
	}
	if sys, ok := st.Sys().(*syscall.Stat_t); ok && int(sys.Uid) != os.Geteuid() {
		if err := s.out.File.Chown(int(sys.Uid), int(sys.Gid)); err != nil {
			return fmt.Errorf("%s belongs to another user, and would not any more; choose another path, or remove it", s.path)
		}
	}
	if err := s.out.File.Chmod(st.Mode().Perm()); err != nil {
		return disk.Explain("write", s.part(), err)
	}
	return nil
}

// Delivered: all that is in the file was delivered, but the file does not say of which epoch it is.
func (s *Single) Delivered(context.Context) (int64, error) { return 0, nil }

func (s *Single) Open(waiting []engine.Shipment, _ int64) (err error) {
	defer func() {
		if err != nil && s.out != nil { // whoever comes next may have the file
			err = errors.Join(err, s.out.Close())
			s.out = nil
		}
	}()
	if err := s.Check(); err != nil {
		return err
	}
	o, err := disk.OpenForWriting(s.Files, s.part(), 0)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(o.File.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		o.File.Close()
		return fmt.Errorf("%s is being written by another run; wait for it, or choose another path", s.part())
	}
	s.out, s.size = o, 0
	if err := s.keepRights(); err != nil {
		return err
	}
	if err := s.cutBack(waiting); err != nil {
		return err
	}
	if s.size > 0 {
		return nil
	}
	if err := disk.SyncFolder(s.Files, filepath.Dir(s.path)); err != nil { // the name lasts before a checkpoint counts on it
		return err
	}
	if s.Format.Head == nil {
		return nil
	}
	return s.Write(s.Format.Head(s.Schema), 0)
}

// cutBack drops what was written after the checkpoint that the run starts from.
func (s *Single) cutBack(waiting []engine.Shipment) error {
	f := s.out.File
	if n := len(waiting); n > 0 {
		var sh singleShipment
		if err := json.Unmarshal(waiting[n-1].Data, &sh); err != nil {
			return fmt.Errorf("read what the checkpoint says of %s: %w", s.path, err)
		}
		st, err := f.Stat()
		if err != nil {
			return disk.Explain("read", s.part(), err)
		}
		if st.Size() < sh.Bytes {
			return fmt.Errorf("%s has %d bytes and the checkpoint says %d were written; put the file back, or begin anew with an empty checkpoint folder", s.part(), st.Size(), sh.Bytes)
		}
		s.size = sh.Bytes
	}
	return cutBack(s.out, s.part(), s.size)
}

// cutBack makes a file as long as it was.
func cutBack(o *disk.Output, path string, size int64) error {
	if err := errors.Join(disk.Try("truncate", path), o.File.Truncate(size)); err != nil {
		return disk.Explain("write", path, err)
	}
	if _, err := o.File.Seek(size, io.SeekStart); err != nil {
		return disk.Explain("write", path, err)
	}
	return nil
}

func (s *Single) Write(data []byte, rows int) error {
	if s.Format.Pack != nil {
		s.piece = appendPiece(s.piece[:0], data, rows)
		data = s.piece
	}
	n, err := s.out.Put(data)
	s.size += int64(n)
	return err
}

func (s *Single) Flush() error { return s.out.Flush() }

// Prepare: rows wait for nothing, they are in the file.
func (s *Single) Prepare(int64) (out engine.Shipment, err error) {
	if err := s.out.Sync(); err != nil {
		return out, err
	}
	out.Data, err = json.Marshal(singleShipment{Bytes: s.size})
	return out, err
}

func (s *Single) Deliver(context.Context, engine.Shipment) error { return nil }

func (s *Single) Finish() error {
	if err := errors.Join(s.out.Sync(), s.out.Close()); err != nil {
		return err
	}
	return s.appear()
}

// appear gives the file its name.
func (s *Single) appear() error {
	whole := s.part()
	if s.Format.Pack != nil {
		whole = packedPart(s.path)
		if err := packAside(s.Output, s.part(), whole); err != nil {
			return err
		}
	}
	if err := disk.Rename(s.Files, whole, s.path); err != nil {
		return disk.Explain("rename to", s.path, err)
	}
	err := disk.SyncFolder(s.Files, filepath.Dir(s.path))
	if err == nil && s.Format.Pack != nil {
		err = removeAside(s.Files, s.part())
	}
	return err
}

// Recover finishes the file of a run whose last checkpoint said that it was done.
func (s *Single) Recover(context.Context, []engine.Shipment) error {
	if _, err := s.Files.Stat(s.part()); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return s.appear()
}

func (s *Single) Abort() error {
	if s.out == nil {
		return nil
	}
	return errors.Join(s.out.Flush(), s.out.Close())
}

// Stream is a sink that writes to a pipe or terminal, rows as they are made.
type Stream struct {
	Output
	w      *bufio.Writer
	packer connect.Packer // nil where rows are lines
	name   string
}

const standardOutput = "standard output"

// NewStream makes a sink for w, usually standard output.
func NewStream(name string, w io.Writer, o Output) *Stream {
	return &Stream{Output: o, name: name, w: bufio.NewWriterSize(w, 64<<10)}
}

func (s *Stream) NewEncoder(sc row.Schema) engine.Encoder { return s.Format.Encode(sc) }

func (s *Stream) Delivered(context.Context) (int64, error) { return 0, nil }

func (s *Stream) Open(waiting []engine.Shipment, _ int64) error {
	switch {
	case s.Format.Pack != nil && len(waiting) > 0:
		return fmt.Errorf("rows of %s cannot go on in %s behind those of the run before: give a file", s.Format.Title, s.name)
	case s.Format.Pack != nil:
		s.packer = s.Format.Pack(s.w, s.Schema)
		return nil
	case waiting != nil:
		return nil // the header stands before the rows of the run before
	}
	return s.Write(s.head(), 0)
}

func (s *Stream) explain(err error) error {
	if err == nil {
		return nil
	}
	switch gone := errors.Is(err, syscall.EPIPE); {
	case gone && s.name == standardOutput: // such as head, which has what it wants
		return fmt.Errorf("write %s: %w", s.name, engine.ErrReaderGone)
	case gone:
		return fmt.Errorf("write %s: whoever read it has gone; rows since then are not delivered", s.name)
	}
	return disk.Explain("write", s.name, err)
}

func (s *Stream) Write(data []byte, rows int) (err error) {
	if s.packer != nil {
		err = s.packer.Write(data, rows)
	} else {
		_, err = s.w.Write(data)
	}
	return s.explain(err)
}

func (s *Stream) Flush() error { return s.explain(s.w.Flush()) }

// Prepare: rows wait for nothing, they are out.
func (s *Stream) Prepare(int64) (engine.Shipment, error) {
	return engine.Shipment{Data: json.RawMessage("{}")}, s.Flush()
}
func (s *Stream) Deliver(context.Context, engine.Shipment) error { return nil }

func (s *Stream) Finish() error {
	if s.packer != nil {
		if err := s.packer.Close(); err != nil {
			return s.explain(err)
		}
	}
	return s.Flush()
}

// Abort drops what was not written: the run's fault is what counts.
func (s *Stream) Abort() error {
	_ = s.w.Flush()
	return nil
}

// isFolder says whether a path names a folder of rolled files.
func isFolder(path string) bool { return strings.HasSuffix(path, "/") }
