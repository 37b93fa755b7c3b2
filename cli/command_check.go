package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"undertide/connect"
	"undertide/job"
)

func newCheck(s *streams) *cobra.Command {
	var plan, schema, reached bool
	var format, server string
	var set []string
	c := &cobra.Command{
		Use:   "check DOCUMENT…",
		Short: "Read job documents and report everything that is wrong with them",
		Long: `Read job documents and report everything that is wrong with them, with file, line and column, and
what would be right. --plan shows what a run would do: steps, keys, exchanges, the state that is kept
and what bounds it, how long a row takes, and how each sink delivers. --schema writes the JSON Schema
of job documents, for editors.`,
		Example: `  undertide check harbour/files/*.yaml
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
				_, err := s.out.Write(job.Schema())
				return err
			}
			values, err := assignments("--set", set, "NAME=VALUE")
			if err != nil {
				return err
			}
			known, err := connectionsAt(c.Context(), server)
			if err != nil {
				return err
			}
			wrong, away := 0, false
			for _, path := range args {
				j, err := job.Load(path, job.Options{Set: values, Connections: known, NeedEnv: reached})
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
				if reached {
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
	c.Flags().BoolVar(&reached, "connect", false, "also test the connections that the document uses, and its topics")
	c.Flags().BoolVar(&plan, "plan", false, "show what a run would do")
	c.Flags().BoolVar(&schema, "schema", false, "write the JSON Schema of job documents")
	c.Flags().StringVar(&format, "format", "table", "how the plan looks: `FORM` table, json or yaml")
	c.Flags().StringArrayVar(&set, "set", nil, "set `NAME=VALUE` of the document's values")
	c.Flags().StringVar(&server, "server", "", "also take the connections of the service at `ADDRESS`")
	return c
}

// connected tests the connections of a document's sources and sinks, each with its stream: a source has to
// read it, a sink to write it, or to make it.
func connected(ctx context.Context, s *streams, j *job.Job) (bool, error) {
	good := true
	test := func(what string, of any, needs connect.Needs) error {
		c, stream, ok := connect.Through(of)
		if !ok {
			return nil
		}
		l, err := c.Look()
		if err != nil {
			return err
		}
		defer l.Close()
		making, _ := of.(connect.Making)
		if stream == "" { // a query: reading it tells
			needs = 0
		}
		verdict, ok := judged(l.Try(ctx, stream), needs, making != nil && making.Makes(), c.Kind.Noun+" "+stream)
		good = good && ok
		_, err = fmt.Fprintf(s.out, "%s: %s, %s: %s\n", j.File, what, connect.StreamText(of.(connect.Streaming)), verdict)
		return err
	}
	fit := func(k *job.Sink) error {
		with, ok := k.With.(connect.Fitting)
		if !ok || !good {
			return nil
		}
		steps, err := with.Fit(ctx, k.Schema)
		if err != nil {
			return err
		}
		for _, x := range steps {
			verdict := x.Text
			if x.State == "no" {
				verdict, good = "no: "+x.Text, false
			}
			if _, err := fmt.Fprintf(s.out, "%s: sink %s, %s: %s\n", j.File, k.Name, x.Name, verdict); err != nil {
				return err
			}
		}
		return nil
	}
	for i := range j.Sources {
		if err := test("source "+j.Sources[i].Name, j.Sources[i].With, connect.ByMaking|connect.ByReading); err != nil {
			return false, err
		}
	}
	for i, wanted := range j.Referred() {
		if r := &j.References[i]; wanted && r.Of == nil {
			if err := test("reference "+r.Name, r.With, connect.ByMaking|connect.ByReading); err != nil {
				return false, err
			}
		}
	}
	for i := range j.Sinks {
		k := &j.Sinks[i]
		needs := connect.ByMaking | connect.ByWriting
		if r, ok := k.With.(connect.Replacing); ok {
			if on, _ := r.Replaces(); on {
				needs |= connect.ByReplacing
			}
		}
		if err := test("sink "+k.Name, k.With, needs); err != nil {
			return false, err
		}
		if err := fit(k); err != nil {
			return false, err
		}
	}
	return good, nil
}

// judged words what the steps of a test mean for a source or sink, which needs some of them.
func judged(steps []connect.Step, needs connect.Needs, makes bool, stream string) (verdict string, ok bool) {
	verdict, ok = "ok", true
	for _, k := range steps {
		switch {
		case k.State != "no" || k.Needs&^needs != 0:
		case k.Needs == connect.ByMaking && makes:
			verdict = stream + " is not there; the run makes it"
		default:
			verdict, ok = "not "+k.Name+": "+k.Text, false
		}
	}
	return verdict, ok
}

func showChecked(s *streams, j *job.Job, plan bool, format string) error {
	if !plan {
		references, read := "", len(job.PlanOf(j).Sources)
		if n := len(j.References); n > 0 {
			references = fmt.Sprintf("%d %s, ", n, plural(int64(n), "reference"))
		}
		_, err := fmt.Fprintf(s.out, "%s: job %s is right: %d %s, %s%d %s, %d %s\n", j.File, j.Name,
			read, plural(int64(read), "source"), references, len(j.Steps), plural(int64(len(j.Steps)), "step"), len(j.Sinks), plural(int64(len(j.Sinks)), "sink"))
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
