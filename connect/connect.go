// Package connect says what a kind of connector and what a format is, and keeps the list of those that there are. A
// kind is a folder of its own (connect/file, connect/kafka …) that has all of it: the described settings of sources,
// sinks and connections (package settings), reading and writing, sampling, following, listing and testing. A format is
// a folder of connect/formats. Whoever reads documents, runs jobs or shows forms asks the list and knows no name
// (docs/architecture.md, "A connector is a room of its own"); connect/all fills it.
package connect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"

	"undertide/connect/codec"
	"undertide/connect/settings"
	"undertide/core/crossing"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/disk"
)

// Kind is a kind of connector.
type Kind struct {
	// Name is what documents say as `via`. Noun is what a source or sink of it reaches, for people: topic, file.
	Name, Noun string
	About      string // one line, for forms
	// Source, Sink and Link make new settings with their defaults, each a pointer to a described struct. One is nil
	// where the kind has none: what cannot be read, or written, or needs no connection.
	Source func() Source
	Sink   func() Sink
	Link   func() Link
	// Reference makes settings of what is read whole, by key; nil where the kind has none. Sources that can be are their own.
	Reference func() Source
	// AtPath and ToPath give the source and sink of a path in the working folder, in the one kind that has paths.
	AtPath func(path string) Source
	ToPath func(path string) Sink
	// Lists says that connections can list their streams: their lookers are Listers.
	Lists bool
	// AtStream gives the source of a stream of a connection, such as a topic; nil where connections have none.
	AtStream func(c *Connection, stream string) (Source, error)
	// Cross gives how the rows of a spread job cross by a stream of a connection, which is made and removed with the job; nil where they cannot.
	Cross func(c *Connection, x Crossing) (to Sink, from Source)
	// SourceExample is how a new source begins, without its fields. Examples are texts for `with` and what else stands beside `via`, for new parts of documents. In them CONNECTION,
	// TOPIC and NAME stand for what the document is to say.
	SourceExample Example
	SinkExample   Example
	// ReferenceExample is, alike, how a new reference begins.
	ReferenceExample Example
}

// Crossing says which rows cross, from the runs of one part of a spread job to those of the next (docs/spread.md).
type Crossing struct {
	Stream           string
	Writers, Readers int
	Self             int  // which writer, or reader, from 0
	Timed            bool // the rows have event times
	Unbounded        bool // what they are made of goes on without end
	// Reached is how far the writer is; nil for a reader.
	Reached *crossing.Reached
}

// Crossed is the writing end of a crossing that tells, by what the newest checkpoint holds of it, how much it has written in all for each reader.
type Crossed interface {
	Crossed(shipment json.RawMessage) ([]int64, error)
}

// Example is how a part of a document could begin.
type Example struct {
	Name  string `json:"name"`  // topic, files
	About string `json:"about"` // one line
	Lines string `json:"lines"` // YAML below `from`
}

// Source are the settings of a source. A document's reading fills and checks them; from then on nobody changes them,
// and all methods but Check may be called at any time, from any goroutine.
type Source interface {
	// Check says what is wrong beyond what the description says, and fills in what follows from the rest.
	Check(c *Checker)
	// Reads says in words what is read, for plans: levels.ndjson to its end, json.
	Reads(f *Format) string
	// Unbounded says whether the events go on without end.
	Unbounded() bool
	// Open connects. ctx bounds the opening alone.
	Open(ctx context.Context, o Opening) (Opened, error)
	// Sample takes some events; nothing is written and no position moves.
	Sample(ctx context.Context, o Opening, s Sampling) (Sample, error)
}

// Sources may also have the methods of these interfaces; a test lists for each kind which it has.
type (
	// Streaming reads or writes a stream of a connection, such as a topic. Sinks may have it, too.
	Streaming interface {
		Stream() (c *Connection, stream string)
	}
	// Making is a sink that makes its stream where it is missing, if Makes says so.
	Making interface{ Makes() bool }
	// Follower gives events as they are stored from now on, until ctx is done. next is called with none once a second
	// while there are none.
	Follower interface {
		Follow(ctx context.Context, next func([]Event) error) error
	}
	// Knowing has hidden fields beside meta.partition and meta.offset. asked are those that the document's expressions
	// name, without `meta.`.
	Knowing interface {
		MetaFields(asked []string) row.Schema
	}
	// Storing says that its events have a time at which they were stored, meta.stored.
	Storing interface{ HasStored() bool }
	// Ended knows the end of the name by which a format can be told. Sinks may have it, too.
	Ended interface{ Ending() string }
	// Spanned can be read from one place to another in place of what its document says.
	Spanned interface {
		// Span sets both; texts as in a document, empty for what it says. The error says what is wrong with them.
		Span(begin, until string) error
	}
	// Forgetting keeps something outside for the job as long as there is one: Forget removes it, when the job is removed.
	Forgetting interface {
		Forget(ctx context.Context) error
	}
	// Divided says whether its partitions may be read by several runs, each a share of them (docs/spread.md).
	Divided interface{ Divides() bool }
	// Beginning says how documents of this source begin, to write one over a sample.
	Beginning interface{ Document() Origin }
)

// Sink are the settings of a sink, as [Source] is.
type Sink interface {
	Check(c *Checker)
	// Words says what is written, made and promised, for plans.
	Words(f *Format, s row.Schema, d Delivering) SinkWords
	// Atomic says whether rows can be delivered exactly once.
	Atomic() bool
	// Open makes the sink; what it reaches may be away still.
	Open(ctx context.Context, o Opening) (engine.Sink, error)
	// Place says where the rows are, after a run that came to its end or did not.
	Place(dir string, finished bool) string
}

// Sole is a sink that bears no other one at its target.
type Sole interface {
	// Target tells the target apart from others; empty for one that may be shared. twice says what is wrong when
	// sink other has it, too.
	Target() (target string, twice func(other string) (message, remedy string))
}

// Replacing is a sink where the newest row of an identity can take the place of those before it.
type Replacing interface {
	// Replaces says whether it does, and by which fields where the document names them.
	Replaces() (on bool, key []string)
	// ReplaceBy is told, as the document is read, by which fields it does.
	ReplaceBy(key []string)
}

// Readable is a sink whose rows can be read where they are.
type Readable interface {
	// Written gives the newest rows that are there, at most so many, the oldest of them first.
	Written(ctx context.Context, o Opening, rows int) (Sample, error)
}

// Fitting is a sink that can compare what it would write with what is there, a step for each column; none where nothing is
// there yet.
type Fitting interface {
	Fit(ctx context.Context, s row.Schema) ([]Step, error)
}

// SinkWords are what a plan says of a sink.
type SinkWords struct {
	Writes, Makes, Delivery string
	// AsMade: rows can be read as they are made; else they appear with checkpoints.
	AsMade bool
	// Rolls: each checkpoint makes a file.
	Rolls bool
}

// Delivering is how a run would deliver.
type Delivering struct {
	Once  bool          // the document asks for exactly once
	Kept  bool          // checkpoints are kept
	Every time.Duration // between checkpoints
	Dir   string        // relative paths of the document are below it
}

// AtLeastOnce words what holds of a sink to which rows go as they are made, and why.
func (d Delivering) AtLeastOnce(replaces bool) string {
	again := "after a restart those since the newest checkpoint come again"
	if !d.Kept {
		again = "without checkpoints a run that is started again makes all of them again"
	}
	if replaces {
		again += ", and replace the same ones"
	}
	return "at least once: rows appear as they are made; " + again
}

// WithCheckpoints words when rows appear that are delivered exactly once.
func (d Delivering) WithCheckpoints() string {
	return "exactly once: rows appear with the checkpoint, every " + row.DurationText(d.Every)
}

// Origin is how a document over a source begins: the sources and sinks that stand in it.
type Origin struct {
	Name   string // of the stream or file, without its ending
	Source string // `via` and `with` of the source, YAML without indentation
	// Sink writes the same of a sink beside it, whose rows are named by suffix. Keyed: by the key field, if it has one.
	Sink   func(job, suffix, key string) string
	Plain  bool // events have one format, which is not named
	Stored bool // events have a stored time
	Once   bool // sinks deliver exactly once
}

// Opening is what is given to whoever opens, beside the settings.
type Opening struct {
	Job  string
	Name string // of the source or sink
	Dir  string // the document's folder: relative paths begin there
	// Format is how events look, or rows.
	Format *Format
	// Known are the partitions of the checkpoint that the run starts from; none where it starts anew. Kept says that
	// checkpoints are kept.
	Known []string
	Kept  bool
	// Shipments is the folder where rows of a sink may wait until the checkpoint that holds them is complete; empty where
	// they are to go out as they are made.
	Shipments string
	// Aside is the folder for rows that wait over a restart, whatever delivery the document asks for; empty where no checkpoints are
	// kept.
	Aside string
	// Journal is the folder where a source writes down what it takes that cannot be read again; empty where no checkpoints are
	// kept.
	Journal string
	// Lease is the number of the lease by which a node has the job, greater than all before; 0 where there are no nodes. Then files that others may be writing still, though
	// they have lost the job, are told apart by it, and Leased says whether the job is this node's still (docs/nodes.md).
	Lease  int64
	Leased func() error
	// Serve lets whoever runs the job hand on what is posted to the source there, until end is called; nil for nobody.
	Serve func(t Taker) (end func())
	// Ends are, of a source to which rows cross in a run that is to come to rest, how much each writer has written for it, by partition, as [Crossed] tells; nil for another run. Its
	// partitions say that they are at their end once they have all of that.
	Ends map[string]int64
	// Portion is that of a spread job which opens it, such as 2.1: others write to the same place. Empty for a whole job.
	Portion string
	// Buffer bounds the bytes of events under way, 0 for the default; Block is how many bytes are read at once.
	Buffer int64
	Block  int
	// ByClock: made events come by the clock, from where they stood (demos), and not from the opening on.
	ByClock bool
	// Fields are a source's, Schema a sink's.
	Fields codec.Fields
	Schema row.Schema
	// Stdin gives standard input, once; an error says why not. Once says why an input cannot be read at all that cannot
	// be read again.
	Stdin  func() (io.Reader, error)
	Once   func(what string) error
	Stdout func() (io.Writer, *Format, error)
}

// Called is what a sink's files are called: apart from those of other portions of the job.
func (o *Opening) Called() string {
	if o.Portion == "" {
		return o.Name
	}
	return o.Name + "-" + o.Portion
}

// Posted is a source that takes what is posted to it.
type Posted interface{ TakesPosts() }

// Taker takes what is posted to a source. Safe for concurrent use.
type Taker interface {
	// Take answers a post, or a page's question before it; taken is told how many events were.
	Take(w http.ResponseWriter, r *http.Request, taken func(events int))
	// NeedsToken says that only posts with a token may be given to Take.
	NeedsToken() bool
	// TakesFrom says whether pages of an origin may post.
	TakesFrom(origin string) bool
	// TurnAway answers a post that is not let in, by a status and how long to wait.
	TurnAway(w http.ResponseWriter, r *http.Request, status int, wait time.Duration)
	// Counts are what became of posts, by outcome, and of their events.
	Counts() PostCounts
}

// PostCounts counts posts since the run began.
type PostCounts struct {
	Taken, Again, TurnedAway int64 // posts: TurnedAway are those of which nothing was taken
	Events, Refused          int64 // events that were taken, and that were not
	Bytes                    int64 // of bodies, unpacked
}

// Opened is an opened source.
type Opened struct {
	Partitions []engine.Partition
	// Find looks for partitions that are added later; nil for none. Close ends what partitions share; nil for nothing.
	Find  func(ctx context.Context, found func(engine.Partition)) error
	Close func()
	// Notes say for people where a run that starts anew begins, where that is not plain.
	Notes []string
}

// Checker is what settings may ask while they are checked, and how they say what is wrong. Places are names of settings,
// from the outermost to the innermost.
type Checker struct {
	Job, Name string
	// Absolute refuses relative paths: the document has no folder.
	Absolute bool
	// Files open the files that settings name; who opens one keeps it.
	Files *disk.Files
	// Endless says, of sinks, that the job's sources do not end.
	Endless bool
	// Format is how events or rows look; nil where that has a fault. Schema are a sink's fields.
	Format *Format
	Fields codec.Fields
	Schema row.Schema
	// Has says whether a setting stands in the document.
	Has func(at ...string) bool
	// Fault and Warn say what is wrong, or likely so, and what would be right.
	Fault, Warn func(message, remedy string, at ...string)
	// Source is whose events are decoded.
	Source Source
	// Nearest words the remedy for an unknown name.
	Nearest func(wrong string, known []string) string
	// Expression compiles an expression of the settings; nil, with its faults said, where it is wrong.
	Expression func(text settings.ExpressionText, fields row.Schema, at ...string) *expr.Program
}

// Connection is a named way to reach something outside.
type Connection struct {
	Name string
	Kind *Kind
	Link Link
	// Unready is why it cannot be used by a run, such as a secret that is not there; nil where it can.
	Unready error
}

// Link are the settings of a connection, as [Source] is.
type Link interface {
	Check(c *Checker)
	// Words says for people what is reached, how, and who signs in.
	Words() LinkWords
	// Look reaches out. Close ends it.
	Look(name string) (Looker, error)
}

// Sharing is a link to what can keep things for all nodes of a service, such as a store of objects (docs/nodes.md, "The shared store"). address is what stands after --store.
type Sharing interface {
	Share(name, address string) (Shared, error)
}

// Shared is what a [Sharing] gives: a place of package checkpoint.
type Shared interface {
	Put(ctx context.Context, name string, in io.ReadSeeker, size int64) error
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	List(ctx context.Context, prefix string) ([]string, error)
	Remove(ctx context.Context, name string) error
	RemoveAll(ctx context.Context, within string) error
	String() string
}

// LinkWords are what lists say of a connection.
type LinkWords struct {
	Reaches string `json:"reaches"` // 10.0.0.5:9092
	Way     string `json:"way"`     // TLS, in the clear
	SignIn  string `json:"sign_in"` // nobody signs in
}

// Addresses are what is reached, each alone.
func (w LinkWords) Addresses() []string { return strings.Split(w.Reaches, ", ") }

// Look reaches what a connection names.
func (c *Connection) Look() (Looker, error) {
	if c.Unready != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, c.Unready)
	}
	l, err := c.Link.Look(c.Name)
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, err)
	}
	return l, nil
}

// At gives the source of a stream of the connection.
func (c *Connection) At(stream string) (Source, error) {
	if c.Kind.AtStream == nil {
		return nil, fmt.Errorf("%w: connection %s is a %s connection, which has no %ss to look at", ErrCannot, c.Name, c.Kind.Name, c.Kind.Noun)
	}
	s, err := c.Kind.AtStream(c, stream)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUsage, err)
	}
	return s, nil
}

func init() {
	settings.IsConnection = func(t reflect.Type) bool { return t == reflect.TypeFor[*Connection]() }
}

var (
	kinds   []*Kind
	formats []*Format
)

// Register adds a kind. It is called before documents are read, by connect/all and by tests.
func Register(k *Kind) {
	if KindNamed(k.Name) != nil {
		panic("connect: two kinds named " + k.Name)
	}
	kinds = append(kinds, k)
}

// RegisterFormat adds a format.
func RegisterFormat(f *Format) {
	if FormatNamed(f.Name) != nil {
		panic("connect: two formats named " + f.Name)
	}
	formats = append(formats, f)
}

// NotBuilt are names of the contract that are recognised and refused, until they are built.
var NotBuilt struct{ Sources, Sinks, Links, Formats []string }

// Kinds gives all kinds, in the order of the list.
func Kinds() []*Kind { return slices.Clone(kinds) }

// KindNamed gives a kind by its name; nil for none.
func KindNamed(name string) *Kind {
	for _, k := range kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// AtPath gives the source of a path, for whoever names a file in place of a source.
func AtPath(path string) Source {
	for _, k := range kinds {
		if k.AtPath != nil {
			return k.AtPath(path)
		}
	}
	panic("connect: no kind has paths; import connect/all")
}

// ToPath gives the sink of a path.
func ToPath(path string) Sink {
	for _, k := range kinds {
		if k.ToPath != nil {
			return k.ToPath(path)
		}
	}
	panic("connect: no kind has paths; import connect/all")
}

// SameStream says whether two sources or sinks are of one stream.
func SameStream(a, b any) bool {
	c, stream, ok := Through(a)
	d, second, ok2 := Through(b)
	return ok && ok2 && c.Name == d.Name && stream != "" && stream == second
}

// Through gives the connection and stream that a source or sink reads or writes; false where it goes through none.
func Through(of any) (c *Connection, stream string, ok bool) {
	s, ok := of.(Streaming)
	if !ok {
		return nil, "", false
	}
	c, stream = s.Stream()
	return c, stream, c != nil
}

// StreamText names a stream for people: topic crane.lifts of harbour.
func StreamText(s Streaming) string {
	c, stream := s.Stream()
	return fmt.Sprintf("%s %s of %s", c.Kind.Noun, stream, c.Name)
}

// Errors that are wrapped where something outside is reached.
var (
	// ErrUnreachable: it does not answer; trying again later may help.
	ErrUnreachable = errors.New("cannot be reached")
	// ErrDenied: it answers and refuses; trying again does not help.
	ErrDenied = errors.New("access denied")
	// ErrNoStream: it has no such stream. ErrStreamExists: it has one already.
	ErrNoStream     = errors.New("has no topic")
	ErrStreamExists = errors.New("is there already")
	// ErrCannot: the kind of connector cannot do what is asked.
	ErrCannot = errors.New("not possible")
	// ErrUsage: what is asked for does not fit: standard input for two sources, a path that cannot be read again.
	ErrUsage = errors.New("wrong use")
)

// OfThisMachine says whether a host name or address is reached from this machine alone.
func OfThisMachine(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}

// Quoted writes a text for a flow mapping of YAML, in quotes where it needs them.
func Quoted(s string) string {
	plain := s != ""
	for _, c := range s {
		plain = plain && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("._-/", c))
	}
	words := []string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"} // mean something else to YAML
	if plain && (s[0] >= 'a' && s[0] <= 'z' || s[0] >= 'A' && s[0] <= 'Z' || s[0] == '/') && !slices.Contains(words, strings.ToLower(s)) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}
