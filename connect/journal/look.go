package journal

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"undertide/connect"
	"undertide/disk"
)

// Look takes events that stand in the journal of a source, the newest or the oldest of them, beside whoever writes it. What checkpoints have passed is not
// there any more.
func Look(o connect.Sampling, partition, otherwise string) (out connect.Sample, err error) {
	if o.Journal == "" {
		return out, fmt.Errorf("%w: what it takes is seen where it is written down: of a job in a service with --server and its address, of a run with --checkpoints and its folder; or %s", connect.ErrCannot, otherwise)
	}
	dir, err := newestLease(o.Journal)
	if err != nil {
		return out, err
	}
	j := &Journal{dir: cmp.Or(dir, o.Journal)}
	if err := j.list(); errors.Is(err, fs.ErrNotExist) || err == nil && len(j.segments) == 0 {
		out.Notes = append(out.Notes, "nothing is written down yet: start the job, and "+otherwise)
		return out, nil
	} else if err != nil {
		return out, err
	}
	if o.From != connect.Newest {
		for _, s := range j.segments {
			some, err := j.events(s, partition, o.At)
			if out.Events = append(out.Events, some...); err != nil || len(out.Events) >= o.Rows {
				out.Events = out.Events[:min(len(out.Events), o.Rows)]
				return out, err
			}
		}
		return out, nil
	}
	for _, s := range slices.Backward(j.segments) {
		some, err := j.events(s, partition, o.At)
		if out.Events = append(some, out.Events...); err != nil || len(out.Events) >= o.Rows {
			out.Events = out.Events[max(0, len(out.Events)-o.Rows):]
			return out, err
		}
	}
	return out, nil
}

// events gives a segment's events that were taken at a time or later; none where the segment was removed meanwhile.
func (j *Journal) events(s *segment, partition string, since time.Time) (out []connect.Event, err error) {
	f, err := os.Open(j.path(s))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, disk.Explain("read", j.path(s), err)
	}
	defer f.Close()
	r := newRecords(f)
	for {
		rec, err := r.next()
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, errBroken): // it is being written
			return out, nil
		case err != nil:
			return out, err
		case rec.at.Before(since):
			continue
		}
		texts, err := rec.split(nil)
		if err != nil {
			return out, nil
		}
		for i, text := range texts {
			out = append(out, connect.Event{Partition: partition, Offset: rec.first + int64(i), Stored: rec.at, Text: slices.Clone(text)})
		}
	}
}
