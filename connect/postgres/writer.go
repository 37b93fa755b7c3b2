package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"undertide/connect"
	"undertide/connect/made"
	"undertide/connect/staging"
	"undertide/core/engine"
)

// writer writes rows of one sink into its table, whatever the delivery.
type writer struct {
	to        *reached
	table     *table
	create    bool
	job, sink string
	health    connect.Health
	binary    bool // how rows are written, once the table was seen

	mu      sync.Mutex // guards all below
	conn    *pgx.Conn  // nil while there is none
	refused int64      // rows, of all runs
	last    string     // why, of the newest
}

func (w *writer) delivered() string { return w.table.name.beside(deliveredTable).quoted() }
func (w *writer) refusals() string  { return w.table.name.beside(refusedTable).quoted() }

// called is how the server's lists name the session (application_name): so a run finds those of the one before.
func (w *writer) called() string {
	name := "undertide " + w.job + "." + w.sink
	return name[:min(len(name), longestName)]
}

// session gives the connection, and makes one where there is none.
func (w *writer) session(ctx context.Context) (*pgx.Conn, error) {
	w.mu.Lock()
	conn := w.conn
	w.mu.Unlock()
	if conn != nil && !conn.IsClosed() {
		return conn, nil
	}
	conn, err := w.to.open(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, `SELECT set_config('application_name', $1, false), set_config('lock_timeout', '30s', false)`, w.called()); err != nil {
		w.to.close(conn)
		return nil, err
	}
	w.mu.Lock()
	w.conn = conn
	w.mu.Unlock()
	return conn, nil
}

// drop ends the connection, with the transaction that it may have open.
func (w *writer) drop() {
	w.mu.Lock()
	conn := w.conn
	w.conn = nil
	w.mu.Unlock()
	if conn != nil {
		w.to.close(conn)
	}
}

// start makes sure that the table is there and takes what is written.
func (w *writer) start(ctx context.Context) error {
	conn, err := w.session(ctx)
	if err != nil {
		return err
	}
	if err := w.ready(ctx, conn); err != nil {
		return err
	}
	return conn.QueryRow(ctx, fmt.Sprintf(`SELECT count(*) FROM %s WHERE job = $1 AND sink = $2`, w.refusals()), w.job, w.sink).Scan(&w.refused)
}

// transaction loads rows in one transaction, with what last does at its end.
func (w *writer) transaction(ctx context.Context, rows func(*load) error, last func(*pgx.Conn) error) error {
	conn, err := w.session(ctx)
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	l := &load{w: w, conn: conn}
	if err := rows(l); err != nil {
		return err
	}
	if err := last(conn); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.refused += l.refused
	w.last = cmp.Or(l.last, w.last)
	return nil
}

// again does something until it succeeds, and waits between tries for as long as what is wrong may pass: the way to the
// server, or what the server says of itself.
func (w *writer) again(ctx context.Context, do func() error) error {
	err := made.Again(ctx, &w.health, do, mayPass, func(err error) string {
		w.drop()
		return strings.TrimPrefix(w.explain(err).Error(), w.to.String()+" ")
	})
	if err != nil && ctx.Err() == nil {
		return w.explain(err)
	}
	return err
}

// mayPass says whether trying again may help.
func mayPass(err error) bool {
	var said *pgconn.PgError
	switch {
	case errors.As(err, &said):
		return passes(said)
	case errors.Is(err, engine.ErrFenced), errors.Is(err, staging.ErrMissing), errors.Is(err, connect.ErrDenied), errors.Is(err, connect.ErrNoStream), errors.Is(err, connect.ErrUsage):
		return false
	}
	return true
}

// explain words an error of the library; ours stay as they are.
func (w *writer) explain(err error) error {
	for _, ours := range []error{nil, engine.ErrFenced, staging.ErrMissing, connect.ErrDenied, connect.ErrNoStream, connect.ErrUsage, connect.ErrUnreachable} {
		if errors.Is(err, ours) {
			return err
		}
	}
	return w.to.explain(err)
}

func (w *writer) Trouble() string { return w.health.Trouble(w.to.String() + " has not taken rows") }
func (w *writer) Retries() int64  { return w.health.Retries() }

// Refused gives how many rows the table did not take, and why the newest of them.
func (w *writer) Refused() (rows int64, why string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.refused, w.last
}
