package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
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
			of, end, err := schematic(conn, cl, args[0])
			if err != nil {
				return err
			}
			defer end()
			switch {
			case register != "":
				return registerSchema(c.Context(), s, of, format, subject, register)
			case check != "":
				return checkSchema(c.Context(), s, of, format, subject, check)
			}
			list, err := schemas(c.Context(), of, subject)
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

// schematic gives a connection's registry: that which is reached from here, or by the service where conn is nil.
func schematic(conn *connect.Connection, cl *client.Client, name string) (of connect.Schematic, end func(), err error) {
	if conn == nil {
		return &served{cl, name}, func() {}, nil
	}
	l, err := conn.Look()
	if err != nil {
		return nil, nil, err
	}
	if of, err = connect.Can[connect.Schematic](conn, l, "show schemas"); err != nil {
		l.Close()
		return nil, nil, err
	}
	return of, l.Close, nil
}

// served is a registry that a service asks.
type served struct {
	cl   *client.Client
	name string
}

// Schemas implements [connect.Schematic].
func (r *served) Schemas(ctx context.Context, subject string) (out []connect.Schema, err error) {
	list, err := r.cl.Schemas(ctx, r.name, subject)
	for _, v := range list {
		out = append(out, connect.Schema(v))
	}
	return out, without(r.name, err)
}

// Register implements [connect.Schematic].
func (r *served) Register(ctx context.Context, subject, text string) (connect.Schema, error) {
	made, err := r.cl.RegisterSchema(ctx, r.name, api.NewSchema{Subject: subject, Text: text})
	return connect.Schema(made), without(r.name, err)
}

// Fits implements [connect.Schematic].
func (r *served) Fits(ctx context.Context, subject, text string) ([]string, error) {
	fits, err := r.cl.CheckSchema(ctx, r.name, api.NewSchema{Subject: subject, Text: text})
	return fits.Why, without(r.name, err)
}

func schemas(ctx context.Context, of connect.Schematic, subject string) ([]api.Schema, error) {
	found, err := of.Schemas(ctx, subject)
	out := []api.Schema{}
	for _, v := range found {
		out = append(out, api.SchemaOf(v))
	}
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

func registerSchema(ctx context.Context, s *streams, of connect.Schematic, format, subject, path string) error {
	text, err := schemaFile(path)
	if err != nil {
		return err
	}
	made, err := of.Register(ctx, subject, text)
	if err != nil {
		return err
	}
	return show(s, format, api.SchemaOf(made), func() { s.say("it is version %d of %s, with the number %d", made.Version, made.Subject, made.ID) })
}

func checkSchema(ctx context.Context, s *streams, of connect.Schematic, format, subject, path string) error {
	text, err := schemaFile(path)
	if err != nil {
		return err
	}
	why, err := of.Fits(ctx, subject, text)
	if err != nil {
		return err
	}
	err = show(s, format, api.FitsOf(why), func() {
		if len(why) == 0 {
			s.say("it fits the newest version of %s", subject)
		}
	})
	if err != nil || len(why) == 0 {
		return err
	}
	return fmt.Errorf("it does not fit the newest version of %s: %s", subject, strings.Join(why, "; "))
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
