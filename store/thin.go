package store

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// What is kept of the past (docs/service.md, "What is kept"). Figures come every ten seconds of each run: 8,640 a day.
const (
	figuresWhole  = 24 * time.Hour      // figures that are kept as they came
	figuresKept   = 30 * 24 * time.Hour // older ones are removed; until then one in five minutes is kept
	historyKept   = 90 * 24 * time.Hour
	mostOfHistory = 10_000 // lines of a job
	catalogueKept = 30 * 24 * time.Hour
	mostOfRun     = 1_000 // lines of the catalogue of checkpoints

	thinSlice = time.Hour // figures are thinned by so much, from the oldest on: each hour once
	thinBatch = 20_000    // rows that one statement removes
)

// upkeep says up to when something was thinned.
type upkeep struct {
	Name   string `gorm:"primaryKey"`
	DoneTo time.Time
}

func (upkeep) TableName() string { return "upkeep" }

// Thin keeps the records of the past small. Its work follows what came since the last time and not what is kept: hours
// of figures are thinned once, and removals find their rows by an index, in parts, so that no statement takes long and
// others write between them.
func (s *Store) Thin(ctx context.Context) error {
	now := time.Now().UTC()
	if err := s.thinFigures(ctx, now.Add(-figuresWhole).Truncate(thinSlice)); err != nil {
		return err
	}
	for _, old := range []struct {
		table, column string
		before        time.Time
	}{{"figures", "at", now.Add(-figuresKept)}, {"history", "at", now.Add(-historyKept)}, {"checkpoints", "written_at", now.Add(-catalogueKept)}} {
		q := "DELETE FROM " + old.table + " WHERE ctid IN (SELECT ctid FROM " + old.table + " WHERE " + old.column + " < ? LIMIT ?)"
		if err := s.inParts(ctx, q, old.before, thinBatch); err != nil {
			return err
		}
	}
	// The newest of each run and job are found by their indexes, one look each.
	if err := s.inParts(ctx, `DELETE FROM checkpoints WHERE ctid IN (SELECT c.ctid FROM runs r,
		LATERAL (SELECT max(epoch) AS newest FROM checkpoints WHERE run_id = r.id) k, checkpoints c
		WHERE c.run_id = r.id AND c.epoch <= k.newest - ? LIMIT ?)`, mostOfRun, thinBatch); err != nil {
		return err
	}
	return s.inParts(ctx, `DELETE FROM history WHERE ctid IN (SELECT h.ctid FROM jobs j,
		LATERAL (SELECT id FROM history WHERE job_id = j.id ORDER BY id DESC OFFSET ? LIMIT 1) k, history h
		WHERE h.job_id = j.id AND h.id <= k.id LIMIT ?)`, mostOfHistory, thinBatch)
}

// inParts repeats a removal until it finds nothing more.
func (s *Store) inParts(ctx context.Context, query string, args ...any) error {
	for {
		var n int64
		err := s.ask(ctx, "thin old records", func(db *gorm.DB) error {
			done := db.Exec(query, args...)
			n = done.RowsAffected
			return done.Error
		})
		if err != nil || n < thinBatch {
			return err
		}
	}
}

// thinFigures leaves one in five minutes of the figures of each run, hour by hour up to a moment.
func (s *Store) thinFigures(ctx context.Context, to time.Time) error {
	var from time.Time
	err := s.ask(ctx, "thin old figures", func(db *gorm.DB) error {
		var done upkeep
		err := db.Take(&done, "name = ?", "figures").Error
		if err == nil {
			from = done.DoneTo
			return nil
		}
		if !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		var oldest *time.Time
		err = db.Raw("SELECT min(at) FROM figures").Scan(&oldest).Error
		if oldest != nil {
			from = oldest.UTC().Truncate(thinSlice)
		} else {
			from = to
		}
		return err
	})
	for err == nil && from.Before(to) {
		next := from.Add(thinSlice)
		err = s.ask(ctx, "thin old figures", func(db *gorm.DB) error {
			return db.Transaction(func(tx *gorm.DB) error {
				if err := tx.Exec(`DELETE FROM figures f USING (SELECT run_id, at, row_number() OVER (PARTITION BY run_id, date_bin('5 minutes', at, 'epoch') ORDER BY at) AS n
					FROM figures WHERE at >= ? AND at < ?) k WHERE f.run_id = k.run_id AND f.at = k.at AND k.n > 1`, from, next).Error; err != nil {
					return err
				}
				return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&upkeep{"figures", next}).Error
			})
		})
		from = next
	}
	return err
}
