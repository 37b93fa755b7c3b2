package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"undertide/api"
	"undertide/client"
	"undertide/connect/kafka"
)

func newConnections(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "connections",
		Short: "List the service's connections; add, test and remove them",
		Example: `  undertide connections
  undertide connections add port --brokers 10.0.0.5:9092 --tls --user tide --mechanism scram-sha-512 --password '${secret.port}'
  undertide connections test port --topic crane.lifts`,
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Connections(c.Context())
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, c := range list {
				how := "in the clear"
				if c.TLS != nil {
					how = "TLS"
				}
				who := "nobody signs in"
				if c.SASL != nil {
					who = fmt.Sprintf("%s by %s, %s", c.SASL.User, c.SASL.Mechanism, c.SASL.Password)
				}
				rows = append(rows, []string{c.Name, strings.Join(c.Brokers, ", "), how, who, c.From})
			}
			if len(rows) == 0 {
				s.say("there are no connections yet; add one: undertide connections add NAME --brokers HOST:PORT")
				return
			}
			grid(s.out, []string{"connection", "brokers", "way", "sign-in", "from"}, rows)
		})
	})
	formatFlag(c, &format)
	c.AddCommand(newConnectionsAdd(s), newConnectionsTest(s), newConnectionsRemove(s))
	return c
}

func newConnectionsAdd(s *streams) *cobra.Command {
	var r reach
	var spec api.ConnectionSpec
	var useTLS, noTest bool
	var tls api.TLS
	var sasl api.SASL
	c := r.command(&cobra.Command{
		Use:   "add NAME",
		Short: "Add a connection to a broker, or change it, and test it",
		Long: `Add a connection to a broker, or change it, and test it. A password stands in a secret of the service
(${secret.NAME}, see undertide secrets) or in a variable of the service's environment (${env.NAME}); it
is never given here in the clear.`,
		Example: `  undertide connections add port --brokers 10.0.0.5:9092,10.0.0.6:9092
  undertide connections add port --brokers 10.0.0.5:9093 --tls --ca /etc/port/ca.pem --user tide --mechanism scram-sha-512 --password '${secret.port}'`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		spec.Via = "kafka"
		if useTLS || tls != (api.TLS{}) {
			spec.TLS = &tls
			for _, p := range []*string{&tls.CA, &tls.Cert} { // the service may run elsewhere: certificates travel, keys do not
				if text, err := os.ReadFile(*p); err == nil {
					*p = string(text)
				}
			}
		}
		if sasl.User != "" || sasl.Password != "" {
			spec.SASL = &sasl
		}
		if _, err := cl.PutConnection(c.Context(), args[0], spec); err != nil {
			return err
		}
		s.say("connection %s is stored", args[0])
		if noTest {
			return nil
		}
		return testConnection(c, s, cl, args[0], "", "table")
	})
	f := c.Flags()
	f.StringSliceVar(&spec.Brokers, "brokers", nil, "the brokers' addresses: `HOST:PORT`,…")
	f.BoolVar(&useTLS, "tls", false, "reach it over TLS")
	f.StringVar(&tls.CA, "ca", "", "the `FILE` of the authority that signed its certificate (default: the system's)")
	f.StringVar(&tls.Cert, "cert", "", "the `FILE` of this side's certificate")
	f.StringVar(&tls.Key, "key", "", "its key: ${secret.NAME}, or the path of a `FILE` on the service's machine")
	f.StringVar(&tls.ServerName, "server-name", "", "the `NAME` in the broker's certificate, where it is not that of its address")
	f.StringVar(&sasl.Mechanism, "mechanism", "scram-sha-512", "how to sign in: `WAY` plain, scram-sha-256 or scram-sha-512")
	f.StringVar(&sasl.User, "user", "", "who signs in: `USER`")
	f.StringVar(&sasl.Password, "password", "", "its password: `REFERENCE` ${secret.NAME} or ${env.NAME}")
	f.BoolVar(&noTest, "no-test", false, "do not test it")
	_ = c.MarkFlagRequired("brokers") // the flag stands above
	return c
}

func newConnectionsTest(s *streams) *cobra.Command {
	var n nearest
	var topic, format string
	c := &cobra.Command{
		Use:   "test NAME",
		Short: "Test a connection step by step: reached, signed in, topic seen, may read, may write",
		Long: `Test a connection step by step: whether the broker is reached, lets this side sign in, shows the topic,
and lets it be read and written. No event is written. The exit status is 1 when a step fails.`,
		Example:           "  undertide connections test harbour --topic crane.lifts",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: n.connectionNames,
		RunE: func(c *cobra.Command, args []string) error {
			conn, cl, err := n.find(args[0])
			if err != nil {
				return err
			}
			if cl != nil {
				return without(args[0], testConnection(c, s, cl, args[0], topic, format))
			}
			l, err := kafka.Look(*conn)
			if err != nil {
				return err
			}
			defer l.Close()
			return showTried(s, api.TriedOf(l.Try(c.Context(), topic)), format)
		},
	}
	n.flags(c)
	formatFlag(c, &format)
	c.Flags().StringVar(&topic, "topic", "", "also ask for the rights to `TOPIC`")
	return c
}

func testConnection(c *cobra.Command, s *streams, cl *client.Client, name, topic, format string) error {
	out, err := cl.Test(c.Context(), name, topic)
	if err != nil {
		return err
	}
	return showTried(s, out, format)
}

func showTried(s *streams, t api.Tried, format string) error {
	bad := false
	var rows [][]string
	for _, k := range t.Checks {
		bad = bad || k.State == "no"
		rows = append(rows, []string{k.Name, k.State, k.Text})
	}
	if err := show(s, format, t, func() { grid(s.out, []string{"step", "holds", "found"}, rows) }); err != nil {
		return err
	}
	if bad {
		return silentError{failed}
	}
	return nil
}

func newConnectionsRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a connection that no job uses",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveConnection(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("connection %s is removed", args[0])
		return nil
	})
}

func newSecrets(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:     "secrets",
		Short:   "List the names of the service's secrets; store and remove them",
		Example: "  undertide secrets\n  undertide secrets set port < password.txt\n  undertide secrets remove port",
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Secrets(c.Context())
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			var rows [][]string
			for _, x := range list {
				state := "sealed"
				if !x.Readable {
					state = "sealed with another key: store it again"
				}
				rows = append(rows, []string{x.Name, x.UpdatedAt.UTC().Format("2006-01-02 15:04:05 UTC"), state, strings.Join(x.UsedBy, ", ")})
			}
			if len(rows) == 0 {
				s.say("there are no secrets yet; store one: undertide secrets set NAME")
				return
			}
			grid(s.out, []string{"secret", "stored", "state", "used by"}, rows)
		})
	})
	formatFlag(c, &format)
	c.AddCommand(newSecretsSet(s), newSecretsRemove(s))
	return c
}

func newSecretsSet(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:   "set NAME",
		Short: "Store a secret, which is read from standard input and never shown",
		Long: `Store a secret. Its text is read from standard input: on a terminal it is asked for and not shown,
elsewhere the first line counts.`,
		Example: "  undertide secrets set port < password.txt",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		var text string
		if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			fmt.Fprintf(s.err, "the secret %s (it is not shown): ", args[0])
			b, err := term.ReadPassword(int(f.Fd()))
			fmt.Fprintln(s.err)
			if err != nil {
				return err
			}
			text = string(b)
		} else {
			lines := bufio.NewScanner(s.in)
			lines.Scan()
			text = strings.TrimSuffix(lines.Text(), "\r")
		}
		if text == "" {
			return usageError{errors.New("the secret is empty; give its text on standard input")}
		}
		if _, err := cl.PutSecret(c.Context(), args[0], text); err != nil {
			return err
		}
		s.say("secret %s is stored, sealed; name it as ${secret.%s}", args[0], args[0])
		return nil
	})
}

func newSecretsRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a secret that no connection names",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveSecret(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("secret %s is removed", args[0])
		return nil
	})
}
