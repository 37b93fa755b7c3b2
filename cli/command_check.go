package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"undertide/connect/kafka"
	"undertide/job"
	"undertide/run"
)

func newCheck(s *streams) *cobra.Command {
	var plan, schema, connect bool
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
		RunE: func(c *cobra.Command, args []string) error {
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
			wrong, away := 0, false
			for _, path := range args {
				j, err := job.Load(path, job.Options{Set: values, Connections: known, NeedEnv: connect})
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
				if connect {
					ok, err := connected(c.Context(), s, j)
					if err != nil {
						return err
					}
					away = away || !ok
				}
			}
			if wrong > 0 {
				s.say("%s", countFaults(wrong))
				return silentError{wrongDocument}
			}
			if away {
				return silentError{failed}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&connect, "connect", false, "also test the connections that the document uses, and its topics")
	c.Flags().BoolVar(&plan, "plan", false, "show what a run would do")
	c.Flags().BoolVar(&schema, "schema", false, "write the JSON Schema of job documents")
	c.Flags().StringVar(&format, "format", "table", "how the plan looks: table, json or yaml")
	c.Flags().StringArrayVar(&set, "set", nil, "set `VALUE=X` of the document's values")
	return c
}

// connected tests the connections of a document's sources and sinks, each with its topic: a source has to
// read it, a sink to write it, or to make it.
func connected(ctx context.Context, s *streams, j *job.Job) (bool, error) {
	type use struct {
		what, topic string
		c           job.Connection
		step        string // that matters
		makes       bool
	}
	var uses []use
	for i := range j.Sources {
		if k := &j.Sources[i].Kafka; j.Sources[i].Via == "kafka" {
			uses = append(uses, use{"source " + j.Sources[i].Name, k.Topic, k.Connection, "may read", false})
		}
	}
	for i := range j.Sinks {
		if k := &j.Sinks[i].Kafka; j.Sinks[i].Via == "kafka" {
			uses = append(uses, use{"sink " + j.Sinks[i].Name, k.Topic, k.Connection, "may write", k.Create})
		}
	}
	good := true
	for _, u := range uses {
		conn, err := run.Reach(u.c)
		if err != nil {
			return false, err
		}
		l, err := kafka.Look(conn)
		if err != nil {
			return false, err
		}
		verdict, ok := "ok", true
		for _, k := range l.Try(ctx, u.topic) {
			other := u.step == "may write" && k.Name == "may read" || u.step == "may read" && k.Name == "may write"
			if k.State != "no" || other {
				continue
			}
			if k.Name == "topic seen" && u.makes {
				verdict = "topic " + u.topic + " is not there; the run makes it"
				continue
			}
			verdict, ok = "not "+k.Name+": "+k.Text, false
		}
		l.Close()
		good = good && ok
		fmt.Fprintf(s.out, "%s: %s, topic %s of %s: %s\n", j.File, u.what, u.topic, u.c.Name, verdict)
	}
	return good, nil
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
