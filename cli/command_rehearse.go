package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/try"
)

func newRehearse(s *streams) *cobra.Command {
	var n nearest
	var examples, oldest bool
	var rows, shown int
	var set, in []string
	var format, part string
	c := &cobra.Command{
		Use:   "rehearse DOCUMENT…",
		Short: "Run a document on a sample, deliver nothing, show every step's rows; run its examples",
		Long: `Run a document on a sample of its sources (the newest 1,000 events of each) and show what every step
makes of it: rows and counts, rows that a filter kept and dropped and why, the branches of a split. What the
sample shows to be wrong is said at the end. Then the document's examples are run. Nothing is delivered.

--examples runs the examples alone: nothing is connected, and the exit status is 1 when a row differs.`,
		Example: `  undertide rehearse job.yaml
  undertide rehearse job.yaml --limit 5000 --part minute
  undertide rehearse harbour/files/*.yaml --examples`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return errors.New("no document")
			}
			return nil
		},
		ValidArgsFunction: documents,
		RunE: func(c *cobra.Command, args []string) error {
			values, err := assignments("--set", set, "NAME=VALUE")
			if err != nil {
				return err
			}
			files, err := assignments("--in", in, "SOURCE=PATH")
			if err != nil {
				return err
			}
			if rows < 1 || rows > 100_000 {
				return usageError{fmt.Errorf("--limit %d: give 1 to 100000", rows)}
			}
			if examples {
				return runExamples(c.Context(), s, args, values)
			}
			wrong := false
			for _, path := range args {
				out, j, err := rehearse(c.Context(), &n, path, values, files, rows, oldest)
				if err != nil {
					return err
				}
				err = show(s, format, out, func() { showRehearsal(s, out, part, shown) })
				if err != nil {
					return err
				}
				if j != nil && len(j.Examples) > 0 && format == "table" {
					bad, err := documentExamples(c.Context(), s, path, j)
					if err != nil {
						return err
					}
					wrong = wrong || bad > 0
				}
			}
			if wrong {
				return silentError{failed}
			}
			return nil
		},
	}
	n.flags(c)
	formatFlag(c, &format)
	f := c.Flags()
	f.BoolVar(&examples, "examples", false, "run the document's examples alone")
	f.BoolVar(&oldest, "oldest", false, "take the oldest events of topics, not the newest")
	f.IntVar(&rows, "limit", 1000, "at most `N` events of each source")
	f.IntVar(&shown, "show", 5, "show `N` rows of each part")
	f.StringVar(&part, "part", "", "show the rows of this source, step or `PART` alone")
	f.StringArrayVar(&set, "set", nil, "set `NAME=VALUE` of the document's values")
	f.StringArrayVar(&in, "in", nil, "take `SOURCE=PATH` in place of the source's connector")
	return c
}

// rehearse runs a document on a sample from here, or by the service that knows its connections.
func rehearse(ctx context.Context, n *nearest, path string, values, files map[string]string, rows int, oldest bool) (try.Rehearsal, *job.Job, error) {
	j, text, cl, err := n.load(path, values)
	if err != nil {
		return try.Rehearsal{}, nil, err
	}
	if cl != nil {
		if len(files) > 0 {
			return try.Rehearsal{}, nil, usageError{errors.New("--in needs the connections of the document here; describe them in " + job.ConnectionsFile)}
		}
		from := "newest"
		if oldest {
			from = "oldest"
		}
		out, err := cl.Rehearse(ctx, api.Rehearse{Document: text, Rows: rows, From: from, Set: values})
		return out, nil, err
	}
	o := try.RehearseOptions{Rows: rows, In: files}
	if oldest {
		o.From = connect.Oldest
	}
	out, err := try.Rehearse(ctx, j, o)
	return out, j, err
}

func runExamples(ctx context.Context, s *streams, args []string, values map[string]string) error {
	known, err := job.LoadConnections(job.ConnectionsFile)
	if err != nil {
		return err
	}
	wrong, all := 0, 0
	for _, path := range args {
		j, err := job.Load(path, job.Options{Set: values, Connections: known})
		if err != nil {
			return err
		}
		if len(j.Examples) == 0 {
			fmt.Fprintf(s.out, "%s: job %s has no examples\n", path, j.Name)
		}
		bad, err := documentExamples(ctx, s, path, j)
		if err != nil {
			return err
		}
		wrong, all = wrong+bad, all+len(j.Examples)
	}
	if wrong > 0 {
		s.say("%d of %d %s gave other rows than expected", wrong, all, plural(int64(all), "example"))
		return silentError{failed}
	}
	return nil
}

// documentExamples runs a document's examples and says how they came out; it counts those that differ.
func documentExamples(ctx context.Context, s *streams, path string, j *job.Job) (wrong int, err error) {
	results, err := try.Examples(ctx, j)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", path, err)
	}
	for _, r := range results {
		if len(r.Differences) == 0 {
			fmt.Fprintf(s.out, "%s:%d: as expected: %s\n", path, r.Line, r.About)
			continue
		}
		wrong++
		fmt.Fprintf(s.out, "%s:%d: NOT as expected: %s\n", path, r.Line, r.About)
		for _, d := range r.Differences {
			fmt.Fprintf(s.out, "    %s\n", d)
		}
	}
	return wrong, nil
}

func showRehearsal(s *streams, r try.Rehearsal, part string, shown int) {
	wanted := func(name string) bool { return part == "" || part == name }
	for _, src := range r.Sources {
		line := fmt.Sprintf("source %s: %s events", src.Name, group(src.Events))
		if src.From != nil {
			line += fmt.Sprintf(", %s to %s", *src.From, *src.To)
		}
		line += reasons(src.Rejected)
		if wanted(src.Name) || wanted("rejects of "+src.Name) {
			fmt.Fprintln(s.out, line)
			for _, n := range src.Notes {
				fmt.Fprintf(s.out, "  %s\n", n)
			}
		}
		showParts(s, src.Parts, wanted, shown)
	}
	for _, st := range r.Steps {
		some := wanted(st.Name)
		for _, p := range st.Parts {
			some = some || wanted(p.Name)
		}
		if !some {
			continue
		}
		dropped := "dropped"
		if st.Made > 0 {
			dropped = "dropped by having"
		}
		counts := []string{fmt.Sprintf("%s in", group(st.In)), fmt.Sprintf("%s out", group(st.Out))}
		for _, c := range []struct {
			n    int64
			word string
		}{{st.Dropped, dropped}, {st.Repeats, "repeats"}, {st.Lost, "late and lost"}, {st.Accepted, "late and accepted"}} {
			if c.n > 0 {
				counts = append(counts, group(c.n)+" "+c.word)
			}
		}
		fmt.Fprintf(s.out, "step %s (%s) from %s: %s%s\n", st.Name, st.Kind, st.From, strings.Join(counts, ", "), reasons(st.Rejected))
		if f := st.Forecast; f != nil {
			much := fmt.Sprintf("about %s rows of state, %s", group(f.Rows), bytesText(f.Bytes))
			fmt.Fprintf(s.out, "  keeps: %s, once as much goes as comes; bounded by %s\n", much, f.Bound)
		}
		if len(st.Examples) > 0 && part == "" {
			for _, e := range st.Examples {
				word := "kept   "
				if !e.Kept {
					word = "dropped"
				}
				fmt.Fprintf(s.out, "  %s  %s", word, harmless(string(e.Row)))
				if e.Why != "" {
					fmt.Fprintf(s.out, "  since %s", e.Why)
				}
				fmt.Fprintln(s.out)
			}
			continue
		}
		showParts(s, st.Parts, wanted, shown)
		if st.Overlap > 0 {
			fmt.Fprintf(s.out, "  %s rows meet more than one condition\n", group(st.Overlap))
		}
	}
	for _, k := range r.Sinks {
		if !wanted(k.Name) {
			continue
		}
		fmt.Fprintf(s.out, "sink %s from %s: %s %s would go to %s\n", k.Name, k.From, group(k.Count), plural(k.Count, "row"), k.Writes)
		if k.Makes != "" {
			fmt.Fprintf(s.out, "  makes %s\n", k.Makes)
		}
	}
	for _, c := range r.Crossings {
		if part != "" {
			break
		}
		by := cmp.Or(strings.Join(c.By, ", "), "nothing, all to one portion")
		each := "no row"
		if c.Count > 0 {
			each = fmt.Sprintf("%s of about %d bytes", plural(c.Count, "row"), (c.Bytes+c.Count/2)/c.Count)
			each = group(c.Count) + " " + each
		}
		fmt.Fprintf(s.out, "to part %d would cross %s by %s: %s\n", c.Part, c.Rows, by, each)
	}
	for _, w := range r.Warnings {
		s.say("%s: %s; %s", w.At, w.Text, w.Fix)
	}
	s.say("rehearsed in %.2f s; nothing was delivered", r.Seconds)
}

func reasons(of map[string]int64) string {
	var out []string
	for _, r := range sorted(of) {
		out = append(out, fmt.Sprintf("%s %s", group(of[r]), r))
	}
	if len(out) == 0 {
		return ""
	}
	return ", rejected: " + strings.Join(out, ", ")
}

func showParts(s *streams, parts []try.RehearsedPart, wanted func(string) bool, shown int) {
	for _, p := range parts {
		if !wanted(p.Name) || p.Count == 0 {
			continue
		}
		if strings.Contains(p.Name, " of ") {
			fmt.Fprintf(s.out, "  %s: %s %s\n", p.Name, group(p.Count), plural(p.Count, "row"))
		}
		var names []string
		for _, f := range p.Fields {
			name, kind, _ := strings.Cut(f, " ")
			if numeric(kind) {
				name = ">" + name
			}
			names = append(names, name)
		}
		var rows [][]string
		for _, r := range p.Rows[:min(shown, len(p.Rows))] {
			rows = append(rows, cells(r, names))
		}
		var b strings.Builder
		grid(&b, names, rows)
		for line := range strings.Lines(b.String()) {
			fmt.Fprintf(s.out, "    %s", line)
		}
		if left := p.Count - int64(len(rows)); left > 0 {
			fmt.Fprintf(s.out, "    … %s more\n", group(left))
		}
	}
}

// cells gives a row's values in the order of the columns.
func cells(row json.RawMessage, names []string) []string {
	by := map[string]string{}
	for _, h := range try.FieldsOf(row) {
		by[h.Name] = h.Value
	}
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = by[strings.TrimPrefix(n, ">")]
	}
	return out
}
