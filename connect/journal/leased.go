package journal

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"undertide/disk"
)

// On nodes a journal lies in a folder of the lease by which the job is carried out, within that of the source: whoever has lost the lease may write into its
// own still, where nobody looks any more (docs/nodes.md, "What is different on nodes").
//
//	journals/readings/7/00…0100.journal   lease 7: the node that had it acknowledged events up to 140
//	journals/readings/8/00…0100.journal   lease 8 began with a copy; its next event is 141
//
// A copy comes to be under another name first, so that a folder of a number is whole.

const copying = ".copying"

// leasedDir gives the folder of a lease, and makes it of the one before.
func leasedDir(dir string, lease int64) (string, error) {
	own := filepath.Join(dir, strconv.FormatInt(lease, 10))
	if _, err := os.Stat(own); err == nil {
		return own, nil
	}
	aside := own + copying
	if err := os.RemoveAll(aside); err != nil {
		return "", disk.Explain("remove", aside, err)
	}
	if err := os.MkdirAll(aside, 0o700); err != nil {
		return "", disk.Explain("make folder", aside, err)
	}
	before, err := newestLease(dir)
	if err != nil {
		return "", err
	}
	if before != "" {
		if err := copySegments(before, aside); err != nil {
			return "", err
		}
	}
	if err := errors.Join(disk.SyncFolder(nil, aside), os.Rename(aside, own), disk.SyncFolder(nil, dir)); err != nil {
		return "", disk.Explain("make folder", own, err)
	}
	return own, forgetOthers(dir, own)
}

// newestLease gives the folder of the newest lease; without any that of the source itself, where it has segments, as of before there were nodes; else empty.
func newestLease(dir string) (string, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", disk.Explain("read folder", dir, err)
	}
	newest, found := int64(-1), ""
	for _, e := range entries {
		if n, err := strconv.ParseInt(e.Name(), 10, 64); err == nil && e.IsDir() && n > newest {
			newest, found = n, filepath.Join(dir, e.Name())
		}
		if newest < 0 && strings.HasSuffix(e.Name(), ending) {
			found = dir
		}
	}
	return found, nil
}

// copySegments copies a journal: all but its last segment by links, since they are not written any more.
func copySegments(from, to string) error {
	j := &Journal{dir: from}
	if err := j.list(); err != nil {
		return err
	}
	for n, s := range j.segments {
		path, name := j.path(s), filepath.Base(j.path(s))
		if n < len(j.segments)-1 && os.Link(path, filepath.Join(to, name)) == nil {
			continue
		}
		if err := copyFile(path, filepath.Join(to, name)); err != nil {
			return disk.Explain("copy", path, err)
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if errors.Is(err, fs.ErrNotExist) { // let go of meanwhile: a checkpoint has passed it
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// forgetOthers removes the folders of other leases.
func forgetOthers(dir, own string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return disk.Explain("read folder", dir, err)
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		if path == own || !e.IsDir() && !strings.HasSuffix(e.Name(), ending) {
			continue
		}
		if err := os.RemoveAll(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return disk.Explain("remove", path, err)
		}
	}
	return nil
}
