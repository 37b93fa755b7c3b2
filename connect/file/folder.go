package file

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
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

// DefaultRoll is the size at which a rolled file is closed and the next one begun.
const DefaultRoll = 128 << 20

// Folder is a sink of rolled files, NAME-EPOCH-N.ndjson. The files of an epoch are written aside as
// .part and synced; when the checkpoint that ends the epoch is complete they are renamed, and the
// marker NAME.delivered, which holds the epoch, is replaced last. A reader that takes only files with
// an epoch up to the marker's sees whole epochs (docs/connectors.md, "file").
type Folder struct {
	Output
	dir, name string
	roll      int64
	epoch     int64
	lock      *os.File

	out    *disk.Output   // the file at hand; nil between files
	packer connect.Packer // of it; nil where rows are lines
	size   int64
	files  []string // of this epoch, final names
	bytes  int64    // of those that are closed
}

// NewFolder makes a sink named name that writes into dir; roll bounds a file's bytes.
func NewFolder(dir, name string, roll int64, o Output) *Folder {
	if roll <= 0 {
		roll = DefaultRoll
	}
	return &Folder{Output: o, dir: dir, name: name, roll: roll}
}

type folderShipment struct {
	Files []string `json:"files"`
}

// filesOf gives the names of a shipment's files.
func (s *Folder) filesOf(from engine.Shipment) ([]string, error) {
	var sh folderShipment
	if err := json.Unmarshal(from.Data, &sh); err != nil {
		return nil, fmt.Errorf("read what the checkpoint says of %s: %w", s.dir, err)
	}
	for _, name := range sh.Files {
		if filepath.Base(name) != name {
			return nil, fmt.Errorf("the checkpoint names the file %s, which is not in %s", name, s.dir)
		}
	}
	return sh.Files, nil
}

func (s *Folder) NewEncoder(sc row.Schema) engine.Encoder { return s.Format.Encode(sc) }

func (s *Folder) marker() string { return filepath.Join(s.dir, s.name+".delivered") }

// Delivered gives the epoch that the folder says was delivered last; 0 for none.
func (s *Folder) Delivered(context.Context) (int64, error) { return s.delivered() }

func (s *Folder) delivered() (int64, error) {
	b, err := s.Files.ReadFile(s.marker(), 1<<16)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, disk.Explain("read", s.marker(), err)
	}
	var m struct{ Epoch int64 }
	if err := json.Unmarshal(b, &m); err != nil {
		return 0, fmt.Errorf("%s cannot be read (%w); move the folder's files elsewhere and start again", s.marker(), err)
	}
	return m.Epoch, nil
}

func (s *Folder) Open(waiting []engine.Shipment, epoch int64) (err error) {
	defer func() {
		if err != nil && s.lock != nil { // whoever comes next may have it
			err = errors.Join(err, s.lock.Close())
			s.lock = nil
		}
	}()
	if err := s.Files.MkdirAll(s.dir); err != nil {
		return disk.Explain("make folder", s.dir, err)
	}
	if err := checkFolder(s.Files, s.dir); err != nil {
		return err
	}
	lock, err := s.Files.Create(filepath.Join(s.dir, "."+s.name+".lock"), 0)
	if err != nil {
		return disk.Explain("write into", s.dir, err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return fmt.Errorf("%s is being written by another run of sink %s; wait for it, or choose another folder", s.dir, s.name)
	}
	s.lock = lock
	done, err := s.delivered()
	if err != nil {
		return err
	}
	kept := map[string]bool{}
	for _, sh := range waiting {
		files, err := s.filesOf(sh)
		if err != nil {
			return err
		}
		for _, name := range files {
			kept[name+".part"] = true
		}
	}
	if done >= epoch {
		return fmt.Errorf("%s has delivered epoch %d, and this run begins at epoch %d; choose another folder", s.dir, done, epoch)
	}
	s.epoch = epoch
	return s.sweep(kept)
}

// sweep removes what an interrupted epoch left unfinished: it is made again. What waits for its delivery is kept.
func (s *Folder) sweep(kept map[string]bool) error {
	names, err := s.Files.ReadDir(s.dir)
	if err != nil {
		return disk.Explain("read folder", s.dir, err)
	}
	for _, name := range names {
		if !kept[name] && strings.HasPrefix(name, s.name+"-") && strings.HasSuffix(name, ".part") {
			if err := s.Files.Remove(filepath.Join(s.dir, name)); err != nil {
				return disk.Explain("remove", name, err)
			}
		}
	}
	return nil
}

func (s *Folder) Write(data []byte, rows int) error {
	if s.out != nil && s.size+int64(len(data)) > s.roll {
		if err := s.closeFile(); err != nil {
			return err
		}
	}
	if s.out == nil {
		name := fmt.Sprintf("%s-%08d-%d%s", s.name, s.epoch, len(s.files)+1, s.Format.Endings[0])
		o, err := disk.OpenForWriting(s.Files, filepath.Join(s.dir, name+".part"), os.O_TRUNC)
		if err != nil {
			return err
		}
		s.out, s.size = o, 0
		s.files = append(s.files, name)
		if s.Format.Pack != nil {
			s.packer = s.Format.Pack(putter{o}, s.Schema)
		} else if _, err := o.Put(s.head()); err != nil {
			return err
		}
	}
	if s.packer != nil {
		err := s.packer.Write(data, rows)
		s.size = s.packer.Size()
		return err
	}
	n, err := s.out.Put(data)
	s.size += int64(n)
	return err
}

func (s *Folder) closeFile() error {
	if s.out == nil {
		return nil
	}
	o, p := s.out, s.packer
	s.out, s.packer = nil, nil
	var err error
	if p != nil {
		err = p.Close()
		s.size = p.Size()
	}
	s.bytes += s.size
	s.size = 0
	return errors.Join(err, o.Sync(), o.Close())
}

func (s *Folder) Prepare(epoch int64) (out engine.Shipment, err error) {
	if err := s.closeFile(); err != nil {
		return out, err
	}
	if len(s.files) > 0 {
		if err := disk.SyncFolder(s.Files, s.dir); err != nil { // the names last before the checkpoint counts on them
			return out, err
		}
	}
	out.Bytes = s.bytes
	out.Data, err = json.Marshal(folderShipment{Files: s.files})
	s.files, s.bytes, s.epoch = nil, 0, epoch+1
	return out, err
}

// Deliver renames an epoch's files and then replaces the marker. An epoch without rows leaves the marker as it is.
func (s *Folder) Deliver(_ context.Context, sh engine.Shipment) error {
	files, err := s.filesOf(sh)
	if err != nil || len(files) == 0 {
		return err
	}
	for _, name := range files {
		path := filepath.Join(s.dir, name)
		err = disk.Rename(s.Files, path+".part", path)
		if errors.Is(err, fs.ErrNotExist) {
			if _, e := s.Files.Stat(path); e == nil {
				continue // renamed before the run was interrupted
			}
		}
		if err != nil {
			return disk.Explain("rename to", path, err)
		}
	}
	if err := disk.SyncFolder(s.Files, s.dir); err != nil { // before the marker says that they are there
		return err
	}
	if err := disk.ReplaceFile(s.Files, s.marker(), fmt.Appendf(nil, "{\"epoch\":%d}\n", sh.Epoch)); err != nil {
		return err
	}
	return disk.SyncFolder(s.Files, s.dir)
}

func (s *Folder) Finish() error { return s.Abort() }

func (s *Folder) Abort() error {
	err := s.closeFile()
	if s.lock != nil {
		err = errors.Join(err, s.lock.Close())
	}
	return err
}

// Recover delivers what is left of a run whose last checkpoint said that it was done.
func (s *Folder) Recover(ctx context.Context, waiting []engine.Shipment) error {
	done, err := s.delivered()
	if err != nil {
		return err
	}
	for _, sh := range waiting {
		if sh.Epoch > done {
			if err := s.Deliver(ctx, sh); err != nil {
				return err
			}
		}
	}
	return nil
}
