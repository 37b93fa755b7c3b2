package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// write is a record that waits to be written.
type write struct {
	figures bool // may be dropped when very many wait
	do      func(*gorm.DB) error
}

// mostWaiting bounds the figures that wait: an hour of a hundred jobs.
const mostWaiting = 36_000

func (s *Store) later(w write) {
	s.mu.Lock()
	if w.figures && len(s.queue) >= mostWaiting {
		s.dropped++
		s.mu.Unlock()
		return
	}
	s.queue = append(s.queue, w)
	s.mu.Unlock()
	select {
	case s.news <- struct{}{}:
	default:
	}
}

// writeBehind writes what waits, in order; while the database is away it waits with it.
func (s *Store) writeBehind(ctx context.Context) {
	for {
		s.mu.Lock()
		var w write
		some := len(s.queue) > 0
		if some {
			w = s.queue[0]
		}
		s.mu.Unlock()
		if !some {
			select {
			case <-ctx.Done():
				return
			case <-s.news:
				continue
			}
		}
		err := s.ask(ctx, "write a record", w.do)
		if errors.Is(err, ErrUnreachable) || ctx.Err() != nil {
			s.note(err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(pingEvery):
				continue
			}
		}
		if err != nil { // such as of a job that was deleted meanwhile
			s.log.Warn("a record could not be written", "error", err)
		}
		s.mu.Lock()
		s.queue = s.queue[1:]
		if len(s.queue) == 0 {
			s.queue = nil
			if s.dropped > 0 {
				s.log.Warn("figures were not recorded while the database was away", "samples", s.dropped)
				s.dropped = 0
			}
		}
		s.mu.Unlock()
	}
}

// UpdateRun writes a run's changed fields behind the caller.
func (s *Store) UpdateRun(r Run) {
	s.later(write{do: func(db *gorm.DB) error {
		return db.Select("status", "wanted", "ended_at", "error", "restarts").Updates(&r).Error
	}})
}

// AddEvent writes a line of history behind the caller.
func (s *Store) AddEvent(e Event) {
	s.later(write{do: func(db *gorm.DB) error {
		e := e
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&e).Error
	}})
}

// AddCheckpoint writes a line of the catalogue behind the caller, and the job's last epoch.
func (s *Store) AddCheckpoint(job int64, c Checkpoint) {
	s.later(write{do: func(db *gorm.DB) error {
		return db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&c).Error; err != nil {
				return err
			}
			return tx.Model(&Job{}).Where("id = ? AND last_epoch < ?", job, c.Epoch).Update("last_epoch", c.Epoch).Error
		})
	}})
}

// AddSample writes a run's figures behind the caller.
func (s *Store) AddSample(m Sample) {
	s.later(write{figures: true, do: func(db *gorm.DB) error {
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&m).Error
	}})
}

// Thin removes figures that are older than 30 days, keeps one in five minutes of those older than a
// day, and drops lines of the catalogue beyond the newest thousand of each run.
func (s *Store) Thin(ctx context.Context) error {
	return s.ask(ctx, "thin old figures", func(db *gorm.DB) error {
		for _, q := range []string{
			"DELETE FROM figures WHERE at < now() - interval '30 days'",
			`DELETE FROM figures f USING (SELECT run_id, min(at) AS first, date_bin('5 minutes', at, 'epoch') AS bin FROM figures
				WHERE at < now() - interval '1 day' GROUP BY run_id, bin) k
				WHERE f.run_id = k.run_id AND f.at < now() - interval '1 day' AND date_bin('5 minutes', f.at, 'epoch') = k.bin AND f.at <> k.first`,
			"DELETE FROM checkpoints c USING (SELECT run_id, max(epoch) AS newest FROM checkpoints GROUP BY run_id) k WHERE c.run_id = k.run_id AND c.epoch <= k.newest - 1000",
		} {
			if err := db.Exec(q).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
