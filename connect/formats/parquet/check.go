package parquet

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding/thrift"
	"github.com/parquet-go/parquet-go/format"

	"undertide/connect"
)

// The library believes what a file says of its sizes, and takes memory for it. What a damaged file says may be anything, so all sizes are
// compared with what there is before the library sees them.
const (
	mostFooter = 64 << 20  // bytes of what describes a file
	mostPage   = 256 << 20 // bytes of a page, not packed
	mostValues = 64 << 20  // values of a page
	mostHeader = 64 << 10  // bytes of what describes a page
)

// checkFooter looks at what describes the file, at its end (Parquet, "File Format"): PAR1, columns, the description, its length in four
// bytes, PAR1.
func checkFooter(in connect.Input) error {
	var end [8]byte
	if in.Size < int64(len(end))+4 {
		return errors.New("it is shorter than an empty one")
	}
	if _, err := in.At.ReadAt(end[:], in.Size-8); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if string(end[4:]) != "PAR1" {
		return errors.New("it does not end with PAR1: is it still being written, or was it cut off?")
	}
	size := int64(binary.LittleEndian.Uint32(end[:]))
	if size > in.Size-12 || size > mostFooter {
		return fmt.Errorf("what describes it is said to have %d bytes", size)
	}
	text := make([]byte, size)
	if _, err := in.At.ReadAt(text, in.Size-8-size); err != nil {
		return err
	}
	w := walker{b: text}
	if w.structure(0); w.err != nil {
		return w.err
	}
	return nil
}

// checkPages looks at the descriptions of the pages of a column in a row group.
func checkPages(in io.ReaderAt, size int64, about *format.ColumnMetaData) error {
	at, values := about.DataPageOffset, about.NumValues
	if d := about.DictionaryPageOffset; d > 0 && d < at {
		at = d
	}
	end := at + about.TotalCompressedSize
	if at < 4 || about.TotalCompressedSize < 0 || end > size {
		return fmt.Errorf("it is said to lie at bytes %d to %d", at, end)
	}
	text := make([]byte, 512)
	for at < end {
		h, n, err := pageAt(in, at, end, &text)
		if err != nil {
			return err
		}
		packed, plain := int64(h.CompressedPageSize), int64(h.UncompressedPageSize)
		if at += int64(n); packed < 0 || packed > end-at || plain < 0 || plain > mostPage {
			return fmt.Errorf("a page at byte %d is said to have %d bytes, %d when unpacked", at, packed, plain)
		}
		var has int64
		switch {
		case h.DataPageHeader.Valid:
			has = int64(h.DataPageHeader.V.NumValues)
			values -= has
		case h.DataPageHeaderV2.Valid:
			has = int64(h.DataPageHeaderV2.V.NumValues)
			values -= has
		case h.DictionaryPageHeader.Valid:
			has = int64(h.DictionaryPageHeader.V.NumValues)
		}
		if has < 0 || has > mostValues || values < 0 {
			return fmt.Errorf("a page at byte %d is said to have %d values", at, has)
		}
		at += packed
	}
	return nil
}

// pageAt reads the description of a page, and gives how many bytes that has.
func pageAt(in io.ReaderAt, at, end int64, text *[]byte) (h format.PageHeader, n int, err error) {
	for {
		some := min(int64(len(*text)), end-at)
		if _, err := in.ReadAt((*text)[:some], at); err != nil {
			return h, 0, err
		}
		w := walker{b: (*text)[:some]}
		w.structure(0)
		switch {
		case w.err == nil:
			return h, w.at, thrift.Unmarshal(new(thrift.CompactProtocol), w.b[:w.at], &h)
		case some == end-at || some >= mostHeader:
			return h, 0, fmt.Errorf("what describes a page at byte %d: %w", at, w.err)
		}
		*text = make([]byte, 4*len(*text)) // it may have been cut short
	}
}

// walker goes over a value of Thrift's compact protocol and makes sure that all that it says to have is there: lists have a byte for each
// element at least, and texts their bytes.
type walker struct {
	b   []byte
	at  int
	err error
}

var errDamaged = errors.New("the file is damaged")

func (w *walker) fail() { w.err = errDamaged }

func (w *walker) byte() byte {
	if w.at >= len(w.b) {
		w.fail()
		return 0
	}
	w.at++
	return w.b[w.at-1]
}

func (w *walker) number() uint64 {
	v, n := binary.Uvarint(w.b[w.at:])
	if n <= 0 {
		w.fail()
		return 0
	}
	w.at += n
	return v
}

func (w *walker) skip(n uint64) {
	if n > uint64(len(w.b)-w.at) {
		w.fail()
		return
	}
	w.at += int(n)
}

// structure goes over fields up to the one that ends them.
func (w *walker) structure(depth int) {
	for w.err == nil {
		head := w.byte()
		if head == 0 {
			return
		}
		if head>>4 == 0 { // the field's number follows
			w.number()
		}
		if kind := head & 15; kind > 2 { // 1 and 2 are true and false themselves
			w.value(kind, depth)
		}
	}
}

// value goes over a value of a type, such as one of a list.
func (w *walker) value(kind byte, depth int) {
	if depth > 64 {
		w.fail()
	}
	switch {
	case w.err != nil:
	case kind <= 3:
		w.skip(1)
	case kind <= 6:
		w.number()
	case kind == 7:
		w.skip(8)
	case kind == 8:
		w.skip(w.number())
	case kind == 9 || kind == 10:
		head := w.byte()
		n := uint64(head >> 4)
		if n == 15 {
			n = w.number()
		}
		w.each(n, depth, head&15)
	case kind == 11:
		if n := w.number(); n > 0 {
			head := w.byte()
			w.each(n, depth, head>>4, head&15)
		}
	case kind == 12:
		w.structure(depth + 1)
	default:
		w.fail()
	}
}

// each goes over n elements of these types in turn.
func (w *walker) each(n uint64, depth int, kinds ...byte) {
	if n > uint64(len(w.b)-w.at) {
		w.fail()
	}
	for ; n > 0 && w.err == nil; n-- {
		for _, k := range kinds {
			w.value(k, depth+1)
		}
	}
}

// chunkOf is what a file says of a leaf in a row group.
func chunkOf(f *parquet.File, group, leaf int) (*format.ColumnMetaData, error) {
	groups := f.Metadata().RowGroups
	if group >= len(groups) || leaf >= len(groups[group].Columns) {
		return nil, errDamaged
	}
	return &groups[group].Columns[leaf].MetaData, nil
}
