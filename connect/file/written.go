package file

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"undertide/connect"
)

// mostWritten bounds how many files are opened for the newest rows.
const mostWritten = 100

// Written gives the newest rows of the sink's files, of the last by name first ([connect.Readable]). Those of one file that is not finished count.
func (s *sink) Written(ctx context.Context, o connect.Opening, rows int) (connect.Sample, error) {
	var out connect.Sample
	path := s.at(o.Dir)
	if path == "-" {
		return out, fmt.Errorf("%w: rows were written to standard output, and are kept nowhere", connect.ErrCannot)
	}
	from := &source{pattern: path, files: s.files, Connection: s.Connection}
	t, err := from.tree()
	if err != nil {
		return out, err
	}
	paths, err := s.writtenTo(t, path, o.Name)
	if err != nil {
		return out, err
	}
	if o.Format.Open != nil {
		out.Format = o.Format.Name
	}
	for n := len(paths) - 1; n >= max(0, len(paths)-mostWritten) && len(out.Events) < rows; n-- {
		one := connect.Sample{Format: out.Format}
		if err := connect.Drain(ctx, wholeOf(t, paths[n], o, false, 0), len(out.Events)-rows, &one); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				continue // somebody has taken it away meanwhile
			}
			return out, err
		}
		one.Events, one.Notes = append(one.Events, out.Events...), out.Notes
		out = one
	}
	return out, nil
}

// writtenTo gives the files that the sink has written, the oldest first: names of rolled files have the number of their epoch.
func (s *sink) writtenTo(t tree, path, name string) ([]string, error) {
	if !isFolder(path) {
		for _, p := range []string{path, part(path)} {
			if _, err := t.Stat(p); err == nil {
				return []string{p}, nil
			}
		}
		return nil, nil
	}
	within := plain.Replace(path) + strings.Repeat("*/", depth(s.folders)) + plain.Replace(name) + "-*"
	found, err := t.Glob(within)
	if err != nil {
		return nil, globFault(within, err)
	}
	found = slices.DeleteFunc(found, func(p string) bool { return strings.HasSuffix(p, ".part") })
	slices.SortFunc(found, func(a, b string) int { // NAME-EPOCH-NUMBER: an epoch has eight digits, a number as many as it needs
		a, b = filepath.Base(a), filepath.Base(b)
		epoch := func(s string) string { return s[:min(len(s), len(name)+9)] }
		return cmp.Or(strings.Compare(epoch(a), epoch(b)), cmp.Compare(len(a), len(b)), strings.Compare(a, b))
	})
	return found, nil
}
