package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/memory"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
)

// toyKind is a kind of connector of a test's own: books, the files of a shelf, which is a folder that a connection
// names.
var toyKind = &connect.Kind{
	Name: "shelf", Noun: "book", About: "books of a shelf",
	Source: func() connect.Source { return &toySource{} },
	Sink:   func() connect.Sink { return &toySink{} },
	Link:   func() connect.Link { return &toyLink{} },
	AtStream: func(c *connect.Connection, book string) (connect.Source, error) {
		return &toySource{Shelf: c, Book: book}, nil
	},
	SinkExample: connect.Example{Name: "book", About: "a book of a shelf", Lines: "via: shelf\nwith: {shelf: CONNECTION, book: TOPIC}"},
}

type toyLink struct {
	Folder settings.PathText   `set:"folder,required" about:"Where the books stand."`
	Reader settings.SecretText `set:"reader" about:"Who reads them."`
	Light  string              `set:"light" choices:"lamp,sun" first:"sun"`
}

func (l *toyLink) Check(c *connect.Checker) {
	if filepath.Base(string(l.Folder)) == "disk" {
		c.Fault("a whole disk is not a shelf", "name a folder", "folder")
	}
}

func (l *toyLink) Words() connect.LinkWords {
	return connect.LinkWords{Reaches: string(l.Folder), Way: "by " + l.Light, SignIn: "nobody signs in"}
}

func (l *toyLink) Look(string) (connect.Looker, error) { return &toyLooker{string(l.Folder)}, nil }

type toyLooker struct{ folder string }

func (l *toyLooker) Close() {}

func (l *toyLooker) Try(_ context.Context, book string) []connect.Step {
	out := []connect.Step{{Name: "shelf seen", State: "yes", Text: l.folder}, {Name: "book seen", State: "not asked", Needs: connect.ByReading}}
	if book != "" {
		out[1].State = "yes"
		if _, err := os.Stat(filepath.Join(l.folder, book)); err != nil {
			out[1].State, out[1].Text = "no", err.Error()
		}
	}
	return out
}

func (l *toyLooker) Streams(context.Context) (out []connect.Stream, err error) {
	books, err := os.ReadDir(l.folder)
	for _, b := range books {
		out = append(out, connect.Stream{Name: b.Name(), Partitions: 1, Bytes: -1, Retention: -1})
	}
	return out, err
}

type toySource struct {
	Shelf *connect.Connection `set:"shelf,required" label:"connection"`
	Book  string              `set:"book,required"`
	Pages int64               `set:"pages" least:"1" most:"1000" about:"Of which so many are read at most."`
}

func (s *toySource) Check(c *connect.Checker) {
	if strings.Contains(s.Book, "/") {
		c.Fault("a book stands on its shelf", "name it without folders", "book")
	}
}

func (s *toySource) Reads(f *connect.Format) string {
	return connect.StreamText(s) + ", " + f.Name
}
func (s *toySource) Unbounded() bool                       { return false }
func (s *toySource) Stream() (*connect.Connection, string) { return s.Shelf, s.Book }

func path(c *connect.Connection, book string) string {
	return filepath.Join(string(c.Link.(*toyLink).Folder), book)
}

func (s *toySource) Document() connect.Origin {
	with := func(book string) string {
		return "via: shelf\nwith: {shelf: " + s.Shelf.Name + ", book: " + connect.Quoted(book) + "}"
	}
	return connect.Origin{Name: s.Book, Once: true, Source: with(s.Book), Sink: func(_, suffix, _ string) string { return with(s.Book + "-" + suffix) }}
}

func (s *toySource) partition() (*memory.Partition, error) {
	text, err := os.ReadFile(path(s.Shelf, s.Book))
	if err != nil {
		return nil, fmt.Errorf("%w %s", connect.ErrNoStream, s.Book)
	}
	return &memory.Partition{Called: s.Book, Events: strings.Split(strings.TrimSpace(string(text)), "\n"), Turn: row.MaxRows, Ends: true}, nil
}

func (s *toySource) Open(context.Context, connect.Opening) (connect.Opened, error) {
	p, err := s.partition()
	return connect.Opened{Partitions: []engine.Partition{p}}, err
}

func (s *toySource) Sample(ctx context.Context, _ connect.Opening, o connect.Sampling) (out connect.Sample, err error) {
	p, err := s.partition()
	if err != nil {
		return out, err
	}
	return out, connect.Drain(ctx, p, o.Rows, &out)
}

type toySink struct {
	Shelf *connect.Connection `set:"shelf,required"`
	Book  string              `set:"book,required"`
	Cover string              `set:"cover,beside" choices:"red,blue" about:"Its colour."`
}

func (s *toySink) Check(*connect.Checker)                {}
func (s *toySink) Atomic() bool                          { return true }
func (s *toySink) Stream() (*connect.Connection, string) { return s.Shelf, s.Book }
func (s *toySink) Place(string, bool) string             { return connect.StreamText(s) }

func (s *toySink) Words(f *connect.Format, _ row.Schema, _ connect.Delivering) connect.SinkWords {
	return connect.SinkWords{Writes: f.Title + " into " + connect.StreamText(s), Delivery: "exactly once, when the book is closed"}
}

func (s *toySink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	return &toyBook{path: path(s.Shelf, s.Book), format: o.Format}, nil
}

// toyBook keeps all rows until it is closed.
type toyBook struct {
	memory.Sink
	path   string
	format *connect.Format
}

func (b *toyBook) NewEncoder(s row.Schema) engine.Encoder { return b.format.Encode(s) }
func (b *toyBook) Finish() error                          { return os.WriteFile(b.path, b.Rows(), 0o644) }

func (b *toyBook) Probe() error {
	if _, err := os.Stat(filepath.Dir(b.path)); err != nil {
		return errors.New("there is no such shelf; make the folder")
	}
	return nil
}

func init() {
	connect.Register(toyKind)
	connect.RegisterFormat(toyFormat)
	if !slices.Contains(connect.FormatNames(true), "pairs") {
		panic("the format is not in the list")
	}
}
