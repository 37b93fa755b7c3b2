package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/client"
	"undertide/inside"
	"undertide/job"
	"undertide/run"
)

// stateAsk is what `undertide state` is asked for.
type stateAsk struct {
	client.StateQuery
	open, skew bool
	pin        string
	compare    string // two checkpoints
	folder     string // of checkpoints here; empty: of the service
	lanes      int
}

func newState(s *streams) *cobra.Command {
	var r reach
	var a stateAsk
	var set []string
	c := r.command(&cobra.Command{
		Use:   "state JOB STEP",
		Short: "Show what a step keeps as of a checkpoint: keys, windows, results, when each closes or is forgotten",
		Long: `Show what a step keeps, as of the newest checkpoint of the job's last run or of another one.

JOB is a job of the service, or with --checkpoints the document of a run that kept its checkpoints in that folder.`,
		Example: `  undertide state mean-level minute
  undertide state mean-level minute --open
  undertide state port-calls calls --key vessel=Ibis --raw
  undertide state mean-level minute --compare 12,14
  undertide state mean-level minute --pin before-the-storm
  undertide state job.yaml minute --checkpoints state --format parquet > minute.parquet`,
	}, nil)
	c.Args = cobra.ExactArgs(2)
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := a.check(c); err != nil {
			return err
		}
		values, err := assignments("--set", set, "NAME=VALUE")
		if err != nil {
			return err
		}
		if a.folder == "" && len(set) > 0 {
			return usageError{errors.New("--set goes with --checkpoints: the service knows the values of the run")}
		}
		at, err := a.reachOf(&r, args[0], values)
		if err != nil {
			return err
		}
		err = a.show(c.Context(), s, at, args[0], args[1])
		if errors.Is(err, inside.ErrUsage) {
			return usageError{err}
		}
		return err
	}
	f := c.Flags()
	f.StringVar(&a.Checkpoint, "checkpoint", "", "as of the checkpoint of this `EPOCH` (default: the newest)")
	f.StringVar(&a.pin, "pin", "", "as of the checkpoint that is kept as `NAME`")
	f.StringVar(&a.Table, "table", "", "another `TABLE` of the step: waiting (rows that wait for the watermark), shown (what was published of windows), right (of a join)")
	f.StringArrayVar(&a.Key, "key", nil, "only rows of this key: `FIELD=VALUE`, or the values of all fields in their order")
	f.BoolVar(&a.Raw, "raw", false, "accumulators as they are kept, in place of results")
	f.IntVar(&a.Limit, "limit", 100, "at most `N` rows; 0 for all")
	f.StringVar(&a.Format, "format", "table", "how it is shown: `FORM` "+strings.Join(inside.Forms, ", "))
	f.BoolVar(&a.open, "open", false, "windows and other spans: how many keys each has, and when it ends")
	f.BoolVar(&a.skew, "skew", false, "rows and keys by share and lane, and the heaviest keys")
	f.StringVar(&a.compare, "compare", "", "what came, changed and went between two checkpoints: `OLDER,NEWER`, each an epoch, pin:NAME or last")
	f.StringVar(&a.folder, "checkpoints", "", "read the checkpoints in `FOLDER`, of a run without the service")
	f.IntVar(&a.lanes, "lanes", 0, "with --skew and --checkpoints: for `N` lanes (default: the document's, or one a CPU)")
	f.StringArrayVar(&set, "set", nil, "with --checkpoints: set `NAME=VALUE` of the document's values, as the run did")
	_ = c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(inside.Forms, cobra.ShellCompDirectiveNoFileComp)) // the flag stands above
	_ = c.MarkFlagDirname("checkpoints")
	return c
}

var (
	epochs = regexp.MustCompile(`^[1-9][0-9]*$`)
	placed = regexp.MustCompile(`^([1-9][0-9]*|pin:.+|last)$`) // a checkpoint: its epoch, a pin, or the newest
)

func (a *stateAsk) check(c *cobra.Command) error {
	if !slices.Contains(inside.Forms, a.Format) {
		return usageError{fmt.Errorf("--format %s: give %s", a.Format, strings.Join(inside.Forms, ", "))}
	}
	ways := 0
	for _, is := range []bool{a.open, a.skew, a.compare != ""} {
		if is {
			ways++
		}
	}
	if ways > 1 {
		return usageError{errors.New("--open, --skew and --compare show different things; give one of them")}
	}
	if ways == 1 && a.Format != "table" && a.Format != "json" {
		return usageError{fmt.Errorf("--format %s is for rows; give table or json", a.Format)}
	}
	if a.Checkpoint != "" && !epochs.MatchString(a.Checkpoint) {
		return usageError{fmt.Errorf("--checkpoint %s: give the epoch of a checkpoint, as in --checkpoint 12", a.Checkpoint)}
	}
	switch {
	case a.pin != "" && a.Checkpoint != "":
		return usageError{errors.New("--pin and --checkpoint both name a checkpoint; give one of them")}
	case a.pin != "" && a.folder != "":
		return usageError{errors.New("pins are the service's; leave out --checkpoints")}
	case a.pin != "":
		a.Checkpoint = "pin:" + a.pin
	}
	if a.compare != "" {
		from, to, two := strings.Cut(a.compare, ",")
		if !two || !placed.MatchString(from) || !placed.MatchString(to) {
			return usageError{fmt.Errorf("--compare %s: give two checkpoints, as in --compare 12,14 or --compare pin:calm,last", a.compare)}
		}
		if a.Checkpoint != "" {
			return usageError{errors.New("--compare names both checkpoints; leave out --checkpoint and --pin")}
		}
		a.From, a.Checkpoint = from, to
	}
	if a.Limit < 0 {
		return usageError{fmt.Errorf("--limit %d: give a number, 0 for all rows", a.Limit)}
	}
	return nil
}

// stateReach is where state is read: in a folder, or by the service.
type stateReach interface {
	State(ctx context.Context, job, step string, q client.StateQuery) (inside.Shown, error)
	Spans(ctx context.Context, job, step string, q client.StateQuery) (inside.SpansShown, error)
	Skew(ctx context.Context, job, step string, q client.StateQuery) (inside.SkewShown, error)
	Compare(ctx context.Context, job, step string, q client.StateQuery) (inside.ComparedShown, error)
	StateFile(ctx context.Context, w io.Writer, job, step string, q client.StateQuery) error
}

func (a *stateAsk) reachOf(r *reach, document string, values map[string]string) (stateReach, error) {
	if a.folder == "" {
		if strings.HasSuffix(document, ".yaml") || strings.HasSuffix(document, ".yml") {
			return nil, usageError{fmt.Errorf("%s is a document: give the name of a job of the service, or the folder of its checkpoints with --checkpoints", document)}
		}
		return r.client()
	}
	known, err := job.LoadConnections(job.ConnectionsFile)
	if err != nil {
		return nil, err
	}
	j, err := job.Load(document, job.Options{Set: values, Connections: known})
	if err != nil {
		return nil, err
	}
	return &stateFolder{dir: a.folder, job: j, lanes: run.Lanes(j, a.lanes)}, nil
}

// stateFolder reads a folder of checkpoints.
type stateFolder struct {
	dir   string
	job   *job.Job
	lanes int
}

func (f *stateFolder) with(step, checkpoint string, do func(s *inside.Step) error) error {
	epoch := int64(0)
	if checkpoint != "" && checkpoint != "last" {
		var err error
		if epoch, err = strconv.ParseInt(checkpoint, 10, 64); err != nil {
			return usageError{fmt.Errorf("%s is not an epoch, and pins are the service's", checkpoint)}
		}
	}
	s, err := inside.Open(f.dir, epoch, f.job, step)
	if err != nil {
		return err
	}
	return errors.Join(do(s), s.Close())
}

func askedOf(q client.StateQuery) inside.Asked {
	return inside.Asked{Table: q.Table, Raw: q.Raw, Key: q.Key, Limit: q.Limit}
}

func (f *stateFolder) State(_ context.Context, _, step string, q client.StateQuery) (out inside.Shown, err error) {
	return out, f.with(step, q.Checkpoint, func(s *inside.Step) (err error) { out, err = s.Show(askedOf(q)); return err })
}

func (f *stateFolder) Spans(_ context.Context, _, step string, q client.StateQuery) (out inside.SpansShown, err error) {
	return out, f.with(step, q.Checkpoint, func(s *inside.Step) (err error) { out, err = s.ShowSpans(); return err })
}

func (f *stateFolder) Skew(_ context.Context, _, step string, q client.StateQuery) (out inside.SkewShown, err error) {
	return out, f.with(step, q.Checkpoint, func(s *inside.Step) (err error) { out, err = s.ShowSkew(f.lanes, 10); return err })
}

func (f *stateFolder) Compare(_ context.Context, _, step string, q client.StateQuery) (out inside.ComparedShown, err error) {
	return out, f.with(step, q.From, func(was *inside.Step) error {
		return f.with(step, q.Checkpoint, func(is *inside.Step) (err error) { out, err = inside.ShowCompared(was, is, askedOf(q)); return err })
	})
}

func (f *stateFolder) StateFile(_ context.Context, w io.Writer, _, step string, q client.StateQuery) error {
	return f.with(step, q.Checkpoint, func(s *inside.Step) error {
		_, err := s.Write(w, q.Format, askedOf(q))
		return err
	})
}

func (a *stateAsk) show(ctx context.Context, s *streams, at stateReach, name, step string) error {
	q := a.StateQuery
	switch {
	case a.open:
		v, err := at.Spans(ctx, name, step, q)
		return showAs(s, a.Format, v, err, func() { showSpans(s, v) })
	case a.skew:
		v, err := at.Skew(ctx, name, step, q)
		return showAs(s, a.Format, v, err, func() { showSkew(s, v) })
	case a.compare != "":
		v, err := at.Compare(ctx, name, step, q)
		return showAs(s, a.Format, v, err, func() { showCompared(s, v) })
	case a.Format == "table":
		q.Format = ""
		v, err := at.State(ctx, name, step, q)
		return showAs(s, "table", v, err, func() { showState(s, v) })
	}
	return at.StateFile(ctx, s.out, name, step, q)
}

func showAs(s *streams, format string, v any, err error, table func()) error {
	if err != nil {
		return err
	}
	return show(s, format, v, table)
}

// stateHead says of which checkpoint something is.
func stateHead(s *streams, a inside.About, more string) {
	w := "no row yet"
	if a.Watermark != nil {
		w = "W " + a.Watermark.UTC().Format(time.RFC3339Nano)
	}
	fmt.Fprintf(s.out, "step %s of job %s in checkpoint %d, written %s; %s%s\n\n", a.Step, a.Job, a.Epoch, ago(a.Written), w, more)
}

func showState(s *streams, v inside.Shown) {
	more := ""
	if v.More {
		more = fmt.Sprintf("; the first %d rows, --limit gives others", len(v.Rows))
	}
	stateHead(s, v.About, more)
	if len(v.Rows) == 0 {
		fmt.Fprintln(s.out, "it keeps no row that was asked for")
		return
	}
	var rows [][]string
	for _, line := range v.Rows {
		rows = append(rows, cellsOf(line, v.Fields))
	}
	grid(s.out, headsOf(v.Fields), rows)
}

// headsOf names the columns of fields.
func headsOf(fields []inside.Field) (names []string) {
	for _, f := range fields {
		n := f.Name
		if numeric(f.Kind) {
			n = ">" + n
		}
		names = append(names, n)
	}
	return names
}

// cellsOf gives the values of a row as texts.
func cellsOf(line json.RawMessage, fields []inside.Field) []string {
	var values map[string]json.RawMessage
	if json.Unmarshal(line, &values) != nil { // a null
		return make([]string, len(fields))
	}
	var cells []string
	for _, f := range fields {
		text := string(values[f.Name])
		var plain string
		if json.Unmarshal(values[f.Name], &plain) == nil {
			text = plain
		}
		if text == "null" || len(values[f.Name]) == 0 {
			text = "-"
		} else if v, err := strconv.ParseFloat(text, 64); err == nil && f.Kind == "double" {
			text = strconv.FormatFloat(v, 'f', 3, 64)
		}
		cells = append(cells, harmless(text))
	}
	return cells
}

func showSpans(s *streams, v inside.SpansShown) {
	stateHead(s, v.About, "")
	var rows [][]string
	for _, p := range v.Spans {
		start, until, in := "-", "-", "-"
		if p.Start != nil {
			start = p.Start.UTC().Format(time.RFC3339Nano)
		}
		if p.Until != nil {
			until = p.Until.UTC().Format(time.RFC3339Nano)
		}
		if p.In != nil {
			in = span(time.Duration(*p.In * float64(time.Second)))
		}
		rows = append(rows, []string{start, group(p.Keys), group(p.Rows), until, in})
	}
	grid(s.out, []string{"begins", ">rows of state", ">rows taken", "ends at W", ">W has to go"}, rows)
}

func showSkew(s *streams, v inside.SkewShown) {
	stateHead(s, v.About, "")
	fmt.Fprintf(s.out, "%s, %s taken, %s\n\n", group(v.Keys)+" "+plural(v.Keys, "key"), group(v.Rows)+" "+plural(v.Rows, "row"), bytesText(v.Bytes))
	part := func(n int64) string { return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(max(1, v.Rows))) }
	var rows [][]string
	for _, l := range v.Lanes {
		rows = append(rows, []string{fmt.Sprint(l.Number), group(l.Keys), group(l.Rows), part(l.Rows), bytesText(l.Bytes)})
	}
	grid(s.out, []string{">lane", ">keys", ">rows taken", ">of all", ">bytes"}, rows)
	rows = nil
	for _, h := range v.Heaviest {
		rows = append(rows, []string{harmless(h.Key), group(h.Rows), part(h.Rows)})
	}
	fmt.Fprintln(s.out)
	grid(s.out, []string{"heaviest keys", ">rows taken", ">of all"}, rows)
	shares := slices.SortedFunc(slices.Values(v.Shares), func(a, b inside.Share) int { return int(max(-1, min(1, b.Rows-a.Rows))) })
	rows = nil
	for _, p := range shares[:min(5, len(shares))] {
		rows = append(rows, []string{fmt.Sprint(p.Number), group(p.Keys), group(p.Rows), part(p.Rows), bytesText(p.Bytes)})
	}
	fmt.Fprintln(s.out)
	grid(s.out, []string{">heaviest shares", ">keys", ">rows taken", ">of all", ">bytes"}, rows)
}

func showCompared(s *streams, v inside.ComparedShown) {
	stateHead(s, v.About, fmt.Sprintf("; against checkpoint %d, written %s", v.From.Epoch, ago(v.From.Written)))
	fmt.Fprintf(s.out, "%s came, %s changed, %s went, %s are the same\n", group(v.Came), group(v.Changed), group(v.Went), group(v.Same))
	if len(v.Differences) == 0 {
		return
	}
	var rows [][]string
	for _, d := range v.Differences {
		was, is := string(d.Was) != "null", string(d.Is) != "null"
		switch {
		case was && is:
			rows = append(rows, append([]string{"was"}, cellsOf(d.Was, v.Fields)...), append([]string{"is"}, cellsOf(d.Is, v.Fields)...))
		case is:
			rows = append(rows, append([]string{"came"}, cellsOf(d.Is, v.Fields)...))
		default:
			rows = append(rows, append([]string{"went"}, cellsOf(d.Was, v.Fields)...))
		}
	}
	fmt.Fprintln(s.out)
	grid(s.out, append([]string{""}, headsOf(v.Fields)...), rows)
}

// numeric says whether values of a kind stand to the right.
func numeric(kind string) bool { return kind == "int" || kind == "double" || kind == "decimal" }
