package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"undertide/client"
)

func newVersions(s *streams) *cobra.Command {
	var r reach
	var format string
	var limit int
	c := r.command(&cobra.Command{
		Use:     "versions JOB",
		Short:   "List a job's versions, newest first",
		Example: "  undertide versions mean-level",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Versions(c.Context(), args[0], limit)
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, v := range list {
				rows = append(rows, []string{strconv.Itoa(v.Number), v.CreatedAt.UTC().Format("2006-01-02 15:04:05 UTC"), byWhom(v.About, v.SavedBy)})
			}
			grid(s.out, []string{">version", "saved", "about"}, rows)
		})
	})
	formatFlag(c, &format)
	c.Flags().IntVar(&limit, "limit", 50, "at most `N`")
	return c
}

func newDiff(s *streams) *cobra.Command {
	var r reach
	var text bool
	c := r.command(&cobra.Command{
		Use:     "diff JOB A B",
		Short:   "Show what differs between two versions of a job",
		Example: "  undertide diff mean-level 1 2",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		var n [2]int
		var err error
		for i, text := range args[1:] {
			if n[i], err = strconv.Atoi(text); err != nil || n[i] < 1 {
				return usageError{fmt.Errorf("%s is not a version; versions count from 1", text)}
			}
		}
		d, err := cl.Diff(c.Context(), args[0], n[0], n[1])
		if err != nil {
			return err
		}
		if d.Text == "" {
			s.say("versions %d and %d are equal", d.A, d.B)
		} else if len(d.Words) == 0 {
			s.say("versions %d and %d differ in comments and layout only", d.A, d.B)
		}
		if text {
			_, err = fmt.Fprint(s.out, d.Text)
			return err
		}
		for _, w := range d.Words {
			fmt.Fprintln(s.out, w)
		}
		return nil
	})
	c.Flags().BoolVar(&text, "text", false, "show the changed lines of the documents instead")
	return c
}
