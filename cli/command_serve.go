package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"undertide/access"
	"undertide/account"
	"undertide/console"
	"undertide/job"
	"undertide/service"
)

func newServe(s *streams) *cobra.Command {
	var o service.Options
	var level, user string
	var on service.SignOn
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service: jobs, API and console",
		Long: `Run the service: it keeps jobs running and serves the API and the console. Ctrl-C stops all runs
with a checkpoint; they go on when it is started again.

Without --database it runs a private PostgreSQL in the data folder. Connections of undertide.yaml in the working
folder are known to all jobs; what --files, --env and --user say may stand there too, below service.

Whoever reaches the service can have it read and write files: it opens none but those of the folders of --files.
Root has to name a user with --user: the service runs as this one.`,
		Example: `  undertide serve --files /srv/harbour
  undertide serve --user undertide --files /srv/harbour,/srv/out --env HARBOUR
  undertide serve --data /srv/undertide --database postgres://tide:…@db:5432/tide`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var err error
			if o.Log, err = logTo(s, level); err != nil {
				return err
			}
			set, err := job.LoadSettings(job.ConnectionsFile)
			if err != nil {
				return err
			}
			o.Connections = set.Connections
			if !c.Flags().Changed("files") {
				o.Files = set.Files
			}
			if !c.Flags().Changed("env") {
				o.Env = set.Env
			}
			if user == "" {
				user = set.User
			}
			for i, dir := range o.Files {
				if o.Files[i], err = filepath.Abs(dir); err != nil {
					return err
				}
			}
			if o.Data, err = dataFolder(o.Data, ""); err != nil {
				return err
			}
			if err := become(user, o.Data); err != nil {
				return err
			}
			if o.SignOn, err = signOnOf(on); err != nil {
				return err
			}
			o.Version, o.Console = Version, console.Files()
			o.Enter = func(address string) { s.say("become the first keeper, once, at %s", address) }
			o.Ready = func(address string) { s.say("the console is at %s; Ctrl-C stops all runs with a checkpoint", address) }
			return service.Serve(c.Context(), o)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", service.DefaultListen, "the `ADDRESS` to listen on; port 0 for a free one. Beyond loopback only with a certificate")
	f.StringVar(&o.TLSCert, "tls-cert", "", "the `FILE` of the service's certificate, with those that lead to its authority (PEM); it is read again as it changes")
	f.StringVar(&o.TLSKey, "tls-key", "", "the `FILE` of the certificate's key (PEM)")
	f.StringVar(&o.PublicName, "public-name", "", "the `NAME` of this machine for which an authority gives the certificate by itself, in place of --tls-cert; you take its terms by that")
	f.StringVar(&o.ACME, "acme", "", "the directory of that authority: `URL` (default: Let's Encrypt's)")
	f.StringSliceVar(&o.Behind, "behind", nil, "the `ADDRESS`es of proxies that have the certificate in place of the service; connections of others are not taken")
	f.StringSliceVar(&o.Hosts, "host", nil, "the `NAME`s by which the service may be called, beside its address")
	f.StringArrayVar(&o.SecretKeyFrom, "secret-key-from", nil, "the `PLACE` of the key of secrets: file:PATH, env:NAME or command:LINE; may be repeated, then the first seals and all open (default: a file in the data folder)")
	f.StringVar(&on.Issuer, "sign-on", "", "people may also sign in by the OpenID Connect provider at `URL`; its secret for this service is in UNDERTIDE_SIGN_ON_SECRET")
	f.StringVar(&on.Client, "sign-on-client", "undertide", "what this service is called there: `ID`")
	f.StringVar(&on.Name, "sign-on-name", "", "what people call the provider: `NAME` (default: its address)")
	f.StringVar(&on.Newcomers, "sign-on-newcomers", "", "the `ROLE` of whoever comes by it for the first time (default: keepers add them before)")
	f.BoolVar(&o.SignIn, "sign-in", false, "whoever asks has to sign in on loopback, too, also before there are people")
	f.StringVar(&o.Data, "data", "", "the `FOLDER` for checkpoints, logs and the private database (default: /var/lib/undertide for root, else under the user's data folder)")
	f.StringVar(&o.Database, "database", os.Getenv("UNDERTIDE_DATABASE"), "the `URL` of a PostgreSQL (default: UNDERTIDE_DATABASE, or a private one)")
	f.Lookup("database").DefValue = "" // it may hold a password
	f.StringVar(&o.Node, "node", "", "the `NAME` of this service among those that share --database: each job is carried out by one of them, and any answers for all (docs/nodes.md)")
	f.StringVar(&o.Store, "store", "", "the `PLACE` where all nodes keep checkpoints: a folder that they have mounted, or s3://BUCKET/PREFIX")
	f.StringVar(&o.StoreVia, "store-via", "", "the `NAME` of the connection of undertide.yaml by which that bucket is reached")
	f.IntVar(&o.KeepRows, "keep-rows", 10_000, "keep `N` rows of each step for looking")
	f.StringSliceVar(&o.Files, "files", nil, "the `FOLDER`s whose files documents, connections and peeks may name (default: none)")
	f.StringSliceVar(&o.Env, "env", nil, "the `NAME`s of the environment variables that documents and connections may use (default: none)")
	f.StringVar(&user, "user", "", "the `NAME` of the user to run as, where root starts it")
	f.StringVar(&level, "log-level", "info", "what is logged to standard error: `LEVEL` debug, info, warn or error")
	_ = c.MarkFlagDirname("data") // the flag stands above
	return c
}

// signOnOf completes what the flags say of a provider; nil for none.
func signOnOf(on service.SignOn) (*service.SignOn, error) {
	if on.Issuer == "" {
		if on.Newcomers != "" || on.Name != "" {
			return nil, usageError{errors.New("--sign-on-name and --sign-on-newcomers are of a provider; name it with --sign-on URL")}
		}
		return nil, nil
	}
	u, err := url.Parse(on.Issuer)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !access.OnLoopback(u.Hostname())) {
		return nil, usageError{fmt.Errorf("--sign-on %s is not the address of a provider; write it as https://…", on.Issuer)}
	}
	if on.Newcomers != "" {
		if _, err := access.ParseRole(on.Newcomers); err != nil {
			return nil, usageError{fmt.Errorf("--sign-on-newcomers: %w", err)}
		}
	}
	if on.Secret = os.Getenv("UNDERTIDE_SIGN_ON_SECRET"); on.Secret == "" {
		return nil, usageError{errors.New("--sign-on needs the provider's secret for this service in UNDERTIDE_SIGN_ON_SECRET")}
	}
	return &on, nil
}

// become makes the process the named user's, which owns the data folder then. Root has to name one.
func become(name, data string) error {
	switch root := os.Geteuid() == 0; {
	case root && name == "":
		return usageError{errors.New("root does not serve: whoever reaches the service acts with its rights; name a user to run as, with --user NAME, such as one made by: adduser --system --group undertide")}
	case !root && name != "":
		if a, err := account.Find(name); err != nil || a.UID != os.Geteuid() {
			return errors.Join(fmt.Errorf("only root can run the service as user %s; leave out --user", name), err)
		}
		return nil
	case !root:
		return nil
	}
	a, err := account.Find(name)
	if err != nil {
		return fmt.Errorf("--user: %w", err)
	}
	if a.UID == 0 {
		return usageError{fmt.Errorf("--user: %s is root; name a user without rights of its own", name)}
	}
	if err := a.Own(data, service.LockFile); err != nil {
		return fmt.Errorf("the data folder: %w", err)
	}
	if err := a.Passes(data); err != nil {
		return fmt.Errorf("the data folder: %w", err)
	}
	return a.Become()
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
