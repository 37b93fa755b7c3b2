package store

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"undertide/lease"
)

// record is one that waits to be written: exactly one of its parts is set. Writing it again changes
// nothing.
type record struct {
	Run        *Run        `json:"run,omitempty"`
	Event      *Event      `json:"event,omitempty"`
	Checkpoint *Checkpoint `json:"checkpoint,omitempty"`
	Job        int64       `json:"job,omitempty"` // of Checkpoint
	Points     *Batch      `json:"points,omitempty"`
	Alarm      *Alarm      `json:"alarm,omitempty"`
	Telling    *Telling    `json:"telling,omitempty"`
	Used       *Token      `json:"used,omitempty"` // when it was used last
	Seen       *Person     `json:"seen,omitempty"` // when they were here last
	Line       *Line       `json:"line,omitempty"`
	// Lease is the number of the lease of the job that it is of, without which it is not written; 0 where nodes share nothing.
	Lease int64 `json:"lease,omitempty"`
	// Released is a job whose lease is let go.
	Released int64 `json:"released,omitempty"`
}

// mostWaiting bounds the figures that wait: an hour of a hundred jobs.
const mostWaiting = 36_000

// later queues a record, and notes it in the journal, so that a service that is killed while the
// database is away loses none.
func (s *Store) later(r record) {
	s.mu.Lock()
	if r.Points != nil && len(s.queue) >= mostWaiting {
		s.dropped++
		s.mu.Unlock()
		return
	}
	r.Lease = s.underOf(&r)
	s.queue = append(s.queue, r)
	s.noteLocked(r)
	s.mu.Unlock()
	select {
	case s.news <- struct{}{}:
	default:
	}
}

func (s *Store) noteLocked(r record) {
	if s.journal == nil {
		return
	}
	line, err := json.Marshal(r)
	if err == nil {
		_, err = s.journal.Write(append(line, '\n'))
	}
	if err != nil {
		s.log.Warn("a record that waits could not be noted in the journal", "error", err)
		return
	}
	select {
	case s.noted <- struct{}{}:
	default:
	}
}

// syncJournal brings the journal to the disk, as often as there are new lines: those that come while it works are one
// more time together. A machine that loses its power loses the lines of the last moment at most.
func (s *Store) syncJournal(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.noted:
		}
		if err := s.journal.Sync(); err != nil {
			s.log.Warn("the journal of records could not be brought to the disk", "error", err)
		}
	}
}

// openJournal takes up what an earlier service could not write. A line that cannot be read, such as the last one, torn by
// a kill, is kept aside for people, and those behind it count.
func (s *Store) openJournal(path string) error {
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read the journal of records: %w", err)
	}
	var unread []byte
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var r record
		if json.Unmarshal(lines.Bytes(), &r) != nil {
			unread = append(append(unread, lines.Bytes()...), '\n')
			continue
		}
		s.queue = append(s.queue, r)
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("read the journal of records: %w; move %s away, and report it", err, path)
	}
	if err := s.keepAside(path+".unreadable", unread); err != nil {
		return err
	}
	if s.journal, err = os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err != nil {
		return fmt.Errorf("write the journal of records: %w", err)
	}
	return nil
}

// keepAside adds lines that cannot be read to a file beside the journal.
func (s *Store) keepAside(path string, lines []byte) error {
	if len(lines) == 0 {
		return nil
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err == nil {
		_, err = f.Write(lines)
		err = errors.Join(err, f.Sync(), f.Close())
	}
	if err != nil {
		return fmt.Errorf("keep lines of the journal aside: %w", err)
	}
	s.log.Warn("the journal of records has lines that cannot be read; they are kept aside", "file", path, "lines", bytes.Count(lines, []byte("\n")))
	return nil
}

// replay writes what the journal held, before anybody reads the records.
func (s *Store) replay(ctx context.Context) error {
	if len(s.queue) > 0 {
		s.log.Info("writing what an earlier service could not", "records", len(s.queue))
	}
	for len(s.queue) > 0 {
		if err := s.write(ctx, s.queue[0]); err != nil {
			return err
		}
		s.queue = s.queue[1:]
	}
	return s.emptyJournal()
}

func (s *Store) emptyJournal() error {
	if s.journal == nil {
		return nil
	}
	if err := s.journal.Truncate(0); err != nil {
		return fmt.Errorf("empty the journal of records: %w", err)
	}
	return nil
}

// write writes one record; only a database that is away is an error.
func (s *Store) write(ctx context.Context, r record) error {
	do := r.write
	if r.Lease > 0 {
		do = r.writeUnder
	}
	err := s.ask(ctx, "write a record", do)
	if errors.Is(err, lease.ErrLost) && r.Released > 0 {
		return nil // it is another's already
	}
	if errors.Is(err, lease.ErrLost) {
		s.log.Warn("a record was refused: another node has taken the job over since", "job", r.jobOf(), "lease", r.Lease)
		return nil
	}
	if errors.Is(err, ErrUnreachable) || ctx.Err() != nil {
		return err
	}
	if err != nil { // such as of a job that was deleted meanwhile
		s.log.Warn("a record could not be written", "error", err)
	}
	return nil
}

func (r record) write(db *gorm.DB) error {
	switch {
	case r.Released > 0:
		return release(db, r.Released, r.Lease)
	case r.Run != nil:
		run := *r.Run
		return db.Select("status", "wanted", "ended_at", "error", "restarts", "crashes", "drains", "rested", "node").Updates(&run).Error
	case r.Event != nil:
		e := *r.Event
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&e).Error
	case r.Telling != nil:
		return r.Telling.write(db)
	case r.Alarm != nil:
		return r.Alarm.write(db)
	case r.Points != nil:
		return r.Points.write(db)
	case r.Used != nil:
		return db.Model(&Token{}).Where("id = ?", r.Used.ID).Update("used_at", r.Used.UsedAt).Error
	case r.Seen != nil:
		return db.Model(&Person{}).Where("id = ?", r.Seen.ID).Update("seen_at", r.Seen.SeenAt).Error
	case r.Line != nil:
		line := *r.Line
		return db.Clauses(clause.OnConflict{DoNothing: true}).Create(&line).Error
	case r.Checkpoint != nil:
		c := *r.Checkpoint
		return db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&c).Error; err != nil {
				return err
			}
			return tx.Model(&Job{}).Where("id = ? AND last_epoch < ?", r.Job, c.Epoch).Update("last_epoch", c.Epoch).Error
		})
	}
	return nil
}

// writeBehind writes what waits, in order; while the database is away it waits with it.
func (s *Store) writeBehind(ctx context.Context) {
	for {
		s.mu.Lock()
		var r record
		some := len(s.queue) > 0
		if some {
			r = s.queue[0]
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
		if err := s.write(ctx, r); err != nil {
			s.note(err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(pingEvery):
				continue
			}
		}
		s.written()
	}
}

// written takes the first record off the queue, and empties the journal with the last.
func (s *Store) written() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queue = s.queue[1:]
	if len(s.queue) > 0 {
		return
	}
	s.queue = nil
	if err := s.emptyJournal(); err != nil {
		s.log.Warn("the journal of records stays", "error", err)
	}
	if s.dropped > 0 {
		s.log.Warn("figures were not recorded while the database was away", "points", s.dropped)
		s.dropped = 0
	}
}

// Await waits until all of a job is written that waits to be written behind: whoever takes its lease anew would have it refused. While the database is away it waits until ctx is done.
func (s *Store) Await(ctx context.Context, job int64) {
	for {
		s.mu.Lock()
		waits := slices.ContainsFunc(s.queue, func(r record) bool { return r.jobOf() == job })
		s.mu.Unlock()
		if !waits {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Millisecond):
		}
	}
}

// UpdateRun writes a run's changed fields behind the caller.
func (s *Store) UpdateRun(r Run) { s.later(record{Run: &r}) }

// AddEvent writes a line of history behind the caller.
func (s *Store) AddEvent(e Event) { s.later(record{Event: &e}) }

// AddCheckpoint notes a checkpoint behind the caller, and the job's last epoch.
func (s *Store) AddCheckpoint(job int64, c Checkpoint) { s.later(record{Checkpoint: &c, Job: job}) }
