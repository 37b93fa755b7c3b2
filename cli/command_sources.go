package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/job"
)

func newSources(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "sources",
		Short: "List described sources that several jobs may take over, and which jobs do",
		Long: `List described sources: their fields, event time and margin, once and for all jobs that read them. A job
takes it by described: NAME; a save writes it into the version, so that a version stays as it is. The list says
which jobs name it or read the same topic, and what they say otherwise, as where it has changed since.`,
		Example: "  undertide sources\n  undertide sources add lifts --from harbour/jobs/crane-load.yaml\n  undertide sources show lifts",
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Sources(c.Context())
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, d := range list {
				var uses []string
				for _, u := range d.Jobs {
					text := u.Job
					switch {
					case len(u.Differs) > 0:
						text += " (with another " + strings.Join(u.Differs, ", ") + ")"
					case !u.Same:
						text += " (in other words)"
					}
					uses = append(uses, text)
				}
				rows = append(rows, []string{d.Name, d.About, strings.Join(uses, ", ")})
			}
			if len(rows) == 0 {
				s.say("no source is described yet; describe one: undertide sources add NAME --from DOCUMENT")
				return
			}
			grid(s.out, []string{"source", "about", "read by"}, rows)
		})
	})
	formatFlag(c, &format)
	c.AddCommand(newSourcesShow(s), newSourcesAdd(s), newSourcesRemove(s))
	return c
}

func newSourcesShow(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "show NAME",
		Short:   "Write a described source, as it stands below sources:",
		Example: "  undertide sources show lifts",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Sources(c.Context())
		if err != nil {
			return err
		}
		var known []string
		for _, d := range list {
			if d.Name == args[0] {
				_, err := fmt.Fprint(s.out, d.Text)
				return err
			}
			known = append(known, d.Name)
		}
		fix := ""
		if n := job.Nearest(args[0], known); n != "" {
			fix = "did you mean " + n + "?"
		}
		return api.NoSuchDescribed.With("there is no described source "+args[0], fix)
	})
}

func newSourcesAdd(s *streams) *cobra.Command {
	var r reach
	var from, source, about string
	c := r.command(&cobra.Command{
		Use:     "add NAME",
		Short:   "Describe a source by one of a document",
		Example: "  undertide sources add lifts --from harbour/jobs/crane-load.yaml --source lifts --about 'what the cranes lift'",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		text, err := os.ReadFile(from)
		if err != nil {
			return fmt.Errorf("%w: %w", job.ErrNoDocument, err)
		}
		part, err := job.SourceText(string(text), source)
		if err != nil {
			return usageError{errors.New(from + ": " + err.Error())}
		}
		if _, err := cl.Describe(c.Context(), args[0], api.DescribedText{About: about, Text: part}); err != nil {
			return err
		}
		s.say("source %s is described", args[0])
		return nil
	})
	c.Flags().StringVar(&from, "from", "", "the `DOCUMENT` that describes it")
	c.Flags().StringVar(&source, "source", "", "its source `NAME`; may be left out where there is one")
	c.Flags().StringVar(&about, "about", "", "what it is, in a line of `TEXT`")
	_ = c.MarkFlagRequired("from") // the flag stands above
	return c
}

func newSourcesRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "remove NAME",
		Short:   "Remove a described source; jobs keep their own text",
		Example: "  undertide sources remove lifts",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveDescribed(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("described source %s is removed", args[0])
		return nil
	})
}
