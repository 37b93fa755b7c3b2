package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newCheckpoints(s *streams) *cobra.Command {
	var r reach
	var format string
	var limit int
	c := r.command(&cobra.Command{
		Use:   "checkpoints JOB",
		Short: "List the checkpoints of a job, of all its runs: what was new, size, time, stall, positions, and what is not complete",
		Example: `  undertide checkpoints mean-level
  undertide checkpoints mean-level --limit 5`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Checkpoints(c.Context(), args[0], limit)
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			if len(list) == 0 {
				s.say("job %s has no checkpoint yet", args[0])
				return
			}
			var rows [][]string
			for _, k := range list {
				rows = append(rows, checkpointLine(k))
			}
			grid(s.out, []string{">epoch", ">run", "written", "folder", ">took", ">longest stall", ">rows changed", ">new", ">size", ">events", "positions"}, rows)
		})
	})
	formatFlag(c, &format)
	c.Flags().IntVar(&limit, "limit", 20, "at most `N`")
	return c
}

func checkpointLine(k api.Checkpoint) []string {
	line := []string{strconv.FormatInt(k.Epoch, 10), strconv.FormatInt(k.Run, 10), ago(k.WrittenAt), keptText(k), fmt.Sprintf("%.0f ms", 1000*k.Seconds)}
	if k.Fault != "" {
		return append(line, "-", "-", "-", "-", "-", "not complete: "+k.Fault)
	}
	var events int64
	var places []string
	for _, p := range k.Partitions {
		events += p.Events
		if p.Events > 0 {
			places = append(places, fmt.Sprintf("%s %s: %s to %s", p.Source, p.Name, place1(p.From), place1(p.To)))
		}
	}
	return append(line, fmt.Sprintf("%.1f ms", 1000*k.StallSeconds), group(k.RowsChanged+k.RowsGone), bytesText(k.NewBytes), bytesText(k.Bytes), group(events), strings.Join(places, "; "))
}

// keptText says whether a checkpoint can be looked into and gone back to.
func keptText(k api.Checkpoint) string {
	switch {
	case len(k.Pins) > 0:
		return "pin " + strings.Join(k.Pins, ", ")
	case k.Fault != "":
		return "-"
	case k.Kept:
		return "kept"
	}
	return "pruned"
}

// place1 writes a position shortly.
func place1(raw []byte) string {
	text := strings.Trim(string(raw), `{}`)
	if text == "null" || text == "" {
		return "the beginning"
	}
	return strings.TrimPrefix(strings.ReplaceAll(text, `"`, ""), "offset:")
}

func newHistory(s *streams) *cobra.Command {
	var r reach
	var format string
	var limit int
	c := r.command(&cobra.Command{
		Use:     "history JOB",
		Short:   "Show what happened to a job: versions, starts, failures, restarts",
		Example: "  undertide history mean-level",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.History(c.Context(), args[0], limit)
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, e := range list {
				run := ""
				if e.Run != nil {
					run = strconv.FormatInt(*e.Run, 10)
				}
				rows = append(rows, []string{e.At.UTC().Format("2006-01-02 15:04:05 UTC"), run, e.Kind, byWhom(e.Text, e.DoneBy)})
			}
			grid(s.out, []string{"at", ">run", "what", "how"}, rows)
		})
	})
	formatFlag(c, &format)
	c.Flags().IntVar(&limit, "limit", 50, "at most `N`")
	return c
}

func newLogs(s *streams) *cobra.Command {
	var r reach
	var q client.LogQuery
	var format string
	c := r.command(&cobra.Command{
		Use:     "logs JOB",
		Short:   "Show a job's log, oldest line first",
		Example: "  undertide logs mean-level --since 1h --level warn\n  undertide logs mean-level --grep checkpoint --level debug",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Logs(c.Context(), args[0], q)
		if err != nil {
			return err
		}
		slices.Reverse(list)
		return show(s, format, list, func() {
			for _, l := range list {
				var b strings.Builder
				for _, k := range sorted(l.Fields) {
					if k != "job" {
						fmt.Fprintf(&b, " %s=%v", k, l.Fields[k])
					}
				}
				fmt.Fprintf(s.out, "%s  %-5s  %s %s\n", l.At.UTC().Format("2006-01-02 15:04:05.000"), l.Level, harmless(l.Message), harmless(b.String()))
			}
		})
	})
	f := c.Flags()
	f.StringVar(&q.Grep, "grep", "", "only lines that hold this `TEXT`")
	f.StringVar(&q.Level, "level", "info", "from this `LEVEL` on: debug, info, warn, error")
	f.StringVar(&q.Since, "since", "", "only lines since a `TIME`, or so long ago (10m)")
	f.IntVar(&q.Limit, "limit", 200, "at most `N`, the newest")
	formatFlag(c, &format)
	return c
}
