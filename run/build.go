// Package run is one run of a job: it joins a checked document with connectors and a checkpoint
// store, runs the engine, and reports figures. The command line uses it as it is, and the service
// will; it writes nothing to the terminal itself.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/connect"
	_ "undertide/connect/all" // the kinds and formats that there are
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
)

// Options are how a job is run.
type Options struct {
	// In and Out put files in place of connectors, by source and sink: a path, a glob, or `-`.
	In, Out map[string]string
	// Stdin and Stdout stand behind `-`; nil means the process's own.
	Stdin  io.Reader
	Stdout io.Writer
	// Format is how rows look on standard output where the document does not say: json, csv, table.
	Format string
	// Lanes is the number of lanes, 0 for the document's, or one a CPU.
	Lanes int
	// Checkpoints is the folder for checkpoints; empty for none.
	Checkpoints string
	// Shipments is the folder where rows wait for their delivery; empty for one within Checkpoints.
	Shipments string
	// Journals is the folder of the journals of sources; empty for one within Checkpoints.
	Journals string
	// Serve is given what takes posts for a source, until end is called; nil where nobody hands any on.
	Serve func(source string, t connect.Taker) (end func())
	// Drop names the parts (step rate) whose kept things may be left behind where another version of the
	// document made the checkpoints.
	Drop []string
	// Workers decode; 0 means one a CPU. Block is how many bytes a file is read by; 0 means 64 KiB.
	// Neither changes what comes out.
	Workers, Block int
	// EveryTurns takes checkpoints by turns instead of time (tests).
	EveryTurns int
	// Watch lets others look at the run while it goes on; may be nil.
	Watch *engine.Watch
	// Say is told what people should know, a line each; may be nil.
	Say func(string)
	// Commit makes a checkpoint of the folder count, before anything of it is delivered; where it fails, the run does, and the checkpoint may
	// count or not. Nil where the folder says which counts.
	Commit func(epoch int64) error
	// Lease and Leased are as in [connect.Opening].
	Lease  int64
	Leased func() error
	// FirstEpoch is the least epoch to use, since epochs are never used twice; 0 for 1.
	FirstEpoch int64
	// Tap gives somebody who looks at rows of a source, step or output; it may give nil. Names are as in
	// `from`: minute, late of minute, rejects of levels.
	Tap func(name string, s row.Schema) engine.Tap
	// Resumed is told where the checkpoint that the run starts from stood; of none where there is none.
	// May be nil.
	Resumed func([]engine.PartitionState)
	// Ready is called when everything is connected, references are loaded, and the run begins; may be nil.
	Ready func(*engine.Graph, *References)
	// Opened is told that the sinks are open too, and events are read; may be nil.
	Opened func()
	// Completed is told of each complete checkpoint; may be nil.
	Completed func(engine.Completed)
	// Unfinished is told of each checkpoint that did not come to be; may be nil.
	Unfinished func(engine.Unfinished)
	// Skip names events that are set aside, [SOURCE=]PARTITION:OFFSET each; the source may be left out where there is one.
	Skip []string
	// Begins is told, of a run that starts anew, where sources begin to be read whose documents say so; may be nil.
	Begins func(string)
	// Drain, once it is closed, ends all sources where they stand, and the run finishes; nil for never.
	Drain <-chan struct{}
	// Rest lets the run come to rest; nil for a run as any other (docs/spread.md, "Other portions").
	Rest *Rest
	// StopWithin bounds how long a stopped run waits for its last checkpoint; 0 for no bound.
	StopWithin time.Duration
}

// ErrUsage is wrapped where options do not fit the job: a wrong name, two readers of standard input.
var ErrUsage = connect.ErrUsage

func (o *Options) say(format string, args ...any) {
	if o.Say != nil {
		o.Say(fmt.Sprintf(format, args...))
	}
}

// builder joins a job with its connectors.
type builder struct {
	job   *job.Job
	opt   *Options
	refs  *References
	stdin string // the source that reads standard input
	out   string // the sink that writes standard output

	ctx     context.Context
	closers []func() // of connectors that outlive their partitions
}

func (b *builder) close() {
	for _, c := range b.closers {
		c()
	}
}

// Names gives the names of a list.
func Names[T any](list []T, name func(*T) string) []string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = name(&list[i])
	}
	return out
}

// graph builds what the engine runs.
func (b *builder) graph(known map[string][]string) (*engine.Graph, error) {
	j := b.job
	sources := Names(j.Sources, func(s *job.Source) string { return s.Name })
	sinks := Names(j.Sinks, func(s *job.Sink) string { return s.Name })
	for name := range b.opt.In {
		if !slices.Contains(sources, name) {
			return nil, Unknown("--in", name, "source", sources)
		}
	}
	for name := range b.opt.Out {
		if !slices.Contains(sinks, name) {
			return nil, Unknown("--out", name, "sink", sinks)
		}
	}
	g := &engine.Graph{}
	for i := range j.Sources {
		s, err := b.source(&j.Sources[i], known[j.Sources[i].Name])
		if err != nil {
			return nil, err
		}
		g.Sources = append(g.Sources, s)
	}
	if err := b.skips(g); err != nil {
		return nil, err
	}
	g.Steps = j.Flow(b.refs.Finders())
	for i := range j.Sinks {
		s := &j.Sinks[i]
		sink, err := b.sink(s)
		if err != nil {
			return nil, err
		}
		g.Sinks = append(g.Sinks, engine.SinkNode{Name: s.Name, From: s.From, Schema: s.Reads, Constants: s.Constants, Sink: sink, AsMade: b.opt.SinkOf(s).Words(s.Encode, s.Schema, b.delivering()).AsMade})
	}
	b.taps(g)
	return g, nil
}

// skips reads which events are set aside.
func (b *builder) skips(g *engine.Graph) error {
	for _, text := range b.opt.Skip {
		rest, at := text, -1
		for i := range g.Sources {
			if after, ok := strings.CutPrefix(text, g.Sources[i].Name+"="); ok {
				rest, at = after, i
			}
		}
		if at < 0 && len(g.Sources) == 1 {
			at = 0
		}
		colon := strings.LastIndexByte(rest, ':')
		offset, err := strconv.ParseInt(rest[colon+1:], 10, 64)
		if at < 0 || colon < 1 || err != nil || offset < 0 {
			return fmt.Errorf("%w: --skip %s: write PARTITION:OFFSET, such as 0:1234, and SOURCE= before it where there are several sources", ErrUsage, text)
		}
		s := &g.Sources[at]
		if share := b.job.Sources[at].Share; share != nil && !share.Has(rest[:colon]) {
			continue // another portion reads it
		}
		if !slices.ContainsFunc(s.Partitions, func(p engine.Partition) bool { return p.Name() == rest[:colon] }) {
			return fmt.Errorf("%w: --skip %s: source %s has no partition %s; %s", ErrUsage, text, s.Name, rest[:colon], partitionsText(s.Partitions))
		}
		if s.Skip == nil {
			s.Skip = map[string][]int64{}
		}
		s.Skip[rest[:colon]] = append(s.Skip[rest[:colon]], offset)
	}
	return nil
}

// partitionsText names the first of a source's partitions.
func partitionsText(list []engine.Partition) string {
	const most = 5
	var names []string
	for _, p := range list[:min(most, len(list))] {
		names = append(names, p.Name())
	}
	switch more := len(list) - len(names); {
	case len(list) == 0:
		return "it has none yet"
	case more > 0:
		return fmt.Sprintf("it has %s, and %d more", strings.Join(names, ", "), more)
	}
	return "it has " + strings.Join(names, ", ")
}

// taps lets somebody look at the rows of every step, and at what is late or rejected.
func (b *builder) taps(g *engine.Graph) {
	if b.opt.Tap == nil {
		return
	}
	b.job.EachPart(func(name string, r engine.Ref) {
		schema := g.SchemaOf(r)
		if t := b.opt.Tap(name, schema); t != nil {
			g.Taps = append(g.Taps, engine.TapNode{From: r, Schema: schema, Tap: t})
		}
	})
}

// Unknown words that a flag names something that the document does not have.
func Unknown(flag, name, what string, known []string) error {
	remedy := "the document has " + strings.Join(known, ", ")
	if n := job.Nearest(name, known); n != "" {
		remedy = "did you mean " + n + "?"
	}
	return fmt.Errorf("%w: %s %s=…: the document has no %s %s; %s", ErrUsage, flag, name, what, name, remedy)
}

// source opens a source: the document's, or the file that stands in its place. known are the partitions of the
// checkpoint that the run starts from, which a bounded run reads again and no others.
func (b *builder) source(s *job.Source, known []string) (engine.Source, error) {
	out := s.On(nil, false)
	out.Ahead = s.Ahead
	with, format, decoding := s.With, s.Decode, s.Decoding
	if path, replaced := b.opt.In[s.Name]; replaced {
		var err error
		if format, err = formatAt(path, s); err != nil {
			return out, fmt.Errorf("%w: --in %s=%s: %w", ErrUsage, s.Name, path, err)
		}
		with = connect.AtPath(path)
		if format != s.Decode {
			decoding = format.Decode()
		}
	}
	out.Bounded = !with.Unbounded()
	if !s.Crosses() {
		out.NewDecoder = func() engine.Decoder { return decoding.Decoder(s.Fields) }
	}
	opened, err := with.Open(b.ctx, connect.Opening{Job: b.job.Name, Name: s.Name, Dir: b.job.Dir, Format: format, Known: known, Kept: b.opt.Checkpoints != "", Journal: b.journal(s.Name), Lease: b.opt.Lease, Leased: b.opt.Leased, Serve: b.serve(s.Name), Ends: b.opt.Rest.ends(s), Buffer: b.job.Buffer, Block: b.opt.Block, Fields: s.Fields,
		Stdin: func() (io.Reader, error) { return b.takeStdin(s.Name) }, Once: b.readOnce})
	if opened.Close != nil {
		b.closers = append(b.closers, opened.Close)
	}
	if errors.Is(err, connect.ErrUsage) {
		return out, err
	}
	if err != nil {
		return out, fmt.Errorf("source %s: %w", s.Name, err)
	}
	out.Partitions, out.Find = opened.Partitions, opened.Find
	if s.Share != nil {
		s.Share.Take(&out)
	}
	for _, n := range opened.Notes {
		b.opt.say("source %s: %s", s.Name, n)
		if b.opt.Begins != nil {
			b.opt.Begins("source " + s.Name + ": " + n)
		}
	}
	return out, nil
}

// formatAt gives the format of a file that stands in a source's place: what its name ends in, if that needs no more
// than the document says; else the document's own where the file's name tells nothing, or where it has to be told more.
func formatAt(path string, s *job.Source) (*connect.Format, error) {
	if later := strings.TrimPrefix(filepath.Ext(path), "."); slices.Contains(connect.NotBuilt.Formats, later) {
		return nil, fmt.Errorf("%s is not built yet; give %s", later, strings.Join(connect.FormatNames(false), ", "))
	}
	f := connect.FormatOf(path)
	switch {
	case f == nil:
		return connect.DefaultFormat(), nil
	case s.Decode != nil && f.Name == s.Decode.Name:
		return s.Decode, nil // as the document shapes it
	case f.Decode == nil || slices.ContainsFunc(settings.Of(f.Decode()), func(s settings.Setting) bool { return s.Required }):
		return s.Decode, nil
	}
	return f, nil
}

// takeStdin gives standard input to one source.
func (b *builder) takeStdin(source string) (io.Reader, error) {
	if b.stdin != "" {
		return nil, fmt.Errorf("%w: sources %s and %s both read standard input; give one of them a file", ErrUsage, b.stdin, source)
	}
	b.stdin = source
	if err := b.readOnce("standard input"); err != nil {
		return nil, err
	}
	if b.opt.Stdin == nil {
		return os.Stdin, nil
	}
	return b.opt.Stdin, nil
}

// readOnce refuses an input that cannot be read again where checkpoints are kept.
func (b *builder) readOnce(what string) error {
	if b.opt.Checkpoints == "" {
		return nil
	}
	return fmt.Errorf("%w: %s cannot be read again after a restart; put the events into a file, or leave out --checkpoints", ErrUsage, what)
}

// SinkOf gives where a sink's rows go: as the document says, or to the path in its place.
func (o *Options) SinkOf(s *job.Sink) connect.Sink {
	if path, replaced := o.Out[s.Name]; replaced {
		return connect.ToPath(path)
	}
	return s.With
}

// sink makes the sink that a document or --out names.
func (b *builder) sink(s *job.Sink) (engine.Sink, error) {
	format := s.Encode
	if path, replaced := b.opt.Out[s.Name]; replaced {
		if later := strings.TrimPrefix(filepath.Ext(path), "."); slices.Contains(connect.NotBuilt.Formats, later) {
			return nil, fmt.Errorf("%w: --out %s=%s: %s is not built yet; write %s", ErrUsage, s.Name, path, later, strings.Join(connect.FormatNames(true), ", "))
		}
		if format = connect.FormatOf(path); format == nil || format.Encode == nil {
			format = connect.DefaultFormat()
		}
	}
	out, err := b.opt.SinkOf(s).Open(b.ctx, connect.Opening{Job: b.job.Name, Name: s.Name, Portion: b.job.Of.Text(), Dir: b.job.Dir, Format: format, Schema: s.Schema, Kept: b.opt.Checkpoints != "", Shipments: b.shipments(), Aside: b.aside(), Lease: b.opt.Lease, Leased: b.opt.Leased,
		Stdout: func() (io.Writer, *connect.Format, error) { return b.takeStdout(s.Name) }})
	if errors.Is(err, connect.ErrUsage) {
		return nil, err
	}
	if err != nil {
		return nil, fmt.Errorf("sink %s: %w", s.Name, err)
	}
	return out, nil
}

// journal gives the folder of a source's journal; empty where no checkpoints are kept.
func (b *builder) journal(source string) string {
	switch {
	case b.opt.Checkpoints == "", b.opt.Lease > 0 && b.opt.Journals == "":
		return ""
	case b.opt.Journals != "":
		return filepath.Join(b.opt.Journals, source)
	}
	return filepath.Join(b.opt.Checkpoints, "journals", source)
}

// serve gives what hands posts to a source on; nil for nobody.
func (b *builder) serve(source string) func(connect.Taker) func() {
	if b.opt.Serve == nil {
		return nil
	}
	return func(t connect.Taker) func() { return b.opt.Serve(source, t) }
}

// shipments gives the folder where rows wait for their delivery; empty where they go out as they are made.
func (b *builder) shipments() string {
	if b.job.Delivery != "exactly_once" {
		return ""
	}
	return b.aside()
}

// aside gives the folder where rows may wait over a restart; empty where no checkpoints are kept.
func (b *builder) aside() string {
	switch {
	case b.opt.Checkpoints == "":
		return ""
	case b.opt.Shipments != "":
		return b.opt.Shipments
	}
	return filepath.Join(b.opt.Checkpoints, "shipments")
}

// takeStdout gives standard output to one sink, and how rows look there, where --format says so.
func (b *builder) takeStdout(sink string) (io.Writer, *connect.Format, error) {
	if b.out != "" {
		return nil, nil, fmt.Errorf("%w: sinks %s and %s both write standard output; give one of them a file", ErrUsage, b.out, sink)
	}
	b.out = sink
	if b.opt.Stdout == nil {
		return os.Stdout, connect.FormatNamed(b.opt.Format), nil
	}
	return b.opt.Stdout, connect.FormatNamed(b.opt.Format), nil
}

// every gives the time between checkpoints. Without a store it is the time between deliveries, so that
// rolled files appear while the run goes on.
func every(j *job.Job, opt *Options) time.Duration {
	if opt.EveryTurns > 0 {
		return 0
	}
	return j.CheckpointEvery
}
