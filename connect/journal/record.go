package journal

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"time"
)

// record is the events of one append. On the disk, in little endian:
//
//	0   length of what follows the checksum, 4 bytes
//	4   its checksum, CRC-32C, 4 bytes
//	8   number of the first event, 8 bytes
//	16  when it was taken, in microseconds since 1970, 8 bytes
//	24  how many events, 4 bytes
//	28  length of the key, 2 bytes; then the key
//	then for each event its length, 4 bytes, and its bytes
type record struct {
	first  int64
	at     time.Time
	key    string
	events int

	body []byte // the events, with their lengths
	size int64  // on the disk
}

const (
	prefix = 8
	head   = 22 // from the number of the first event up to the key
	// MostKey and MostBytes bound a key and a record.
	MostKey   = 1 << 10
	MostBytes = 256 << 20
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// errBroken: what stands there is no whole record.
var errBroken = errors.New("no whole record")

// encode appends the record of these events.
func (r *record) encode(dst []byte, events [][]byte) []byte {
	from := len(dst)
	dst = append(dst, make([]byte, prefix)...)
	dst = binary.LittleEndian.AppendUint64(dst, uint64(r.first))
	dst = binary.LittleEndian.AppendUint64(dst, uint64(r.at.UnixMicro()))
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(events)))
	dst = binary.LittleEndian.AppendUint16(dst, uint16(len(r.key)))
	dst = append(dst, r.key...)
	for _, e := range events {
		dst = append(binary.LittleEndian.AppendUint32(dst, uint32(len(e))), e...)
	}
	body := dst[from+prefix:]
	binary.LittleEndian.PutUint32(dst[from:], uint32(len(body)))
	binary.LittleEndian.PutUint32(dst[from+4:], crc32.Checksum(body, castagnoli))
	return dst
}

// split appends the events to dst; they are parts of the record.
func (r *record) split(dst [][]byte) ([][]byte, error) {
	rest := r.body
	for range r.events {
		if len(rest) < 4 {
			return dst, errBroken
		}
		n := int(binary.LittleEndian.Uint32(rest))
		if rest = rest[4:]; n > len(rest) {
			return dst, errBroken
		}
		dst, rest = append(dst, rest[:n:n]), rest[n:]
	}
	if len(rest) > 0 {
		return dst, fmt.Errorf("%w: %d bytes are left", errBroken, len(rest))
	}
	return dst, nil
}

// records reads one after another.
type records struct {
	in  *bufio.Reader
	at  int64 // bytes that were read
	buf []byte
}

func newRecords(in io.Reader) *records { return &records{in: bufio.NewReaderSize(in, 256<<10)} }

// next gives the next record, which lasts until the call after; io.EOF at the end, and an error that wraps errBroken where a record is cut
// short or is not as it was written.
func (r *records) next() (rec record, err error) {
	var p [prefix]byte
	switch _, err := io.ReadFull(r.in, p[:]); {
	case errors.Is(err, io.EOF):
		return rec, io.EOF
	case errors.Is(err, io.ErrUnexpectedEOF):
		return rec, fmt.Errorf("%w: it is cut short", errBroken)
	case err != nil:
		return rec, err
	}
	n, sum := int(binary.LittleEndian.Uint32(p[:])), binary.LittleEndian.Uint32(p[4:])
	if n < head || n > MostBytes {
		return rec, fmt.Errorf("%w: its length is %d", errBroken, n)
	}
	if err := r.fill(n); err != nil {
		return rec, err
	}
	b := r.buf
	if crc32.Checksum(b, castagnoli) != sum {
		return rec, fmt.Errorf("%w: its checksum is another", errBroken)
	}
	key := int(binary.LittleEndian.Uint16(b[20:]))
	if head+key > n {
		return rec, fmt.Errorf("%w: its key ends behind it", errBroken)
	}
	r.at += int64(prefix + n)
	return record{first: int64(binary.LittleEndian.Uint64(b)), at: time.UnixMicro(int64(binary.LittleEndian.Uint64(b[8:]))), events: int(binary.LittleEndian.Uint32(b[16:])),
		key: string(b[head : head+key]), body: b[head+key:], size: int64(prefix + n)}, nil
}

// fill reads n bytes, and takes no more memory at a time than there is to be read.
func (r *records) fill(n int) error {
	r.buf = r.buf[:0]
	for len(r.buf) < n {
		from := len(r.buf)
		r.buf = append(r.buf, make([]byte, min(n-from, 1<<20))...)
		if _, err := io.ReadFull(r.in, r.buf[from:]); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return fmt.Errorf("%w: it is cut short", errBroken)
			}
			return err
		}
	}
	return nil
}
