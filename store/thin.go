package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// What is kept of the past (docs/service.md, "What is kept").
const (
	historyKept     = 90 * 24 * time.Hour
	mostOfHistory   = 10_000 // lines of a job
	checkpointsKept = 30 * 24 * time.Hour
	mostOfRun       = 1_000 // checkpoints in the list

	thinBatch = 20_000 // rows that one statement removes
)

// Thin keeps the records of the past small. Removals find their rows by an index, in parts, so that no statement takes long and
// others write between them.
func (s *Store) Thin(ctx context.Context) error {
	now := time.Now().UTC()
	for _, old := range []struct {
		table, column string
		before        time.Time
	}{{"history", "at", now.Add(-historyKept)}, {"alarms", "off_at", now.Add(-historyKept)}, {"checkpoints", "written_at", now.Add(-checkpointsKept)}} {
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
