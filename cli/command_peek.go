package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/connect"
	"undertide/job"
	"undertide/look"
	"undertide/try"
)

// peekFlags say which events are looked at, and what is wanted of them.
type peekFlags struct {
	nearest
	connection, topic     string
	file                  string
	oldest, newest        bool
	at                    string
	follow                bool
	rows                  int
	partition             int
	profile, infer        bool
	checkpoints           string
	purpose, format, grep string
	where                 string
	only                  []string
}

func newPeek(s *streams) *cobra.Command {
	var f peekFlags
	c := &cobra.Command{
		Use:   "peek [DOCUMENT [SOURCE]]",
		Short: "Look at raw events of a topic, file or source, and at what they decode to",
		Long: `Look at raw events of a topic (--connection, --topic), of a file (--file) or of a document's source: key,
partition, offset, stored time, headers, the text as it is, and what it decodes to. Nothing is written, and no
position moves. A file needs no document yet; its format is told by its name's ending, or by its lines.

--since takes events stored since then; those of files have no such time, and their own event time counts.

--where and --only ask a question of a stream and leave nothing behind: the events for which a condition holds, and these of
their fields. Where no document declares the fields they are those that --infer would find.

--profile tells of each field how often it is null, how many values it has, the least and the greatest.
--infer proposes the fields, the event time and the margin, with each doubt, and writes a document to
begin with to standard output.`,
		Example: `  undertide peek --connection harbour --topic gauge.levels --oldest --limit 5
  undertide peek --connection harbour --topic gauge.levels --where 'level_m > 3.6' --only gauge,level_m
  undertide peek --connection harbour --topic gauge.levels --profile
  undertide peek --connection harbour --topic gauge.levels --infer > job.yaml
  undertide peek --file gauges.ndjson --infer > job.yaml
  undertide peek --file gauges.ndjson --follow
  undertide peek harbour/jobs/crane-load.yaml lifts --follow`,
		Args:              cobra.MaximumNArgs(2),
		ValidArgsFunction: documents,
		RunE: func(c *cobra.Command, args []string) error {
			if err := f.check(args); err != nil {
				return err
			}
			if f.follow {
				return f.followed(c.Context(), s, args)
			}
			if !c.Flags().Changed("limit") && (f.profile || f.infer) {
				f.rows = 1000
			}
			p, origin, err := f.peek(c.Context(), args)
			if err != nil {
				return err
			}
			for _, n := range p.Notes {
				s.say("%s", n)
			}
			switch {
			case f.infer:
				if p.Inference == nil {
					return api.NoEvents.With("", "")
				}
				if origin != nil {
					return inferred(s, f.purpose, *origin, p)
				}
				if len(args) > 0 {
					return f.inferredSource(s, args, p)
				}
				return f.inferredThere(c.Context(), s, p)
			case f.profile:
				if p.Profile == nil {
					return nil
				}
				return show(s, f.format, p.Profile, func() { profileTable(s, p.Profile) })
			}
			return show(s, f.format, p.Events, func() {
				if len(f.only) > 0 {
					f.grid(s, p.Events)
					return
				}
				for _, e := range p.Events {
					showEvent(s, e)
				}
			})
		},
	}
	f.flags(c)
	g := c.Flags()
	g.StringVar(&f.connection, "connection", "", "the connection `NAME` of the broker")
	g.StringVar(&f.topic, "topic", "", "the `TOPIC`")
	g.StringVar(&f.file, "file", "", "the `PATH` of a file, or a pattern in quotes")
	g.BoolVar(&f.newest, "newest", false, "the newest events (this is what happens without it)")
	g.BoolVar(&f.oldest, "oldest", false, "the oldest events")
	g.StringVar(&f.checkpoints, "checkpoints", "", "the `FOLDER` of a run's checkpoints, where posts and lines are written down that a source takes")
	g.StringVar(&f.at, "since", "", "events since `TIME`: RFC 3339, or a duration before now")
	g.BoolVarP(&f.follow, "follow", "f", false, "events as they are stored from now on; Ctrl-C ends it")
	g.IntVar(&f.rows, "limit", 10, "at most `N` (--profile and --infer: 1000)")
	g.IntVar(&f.partition, "partition", -1, "of partition `N` alone")
	g.StringVar(&f.where, "where", "", "only events for which this `CEL` condition over their fields holds; 20,000 are looked through")
	g.StringSliceVar(&f.only, "only", nil, "of each event these `FIELDS` alone, as a table")
	g.BoolVar(&f.profile, "profile", false, "tell what each field holds")
	g.BoolVar(&f.infer, "infer", false, "propose fields, event time and margin, as a document")
	g.StringVar(&f.purpose, "purpose", "", "what the document of --infer is for: `PURPOSE` "+purposes())
	formatFlag(c, &f.format)
	exclusive(c, "oldest", "newest", "since", "follow")
	exclusive(c, "profile", "infer", "follow")
	_ = c.RegisterFlagCompletionFunc("connection", func(c *cobra.Command, _ []string, w string) ([]string, cobra.ShellCompDirective) {
		return f.connectionNames(c, nil, w)
	}) // the flag stands above
	return c
}

func purposes() string {
	var out []string
	for _, p := range look.Purposes {
		out = append(out, p.Name)
	}
	return strings.Join(out, ", ")
}

func (f *peekFlags) check(args []string) error {
	switch {
	case len(args) == 0 && f.file == "" && (f.connection == "" || f.topic == ""):
		return usageError{errors.New("what to look at is not said; give --connection and --topic, --file, or a document and its source")}
	case len(args) > 0 && (f.connection != "" || f.topic != "" || f.file != ""), f.file != "" && (f.connection != "" || f.topic != ""):
		return usageError{errors.New("a document, --file, and --connection with --topic stand together; give one of them")}
	case f.file != "" && f.partition >= 0:
		return usageError{errors.New("--partition is for topics; name the file itself")}
	case f.rows < 1 || f.rows > 10_000:
		return usageError{fmt.Errorf("--limit %d: give 1 to 10000", f.rows)}
	case (f.where != "" || len(f.only) > 0) && (f.profile || f.infer):
		return usageError{errors.New("--where and --only are for looking at events, and not with --profile or --infer")}
	case f.purpose != "" && !f.infer:
		return usageError{errors.New("--purpose belongs to --infer")}
	}
	return nil
}

func (f *peekFlags) sampling() (connect.Sampling, error) {
	o := connect.Sampling{Rows: f.rows}
	if f.partition >= 0 {
		o.Partition = fmt.Sprint(f.partition)
	}
	switch {
	case f.oldest:
		o.From = connect.Oldest
	case f.at != "":
		o.From = connect.Since
		if d, err := job.ParseDuration(f.at); err == nil {
			o.At = time.Now().Add(-d)
			return o, nil
		}
		var err error
		if o.At, err = time.Parse(time.RFC3339Nano, f.at); err != nil {
			return o, usageError{fmt.Errorf("--since %s is neither a time nor a duration; write 15m, or 2026-03-01T00:00:00Z", f.at)}
		}
	}
	return o, nil
}

func (f *peekFlags) word() string {
	switch {
	case f.oldest:
		return "oldest"
	case f.at != "":
		return "time"
	}
	return "newest"
}

// peek looks at events, from here or by the service. The origin is nil where no document can be written over them.
func (f *peekFlags) peek(ctx context.Context, args []string) (api.Peek, *connect.Origin, error) {
	o, err := f.sampling()
	if err != nil {
		return api.Peek{}, nil, err
	}
	if len(args) > 0 {
		return f.peekDocument(ctx, args, o)
	}
	if f.file != "" {
		source := connect.AtPath(f.file)
		p, err := f.byEventTime(o, func(o connect.Sampling) (api.Peek, string, error) {
			sample, err := source.Sample(ctx, connect.Opening{Format: cmp.Or(connect.FormatOf(f.file), connect.DefaultFormat())}, f.question(o).Sampled(o))
			if err != nil {
				return api.Peek{}, "", err
			}
			p, err := f.sampled(o, sample)
			if err != nil || p.Inference == nil {
				return p, "", err
			}
			return p, p.Inference.EventTime, nil
		})
		return p, originOf(source), err
	}
	conn, cl, err := f.find(f.connection)
	if err != nil {
		return api.Peek{}, nil, err
	}
	if cl != nil {
		p, err := cl.Peek(ctx, f.connection, f.topic, f.options(o))
		return p, nil, without(f.connection, err)
	}
	source, err := conn.At(f.topic)
	if err != nil {
		return api.Peek{}, nil, err
	}
	sample, err := source.Sample(ctx, connect.Opening{}, f.question(o).Sampled(o))
	if err != nil {
		return api.Peek{}, nil, err
	}
	p, err := f.sampled(o, sample)
	return p, originOf(source), err
}

// options are what the service is asked for.
func (f *peekFlags) options(o connect.Sampling) client.PeekOptions {
	return client.PeekOptions{From: f.word(), At: f.at, Limit: f.rows, Partition: o.Partition, Where: f.where, Only: f.only}
}

// question is what is asked of the events.
func (f *peekFlags) question(o connect.Sampling) try.Question {
	return try.Question{Where: f.where, Only: f.only, Rows: f.rows, First: o.From != connect.Newest}
}

// sampled tells of events that no document declares: of those that are asked for.
func (f *peekFlags) sampled(o connect.Sampling, sample connect.Sample) (api.Peek, error) {
	q := f.question(o)
	if !q.Asked() {
		return api.PeekOf(sample), nil
	}
	asker, err := try.AskSample(q, sample)
	if err != nil {
		return api.Peek{}, asUsage(err)
	}
	return api.Answered(asker, sample, api.PeekOf), nil
}

// asUsage tells what is wrong with a question as a wrong use of the command.
func asUsage(err error) error {
	var w try.WrongQuestion
	if errors.As(err, &w) {
		return usageError{w}
	}
	return err
}

func originOf(s connect.Source) *connect.Origin {
	of, ok := s.(connect.Beginning)
	if !ok {
		return nil
	}
	o := of.Document()
	return &o
}

// peekDocument looks at events of a document's source.
func (f *peekFlags) peekDocument(ctx context.Context, args []string, o connect.Sampling) (api.Peek, *connect.Origin, error) {
	j, text, cl, err := f.load(args[0], nil)
	if err != nil {
		return api.Peek{}, nil, err
	}
	if cl != nil {
		p, err := cl.PeekSource(ctx, text, sourceOf(args), f.options(o))
		return p, nil, err
	}
	src, err := named(j, args)
	if err != nil {
		return api.Peek{}, nil, err
	}
	if f.checkpoints != "" {
		o.Journal = filepath.Join(f.checkpoints, "journals", src.Name)
	}
	asker, err := try.AskSource(f.question(o), src)
	if err != nil {
		return api.Peek{}, nil, asUsage(err)
	}
	take := func(o connect.Sampling) (api.Peek, string, error) {
		sample, err := try.Sample(ctx, j, src, asker.Sampled(o))
		if err != nil {
			return api.Peek{}, "", err
		}
		field := ""
		if src.EventTime != nil {
			field = src.EventTime.Text()
		}
		return api.Answered(asker, sample, func(some connect.Sample) api.Peek { return api.DecodedOf(src, some) }), field, nil
	}
	if _, stored := src.With.(connect.Storing); !stored {
		p, err := f.byEventTime(o, take)
		return p, originOf(src.With), err
	}
	p, _, err := take(o)
	return p, originOf(src.With), err
}

// mostLooked is how many events are looked through for those since a time, where none has a time at which it was stored.
const mostLooked = 100_000

// byEventTime takes events; those since a time by the field that take names, since they were stored at no time that is
// known.
func (f *peekFlags) byEventTime(o connect.Sampling, take func(connect.Sampling) (api.Peek, string, error)) (api.Peek, error) {
	if o.From != connect.Since {
		p, _, err := take(o)
		return p, err
	}
	since := o.At
	o.From, o.Rows, o.At = connect.Oldest, mostLooked, time.Time{}
	p, field, err := take(o)
	if err != nil {
		return p, err
	}
	if field == "" {
		return p, usageError{errors.New("--since: no field of the events is known to be their time; leave it out, or take --oldest")}
	}
	if len(p.Events) == mostLooked {
		p.Notes = append(p.Notes, fmt.Sprintf("the first %s events were looked through", group(mostLooked)))
	}
	var later []api.RawEvent
	for _, e := range p.Events {
		for _, d := range e.Decoded {
			at, err := time.Parse(time.RFC3339Nano, d.Value)
			if d.Name == field && err == nil && !at.Before(since) && len(later) < f.rows {
				later = append(later, e)
			}
		}
	}
	if p.Events = later; len(later) == 0 {
		p.Notes = append(p.Notes, fmt.Sprintf("no event has a %s since %s", field, since.UTC().Format(time.RFC3339)))
	}
	return p, nil
}

func sourceOf(args []string) string {
	if len(args) > 1 {
		return args[1]
	}
	return ""
}

// named finds the source of a document that the arguments name.
func named(j *job.Job, args []string) (*job.Source, error) {
	src, err := j.SourceNamed(sourceOf(args))
	if err != nil {
		return nil, usageError{errors.New(strings.TrimPrefix(err.Error(), job.ErrNoSource.Error()+": "))}
	}
	return src, nil
}

// showEvent writes an event for people: where it is, its text, and what it decodes to.
func showEvent(s *streams, e api.RawEvent) {
	head := fmt.Sprintf("partition %s  offset %d", e.Partition, e.Offset)
	if e.Stored != nil {
		head += "  stored " + e.Stored.UTC().Format("2006-01-02T15:04:05.000Z")
	}
	switch {
	case e.Key != nil:
		head += "  key " + *e.Key
	case e.Stored != nil:
		head += "  key null"
	}
	fmt.Fprintln(s.out, harmless(head))
	text := e.Text
	if e.Bytes == 0 {
		text = "(no value)"
	}
	if e.Cut {
		text += fmt.Sprintf(" … (%d bytes)", e.Bytes)
	}
	tints := s.tints(e.Pieces)
	if len(tints) > 0 {
		text = tinted(e.Pieces, tints)
	} else {
		text = harmless(text)
	}
	fmt.Fprintf(s.out, "  raw      %s\n", text)
	if len(e.Headers) > 0 {
		fmt.Fprintf(s.out, "  headers  %s\n", harmless(pairs(e.Headers)))
	}
	if len(e.Decoded) > 0 {
		var of []string
		for _, h := range e.Decoded {
			of = append(of, tint(tints[h.Name], harmless(h.Name+"="+h.Value)))
		}
		fmt.Fprintf(s.out, "  decoded  %s\n", strings.Join(of, "  "))
	}
	if e.Reason != "" {
		fmt.Fprintf(s.out, "  reject   %s\n", harmless(e.Reason))
	}
}

// hues are colours of terminals that show on dark and on light ones: cyan, yellow, magenta, green, blue, red.
var hues = []string{"36", "33", "35", "32", "34", "31"}

// tints gives each field of an event's pieces a colour; none where what is written goes to no terminal, or NO_COLOR asks for none.
func (s *streams) tints(pieces []connect.Piece) map[string]string {
	if !terminal(s.out) || os.Getenv("NO_COLOR") != "" {
		return nil
	}
	out := map[string]string{}
	for _, p := range pieces {
		if p.Field != "" && out[p.Field] == "" {
			out[p.Field] = hues[len(out)%len(hues)]
		}
	}
	return out
}

func tint(hue, text string) string {
	if hue == "" {
		return text
	}
	return "\x1b[" + hue + "m" + text + "\x1b[0m"
}

// tinted is an event's text with each field in its colour.
func tinted(pieces []connect.Piece, tints map[string]string) string {
	var b strings.Builder
	for _, p := range pieces {
		b.WriteString(tint(tints[p.Field], harmless(p.Text)))
	}
	return b.String()
}

func pairs(list []connect.Header) string {
	var out []string
	for _, h := range list {
		out = append(out, h.Name+"="+h.Value)
	}
	return strings.Join(out, "  ")
}

func profileTable(s *streams, p *look.Profile) {
	head := fmt.Sprintf("%s events", group(int64(p.Events)))
	if p.From != nil {
		head += fmt.Sprintf(", stored from %s to %s", p.From.Format("2006-01-02 15:04:05"), p.To.Format("15:04:05 UTC"))
	}
	s.say("%s", head)
	if p.Malformed+p.Empty > 0 {
		s.say("%d do not read as the others do, %d have no value", p.Malformed, p.Empty)
	}
	rows := [][]string{}
	key := []string{"message key", "", group(int64(p.Events - p.Key.Null)), group(int64(p.Key.Null)), "", group(int64(p.Key.Distinct)), "", "", commonText(p.Key.Common)}
	if p.Key.Same != "" {
		key[1] = "= " + p.Key.Same
	}
	rows = append(rows, key)
	for _, f := range p.Fields {
		distinct := group(int64(f.Distinct))
		if f.More {
			distinct = "> " + distinct
		}
		rows = append(rows, []string{f.Path, strings.Join(sorted(f.Kinds), ", "), group(int64(f.Values)), group(int64(f.Null)), group(int64(f.Missing)), distinct, f.Least, f.Greatest, commonText(f.Common)})
	}
	grid(s.out, []string{"field", "holds", ">values", ">null", ">missing", ">distinct", "least", "greatest", "most common"}, rows)
}

func commonText(list []look.Common) string {
	var out []string
	for _, c := range list {
		out = append(out, fmt.Sprintf("%s %.0f %%", c.Value, c.Ratio*100))
	}
	return strings.Join(out, ", ")
}

// inferred writes a document to standard output, and what is not certain to standard error.
func inferred(s *streams, purpose string, o connect.Origin, p api.Peek) error {
	text, err := look.Begin(purpose, o, *p.Inference)
	if err != nil {
		return usageError{err}
	}
	sayInferred(s, p)
	_, err = fmt.Fprint(s.out, text)
	return err
}

// inferredSource writes the source of a document as it is inferred: where its events come from stands in the document.
func (f *peekFlags) inferredSource(s *streams, args []string, p api.Peek) error {
	if f.purpose != "" {
		return usageError{errors.New("--purpose writes a document over a topic or file; a document has one")}
	}
	name := "events"
	if len(args) > 1 {
		name = args[1]
	}
	sayInferred(s, p)
	_, err := fmt.Fprint(s.out, look.Source(name, connect.Origin{Source: "# via and with: as they are", Plain: p.Inference.Decode == connect.DefaultFormat().Name}, *p.Inference))
	return err
}

// inferredThere is inferred where the service knows the connection, and writes the document.
func (f *peekFlags) inferredThere(ctx context.Context, s *streams, p api.Peek) error {
	cl, err := f.client()
	if err != nil {
		return err
	}
	text, err := cl.Begin(ctx, f.connection, f.topic, f.purpose, client.PeekOptions{From: f.word(), At: f.at, Limit: f.rows})
	if err != nil {
		return err
	}
	sayInferred(s, p)
	_, err = fmt.Fprint(s.out, text)
	return err
}

func sayInferred(s *streams, p api.Peek) {
	inf := p.Inference
	s.say("looked at %s events (%s)", group(int64(p.Profile.Events)), inf.Decode)
	for _, f := range inf.Fields {
		kind := f.Type
		if f.Parse != "" {
			kind += " (" + f.Parse + ")"
		}
		s.say("  %-16s %s", f.Name, kind)
		for _, d := range f.Doubts {
			s.say("  %-16s   doubt: %s", "", d)
		}
	}
	s.say("event time: %s; %s", inf.EventTime, inf.Why)
	s.say("lateness: %s", inf.Lateness.Words())
	s.say("margin: %s", span(time.Duration(inf.Lateness.Proposed*float64(time.Second))))
	for _, d := range inf.Doubts {
		s.say("doubt: %s", d)
	}
}

// followed shows events as they are stored.
func (f *peekFlags) followed(ctx context.Context, s *streams, args []string) error {
	if len(args) > 0 {
		j, _, cl, err := f.load(args[0], nil)
		if err != nil {
			return err
		}
		if cl != nil {
			return usageError{errors.New("the service follows topics and no documents; give --connection and --topic")}
		}
		src, err := named(j, args)
		if err != nil {
			return err
		}
		asker, err := try.AskSource(f.question(connect.Sampling{}), src)
		if err != nil {
			return asUsage(err)
		}
		return f.followHere(ctx, s, src.With, "source "+src.Name, asker, func(sample connect.Sample) api.Peek { return api.DecodedOf(src, sample) })
	}
	if f.file != "" {
		return f.followUndeclared(ctx, s, connect.AtPath(f.file), f.file)
	}
	conn, cl, err := f.find(f.connection)
	if err != nil {
		return err
	}
	if cl != nil {
		s.say("events of %s as they are stored; Ctrl-C ends it", f.topic)
		return f.followThere(ctx, s, cl)
	}
	source, err := conn.At(f.topic)
	if err != nil {
		return err
	}
	return f.followUndeclared(ctx, s, source, f.topic)
}

// followUndeclared follows events that no document declares. What is asked of them is asked by the fields of the newest that are there.
func (f *peekFlags) followUndeclared(ctx context.Context, s *streams, source connect.Source, name string) error {
	q := f.question(connect.Sampling{})
	if !q.Asked() {
		return f.followHere(ctx, s, source, name, nil, api.PeekOf)
	}
	sample, err := source.Sample(ctx, connect.Opening{Format: connect.FormatOf(f.file)}, connect.Sampling{Rows: 200})
	if err != nil {
		return err
	}
	asker, err := try.AskSample(q, sample)
	if err != nil {
		return asUsage(err)
	}
	return f.followHere(ctx, s, source, name, asker, api.PeekOf)
}

// grid shows the fields that were asked for, in columns.
func (f *peekFlags) grid(s *streams, events []api.RawEvent) {
	var rows [][]string
	for _, e := range events {
		line := make([]string, len(f.only))
		for _, v := range e.Decoded {
			line[slices.Index(f.only, v.Name)] = harmless(v.Value)
		}
		rows = append(rows, line)
	}
	grid(s.out, f.only, rows)
}

// one shows an event.
func (f *peekFlags) one(s *streams, e api.RawEvent) error {
	if f.format != "json" && len(f.only) > 0 {
		fmt.Fprintln(s.out, harmless(pairs(e.Decoded)))
		return nil
	}
	if f.format != "json" {
		showEvent(s, e)
		return nil
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(s.out, "%s\n", text)
	return err
}

func (f *peekFlags) followHere(ctx context.Context, s *streams, source connect.Source, name string, asker *try.Asker, peek func(connect.Sample) api.Peek) error {
	follower, ok := source.(connect.Follower)
	if !ok {
		return usageError{fmt.Errorf("%s is not a topic and no file; --follow is for those", name)}
	}
	s.say("events of %s as they are stored; Ctrl-C ends it", name)
	quiet := try.Quiet{Source: source, Since: time.Now()}
	return follower.Follow(ctx, func(list []connect.Event) error {
		if note := quiet.Note(ctx, len(list)); note != "" {
			s.say("%s", note)
		}
		if len(list) == 0 {
			return nil
		}
		sample := connect.Sample{Events: list}
		shown := peek
		if asker != nil {
			shown = func(sample connect.Sample) api.Peek { return api.Answered(asker, sample, peek) }
		}
		for _, e := range shown(sample).Events {
			if err := f.one(s, e); err != nil {
				return err
			}
		}
		return nil
	})
}

func (f *peekFlags) followThere(ctx context.Context, s *streams, cl *client.Client) error {
	for m, err := range cl.FollowEvents(ctx, f.connection, f.topic, client.PeekOptions{Where: f.where, Only: f.only}) {
		if err != nil {
			return without(f.connection, err)
		}
		switch m.Event {
		case "note":
			var text string
			if json.Unmarshal(m.Data, &text) == nil {
				s.say("%s", text)
			}
		case "event":
			var e api.RawEvent
			if err := json.Unmarshal(m.Data, &e); err != nil {
				return err
			}
			if err := f.one(s, e); err != nil {
				return err
			}
		}
	}
	return nil
}
