package file

import (
	"bufio"
	"context"
	"errors"
	"os"

	"undertide/disk"
)

// failpoint is asked before each operation that writes; tests make it fail there. Nil otherwise.
var failpoint func(op, path string) error

func try(op, path string) error {
	if failpoint == nil {
		return nil
	}
	return failpoint(op, path)
}

// output is a file being written, through a buffer.
type output struct {
	f *os.File
	w *bufio.Writer
}

const outputBuffer = 256 << 10

// openOutput opens a file for writing and keeps what is in it; flags may add to that.
func openOutput(files *disk.Files, path string, flags int) (*output, error) {
	if err := try("open", path); err != nil {
		return nil, disk.Explain("write", path, err)
	}
	f, err := files.Create(path, flags)
	if err != nil {
		return nil, disk.Explain("write", path, err)
	}
	o := &output{f: f}
	o.w = bufio.NewWriterSize(o, outputBuffer)
	return o, nil
}

// Write is what the buffer writes through; callers use put.
func (o *output) Write(p []byte) (int, error) {
	if err := try("write", o.f.Name()); err != nil {
		n, _ := o.f.Write(p[:len(p)/2]) // a fault in the middle; the tests' own error is the one that counts
		return n, err
	}
	return o.f.Write(p)
}

func (o *output) put(data []byte) (int, error) {
	n, err := o.w.Write(data)
	if err != nil {
		return n, disk.Explain("write", o.f.Name(), err)
	}
	return n, nil
}

func (o *output) flush() error {
	if err := o.w.Flush(); err != nil {
		return disk.Explain("write", o.f.Name(), err)
	}
	return nil
}

// sync makes what was put durable.
func (o *output) sync() error {
	if err := o.flush(); err != nil {
		return err
	}
	if err := errors.Join(try("sync", o.f.Name()), o.f.Sync()); err != nil {
		return disk.Explain("write", o.f.Name(), err)
	}
	return nil
}

func (o *output) close() error {
	if err := errors.Join(try("close", o.f.Name()), o.f.Close()); err != nil {
		return disk.Explain("write", o.f.Name(), err)
	}
	return nil
}

func rename(files *disk.Files, from, to string) error {
	if err := try("rename", to); err != nil {
		return err
	}
	return files.Rename(from, to)
}

// syncFolder makes the names in a folder last.
func syncFolder(files *disk.Files, dir string) error {
	if err := try("sync folder", dir); err != nil {
		return disk.Explain("sync folder", dir, err)
	}
	d, err := files.Open(context.Background(), dir) // a folder does not wait
	if err != nil {
		return disk.Explain("open", dir, err)
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil {
		return disk.Explain("sync folder", dir, err)
	}
	return nil
}

// replaceFile writes a small file so that it is whole under its name or not there.
func replaceFile(files *disk.Files, path string, text []byte) error {
	o, err := openOutput(files, path+".part", os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = o.put(text)
	if err := errors.Join(err, o.sync(), o.close()); err != nil {
		return err
	}
	if err := rename(files, path+".part", path); err != nil {
		return disk.Explain("rename to", path, err)
	}
	return nil
}
