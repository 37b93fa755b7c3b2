package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

// reach holds where the service is; every command that talks to it has the flag.
type reach struct{ server, token, authority string }

// command completes a command that talks to the service: its arguments are the words after its name.
func (r *reach) command(c *cobra.Command, do func(c *cobra.Command, cl *client.Client, args []string) error) *cobra.Command {
	most := len(strings.Fields(c.Use)) - 1
	c.Args = cobra.RangeArgs(most-strings.Count(c.Use, " ["), most)
	if c.ValidArgsFunction == nil {
		c.ValidArgsFunction = r.jobNames
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		cl, err := r.client()
		if err != nil {
			return err
		}
		return do(c, cl, args)
	}
	r.flags(c)
	return c
}

// flags are those by which a service is reached.
func (r *reach) flags(c *cobra.Command) {
	c.Flags().StringVar(&r.server, "server", "", "the service's `ADDRESS` (default: UNDERTIDE_SERVER, or "+client.DefaultServer+")")
	c.Flags().StringVar(&r.token, "token", "", "the `TOKEN` to come with, or @FILE (default: UNDERTIDE_TOKEN, or that of undertide sign-in)")
	c.Flags().StringVar(&r.authority, "authority", "", "the `FILE` of the certificates that sign the service's, beside the machine's (default: UNDERTIDE_AUTHORITY)")
}

// started gives a job that was started at least once.
func started(ctx context.Context, cl *client.Client, name string) (api.Job, error) {
	j, err := cl.Job(ctx, name)
	if err == nil && j.Run == nil {
		err = api.NotRunning.With("job "+name+" was never started", "start it: undertide start "+name)
	}
	return j, err
}

func (r *reach) client() (*client.Client, error) {
	return clientOf(r.address(), r.token, r.authority)
}

// address is the service's, as it was given.
func (r *reach) address() string {
	if r.server != "" {
		return r.server
	}
	return os.Getenv("UNDERTIDE_SERVER")
}

// jobNames completes the names of jobs, and after them those of steps.
func (r *reach) jobNames(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	cl, err := r.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	var out []string
	switch len(args) {
	case 0:
		jobs, _ := cl.Jobs(ctx) // completion stays silent
		for _, j := range jobs {
			out = append(out, j.Name)
		}
	case 1:
		plan, _ := cl.Plan(ctx, args[0])
		for _, s := range plan.Steps {
			out = append(out, s.Name)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// formatFlag is how lists are shown.
func formatFlag(c *cobra.Command, format *string) {
	c.Flags().StringVar(format, "format", "table", "how it is shown: `FORM` table, json or yaml")
	_ = c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp)) // the flag stands above
}

// show writes v as JSON or YAML, or calls table.
func show(s *streams, format string, v any, table func()) error {
	switch format {
	case "table":
		table()
		return nil
	case "json", "yaml":
	default:
		return usageError{fmt.Errorf("--format %s: give table, json or yaml", format)}
	}
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if format == "yaml" {
		if text, err = yaml.JSONToYAML(text); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(s.out, "%s\n", strings.TrimRight(string(text), "\n"))
	return err
}

// grid writes rows in columns; a name that begins with > is of a column to the right.
func grid(w io.Writer, names []string, rows [][]string) {
	right := make([]bool, len(names))
	width := make([]int, len(names))
	head := make([]string, len(names))
	for i, n := range names {
		head[i] = strings.TrimPrefix(n, ">")
		right[i] = head[i] != n
		width[i] = utf8.RuneCountInString(head[i])
	}
	for _, r := range rows {
		for i, cell := range r {
			width[i] = max(width[i], utf8.RuneCountInString(cell))
		}
	}
	for _, r := range slices.Insert(slices.Clone(rows), 0, head) {
		var b strings.Builder
		for i, cell := range r {
			cell = harmless(cell)
			gap := strings.Repeat(" ", width[i]-utf8.RuneCountInString(cell))
			if right[i] {
				cell = gap + cell
			} else {
				cell += gap
			}
			if i > 0 {
				b.WriteString("  ")
			}
			b.WriteString(cell)
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// harmless takes out what could steer a terminal: texts of documents and rows are others' words.
func harmless(text string) string {
	return strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7f || c >= 0x80 && c < 0xa0 {
			return '·'
		}
		return c
	}, text)
}

// ago words how long ago a time was.
func ago(t time.Time) string { return span(time.Since(t)) + " ago" }

// span words a duration shortly: 12 s, 3 min, 2 h 5 min, 4 d.
func span(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < 100*time.Millisecond:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

func perSecond(v float64) string {
	if v >= 100 {
		return group(int64(v)) + "/s"
	}
	return fmt.Sprintf("%.1f/s", v)
}

func bytesText(n int64) string {
	switch {
	case n >= 10<<20:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 10<<10:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d B", n)
}
