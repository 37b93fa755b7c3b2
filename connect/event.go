package connect

import (
	"context"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// Event is one raw event of a sample, in the order in which it arrived in its partition.
type Event struct {
	Partition string
	Offset    int64
	Key       []byte    // nil for none
	Stored    time.Time // zero for none
	Headers   []Header
	Text      []byte
	// Shown is the text for people, where Text is not for them; nil where it is.
	Shown []byte
	// Hidden adds the value of a hidden field that no other part of the event gives (meta.topic); false for none. It may be nil.
	Hidden func(c *row.Column, field string) bool
}

// Readable gives the event as people read it.
func (e *Event) Readable() []byte {
	if e.Shown != nil {
		return e.Shown
	}
	return engine.Readable(e.Text)
}

// Header is a header of an event.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// From says which events of a stream are taken.
type From uint8

const (
	Newest From = iota
	Oldest
	Since // from a stored time on
)

// Sampling says which events of a source are taken. Made events always begin at their start.
type Sampling struct {
	Rows int // at most so many; at least 1
	From From
	At   time.Time // with Since
	// Partition alone, where it is named.
	Partition string
	// Journal is the folder where a source writes down what it takes; empty where nobody knows it.
	Journal string
	// Wait bounds how long is waited for events that are said to be there; 0 for the default.
	Wait time.Duration
}

// Sample are events of a source, in the order of their arrival, and what people should know of them.
type Sample struct {
	Events []Event
	Header string // of a format that has one
	// Text gives an event as people read it, where its bytes are not for them; nil where they are.
	Text func(event []byte) []byte
	// Format is the name of what the events are known to be; empty where that is to be guessed.
	Format string
	// Registry has the schemas that events name, the newest of them by Subject; nil for none.
	Registry Registry
	Subject  string
	Notes    []string
}

// Drain reads a partition's first events, or with a negative number its last, and closes it.
func Drain(ctx context.Context, p engine.Partition, most int, out *Sample) error {
	if err := p.Open(ctx, nil); err != nil {
		return err
	}
	defer p.Close()
	var c engine.Chunk
	var first int64 // number of the chunk's first event
	var events []Event
	for !c.Last && (most < 0 || len(events) < most) {
		c.Reset()
		if err := p.Read(ctx, &c); err != nil {
			return err
		}
		c.First = first
		first += int64(len(c.Starts))
		if len(c.Header) > 0 {
			out.Header = string(c.Header)
		}
		for i := range c.Starts {
			e := Event{Partition: p.Name(), Offset: c.Offset(i), Text: append([]byte(nil), c.Event(i)...)}
			if out.Text = c.Text; c.Text != nil {
				e.Shown = c.Text(e.Text)
			}
			events = append(events, e)
		}
		if most < 0 && len(events) > -8*most {
			events = append(events[:0], events[len(events)+most:]...)
		}
	}
	if most > 0 && len(events) > most {
		events = events[:most]
	} else if most < 0 && len(events) > -most {
		events = events[len(events)+most:]
	}
	out.Events = append(out.Events, events...)
	return nil
}
