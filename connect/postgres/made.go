package postgres

import (
	"bytes"
	"context"
	"io"

	"github.com/jackc/pgx/v5"

	"undertide/connect/made"
	"undertide/core/engine"
	"undertide/core/row"
)

// Made writes rows to a table as they are made, at least once: what gathers goes in one transaction.
type Made struct {
	*writer
	*made.Rows
}

func newMade(w *writer) *Made {
	return &Made{w, made.New(made.Way{
		Start: func(ctx context.Context) error {
			if err := w.start(ctx); err != nil {
				w.drop()
				return w.explain(err)
			}
			return nil
		},
		Send: w.send,
		Stop: w.drop,
	})}
}

// NewEncoder implements [engine.Sink].
func (s *Made) NewEncoder(sc row.Schema) engine.Encoder { return newEncoder(s.writer, sc) }

// send writes rows in one transaction.
func (w *writer) send(ctx context.Context, rows []byte) error {
	return w.again(ctx, func() error {
		var from io.Reader = bytes.NewReader(rows)
		if w.binary {
			from = io.MultiReader(bytes.NewReader(binaryHead), from)
		}
		return w.transaction(ctx, func(l *load) error { return l.rows(ctx, from) }, func(conn *pgx.Conn) error {
			_, err := conn.Exec(ctx, "COMMIT")
			return err
		})
	})
}
