package mqtt

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"undertide/connect"
	"undertide/connect/made"
	"undertide/connect/pattern"
	"undertide/connect/secure"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// sink are the settings of topics that are written.
type sink struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Topic      pattern.Text        `set:"topic,required" missing:"the topic is not named" fix:"add topic: yard/alarms" hint:"yard/alarms/{crane}" about:"Where the messages go; {field} stands for the text of a field."`
	Retain     bool                `set:"retain,free" about:"The broker keeps the newest message of each topic for those who come later." default:"false"`
}

func (s *sink) Check(c *connect.Checker) {
	if strings.ContainsAny(s.Topic.String(), "+#") {
		c.Fault("+ and # stand for topics that are read", "write one topic, such as yard/alarms", "topic")
	}
	if message, remedy := s.Topic.Check(c.Schema, c.Nearest); message != "" && len(c.Schema) > 0 {
		c.Fault(message, remedy, "topic")
	}
}

// Atomic: a broker keeps no number of what it has.
func (s *sink) Atomic() bool { return false }

// Stream implements [connect.Streaming].
func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, s.Topic.String() }

// Words says what is written.
func (s *sink) Words(f *connect.Format, _ row.Schema, d connect.Delivering) connect.SinkWords {
	w := connect.SinkWords{Writes: connect.StreamText(s) + ", " + strings.ToUpper(f.Name), Delivery: d.AtLeastOnce(false), AsMade: true}
	if s.Retain {
		w.Writes += "; the broker retains the newest of each topic"
	}
	return w
}

// Place says where the rows are.
func (s *sink) Place(string, bool) string { return connect.StreamText(s) }

// Open makes the sink.
func (s *sink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	b, err := reach(s.Connection)
	if err != nil {
		return nil, err
	}
	p := &publisher{to: b, topic: s.Topic, retain: s.Retain, format: o.Format}
	return &messages{p, made.New(made.Way{Start: p.start, Send: p.send, Stop: p.leave})}, nil
}

// messages is the sink that an engine takes.
type messages struct {
	*publisher
	*made.Rows
}

// publisher sends messages, each again until the broker has acknowledged it. One goroutine at a time.
type publisher struct {
	to     *broker
	topic  pattern.Text
	retain bool
	format *connect.Format
	health connect.Health
	s      session // nil while there is none
}

func newName() string { return "undertide-" + strings.ToLower(rand.Text()[:12]) }

// start reaches the broker.
func (p *publisher) start(ctx context.Context) (err error) {
	if p.s != nil {
		select {
		case <-p.s.over():
			p.leave()
		default:
			return nil
		}
	}
	p.s, err = p.to.begin(ctx, dialing{client: newName()})
	return err
}

func (p *publisher) leave() {
	if p.s != nil {
		p.s.close()
		p.s = nil
	}
}

// send publishes rows in their order. Where the connection breaks, those that were not acknowledged are published again.
func (p *publisher) send(ctx context.Context, data []byte) error {
	lost := func(err error) string {
		p.leave()
		return strings.TrimPrefix(p.to.explain(err).Error(), p.to.String()+" ")
	}
	for len(data) > 0 {
		err := made.Again(ctx, &p.health, func() error {
			rest, err := p.publish(ctx, data)
			gone := len(rest) < len(data)
			data = rest
			if gone && err != nil && mayPass(err) { // some went out: the pauses begin anew
				p.health.Fault(lost(err))
				return nil
			}
			return err
		}, mayPass, lost)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return p.to.explain(err)
		}
	}
	return nil
}

// mayPass says whether trying again may help.
func mayPass(err error) bool {
	var said *refusal
	return !errors.Is(err, connect.ErrDenied) && !errors.As(err, &said)
}

// publish publishes rows, and gives those that were not acknowledged.
func (p *publisher) publish(ctx context.Context, data []byte) (rest []byte, err error) {
	if err := p.start(ctx); err != nil {
		return data, err
	}
	type sent struct {
		before []byte // from this row on
		wait   func(context.Context) error
	}
	var under []sent
	settle := func(most int) error {
		for len(under) > most {
			limited, stop := context.WithTimeout(ctx, 2*keepAlive)
			err := under[0].wait(limited)
			stop()
			if err != nil {
				return err
			}
			under = under[1:]
		}
		return nil
	}
	unsettled := func(next []byte) []byte {
		if len(under) > 0 {
			return under[0].before
		}
		return next
	}
	for len(data) > 0 {
		topic, text, next := cutRow(data)
		wait, err := p.s.publish(ctx, string(topic), bytes.Clone(text), p.retain) // the library keeps it
		if err != nil {
			return unsettled(data), err
		}
		under = append(under, sent{data, wait})
		data = next
		if err := settle(underWay / 2); err != nil {
			return unsettled(data), err
		}
	}
	if err := settle(0); err != nil {
		return unsettled(data), err
	}
	return nil, nil
}

// cutRow takes a row from encoded ones: its topic and its text.
func cutRow(data []byte) (topic, text, rest []byte) {
	topic, rest, _ = row.NextText(data) // as the encoder wrote it
	text, rest, _ = row.NextText(rest)
	return topic, text, rest
}

// Trouble implements [engine.Troubled].
func (p *publisher) Trouble() string {
	return p.health.Trouble(p.to.String() + " has not taken messages")
}

// Retries implements [engine.Retrier].
func (p *publisher) Retries() int64 { return p.health.Retries() }

// NewEncoder writes for each row its topic and its text, each with its length before it.
func (p *publisher) NewEncoder(s row.Schema) engine.Encoder {
	f := p.topic.Bind(s)
	f.Safe = level
	return &encoder{topic: f, rows: p.format.Encode(s)}
}

// level writes a value as a level of a topic: what would be more than one level, or a filter, is written as _.
func level(dst, value []byte) []byte {
	for _, c := range value {
		switch c {
		case '/', '+', '#', 0:
			c = '_'
		}
		dst = append(dst, c)
	}
	if len(value) == 0 {
		dst = append(dst, '_')
	}
	return dst
}

type encoder struct {
	topic   *pattern.Filler
	rows    engine.Encoder
	scratch []byte
}

// Append implements [engine.Encoder].
func (e *encoder) Append(dst []byte, v step.View) []byte {
	one := v
	for n, i := range v.Sel {
		e.scratch = e.topic.Append(e.scratch[:0], v.Cols, int(i))
		dst = row.AppendText(dst, e.scratch)
		one.Sel = v.Sel[n : n+1]
		e.scratch = bytes.TrimSuffix(e.rows.Append(e.scratch[:0], one), []byte("\n"))
		dst = row.AppendText(dst, e.scratch)
	}
	return dst
}

// Looker asks what a connection reaches. Safe for concurrent use.
type Looker struct{ to *broker }

// Close implements [connect.Looker].
func (l *Looker) Close() {}

// The steps of a test, in order.
const (
	reachedStep = iota
	signedIn
	topicGiven
)

// Try tries the connection step by step, and a topic filter where one is named. It publishes nothing: whether it may is seen
// with the first message.
func (l *Looker) Try(ctx context.Context, filter string) []connect.Step {
	t := connect.NewTrial(connect.Step{Name: "reached"}, connect.Step{Name: "signed in"}, connect.Step{Name: "may read", Needs: connect.ByReading})
	ctx, cancel := context.WithTimeout(ctx, 2*reachIn)
	defer cancel()
	conn, err := secure.Dial(ctx, l.to.address, l.to.tls)
	if !t.Say(reachedStep, err == nil, "%s answers", l.to.address) {
		t[reachedStep].Text = l.to.explain(err).Error()
		return t
	}
	conn.Close()
	s, err := l.to.begin(ctx, dialing{client: newName(), take: func(message) {}})
	if err != nil {
		t.Say(signedIn, false, "%v", err)
		return t
	}
	defer s.close()
	by := "nobody signs in"
	if l.to.user != "" {
		by = "as " + l.to.user
	}
	t.Say(signedIn, true, "%s", by)
	if filter == "" {
		t[topicGiven].Text = "name a topic filter to ask whether it may be read"
		return t
	}
	for one := range strings.FieldsSeq(filter) {
		if err := checkFilter(one); err != nil {
			t.Say(topicGiven, false, "%v", err)
			return t
		}
		if err := s.subscribe(ctx, []string{one}); err != nil {
			t.Say(topicGiven, false, "%v", l.to.explain(err))
			return t
		}
	}
	t.Say(topicGiven, true, "%s", fmt.Sprintf("the broker grants %s with acknowledgments", filter))
	return t
}
