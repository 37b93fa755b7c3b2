package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"undertide/job"
	"undertide/run"
)

func newRehearse(s *streams) *cobra.Command {
	var examples bool
	var set []string
	c := &cobra.Command{
		Use:   "rehearse DOCUMENT… --examples",
		Short: "Run the examples of job documents and compare their rows; nothing is delivered",
		Long: `Run the examples that stand in job documents: each gives a few events and the rows that must come of
them. Nothing is connected and nothing is delivered. Each difference is shown with the line of the
document, and the exit status is 1 when there is any.`,
		Example: `  undertide rehearse harbour/jobs/*.yaml --examples`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return errors.New("no document")
			}
			return nil
		},
		ValidArgsFunction: documents,
		RunE: func(c *cobra.Command, args []string) error {
			if !examples {
				return usageError{errors.New("rehearsing on a sample is not built yet; add --examples to run the document's examples")}
			}
			values, err := assignments("--set", set, "VALUE=X")
			if err != nil {
				return err
			}
			known, err := job.LoadConnections(job.ConnectionsFile)
			if err != nil {
				return err
			}
			wrong, all := 0, 0
			for _, path := range args {
				j, err := job.Load(path, job.Options{Set: values, Connections: known})
				if err != nil {
					return err
				}
				results, err := run.Examples(c.Context(), j)
				if err != nil {
					return fmt.Errorf("%s: %w", path, err)
				}
				if len(results) == 0 {
					fmt.Fprintf(s.out, "%s: job %s has no examples\n", path, j.Name)
				}
				for _, r := range results {
					all++
					if len(r.Differences) == 0 {
						fmt.Fprintf(s.out, "%s:%d: as expected: %s\n", path, r.Line, r.About)
						continue
					}
					wrong++
					fmt.Fprintf(s.out, "%s:%d: NOT as expected: %s\n", path, r.Line, r.About)
					for _, d := range r.Differences {
						fmt.Fprintf(s.out, "    %s\n", d)
					}
				}
			}
			if wrong > 0 {
				s.say("%d of %d %s gave other rows than expected", wrong, all, plural(int64(all), "example"))
				return silentError{failed}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&examples, "examples", false, "run the document's examples")
	c.Flags().StringArrayVar(&set, "set", nil, "set `VALUE=X` of the document's values")
	return c
}
