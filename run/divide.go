package run

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"strconv"
	"strings"

	"undertide/checkpoint"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
)

// Rest is how the run of a portion comes to rest: it reads what its writers have written for it, see [engine.Rest].
type Rest struct {
	engine.Rest
	// Ends are how much has been written, by source to which rows cross, and by writer.
	Ends map[string]map[string]int64 `json:"ends,omitempty"`
}

// ends gives those of a source; nil for one to which nothing crosses, or of a run as any other.
func (r *Rest) ends(s *job.Source) map[string]int64 {
	if r == nil || !s.Crosses() {
		return nil
	}
	if ends := r.Ends[s.Name]; ends != nil {
		return ends
	}
	return map[string]int64{}
}

// RestOf gives how a portion comes to rest whose writers have, by what their newest checkpoints say: by portion of the job, in their order, of each part before that writes for it.
// before gives those of a part.
func RestOf(j *job.Job, before func(part int) ([]*job.Job, []checkpoint.Info)) (*Rest, error) {
	out := &Rest{Ends: map[string]map[string]int64{}}
	for i := range j.Sources {
		s := &j.Sources[i]
		if !s.Crosses() {
			continue
		}
		jobs, infos := before(s.Writers())
		ends := map[string]int64{}
		for n, of := range jobs {
			written, err := writtenTo(of, s.Name, infos[n])
			if err != nil {
				return nil, fmt.Errorf("portion %s, %s: %w", of.Of.Name(), s.Name, err)
			}
			ends[strconv.Itoa(n+1)] = written[j.Of.Number]
		}
		out.Ends[s.Name] = ends
	}
	return out, nil
}

// writtenTo gives how much a portion has written for each reader of what crosses, by what its newest checkpoint says.
func writtenTo(of *job.Job, crossing string, newest checkpoint.Info) ([]int64, error) {
	for i := range of.Sinks {
		if to, ok := of.Sinks[i].With.(connect.Crossed); ok && of.Sinks[i].Name == crossing {
			if newest.Finished && newest.Shipments[crossing] == nil { // it was divided of portions that had come to their end, and so have those that it would write for
				return make([]int64, of.Of.Of), nil
			}
			return to.Crossed(newest.Shipments[crossing])
		}
	}
	return nil, errors.New("it does not write that; this is a bug of Under Tide")
}

// Together gives the watermarks to which the portions of a part have to come before their state may stand together, by what their newest checkpoints say; nil where all of them have.
func Together(of []checkpoint.Info) *engine.Rest {
	greatest := &engine.Rest{Sources: map[string]row.Time{}, Steps: map[string]row.Time{}}
	for _, one := range of {
		raise(greatest.Sources, one.Watermarks)
		raise(greatest.Steps, one.StepMarks)
	}
	for _, one := range of {
		if !maps.Equal(greatest.Sources, one.Watermarks) || !maps.Equal(greatest.Steps, one.StepMarks) {
			return greatest
		}
	}
	return nil
}

func raise(w, others map[string]row.Time) {
	for name, at := range others {
		if was, some := w[name]; !some || at > was {
			w[name] = at
		}
	}
}

// DividesTo says what keeps the portions of another version of a job from going on with what those of this one keep, in another number. The steps, sources and sinks have to be the
// same.
func DividesTo(j, other *job.Job) error {
	was, err := j.Parts()
	if err != nil {
		return err
	}
	now, err := other.Parts()
	if err != nil {
		return err
	}
	if was.Number != now.Number {
		return fmt.Errorf("one has %d parts, and the other %d", was.Number, now.Number)
	}
	var differ []string
	for _, c := range checkpoint.Compare(j.Pieces, other.Pieces) {
		if c.What != checkpoint.Kept {
			differ = append(differ, c.Part)
		}
	}
	if len(differ) > 0 {
		return fmt.Errorf("they differ in %s", strings.Join(differ, ", "))
	}
	return nil
}

// Divide makes the first checkpoint of a portion, in a folder that has none, of what the portions of its part have kept that have come to rest: from are the folders of the
// newest checkpoints of all of them, in their order, with the state of those that [job.Job.TakesFrom] names.
func Divide(j *job.Job, dir string, from []string) (checkpoint.Info, error) {
	var shares []checkpoint.Share
	for n, of := range from {
		shares = append(shares, checkpoint.Share{Dir: of, State: j.TakesFrom(n, len(from)), Counts: n%j.Of.Of == j.Of.Number})
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return checkpoint.Info{}, explain(dir, err)
	}
	info, err := checkpoint.Divide(checkpoint.Disk, dir, shares, checkpoint.Division{Job: j.Name, Digest: j.Digest, Pieces: j.Pieces, Reads: j.Reads, Owner: j.Owner, Alike: j.Of.Part > 0})
	if err != nil {
		err = fmt.Errorf("divide what portions keep: %w", err)
	}
	return info, err
}
