package disk

import (
	"bufio"
	"context"
	"errors"
	"io/fs"
	"os"
)

// Failpoint is asked before each operation of an [Output], and of what stands beside it, that writes; tests make it fail there.
// Nil otherwise.
var Failpoint func(op, path string) error

// Try asks the [Failpoint].
func Try(op, path string) error {
	if Failpoint == nil {
		return nil
	}
	return Failpoint(op, path)
}

// Output is a file being written, through a buffer.
type Output struct {
	File *os.File
	w    *bufio.Writer
}

const outputBuffer = 256 << 10

// OpenForWriting opens a file for writing and keeps what is in it; flags may add to that.
func OpenForWriting(files *Files, path string, flags int) (*Output, error) {
	if err := Try("open", path); err != nil {
		return nil, Explain("write", path, err)
	}
	f, err := files.Create(path, flags)
	if err != nil {
		return nil, Explain("write", path, err)
	}
	o := &Output{File: f}
	o.w = bufio.NewWriterSize(o, outputBuffer)
	return o, nil
}

// Write is what the buffer writes through; callers use Put.
func (o *Output) Write(p []byte) (int, error) {
	if err := Try("write", o.File.Name()); err != nil {
		n, _ := o.File.Write(p[:len(p)/2]) // a fault in the middle; the tests' own error is the one that counts
		return n, err
	}
	return o.File.Write(p)
}

// Put writes into the buffer.
func (o *Output) Put(data []byte) (int, error) {
	n, err := o.w.Write(data)
	if err != nil {
		return n, Explain("write", o.File.Name(), err)
	}
	return n, nil
}

// Flush lets readers see what was put.
func (o *Output) Flush() error {
	if err := o.w.Flush(); err != nil {
		return Explain("write", o.File.Name(), err)
	}
	return nil
}

// Sync makes what was put durable.
func (o *Output) Sync() error {
	if err := o.Flush(); err != nil {
		return err
	}
	if err := errors.Join(Try("sync", o.File.Name()), o.File.Sync()); err != nil {
		return Explain("write", o.File.Name(), err)
	}
	return nil
}

// Close closes the file; what was put and not flushed is lost.
func (o *Output) Close() error {
	if err := errors.Join(Try("close", o.File.Name()), o.File.Close()); err != nil {
		return Explain("write", o.File.Name(), err)
	}
	return nil
}

// Remove removes a file; one that is not there is as good.
func Remove(files *Files, path string) error {
	if err := Try("remove", path); err != nil {
		return Explain("remove", path, err)
	}
	if err := files.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Explain("remove", path, err)
	}
	return nil
}

// Rename gives a file another name in its folder, as [Files.Rename].
func Rename(files *Files, from, to string) error {
	if err := Try("rename", to); err != nil {
		return err
	}
	return files.Rename(from, to)
}

// SyncFolder makes the names in a folder last.
func SyncFolder(files *Files, dir string) error {
	if err := Try("sync folder", dir); err != nil {
		return Explain("sync folder", dir, err)
	}
	d, err := files.Open(context.Background(), dir) // a folder does not wait
	if err != nil {
		return Explain("open", dir, err)
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil {
		return Explain("sync folder", dir, err)
	}
	return nil
}

// ReplaceFile writes a small file so that it is whole under its name or not there.
func ReplaceFile(files *Files, path string, text []byte) error {
	o, err := OpenForWriting(files, path+".part", os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = o.Put(text)
	if err := errors.Join(err, o.Sync(), o.Close()); err != nil {
		return err
	}
	if err := Rename(files, path+".part", path); err != nil {
		return Explain("rename to", path, err)
	}
	return nil
}
