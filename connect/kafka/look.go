package kafka

import (
	"context"
	"fmt"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kgo"
)

// Looker asks a broker what it has. It writes nothing and joins no group. Close ends it. Safe for
// concurrent use.
type Looker struct {
	c      Connection
	client *kgo.Client
	admin  *kadm.Client
}

// Look makes a looker; the broker is reached by its methods.
func Look(c Connection) (*Looker, error) {
	client, err := kgo.NewClient(append(c.options(), kgo.RequestRetries(2))...)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", c, err)
	}
	return &Looker{c, client, kadm.NewClient(client)}, nil
}

func (l *Looker) Close() { l.client.Close() }

// endsWith ends a client with a context, until the function that it gives is called: a request that waits for a silent
// broker does not look at its own context.
func endsWith(ctx context.Context, client *kgo.Client) (leave func() bool) {
	return context.AfterFunc(ctx, client.Close)
}
