package store

import (
	"context"
	"errors"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// write writes records that wait, in order. It gives how many of the first are done with; only a database that is away is an error.
func (s *Store) write(ctx context.Context, some []record) (done int, err error) {
	var refused []record
	err = s.ask(ctx, "write records", func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) (err error) {
			refused, err = together(tx, some)
			return err
		})
	})
	switch {
	case err == nil:
		for _, r := range refused {
			s.log.Warn("a record was refused: another node has taken the job over since", "job", r.jobOf(), "lease", r.Lease)
		}
		return len(some), nil
	case errors.Is(err, ErrUnreachable) || ctx.Err() != nil:
		return 0, err
	case len(some) == 1: // such as of a job that was deleted meanwhile
		s.log.Warn("a record could not be written", "error", err)
		return 1, nil
	}
	for n := range some { // the others are as they should be
		if _, err := s.write(ctx, some[n:n+1]); err != nil {
			return n, err
		}
	}
	return len(some), nil
}

// together writes records as one change, those of a kind with one question where they can be: the figures of twenty portions take one. It gives those that bear the number of a
// lease which is another's by now, and so are not written.
func together(tx *gorm.DB, some []record) (refused []record, err error) {
	some, refused, err = standing(tx, some)
	if err != nil {
		return nil, err
	}
	var g gathered
	for _, r := range some {
		g.add(r)
	}
	return refused, g.write(tx)
}

// standing tells records whose job's lease is still that by which they were made from the others.
func standing(tx *gorm.DB, some []record) (held, others []record, err error) {
	var jobs []int64
	for _, r := range some {
		if r.Lease > 0 && !slices.Contains(jobs, r.jobOf()) {
			jobs = append(jobs, r.jobOf())
		}
	}
	var now map[int64]int64
	if len(jobs) > 0 {
		if now, err = numbers(tx, jobs...); err != nil {
			return nil, nil, err
		}
	}
	for _, r := range some {
		switch {
		case r.Lease == 0 || now[r.jobOf()] == r.Lease:
			held = append(held, r)
		case r.Released == 0: // of a lease that is another's nothing is to be let go
			others = append(others, r)
		}
	}
	return held, others, nil
}

// gathered are records that are written together, by kind. What does not depend on what else is written keeps no order.
type gathered struct {
	runs        []Run // the last of each
	events      []Event
	shapes      []Shape // each once: they are long, and few
	points      []Point
	checkpoints []Checkpoint
	epochs      map[int64]int64 // by job: the greatest
	others      []record        // in order: they are few
	released    []record
}

func (g *gathered) add(r record) {
	switch {
	case r.Run != nil:
		g.runs = append(slices.DeleteFunc(g.runs, func(x Run) bool { return x.ID == r.Run.ID }), *r.Run)
	case r.Event != nil:
		g.events = append(g.events, *r.Event)
	case r.Points != nil:
		for _, sh := range r.Points.Shapes {
			if !slices.ContainsFunc(g.shapes, func(x Shape) bool { return x.ID == sh.ID }) {
				g.shapes = append(g.shapes, sh)
			}
		}
		g.points = append(g.points, r.Points.Points...)
	case r.Checkpoint != nil:
		if g.epochs == nil {
			g.epochs = map[int64]int64{}
		}
		g.checkpoints = append(g.checkpoints, *r.Checkpoint)
		g.epochs[r.Job] = max(g.epochs[r.Job], r.Checkpoint.Epoch)
	case r.Released > 0:
		g.released = append(g.released, r)
	default:
		g.others = append(g.others, r)
	}
}

// write writes them. Writing again what is there already changes nothing.
func (g *gathered) write(tx *gorm.DB) error {
	for _, run := range g.runs {
		if err := tx.Select("status", "wanted", "ended_at", "error", "restarts", "crashes", "drains", "rested", "node").Updates(&run).Error; err != nil {
			return err
		}
	}
	for _, add := range []func() error{
		func() error { return addNew(tx, g.events) },
		func() error { return addNew(tx, g.shapes) },
		func() error { return addNew(tx, g.points) },
		func() error { return addNew(tx, g.checkpoints) },
	} {
		if err := add(); err != nil {
			return err
		}
	}
	for job, epoch := range g.epochs {
		if err := tx.Model(&Job{}).Where("id = ? AND last_epoch < ?", job, epoch).Update("last_epoch", epoch).Error; err != nil {
			return err
		}
	}
	for _, r := range g.others {
		if err := r.write(tx); err != nil {
			return err
		}
	}
	for _, r := range g.released {
		if err := release(tx, r.Released, r.Lease); err != nil {
			return err
		}
	}
	return nil
}

// addNew writes records that are not there yet.
func addNew[T any](tx *gorm.DB, some []T) error {
	if len(some) == 0 {
		return nil
	}
	return tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&some).Error
}

// write writes a record of a kind that is rare.
func (r record) write(tx *gorm.DB) error {
	switch {
	case r.Telling != nil:
		return r.Telling.write(tx)
	case r.Alarm != nil:
		return r.Alarm.write(tx)
	case r.Used != nil:
		return tx.Model(&Token{}).Where("id = ?", r.Used.ID).Update("used_at", r.Used.UsedAt).Error
	case r.Seen != nil:
		return tx.Model(&Person{}).Where("id = ?", r.Seen.ID).Update("seen_at", r.Seen.SeenAt).Error
	case r.Line != nil:
		return addNew(tx, []Line{*r.Line})
	}
	return nil
}
