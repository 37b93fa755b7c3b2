package cli

import (
	"errors"
	"fmt"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newAlarms(s *streams) *cobra.Command {
	var r reach
	var format, change, usual, by string
	var all, rules, off bool
	var seen int64
	var limit int
	var ask api.NewRule
	c := r.command(&cobra.Command{
		Use:   "alarms [JOB]",
		Short: "List the alarms that are on; say that one was seen; change those that all jobs have",
		Long: `List the alarms that are on, of all jobs or of one. An alarm is a condition over figures that has held for a while; the
usual ones are the same for all jobs, and a document may change them, switch them off, or add its own.`,
		Example: `  undertide alarms
  undertide alarms mean-level --all
  undertide alarms --seen 12
  undertide alarms --rules
  undertide alarms --change lag_grows --for 5m
  undertide alarms --change behind --when 'lag_seconds > 300' --about 'five minutes behind'
  undertide alarms --change cpu --off
  undertide alarms --usual cpu`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		job := ""
		if len(args) > 0 {
			job = args[0]
		}
		if change == "" && slices.ContainsFunc([]string{"when", "for", "about", "off", "notify"}, c.Flags().Changed) {
			return usageError{errors.New("--when, --for, --about, --notify and --off are of an alarm that is changed; add --change NAME")}
		}
		switch {
		case change != "":
			ask.Off = off
			list, err := cl.PutRule(c.Context(), change, ask)
			return showAs(s, format, list, err, func() { ruleLines(s, list) })
		case usual != "":
			if err := cl.RemoveRule(c.Context(), usual); err != nil {
				return err
			}
			s.say("what was written of alarm %s is gone", usual)
			return nil
		case rules:
			list, err := cl.Rules(c.Context())
			return showAs(s, format, list, err, func() { ruleLines(s, list) })
		case seen > 0:
			if by == "" {
				if u, err := user.Current(); err == nil {
					by = u.Username
				}
			}
			a, err := cl.See(c.Context(), seen, by)
			return showAs(s, format, a, err, func() { s.say("alarm %d of %s (%s) was seen by %s", a.ID, a.Job, a.Name, a.SeenBy) })
		}
		list, err := cl.Alarms(c.Context(), job, !all, limit)
		return showAs(s, format, list, err, func() { alarmLines(s, list, all) })
	})
	formatFlag(c, &format)
	f := c.Flags()
	f.BoolVar(&all, "all", false, "those that are off again too, newest first")
	f.IntVar(&limit, "limit", 50, "at most `N`")
	f.Int64Var(&seen, "seen", 0, "say that the alarm of this `NUMBER` was seen")
	f.StringVar(&by, "by", "", "with --seen: by `WHOM` (default: you)")
	f.BoolVar(&rules, "rules", false, "list the alarms that all jobs have")
	f.StringVar(&change, "change", "", "change the alarm `NAME` of all jobs, or make one")
	f.StringVar(&ask.When, "when", "", "with --change: its condition over figures, a `CEL` expression")
	f.StringVar(&ask.For, "for", "", "with --change: how long it holds before the alarm is on, a `DURATION`")
	f.StringVar(&ask.About, "about", "", "with --change: what it means, in words: `TEXT`")
	f.StringSliceVar(&ask.Notify, "notify", nil, "with --change: notices that tell of it, with commas between: `NAMES`")
	f.BoolVar(&off, "off", false, "with --change: switch it off")
	f.StringVar(&usual, "usual", "", "make the alarm `NAME` as usual again, or take it away")
	return c
}

func alarmLines(s *streams, list []api.Alarm, all bool) {
	if len(list) == 0 {
		if all {
			s.say("no alarm was on yet")
		} else {
			s.say("no alarm is on; --all lists those of the past")
		}
		return
	}
	var rows [][]string
	for _, a := range list {
		state := "on"
		lasted := time.Since(a.OnAt)
		if a.OffAt != nil {
			state, lasted = "off", a.OffAt.Sub(a.OnAt)
		}
		seen := ""
		if a.SeenAt != nil {
			seen = fmt.Sprintf("%s, %s", a.SeenBy, ago(*a.SeenAt))
		}
		rows = append(rows, []string{fmt.Sprint(a.ID), a.Job, a.Name, state, ago(a.OnAt), span(lasted), harmless(seen), harmless(a.Text)})
	}
	grid(s.out, []string{">number", "job", "alarm", "", "since", ">for", "seen by", "about"}, rows)
}

func ruleLines(s *streams, list []api.Rule) {
	var rows [][]string
	for _, r := range list {
		state := "on"
		switch {
		case r.Off:
			state = "off"
		case r.Changed && r.Usual:
			state = "changed"
		case r.Changed:
			state = "added"
		}
		rows = append(rows, []string{r.Name, state, r.When, r.For, strings.Join(r.Notify, ", "), harmless(r.About)})
	}
	grid(s.out, []string{"alarm", "", "when", ">for", "told by", "about"}, rows)
}
