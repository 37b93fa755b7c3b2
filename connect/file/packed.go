package file

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path/filepath"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"undertide/connect"
	"undertide/disk"
)

// isPacked says whether a file's name says that it is packed.
func isPacked(path string) bool { return connect.Unpacked(path) != path }

// unpacked gives what a file holds.
func unpacked(path string, in io.Reader) (io.Reader, error) {
	switch filepath.Ext(path) {
	case ".gz":
		return gzip.NewReader(in)
	case ".zst":
		return zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30)) // one at a time has nothing to close
	}
	return in, nil
}

// unpack begins to unpack the file at hand.
func (p *Partition) unpack() (err error) {
	p.plain = nil
	if isPacked(p.path) {
		if p.plain, err = unpacked(p.path, p.f); err != nil {
			return p.cannotUnpack(err)
		}
	}
	return nil
}

func (p *Partition) cannotUnpack(err error) error { return cannotUnpack(p.path, err) }

func cannotUnpack(path string, err error) error {
	why := err.Error()
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		why = "it ends too early: is it still being written, or was it cut off?"
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, zstd.ErrMagicMismatch):
		why = "it is not packed as its name says; rename it, or pack it"
	}
	return fmt.Errorf("unpack %s: %s", path, why)
}

// again unpacks the file from its beginning once more: its header has been read.
func (p *Partition) again(at place) (tail []byte, stands bool, err error) {
	if _, err := p.f.Seek(0, io.SeekStart); err != nil {
		return nil, false, disk.Explain("read", p.path, err)
	}
	if err := p.unpack(); err != nil {
		return nil, false, err
	}
	return p.passOver(at)
}

// passOver goes to a place in what the file holds, and gives the text before it.
func (p *Partition) passOver(at place) (tail []byte, stands bool, err error) {
	if _, err := io.CopyN(io.Discard, p.plain, at.Byte-int64(at.Len)); err != nil && !errors.Is(err, io.EOF) {
		return nil, false, p.cannotUnpack(err)
	}
	tail = make([]byte, at.Len)
	_, err = io.ReadFull(p.plain, tail)
	return tail, err == nil && crc32.ChecksumIEEE(tail) == at.Tail, nil
}
