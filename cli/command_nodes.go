package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newNodes(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "nodes",
		Short: "List the nodes that share the database; drain and remove them",
		Long: `List the services that share this one's database, and which jobs each carries out. Each job is carried out by one of them, and any of them
answers for all; docs/nodes.md says how to start some.`,
		Example: `  undertide nodes
  undertide nodes drain quay-2
  undertide nodes drain quay-2 --end
  undertide nodes remove quay-2`,
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Nodes(c.Context())
		return showAs(s, format, list, err, func() { nodeLines(s, list) })
	})
	formatFlag(c, &format)
	c.AddCommand(newNodesDrain(s), newNodesRemove(s))
	return c
}

func nodeLines(s *streams, list []api.Node) {
	if len(list) == 0 {
		s.say("the service has its database alone; docs/nodes.md says how to start several")
		return
	}
	var rows [][]string
	for _, n := range list {
		state := n.State
		switch {
		case n.State == "away" && n.HeardAt == nil:
			state = "ended"
		case n.State == "away":
			state = "away since " + span(time.Since(*n.HeardAt))
		}
		memory := ""
		if n.Memory > 0 {
			memory = bytesText(n.Memory)
		}
		jobs := fmt.Sprint(len(n.Jobs))
		if len(n.Jobs) > 0 {
			jobs += ": " + strings.Join(n.Jobs, ", ")
		}
		rows = append(rows, []string{n.Name, state, n.Address, n.Version, fmt.Sprint(n.Cores), memory, ago(n.StartedAt), jobs})
	}
	grid(s.out, []string{"node", "state", "address", "version", "cores", "memory", "started", "jobs"}, rows)
}

func newNodesDrain(s *streams) *cobra.Command {
	var r reach
	var end bool
	var format string
	c := r.command(&cobra.Command{
		Use:   "drain NAME",
		Short: "Let a node's jobs go to the others, each with a checkpoint; it takes none until that ends",
		Example: `  undertide nodes drain quay-2
  undertide nodes drain quay-2 --end`,
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		n, err := cl.DrainNode(c.Context(), args[0], end)
		return showAs(s, format, n, err, func() {
			switch {
			case end:
				s.say("%s takes jobs again", args[0])
			case len(n.Jobs) > 0:
				s.say("the jobs of %s go to other nodes: %s; see undertide nodes", args[0], strings.Join(n.Jobs, ", "))
			default:
				s.say("%s takes no jobs, and has none", args[0])
			}
		})
	})
	c.Flags().BoolVar(&end, "end", false, "it takes jobs again")
	formatFlag(c, &format)
	return c
}

func newNodesRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:               "remove NAME",
		Short:             "Forget a node that is away",
		Example:           "  undertide nodes remove quay-2",
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveNode(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("%s is forgotten; started again, it joins again", args[0])
		return nil
	})
}
