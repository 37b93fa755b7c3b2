package cli

import (
	"encoding/json"
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"undertide/job"
)

func newCheck(s *streams) *cobra.Command {
	var plan, schema bool
	var format string
	var set []string
	c := &cobra.Command{
		Use:   "check DOCUMENT…",
		Short: "Read job documents and report everything that is wrong with them",
		Long: `Read job documents and report everything that is wrong with them, with file, line and column, and
what would be right. --plan shows what a run would do: steps, keys, exchanges, the state that is kept
and what bounds it, how long a row takes, and how each sink delivers. --schema writes the JSON Schema
of job documents, for editors.`,
		Example: `  undertide check harbour/jobs/*.yaml
  undertide check job.yaml --plan
  undertide check --schema > job.schema.json`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 && !schema {
				return errors.New("no document")
			}
			return nil
		},
		ValidArgsFunction: documents,
		RunE: func(_ *cobra.Command, args []string) error {
			if format != "table" && format != "json" && format != "yaml" {
				return usageError{fmt.Errorf("--format %s: a plan is shown as table, json or yaml", format)}
			}
			if schema {
				_, err := s.out.Write(job.Schema)
				return err
			}
			values, err := assignments("--set", set, "VALUE=X")
			if err != nil {
				return err
			}
			known, err := job.LoadConnections(job.ConnectionsFile)
			if err != nil {
				return err
			}
			wrong := 0
			for _, path := range args {
				j, err := job.Load(path, job.Options{Set: values, Connections: known})
				var faults job.Faults
				if errors.As(err, &faults) {
					s.say("%s", faults.Error())
					wrong += len(faults)
					continue
				}
				if err != nil {
					return err
				}
				for _, w := range j.Warnings {
					s.say("%s (warning)", w.Error())
				}
				if err := showChecked(s, j, plan, format); err != nil {
					return err
				}
			}
			if wrong > 0 {
				s.say("%s", countFaults(wrong))
				return silentError{wrongDocument}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&plan, "plan", false, "show what a run would do")
	c.Flags().BoolVar(&schema, "schema", false, "write the JSON Schema of job documents")
	c.Flags().StringVar(&format, "format", "table", "how the plan looks: table, json or yaml")
	c.Flags().StringArrayVar(&set, "set", nil, "set `VALUE=X` of the document's values")
	return c
}

func showChecked(s *streams, j *job.Job, plan bool, format string) error {
	if !plan {
		_, err := fmt.Fprintf(s.out, "%s: job %s is right: %d %s, %d %s, %d %s\n", j.File, j.Name,
			len(j.Sources), plural(int64(len(j.Sources)), "source"), len(j.Steps), plural(int64(len(j.Steps)), "step"), len(j.Sinks), plural(int64(len(j.Sinks)), "sink"))
		return err
	}
	p := job.PlanOf(j)
	switch format {
	case "json":
		e := json.NewEncoder(s.out)
		e.SetIndent("", "  ")
		return e.Encode(p)
	case "yaml":
		text, err := yaml.Marshal(p)
		if err != nil {
			return err
		}
		_, err = s.out.Write(text)
		return err
	}
	_, err := fmt.Fprint(s.out, p.Text())
	return err
}
