package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"undertide/access"
	"undertide/api"
	"undertide/client"
)

func newTokens(s *streams) *cobra.Command {
	var r reach
	var format, revoke string
	var ask api.NewToken
	var of api.NewPersonToken
	c := r.command(&cobra.Command{
		Use:   "tokens [JOB]",
		Short: "List, make and revoke tokens: of people, or those by which others may post to a job's source",
		Long: `List, make and revoke tokens. Without JOB they are one's own: programs and commands may do by them what oneself may, or less. A keeper sees and
changes those of all people.

With JOB they are those by which others may post to the job's source, and to nothing else. A source asks for them where its document says
tokens: true, and always beyond loopback.

A token is shown once, when it is made; it is sent as Authorization: Bearer TOKEN. One that is revoked counts no more from that moment on.`,
		Example: `  undertide tokens
  undertide tokens --make dashboard --role reader --for 90d
  undertide tokens --make figures --person prometheus
  undertide tokens --revoke dashboard
  undertide tokens yard-counts
  undertide tokens yard-counts --make gate-north --source passes --rate 200
  undertide tokens yard-counts --revoke gate-north`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		if len(args) == 0 {
			of.Name = ask.Name
			if ask.Source != "" || ask.Rate != 0 {
				return usageError{errors.New("--source and --rate are of a token that posts; name its job")}
			}
			return personTokens(c, s, cl, of, revoke, format)
		}
		switch {
		case of != (api.NewPersonToken{}):
			return usageError{errors.New("--role, --person, --only and --for are of a person's token; leave out the job, or them")}
		case ask.Name != "" && revoke != "":
			return usageError{errors.New("--make and --revoke stand together; give one of them")}
		case ask.Name == "" && (ask.Source != "" || ask.Rate != 0):
			return usageError{errors.New("--source and --rate are of a token that is made; add --make NAME")}
		case ask.Name != "":
			return makeToken(c, s, cl, args[0], ask, format)
		case revoke != "":
			if err := cl.RevokeToken(c.Context(), args[0], revoke); err != nil {
				return err
			}
			s.say("token %s of %s counts no more", revoke, args[0])
			return nil
		}
		list, err := cl.Tokens(c.Context(), args[0])
		if err != nil {
			return err
		}
		return show(s, format, list, func() {
			if len(list) == 0 {
				s.say("job %s has no tokens; undertide tokens %s --make NAME makes one", args[0], args[0])
				return
			}
			var rows [][]string
			for _, t := range list {
				used := "never"
				if t.UsedAt != nil {
					used = ago(*t.UsedAt)
				}
				rows = append(rows, []string{t.Name, t.Source, rateText(t.Rate), ago(t.MadeAt), used})
			}
			grid(s.out, []string{"token", "source", ">events/s", "made", "used"}, rows)
		})
	})
	c.Flags().StringVar(&ask.Name, "make", "", "make a token of this `NAME`, and show it once")
	c.Flags().StringVar(&ask.Source, "source", "", "the `SOURCE` to which it may post (default: the job's only one that takes posts)")
	c.Flags().Int64Var(&ask.Rate, "rate", 0, "how many `EVENTS` a second it may post (default: as many as come)")
	c.Flags().StringVar(&revoke, "revoke", "", "revoke the token of this `NAME`")
	c.Flags().StringVar(&of.Person, "person", "", "whose token it is: the `NAME` of a person (default: oneself)")
	c.Flags().StringVar(&of.Role, "role", "", "what it may do at most: `ROLE` reader, engineer or keeper (default: the person's)")
	c.Flags().StringVar(&of.Job, "only", "", "it is for this `JOB` alone (default: for all)")
	c.Flags().StringVar(&of.For, "for", "", "how `LONG` it lasts, as in 90d (default: until it is revoked)")
	formatFlag(c, &format)
	return c
}

func rateText(rate int64) string {
	if rate == 0 {
		return "any"
	}
	return group(rate)
}

// makeToken makes a token and shows it: alone on standard output, so that a script can take it.
func makeToken(c *cobra.Command, s *streams, cl *client.Client, job string, ask api.NewToken, format string) error {
	made, err := cl.MakeToken(c.Context(), job, ask)
	if err != nil {
		return err
	}
	return show(s, format, made, func() {
		s.say("token %s may post to /in/%s/%s; it is shown this once:", made.Token.Name, job, made.Token.Source)
		fmt.Fprintln(s.out, made.Text)
	})
}

// personTokens lists, makes or revokes tokens of people.
func personTokens(c *cobra.Command, s *streams, cl *client.Client, ask api.NewPersonToken, revoke, format string) error {
	ctx := c.Context()
	switch {
	case ask.Name != "" && revoke != "":
		return usageError{errors.New("--make and --revoke stand together; give one of them")}
	case ask.Name == "" && (ask.Role != "" || ask.Job != "" || ask.For != "" || ask.Person != "" && revoke == ""):
		return usageError{errors.New("--role, --person, --only and --for are of a token that is made; add --make NAME")}
	case ask.Name != "":
		made, err := cl.MakePersonToken(ctx, ask)
		return showAs(s, format, made, err, func() {
			s.say("token %s may do what %s may, for %s; it is shown this once:", made.Token.Name, access.Role(made.Token.Role).A(), made.Token.Person)
			fmt.Fprintln(s.out, made.Text)
		})
	case revoke != "":
		if err := cl.RevokePersonToken(ctx, ask.Person, revoke); err != nil {
			return err
		}
		s.say("token %s counts no more", revoke)
		return nil
	}
	list, err := cl.PersonTokens(ctx)
	return showAs(s, format, list, err, func() {
		if len(list) == 0 {
			s.say("there are no tokens; undertide tokens --make NAME makes one, undertide tokens JOB lists those of a job")
			return
		}
		var rows [][]string
		for _, t := range list {
			used, ends, of := "never", "never", "all"
			if t.UsedAt != nil {
				used = ago(*t.UsedAt)
			}
			if t.EndsAt != nil {
				ends = t.EndsAt.UTC().Format("2006-01-02 15:04")
			}
			if t.Job != "" {
				of = t.Job
			}
			rows = append(rows, []string{t.Person, t.Name, t.Role, of, ago(t.MadeAt), ends, used})
		}
		grid(s.out, []string{"person", "token", "role", "jobs", "made", "ends (UTC)", "used"}, rows)
	})
}
