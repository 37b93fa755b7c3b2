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
	"strings"
	"time"

	"undertide/connect/codec"
	"undertide/connect/file"
	"undertide/connect/kafka"
	"undertide/connect/simulate"
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
	// FirstEpoch is the least epoch to use, since epochs are never used twice; 0 for 1.
	FirstEpoch int64
	// Tap gives somebody who looks at rows of a source, step or part; it may give nil. Names are as in
	// `from`: minute, late of minute, rejects of levels.
	Tap func(name string, s row.Schema) engine.Tap
	// Resumed is told where the checkpoint that the run starts from stood; of none where there is none.
	// May be nil.
	Resumed func([]engine.PartitionState)
	// Ready is called when everything is connected and the run begins; may be nil.
	Ready func(*engine.Graph)
	// Completed is told of each complete checkpoint; may be nil.
	Completed func(engine.Completed)
	// StopWithin bounds how long a stopped run waits for its last checkpoint; 0 for no bound.
	StopWithin time.Duration
}

// ErrUsage is wrapped where options do not fit the job: a wrong name, two readers of standard input.
var ErrUsage = errors.New("wrong use")

func (o *Options) say(format string, args ...any) {
	if o.Say != nil {
		o.Say(fmt.Sprintf(format, args...))
	}
}

// builder joins a job with its connectors.
type builder struct {
	job   *job.Job
	opt   *Options
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

func names[T any](list []T, name func(*T) string) []string {
	out := make([]string, len(list))
	for i := range list {
		out[i] = name(&list[i])
	}
	return out
}

// graph builds what the engine runs.
func (b *builder) graph(known map[string][]string) (*engine.Graph, error) {
	j := b.job
	sources := names(j.Sources, func(s *job.Source) string { return s.Name })
	sinks := names(j.Sinks, func(s *job.Sink) string { return s.Name })
	for name := range b.opt.In {
		if !slices.Contains(sources, name) {
			return nil, unknown("--in", name, "source", sources)
		}
	}
	for name := range b.opt.Out {
		if !slices.Contains(sinks, name) {
			return nil, unknown("--out", name, "sink", sinks)
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
	g.Steps = steps(j)
	for i := range j.Sinks {
		s := &j.Sinks[i]
		sink, err := b.sink(s)
		if err != nil {
			return nil, err
		}
		g.Sinks = append(g.Sinks, engine.SinkNode{Name: s.Name, From: s.From, Schema: s.Schema, Sink: sink})
	}
	b.taps(g)
	return g, nil
}

// taps lets somebody look at the rows of every step, and at what is late or rejected.
func (b *builder) taps(g *engine.Graph) {
	if b.opt.Tap == nil {
		return
	}
	add := func(name string, r engine.Ref) {
		schema := g.SchemaOf(r)
		if t := b.opt.Tap(name, schema); t != nil {
			g.Taps = append(g.Taps, engine.TapNode{From: r, Schema: schema, Tap: t})
		}
	}
	for i, s := range g.Sources {
		add(s.Name, engine.Ref{At: i})
		add("rejects of "+s.Name, engine.Ref{At: i, Part: engine.RejectPart})
	}
	for i := range b.job.Steps {
		s := &b.job.Steps[i]
		names, parts, _ := s.Parts()
		for n, name := range names {
			add(name, engine.Ref{OfStep: true, At: i, Part: parts[n]})
		}
		add("rejects of "+s.Name, engine.Ref{OfStep: true, At: i, Part: engine.RejectPart})
	}
}

func unknown(flag, name, what string, known []string) error {
	remedy := "the document has " + strings.Join(known, ", ")
	if n := job.Nearest(name, known); n != "" {
		remedy = "did you mean " + n + "?"
	}
	return fmt.Errorf("%w: %s %s=…: the document has no %s %s; %s", ErrUsage, flag, name, what, name, remedy)
}

// CodecFields gives a source's fields as decoders take them.
func CodecFields(fields []job.Field) codec.Fields {
	var out codec.Fields
	for _, f := range fields {
		c := codec.Field{Name: f.Name, Kind: f.Kind, At: f.At, Parse: codec.ParseNames[f.Parse], Default: f.Default, Required: f.Required}
		if f.Layout != "" {
			c.Parse, c.Layout, c.Zone = codec.ByLayout, f.Layout, f.Zone
		}
		out = append(out, c)
	}
	return out
}

// source makes the partitions and decoder of a source. known are the partitions of the checkpoint
// that the run starts from, which a bounded run reads again and no others.
func (b *builder) source(s *job.Source, known []string) (engine.Source, error) {
	fields := CodecFields(s.Fields)
	out := engine.Source{Name: s.Name, Schema: s.Schema, EventTime: s.EventTime, Arrival: s.Arrival, Margin: s.Margin, Ahead: s.Ahead, Idle: s.Idle, Advance: s.Advance, Bounded: true}
	pattern, decode, follow := s.File.Pattern, s.Decode, s.File.Follow
	replaced, isReplaced := b.opt.In[s.Name]
	if isReplaced {
		pattern, follow = replaced, false
		decode = "json"
		switch ext := filepath.Ext(replaced); ext {
		case ".csv":
			decode = "csv"
		case ".log", ".txt":
			decode = s.Decode
		case ".parquet":
			return out, fmt.Errorf("%w: --in %s=%s: Parquet is not built yet; give NDJSON or CSV", ErrUsage, s.Name, replaced)
		}
	} else if s.Via == "kafka" {
		err := b.topic(s, known, &out)
		return out, err
	} else if s.Via == "simulate" {
		out.Bounded = s.Sim.Count > 0
		out.Partitions = []engine.Partition{Simulated(s)}
		out.NewDecoder = func() engine.Decoder { return codec.NewJSONDecoder(fields) }
		return out, nil
	}
	form := file.Lines
	out.NewDecoder = func() engine.Decoder { return codec.NewJSONDecoder(fields) }
	if decode == "csv" {
		form = file.CSV
		out.NewDecoder = func() engine.Decoder { return codec.NewCSVDecoder(fields) }
	} else if decode == "text" {
		out.NewDecoder = func() engine.Decoder { return codec.NewTextDecoder(fields, s.Pattern) }
	}
	out.Bounded = !follow
	if pattern == "-" {
		if b.stdin != "" {
			return out, fmt.Errorf("%w: sources %s and %s both read standard input; give one of them a file", ErrUsage, b.stdin, s.Name)
		}
		b.stdin = s.Name
		if err := b.readOnce("standard input"); err != nil {
			return out, err
		}
		in := b.opt.Stdin
		if in == nil {
			in = os.Stdin
		}
		out.Partitions = []engine.Partition{file.NewInput("-", in, form)}
		return out, nil
	}
	if !isReplaced && !filepath.IsAbs(pattern) {
		pattern = filepath.Join(b.job.Dir, pattern)
	}
	if follow && file.IsPattern(pattern) {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return out, fmt.Errorf("source %s: %q is no pattern; use * and ?, and [ ] in pairs", s.Name, pattern)
		}
		set := file.Follow(pattern, form, b.opt.Block)
		paths := append(found, known...) // a known one may have another name by now
		slices.Sort(paths)
		for _, p := range slices.Compact(paths) {
			out.Partitions = append(out.Partitions, set.Partition(p))
		}
		out.Find = set.Find
		return out, nil
	}
	paths := known
	if len(paths) == 0 || follow {
		found, err := expand(pattern)
		if err != nil {
			return out, fmt.Errorf("source %s: %w", s.Name, err)
		}
		paths = found
	}
	for _, p := range paths {
		if st, err := os.Stat(p); err == nil && !st.Mode().IsRegular() {
			if err := b.readOnce(p); err != nil {
				return out, err
			}
			in, err := os.Open(p) // a pipe, such as the shell's <(…): opened once, and read once
			if err != nil {
				return out, fmt.Errorf("source %s: %w", s.Name, file.Explain("open", p, err))
			}
			out.Partitions = append(out.Partitions, file.NewInput(p, in, form))
			continue
		}
		out.Partitions = append(out.Partitions, file.NewPartition(p, form, follow, b.opt.Block))
	}
	return out, nil
}

// readOnce refuses an input that cannot be read again where checkpoints are kept.
func (b *builder) readOnce(what string) error {
	if b.opt.Checkpoints == "" {
		return nil
	}
	return fmt.Errorf("%w: %s cannot be read again after a restart; put the events into a file, or leave out --checkpoints", ErrUsage, what)
}

// expand gives the files of a path or glob, in byte order.
func expand(pattern string) ([]string, error) {
	if !file.IsPattern(pattern) {
		st, err := os.Stat(pattern)
		if err != nil {
			return nil, file.Explain("open", pattern, err)
		}
		if st.IsDir() {
			return nil, fmt.Errorf("%s is a folder; name a file, or a pattern such as %s", pattern, filepath.Join(pattern, "*.ndjson"))
		}
		if !st.Mode().IsRegular() {
			return []string{pattern}, nil
		}
		f, err := os.Open(pattern) // the right to read is asked for before anything is written
		if err != nil {
			return nil, file.Explain("open", pattern, err)
		}
		return []string{pattern}, f.Close()
	}
	found, err := filepath.Glob(pattern)
	if err != nil {
		return nil, fmt.Errorf("%q is no pattern; use * and ?, and [ ] in pairs", pattern)
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("no file matches %s; check the pattern, and quote it so that the shell leaves it alone", pattern)
	}
	slices.Sort(found)
	return found, nil
}

// Simulated makes the partition of a simulated source.
func Simulated(s *job.Source) *simulate.Partition { return simulate.New(s.Name, simulation(s)) }

// Live makes the partition of a simulated source whose events come by the clock.
func Live(s *job.Source) *simulate.Partition {
	c := simulation(s)
	c.ByClock = true
	return simulate.New(s.Name, c)
}

func simulation(s *job.Source) simulate.Config {
	m := s.Sim
	c := simulate.Config{PerSecond: m.PerSecond, Count: m.Count, Seed: m.Seed, Start: m.Start, DisorderShare: m.DisorderShare, DisorderUpTo: m.DisorderUpTo,
		AgainShare: m.AgainShare, QuietField: m.Quiet.Field, QuietValue: m.Quiet.Value, QuietEvery: m.Quiet.Every, QuietFor: m.Quiet.For, Backlog: m.Quiet.Backlog}
	for _, f := range m.Fields {
		made := simulate.Maker{Name: f.Name, Kind: f.Kind, Make: f.Make, Pick: f.Pick, Numbers: f.Numbers, Period: f.Period, Expr: f.Expr}
		for _, declared := range s.Fields { // a timestamp is written as the source will read it
			if declared.Name == f.Name || declared.At.Column() == f.Name {
				made.Parse = codec.ParseNames[declared.Parse]
			}
		}
		c.Makers = append(c.Makers, made)
	}
	return c
}

// sink makes the sink that a document or --out names.
func (b *builder) sink(s *job.Sink) (engine.Sink, error) {
	o := file.Output{Schema: s.Schema}
	path := s.Path
	csv := s.Encode == "csv"
	replaced, isReplaced := b.opt.Out[s.Name]
	switch {
	case isReplaced:
		path, csv = replaced, strings.HasSuffix(replaced, ".csv")
		if strings.HasSuffix(replaced, ".parquet") {
			return nil, fmt.Errorf("%w: --out %s=%s: Parquet is not built yet; write .ndjson or .csv", ErrUsage, s.Name, replaced)
		}
	case s.Via == "kafka":
		conn, err := Reach(s.Kafka.Connection)
		if err != nil {
			return nil, fmt.Errorf("sink %s: %w", s.Name, err)
		}
		return kafka.NewSink(kafka.SinkConfig{Connection: conn, Topic: s.Kafka.Topic, Key: s.Kafka.Key, Create: s.Kafka.Create, Partitions: s.Kafka.Partitions}), nil
	case path != "-" && !filepath.IsAbs(path):
		folder := file.IsFolder(path)
		path = filepath.Join(b.job.Dir, path)
		if folder {
			path += "/"
		}
	}
	if csv {
		o.Format = file.CSV
	}
	if path == "-" {
		if b.out != "" {
			return nil, fmt.Errorf("%w: sinks %s and %s both write standard output; give one of them a file", ErrUsage, b.out, s.Name)
		}
		b.out = s.Name
		switch b.opt.Format {
		case "table":
			o.Format = file.Table
		case "csv":
			o.Format = file.CSV
		case "json":
			o.Format = file.Lines
		}
		w := b.opt.Stdout
		if w == nil {
			w = os.Stdout
		}
		return file.NewStream("standard output", w, o), nil
	}
	if file.IsFolder(path) {
		return file.NewFolder(filepath.Clean(path), s.Name, s.Roll, o), nil
	}
	if st, err := os.Stat(path); err == nil && !st.Mode().IsRegular() && !st.IsDir() {
		f, err := os.OpenFile(path, os.O_WRONLY, 0) // a pipe or device: rows as they are made
		if err != nil {
			return nil, fmt.Errorf("sink %s: %w", s.Name, file.Explain("write", path, err))
		}
		return file.NewStream(path, f, o), nil
	}
	if !isReplaced {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, fmt.Errorf("sink %s: %w", s.Name, file.Explain("make folder", filepath.Dir(path), err))
		}
	}
	return file.NewSingle(path, o), nil
}

// every gives the time between checkpoints. Without a store it is the time between deliveries, so that
// rolled files appear while the run goes on.
func every(j *job.Job, opt *Options) time.Duration {
	if opt.EveryTurns > 0 {
		return 0
	}
	return j.CheckpointEvery
}
