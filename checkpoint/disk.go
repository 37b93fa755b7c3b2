package checkpoint

import (
	"errors"
	"os"

	"github.com/cockroachdb/pebble/v2/vfs"
)

// Disk is the file system of the machine, on which files and folders are their owner's alone (docs/security.md). Tests
// have one that makes any operation fail.
var Disk vfs.FS = private{vfs.Default}

type private struct{ vfs.FS }

const (
	ownFile   os.FileMode = 0o600
	ownFolder os.FileMode = 0o700
)

// Create implements [vfs.FS], as do the methods below. The folder that the file comes into is the owner's alone already.
func (p private) Create(name string, category vfs.DiskWriteCategory) (vfs.File, error) {
	f, err := p.FS.Create(name, category)
	return own(f, name, err)
}

func (p private) OpenReadWrite(name string, category vfs.DiskWriteCategory, opts ...vfs.OpenOption) (vfs.File, error) {
	f, err := p.FS.OpenReadWrite(name, category, opts...)
	return own(f, name, err)
}

func (p private) ReuseForWrite(old, name string, category vfs.DiskWriteCategory) (vfs.File, error) {
	f, err := p.FS.ReuseForWrite(old, name, category)
	return own(f, name, err)
}

func own(f vfs.File, name string, err error) (vfs.File, error) {
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(name, ownFile); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func (p private) MkdirAll(dir string, _ os.FileMode) error { return p.FS.MkdirAll(dir, ownFolder) }
