package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"undertide/access"
	"undertide/api"
	"undertide/client"
)

// askHidden reads a line that is not shown: asked for on a terminal, else the first line of standard input.
func askHidden(s *streams, what string) (string, error) {
	if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(s.err, "%s (it is not shown): ", what)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(s.err)
		return string(b), err
	}
	lines := bufio.NewScanner(s.in)
	lines.Scan()
	return strings.TrimSuffix(lines.Text(), "\r"), lines.Err()
}

func newPeople(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:   "people",
		Short: "List who may sign in; add, change and remove people",
		Long: `List who may sign in, with their roles: a reader sees figures, maps and states of jobs; an engineer also rows, events and documents, and saves,
starts and stops jobs; a keeper also keeps connections, secrets, notices, people and settings.`,
		Example: `  undertide people
  undertide people add ann --role engineer
  undertide people change ann --role keeper
  undertide people code ann
  undertide people remove ann`,
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.People(c.Context())
		return showAs(s, format, list, err, func() { peopleLines(s, list) })
	})
	formatFlag(c, &format)
	c.AddCommand(newPeopleAdd(s), newPeopleChange(s), newPeopleCode(s), newPeopleRemove(s))
	return c
}

func peopleLines(s *streams, list []api.Person) {
	if len(list) == 0 {
		s.say("there are no people yet; add the first: undertide people add NAME --role keeper")
		return
	}
	var rows [][]string
	for _, p := range list {
		seen := "never"
		switch {
		case p.SeenAt != nil:
			seen = ago(*p.SeenAt)
		case p.Waits:
			seen = "never; a code waits"
		}
		rows = append(rows, []string{p.Name, p.Role, p.Email, ago(p.MadeAt), seen, strings.Join(p.Owns, ", ")})
	}
	grid(s.out, []string{"person", "role", "mail", "added", "was here", "owns"}, rows)
}

// showCode shows where somebody chooses a password: the address alone on standard output.
func showCode(s *streams, r *reach, made api.MadePerson, err error, format string) error {
	return showAs(s, format, made, err, func() {
		s.say("%s chooses a password at this address, once, until %s:", made.Person.Name, made.EndsAt.UTC().Format("2006-01-02 15:04 UTC"))
		fmt.Fprintln(s.out, addressKey(r.address())+made.Path)
	})
}

func roleFlag(c *cobra.Command, role *string, def string) {
	c.Flags().StringVar(role, "role", def, "what they may do: `ROLE` reader, engineer or keeper")
	_ = c.RegisterFlagCompletionFunc("role", cobra.FixedCompletions([]string{"reader", "engineer", "keeper"}, cobra.ShellCompDirectiveNoFileComp)) // the flag stands above
}

func newPeopleAdd(s *streams) *cobra.Command {
	var r reach
	var ask api.NewPerson
	var format string
	c := r.command(&cobra.Command{
		Use:   "add NAME",
		Short: "Add somebody, and show the address where they choose a password, once",
		Long: `Add somebody, and show the address where they choose a password. It counts once, and for three days. Who has a mail address can also come by single sign-on,
where the service has one. The first person has to be a keeper: from then on whoever asks has to sign in.`,
		Example: `  undertide people add ann --role engineer
  undertide people add prometheus --role reader`,
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		ask.Name = args[0]
		made, err := cl.AddPerson(c.Context(), ask)
		return showCode(s, &r, made, err, format)
	})
	roleFlag(c, &ask.Role, "reader")
	c.Flags().StringVar(&ask.Email, "mail", "", "the `ADDRESS` by which single sign-on knows them")
	formatFlag(c, &format)
	return c
}

func newPeopleChange(s *streams) *cobra.Command {
	var r reach
	var role, mail, format string
	c := r.command(&cobra.Command{
		Use:               "change NAME",
		Short:             "Change somebody's role or mail address; it counts at once",
		Example:           "  undertide people change ann --role keeper",
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		var ask api.ChangedPerson
		if c.Flags().Changed("role") {
			ask.Role = &role
		}
		if c.Flags().Changed("mail") {
			ask.Email = &mail
		}
		if ask.Role == nil && ask.Email == nil {
			return usageError{errors.New("say what changes: --role or --mail")}
		}
		p, err := cl.ChangePerson(c.Context(), args[0], ask)
		return showAs(s, format, p, err, func() { s.say("%s is %s", p.Name, access.Role(p.Role).A()) })
	})
	roleFlag(c, &role, "")
	c.Flags().StringVar(&mail, "mail", "", "the `ADDRESS` by which single sign-on knows them; '' for none")
	formatFlag(c, &format)
	return c
}

func newPeopleCode(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:               "code NAME",
		Short:             "Show an address where somebody chooses another password; their sessions end",
		Example:           "  undertide people code ann",
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		made, err := cl.RenewPerson(c.Context(), args[0])
		return showCode(s, &r, made, err, format)
	})
	formatFlag(c, &format)
	return c
}

func newPeopleRemove(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:               "remove NAME",
		Short:             "Remove somebody: their sessions and tokens end at once",
		Example:           "  undertide people remove ann",
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if err := cl.RemovePerson(c.Context(), args[0]); err != nil {
			return err
		}
		s.say("%s is removed", args[0])
		return nil
	})
}

func newOwners(s *streams) *cobra.Command {
	var r reach
	var nobody bool
	var format string
	c := r.command(&cobra.Command{
		Use:   "owners JOB [NAME...]",
		Short: "Say who may change a job, beside keepers",
		Long: `Show or say who may change a job, beside keepers: save, start, stop and delete it. Of a job without owners every engineer may. Whoever may
look at it may still do so.`,
		Example: `  undertide owners mean-level
  undertide owners mean-level ann ben
  undertide owners mean-level --nobody`,
	}, nil)
	c.Args = cobra.MinimumNArgs(1)
	c.RunE = func(c *cobra.Command, args []string) error {
		cl, err := r.client()
		if err != nil {
			return err
		}
		var j api.Job
		switch {
		case nobody && len(args) > 1:
			return usageError{errors.New("--nobody takes no names; leave out one of them")}
		case nobody || len(args) > 1:
			j, err = cl.PutOwners(c.Context(), args[0], append([]string{}, args[1:]...))
		default:
			j, err = cl.Job(c.Context(), args[0])
		}
		return showAs(s, format, api.Owners{Owners: j.Owners}, err, func() {
			if len(j.Owners) == 0 {
				s.say("job %s has no owners: every engineer may change it", j.Name)
				return
			}
			fmt.Fprintln(s.out, strings.Join(j.Owners, "\n"))
		})
	}
	c.Flags().BoolVar(&nobody, "nobody", false, "it has no owners any more")
	formatFlag(c, &format)
	return c
}

func newTrail(s *streams) *cobra.Command {
	var r reach
	var who, on, since, format string
	var limit int
	c := r.command(&cobra.Command{
		Use:   "trail",
		Short: "List who did what, newest first: changes, and what was not let",
		Example: `  undertide trail
  undertide trail --who ann --since 24h
  undertide trail --on mean-level --format json`,
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		list, err := cl.Trail(c.Context(), who, on, since, limit)
		return showAs(s, format, list, err, func() {
			if len(list) == 0 {
				s.say("nothing was done")
				return
			}
			var rows [][]string
			for _, l := range list {
				target := l.Target
				if l.Version > 0 {
					target = fmt.Sprintf("%s, version %d", target, l.Version)
				}
				rows = append(rows, []string{l.At.UTC().Format("2006-01-02 15:04:05"), l.Who, l.Address, l.Action, target, l.Outcome})
			}
			grid(s.out, []string{"when (UTC)", "who", "from", "did", "on", "outcome"}, rows)
		})
	})
	f := c.Flags()
	f.StringVar(&who, "who", "", "only of this `PERSON`")
	f.StringVar(&on, "on", "", "only on this `NAME`, such as a job")
	f.StringVar(&since, "since", "", "only since this `TIME`, or a duration before now")
	f.IntVar(&limit, "limit", 40, "at most `N`")
	formatFlag(c, &format)
	return c
}

func newMe(s *streams) *cobra.Command {
	var r reach
	var format string
	c := r.command(&cobra.Command{
		Use:     "me",
		Short:   "Say who the service takes you for, and what you may do",
		Example: "  undertide me",
	}, func(c *cobra.Command, cl *client.Client, _ []string) error {
		me, err := cl.Me(c.Context())
		return showAs(s, format, me, err, func() {
			switch {
			case !me.SignedIn:
				s.say("you are not signed in; undertide sign-in NAME")
			case me.Name == "":
				fmt.Fprintf(s.out, "you are on this machine, and %s\n", access.Role(me.Role).A())
			default:
				fmt.Fprintf(s.out, "you are %s, and %s\n", me.Name, access.Role(me.Role).A())
			}
		})
	})
	formatFlag(c, &format)
	return c
}

func newSignIn(s *streams) *cobra.Command {
	var r reach
	var name, lasts string
	c := r.command(&cobra.Command{
		Use:   "sign-in NAME",
		Short: "Sign in: make a token for the commands of this user on this machine, and keep it",
		Long: `Sign in: make a token by which the commands of this user on this machine may do what you may, and keep it, with the authority that was given, in the
user's configuration folder. The password is read from standard input: on a terminal it is asked for and not shown, elsewhere the first line counts. On the
machine of a service that listens on loopback its user and root need not sign in.`,
		Example: `  undertide sign-in ann --server https://tide.example.org:7400
  undertide sign-in ann --server https://10.0.0.5:7400 --authority ca.pem --for 30d`,
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		all, err := readSignIns()
		if err != nil {
			return err
		}
		password, err := askHidden(s, "the password of "+args[0])
		if err != nil {
			return err
		}
		if name == "" {
			if name, err = os.Hostname(); err != nil {
				return fmt.Errorf("the name of this machine: %w; name the token with --token-name", err)
			}
		}
		made, err := cl.SignIn(c.Context(), api.SignIn{Name: args[0], Password: password}, api.NewPersonToken{Name: name, For: lasts})
		if err != nil {
			return err
		}
		kept := signedIn{Name: made.Token.Person, Token: made.Text, TokenName: made.Token.Name}
		if file := r.authorityFile(); file != "" {
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			kept.Authority = string(text)
		}
		all[addressKey(r.address())] = kept
		if err := all.write(); err != nil {
			return err
		}
		s.say("you are %s at %s, and %s; undertide sign-out ends it", made.Token.Person, addressKey(r.address()), access.Role(made.Token.Role).A())
		return nil
	})
	c.Flags().StringVar(&name, "token-name", "", "the `NAME` of the token (default: that of this machine)")
	c.Flags().StringVar(&lasts, "for", "90d", "how `LONG` it lasts")
	return c
}

func (r *reach) authorityFile() string {
	if r.authority != "" {
		return r.authority
	}
	return os.Getenv("UNDERTIDE_AUTHORITY")
}

func newSignOut(s *streams) *cobra.Command {
	var r reach
	return r.command(&cobra.Command{
		Use:     "sign-out",
		Short:   "Revoke the token that sign-in made, and forget it",
		Example: "  undertide sign-out --server https://tide.example.org:7400",
	}, func(c *cobra.Command, _ *client.Client, _ []string) error {
		all, err := readSignIns()
		if err != nil {
			return err
		}
		kept, there := all.at(r.address())
		if !there {
			return fmt.Errorf("nobody has signed in at %s from here; undertide sign-in NAME", addressKey(r.address()))
		}
		cl, err := client.New(r.address(), client.Options{Token: kept.Token, Authority: []byte(kept.Authority)})
		if err != nil {
			return err
		}
		err = cl.RevokePersonToken(c.Context(), "", kept.TokenName)
		var p *api.Problem
		if err != nil && !errors.As(err, &p) { // one that counts no more is forgotten all the same
			return err
		}
		delete(all, addressKey(r.address()))
		if err := all.write(); err != nil {
			return err
		}
		s.say("%s has signed out at %s", kept.Name, addressKey(r.address()))
		return nil
	})
}
