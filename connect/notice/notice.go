// Package notice is what sinks share that tell people or programs of rows: requests over HTTP, mails (docs/connectors.md, "Notices"). Rows
// go out as they are made, at least once; those of a key that come while it is quiet are held back, counted, and told with its next one.
package notice

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/connect/made"
	"undertide/connect/pattern"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// Notice is a row that is told.
type Notice struct {
	Key   string
	Row   []byte   // the row as a JSON object
	Texts [][]byte // the filled texts, in their order
	Held  int64    // rows of its key that were held back since the one before
}

// Refused is an error of a receiver that does not take a notice for what it is: trying again does not help.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// Config says how notices go out.
type Config struct {
	To    string // for people: whom they reach
	Key   []string
	Quiet time.Duration
	// PassOver lets rows that the receiver refuses be passed over, counted and logged; else they end the run.
	PassOver bool
	// Texts are filled with the fields of each row; Safe, where it is not nil, changes the text of a value.
	Texts []pattern.Text
	Safe  func(dst, value []byte) []byte
	// Most notices go out together: 1 or more.
	Most int
	// Start makes sure that the receiver is there, before the run says that it runs; nil for nothing. Deliver tells notices; an error that wraps [Refused]
	// is not tried again, one that wraps [made.Later] not before. Stop ends what they have opened; nil for nothing.
	Start   func(ctx context.Context) error
	Deliver func(ctx context.Context, notices []Notice) error
	Stop    func()
	Now     func() time.Time // the clock; nil: time.Now
}

// HeldField is the name by which texts have the number of rows that were held back.
const HeldField = "held"

// marker stands for that number until a notice goes out.
const marker = "\x00held\x00"

// Sink tells rows.
type Sink struct {
	*made.Rows
	c      Config
	health connect.Health
	quiet  map[string]*silence // of keys; one goroutine has it

	mu      sync.Mutex // guards below
	refused int64
	why     string
}

// silence is a key that is quiet.
type silence struct {
	until time.Time
	held  int64
}

// mostKeys bounds the keys that are remembered.
const mostKeys = 100_000

// New makes the sink.
func New(c Config) *Sink {
	if c.Now == nil {
		c.Now = time.Now
	}
	s := &Sink{c: c, quiet: map[string]*silence{}}
	start := c.Start
	if start == nil {
		start = func(context.Context) error { return nil }
	}
	s.Rows = made.New(made.Way{Start: start, Send: s.send, Stop: c.Stop})
	return s
}

// Trouble implements [engine.Troubled].
func (s *Sink) Trouble() string { return s.health.Trouble(s.c.To + " has not taken notices") }

// Retries implements [engine.Retrier].
func (s *Sink) Retries() int64 { return s.health.Retries() }

// Refused implements [engine.Refuser]: of this run.
func (s *Sink) Refused() (int64, string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.refused, s.why
}

// send tells rows one after another, or so many together.
func (s *Sink) send(ctx context.Context, data []byte) error {
	var some []Notice
	for len(data) > 0 {
		var n Notice
		n, data = s.cut(data)
		if !s.pass(&n) {
			continue
		}
		if some = append(some, n); len(some) == s.c.Most || len(data) == 0 {
			if err := s.tell(ctx, some); err != nil {
				return err
			}
			some = some[:0]
		}
	}
	if len(some) > 0 {
		return s.tell(ctx, some)
	}
	return nil
}

// pass says whether a notice goes out now.
func (s *Sink) pass(n *Notice) bool {
	if s.c.Quiet == 0 {
		return true
	}
	now := s.c.Now()
	was := s.quiet[n.Key]
	if was != nil && now.Before(was.until) {
		was.held++
		return false
	}
	if was != nil {
		n.Held = was.held
	}
	if len(s.quiet) >= mostKeys {
		s.forget(now)
	}
	s.quiet[n.Key] = &silence{until: now.Add(s.c.Quiet)}
	count := []byte(strconv.FormatInt(n.Held, 10))
	for i := range n.Texts {
		n.Texts[i] = bytes.ReplaceAll(n.Texts[i], []byte(marker), count)
	}
	n.Row = append(append(append(n.Row[:len(n.Row)-1:len(n.Row)-1], `,"held":`...), count...), '}')
	return true
}

// forget lets go of keys whose quiet is over; where there are none, of all.
func (s *Sink) forget(now time.Time) {
	for key, q := range s.quiet {
		if !now.Before(q.until) {
			delete(s.quiet, key)
		}
	}
	if len(s.quiet) >= mostKeys {
		clear(s.quiet)
	}
}

// tell delivers notices until they are taken; those that are refused are found by halving.
func (s *Sink) tell(ctx context.Context, some []Notice) error {
	err := made.Again(ctx, &s.health, func() error { return s.c.Deliver(ctx, some) }, mayPass, func(err error) string { return err.Error() })
	var refused *Refused
	switch {
	case !errors.As(err, &refused):
		return err
	case len(some) > 1:
		if err := s.tell(ctx, some[:len(some)/2]); err != nil {
			return err
		}
		return s.tell(ctx, some[len(some)/2:])
	case !s.c.PassOver:
		return &Refused{s.c.To + " does not take a row: " + refused.Why + "; change the receiver or the texts, or say refused: pass to log such rows and go on: " + shown(some[0].Row)}
	}
	slog.Warn("a row was refused and is passed over", "by", s.c.To, "why", refused.Why, "row", string(some[0].Row))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.refused, s.why = s.refused+1, refused.Why
	return nil
}

func shown(text []byte) string {
	if len(text) > 300 {
		return string(text[:300]) + "…"
	}
	return string(text)
}

func mayPass(err error) bool {
	var refused *Refused
	return !errors.As(err, &refused) && !errors.Is(err, connect.ErrDenied)
}

// NewEncoder writes for each row its key, the row as JSON and the filled texts, each with its length before it.
func (s *Sink) NewEncoder(sc row.Schema) engine.Encoder {
	e := &encoder{rows: ndjson.NewEncoder(sc), held: row.NewColumn(row.String)}
	for _, name := range s.c.Key {
		e.key = append(e.key, sc.Index(name))
	}
	wide := append(sc[:len(sc):len(sc)], row.Field{Name: HeldField, Kind: row.String})
	for _, t := range s.c.Texts {
		f := t.Bind(wide)
		if safe := s.c.Safe; safe != nil {
			f.Safe = func(dst, value []byte) []byte {
				if string(value) == marker { // a number takes its place, as the notice goes out
					return append(dst, marker...)
				}
				return safe(dst, value)
			}
		}
		e.texts = append(e.texts, f)
	}
	return e
}

type encoder struct {
	key     []int
	rows    engine.Encoder
	texts   []*pattern.Filler
	held    *row.Column
	cols    []*row.Column
	scratch []byte
}

// Append implements [engine.Encoder].
func (e *encoder) Append(dst []byte, v step.View) []byte {
	put := func() {
		dst = row.AppendText(dst, e.scratch)
	}
	one := v
	for n, i := range v.Sel {
		e.scratch = e.scratch[:0]
		for k, c := range e.key {
			if k > 0 {
				e.scratch = append(e.scratch, 0)
			}
			if !v.Cols[c].IsNull(int(i)) {
				e.scratch = codec.AppendText(e.scratch, v.Cols[c], int(i))
			}
		}
		put()
		one.Sel = v.Sel[n : n+1]
		e.scratch = bytes.TrimSuffix(e.rows.Append(e.scratch[:0], one), []byte("\n"))
		put()
		e.held.Reset()
		for range int(i) + 1 { // texts ask for row i
			e.held.AppendString(marker)
		}
		e.cols = append(append(e.cols[:0], v.Cols...), e.held)
		for _, f := range e.texts {
			e.scratch = f.Append(e.scratch[:0], e.cols, int(i))
			put()
		}
	}
	return dst
}

// cut takes a row from encoded ones.
func (s *Sink) cut(data []byte) (n Notice, rest []byte) {
	key, rest, _ := row.NextText(data) // as the encoder wrote it
	n.Key = string(key)
	n.Row, rest, _ = row.NextText(rest)
	for range s.c.Texts {
		var text []byte
		text, rest, _ = row.NextText(rest)
		if s.c.Quiet == 0 {
			text = bytes.ReplaceAll(text, []byte(marker), []byte("0"))
		}
		n.Texts = append(n.Texts, text)
	}
	return n, rest
}

// Check says what is wrong with the settings quiet and key of a sink, and with its texts, by the names of their settings.
func Check(c *connect.Checker, quiet time.Duration, texts map[string]pattern.Text) {
	if c.Has("key") && quiet == 0 {
		c.Fault("a key is by which rows are quiet", "add quiet: 10m, or leave it out", "key")
	}
	if c.Has("quiet") && quiet <= 0 {
		c.Fault("nothing would be quiet", "give a time such as 10m", "quiet")
	}
	checkTexts(c, quiet > 0, texts)
}

// Bounds words how many notices go out, for plans; empty where all do.
func Bounds(quiet time.Duration, key []string) string {
	if quiet == 0 {
		return ""
	}
	text := ", at most one in " + row.DurationText(quiet)
	if len(key) > 0 {
		text += " for each " + strings.Join(key, ", ")
	}
	return text
}

// checkTexts says what does not fit rows of the schema.
func checkTexts(c *connect.Checker, quiet bool, texts map[string]pattern.Text) {
	if len(c.Schema) == 0 {
		return // its faults were said
	}
	if quiet && c.Schema.Index(HeldField) >= 0 {
		c.Fault("the rows have a field held, which is what notices call the number of rows that were held back", "rename it by columns", "quiet")
	}
	wide := c.Schema
	if quiet {
		wide = append(wide[:len(wide):len(wide)], row.Field{Name: HeldField, Kind: row.Int})
	}
	for at, text := range texts {
		if message, remedy := text.Check(wide, c.Nearest); message != "" {
			c.Fault(message, remedy, at)
		}
	}
}
