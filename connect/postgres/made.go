package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"sync"

	"github.com/jackc/pgx/v5"

	"undertide/core/engine"
	"undertide/core/row"
)

// Made writes rows to a table as they are made, at least once: while one transaction is under way the next one's rows
// gather, so many rows make great transactions and few rows quick ones. A mark waits until all before it are committed, and
// rows after the newest checkpoint come again after a restart.
type Made struct {
	*writer
	ctx    context.Context // ends with the sink or when it is interrupted
	cancel context.CancelFunc
	ended  chan struct{} // closed when nobody writes any more

	lock    sync.Mutex // guards all below
	changed sync.Cond
	gather  []byte
	writing bool
	fault   error
}

// gathered bounds the bytes that wait for a transaction; beyond them Write waits.
const gathered = 16 << 20

func newMade(w *writer) *Made {
	s := &Made{writer: w}
	s.changed.L = &s.lock
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *Made) NewEncoder(sc row.Schema) engine.Encoder { return newEncoder(s.writer, sc) }

// Delivered: as they are made, rows are of no epoch.
func (s *Made) Delivered(context.Context) (int64, error) { return 0, nil }

// Probe makes sure, before a run says that it runs, that the table is there and takes what is written.
func (s *Made) Probe() error {
	if err := s.start(s.ctx); err != nil {
		s.drop()
		return s.explain(err)
	}
	return nil
}

func (s *Made) Open([]engine.Shipment, int64) error {
	if err := s.Probe(); err != nil {
		return err
	}
	s.ended = make(chan struct{})
	context.AfterFunc(s.ctx, func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		s.changed.Broadcast()
	})
	go s.writeAll()
	return nil
}

// writeAll writes what has gathered, again and again, until the sink ends.
func (s *Made) writeAll() {
	defer close(s.ended)
	var rows []byte
	for {
		s.lock.Lock()
		s.writing = false
		s.changed.Broadcast()
		for len(s.gather) == 0 && s.ctx.Err() == nil {
			s.changed.Wait()
		}
		if len(s.gather) == 0 || s.ctx.Err() != nil || s.fault != nil {
			s.lock.Unlock()
			return
		}
		rows, s.gather = s.gather, rows[:0]
		s.writing = true
		s.lock.Unlock()
		err := engine.Guard(func() error {
			return s.again(s.ctx, func() error {
				var from io.Reader = bytes.NewReader(rows)
				if s.binary {
					from = io.MultiReader(bytes.NewReader(binaryHead), from)
				}
				return s.transaction(s.ctx, func(l *load) error { return l.rows(s.ctx, from) }, func(conn *pgx.Conn) error {
					_, err := conn.Exec(s.ctx, "COMMIT")
					return err
				})
			})
		})
		if err != nil {
			s.lock.Lock()
			s.fault, s.writing = err, false
			s.changed.Broadcast()
			s.lock.Unlock()
			return
		}
	}
}

// Write lets rows gather; it waits while too many do.
func (s *Made) Write(data []byte, _ int) error {
	s.lock.Lock()
	defer s.lock.Unlock()
	for len(s.gather) >= gathered && s.fault == nil && s.ctx.Err() == nil {
		s.changed.Wait()
	}
	if err := errors.Join(s.fault, s.ctx.Err()); err != nil {
		return err
	}
	s.gather = append(s.gather, data...)
	s.changed.Broadcast()
	return nil
}

// Prepare waits until the table has everything: rows wait for nothing.
func (s *Made) Prepare(int64) (out engine.Shipment, err error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	for (len(s.gather) > 0 || s.writing) && s.fault == nil && s.ctx.Err() == nil {
		s.changed.Wait()
	}
	out.Data = json.RawMessage("{}")
	return out, errors.Join(s.fault, s.ctx.Err())
}

func (s *Made) Deliver(context.Context, engine.Shipment) error { return nil }

func (s *Made) Finish() error { return s.Abort() }

func (s *Made) Abort() error {
	s.cancel()
	if s.ended != nil {
		<-s.ended
	}
	s.drop()
	return nil
}

// Interrupt frees whoever waits for the database.
func (s *Made) Interrupt() { s.cancel() }
