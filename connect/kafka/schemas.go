package kafka

import (
	"context"
	"fmt"

	"github.com/twmb/franz-go/pkg/sr"

	"undertide/connect"
	"undertide/connect/formats/avro"
	"undertide/connect/registry"
)

// asked gives the connection's registry.
func (l *Looker) asked() (*registry.Client, error) {
	if l.c.registry == nil {
		return nil, fmt.Errorf("%w: connection %s has no registry; add registry: {url: …} to it", connect.ErrCannot, l.c.Name)
	}
	return l.c.registry, nil
}

// Schemas implements [connect.Schematic].
func (l *Looker) Schemas(ctx context.Context, subject string) (out []connect.Schema, err error) {
	r, err := l.asked()
	if err != nil {
		return nil, err
	}
	if subject != "" {
		all, err := r.API().Schemas(ctx, subject)
		if err != nil {
			return nil, r.Explain(err, "subject "+subject)
		}
		for _, s := range all {
			out = append(out, schemaOf(s))
		}
		return out, nil
	}
	names, err := r.API().Subjects(ctx)
	if err != nil {
		return nil, r.Explain(err, "its subjects")
	}
	for _, name := range names {
		s, err := r.API().SchemaByVersion(ctx, name, -1)
		if err != nil {
			return nil, r.Explain(err, "subject "+name)
		}
		out = append(out, schemaOf(s))
	}
	return out, nil
}

func schemaOf(s sr.SubjectSchema) connect.Schema {
	return connect.Schema{Subject: s.Subject, Version: s.Version, ID: s.ID, Text: s.Schema.Schema, Fields: avro.Describe(s.Schema.Schema)}
}

// Register implements [connect.Schematic].
func (l *Looker) Register(ctx context.Context, subject, text string) (connect.Schema, error) {
	r, err := l.asked()
	if err != nil {
		return connect.Schema{}, err
	}
	s, err := r.API().CreateSchema(ctx, subject, sr.Schema{Schema: text})
	if err != nil {
		return connect.Schema{}, r.Explain(err, "register a schema of "+subject)
	}
	return schemaOf(s), nil
}

// Fits implements [connect.Schematic].
func (l *Looker) Fits(ctx context.Context, subject, text string) ([]string, error) {
	r, err := l.asked()
	if err != nil {
		return nil, err
	}
	got, err := r.API().CheckCompatibility(ctx, subject, -1, sr.Schema{Schema: text})
	switch {
	case err != nil:
		return nil, r.Explain(err, "subject "+subject)
	case got.Is:
		return nil, nil
	case len(got.Messages) == 0:
		return []string{"the registry says that it does not fit, and not why"}, nil
	}
	return got.Messages, nil
}
