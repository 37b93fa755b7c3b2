package avro

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/hamba/avro/v2"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/snappy"
	"github.com/klauspost/compress/zstd"

	"undertide/connect"
	"undertide/core/engine"
)

func init() { Format.Open = open } // which names Format's own parts

// container is an object container file (Avro 1.12, "Object Container Files"): a header with the schema, then blocks of records.
type container struct {
	in     *bufio.Reader
	header []byte
	codec  string
	sync   [16]byte
	skip   func(p *reading)
	block  int // number of the next one, from 1
	packed []byte
	plain  []byte
}

const (
	magic = "Obj\x01"
	// mostBlock bounds a block, packed or not.
	mostBlock = 256 << 20
)

// open reads the header.
func open(in connect.Input) (connect.Container, error) {
	c := &container{in: bufio.NewReaderSize(in, 64<<10), block: 1, codec: "null"}
	start := make([]byte, len(magic))
	if _, err := io.ReadFull(c.in, start); err != nil || string(start) != magic {
		return nil, errors.New("it is not an Avro object container file: it does not begin with Obj and 1")
	}
	for {
		n, err := binary.ReadVarint(c.in)
		if err != nil {
			return nil, fmt.Errorf("its header is cut short: %w", err)
		}
		if n == 0 {
			break
		}
		if n < 0 { // the size follows
			n = -n
			if _, err := binary.ReadVarint(c.in); err != nil {
				return nil, fmt.Errorf("its header is cut short: %w", err)
			}
		}
		for ; n > 0; n-- {
			name, err := c.text()
			if err != nil {
				return nil, err
			}
			value, err := c.text()
			if err != nil {
				return nil, err
			}
			switch string(name) {
			case "avro.schema":
				c.header = value
			case "avro.codec":
				c.codec = string(value)
			}
		}
	}
	if _, err := io.ReadFull(c.in, c.sync[:]); err != nil {
		return nil, fmt.Errorf("its header is cut short: %w", err)
	}
	schema, err := parse(string(c.header))
	if err != nil {
		return nil, fmt.Errorf("its schema: %w", err)
	}
	c.skip = (&compiler{skips: map[string]*func(p *reading){}}).record(actual(schema).(*avro.RecordSchema), nil)
	return c, nil
}

// text reads bytes of the header.
func (c *container) text() ([]byte, error) {
	n, err := binary.ReadVarint(c.in)
	if err == nil && (n < 0 || n > mostSchema) {
		err = fmt.Errorf("a text of %d bytes", n)
	}
	if err != nil {
		return nil, fmt.Errorf("its header cannot be read: %w", err)
	}
	out := make([]byte, n)
	if _, err := io.ReadFull(c.in, out); err != nil {
		return nil, fmt.Errorf("its header is cut short: %w", err)
	}
	return out, nil
}

// Header implements [connect.Container]: the schema.
func (c *container) Header() []byte { return c.header }

// Next appends the records of the next block.
func (c *container) Next(to *engine.Chunk) error {
	if _, err := c.in.Peek(1); errors.Is(err, io.EOF) {
		return io.EOF
	}
	if err := c.next(to); err != nil {
		return fmt.Errorf("block %d: %w", c.block, err)
	}
	c.block++
	return nil
}

func (c *container) next(to *engine.Chunk) error {
	count, err := binary.ReadVarint(c.in)
	if err != nil {
		return fmt.Errorf("it is cut short: %w", err)
	}
	size, err := binary.ReadVarint(c.in)
	if err != nil {
		return fmt.Errorf("it is cut short: %w", err)
	}
	if count < 0 || size < 0 || size > mostBlock {
		return fmt.Errorf("it says that it has %d records in %d bytes", count, size)
	}
	if c.packed, err = fill(c.packed[:0], c.in, int(size)); err != nil {
		return err
	}
	var sync [16]byte
	if _, err := io.ReadFull(c.in, sync[:]); err != nil {
		return fmt.Errorf("it is cut short: %w", err)
	}
	if sync != c.sync {
		return errors.New("the file's mark does not stand behind it: the file is damaged")
	}
	plain, err := c.unpack()
	if err != nil {
		return err
	}
	return c.split(to, plain, count)
}

// fill reads n bytes, and takes no more memory at a time than there is to be read.
func fill(dst []byte, in io.Reader, n int) ([]byte, error) {
	for len(dst) < n {
		from := len(dst)
		dst = append(dst, make([]byte, min(n-from, 1<<20))...)
		if _, err := io.ReadFull(in, dst[from:]); err != nil {
			return dst, fmt.Errorf("it is cut short: %w", err)
		}
	}
	return dst, nil
}

// unpack gives the block's records.
func (c *container) unpack() ([]byte, error) {
	switch c.codec {
	case "null", "":
		return c.packed, nil
	case "deflate":
		return c.read(flate.NewReader(bytes.NewReader(c.packed)))
	case "zstandard":
		r, err := zstd.NewReader(bytes.NewReader(c.packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostBlock))
		if err != nil {
			return nil, err
		}
		defer r.Close()
		return c.read(r)
	case "snappy":
		if len(c.packed) < 4 {
			return nil, errors.New("it is cut short")
		}
		body, sum := c.packed[:len(c.packed)-4], binary.BigEndian.Uint32(c.packed[len(c.packed)-4:])
		if n, err := snappy.DecodedLen(body); err != nil || n > mostBlock {
			return nil, errors.New("it cannot be unpacked by snappy")
		}
		plain, err := snappy.Decode(c.plain[:cap(c.plain)], body)
		if err != nil {
			return nil, fmt.Errorf("it cannot be unpacked: %w", err)
		}
		if c.plain = plain; crc32.ChecksumIEEE(plain) != sum {
			return nil, errors.New("its checksum is another: the file is damaged")
		}
		return plain, nil
	}
	return nil, fmt.Errorf("it is packed by %s, which is not read; null, deflate, snappy and zstandard are", c.codec)
}

func (c *container) read(in io.Reader) ([]byte, error) {
	out := bytes.NewBuffer(c.plain[:0])
	n, err := io.Copy(out, io.LimitReader(in, mostBlock+1))
	if err != nil {
		return nil, fmt.Errorf("it cannot be unpacked: %w", err)
	}
	if n > mostBlock {
		return nil, fmt.Errorf("it has more than %d MiB unpacked", mostBlock>>20)
	}
	c.plain = out.Bytes()
	return c.plain, nil
}

// split finds where each record ends.
func (c *container) split(to *engine.Chunk, plain []byte, count int64) error {
	if count > int64(len(plain)) && count > 1 { // records of no bytes tell nothing
		return fmt.Errorf("it says that it has %d records in %d bytes", count, len(plain))
	}
	base := uint32(len(to.Raw))
	to.Raw = append(to.Raw, plain...)
	var r reading
	r.reset(plain)
	for n := range count {
		from := r.at
		r.items, r.depth = mostItems, 0
		if c.skip(&r); r.err != nil {
			return fmt.Errorf("record %d: %w", n+1, r.err)
		}
		to.Starts, to.Ends = append(to.Starts, base+uint32(from)), append(to.Ends, base+uint32(r.at))
	}
	if r.at < len(plain) {
		return fmt.Errorf("%d bytes are left behind its last record", len(plain)-r.at)
	}
	return nil
}
