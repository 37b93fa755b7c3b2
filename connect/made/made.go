// Package made is what sinks share that send rows as they are made, at least once (docs/delivery.md, "At least once").
package made

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"undertide/connect"
	"undertide/core/engine"
)

// Rows sends rows as they are made: while some are under way the next ones gather, so many rows go out in great pieces and few rows
// at once. A mark waits until all before it are sent, and rows after the newest checkpoint come again after a restart. It has all
// methods of an engine.Sink but NewEncoder.
type Rows struct {
	way Way

	ctx    context.Context // ends with the sink or when it is interrupted
	cancel context.CancelFunc
	ended  chan struct{} // closed when nobody sends any more

	lock    sync.Mutex // guards all below
	changed sync.Cond
	gather  []byte
	sending bool
	fault   error
}

// Way is how rows go out.
type Way struct {
	// Start makes sure, before a run says that it runs, that rows can be sent.
	Start func(ctx context.Context) error
	// Send sends encoded rows; it tries again for as long as that may help. data is its own until it returns.
	Send func(ctx context.Context, data []byte) error
	// Stop ends what Start and Send have opened; nil for nothing.
	Stop func()
}

// gathered bounds the bytes that wait to be sent; beyond them Write waits.
const gathered = 16 << 20

// New makes the sink.
func New(w Way) *Rows {
	s := &Rows{way: w}
	s.changed.L = &s.lock
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// Delivered: as they are made, rows are of no epoch.
func (s *Rows) Delivered(context.Context) (int64, error) { return 0, nil }

// Probe makes sure, before a run says that it runs, that rows can be sent.
func (s *Rows) Probe() error { return s.way.Start(s.ctx) }

// Open begins to send.
func (s *Rows) Open([]engine.Shipment, int64) error {
	if err := s.Probe(); err != nil {
		return err
	}
	s.ended = make(chan struct{})
	context.AfterFunc(s.ctx, func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		s.changed.Broadcast()
	})
	go s.sendAll()
	return nil
}

// sendAll sends what has gathered, again and again, until the sink ends.
func (s *Rows) sendAll() {
	defer close(s.ended)
	var rows []byte
	for {
		s.lock.Lock()
		s.sending = false
		s.changed.Broadcast()
		for len(s.gather) == 0 && s.ctx.Err() == nil {
			s.changed.Wait()
		}
		if len(s.gather) == 0 || s.ctx.Err() != nil || s.fault != nil {
			s.lock.Unlock()
			return
		}
		rows, s.gather = s.gather, rows[:0]
		s.sending = true
		s.lock.Unlock()
		if err := engine.Guard(func() error { return s.way.Send(s.ctx, rows) }); err != nil {
			s.lock.Lock()
			s.fault, s.sending = err, false
			s.changed.Broadcast()
			s.lock.Unlock()
			return
		}
	}
}

// Write lets rows gather; it waits while too many do.
func (s *Rows) Write(data []byte, _ int) error {
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

// Prepare waits until everything is sent: rows wait for nothing.
func (s *Rows) Prepare(int64) (out engine.Shipment, err error) {
	s.lock.Lock()
	defer s.lock.Unlock()
	for (len(s.gather) > 0 || s.sending) && s.fault == nil && s.ctx.Err() == nil {
		s.changed.Wait()
	}
	out.Data = json.RawMessage("{}")
	return out, errors.Join(s.fault, s.ctx.Err())
}

// Deliver: all was sent before the mark.
func (s *Rows) Deliver(context.Context, engine.Shipment) error { return nil }

// Finish ends it: all was sent before the last mark.
func (s *Rows) Finish() error { return s.Abort() }

// Abort ends it.
func (s *Rows) Abort() error {
	s.cancel()
	if s.ended != nil {
		<-s.ended
	}
	if s.way.Stop != nil {
		s.way.Stop()
	}
	return nil
}

// Interrupt frees whoever waits for what is sent.
func (s *Rows) Interrupt() { s.cancel() }

// Again does something until it succeeds, and waits between tries for as long as mayPass says that another may help. lost is told of
// each try that failed; what it gives is noted as the reason.
func Again(ctx context.Context, h *connect.Health, do func() error, mayPass func(error) bool, lost func(error) string) error {
	wait := connect.Pauses()
	for {
		err := do()
		if err == nil {
			h.OK()
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		why := lost(err)
		if !mayPass(err) {
			return err
		}
		h.Fault(why)
		pause := wait.NextBackOff()
		if asked := (*Later)(nil); errors.As(err, &asked) {
			pause = max(pause, asked.In)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Later is an error of somebody who says when to come again.
type Later struct {
	Err error
	In  time.Duration
}

func (l *Later) Error() string { return l.Err.Error() }
func (l *Later) Unwrap() error { return l.Err }
