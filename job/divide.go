package job

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"undertide/core/row"
	"undertide/core/state"
)

// How what portions keep is divided anew among another number of them (docs/spread.md, "Other portions").

// Reads says whether a portion goes on with a partition of one of its sources: one of its share, and none of what crosses, which is empty when portions are divided.
func (j *Job) Reads(source, partition string) bool {
	i := slices.IndexFunc(j.Sources, func(s Source) bool { return s.Name == source })
	return i >= 0 && j.Sources[i].Share != nil && j.Sources[i].Share.Has(partition)
}

// Owner gives what says whether a portion has a row of a step's table: its key finds the portion as it did when its rows crossed.
func (j *Job) Owner(step string, t *state.Table) (func(r *state.Rows, i int) (bool, error), error) {
	s := j.StepNamed(step)
	if s == nil || s.Keyed == nil {
		return nil, fmt.Errorf("portion %s has no step %s that keeps something", j.Of.Name(), step)
	}
	mine := func(hash uint64) bool { return state.PortionOf(hash, j.Of.Of) == j.Of.Number }
	if slices.Equal(t.Key.Names(), s.by) {
		return func(r *state.Rows, i int) (bool, error) { return mine(r.Hash[i]), nil }, nil
	}
	var all, by []*row.Column // of one key
	for _, f := range t.Key {
		all = append(all, row.NewColumn(f.Kind))
	}
	for _, name := range s.by {
		at := t.Key.Index(name)
		if at < 0 {
			return nil, fmt.Errorf("the key of step %s has no %s, by which its rows came to portion %s", step, name, j.Of.Name())
		}
		by = append(by, all[at])
	}
	var keys state.Keys
	return func(r *state.Rows, i int) (bool, error) {
		for _, c := range all {
			c.Reset()
		}
		if err := state.AppendKey(all, r.Key(i)); err != nil {
			return false, err
		}
		keys.EncodeOne(by, 0)
		return mine(keys.Hash[0]), nil
	}, nil
}

// TakesFrom says whether a portion has rows of state that portion n of so many of its part had. The steps of the first part keep nothing.
func (j *Job) TakesFrom(n, of int) bool {
	for x := range uint64(state.Shares) {
		if hash := x * state.Shares; j.Of.Part > 0 && state.PortionOf(hash, of) == n && state.PortionOf(hash, j.Of.Of) == j.Of.Number {
			return true
		}
	}
	return false
}

// WithPortions gives the document with another number of portions, and all else as it was written.
func (d *Document) WithPortions(n int) (string, error) {
	of, settings := (*node)(nil), d.root.get("settings")
	if settings != nil {
		of = settings.get("spread")
	}
	if of != nil && of.kind == mapNode {
		of = of.get("portions")
	}
	if of == nil || of.kind != scalarNode {
		return "", errors.New("the document does not say into how many portions the job is cut; write settings: {spread: " + strconv.Itoa(n) + "}")
	}
	lines := strings.Split(d.text, "\n")
	line := []rune(lines[of.line-1])
	from, to := of.column-1, of.column-1+len([]rune(of.text))
	alias := of.line < settings.line || of.line == settings.line && of.column < settings.column // of a number that others may have, too
	if alias || to > len(line) || string(line[from:to]) != of.text {
		return "", fmt.Errorf("the number of portions in line %d cannot be replaced; write %d there, and save the document", of.line, n)
	}
	lines[of.line-1] = string(line[:from]) + strconv.Itoa(n) + string(line[to:])
	return strings.Join(lines, "\n"), nil
}
