package kafka

import (
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
