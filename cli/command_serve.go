package cli

import (
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"undertide/console"
	"undertide/job"
	"undertide/service"
)

func newServe(s *streams) *cobra.Command {
	var o service.Options
	var level string
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service: jobs, API and console",
		Long: `Run the service: it keeps jobs running and serves the API and the console. Ctrl-C stops all runs
with a checkpoint; they go on when it is started again.

Without --database it runs a private PostgreSQL in the data folder, on a free port of loopback, as an
unprivileged user. Connections of undertide.yaml in the working folder are known to all jobs.`,
		Example: `  undertide serve
  undertide serve --data /srv/undertide --database postgres://tide:…@db:5432/tide`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var err error
			if o.Log, err = logTo(s, level); err != nil {
				return err
			}
			if o.Connections, err = job.LoadConnections(job.ConnectionsFile); err != nil {
				return err
			}
			if o.Data, err = dataFolder(o.Data, ""); err != nil {
				return err
			}
			o.Version, o.Console = Version, console.Files()
			o.Ready = func(address string) { s.say("the console is at %s; Ctrl-C stops all runs with a checkpoint", address) }
			return service.Serve(c.Context(), o)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", service.DefaultListen, "the `ADDRESS` to listen on, on loopback; port 0 for a free one")
	f.StringVar(&o.Data, "data", "", "the `FOLDER` for checkpoints, logs and the private database (default: /var/lib/undertide for root, else under the user's data folder)")
	f.StringVar(&o.Database, "database", os.Getenv("UNDERTIDE_DATABASE"), "the `URL` of a PostgreSQL (default: UNDERTIDE_DATABASE, or a private one)")
	f.Lookup("database").DefValue = "" // it may hold a password
	f.IntVar(&o.KeepRows, "keep-rows", 10_000, "how many rows of each step are kept for looking")
	f.StringVar(&level, "log-level", "info", "what is logged to standard error: `LEVEL` debug, info, warn or error")
	_ = c.MarkFlagDirname("data") // the flag stands above
	return c
}

func logTo(s *streams, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usageError{errLevel(level)}
	}
	return slog.New(slog.NewTextHandler(s.err, &slog.HandlerOptions{Level: l})), nil
}

// dataFolder gives the absolute path of the data folder, by default the user's, or root's.
func dataFolder(given, part string) (string, error) {
	if given != "" {
		return filepath.Abs(given)
	}
	base := "/var/lib"
	if os.Geteuid() != 0 {
		if base = os.Getenv("XDG_DATA_HOME"); base == "" {
			home, err := os.UserHomeDir()
			if err != nil {
				return "", err
			}
			base = filepath.Join(home, ".local", "share")
		}
	}
	return filepath.Join(base, "undertide", part), nil
}
