package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/connect"
	"undertide/job"
)

// nearest finds a connection: that of the working folder's undertide.yaml is reached from here, any other
// by the service, which keeps its secrets.
type nearest struct{ reach }

// find gives the connection of the working folder, or else a client of the service.
func (n *nearest) find(name string) (*connect.Connection, *client.Client, error) {
	known, err := job.LoadConnections(job.ConnectionsFile)
	if err != nil {
		return nil, nil, err
	}
	if c, ok := known[name]; ok && n.server == "" {
		return c, nil, nil
	}
	cl, err := n.client()
	return nil, cl, err
}

// connectionsAt gives the connections of the working folder, and those that the service at an address keeps; no service
// is asked where none is named. A service gives no secrets away: a connection that needs one can be named by a document
// that is only looked at, and not by one that is run from here.
func connectionsAt(ctx context.Context, server string) (map[string]*connect.Connection, error) {
	known, err := job.LoadConnections(job.ConnectionsFile)
	if err != nil || server == "" {
		return known, err
	}
	cl, err := clientOf(server, "", "")
	if err != nil {
		return nil, err
	}
	kept, err := cl.Connections(ctx)
	if err != nil {
		return nil, err
	}
	if known == nil {
		known = map[string]*connect.Connection{}
	}
	for _, k := range kept {
		if _, own := known[k.Name]; own || k.Settings == nil {
			continue
		}
		fields := maps.Clone(k.Settings)
		fields["via"] = k.Via
		text, err := json.Marshal(map[string]any{"connections": map[string]any{k.Name: fields}})
		if err != nil {
			return nil, err
		}
		_, unready := job.ParseConnections(k.Name, string(text), job.Options{NeedEnv: true})
		shown, _ := job.ParseConnections(k.Name, string(text), job.Options{Secret: func(string) (string, error) { return "", nil }}) // what is wrong was found above
		if c := shown[k.Name]; c != nil {
			c.Unready = unready
			known[k.Name] = c
		}
	}
	return known, nil
}

// without words a service that does not answer for those who did not ask for one.
func without(name string, err error) error {
	if errors.Is(err, client.ErrUnreachable) {
		return fmt.Errorf("there is no connection %s in %s here, and %w", name, job.ConnectionsFile, err)
	}
	return err
}

func (n *nearest) flags(c *cobra.Command) {
	n.reach.flags(c)
	c.Flag("server").Usage = "ask the service at `ADDRESS` (default: the connections of " + job.ConnectionsFile + " here, then UNDERTIDE_SERVER, or " + client.DefaultServer + ")"
}

// load reads a document with the connections of the working folder. Where it names one that only the
// service knows, the text is given for the service to read.
func (n *nearest) load(path string, set map[string]string) (j *job.Job, text string, cl *client.Client, err error) {
	known, err := job.LoadConnections(job.ConnectionsFile)
	if err != nil {
		return nil, "", nil, err
	}
	if n.server == "" {
		j, err = job.Load(path, job.Options{Set: set, NeedEnv: true, SinksAside: true, Connections: known})
		var faults job.Faults
		if !errors.As(err, &faults) || !missingConnection(faults) {
			return j, "", nil, err
		}
	}
	own := err
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, "", nil, fmt.Errorf("%w: %w", job.ErrNoDocument, err)
	}
	cl, err = n.client()
	if err != nil {
		return nil, "", nil, err
	}
	if own != nil {
		if _, err := cl.Status(context.Background()); err != nil {
			return nil, "", nil, own // the document's own fault says more
		}
	}
	return nil, string(b), cl, nil
}

func missingConnection(faults job.Faults) bool {
	for _, f := range faults {
		if !strings.HasPrefix(f.Message, "there is no connection ") && !strings.Contains(f.Message, "secrets are kept by a service") {
			return false
		}
	}
	return len(faults) > 0
}

// connectionNames completes the names of connections.
func (n *nearest) connectionNames(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if len(args) == 0 {
		known, _ := job.LoadConnections(job.ConnectionsFile) // completion stays silent
		out = sorted(known)
		if cl, err := n.client(); err == nil {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			all, _ := cl.Connections(ctx)
			for _, c := range all {
				out = append(out, c.Name)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func newTopics(s *streams) *cobra.Command {
	var n nearest
	var format, made string
	var partitions int
	c := &cobra.Command{
		Use:   "topics CONNECTION",
		Short: "List the topics of a broker: partitions, events, size, retention, newest event",
		Long: `List the topics of a broker: partitions, events that it keeps, their size, how long they are kept and
when the newest was stored. --make makes one.`,
		Example:           "  undertide topics harbour\n  undertide topics harbour --make crane.rates --partitions 2",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: n.connectionNames,
		RunE: func(c *cobra.Command, args []string) error {
			conn, cl, err := n.find(args[0])
			if err != nil {
				return err
			}
			if made != "" {
				if err := makeTopic(c.Context(), conn, cl, args[0], api.NewTopic{Name: made, Partitions: partitions}); err != nil {
					return err
				}
				s.say("topic %s is made", made)
				return nil
			}
			list, err := topicsOf(c.Context(), conn, cl, args[0])
			if err != nil {
				return err
			}
			return show(s, format, list, func() { topicTable(s, list) })
		},
	}
	n.flags(c)
	formatFlag(c, &format)
	c.Flags().StringVar(&made, "make", "", "make `TOPIC`")
	c.Flags().IntVar(&partitions, "partitions", 0, "the topic that is made has `N` (default: as many as the broker holds right)")
	return c
}

// makeTopic makes a topic, from here or by the service.
func makeTopic(ctx context.Context, conn *connect.Connection, cl *client.Client, name string, t api.NewTopic) error {
	if conn == nil {
		_, err := cl.MakeTopic(ctx, name, t)
		return without(name, err)
	}
	l, err := conn.Look()
	if err != nil {
		return err
	}
	defer l.Close()
	maker, err := connect.Can[connect.Maker](conn, l, "make a "+conn.Kind.Noun)
	if err != nil {
		return err
	}
	return maker.Make(ctx, t.Name, int32(t.Partitions))
}

// topicsOf lists topics, from here or by the service.
func topicsOf(ctx context.Context, conn *connect.Connection, cl *client.Client, name string) ([]api.Topic, error) {
	if conn == nil {
		list, err := cl.Topics(ctx, name)
		return list, without(name, err)
	}
	l, err := conn.Look()
	if err != nil {
		return nil, err
	}
	defer l.Close()
	lister, err := connect.Can[connect.Lister](conn, l, "list what it has")
	if err != nil {
		return nil, err
	}
	found, err := lister.Streams(ctx)
	list := []api.Topic{}
	for _, t := range found {
		list = append(list, api.TopicOf(t))
	}
	return list, err
}

func topicTable(s *streams, list []api.Topic) {
	if len(list) == 0 {
		s.say("the broker has no topics yet; make one with --make, or send to one")
		return
	}
	var rows [][]string
	for _, t := range list {
		size, kept, newest := "?", "?", "none"
		if t.Bytes != nil {
			size = bytesText(*t.Bytes)
		}
		switch {
		case t.RetentionSeconds == nil:
		case *t.RetentionSeconds == 0:
			kept = "for ever"
		default:
			kept = span(time.Duration(*t.RetentionSeconds * float64(time.Second)))
		}
		if t.Compacted {
			kept = "newest of each key"
		}
		if t.Newest != nil {
			newest = t.Newest.UTC().Format("2006-01-02 15:04:05 UTC") + ", " + ago(*t.Newest)
		}
		rows = append(rows, []string{t.Name, fmt.Sprint(t.Partitions), group(t.Events), size, kept, newest})
	}
	grid(s.out, []string{"topic", ">partitions", ">events", ">size", "kept", "newest stored"}, rows)
}
