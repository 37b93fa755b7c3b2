package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/connect"
)

func newSchemas(s *streams) *cobra.Command {
	var n nearest
	var format, register, check string
	var version int
	c := &cobra.Command{
		Use:   "schemas CONNECTION [SUBJECT]",
		Short: "List the schemas of a connection's registry; show, register and compare them",
		Long: `List the subjects of a connection's schema registry with the newest version of each, or all versions of
one. --version shows one as it is. --register adds the schema of a file to a subject, unless it has it;
--check says whether it fits the newest version, and registers nothing. The subject of a topic's messages
is TOPIC-value.`,
		Example: `  undertide schemas harbour
  undertide schemas harbour weights-value
  undertide schemas harbour weights-value --version 2
  undertide schemas harbour weights-value --check weights.avsc`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: n.connectionNames,
		RunE: func(c *cobra.Command, args []string) error {
			conn, cl, err := n.find(args[0])
			if err != nil {
				return err
			}
			if register != "" && check != "" {
				return usageError{fmt.Errorf("--register and --check stand together; give one of them")}
			}
			subject := strings.Join(args[1:], "")
			if subject == "" && (register != "" || check != "" || version > 0) {
				return usageError{fmt.Errorf("the subject is not named; give it behind the connection, such as weights-value")}
			}
			of := schemasOf{conn, func(ctx context.Context, subject string) ([]api.Schema, error) {
				list, err := cl.Schemas(ctx, args[0], subject)
				return list, without(args[0], err)
			}, func(ctx context.Context, in api.NewSchema) (api.Schema, error) {
				made, err := cl.RegisterSchema(ctx, args[0], in)
				return made, without(args[0], err)
			}, func(ctx context.Context, in api.NewSchema) (api.Fits, error) {
				fits, err := cl.CheckSchema(ctx, args[0], in)
				return fits, without(args[0], err)
			}}
			switch {
			case register != "":
				return of.register(c.Context(), s, format, subject, register)
			case check != "":
				return of.check(c.Context(), s, format, subject, check)
			}
			list, err := of.list(c.Context(), subject)
			if err != nil {
				return err
			}
			if version > 0 {
				return showSchema(s, format, list, subject, version)
			}
			return show(s, format, list, func() { schemaTable(s, list) })
		},
	}
	n.flags(c)
	formatFlag(c, &format)
	c.Flags().IntVar(&version, "version", 0, "show version `N` of the subject as it is")
	c.Flags().StringVar(&register, "register", "", "add the schema of `FILE` to the subject")
	c.Flags().StringVar(&check, "check", "", "say whether the schema of `FILE` fits the newest version of the subject")
	return c
}

// schemasOf reaches a registry from here, or by the service.
type schemasOf struct {
	conn     *connect.Connection // nil: by the service
	askList  func(context.Context, string) ([]api.Schema, error)
	askMake  func(context.Context, api.NewSchema) (api.Schema, error)
	askCheck func(context.Context, api.NewSchema) (api.Fits, error)
}

// here does something with a registry that is reached from here.
func (o schemasOf) here(do func(connect.Schematic) error) error {
	l, err := o.conn.Look()
	if err != nil {
		return err
	}
	defer l.Close()
	of, err := connect.Can[connect.Schematic](o.conn, l, "show schemas")
	if err != nil {
		return err
	}
	return do(of)
}

func (o schemasOf) list(ctx context.Context, subject string) (out []api.Schema, err error) {
	if o.conn == nil {
		return o.askList(ctx, subject)
	}
	out = []api.Schema{}
	err = o.here(func(of connect.Schematic) error {
		found, err := of.Schemas(ctx, subject)
		for _, v := range found {
			out = append(out, api.SchemaOf(v))
		}
		return err
	})
	return out, err
}

// schemaFile reads a schema.
func schemaFile(path string) (string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return "", usageError{fmt.Errorf("the schema cannot be read: %w; name a file of it (.avsc)", err)}
	}
	return string(text), nil
}

func (o schemasOf) register(ctx context.Context, s *streams, format, subject, path string) error {
	text, err := schemaFile(path)
	if err != nil {
		return err
	}
	var made api.Schema
	if o.conn == nil {
		made, err = o.askMake(ctx, api.NewSchema{Subject: subject, Text: text})
	} else {
		err = o.here(func(of connect.Schematic) error {
			v, err := of.Register(ctx, subject, text)
			made = api.SchemaOf(v)
			return err
		})
	}
	if err != nil {
		return err
	}
	return show(s, format, made, func() { s.say("it is version %d of %s, with the number %d", made.Version, made.Subject, made.ID) })
}

func (o schemasOf) check(ctx context.Context, s *streams, format, subject, path string) error {
	text, err := schemaFile(path)
	if err != nil {
		return err
	}
	var fits api.Fits
	if o.conn == nil {
		fits, err = o.askCheck(ctx, api.NewSchema{Subject: subject, Text: text})
	} else {
		err = o.here(func(of connect.Schematic) error {
			why, err := of.Fits(ctx, subject, text)
			fits = api.Fits{Fits: len(why) == 0, Why: append([]string{}, why...)}
			return err
		})
	}
	if err != nil {
		return err
	}
	if err := show(s, format, fits, func() {
		if fits.Fits {
			s.say("it fits the newest version of %s", subject)
		}
	}); err != nil || fits.Fits {
		return err
	}
	return fmt.Errorf("it does not fit the newest version of %s: %s", subject, strings.Join(fits.Why, "; "))
}

func showSchema(s *streams, format string, list []api.Schema, subject string, version int) error {
	for _, v := range list {
		if v.Version == version {
			return show(s, format, v, func() { fmt.Fprintln(s.out, v.Text) })
		}
	}
	return fmt.Errorf("subject %s has no version %d; see undertide schemas CONNECTION %s", subject, version, subject)
}

func schemaTable(s *streams, list []api.Schema) {
	if len(list) == 0 {
		s.say("the registry has no schemas yet; add one with --register")
		return
	}
	var rows [][]string
	for _, v := range list {
		fields := strings.Join(v.Fields, ", ")
		if fields == "" {
			fields = "no record"
		}
		rows = append(rows, []string{v.Subject, fmt.Sprint(v.Version), fmt.Sprint(v.ID), fields})
	}
	grid(s.out, []string{"subject", ">version", ">number", "fields"}, rows)
}
