package checkpoint

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/cockroachdb/pebble/v2/vfs"
)

// Copy puts a checkpoint of a folder, of epoch 0 the newest, into another folder, which it makes: by links, so that it costs
// nothing before the first one is removed. Its manifest comes last, as with one that is saved. A pin is such a folder, and
// what a run begins from that goes back to an older checkpoint; again says that of the folder: rows that were delivered
// after it are made again (docs/checkpoints.md, "Pins").
func Copy(fsys vfs.FS, dir string, epoch int64, to string, again bool) (Info, error) {
	s := &Store{fs: fsys, dir: dir}
	for {
		m, err := s.wanted(epoch)
		if err != nil {
			return Info{}, err
		}
		err = s.copyTo(m, to, again)
		if err == nil {
			return m.info(), nil
		}
		if _, gone := s.manifest(m.Epoch); !errors.Is(gone, errIncomplete) {
			return Info{}, errors.Join(fmt.Errorf("copy checkpoint %d to %s: %w", m.Epoch, to, err), fsys.RemoveAll(to))
		}
		if err := fsys.RemoveAll(to); err != nil { // a run removed it meanwhile, having made another
			return Info{}, err
		}
	}
}

// againName is the file that says which checkpoint of a folder was gone back to.
const againName = "again"

func (s *Store) copyTo(m *manifest, to string, again bool) error {
	from, at := s.folder(m.Epoch), path.Join(to, folderName(m.Epoch))
	if err := s.fs.MkdirAll(path.Join(at, storeName), 0o700); err != nil {
		return err
	}
	for _, f := range m.Files {
		if path.Base(f.Name) != f.Name {
			return fmt.Errorf("the name %s leaves the folder", f.Name)
		}
		if err := vfs.LinkOrCopy(s.fs, path.Join(from, storeName, f.Name), path.Join(at, storeName, f.Name)); err != nil {
			return err
		}
	}
	if err := s.sync(path.Join(at, storeName)); err != nil {
		return err
	}
	if again {
		if err := s.write(path.Join(to, againName), strconv.AppendInt(nil, m.Epoch, 10)); err != nil {
			return err
		}
	}
	if err := s.complete(at, m); err != nil {
		return err
	}
	return errors.Join(s.sync(to), s.sync(path.Dir(to)), s.sync(path.Dir(path.Dir(to)))) // that of all pins may be new, too
}

// goneBackTo gives the epoch of the checkpoint that somebody went back to in this folder; 0 for none.
func (s *Store) goneBackTo() (int64, error) {
	text, err := s.readFile(path.Join(s.dir, againName))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	return strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
}

// Alone gives the bytes of files that nothing but a folder on the machine's disk has: what its removal would free.
func Alone(dir string) (bytes int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Nlink == 1 {
			bytes += info.Size()
		}
		return nil
	})
	return bytes, err
}
