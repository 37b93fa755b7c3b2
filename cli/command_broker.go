package cli

import (
	"github.com/spf13/cobra"

	"undertide/broker"
)

func newBroker(s *streams) *cobra.Command {
	var o broker.Options
	var registry string
	c := &cobra.Command{
		Use:   "broker",
		Short: "Run the broker stand-in, for development",
		Long: `Run the broker stand-in, for development: it speaks the Kafka wire protocol on loopback, makes
topics when they are first written to, and keeps them in --data. With --registry it also serves a schema
registry for Avro. Ctrl-C ends it. It is not a place for data of worth.`,
		Example: `  undertide broker --data /tmp/broker --topic crane.lifts
  undertide broker --registry 127.0.0.1:19081
  kcat -b 127.0.0.1:19092 -t crane.lifts -C -e`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := broker.Start(o)
			if err != nil {
				return err
			}
			defer b.Close()
			if registry != "" {
				r, err := broker.StartRegistry(registry, o.Data)
				if err != nil {
					return err
				}
				defer r.Close()
				s.say("its schema registry is at http://%s", r.Addr)
			}
			s.say("the broker stand-in listens on %s; Ctrl-C ends it", b.Addr)
			<-c.Context().Done()
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", broker.DefaultListen, "the `ADDRESS` to listen on; port 0 for a free one")
	f.StringVar(&o.Data, "data", "", "the `FOLDER` that keeps topics (default: none, they end with the process)")
	f.StringVar(&registry, "registry", "", "serve a schema registry at `ADDRESS`, such as "+broker.DefaultRegistry+"; port 0 for a free one (default: none)")
	f.StringArrayVar(&o.Topics, "topic", nil, "make `TOPIC` if it is not there")
	f.Int32Var(&o.Partitions, "partitions", 3, "each --topic has `N`")
	_ = c.MarkFlagDirname("data") // the flag stands above
	return c
}
