package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"

	"undertide/client"
	"undertide/job"
)

func newWatch(s *streams) *cobra.Command {
	var r reach
	c := r.command(&cobra.Command{
		Use:     "watch JOB",
		Short:   "Watch a job's figures live",
		Example: "  undertide watch mean-level",
		Long: `Watch a job's figures live, until the run ends or Ctrl-C: on a terminal a page that is drawn anew
every second, elsewhere a line every ten seconds.`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		j, err := started(c.Context(), cl, args[0])
		if err != nil {
			return err
		}
		plan, err := cl.Plan(c.Context(), args[0])
		if err != nil {
			return err
		}
		screen := terminal(s.out)
		if screen {
			fmt.Fprint(s.out, "\x1b[?25l\x1b[2J") // without a cursor
			defer fmt.Fprint(s.out, "\x1b[?25h\n")
		}
		var said time.Time
		var last api.Run
		for m, err := range cl.FollowFigures(c.Context(), j.Run.ID) {
			switch {
			case errors.Is(err, c.Context().Err()) && err != nil:
				return nil
			case err != nil:
				return err
			case m.Event == "run":
				if err := json.Unmarshal(m.Data, &last); err != nil {
					return err
				}
			case m.Event == "end":
				s.say("run %d %s %s", last.ID, last.Status, last.Error)
				return nil
			case m.Event == "metrics":
				var fig api.Figures
				if err := json.Unmarshal(m.Data, &fig); err != nil {
					return err
				}
				if screen {
					drawFigures(s, j, last, fig, plan)
				} else if time.Since(said) >= 10*time.Second {
					said = time.Now()
					fmt.Fprintf(s.out, "%s  %s\n", fig.At.Format("15:04:05"), fig.Live.Sentence)
				}
			}
		}
		return nil
	})
	return c
}

// drawFigures draws one page over the last.
func drawFigures(s *streams, j api.Job, run api.Run, f api.Figures, plan job.Plan) {
	var b bytes.Buffer
	page := &streams{out: &b}
	bold, plain := "\x1b[1m", "\x1b[0m"
	if os.Getenv("NO_COLOR") != "" {
		bold, plain = "", ""
	}
	fmt.Fprintf(&b, "%s%s  %s%s  version %d, run %d  %s\n\n", bold, j.Name, run.Status, plain, run.Version, run.ID, f.At.Format("15:04:05 UTC"))
	fmt.Fprintf(&b, "%s\n%s\n\n", harmless(f.Live.Sentence), capacity(f.Live))
	figureLines(page, f, plan)
	fmt.Fprintln(&b)
	partitionLines(page, f, plan)
	fmt.Fprintln(&b)
	if c := f.Checkpoints.Last; c != nil {
		age := "-"
		if f.Live.CheckpointAge != nil {
			age = span(time.Duration(*f.Live.CheckpointAge*1e9)) + " ago"
		}
		fmt.Fprintf(&b, "checkpoint %d, %s, took %.0f ms; %d completed, %d failed; %d restarts\n", c.Epoch, age, 1000*c.Seconds, f.Checkpoints.Completed, f.Checkpoints.Failed, f.Restarts)
	}
	fmt.Fprintf(&b, "this run: %.2f CPUs, %s of memory; the service: CPU %.1f s, peak memory %s\n\nCtrl-C leaves; the job goes on\n", f.Rates.Work, bytesText(f.Memory), f.CPUSeconds, bytesText(f.PeakMemory))
	fmt.Fprint(s.out, "\x1b[H"+strings.ReplaceAll(b.String(), "\n", "\x1b[K\n")+"\x1b[J")
}
