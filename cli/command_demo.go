package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"undertide/account"
	"undertide/api"
	"undertide/broker"
	"undertide/client"
	"undertide/connect"
	"undertide/connect/kafka"
	"undertide/connect/mqtt/peer"
	"undertide/connect/postgres"
	"undertide/console"
	"undertide/harbour"
	"undertide/job"
	"undertide/service"
)

func newDemo(s *streams) *cobra.Command {
	var o service.Options
	var level string
	var at demoPlaces
	var most time.Duration
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run Saltmarsh Harbour: broker stand-in, streams, service, jobs",
		Long: `Run the demo, Saltmarsh Harbour: a private PostgreSQL, the broker stand-in, a feed of made-up
streams, the service and its jobs. Everything listens on loopback and ends with Ctrl-C; the data stays
for the next start. Jobs may read and write files in the folder beside it, whose name ends in -files. Where root opens
the harbour, it runs as the user undertide, or postgres where there is none.`,
		Example: `  undertide demo
  undertide demo --for 60s
  undertide demo fault slow-sink`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var err error
			if o.Log, err = logTo(s, level); err != nil {
				return err
			}
			if o.Data, err = dataFolder(o.Data, "demo"); err != nil {
				return err
			}
			if o.Files, err = demoFiles(s, o.Data); err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(c.Context())
			defer cancel()
			if most > 0 {
				ctx, cancel = context.WithTimeout(ctx, most)
				defer cancel()
			}
			return runDemo(ctx, s, o, at)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", service.DefaultListen, "the `ADDRESS` of the console and API")
	f.StringVar(&at.broker, "broker", broker.DefaultListen, "the `ADDRESS` of the broker stand-in")
	f.StringVar(&at.registry, "registry", broker.DefaultRegistry, "the `ADDRESS` of its schema registry")
	f.StringVar(&at.notices, "notices", "127.0.0.1:7401", "the `ADDRESS` of the page that shows notices; the port behind it takes mails")
	f.StringVar(&o.Data, "data", "", "the `FOLDER` for everything (default: /var/lib/undertide/demo for root, else under the user's data folder)")
	f.DurationVar(&most, "for", 0, "end by itself after `TIME`")
	f.StringVar(&level, "log-level", "warn", "what is logged to standard error: `LEVEL` debug, info, warn or error")
	_ = c.MarkFlagDirname("data") // the flag stands above
	c.AddCommand(newFault(s))
	return c
}

// demoFiles makes the folder whose files the demo's jobs may name, and lets go of root's rights.
func demoFiles(s *streams, data string) ([]string, error) {
	files := data + "-files"
	if os.Geteuid() != 0 {
		return []string{files}, os.MkdirAll(files, 0o700)
	}
	var a account.Account
	var err error
	for _, name := range []string{"undertide", "postgres"} {
		if a, err = account.Find(name); err == nil {
			break
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the demo does not run as root: %w", err)
	}
	if err := errors.Join(a.Make(files), a.Own(data, service.LockFile)); err != nil {
		return nil, fmt.Errorf("the demo's folders: %w", err)
	}
	if err := a.Passes(data); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	s.say("running as user %s", a.Name)
	return []string{files}, a.Become()
}

// demoPlaces are where the demo's stand-ins listen.
type demoPlaces struct{ broker, registry, notices string }

// standIns are what the harbour's jobs reach, beside the service.
type standIns struct {
	broker   *broker.Broker
	registry *broker.Registry
	notices  *harbour.Notices
	devices  *peer.Broker // nil where its program is not there
}

func startStandIns(s *streams, data string, at demoPlaces) (in standIns, err error) {
	defer func() {
		if err != nil {
			in.close()
		}
	}()
	if in.broker, err = broker.Start(broker.Options{Listen: at.broker, Data: filepath.Join(data, "broker")}); err != nil {
		return in, err
	}
	if in.registry, err = broker.StartRegistry(at.registry, filepath.Join(data, "broker")); err != nil {
		return in, err
	}
	if in.notices, err = harbour.StartNotices(at.notices); err != nil {
		return in, fmt.Errorf("the page of notices: %w", err)
	}
	s.say("the broker stand-in listens on %s, its schema registry on %s", in.broker.Addr, in.registry.Addr)
	if !peer.Found() {
		s.say("mosquitto is not installed, so that gauges send no messages of devices")
		return in, nil
	}
	dir := filepath.Join(data, "devices")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return in, err
	}
	in.devices, err = peer.Start(dir)
	return in, err
}

func (in standIns) close() {
	if in.devices != nil {
		in.devices.Stop()
	}
	if in.notices != nil {
		in.notices.Close()
	}
	if in.registry != nil {
		in.registry.Close()
	}
	if in.broker != nil {
		in.broker.Close()
	}
}

// connections names what the jobs reach.
func (in standIns) connections() (map[string]*connect.Connection, error) {
	text := fmt.Sprintf(`connections:
  harbour: {via: kafka, brokers: [%q], registry: {url: "http://%s"}}
  post: {via: mail, address: %q, from: harbour@saltmarsh.example, tls: {mode: none}}
  board: {via: http, url: "http://%s/"}
`, in.broker.Addr, in.registry.Addr, in.notices.Mails, in.notices.Addr)
	if in.devices != nil {
		text += fmt.Sprintf("  devices: {via: mqtt, address: %q}\n", in.devices.Address)
	}
	return job.ParseConnections("the demo's connections", text, job.Options{})
}

func runDemo(ctx context.Context, s *streams, o service.Options, at demoPlaces) error {
	in, err := startStandIns(s, o.Data, at)
	if err != nil {
		return err
	}
	defer in.close()
	if o.Connections, err = in.connections(); err != nil {
		return err
	}
	all, inner := errgroup.WithContext(ctx) // the first that fails ends the others
	o.Guest, o.GuestAt = "harbour", func(address string) (*connect.Connection, error) {
		all.Go(func() error { return harbour.Office(inner, address) })
		l, err := postgres.LinkTo(address)
		return &connect.Connection{Name: "office", Kind: postgres.Kind, Link: l}, err
	}
	o.Version, o.Console = Version, console.Files()
	devices := harbour.NewDevices(o.Log)
	devices.Messages = o.Connections["devices"]
	all.Go(func() error {
		c := kafka.Connection{Name: "harbour", Brokers: []string{in.broker.Addr}}
		return harbour.Feed(inner, c, o.Connections["harbour"], filepath.Join(o.Data, "feed"), devices, o.Log)
	})
	o.Ready = func(address string) {
		all.Go(func() error {
			if err := startHarbour(inner, s, address, o.Files[0], in); inner.Err() == nil {
				return err
			}
			return nil // it closes already
		})
		devices.Posts = address + "/in/gauge-posts/posted"
		all.Go(func() error { return devices.Run(inner) })
	}
	all.Go(func() error { return service.Serve(inner, o) })
	err = all.Wait()
	if ctx.Err() == nil {
		return err
	}
	s.say("the harbour has closed; its data is in %s", o.Data)
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return nil // it was closed while it opened
	}
	return err
}

// startHarbour saves and starts the demo's jobs, and says where they can be seen. files is the folder whose files they may name.
func startHarbour(ctx context.Context, s *streams, address, files string, in standIns) error {
	cl, err := client.New(address, client.Options{})
	if err != nil {
		return err
	}
	if err := cl.Ready(ctx, 10*time.Second); err != nil {
		return err
	}
	docs, err := harbour.Jobs(files, in.devices != nil)
	if err != nil {
		return err
	}
	for _, name := range sorted(docs) {
		if _, err := cl.Save(ctx, docs[name]); err != nil {
			return fmt.Errorf("save %s: %w", name, err)
		}
		ask := api.Start{}
		for try := 0; ; try++ {
			_, err = cl.Start(ctx, name, ask)
			var p *api.Problem
			if errors.As(err, &p) && p.Code == api.OldCheckpoints.Code && ask.Resume == "" { // of a harbour of before
				s.say("job %s begins anew: %s", name, p.Detail)
				ask.Resume = "fresh"
				continue
			}
			if !errors.As(err, &p) || p.Code == api.AlreadyRunning.Code {
				break // it runs, or the service is gone
			}
			if p.Code != api.StartFailed.Code || try == 20 { // its topics may not be there yet
				return fmt.Errorf("start %s: %w", name, err)
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	s.say("the harbour is open; Ctrl-C closes it\n\n  console   %s\n  terminal  undertide jobs --server %s\n  notices   http://%s/\n", address, address, in.notices.Addr)
	return nil
}
