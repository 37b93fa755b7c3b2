package run

import (
	"errors"
	"strings"

	"undertide/checkpoint"
	"undertide/core/state"
	"undertide/core/step"
	"undertide/job"
)

// KeptPart tells what becomes of a part of a job that keeps something, when another version of the document
// goes on from a checkpoint.
type KeptPart struct {
	Kind, Name string
	What       string // kept, new, changed, gone
	Text       string
	Must       bool // that it is left behind must be said
}

// Kept compares a document with a checkpoint in a folder, of epoch 0 with the newest, nil where there is none; epoch is the
// checkpoint's, same says that this very document made it.
func Kept(j *job.Job, dir string, of int64) (parts []KeptPart, epoch int64, same bool, err error) {
	store, err := checkpoint.Open(checkpoint.Disk, dir, checkpoint.Options{Job: j.Name, Digest: j.Digest, Pieces: j.Pieces})
	if err != nil {
		return nil, 0, false, err
	}
	m, err := store.Look(of)
	if err != nil || m == nil {
		return nil, 0, false, err
	}
	old := m.Pieces
	if m.Same {
		old = j.Pieces
	}
	all := checkpoint.Compare(old, j.Pieces)
	must := checkpoint.MustDrop(all, nil)
	for _, c := range all {
		if c.What == checkpoint.Kept && strings.HasPrefix(c.Part, "measure ") {
			continue // its step is, too
		}
		p := KeptPart{What: string(c.What)}
		p.Kind, p.Name, _ = strings.Cut(c.Part, " ")
		p.Text = keptTexts[p.Kind][p.What]
		for _, m := range must {
			p.Must = p.Must || m == c.Part
		}
		parts = append(parts, p)
	}
	return parts, m.Epoch, m.Same, nil
}

// fits tells how what another version of a job's steps kept becomes theirs.
func fits(j *job.Job) func(of string, kept *state.Table, fresh []string) (*state.Table, func(*state.Rows) *state.Rows, error) {
	return func(of string, kept *state.Table, fresh []string) (*state.Table, func(*state.Rows) *state.Rows, error) {
		for i := range j.Steps {
			if s := &j.Steps[i]; s.Name == of && s.Keyed != nil {
				return step.Fit(s.Keyed, kept, fresh)
			}
		}
		return nil, nil, errors.New("it keeps nothing any more")
	}
}

var keptTexts = map[string]map[string]string{
	"source":  {"kept": "goes on from its positions", "new": "is read from where begin says", "changed": "reads something else: its positions are of no use, and it is read from where begin says", "gone": "is read no more"},
	"measure": {"new": "begins empty, and is null in windows that have begun", "changed": "begins anew, and is null in windows that have begun", "gone": "goes; the other measures of the step keep theirs"},
	"step":    {"kept": "goes on with its state", "new": "begins empty, with the events from here on", "changed": "its key, window or what it reads changed: its state does not fit, and it begins empty", "gone": "is gone, and its open windows with it"},
	"sink":    {"kept": "goes on after what it delivered", "new": "takes what is published from here on", "changed": "writes to another place from here on", "gone": "takes nothing more; what it delivered stays"},
}
