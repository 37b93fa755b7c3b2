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

func newCatalogue(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "catalogue",
		Short: "List described sources that several jobs may take over, and which jobs do",
		Long: `List described sources: their fields, event time and margin, once and for all jobs that read them. A job
takes the description over into its own document, so that a version stays as it is; the list says which
jobs read the same topic, and whether they describe it in the same words.`,
		Example: "  undertide catalogue\n  undertide catalogue add lifts --from harbour/jobs/crane-load.yaml\n  undertide catalogue show lifts",
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Catalogue(c.Context())
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, d := range list {
				var uses []string
				for _, u := range d.Jobs {
					text := u.Job
					if !u.Same {
						text += " (in other words)"
					}
					uses = append(uses, text)
				}
				rows = append(rows, []string{d.Name, d.About, strings.Join(uses, ", ")})
			}
			if len(rows) == 0 {
				s.say("the catalogue is empty; add a source: undertide catalogue add NAME --from DOCUMENT")
				return
			}
			grid(s.out, []string{"source", "about", "read by"}, rows)
		})
	})
	formatFlag(c, &format)
	c.AddCommand(newCatalogueShow(s), newCatalogueAdd(s), newCatalogueRemove(s))
	return c
}

func newCatalogueShow(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "show NAME",
		Short:   "Write a described source, as it stands below sources:",
		Example: "  undertide catalogue show lifts",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		list, err := cl.Catalogue(c.Context())
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
		return api.NoSuchDescribed.With("the catalogue has no source "+args[0], fix)
	})
}

func newCatalogueAdd(s *streams) *cobra.Command {
	var r reach
	var from, source, about string
	c := r.command(&cobra.Command{
		Use:     "add NAME",
		Short:   "Put a source of a document into the catalogue",
		Example: "  undertide catalogue add lifts --from harbour/jobs/crane-load.yaml --source lifts --about 'what the cranes lift'",
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
		s.say("source %s is in the catalogue", args[0])
		return nil
	})
	c.Flags().StringVar(&from, "from", "", "the `DOCUMENT` that describes it")
	c.Flags().StringVar(&source, "source", "", "its source `NAME`; may be left out where there is one")
	c.Flags().StringVar(&about, "about", "", "what it is, in a line of `TEXT`")
	_ = c.MarkFlagRequired("from") // the flag stands above
	return c
}

func newCatalogueRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "remove NAME",
		Short:   "Take a source out of the catalogue; jobs keep their own text",
		Example: "  undertide catalogue remove lifts",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveDescribed(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("source %s is out of the catalogue", args[0])
		return nil
	})
}

func newKept(s *streams) *cobra.Command {
	var r reach
	var format, resume string
	var version int
	c := r.command(&cobra.Command{
		Use:   "kept JOB",
		Short: "Show what a start of a version would keep of what the last run left",
		Long: `Show what a start of a version (the newest, unless told otherwise) would keep of what the last run left:
positions of sources, state of steps, deliveries of sinks. What does not fit the version is left behind
only when the start says so: --drop STEP.`,
		Example: "  undertide kept mean-level --version 3",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		k, err := cl.Kept(c.Context(), args[0], version, resume)
		if err != nil {
			return err
		}
		return show(s, format, k, func() { keptTable(s, args[0], k) })
	})
	formatFlag(c, &format)
	c.Flags().IntVar(&version, "version", 0, "the `NUMBER` of the version (default: the newest)")
	c.Flags().StringVar(&resume, "resume", "last", "of a start from this `PLACE`: last, pin:NAME or checkpoint:N")
	return c
}

func keptTable(s *streams, name string, k api.Kept) {
	if k.From == nil {
		s.say("job %s has no checkpoint: a start begins with nothing", name)
		return
	}
	var rows [][]string
	for _, p := range k.Parts {
		what := p.What
		if p.Must {
			what += " (say --drop " + p.Name + ")"
		}
		rows = append(rows, []string{p.Kind, p.Name, what, p.Text})
	}
	s.say("version %d, from checkpoint %d", k.Version, *k.From)
	grid(s.out, []string{"", "name", "", "what happens"}, rows)
}
