package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newTokens(s *streams) *cobra.Command {
	var r reach
	var format, revoke string
	var ask api.NewToken
	c := r.command(&cobra.Command{
		Use:   "tokens JOB",
		Short: "List, make and revoke the tokens by which others may post to a job's source",
		Long: `List, make and revoke the tokens by which others may post to a job's source, and to nothing else. A source asks for them
where its document says tokens: true. A token is shown once, when it is made; posters send it as
Authorization: Bearer TOKEN. One that is revoked counts no more from that moment on.`,
		Example: `  undertide tokens yard-counts
  undertide tokens yard-counts --make gate-north --source passes --rate 200
  undertide tokens yard-counts --revoke gate-north`,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		switch {
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
