package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newPin(s *streams) *cobra.Command {
	var r reach
	var ask api.NewPin
	c := r.command(&cobra.Command{
		Use:   "pin JOB NAME",
		Short: "Keep a checkpoint under a name: it is never pruned, and a run can go back to it",
		Long: `Keep a checkpoint under a name. It is never pruned, can be looked into (undertide state JOB STEP --pin NAME), and a run can
go back to it (undertide start JOB --resume pin:NAME). It shares its files with other checkpoints; as those go, it alone
keeps what undertide pins shows as its cost.`,
		ValidArgsFunction: func(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 { // the name is new
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return r.jobNames(c, args, word)
		},
		Example: "  undertide pin mean-level before-the-storm\n  undertide pin mean-level calm --checkpoint 12",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		ask.Name = args[1]
		p, err := cl.Pin(c.Context(), args[0], ask)
		if err != nil {
			return err
		}
		s.say("checkpoint %d of %s is kept as %s", p.Epoch, args[0], p.Name)
		return nil
	})
	c.Flags().Int64Var(&ask.Checkpoint, "checkpoint", 0, "the checkpoint of this `EPOCH` (default: the newest)")
	return c
}

func newUnpin(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:               "unpin JOB NAME",
		Short:             "Keep a checkpoint under a name no more",
		Example:           "  undertide unpin mean-level before-the-storm",
		ValidArgsFunction: r.pinNames,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.Unpin(c.Context(), args[0], args[1]); err != nil {
			return err
		}
		s.say("%s keeps no checkpoint as %s any more", args[0], args[1])
		return nil
	})
}

func newPins(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:     "pins JOB",
		Short:   "List the checkpoints that are kept under a name, and what each costs",
		Example: "  undertide pins mean-level",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Pins(c.Context(), args[0])
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			if len(list) == 0 {
				s.say("job %s has no pins; undertide pin %s NAME keeps a checkpoint", args[0], args[0])
				return
			}
			var rows [][]string
			for _, p := range list {
				rows = append(rows, []string{p.Name, group(p.Epoch), ago(p.WrittenAt), ago(p.At), bytesText(p.Costs), p.Trouble})
			}
			grid(s.out, []string{"pin", ">checkpoint", "written", "pinned", ">it alone keeps", ""}, rows)
		})
	})
	formatFlag(c, &format)
	return c
}

// pinNames completes the names of a job's pins.
func (r *reach) pinNames(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	if len(args) != 1 {
		return r.jobNames(c, args, word)
	}
	cl, err := r.client()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	list, _ := cl.Pins(ctx, args[0]) // completion stays silent
	var names []string
	for _, p := range list {
		names = append(names, p.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
