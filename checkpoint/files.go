package checkpoint

import (
	"io"
	"os"
)

// FS is the little of a file system that checkpoints need, so that tests can make any operation fail
// and take copies as after a crash. [Disk] is the real one.
type FS interface {
	MkdirAll(dir string) error
	// Create makes or empties a file. What was written lasts only once Sync has returned.
	Create(path string) (File, error)
	ReadFile(path string) ([]byte, error)
	// ReadDir gives the names in a folder, sorted.
	ReadDir(dir string) ([]string, error)
	Rename(from, to string) error
	RemoveAll(path string) error
	// SyncDir makes the names in a folder last.
	SyncDir(dir string) error
}

// File is a file being written.
type File interface {
	io.Writer
	Sync() error
	Close() error
}

// Disk is the file system of the machine.
type Disk struct{}

func (Disk) MkdirAll(dir string) error { return os.MkdirAll(dir, 0o700) }
func (Disk) Create(path string) (File, error) {
	return os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
}

func (Disk) ReadFile(path string) ([]byte, error) { return os.ReadFile(path) }
func (Disk) Rename(from, to string) error         { return os.Rename(from, to) }
func (Disk) RemoveAll(path string) error          { return os.RemoveAll(path) }
func (Disk) ReadDir(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, nil
}

func (Disk) SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	err = d.Sync()
	if e := d.Close(); err == nil {
		err = e
	}
	return err
}
