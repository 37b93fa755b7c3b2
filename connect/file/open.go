package file

import (
	"context"
	"fmt"
	"io"
	"path/filepath"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/disk"
)

// Open finds the files. A bounded run that goes on from a checkpoint reads those that it knows and no others.
func (s *source) Open(ctx context.Context, o connect.Opening) (connect.Opened, error) {
	if s.pattern == "-" {
		in, err := o.Stdin()
		if err != nil {
			return connect.Opened{}, err
		}
		return connect.Opened{Partitions: []engine.Partition{input("-", in, o)}}, nil
	}
	pattern := s.at(o.Dir)
	t, err := s.tree()
	if err != nil {
		return connect.Opened{}, err
	}
	if s.Grows && isPattern(pattern) {
		return followed(t, pattern, o)
	}
	paths := o.Known
	if len(paths) == 0 || s.Grows {
		found, err := expand(ctx, t, pattern)
		if err != nil {
			return connect.Opened{}, err
		}
		paths = found
	}
	var out connect.Opened
	for _, p := range paths {
		part, err := s.partition(ctx, t, p, o)
		if err != nil {
			return out, err
		}
		out.Partitions = append(out.Partitions, part)
	}
	return out, nil
}

// partition makes the partition of a path. A pipe, such as the shell's <(…), is opened once and read once.
func (s *source) partition(ctx context.Context, t tree, path string, o connect.Opening) (engine.Partition, error) {
	if st, err := t.Stat(path); err != nil || st.Mode().IsRegular() || st.IsDir() {
		return wholeOf(t, path, o, s.Grows, o.Block), nil
	}
	if err := o.Once(path); err != nil {
		return nil, err
	}
	in, err := t.Open(ctx, path)
	if err != nil {
		return nil, explainOpen(path, err)
	}
	return input(path, in, o), nil
}

// wholeOf makes the partition of a file that can be read again.
func wholeOf(t tree, path string, o connect.Opening, grows bool, block int) engine.Partition {
	if o.Format.Open != nil {
		return newContained(t, path, o.Format, o.Fields)
	}
	return newPartition(t, path, recordsOf(o.Format), grows, block)
}

// input makes the partition of what is read once.
func input(name string, in io.Reader, o connect.Opening) engine.Partition {
	if o.Format.Open != nil {
		return &contained{path: name, open: o.Format.Open, fields: o.Fields, in: in}
	}
	return newInput(name, in, recordsOf(o.Format))
}

// followed finds the growing files of a pattern, and goes on looking. A known one may have another name by now.
func followed(t tree, pattern string, o connect.Opening) (connect.Opened, error) {
	found, err := t.Glob(pattern)
	if err != nil {
		return connect.Opened{}, globFault(pattern, err)
	}
	set := follow(t, pattern, recordsOf(o.Format), o.Block)
	out := connect.Opened{Find: set.Find}
	for _, p := range sorted(append(found, o.Known...)) {
		out.Partitions = append(out.Partitions, set.Partition(p))
	}
	return out, nil
}

// at gives the pattern as the working folder sees it.
func (s *source) at(dir string) string {
	if s.named || filepath.IsAbs(s.pattern) || isObject(s.pattern) {
		return s.pattern
	}
	return filepath.Join(dir, s.pattern)
}

// expand gives the files of a path or glob, in byte order.
func expand(ctx context.Context, t tree, pattern string) ([]string, error) {
	if !isPattern(pattern) {
		st, err := t.Stat(pattern)
		if err != nil {
			return nil, explainOpen(pattern, err)
		}
		if st.IsDir() {
			return nil, fmt.Errorf("%s is a folder; name a file, or a pattern such as %s", pattern, filepath.Join(pattern, "*.ndjson"))
		}
		if !st.Mode().IsRegular() {
			return []string{pattern}, nil
		}
		f, err := t.Open(ctx, pattern) // the right to read is asked for before anything is written
		if err != nil {
			return nil, explainOpen(pattern, err)
		}
		return []string{pattern}, f.Close()
	}
	found, err := t.Glob(pattern)
	if err != nil {
		return nil, globFault(pattern, err)
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("no file matches %s; check the pattern, and quote it so that the shell leaves it alone", pattern)
	}
	return sorted(found), nil
}

// readWhole bounds the files of which the newest events are looked for.
const readWhole = 256 << 20

// Sample takes events of each file.
func (s *source) Sample(ctx context.Context, o connect.Opening, which connect.Sampling) (connect.Sample, error) {
	var out connect.Sample
	if s.pattern == "-" {
		return out, fmt.Errorf("%w: source %s reads standard input, which cannot be looked at beforehand; put the events into a file and give --in %s=PATH", connect.ErrUsage, o.Name, o.Name)
	}
	t, err := s.tree()
	if err != nil {
		return out, err
	}
	paths, err := expand(ctx, t, s.at(o.Dir))
	if err != nil {
		return out, err
	}
	if o.Format.Open != nil {
		out.Format = o.Format.Name
	}
	each := max(1, which.Rows/len(paths))
	for _, path := range paths {
		if st, err := t.Stat(path); err == nil && !st.Mode().IsRegular() && !st.IsDir() {
			return out, fmt.Errorf("%w: %s: %w, which cannot be looked at beforehand; put the events into a file", connect.ErrUsage, path, disk.ErrSpecial)
		}
		p := wholeOf(t, path, o, false, 0)
		most := each
		if which.From == connect.Newest {
			most = -each
			if p.Size() > readWhole {
				most = each
				out.Notes = append(out.Notes, fmt.Sprintf("%s is large: its oldest events were taken, not its newest", path))
			}
		}
		if err := connect.Drain(ctx, p, most, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// Open makes the sink: of a folder, a file, a pipe or standard output.
func (s *sink) Open(ctx context.Context, o connect.Opening) (engine.Sink, error) {
	out := Output{Format: o.Format, Schema: o.Schema, Files: s.files}
	path := s.at(o.Dir)
	if isObject(path) {
		return s.openBucket(path, o, out)
	}
	if path == "-" {
		w, format, err := o.Stdout()
		if err != nil {
			return nil, err
		}
		if format != nil {
			out.Format = format
		}
		return NewStream(standardOutput, w, out), nil
	}
	if isFolder(path) {
		f := NewFolder(filepath.Clean(path), o.Called(), s.rolled(), out)
		f.leased = o.Lease > 0
		return f, nil
	}
	if s.isSpecial(path) {
		f, err := s.files.OpenOutput(ctx, path)
		if err != nil {
			return nil, disk.Explain("write", path, err)
		}
		return NewStream(path, f, out), nil
	}
	if o.Lease > 0 {
		return nil, fmt.Errorf("%w: %s is one file, which a node that has lost the job could go on writing beside the one that has it; let the rows go into files of a folder (end the path with /)", connect.ErrUsage, path)
	}
	if !s.named {
		if err := s.files.MkdirAll(filepath.Dir(path)); err != nil {
			return nil, disk.Explain("make folder", filepath.Dir(path), err)
		}
	}
	return NewSingle(path, out), nil
}

// Place says where the rows are.
func (s *sink) Place(dir string, finished bool) string {
	path := s.at(dir)
	if isObject(path) {
		return path
	}
	if path == "-" {
		return standardOutput
	}
	if st, err := s.files.Stat(path); !finished && !isFolder(path) && (err != nil || st.Mode().IsRegular()) {
		return path + ".part, unfinished"
	}
	return path
}
