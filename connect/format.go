package connect

import (
	"io"
	"path/filepath"
	"slices"
	"strings"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
)

// Format is how events are written as bytes: what documents name in `decode` and `encode`.
type Format struct {
	Name    string // json
	Title   string // as plans name it of files: NDJSON
	About   string
	Endings []string // of files that are of it: .ndjson
	// Header: the first record of a file names the columns. Quote: records may hold newlines between two of it (0xff: they hold none, and
	// white space around them is theirs); 0 where an event is a line of a file.
	Header bool
	Quote  byte
	// Untyped: all values are texts, whatever they look like.
	Untyped bool
	// ForPeople: it is only written, where people read, and documents do not name it.
	ForPeople bool
	// Decode makes new settings of decoding; nil where it is only written. Those of them that a document has to give
	// stand beside `decode`.
	Decode func() Decoding
	// Encode makes an encoder; nil where it is only read. Head gives what stands once before all rows; nil for nothing.
	Encode func(row.Schema) engine.Encoder
	Head   func(row.Schema) []byte
	// Open opens a file whose events are no lines, at its beginning; nil where they are. Such a file is not followed.
	Open func(in Input) (Container, error)
	// Pack begins a file whose rows are no lines; nil where they are. What the encoder gave is packed by it.
	Pack func(out io.Writer, s row.Schema) Packer
	// Schema gives the schema of rows, by which messages are written that name it in a registry; nil where messages say all themselves.
	Schema func(name string, s row.Schema) string
	// Guess reads a sample without a document; nil where it is never guessed.
	Guess func(s Sample) Guessed
}

// Input is a file that is opened.
type Input struct {
	io.Reader
	// At reads anywhere within the Size bytes of the file; nil where it is read once, such as a pipe.
	At   io.ReaderAt
	Size int64
	// Fields are those that are read; none for all.
	Fields codec.Fields
}

// Container is an open file whose events are no lines.
type Container interface {
	// Header is given with each chunk, for the decoder.
	Header() []byte
	// Next appends events to the chunk, some hundreds or thousands at a time; io.EOF where there are no more.
	Next(c *engine.Chunk) error
}

// Columned is a container that is read by columns.
type Columned interface {
	Container
	// Skip passes over the next n events before the first is read; io.EOF where there are fewer.
	Skip(n int64) error
	// Text gives an event as people read it.
	Text(event []byte) []byte
	// Done is the share of the events that was given, from 0 to 1.
	Done() float64
	// Close gives back what reading took.
	Close()
}

// Packer packs encoded rows into a file. After an error it is of no use.
type Packer interface {
	// Write packs n rows, whole ones; they are not kept.
	Write(rows []byte, n int) error
	// Size is how many bytes the file has so far, with what waits to be written.
	Size() int64
	// Close writes what ends the file.
	Close() error
}

// Shaping is a decoding by whose settings files are cut otherwise than the format says.
type Shaping interface {
	Shape(f Format) Format
}

// Describing is a decoding that knows the fields of the events: a document then need not write them.
type Describing interface {
	Described() (codec.Fields, error)
}

// Decoding are the settings of decoding, a pointer to a described struct whose settings all stand beside `decode`.
type Decoding interface {
	Check(c *Checker)
	// Decoder makes a decoder; it serves one goroutine.
	Decoder(fields codec.Fields) engine.Decoder
}

// Guessed is how a sample reads in a format.
type Guessed struct {
	// Share is how many of its events read, from 0 to 1; what any text reads as says less than 1.
	Share   float64
	Reading Reading
	Doubts  []string
	// Settings are what a document gives beside `decode`, by name.
	Settings map[string]string
	// Types are those of fields that are known, by their paths; others are guessed from the values.
	Types map[string]string
}

// Reading takes events apart without a schema.
type Reading interface {
	// Values gives the values of an event in the order in which they are written, those of nested objects by their
	// paths: nil, bool, json.Number, string, or []any of a list.
	Values(event []byte) ([]Value, error)
}

// Piecing is a decoding or reading that knows which pieces of an event's text its fields are of.
type Piecing interface {
	// Pieces gives the whole text in pieces, in order; none where it does not read.
	Pieces(event []byte) []Piece
}

// Piece is a piece of an event's text.
type Piece struct {
	Text  string `json:"text"`
	Field string `json:"field"` // the column or group that it is of; empty for what lies between
}

// Value is one value of an event.
type Value struct {
	Path string // names with dots between
	V    any
}

// Formats gives all formats, in the order of the list.
func Formats() []*Format { return slices.Clone(formats) }

// FormatNamed gives a format by its name; nil for none.
func FormatNamed(name string) *Format {
	for _, f := range formats {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Packings are the endings of names of files that are packed, behind that of their format: x.ndjson.gz.
var Packings = []string{".gz", ".zst"}

// Unpacked gives a file's name without the ending that says that it is packed.
func Unpacked(path string) string {
	if slices.Contains(Packings, filepath.Ext(path)) {
		return strings.TrimSuffix(path, filepath.Ext(path))
	}
	return path
}

// FormatOf gives the format that a file's name ends in; nil where it tells none.
func FormatOf(path string) *Format {
	path = Unpacked(path)
	for _, f := range formats {
		if slices.Contains(f.Endings, filepath.Ext(path)) {
			return f
		}
	}
	return nil
}

// FormatNames gives the names of the formats that documents may decode, or encode.
func FormatNames(encode bool) (out []string) {
	for _, f := range formats {
		if encode && f.Encode != nil && !f.ForPeople || !encode && f.Decode != nil {
			out = append(out, f.Name)
		}
	}
	return out
}

// DefaultFormat is the one that counts where nothing is said: the first of the list.
func DefaultFormat() *Format { return formats[0] }
