package connect

import (
	"context"
	"fmt"
	"time"
)

// Looker asks what a connection reaches. It writes nothing unless told to. Safe for concurrent use.
type Looker interface {
	// Try tries the connection step by step, and a stream where one is named. It reads and writes no event.
	Try(ctx context.Context, stream string) []Step
	Close()
}

// Lookers may also have the methods of these interfaces; a test lists for each kind which it has.
type (
	// Lister lists the streams by name.
	Lister interface {
		Streams(ctx context.Context) ([]Stream, error)
	}
	// Maker makes a stream with so many partitions, 0 for as many as is held right there; one that is there already is
	// an error that wraps ErrStreamExists.
	Maker interface {
		Make(ctx context.Context, stream string, partitions int32) error
	}
	// Schematic shows and registers the schemas of a registry.
	Schematic interface {
		// Schemas gives the newest version of each subject, or all versions of one, the oldest first.
		Schemas(ctx context.Context, subject string) ([]Schema, error)
		// Register adds a version to a subject, unless it has that schema.
		Register(ctx context.Context, subject, text string) (Schema, error)
		// Fits says why a schema does not fit the newest version of a subject; none where it does.
		Fits(ctx context.Context, subject, text string) (why []string, err error)
	}
	// Opener opens a stream for sending; one that is not there is an error that wraps ErrNoStream.
	Opener interface {
		OpenToSend(ctx context.Context, stream string) (Sender, error)
	}
)

// Schema is a version of a subject of a registry.
type Schema struct {
	Subject string
	Version int
	ID      int
	Fields  []string // each as a document would declare it, name and type; none where it is not a record
	Text    string
}

// Sender sends raw events to one stream. One goroutine at a time.
type Sender interface {
	// Send hands an event over; an earlier one's fault is returned.
	Send(ctx context.Context, key, text []byte) error
	// Flush waits until everything is stored.
	Flush(ctx context.Context) error
	Close()
}

// Can gives what a looker can do beside trying; an error that wraps ErrCannot says that its kind cannot.
func Can[T any](c *Connection, l Looker, what string) (T, error) {
	out, ok := l.(T)
	if !ok {
		return out, fmt.Errorf("%w: connection %s is a %s connection, which cannot %s", ErrCannot, c.Name, c.Kind.Name, what)
	}
	return out, nil
}

// Stream is what a connection tells of a stream, such as a topic.
type Stream struct {
	Name       string
	Partitions int
	Events     int64         // that are kept, by offsets: markers of transactions count
	Bytes      int64         // of one copy; -1 where it is not said
	Retention  time.Duration // 0: for ever, or until the size is reached; -1 where it is not said
	Compacted  bool
	Newest     time.Time // the stored time of the newest event; zero for none, or where it is not said
}

// Step is one step of trying a connection.
type Step struct {
	Name string // reached, signed in, topic seen, may read, may write
	// State is yes, no, or not asked: a step before it failed, or no stream was named.
	State string
	Text  string // what was found; what to do where it is no
	// Needs says what the step matters for.
	Needs Needs
}

// Trial is a test that goes from step to step.
type Trial []Step

// NewTrial begins a test of these steps: none is asked yet.
func NewTrial(steps ...Step) Trial {
	for i := range steps {
		steps[i].State = "not asked"
	}
	return steps
}

// Say notes what was found of a step.
func (t Trial) Say(step int, ok bool, format string, args ...any) bool {
	t[step].State, t[step].Text = "no", fmt.Sprintf(format, args...)
	if ok {
		t[step].State = "yes"
	}
	return ok
}

// Needs says who needs a step of a test to hold, as a set: a step has one, a source or sink all that apply to it.
type Needs uint8

const (
	ByMaking    Needs = 1 << iota // by all but a sink that makes the stream
	ByReading                     // by a source
	ByWriting                     // by a sink
	ByReplacing                   // by a sink that replaces rows
	ByAll       Needs = 0
)
