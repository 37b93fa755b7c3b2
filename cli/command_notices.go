package cli

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
)

func newNotices(s *streams) *cobra.Command {
	var r reach
	var format, file string
	var everything, try, remove bool
	c := r.command(&cobra.Command{
		Use:   "notices [NAME]",
		Short: "List, make, try and remove the ways by which people are told of alarms",
		Long: `List, make, try and remove the ways by which people are told of alarms. A notice is a sink of kind mail or http, as it stands below
sinks: in a document, without from; its rows have the fields job, alarm, state (on or off), about and at:

  via: mail
  with:
    connection: post
    to: [keeper@saltmarsh.example]
    subject: "{alarm} of {job} is {state}"
    template: "{about}, at {at:%H:%M:%S}"`,
		Example: `  undertide notices
  undertide notices duty --put duty.yaml
  undertide notices duty --put - --everything < duty.yaml
  undertide notices duty --try
  undertide notices duty --remove`,
		ValidArgsFunction: cobra.NoFileCompletions,
	}, func(c *cobra.Command, cl *client.Client, args []string) error {
		acts := 0
		for _, is := range []bool{file != "", try, remove} {
			if is {
				acts++
			}
		}
		switch {
		case acts > 1:
			return usageError{errors.New("--put, --try and --remove do different things; give one of them")}
		case acts == 1 && len(args) == 0:
			return usageError{errors.New("name the notice, as in undertide notices duty --try")}
		case everything && file == "":
			return usageError{errors.New("--everything is of a notice that is made; add --put FILE")}
		case file != "":
			text, err := readText(s, file)
			if err != nil {
				return err
			}
			n, err := cl.PutNotice(c.Context(), args[0], api.NewNotice{Text: text, Everything: everything})
			return showAs(s, format, n, err, func() {
				s.say("notice %s is kept; undertide notices %s --try tells something by it", n.Name, n.Name)
			})
		case try:
			if err := cl.TryNotice(c.Context(), args[0]); err != nil {
				return err
			}
			s.say("notice %s was taken", args[0])
			return nil
		case remove:
			if err := cl.RemoveNotice(c.Context(), args[0]); err != nil {
				return err
			}
			s.say("notice %s is removed", args[0])
			return nil
		}
		list, err := cl.Notices(c.Context())
		return showAs(s, format, list, err, func() { noticeLines(s, list, args) })
	})
	formatFlag(c, &format)
	f := c.Flags()
	f.StringVar(&file, "put", "", "make or change it, by the text in `FILE` (- for standard input)")
	f.BoolVar(&everything, "everything", false, "with --put: it is told of every alarm")
	f.BoolVar(&try, "try", false, "tell something by it now")
	f.BoolVar(&remove, "remove", false, "remove it, and what it was to tell")
	return c
}

// readText reads a file, or standard input.
func readText(s *streams, path string) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(io.LimitReader(s.in, 1<<20))
		return string(text), err
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

func noticeLines(s *streams, list []api.Notice, args []string) {
	if len(list) == 0 {
		s.say("there are no notices; make one: undertide notices NAME --put FILE")
		return
	}
	var rows [][]string
	for _, n := range list {
		if len(args) > 0 && n.Name == args[0] {
			fmt.Fprintln(s.out, n.Text)
		}
		of, last := "alarms that name it", "never"
		if n.Everything {
			of = "every alarm"
		}
		if n.LastAt != nil {
			last = ago(*n.LastAt)
		}
		rows = append(rows, []string{n.Name, of, group(n.Told), last, fmt.Sprint(n.Waiting), harmless(n.Trouble)})
	}
	grid(s.out, []string{"notice", "tells of", ">told", "last", ">waiting", "trouble"}, rows)
}
