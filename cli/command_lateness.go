package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/connect"
	"undertide/job"
	"undertide/try"
)

func newLateness(s *streams) *cobra.Command {
	var n nearest
	var source, format string
	var rows int
	var oldest bool
	c := &cobra.Command{
		Use:   "lateness JOB",
		Short: "Tell how late events come, and what each margin would lose and cost in delay",
		Long: `Tell how late the events of a source come, from a sample of the newest 5,000, and for each margin how
many would be behind the watermark, how many a windowed step would lose of them, and how long results
would wait. JOB is a job of the service, or a document (a path with a dot or slash in it). The margin
in use is marked.`,
		Example:           "  undertide lateness mean-level\n  undertide lateness job.yaml --source lifts --limit 20000",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: n.jobNames,
		RunE: func(c *cobra.Command, args []string) error {
			if rows < 1 || rows > 100_000 {
				return usageError{fmt.Errorf("--limit %d: give 1 to 100000", rows)}
			}
			from := "newest"
			if oldest {
				from = "oldest"
			}
			var out api.LatenessOf
			if strings.ContainsAny(args[0], "./") {
				j, text, cl, err := n.load(args[0], nil)
				if err != nil {
					return err
				}
				if cl != nil {
					out, err = cl.DocumentLateness(c.Context(), text, source, rows, from)
					if err != nil {
						return err
					}
				} else {
					src, err := j.SourceNamed(source)
					if err != nil {
						return usageError{errors.New(strings.TrimPrefix(err.Error(), job.ErrNoSource.Error()+": "))}
					}
					o := connect.Sampling{Rows: rows}
					if oldest {
						o.From = connect.Oldest
					}
					sample, err := try.Sample(c.Context(), j, src, o)
					if err != nil {
						return err
					}
					out = api.LatenessOf{Source: src.Name, Events: len(sample.Events), Lateness: try.LatenessIn(j, src, sample)}
					out.Words = out.Lateness.Words()
				}
			} else {
				cl, err := n.client()
				if err != nil {
					return err
				}
				if out, err = cl.Lateness(c.Context(), args[0], source, rows, from); err != nil {
					return err
				}
			}
			return show(s, format, out, func() { latenessTable(s, out) })
		},
	}
	n.flags(c)
	formatFlag(c, &format)
	c.Flags().StringVar(&source, "source", "", "the `SOURCE`; may be left out where there is one")
	c.Flags().IntVar(&rows, "limit", 5000, "at most `N` events are sampled")
	c.Flags().BoolVar(&oldest, "oldest", false, "sample the oldest events, not the newest")
	return c
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func latenessTable(s *streams, l api.LatenessOf) {
	fmt.Fprintf(s.out, "source %s: %s\n", l.Source, l.Words)
	for _, b := range l.Lateness.Behind {
		fmt.Fprintf(s.out, "  %s: %d events, half of them %s behind or more, at most %s\n", b.Key, b.Events, span(seconds(b.Median)), span(seconds(b.Most)))
	}
	if l.Run != nil && l.Run.In > 0 {
		fmt.Fprintf(s.out, "its run: %s rows into steps, %s late and lost, %s late and accepted\n", group(l.Run.In), group(l.Run.Lost), group(l.Run.Accepted))
	}
	if l.Lateness.Events == 0 {
		return
	}
	var rows [][]string
	for _, m := range l.Lateness.Margins {
		mark := ""
		switch {
		case m.Current && m.Margin == l.Lateness.Proposed:
			mark = "in use, and proposed"
		case m.Current:
			mark = "in use"
		case m.Margin == l.Lateness.Proposed:
			mark = "proposed"
		}
		lost := "-"
		if m.Lost != nil {
			lost = group(int64(*m.Lost))
		}
		bar := strings.Repeat("▇", min(30, int(m.Ratio*60+0.99)))
		rows = append(rows, []string{span(seconds(m.Margin)), group(int64(m.Late)), fmt.Sprintf("%.2f %%", m.Ratio*100), lost, span(seconds(m.Wait)), bar, mark})
	}
	grid(s.out, []string{">margin", ">late", ">of all", ">lost", ">results wait", "", ""}, rows)
}
