package job

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/settings"
	"undertide/core/crossing"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/reference"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/disk"
	"undertide/member"
)

// Job is a checked document, ready to be run. Immutable.
type Job struct {
	Name, About string
	File        string // as it was named
	Dir         string // paths in the document are relative to it

	Values    map[string]expr.Value
	constants map[string]value  // Values as they are written
	texts     map[string]string // the document's own functions as they are written

	Lanes           int      // 0: one for each CPU
	Spread          *Spread  // over several nodes; nil where the document does not say so
	Of              *Portion // the portion of a spread job that this is; nil for a whole one
	Buffer          int64    // bytes of events under way; 0 for the default
	Undelivered     int64    // bytes that may wait for a sink
	Memory          int64    // bytes that state and what stands around it may take in memory; 0 for a share of the machine's
	Delivery        string   // exactly_once or at_least_once
	DeliverySaid    bool     // by the document, rather than by default
	CheckpointEvery time.Duration
	CheckpointKeep  int
	// A run that fails more than RestartTries times within RestartWithin is not started again by the service.
	RestartTries  int
	RestartWithin time.Duration

	Sources    []Source
	References []Reference // each behind those that it is made of
	Steps      []Step
	Sinks      []Sink

	Examples []Example
	// Alarms are those of the document, in its order: some change usual ones, or switch them off.
	Alarms []Alarm

	Warnings Faults
	// Digest tells documents apart for checkpoints: of all that shapes state and positions.
	Digest string
	// Pieces tells apart the parts that keep something between runs, by kind and name ("step rate").
	Pieces map[string]string
}

// Source is a checked source.
type Source struct {
	Name string
	Via  string         // the kind of connector
	With connect.Source // its settings
	// Decode is how events look, and Decoding its settings.
	Decode   *connect.Format
	Decoding connect.Decoding
	Fields   codec.Fields
	Schema   row.Schema // Fields, and hidden meta fields that expressions ask for

	EventTime *expr.Program // nil with Arrival or without event time
	Arrival   bool
	Margin    time.Duration
	Idle      time.Duration
	Ahead     time.Duration // 0: none
	Advance   bool          // `silence: advance`

	// Share is what a portion of a spread job reads of it; nil for all. carried: it is what crosses to such a portion.
	Share   *Share
	carried *carried
}

// Unbounded says whether the source goes on without end.
func (s *Source) Unbounded() bool { return s.With != nil && s.With.Unbounded() }

// Decoder makes a decoder of the source's events; it serves one goroutine.
func (s *Source) Decoder() engine.Decoder {
	if s.carried != nil {
		return &crossing.Decoder{Timed: s.carried.timed}
	}
	return s.Decoding.Decoder(s.Fields)
}

// stored says whether the source's events have a time at which they were stored.
func (s *Source) stored() bool {
	of, ok := s.With.(connect.Storing)
	return ok && of.HasStored()
}

// Timed says whether the source's rows have event times.
func (s *Source) Timed() bool {
	return s.EventTime != nil || s.Arrival || s.carried != nil && s.carried.timed
}

// Crosses says whether it is what crosses to a portion of a spread job.
func (s *Source) Crosses() bool { return s.carried != nil }

// Writers gives, of what crosses to a portion, the part whose portions write it, from 0.
func (s *Source) Writers() int { return s.carried.from }

// Step is a checked step. Exactly one of Stateless, Split, Expand and Keyed is set.
type Step struct {
	Name      string
	Kind      string // window, deduplicate …
	From      []engine.Input
	FromText  string
	Input     row.Schema
	Stateless *step.Stateless
	Split     *step.Split
	Expand    *step.Expand
	Keyed     step.Keyed
	Schema    row.Schema
	Timed     bool
	Does      []string // for plans
	by        []string // of a portion's step with state: the fields of its key by which its rows came there
	Looks     []int    // the references that it looks up in
	Levels    []FieldLevels

	several, windowed, overlap, unbounded bool
	identity                              []string // the fields that tell its rows apart; nil where nothing does
	means                                 []string // fields that are means
	how                                   string
}

// Flow gives the steps as the engine takes them. references are what they look up in, by their place in the job's list; none
// where the job has none.
func (j *Job) Flow(references []reference.Finder) []engine.Step {
	out := make([]engine.Step, len(j.Steps))
	for i := range j.Steps {
		s := &j.Steps[i]
		out[i] = engine.Step{Name: s.Name, From: s.From, Input: s.Input, Stateless: s.Stateless, Split: s.Split, Expand: s.Expand, Keyed: s.Keyed}
		if s.Stateless != nil && s.Stateless.Lookup != nil {
			d := *s.Stateless
			d.Lookup = d.Lookup.Within(references[s.Looks[0]])
			out[i].Stateless = &d
		}
		if d, ok := s.Keyed.(*step.AsOf); ok {
			own := *d
			own.Misses, own.Size = &step.Misses{}, &atomic.Int64{}
			out[i].Keyed = &own
		}
	}
	return out
}

// StepNamed finds a step; nil where there is none.
func (j *Job) StepNamed(name string) *Step {
	if i := slices.IndexFunc(j.Steps, func(s Step) bool { return s.Name == name }); i >= 0 {
		return &j.Steps[i]
	}
	return nil
}

// ErrNoSource is wrapped where a document has no such source.
var ErrNoSource = errors.New("no such source")

// SourceNamed finds a source; an empty name means the only one.
func (j *Job) SourceNamed(name string) (*Source, error) {
	var known []string
	for i := range j.Sources {
		if j.Sources[i].Name == name || name == "" && len(j.Sources) == 1 {
			return &j.Sources[i], nil
		}
		known = append(known, j.Sources[i].Name)
	}
	if name == "" {
		return nil, fmt.Errorf("%w: the document has several sources; name one of %s", ErrNoSource, strings.Join(known, ", "))
	}
	return nil, fmt.Errorf("%w: the document has no source %s; %s", ErrNoSource, name, didYouMean(name, known))
}

// On gives the source as the engine takes it, over these partitions and without `ahead`.
func (s *Source) On(parts []engine.Partition, bounded bool) engine.Source {
	return engine.Source{Name: s.Name, Schema: s.Schema, EventTime: s.EventTime, Arrival: s.Arrival, Margin: s.Margin, Idle: s.Idle, Advance: s.Advance,
		Bounded: bounded, Partitions: parts, NewDecoder: s.Decoder, Carried: s.carried != nil, Share: s.Share != nil}
}

// Parts names the parts of the step that can be read, beside rejects, with their fields.
func (s *Step) Parts() (names []string, refs []engine.Part, schemas []row.Schema) {
	if s.Split == nil {
		names, refs, schemas = []string{s.Name}, []engine.Part{engine.Main}, []row.Schema{s.Schema}
	} else {
		for n, part := range append([]string{"rest"}, s.Split.Names...) {
			names, refs, schemas = append(names, part+" of "+s.Name), append(refs, engine.RestPart+engine.Part(n)), append(schemas, s.Schema)
		}
	}
	if s.Keyed != nil && s.Keyed.LateSchema() != nil {
		names, refs, schemas = append(names, "late of "+s.Name), append(refs, engine.LatePart), append(schemas, s.Keyed.LateSchema())
	}
	return names, refs, schemas
}

// EachPart gives all that can be looked at, by the names that `from` has for them: sources, steps and their parts, and
// the rejects of each.
func (j *Job) EachPart(each func(name string, r engine.Ref)) {
	for i := range j.Sources {
		each(j.Sources[i].Name, engine.Ref{At: i})
		each("rejects of "+j.Sources[i].Name, engine.Ref{At: i, Part: engine.RejectPart})
	}
	for i := range j.Steps {
		names, parts, _ := j.Steps[i].Parts()
		for n, name := range names {
			each(name, engine.Ref{OfStep: true, At: i, Part: parts[n]})
		}
		each("rejects of "+j.Steps[i].Name, engine.Ref{OfStep: true, At: i, Part: engine.RejectPart})
	}
}

// Sink is a checked sink.
type Sink struct {
	Name     string
	From     []engine.Input
	FromText string
	Via      string          // the kind of connector
	With     connect.Sink    // its settings
	Encode   *connect.Format // how rows look
	Schema   row.Schema      // of what is written
	// Reads are the fields as they are read, and Constants what is written beside them.
	Reads     row.Schema
	Constants []engine.Constant
	fields    row.Schema // of what it reads, before columns
}

// Options are what reading a document takes from outside.
type Options struct {
	// Name takes the place of the job's, and Begin and Until that of `begin` and `until` of all sources; empty for what the
	// document says. With Begin or Until, sources that have none are faults.
	Name, Begin, Until string
	// Set changes values by name, as text.
	Set map[string]string
	// Env looks up environment variables; nil means the process's own.
	Env func(string) (string, bool)
	// Secret looks up secrets; the error says why there is none. nil where nobody keeps any.
	Secret func(name string) (string, error)
	// SecretFor says whether a secret may be sent to these addresses; the error says what is wrong and what would be
	// right. nil for any.
	SecretFor func(name string, addresses []string) error
	// EnvNames are the variables that documents may use; nil for all. With it, no message shows what a variable holds.
	EnvNames []string
	// NeedEnv makes a missing variable a fault: the document is about to run.
	NeedEnv bool
	// SinksAside: sinks will not be opened, as in a rehearsal. What they alone need, variables, secrets, addresses and
	// paths, is not asked for.
	SinksAside bool
	// Described finds described sources; nil where nobody keeps any.
	Described Descriptions
	// Connections are those that the document may name beside its own.
	Connections map[string]*connect.Connection
	// Absolute refuses relative paths: the document has no folder, as in a service.
	Absolute bool
	// Files open the files that the document names, and say which it may name; nil for all that the process may.
	Files *disk.Files
}

// ErrNoDocument is wrapped where the document could not be opened.
var ErrNoDocument = errors.New("no document")

// MaxDocument bounds a document's size in bytes.
const MaxDocument = 1 << 20

// Load reads a document from a file. Faults of the document come as [Faults].
func Load(path string, opt Options) (*Job, error) {
	st, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%w: %s does not exist; name a job document, such as harbour/jobs/mean-level.yaml", ErrNoDocument, path)
	case err != nil:
		return nil, fmt.Errorf("%w: %s: %w", ErrNoDocument, path, err)
	case st.IsDir():
		return nil, fmt.Errorf("%w: %s is a folder; name the document in it", ErrNoDocument, path)
	case st.Size() > MaxDocument:
		return nil, fmt.Errorf("%w: %s has %d KiB; job documents have at most %d", ErrNoDocument, path, st.Size()>>10, MaxDocument>>10)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrNoDocument, path, err)
	}
	return Parse(path, string(text), opt)
}

// Parse reads a document's text; file names it in messages and tells its folder.
func Parse(file, text string, opt Options) (*Job, error) {
	ctx := context.Background()
	return Read(ctx, file, text).Job(ctx, opt)
}

// Document is a text whose YAML was read.
type Document struct {
	read reader // with the faults of the YAML
	text string
	root *node // nil where the YAML cannot be read
}

// Read reads a document's YAML, once; file is as in Parse. It ends early with ctx, which then ends Job, too.
func Read(ctx context.Context, file, text string) *Document {
	d := &Document{read: reader{ctx: ctx, file: file}, text: text}
	d.root = d.read.readYAML(strings.TrimPrefix(text, "\ufeff"))
	return d
}

// Job checks the document. Its faults come as [Faults]; ctx ends it early, with its error.
func (d *Document) Job(ctx context.Context, opt Options) (*Job, error) {
	if opt.Env == nil {
		opt.Env = os.LookupEnv
	}
	r := d.read
	r.ctx, r.opt, r.faults = ctx, opt, slices.Clone(d.read.faults)
	j := &Job{File: r.file, Dir: filepath.Dir(r.file), Values: map[string]expr.Value{}}
	root := d.root
	if root != nil {
		b := &builder{reader: &r, job: j, doc: d.root}
		b.doc = b.fillDescribed(b.doc)
		b.document()
		root = b.doc
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if len(r.faults) > 0 {
		return nil, r.said(r.faults, 0, "mistakes")
	}
	j.Warnings = r.said(r.warnings, 1, "warnings")
	j.constants, j.texts = r.constants, r.texts
	j.Digest, j.Pieces = digest(root, j.Values), pieces(j, root)
	return j, nil
}

// digest tells documents apart by what shapes rows and state: sources, references, steps and sinks as they are
// written, and the values. Comments, layout, about and settings may change.
func digest(root *node, values map[string]expr.Value) string {
	h := sha256.New()
	var walk func(n *node, depth int)
	walk = func(n *node, depth int) {
		fmt.Fprintf(h, "%d %q %d\n", n.kind, n.text, len(n.values))
		for i, v := range n.values {
			if n.kind == mapNode {
				if depth == 1 && n.keys[i].text == "described" {
					continue // where a source comes from is not what it is
				}
				fmt.Fprintf(h, "%q\n", n.keys[i].text)
			}
			walk(v, depth+1)
		}
	}
	for _, part := range []string{"functions", "sources", "references", "steps", "sinks"} {
		if n := root.get(part); n != nil {
			walk(n, 0)
		}
	}
	for _, name := range sortedKeys(values) {
		fmt.Fprintf(h, "%q=%s\n", name, values[name])
	}
	return hex.EncodeToString(h.Sum(nil))
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// builder turns nodes into a job.
type builder struct {
	*reader
	job        *Job
	doc        *node
	asked      map[string]bool // meta fields that expressions name
	sources    map[string]int
	references map[string]int
	steps      map[string]int
	// broken names stand in the document but have faults; reading them is not reported again.
	broken map[string]bool
	known  map[string]*connect.Connection
}

var documentFields = fieldSpec{
	known: []string{"undertide", "job", "about", "values", "functions", "settings", "connections", "references", "sources", "steps", "sinks", "examples", "alarms"},
}

func (b *builder) document() {
	b.sources, b.references, b.steps, b.broken = map[string]int{}, map[string]int{}, map[string]int{}, map[string]bool{}
	if b.doc.kind == nullNode {
		b.faultAt(1, 1, "", "the document is empty", "begin with: undertide: 1")
		return
	}
	if !b.mapping(b.doc, "", documentFields) {
		return
	}
	if v := b.doc.get("undertide"); v == nil {
		b.fault(b.doc, "undertide", "the format's number is missing", "begin the document with: undertide: 1")
	} else if s, ok := b.text(v, "undertide"); ok && s != "1" {
		b.fault(v, "undertide", s+" is not a format that this program reads", "write undertide: 1")
	}
	if v := b.doc.get("job"); v == nil {
		b.fault(b.doc, "job", "the job has no name", "add: job: some-name")
	} else if s, ok := b.text(v, "job"); ok {
		if !jobName(s) {
			b.fault(v, "job", fmt.Sprintf("%q is not a name for a job", s), "use lower-case letters, digits and -, beginning with a letter")
		}
		b.job.Name = cmp.Or(b.opt.Name, s)
	}
	b.job.About = b.optionalText(b.doc.get("about"), "about")
	b.values()
	b.readFunctions()
	b.settings()
	b.findMeta()
	b.known = maps.Clone(b.opt.Connections)
	if b.known == nil {
		b.known = map[string]*connect.Connection{}
	}
	b.forSources = namedBySources(b.doc.get("sources"), b.doc.get("references"))
	b.connections(b.doc.get("connections"), b.known)
	b.readSources()
	b.readReferences()
	b.readSteps()
	b.aside = b.opt.SinksAside
	b.readSinks()
	b.aside = false
	b.spread()
	b.readExamples()
	b.readAlarms()
}

func jobName(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return s != "" && len(s) <= 100
}

// fieldName says whether s can be named in expressions.
func fieldName(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return s != ""
}

func (b *builder) checkField(n *node, place, name string) bool {
	switch {
	case !fieldName(name):
		b.fault(n, place, fmt.Sprintf("%q is not a field name", name), "use letters, digits and _, not beginning with a digit; `at` names the value in the event as it is")
	case slices.Contains(member.ExpressionWords, name):
		b.fault(n, place, fmt.Sprintf("%s means something in expressions and is not a field name", name), "choose another name; `at` names the value in the event as it is")
	default:
		return true
	}
	return false
}

func (b *builder) unknownSets() {
	known := sortedKeys(b.constants)
	for _, name := range sortedKeys(b.opt.Set) {
		if !slices.Contains(known, name) {
			b.fault(b.doc, "values", fmt.Sprintf("--set %s names no value of the document", name), b.didYouMean(name, known))
		}
	}
}

// ParseValue reads a constant of a kind from text.
func ParseValue(kind row.Kind, text string) (expr.Value, error) {
	v := expr.Value{Kind: kind}
	bad := fmt.Errorf("%q is not %s", text, row.A(kind))
	switch kind {
	case row.String, row.Bytes:
		v.S = text
	case row.Int:
		i, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return v, bad
		}
		v.I = i
	case row.Double:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || f-f != 0 {
			return v, bad
		}
		v.F = f
	case row.Bool:
		if text != "true" && text != "false" {
			return v, bad
		}
		v = expr.BoolOf(text == "true")
	case row.Timestamp:
		t, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return v, bad
		}
		v.I = int64(row.TimeOf(t))
	case row.Duration:
		d, err := ParseDuration(text)
		if err != nil {
			return v, err
		}
		v.I = d.Microseconds()
	case row.Decimal:
		d, ok := expr.ParseDecimal(text)
		if !ok {
			return v, bad
		}
		v.S = d
	default:
		return v, fmt.Errorf("a %s cannot be written here", kind)
	}
	return v, nil
}

const kindNames = "string, int, double, bool, bytes, timestamp, duration, decimal, list<T>, map<T>"

// otherTypes are names of types as other formats and languages have them.
var otherTypes = map[string]string{"float": "double", "float32": "double", "float64": "double", "real": "double", "number": "double",
	"integer": "int", "long": "int", "bigint": "int", "smallint": "int", "int8": "int", "int16": "int", "int32": "int", "int64": "int",
	"text": "string", "varchar": "string", "char": "string", "str": "string", "uuid": "string", "enum": "string",
	"boolean": "bool", "date": "timestamp", "time": "timestamp", "datetime": "timestamp", "timestamptz": "timestamp", "instant": "timestamp",
	"interval": "duration", "numeric": "decimal", "binary": "bytes", "blob": "bytes", "bytea": "bytes", "array": "list<string>", "object": "map<string>", "json": "map<string>"}

func (b *builder) kind(n *node, place string, parent *node) (row.Kind, bool) {
	return b.kindAmong(n, place, parent, kindNames, nil)
}

// kindAmong reads a type; names and more are those that are told of where it is none.
func (b *builder) kindAmong(n *node, place string, parent *node, names string, more []string) (row.Kind, bool) {
	if n == nil {
		b.fault(parent, place, "the type is missing", "give one of "+names)
		return row.Invalid, false
	}
	s, ok := b.text(n, place)
	if !ok {
		return row.Invalid, false
	}
	if k, ok := row.ParseKind(s); ok && !k.IsCommon() {
		return k, true
	}
	remedy := "did you mean " + otherTypes[strings.ToLower(s)] + "?"
	if otherTypes[strings.ToLower(s)] == "" {
		remedy = b.didYouMean(s, append([]string{"string", "int", "double", "bool", "bytes", "timestamp", "duration", "decimal", "list<string>", "map<string>"}, more...))
	}
	if s == "list" || s == "map" {
		remedy = "say of what: " + s + "<string>"
	}
	b.fault(n, place, s+" is not a type", remedy)
	return row.Invalid, false
}

func (b *builder) settings() {
	j := b.job
	j.Delivery, j.CheckpointEvery, j.CheckpointKeep = "exactly_once", 10*time.Second, 5
	j.RestartTries, j.RestartWithin = 10, 10*time.Minute
	n := b.doc.get("settings")
	if n == nil || !b.mapping(n, "settings", fieldSpec{known: []string{"lanes", "spread", "buffer", "memory", "undelivered", "delivery", "checkpoint", "restart"}}) {
		return
	}
	if v := n.get("lanes"); v != nil {
		if l, ok := b.whole(v, "settings.lanes", 1); ok {
			if l > 240 {
				b.fault(v, "settings.lanes", fmt.Sprintf("%d lanes are more than the 240 shares that they own", l), "give at most 240")
			}
			j.Lanes = int(l)
			if l > int64(4*runtime.NumCPU()) {
				b.warn(v, "settings.lanes", fmt.Sprintf("%d lanes on %d CPUs only cost memory", l, runtime.NumCPU()), "leave it out for one lane a CPU")
			}
		}
	}
	j.Buffer = b.memorySize(n.get("buffer"), "settings.buffer", 1<<20, "holds hardly a turn of events", "give at least 1MiB; 256MiB is usual")
	j.Memory = b.memorySize(n.get("memory"), "settings.memory", 64<<20, "holds hardly a turn of events beside the state", "give at least 64MiB, or leave it out for a share of the machine's")
	j.Undelivered = b.memorySize(n.get("undelivered"), "settings.undelivered", 1<<20, "holds hardly what a sink takes between two checkpoints", "give at least 1MiB; 1GiB is usual")
	if v := n.get("delivery"); v != nil {
		j.Delivery, j.DeliverySaid = b.choice(v, "settings.delivery", []string{"exactly_once", "at_least_once"}, nil), true
	}
	b.restart(n.get("restart"))
	c := n.get("checkpoint")
	if c == nil || !b.mapping(c, "settings.checkpoint", fieldSpec{known: []string{"every", "keep"}}) {
		return
	}
	if v := c.get("every"); v != nil {
		if d, ok := b.duration(v, "settings.checkpoint.every", false); ok {
			j.CheckpointEvery = d
		}
	}
	if v := c.get("keep"); v != nil {
		if k, ok := b.whole(v, "settings.checkpoint.keep", 1); ok {
			j.CheckpointKeep = int(k)
		}
	}
}

// restart reads how often a run that fails is started again.
func (b *builder) restart(n *node) {
	if n == nil || !b.mapping(n, "settings.restart", fieldSpec{known: []string{"tries", "within"}}) {
		return
	}
	if v := n.get("tries"); v != nil {
		if k, ok := b.whole(v, "settings.restart.tries", 0); ok {
			b.job.RestartTries = int(min(k, 1<<20))
		}
	}
	if v := n.get("within"); v != nil {
		if d, ok := b.duration(v, "settings.restart.within", false); ok {
			b.job.RestartWithin = d
		}
	}
}

// memorySize reads an amount of memory that is at least so large; 0 where there is none.
func (b *builder) memorySize(v *node, place string, least int64, small, remedy string) int64 {
	if v == nil {
		return 0
	}
	if !b.takesOnly(v, place, "a size", "size") {
		return 0
	}
	text, ok := b.text(v, place)
	if !ok {
		return 0
	}
	size, err := settings.ParseSize(text)
	switch {
	case err != nil:
		b.fault(v, place, err.Error(), "write a size such as 256MiB")
	case size < least:
		b.fault(v, place, text+" "+small, remedy)
	default:
		return size
	}
	return 0
}

var (
	metaName   = regexp.MustCompile(`\bmeta\.((?:headers|old)\.[A-Za-z_][A-Za-z0-9_]*|[a-z_]+)`)
	metaHeader = regexp.MustCompile(`\bmeta\.headers\[\s*(?:'([^']+)'|"([^"]+)")\s*\]`) // whose name is not a word
)

// findMeta notes which meta fields the document's expressions name, so that only those are kept.
func (b *builder) findMeta() {
	b.asked = map[string]bool{}
	var walk func(n *node)
	walk = func(n *node) {
		if n == nil {
			return
		}
		if n.kind == scalarNode {
			for _, m := range metaName.FindAllStringSubmatch(n.text, -1) {
				b.asked[m[1]] = true
			}
			for _, m := range metaHeader.FindAllStringSubmatch(n.text, -1) {
				b.asked["headers."+m[1]+m[2]] = true
			}
		}
		for _, v := range n.values {
			walk(v)
		}
	}
	walk(b.doc)
}
