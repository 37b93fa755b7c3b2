package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/job"
)

func newRows(s *streams) *cobra.Command {
	var r reach
	var q client.JobQuery
	var format string
	var follow bool
	c := r.command(&cobra.Command{
		Use:   "rows JOB STEP",
		Short: "Show the rows of a step as they are published",
		Long: `Show the rows of a step as they are published: the newest that the service keeps, oldest first, over all runs of the job,
whether it runs or not. STEP may also be a source, a reference, or an output such as 'late of minute' or 'rejects of levels'. 'sink means' gives
what lies where a sink has written it, in a topic, table or files.`,
		Example: `  undertide rows mean-level minute --follow
  undertide rows mean-level minute --key G03 --since 10m --format json
  undertide rows mean-level minute --where 'mean_m > 2.5' --format csv > high.csv
  undertide rows mean-level 'late of minute'`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if !slices.Contains(rowForms, format) {
			return usageError{fmt.Errorf("--format %s: give %s", format, strings.Join(rowForms, ", "))}
		}
		step := strings.Join(strings.Fields(args[1]), " ")
		if follow && (q.Where != "" || q.Until != "" || format == "csv" || format == "parquet") {
			return usageError{errors.New("--follow goes with --key, --since and --format table or json alone")}
		}
		if format == "csv" || format == "parquet" {
			q.Format = format
			return cl.RowsFile(c.Context(), s.out, args[0], step, q)
		}
		first, err := cl.JobRows(c.Context(), args[0], step, q)
		if err != nil {
			return err
		}
		p := &rowPrinter{s: s, table: format == "table", fields: first.Fields}
		if !follow {
			slices.Reverse(first.Rows)
			for _, row := range first.Rows {
				p.add(row)
			}
			if first.Skipped > 0 {
				s.say("%s rows came too fast to be kept for looking; sinks have them all", group(first.Skipped))
			}
			if len(first.Rows) == 0 {
				s.say("no rows are kept that fit: %s has published %s so far", step, group(first.Passed))
			}
			return p.flush()
		}
		j, err := started(c.Context(), cl, args[0])
		if err != nil {
			return err
		}
		for m, err := range cl.FollowRows(c.Context(), j.Run.ID, step, q.RowQuery) {
			if err != nil {
				return err
			}
			var row api.Row
			if m.Event == "end" {
				s.say("the run has ended")
				return nil
			}
			var gap api.Gap
			if m.Event == "gap" && json.Unmarshal(m.Data, &gap) == nil {
				s.say("%s", gapText(gap))
				continue
			}
			if m.Event != "row" || json.Unmarshal(m.Data, &row) != nil {
				continue
			}
			p.add(row)
			if err := p.flush(); err != nil {
				return err
			}
		}
		return nil
	})
	f := c.Flags()
	f.StringArrayVar(&q.Key, "key", nil, "only rows with this `KEY`: FIELD=VALUE, or the values of the key's fields in order")
	f.StringVar(&q.Since, "since", "", "only rows published since a `TIME`, or so long ago (10m)")
	f.StringVar(&q.Where, "where", "", "only rows for which this `CEL` condition over their fields holds")
	f.StringVar(&q.Until, "until", "", "only rows published before a `TIME`, or so long ago")
	f.IntVar(&q.Limit, "limit", 100, "at most `N` of those that are kept")
	f.BoolVarP(&follow, "follow", "f", false, "go on with new rows until the run ends or Ctrl-C")
	f.StringVar(&format, "format", "table", "how rows are shown: `FORM` "+strings.Join(rowForms, ", "))
	return c
}

// rowForms are the forms in which rows are shown.
var rowForms = []string{"table", "json", "csv", "parquet"}

// gapText says what lies between the rows that were shown.
func gapText(g api.Gap) string {
	if g.Anew {
		return "the service was killed meanwhile: rows begin anew, and some may be missing here; sinks have them all"
	}
	return group(g.Missed) + " rows came too fast to be kept for looking; sinks have them all"
}

// rowPrinter writes rows as JSON lines, or in columns whose widths hold from the first rows on.
type rowPrinter struct {
	s      *streams
	table  bool
	fields []api.Field
	width  []int
	rows   [][]string
	out    bytes.Buffer
}

func (p *rowPrinter) add(r api.Row) {
	if !p.table {
		p.out.Write(r.Row)
		p.out.WriteByte('\n')
		return
	}
	var fields map[string]json.RawMessage
	if json.Unmarshal(r.Row, &fields) != nil {
		return
	}
	line := make([]string, len(p.fields))
	for i, f := range p.fields {
		line[i] = cellText(f, fields[f.Name])
	}
	p.rows = append(p.rows, line)
}

func cellText(f api.Field, raw json.RawMessage) string {
	var text string
	var num float64
	switch {
	case string(raw) == "null" || raw == nil:
		return "-"
	case f.Type == "timestamp" && json.Unmarshal(raw, &text) == nil:
		return strings.Replace(strings.TrimSuffix(text, "Z"), "T", " ", 1)
	case f.Type == "double" && json.Unmarshal(raw, &num) == nil:
		return fmt.Sprintf("%.3f", num) + levelText(f, num)
	case f.Type == "int" && json.Unmarshal(raw, &num) == nil:
		return string(raw) + levelText(f, num)
	case json.Unmarshal(raw, &text) == nil:
		return text
	}
	return string(raw)
}

// levelText is what a value is called, with as many marks as it is high: 3.485 ▲▲ high. All values of a field with levels are as wide, so that they stand
// in a line.
func levelText(f api.Field, v float64) string {
	if len(f.Levels) == 0 {
		return ""
	}
	width := 0
	for i, l := range f.Levels {
		width = max(width, i+2+len([]rune(l.Name)))
	}
	name, rank := job.FieldLevels{Levels: f.Levels}.LevelOf(v)
	text := strings.Repeat("▲", rank) + " " + name
	if rank == 0 {
		text = ""
	}
	return " " + text + strings.Repeat(" ", width-len([]rune(text)))
}

// flush writes what was added.
func (p *rowPrinter) flush() error {
	if p.table && len(p.rows) > 0 {
		names := make([]string, len(p.fields))
		head := p.width == nil
		for i, f := range p.fields {
			names[i] = f.Name
			if f.Type == "int" || f.Type == "double" || f.Type == "duration" {
				names[i] = ">" + f.Name
			}
			if head {
				p.width = append(p.width, len(f.Name))
			}
			for _, r := range p.rows {
				p.width[i] = max(p.width[i], len([]rune(r[i])))
			}
		}
		var b bytes.Buffer
		blank := make([]string, len(names)) // holds the widths
		for i, w := range p.width {
			blank[i] = strings.Repeat("x", w)
		}
		grid(&b, names, append(p.rows, blank))
		lines := strings.SplitAfter(b.String(), "\n")
		lines = lines[:len(lines)-2]
		if !head {
			lines = lines[1:]
		}
		p.out.WriteString(strings.Join(lines, ""))
		p.rows = nil
	}
	_, err := p.s.out.Write(p.out.Bytes())
	p.out.Reset()
	if errors.Is(err, syscall.EPIPE) {
		return silentError{done}
	}
	return err
}
