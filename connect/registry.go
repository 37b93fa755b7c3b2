package connect

import (
	"context"
	"errors"
)

// Registry is where schemas stand, by number and by name. Safe for concurrent use.
type Registry interface {
	// Schema gives a schema by its number. It is asked for once: a schema never changes. One that is not there is an error that wraps
	// [ErrNoSchema]; one that cannot be asked for just now, ErrUnreachable.
	Schema(ctx context.Context, id int) (text string, err error)
	// Newest gives the newest version of a subject, such as that of a topic's values.
	Newest(ctx context.Context, subject string) (id int, text string, err error)
}

// ErrNoSchema: a registry has no such schema.
var ErrNoSchema = errors.New("there is no such schema")

// Registered is a link that may have a registry; nil for none.
type Registered interface {
	Registry() (Registry, error)
}

// RegistryOf gives the registry of the connection that a source or sink goes through, and the subject of its values; nil where there is none.
func RegistryOf(of any) (r Registry, subject string, err error) {
	c, stream, ok := Through(of)
	if !ok {
		return nil, "", nil
	}
	l, ok := c.Link.(Registered)
	if !ok {
		return nil, "", nil
	}
	r, err = l.Registry()
	return r, stream + "-value", err
}
