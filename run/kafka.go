package run

import (
	"context"
	"fmt"

	"undertide/connect/kafka"
	"undertide/core/engine"
	"undertide/job"
)

// ErrUnreachable is wrapped where a source or sink cannot be reached: trying again later may help.
var ErrUnreachable = kafka.ErrUnreachable

// ErrDenied is wrapped where a broker answers and refuses: trying again does not help.
var ErrDenied = kafka.ErrDenied

// ErrNoTopic is wrapped where a broker lacks a topic.
var ErrNoTopic = kafka.ErrNoTopic

// Topic is what a broker tells of a topic; Check is a step of trying a connection.
type (
	Topic = kafka.Topic
	Check = kafka.Check
)

// Reach gives a connection as the connector takes it.
func Reach(c job.Connection) (kafka.Connection, error) {
	out := kafka.Connection{Name: c.Name, Brokers: c.Brokers}
	var err error
	if t := c.TLS; t != nil {
		if out.TLS, err = kafka.Secure(t.CA, t.Cert, t.Key, t.ServerName); err != nil {
			return out, fmt.Errorf("connection %s: %w", c.Name, err)
		}
	}
	if s := c.SASL; s != nil {
		if out.SASL, err = kafka.SignIn(s.Mechanism, s.User, s.Password); err != nil {
			return out, fmt.Errorf("connection %s: %w", c.Name, err)
		}
	}
	return out, nil
}

// topic opens a source that reads a topic.
func (b *builder) topic(s *job.Source, known []string, out *engine.Source) error {
	k := s.Kafka
	conn, err := Reach(k.Connection)
	if err != nil {
		return fmt.Errorf("source %s: %w", s.Name, err)
	}
	c := kafka.SourceConfig{Connection: conn, Topic: k.Topic, Group: k.Group, BeginAt: k.BeginAt, Fresh: len(known) == 0, Buffer: b.job.Buffer}
	switch k.Begin {
	case "latest":
		c.Begin = kafka.Latest
	case "time":
		c.Begin = kafka.AtTime
	}
	if b.opt.Checkpoints == "" {
		c.Group = "" // positions that nothing goes on from are nobody's
	}
	src, err := kafka.Open(b.ctx, c)
	if err != nil {
		return fmt.Errorf("source %s: %w", s.Name, err)
	}
	b.closers = append(b.closers, src.Close)
	out.Bounded = false
	out.Partitions = src.Partitions()
	out.Find = func(ctx context.Context, found func(engine.Partition)) error { return src.Find(ctx, found) }
	out.NewDecoder = func() engine.Decoder { return decoderOf(s) }
	return nil
}
