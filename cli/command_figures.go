package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/job"
)

// usualFigures are shown where none are asked for: as many as fit on a line.
var usualFigures = []string{"lag_events", "lag_seconds", "in_per_second", "out_per_second", "watermark_age_seconds", "busiest_ratio", "work", "memory_bytes", "checkpoint_seconds", "restarts"}

func newFigures(s *streams) *cobra.Command {
	var r reach
	var format, step string
	var names bool
	var q client.PastQuery
	c := r.command(&cobra.Command{
		Use:   "figures JOB",
		Short: "Show a job's figures over time, and what happened meanwhile",
		Long: `Show a job's figures over time, over all of its runs: the mean of each step of time, oldest first. How fine the steps
are follows from how far back they reach: seconds for fifteen minutes, hours for thirty days.`,
		Example: `  undertide figures mean-level --since 3h
  undertide figures mean-level --name 'steps.*.busy_ratio' --since 15m --step 1m
  undertide figures mean-level --names
  undertide figures mean-level --since 2026-03-01T00:00:00Z --format csv > night.csv`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if !slices.Contains([]string{"table", "json", "csv"}, format) {
			return usageError{fmt.Errorf("--format %s: give table, json or csv", format)}
		}
		if names {
			return figureNames(c, s, cl, args[0], format)
		}
		every := time.Duration(0)
		if step != "" {
			d, err := job.ParseDuration(step)
			if err != nil || d < time.Second {
				return usageError{fmt.Errorf("--step %s: give a duration of a second or more, as in --step 1m", step)}
			}
			every = d
		}
		if len(q.Names) == 0 && format == "table" {
			q.Names = usualFigures
		}
		past, err := cl.Past(c.Context(), args[0], q)
		if err != nil {
			return err
		}
		past = coarser(past, every)
		switch format {
		case "csv":
			return pastCSV(s, past)
		case "json":
			return showAs(s, format, past, nil, nil)
		}
		pastLines(s, past)
		return nil
	})
	f := c.Flags()
	f.StringVar(&q.Since, "since", "15m", "from when on: a duration before now, or a `TIME`")
	f.StringVar(&q.Until, "until", "", "until when: a duration before now, or a `TIME` (default: now)")
	f.StringVar(&step, "step", "", "a line for each `DURATION`, of no less than there are points for")
	f.StringArrayVar(&q.Names, "name", nil, "a `FIGURE`, with * for anything between two dots; may be repeated")
	f.BoolVar(&names, "names", false, "list the figures that there are")
	f.StringVar(&format, "format", "table", "how they are shown: `FORM` table, json, csv")
	_ = c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"table", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp)) // the flag stands above
	return c
}

func figureNames(c *cobra.Command, s *streams, cl *client.Client, job, format string) error {
	list, err := cl.FigureNames(c.Context(), job)
	if format == "csv" {
		return usageError{errors.New("--names: give --format table or json")}
	}
	return showAs(s, format, list, err, func() {
		var rows [][]string
		for _, f := range list {
			rows = append(rows, []string{f.Name, f.Unit, f.About})
		}
		grid(s.out, []string{"figure", "unit", "what it is"}, rows)
	})
}

// coarser puts points together where steps are to be longer than theirs.
func coarser(p api.PastFigures, every time.Duration) api.PastFigures {
	if every.Seconds() <= p.Step {
		return p
	}
	out := api.PastFigures{Step: every.Seconds(), At: []int64{}, Marks: p.Marks}
	slots := make([]int, len(p.At))
	for i, at := range p.At {
		if at -= at % every.Milliseconds(); len(out.At) == 0 || out.At[len(out.At)-1] != at {
			out.At = append(out.At, at)
		}
		slots[i] = len(out.At) - 1
	}
	for _, l := range p.Lines {
		sums, n, most := make([]float64, len(out.At)), make([]float64, len(out.At)), make([]*float64, len(out.At))
		for i, slot := range slots {
			if v := l.Means[i]; v != nil {
				sums[slot], n[slot] = sums[slot]+*v, n[slot]+1
			}
			if v := l.Greatest[i]; v != nil && (most[slot] == nil || *v > *most[slot]) {
				most[slot] = v
			}
		}
		line := api.PastLine{Name: l.Name, Unit: l.Unit, About: l.About, Greatest: most, Means: make([]*float64, len(out.At))}
		for i := range sums {
			if n[i] > 0 {
				mean := sums[i] / n[i]
				line.Means[i] = &mean
			}
		}
		out.Lines = append(out.Lines, line)
	}
	return out
}

// pastLines writes a line for each point, and what happened before it where it happened.
func pastLines(s *streams, p api.PastFigures) {
	if len(p.At) == 0 {
		s.say("the job did not run in that time, or it is too long ago")
	}
	head := []string{"time (UTC)"}
	heads := map[string]int{}
	for _, l := range p.Lines {
		heads[headOf(l)]++
	}
	for _, l := range p.Lines {
		if h := headOf(l); heads[h] == 1 {
			head = append(head, ">"+h)
		} else { // checkpoint_seconds and checkpoint_bytes
			head = append(head, ">"+strings.ReplaceAll(l.Name, "_", " "))
		}
	}
	var rows [][]string
	for i, at := range p.At {
		line := []string{time.UnixMilli(at).UTC().Format("2006-01-02 15:04:05")}
		for _, l := range p.Lines {
			line = append(line, figureText(l.Unit, l.Means[i]))
		}
		rows = append(rows, line)
	}
	if len(rows) > 0 {
		grid(s.out, head, rows)
	}
	if len(p.Marks) > 0 {
		var marks [][]string
		for _, m := range p.Marks {
			marks = append(marks, []string{m.At.UTC().Format("2006-01-02 15:04:05"), m.Kind, harmless(m.Text)})
		}
		fmt.Fprintln(s.out)
		grid(s.out, []string{"time (UTC)", "what", ""}, marks)
	}
}

// headOf names a line shortly: the unit stands in the values.
func headOf(l api.PastLine) string {
	n := l.Name
	for _, end := range []string{"_per_second", "_seconds", "_bytes", "_ratio"} {
		n = strings.TrimSuffix(n, end)
	}
	return strings.ReplaceAll(n, "_", " ")
}

// figureText writes a value with its unit.
func figureText(unit string, v *float64) string {
	if v == nil {
		return "-"
	}
	switch unit {
	case "ratio":
		return fmt.Sprintf("%.1f %%", 100**v)
	case "bytes":
		return bytesText(int64(*v))
	case "bytes/s":
		return bytesText(int64(*v)) + "/s"
	case "seconds":
		return fmt.Sprintf("%.2f s", *v)
	case "events/s", "rows/s":
		return perSecond(*v)
	case "events", "rows":
		return group(int64(*v))
	}
	if *v == math.Trunc(*v) {
		return group(int64(*v))
	}
	return strconv.FormatFloat(*v, 'g', 3, 64)
}

// pastCSV writes means and greatest values, a column each.
func pastCSV(s *streams, p api.PastFigures) error {
	w := csv.NewWriter(s.out)
	head := []string{"at"}
	for _, l := range p.Lines {
		head = append(head, l.Name, l.Name+".greatest")
	}
	if err := w.Write(head); err != nil {
		return err
	}
	text := func(v *float64) string {
		if v == nil {
			return ""
		}
		return strconv.FormatFloat(*v, 'g', -1, 32)
	}
	for i, at := range p.At {
		line := []string{time.UnixMilli(at).UTC().Format(time.RFC3339)}
		for _, l := range p.Lines {
			line = append(line, text(l.Means[i]), text(l.Greatest[i]))
		}
		if err := w.Write(line); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}
