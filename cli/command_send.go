package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/connect"
	"undertide/job"
)

// pace is how fast events are sent.
type pace struct {
	perSecond float64 // 0: not by number
	speed     float64 // of the events' own times; 0: not by them
}

// readPace reads full, true, 10x, or 200/s.
func readPace(text string) (pace, error) {
	switch {
	case text == "full":
		return pace{}, nil
	case text == "true":
		return pace{speed: 1}, nil
	case strings.HasSuffix(text, "x"):
		if v, err := strconv.ParseFloat(strings.TrimSuffix(text, "x"), 64); err == nil && v > 0 && v < 1e9 {
			return pace{speed: v}, nil
		}
	case strings.HasSuffix(text, "/s"):
		if v, err := strconv.ParseFloat(strings.TrimSuffix(text, "/s"), 64); err == nil && v > 0 && v < 1e9 {
			return pace{perSecond: v}, nil
		}
	}
	return pace{}, usageError{fmt.Errorf("--pace %s: write full, true (as they happened), 10x (ten times as fast), or 200/s", text)}
}

// sendFlags say what is sent, and how.
type sendFlags struct {
	nearest
	pace, key, at string
}

func newSend(s *streams) *cobra.Command {
	var f sendFlags
	c := &cobra.Command{
		Use:   "send CONNECTION TOPIC [FILE]",
		Short: "Send lines of a file or of standard input to a topic, at a pace",
		Long: `Send events to a topic that is there, a line each, from a file or from standard input. By --pace they
go as fast as they can (full), so many a second (200/s), or by their own times, which --event-time names: as
they happened (true) or so many times as fast (10x). --key names the field of JSON events that is the
message key; without it messages have none.`,
		Example: `  undertide send harbour crane.lifts lifts.ndjson --key crane --pace 200/s
  undertide send harbour crane.lifts lifts.ndjson --key crane --pace 10x --event-time lifted_at
  echo '{"gauge":"G01","level_m":2.5}' | undertide send harbour gauge.levels`,
		Args: cobra.RangeArgs(2, 3),
		ValidArgsFunction: func(c *cobra.Command, args []string, w string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 2 {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return f.connectionNames(c, args, w)
		},
		RunE: func(c *cobra.Command, args []string) error {
			p, err := readPace(f.pace)
			if err != nil {
				return err
			}
			if (p.speed > 0) != (f.at != "") {
				return usageError{errors.New("--event-time and a pace by the events' times belong together; give --pace true or 10x with --event-time FIELD")}
			}
			in := s.in
			name := "standard input"
			if len(args) == 3 {
				file, err := os.Open(args[2])
				if err != nil {
					return usageError{fmt.Errorf("%w; name a file of events, a line each", err)}
				}
				defer file.Close()
				in, name = file, args[2]
			}
			to, err := f.sender(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			var handed atomic.Int64
			s.progressing(func() string { return group(handed.Load()) + " events handed over" })
			n, err := f.send(c.Context(), in, name, p, func(key *string, text string) error {
				handed.Add(1)
				return to.send(key, text)
			})
			// What was handed over before a line that is wrong goes out all the same.
			err = errors.Join(err, to.end())
			if arrived := to.arrived(); arrived >= 0 {
				s.say("sent %s %s to %s", group(arrived), plural(arrived, "event"), args[1])
			} else {
				s.say("%s %s were handed over for %s; how many of them arrived is not known", group(n), plural(n, "event"), args[1])
			}
			return err
		},
	}
	f.flags(c)
	c.Flags().StringVar(&f.pace, "pace", "full", "how fast: `PACE` full, true, 10x, 200/s")
	c.Flags().StringVar(&f.key, "key", "", "the `FIELD` of JSON events that is the message key")
	c.Flags().StringVar(&f.at, "event-time", "", "the `FIELD` of JSON events by whose times they are paced: RFC 3339, or an epoch")
	return c
}

// sender takes events. arrived is how many the broker has said that it has, after end; -1 where that is not known.
type sender struct {
	send    func(key *string, text string) error
	end     func() error
	arrived func() int64
}

// sender gives what takes events.
func (f *sendFlags) sender(ctx context.Context, connection, topic string) (sender, error) {
	conn, cl, err := f.find(connection)
	if err != nil {
		return sender{}, err
	}
	if conn != nil {
		return direct(ctx, conn, topic)
	}
	return throughService(ctx, cl, connection, topic), nil
}

// direct gives events to a broker.
func direct(ctx context.Context, conn *connect.Connection, topic string) (sender, error) {
	l, err := conn.Look()
	if err != nil {
		return sender{}, err
	}
	opener, err := connect.Can[connect.Opener](conn, l, "take events")
	if err != nil {
		return sender{}, err
	}
	w, err := opener.OpenToSend(ctx, topic)
	if err != nil {
		return sender{}, err
	}
	var n int64
	flushed := false
	return sender{
		send: func(key *string, text string) error {
			var k []byte
			if key != nil {
				k = []byte(*key)
			}
			err := w.Send(ctx, k, []byte(text))
			if err == nil {
				n++
			}
			return err
		},
		end: func() error {
			defer l.Close()
			defer w.Close()
			err := w.Flush(ctx)
			flushed = err == nil
			return err
		},
		arrived: func() int64 {
			if flushed || n == 0 {
				return n
			}
			return -1
		},
	}, nil
}

// throughService gathers events and gives them to the service.
func throughService(ctx context.Context, cl *client.Client, connection, topic string) sender {
	var arrived int64
	var batch []api.NewEvent
	size, began := 0, time.Now()
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		sent, err := cl.Send(ctx, connection, topic, batch)
		arrived += int64(sent.Count)
		batch, size, began = batch[:0], 0, time.Now()
		return without(connection, err)
	}
	return sender{send: func(key *string, text string) error {
		batch = append(batch, api.NewEvent{Key: key, Text: text})
		if size += len(text) + 64; size > 1<<20 || time.Since(began) > 200*time.Millisecond {
			return flush()
		}
		return nil
	}, end: flush, arrived: func() int64 { return arrived }}
}

// send reads lines and hands them over at a pace; it gives how many were handed over.
func (f *sendFlags) send(ctx context.Context, in io.Reader, name string, p pace, to func(key *string, text string) error) (int64, error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 64<<20)
	began := time.Now()
	var n int64
	var first time.Time
	for line := int64(1); lines.Scan(); line++ {
		text := lines.Text()
		if strings.TrimSpace(text) == "" {
			continue
		}
		var key *string
		wait := time.Duration(0)
		if f.key != "" || f.at != "" {
			var fields map[string]any
			d := json.NewDecoder(strings.NewReader(text))
			d.UseNumber()
			if err := d.Decode(&fields); err != nil {
				return n, fmt.Errorf("%s:%d: the line is not a JSON object, so that --key and --event-time find nothing in it; leave them out for other events", name, line)
			}
			if f.key != "" {
				v, ok := fields[f.key]
				if !ok {
					return n, fmt.Errorf("%s:%d: the event has no field %s, which --key names; %s", name, line, f.key, fieldsRemedy(f.key, fields))
				}
				if v != nil {
					k := fmt.Sprint(v)
					key = &k
				}
			}
			if f.at != "" {
				at, err := momentOf(fields[f.at])
				if err != nil {
					return n, fmt.Errorf("%s:%d: field %s %w", name, line, f.at, err)
				}
				if first.IsZero() {
					first = at
				}
				wait = time.Duration(float64(at.Sub(first)) / p.speed)
			}
		}
		if p.perSecond > 0 {
			wait = time.Duration(float64(n) / p.perSecond * float64(time.Second))
		}
		if left := wait - time.Since(began); left > time.Millisecond {
			select {
			case <-ctx.Done():
				return n, ctx.Err()
			case <-time.After(left):
			}
		}
		if err := to(key, text); err != nil {
			return n, err
		}
		n++
	}
	if err := lines.Err(); err != nil {
		return n, fmt.Errorf("read %s: %w", name, err)
	}
	return n, nil
}

// fieldsRemedy says which fields there are.
func fieldsRemedy(wrong string, fields map[string]any) string {
	known := slices.Sorted(maps.Keys(fields))
	if n := job.Nearest(wrong, known); n != "" {
		return "did you mean " + n + "?"
	}
	return "it has " + strings.Join(known, ", ")
}

// momentOf reads a time: RFC 3339, or a whole number in the unit by which it lies between 1990 and 2100.
func momentOf(v any) (time.Time, error) {
	switch x := v.(type) {
	case nil:
		return time.Time{}, errors.New("has no value")
	case json.Number:
		i, err := x.Int64()
		if err != nil {
			break
		}
		for _, per := range []int64{1, 1000, 1_000_000, 1_000_000_000} {
			if s := i / per; s > 631_152_000 && s < 4_102_444_800 {
				return time.Unix(s, i%per*(1_000_000_000/per)), nil
			}
		}
	case string:
		if t, err := time.Parse(time.RFC3339Nano, x); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("holds %v, which is not a time; it takes RFC 3339 and epochs", v)
}
