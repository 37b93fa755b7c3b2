package file

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"

	"undertide/connect"
	"undertide/disk"
)

// Files of some formats are no lines, and end with what describes all of them (connect.Packer): nothing can be cut off at their end. While one
// file is written over many checkpoints, its rows therefore lie aside, one piece behind the other: how many rows, how many bytes, and these. They
// are packed when the run finishes. Files of a folder are written within an epoch each, and packed at once.

// appendPiece frames rows that lie aside.
func appendPiece(dst, rows []byte, n int) []byte {
	dst = binary.AppendUvarint(binary.AppendUvarint(dst, uint64(n)), uint64(len(rows)))
	return append(dst, rows...)
}

// mostPiece bounds what a piece may say that it has; a sink's block is far smaller.
const mostPiece = 1 << 30

// packAside packs the rows that lie in a file into another one, synced.
func packAside(o Output, from, to string) error {
	in, err := o.Files.Open(context.Background(), from)
	if err != nil {
		return disk.Explain("open", from, err)
	}
	defer in.Close()
	out, err := disk.OpenForWriting(o.Files, to, os.O_TRUNC)
	if err != nil {
		return err
	}
	if err := sameRights(in, out.File); err != nil {
		return errors.Join(disk.Explain("write", to, err), out.Close())
	}
	err = packPieces(bufio.NewReaderSize(in, 1<<20), o.Format.Pack(putter{out}, o.Schema), from)
	return errors.Join(err, out.Sync(), out.Close())
}

// sameRights gives a file the owner and rights of another one.
func sameRights(as, to *os.File) error {
	st, err := as.Stat()
	if err != nil {
		return err
	}
	if sys, ok := st.Sys().(*syscall.Stat_t); ok && int(sys.Uid) != os.Geteuid() {
		if err := to.Chown(int(sys.Uid), int(sys.Gid)); err != nil {
			return err
		}
	}
	return to.Chmod(st.Mode().Perm())
}

func packPieces(in *bufio.Reader, to connect.Packer, from string) error {
	var piece []byte
	for {
		n, err := binary.ReadUvarint(in)
		if errors.Is(err, io.EOF) {
			return to.Close()
		}
		size, err2 := binary.ReadUvarint(in)
		if err = errors.Join(err, err2); err != nil || size > mostPiece {
			return fmt.Errorf("%s is damaged: a piece of %d rows has %d bytes (%w); begin anew with an empty checkpoint folder", from, n, size, err)
		}
		if uint64(cap(piece)) < size {
			piece = make([]byte, size)
		}
		piece = piece[:size]
		if _, err := io.ReadFull(in, piece); err != nil {
			return disk.Explain("read", from, err)
		}
		if err := to.Write(piece, int(n)); err != nil {
			return err
		}
	}
}

// putter writes to a file.
type putter struct{ to *disk.Output }

func (p putter) Write(b []byte) (int, error) { return p.to.Put(b) }

// removeAside removes the rows that lay aside, once they are packed.
func removeAside(files *disk.Files, path string) error {
	if err := disk.Remove(files, path); err != nil {
		return err
	}
	return disk.SyncFolder(files, filepath.Dir(path))
}
