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
	for most := mostTogether; len(s.queue) > 0; {
		n, err := s.write(ctx, s.queue[:min(most, len(s.queue))])
		s.queue = s.queue[n:]
		if err != nil && most == 1 {
			return err
		}
		if err != nil { // perhaps they took too long together
			most = 1
		}
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

// mostTogether bounds the records that are written as one change.
const mostTogether = 256

// writeBehind writes what waits, in order and many together: to ask for each would be more than a database some milliseconds away can answer. While the database is away it
// waits with it. What takes too long together is tried with half as much.
func (s *Store) writeBehind(ctx context.Context) {
	for most := mostTogether; ; {
		s.mu.Lock()
		some := slices.Clone(s.queue[:min(most, len(s.queue))])
		s.mu.Unlock()
		if len(some) == 0 {
			select {
			case <-ctx.Done():
				return
			case <-s.news:
				continue
			}
		}
		n, err := s.write(ctx, some)
		s.written(n)
		if err == nil {
			most = min(2*most, mostTogether)
			continue
		}
		most = max(most/2, 1)
		s.note(err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(pingEvery):
		}
	}
}

// written takes the first records off the queue, and empties the journal with the last.
func (s *Store) written(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queue = s.queue[n:]
	if n == 0 || len(s.queue) > 0 {
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

// Await waits until all of a job is written that waits to be written behind: whoever takes its lease anew would have it refused. ErrUnreachable: it is not, since the database is
// away, or has not taken it by the time that ctx is done.
func (s *Store) Await(ctx context.Context, job int64) error {
	return s.await(ctx, func(r record) bool { return r.jobOf() == job })
}

// AwaitAll waits until nothing waits to be written behind, as Await does.
func (s *Store) AwaitAll(ctx context.Context) error {
	return s.await(ctx, func(record) bool { return true })
}

func (s *Store) await(ctx context.Context, one func(record) bool) error {
	for {
		s.mu.Lock()
		waits, trouble := slices.ContainsFunc(s.queue, one), s.trouble
		s.mu.Unlock()
		switch {
		case !waits:
			return nil
		case trouble != "":
			return fmt.Errorf("write the records that wait: %w: %s", ErrUnreachable, trouble)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("write the records that wait: %w: some are not written yet", ErrUnreachable)
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
