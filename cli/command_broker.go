package cli

import (
	"github.com/spf13/cobra"

	"undertide/broker"
)

func newBroker(s *streams) *cobra.Command {
	var o broker.Options
	c := &cobra.Command{
		Use:   "broker",
		Short: "Run the broker stand-in, for development",
		Long: `Run the broker stand-in, for development: it speaks the Kafka wire protocol on loopback, makes
topics when they are first written to, and keeps them in --data. Ctrl-C ends it. It is no place for
data of worth.`,
		Example: `  undertide broker --data /tmp/broker --topic crane.lifts
  kcat -b 127.0.0.1:19092 -t crane.lifts -C -e`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := broker.Start(o)
			if err != nil {
				return err
			}
			s.say("the broker stand-in listens on %s; Ctrl-C ends it", b.Addr)
			<-c.Context().Done()
			b.Close()
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&o.Listen, "listen", broker.DefaultListen, "the `ADDRESS` to listen on; port 0 for a free one")
	f.StringVar(&o.Data, "data", "", "the `FOLDER` that keeps topics (default: none, they end with the process)")
	f.StringArrayVar(&o.Topics, "topic", nil, "make `TOPIC` if it is not there")
	f.Int32Var(&o.Partitions, "partitions", 3, "partitions of each --topic")
	_ = c.MarkFlagDirname("data") // the flag stands above
	return c
}
