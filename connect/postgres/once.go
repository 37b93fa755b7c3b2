package postgres

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
)

// Once writes rows to a table exactly once: the rows of an epoch wait in a file until its checkpoint is complete, and then go
// in by one transaction, which also writes the epoch into the table undertide_delivered.
//
// Why nothing comes twice: the transaction changes the epoch only where it is lower, so a second one of the same epoch
// changes nothing and is undone. Why an earlier run that lives on does no harm: a start counts `run` up in that line, and ends
// the sessions of that run, which may hold locks; a transaction goes through only with the number that its run took.
type Once struct {
	*staging.Area // rows wait in it: Open, Write, Prepare
	*writer
	run    int64 // our number; 0 before Delivered
	ctx    context.Context
	cancel context.CancelFunc
}

func newOnce(w *writer, area *staging.Area) *Once {
	s := &Once{Area: area, writer: w}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *Once) NewEncoder(sc row.Schema) engine.Encoder { return newEncoder(s.writer, sc) }

// takeIn bounds how long a start waits for what an earlier run has open.
const takeIn = 30 * time.Second

// Delivered takes the table over, and gives the epoch that was delivered last.
func (s *Once) Delivered(ctx context.Context) (epoch int64, err error) {
	noted, err := s.Area.Delivered()
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, takeIn)
	defer cancel()
	if err := s.start(ctx); err != nil {
		s.drop()
		return 0, s.explain(err)
	}
	if s.Area.Head = nil; s.binary {
		s.Area.Head = binaryHead
	}
	conn, err := s.session(ctx)
	if err != nil {
		return 0, s.explain(err)
	}
	_, err = conn.Exec(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = $1 AND datname = current_database() AND usename = current_user AND pid <> pg_backend_pid()`, s.called())
	if err == nil {
		err = conn.QueryRow(ctx, fmt.Sprintf(`INSERT INTO %s AS d (job, sink, epoch, place, run, at) VALUES ($1, $2, $3, 0, 1, now())
			ON CONFLICT (job, sink) DO UPDATE SET run = d.run + 1, epoch = greatest(d.epoch, $3) RETURNING run, epoch`, s.delivered()), s.job, s.sink, noted).Scan(&s.run, &epoch)
	}
	if err != nil {
		s.drop()
		return 0, s.explain(err)
	}
	return epoch, s.Area.Know(epoch)
}

// Known gives the epoch that was delivered last, and takes nothing over.
func (s *Once) Known(ctx context.Context) (epoch int64, err error) {
	noted, err := s.Area.Delivered()
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, takeIn)
	defer cancel()
	conn, err := s.session(ctx)
	if err == nil {
		var ours *uint32 // there is none where nothing was delivered yet
		if err = conn.QueryRow(ctx, `SELECT to_regclass($1)::oid`, s.delivered()).Scan(&ours); err == nil && ours != nil {
			err = ignore(conn.QueryRow(ctx, fmt.Sprintf(`SELECT epoch FROM %s WHERE job = $1 AND sink = $2`, s.delivered()), s.job, s.sink).Scan(&epoch), pgx.ErrNoRows)
		}
	}
	if err != nil {
		s.drop()
		return 0, s.explain(err)
	}
	return max(epoch, noted), nil
}

// errHas says that the table has the epoch already.
var errHas = errors.New("delivered already")

// Deliver loads a shipment in one transaction, and tries again until that was committed, or another run has taken over.
func (s *Once) Deliver(ctx context.Context, sh engine.Shipment) error {
	if !staging.Rows(sh) {
		return nil
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(s.ctx, cancel)()
	tries := 0
	err := s.again(ctx, func() error {
		tries++
		if tries > 1 { // the answer to a commit may have been lost
			if err := s.lacks(ctx, sh.Epoch); err != nil {
				return ignore(err, errHas)
			}
		}
		return ignore(s.commit(ctx, sh), errHas)
	})
	if err != nil {
		return err
	}
	return s.Area.Done(sh)
}

func ignore(err, what error) error {
	if errors.Is(err, what) {
		return nil
	}
	return err
}

// lacks gives nil where the epoch is still to be delivered, and by this run.
func (s *Once) lacks(ctx context.Context, epoch int64) error {
	conn, err := s.session(ctx)
	if err != nil {
		return err
	}
	var run, has int64
	if err := conn.QueryRow(ctx, fmt.Sprintf(`SELECT run, epoch FROM %s WHERE job = $1 AND sink = $2`, s.delivered()), s.job, s.sink).Scan(&run, &has); err != nil && !errors.Is(err, pgx.ErrNoRows) {
		return err
	}
	switch {
	case run != s.run:
		return fmt.Errorf("%w: it delivers to table %s of %s, and has delivered up to epoch %d", engine.ErrFenced, s.table.name, s.to, has)
	case has >= epoch:
		return errHas
	}
	return nil
}

func (s *Once) commit(ctx context.Context, sh engine.Shipment) error {
	return s.transaction(ctx, func(l *load) error {
		return s.Area.Read(sh, func(in io.Reader) error { return l.rows(ctx, in) })
	}, func(conn *pgx.Conn) error {
		tag, err := conn.Exec(ctx, fmt.Sprintf(`UPDATE %s SET epoch = $1, place = $2, at = now() WHERE job = $3 AND sink = $4 AND run = $5 AND epoch < $1`, s.delivered()), sh.Epoch, sh.Place, s.job, s.sink, s.run)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 1 {
			_, err := conn.Exec(ctx, "COMMIT")
			return err
		}
		if _, err := conn.Exec(ctx, "ROLLBACK"); err != nil {
			return err
		}
		if err := s.lacks(ctx, sh.Epoch); err != nil {
			return err
		}
		return fmt.Errorf("epoch %d cannot be noted in %s", sh.Epoch, s.delivered())
	})
}

// Recover delivers what is left of a run whose last checkpoint said that it was done.
func (s *Once) Recover(ctx context.Context, waiting []engine.Shipment) (err error) {
	defer func() { err = errors.Join(err, s.Abort()) }()
	return s.Area.Recover(ctx, waiting, s)
}

func (s *Once) Finish() error { return s.Abort() }

func (s *Once) Abort() error {
	s.cancel()
	s.drop()
	return s.Area.Close()
}

// Interrupt frees whoever waits for the database.
func (s *Once) Interrupt() { s.cancel() }
