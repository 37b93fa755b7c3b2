package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"undertide/api"
	"undertide/client"
	"undertide/connect"
	"undertide/connect/settings"
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
				rows = append(rows, []string{c.Name, c.Via, c.Reaches, c.Way, strings.Join(append([]string{c.SignIn}, references(c.Settings)...), ", "), c.From})
			}
			if len(rows) == 0 {
				s.say("there are no connections yet; add one: undertide connections add NAME --brokers HOST:PORT")
				return
			}
			grid(s.out, []string{"connection", "via", "reaches", "way", "sign-in", "from"}, rows)
		})
	})
	formatFlag(c, &format)
	c.AddCommand(newConnectionsAdd(s), newConnectionsTest(s), newConnectionsRemove(s))
	return c
}

// references gives the secrets and variables that settings name.
func references(v any) (out []string) {
	switch x := v.(type) {
	case string:
		if strings.HasPrefix(x, "${") {
			out = append(out, x)
		}
	case map[string]any:
		for _, name := range sorted(x) {
			out = append(out, references(x[name])...)
		}
	case []any:
		for _, e := range x {
			out = append(out, references(e)...)
		}
	}
	return out
}

func newConnectionsAdd(s *streams) *cobra.Command {
	var r reach
	var via string
	var noTest bool
	given := settingFlags{values: map[string]*string{}}
	c := r.command(&cobra.Command{
		Use:   "add NAME",
		Short: "Add a connection, or change it, and test it",
		Long: `Add a connection to what a kind of connector reaches, or change it, and test it. A password stands in a
secret of the service (${secret.NAME}, see undertide secrets) or in a variable of the service's environment
(${env.NAME}); it is never given here in the clear.`,
		Example: `  undertide connections add port --brokers 10.0.0.5:9092,10.0.0.6:9092
  undertide connections add port --brokers 10.0.0.5:9093 --tls --ca /etc/port/ca.pem --user tide --mechanism scram-sha-512 --password '${secret.port}'`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		kind := connect.KindNamed(via)
		if kind == nil || kind.Link == nil {
			return usageError{fmt.Errorf("--via %s is not a kind of connector that has connections; there are %s", via, strings.Join(linkKinds(), ", "))}
		}
		spec := api.ConnectionSpec{Via: via, Settings: given.group("", settings.Of(kind.Link()), c.Flags().Changed)}
		if _, err := cl.PutConnection(c.Context(), args[0], spec); err != nil {
			return err
		}
		s.say("connection %s is stored", args[0])
		if noTest {
			return nil
		}
		return testConnection(c, s, cl, args[0], "", "table")
	})
	c.Flags().StringVar(&via, "via", usualLink(), "the kind of connector: `KIND` "+strings.Join(linkKinds(), ", "))
	c.Flags().BoolVar(&noTest, "no-test", false, "do not test it")
	for _, k := range connect.Kinds() {
		if k.Link != nil {
			given.flags(c.Flags(), k.Name, "", settings.Of(k.Link()))
		}
	}
	return c
}

// usualLink is the kind that most connections are of: that of streams which a connection lists.
func usualLink() string {
	for _, k := range connect.Kinds() {
		if k.Link != nil && k.Lists {
			return k.Name
		}
	}
	return linkKinds()[0]
}

func linkKinds() (out []string) {
	for _, k := range connect.Kinds() {
		if k.Link != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

// settingFlags are flags for described settings: one for each, named as it is, and one that gives a group as it is.
type settingFlags struct {
	values map[string]*string
}

// flagOf names the flag of a setting; within is what those of its group begin with.
func flagOf(within string, s *settings.Setting) string {
	return within + strings.ReplaceAll(s.Name, "_", "-")
}

// members gives what the flags of a group's members begin with.
func members(within string, s *settings.Setting) string {
	if s.Own {
		return flagOf(within, s) + "-"
	}
	return within
}

// flags adds the flags that there are not yet: kinds share those of one name.
func (f *settingFlags) flags(set *pflag.FlagSet, kind, within string, list []settings.Setting) {
	for i := range list {
		s := &list[i]
		name := flagOf(within, s)
		if s.Type == settings.Group {
			f.flags(set, kind, members(within, s), s.Settings)
			if len(s.Settings) > 0 && !slices.ContainsFunc(s.Settings, func(x settings.Setting) bool { return x.Required }) && set.Lookup(name) == nil {
				set.Bool(name, false, about(s))
			}
			continue
		}
		if there := set.Lookup(name); there == nil {
			v := settingValue(s.First)
			f.values[name] = (*string)(&v)
			set.Var(&v, name, about(s))
		} else if !strings.Contains(there.Usage, about(s)) {
			there.Usage += "; " + kind + ": " + about(s)
		}
	}
}

// settingValue is the text of a setting; help calls it VALUE.
type settingValue string

func (v *settingValue) String() string { return string(*v) }
func (v *settingValue) Set(text string) error {
	*v = settingValue(text)
	return nil
}
func (*settingValue) Type() string { return "VALUE" }

func about(s *settings.Setting) string {
	text := s.About
	if text == "" {
		text = s.Label
	}
	if len(text) > 1 && strings.ToLower(text[1:2]) == text[1:2] { // TLS stays as it is
		text = strings.ToLower(text[:1]) + text[1:]
	}
	text = strings.TrimSuffix(text, ".")
	if len(s.Choices) > 0 {
		text += ": " + strings.Join(s.Choices, ", ")
	}
	return text
}

// group gives what was given of the settings, as a document would write it. A member of a group gives the group.
func (f *settingFlags) group(within string, list []settings.Setting, changed func(string) bool) map[string]any {
	out := map[string]any{}
	for i := range list {
		s := &list[i]
		name := flagOf(within, s)
		switch {
		case s.Type == settings.Group:
			if inner := f.group(members(within, s), s.Settings, changed); changed(name) || anyChanged(members(within, s), s.Settings, changed) {
				out[s.Name] = inner
			}
		case s.Type == settings.Texts && changed(name):
			var items []string
			for _, v := range strings.Split(*f.values[name], ",") {
				items = append(items, strings.TrimSpace(v))
			}
			out[s.Name] = items
		case changed(name) || s.First != "":
			out[s.Name] = travelling(s, *f.values[name])
		}
	}
	return out
}

func anyChanged(within string, list []settings.Setting, changed func(string) bool) bool {
	return slices.ContainsFunc(list, func(s settings.Setting) bool {
		return changed(flagOf(within, &s)) || anyChanged(members(within, &s), s.Settings, changed)
	})
}

// travelling gives the text of a certificate in place of its path: the service may run elsewhere. Keys do not travel.
func travelling(s *settings.Setting, text string) string {
	if s.Type != settings.PEM {
		return text
	}
	if inside, err := os.ReadFile(text); err == nil {
		return string(inside)
	}
	return text
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
			l, err := conn.Look()
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
		Use:     "remove NAME",
		Short:   "Remove a connection that no job uses",
		Example: "  undertide connections remove port",
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
	c.AddCommand(newSecretsSet(s), newSecretsRemove(s), newSecretsRotate(s))
	return c
}

func newSecretsSet(s *streams) *cobra.Command {
	var r reach
	var addresses []string
	c := r.command(&cobra.Command{
		Use:   "set NAME",
		Short: "Store a secret, which is read from standard input and never shown",
		Long: `Store a secret. Its text is read from standard input: on a terminal it is asked for and not shown,
elsewhere the first line counts.

A secret is sent to no other addresses than those that it was stored for: those of --for, or of the connections that
name it, or else of whoever uses it first.`,
		Example: `  undertide secrets set port < password.txt
  undertide secrets set port --for b1:9092,b2:9092 < password.txt`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		text, err := askHidden(s, "the secret "+args[0])
		if err != nil {
			return err
		}
		if text == "" {
			return usageError{errors.New("the secret is empty; give its text on standard input")}
		}
		if _, err := cl.PutSecret(c.Context(), args[0], text, addresses); err != nil {
			return err
		}
		s.say("secret %s is stored, sealed; name it as ${secret.%s}", args[0], args[0])
		return nil
	})
	c.Flags().StringSliceVar(&addresses, "for", nil, "the `HOST:PORT`s that the secret may be sent to")
	return c
}

func newSecretsRotate(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:   "rotate",
		Short: "Seal all secrets anew, with another key",
		Long: `Seal all secrets anew: with another key, or, where the service takes it from elsewhere (serve --secret-key-from), with the one that its
first source gives now. All of them are, or none is.`,
		Example: "  undertide secrets rotate",
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		n, err := cl.RotateSecrets(c.Context())
		if err != nil {
			return err
		}
		s.say("%s sealed anew", map[bool]string{true: "1 secret is", false: fmt.Sprintf("%d secrets are", n)}[n == 1])
		return nil
	})
}

func newSecretsRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "remove NAME",
		Short:   "Remove a secret that no connection names",
		Example: "  undertide secrets remove port",
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemoveSecret(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("secret %s is removed", args[0])
		return nil
	})
}
