// Package mqtt is the kind mqtt: messages of topics of a broker of devices, by MQTT 5 or 3.1.1 (docs/connectors.md, "mqtt").
// A broker forgets a message as soon as it is acknowledged: so what is read stands in a journal before.
package mqtt

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/journal"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Kind are topics of brokers that speak MQTT.
var Kind = &connect.Kind{
	Name: "mqtt", Noun: "topic", About: "messages of devices, from a broker that speaks MQTT",
	Source: func() connect.Source { return &source{} },
	Sink:   func() connect.Sink { return &sink{} },
	Link:   func() connect.Link { return &Link{} },
	AtStream: func(c *connect.Connection, topic string) (connect.Source, error) {
		return &source{Connection: c, Topics: []string{topic}}, checkFilter(topic)
	},
	SourceExample: connect.Example{Name: "messages of devices", About: "from a broker that speaks MQTT",
		Lines: "via: mqtt\nwith: {connection: CONNECTION, topics: [NAME/+]}"},
	SinkExample: connect.Example{Name: "messages", About: "a message for each row",
		Lines: "via: mqtt\nwith: {connection: CONNECTION, topic: TOPIC}"},
}

// Link are the settings of a connection to a broker (docs/connectors.md, "Connections").
type Link struct {
	_        struct{}            `later:"brokers,sasl,registry,url"`
	Address  address             `set:"address,required" missing:"the broker is not named" fix:"add address: 127.0.0.1:1883" hint:"10.0.0.5:1883" about:"Where it is, host:port; 8883 is usual over TLS, 1883 without."`
	Version  string              `set:"version" choices:"5,3.1.1" default:"5" about:"Of MQTT."`
	User     string              `set:"user" about:"Who signs in; nobody where it is left out."`
	Password settings.SecretText `set:"password" about:"The password: ${secret.NAME} or ${env.NAME}."`
	TLS      *secure.Settings    `set:"tls" label:"TLS" about:"Reach it over TLS, by the system's authorities unless one is named."`

	files *disk.Files
}

// address is host:port.
type address string

// UnmarshalText takes host:port and nothing else.
func (a *address) UnmarshalText(text []byte) error {
	host, port, err := net.SplitHostPort(string(text))
	if n, e := strconv.ParseUint(port, 10, 16); err != nil || e != nil || n == 0 || host == "" {
		return fmt.Errorf("%q is not an address of a broker; write host:port, such as 127.0.0.1:1883", text)
	}
	*a = address(text)
	return nil
}

func (a address) host() string {
	host, _, _ := net.SplitHostPort(string(a)) // it was read
	return host
}

// Check says whether a password would be sent in the clear.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	if c.Has("password") && !c.Has("user") {
		c.Fault("a password without a user", "add user:", "password")
	}
	if c.Has("password") && l.TLS == nil && l.Address != "" && !connect.OfThisMachine(l.Address.host()) {
		c.Fault("the password would be sent in the clear to "+string(l.Address), "add tls: {}", "password")
	}
	l.TLS.Check(c.Has, c.Fault)
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	w := connect.LinkWords{Reaches: string(l.Address), Way: "MQTT " + l.version() + " in the clear", SignIn: "nobody signs in"}
	if l.TLS != nil {
		w.Way = "MQTT " + l.version() + " over TLS"
	}
	if l.User != "" {
		w.SignIn = l.User
	}
	return w
}

func (l *Link) version() string { return cmp.Or(l.Version, "5") }

// broker gives what clients take.
func (l *Link) broker(name string) (*broker, error) {
	secured, err := l.TLS.Config(l.files, l.Address.host())
	if err != nil {
		return nil, err
	}
	return &broker{name: name, address: string(l.Address), old: l.Version == "3.1.1", user: l.User, password: string(l.Password), tls: secured}, nil
}

// Look makes a looker; the broker is reached by its methods.
func (l *Link) Look(name string) (connect.Looker, error) {
	b, err := l.broker(name)
	if err != nil {
		return nil, err
	}
	return &Looker{b}, nil
}

// reach gives a connection's broker.
func reach(c *connect.Connection) (*broker, error) {
	l, ok := c.Link.(*Link)
	if !ok {
		return nil, fmt.Errorf("connection %s is not a connection to a broker of MQTT", c.Name)
	}
	b, err := l.broker(c.Name)
	if err != nil {
		return nil, fmt.Errorf("connection %s: %w", c.Name, err)
	}
	return b, nil
}

// checkFilter says what is wrong with a topic filter (MQTT 5, section 4.7.1).
func checkFilter(filter string) error {
	levels := strings.Split(filter, "/")
	for i, level := range levels {
		switch {
		case level == "#" && i == len(levels)-1, level == "+":
		case strings.ContainsAny(level, "#+"):
			return fmt.Errorf("%q is not a topic filter: + stands for one whole level, and # for all that follow", filter)
		}
	}
	return checkText(filter)
}

func checkText(topic string) error {
	if topic == "" || len(topic) > 65535 || strings.ContainsRune(topic, 0) {
		return fmt.Errorf("%q is not a topic: it has from 1 to 65535 bytes, and none is 0", topic)
	}
	return nil
}

// source are the settings of topics that are read.
type source struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Topics     []string            `set:"topics,required" missing:"no topic is named" fix:"add topics: [yard/gauges/+]" hint:"yard/gauges/+" about:"Topic filters: + stands for one level, # for all that follow."`
	Client     string              `set:"client,free" about:"By which the broker knows the job again; one client at a time may have it. Default: undertide-JOB-SOURCE."`
	Expiry     time.Duration       `set:"expiry,free" about:"For how long the broker keeps messages while no run is there (version 5; by 3.1.1 the broker decides)." default:"7d"`
	Journal    settings.Size       `set:"journal" about:"Disk space for messages that no checkpoint has passed yet." default:"1GiB"`
}

const (
	defaultExpiry = 7 * 24 * time.Hour
	longestClient = 200 // what brokers take beyond the 23 bytes that all must
)

func (s *source) Check(c *connect.Checker) {
	if c.Has("topics") && len(s.Topics) == 0 {
		c.Fault("no topic is named", "add topics: [yard/gauges/+]", "topics")
	}
	for _, filter := range s.Topics {
		if err := checkFilter(filter); err != nil {
			c.Fault(err.Error(), "write topics: [yard/gauges/+]", "topics")
		}
	}
	if s.Client == "" {
		s.Client = "undertide-" + c.Job + "-" + c.Name
	}
	if len(s.Client) > longestClient {
		c.Fault(fmt.Sprintf("the client's name has more than %d bytes", longestClient), "give a shorter one in client", "client")
	}
	if c.Has("expiry") && s.Expiry <= 0 {
		c.Fault("the broker would forget the job at once", "give a time such as 7d", "expiry")
	}
	if s.Journal > 0 && s.Journal < 1<<20 {
		c.Fault("the journal has hardly room for a message", "give 1MiB or more", "journal")
	}
}

// Reads says what is read.
func (s *source) Reads(f *connect.Format) string {
	return fmt.Sprintf("messages of %s of %s, %s", strings.Join(s.Topics, ", "), s.Connection.Name, f.Name)
}

// Unbounded implements [connect.Source].
func (s *source) Unbounded() bool { return true }

// HasStored: the time at which a message was written down.
func (s *source) HasStored() bool { return true }

// Stream implements [connect.Streaming]: the filters, as one text.
func (s *source) Stream() (*connect.Connection, string) {
	return s.Connection, strings.Join(s.Topics, " ")
}

// metaFields are those of messages: the topic as a text and by its levels, and when the message was written down.
var metaFields = row.Schema{
	{Name: "meta.key", Kind: row.String, Hidden: true},
	{Name: "meta.topic", Kind: row.ListOf(row.String), Hidden: true},
	{Name: "meta.stored", Kind: row.Timestamp, Hidden: true},
}

// MetaFields implements [connect.Knowing].
func (s *source) MetaFields([]string) row.Schema { return metaFields }

// Document says how a document over the topics begins.
func (s *source) Document() connect.Origin {
	connection := connect.Quoted(s.Connection.Name)
	topics := make([]string, len(s.Topics))
	for i, filter := range s.Topics {
		topics[i] = connect.Quoted(filter)
	}
	name := strings.Trim(strings.NewReplacer("/", ".", "#", "", "+", "").Replace(strings.Join(s.Topics, ".")), ".")
	return connect.Origin{Name: cmp.Or(name, "messages"), Stored: true,
		Source: "via: mqtt\nwith: {connection: " + connection + ", topics: [" + strings.Join(topics, ", ") + "]}",
		Sink: func(job, suffix, _ string) string {
			return "via: mqtt\nwith: {connection: " + connection + ", topic: " + connect.Quoted(job+"/"+suffix) + "}"
		}}
}

// Open opens the journal, and reads messages into it from then on.
func (s *source) Open(ctx context.Context, o connect.Opening) (opened connect.Opened, err error) {
	b, err := reach(s.Connection)
	if err != nil {
		return opened, err
	}
	j, end, err := journal.OpenIn(o.Journal, journal.Options{Limit: int64(s.Journal), Lease: o.Lease, Leased: o.Leased})
	if err != nil {
		return opened, err
	}
	limit := cmp.Or(int64(s.Journal), journal.DefaultLimit)
	t, err := newTaker(b, j, dialing{client: s.Client, expiry: cmp.Or(s.Expiry, defaultExpiry)}, s.Topics, limit)
	if err != nil {
		end()
		return opened, err
	}
	if o.Journal == "" {
		t.dialing.expiry = 0
		opened.Notes = append(opened.Notes, "messages are not kept beyond this run: it keeps no checkpoints")
	}
	if err := t.start(ctx, len(o.Known) == 0); err != nil {
		t.stop()
		end()
		return opened, err
	}
	opened.Partitions = []engine.Partition{&partition{Partition: journal.NewPartition(j, "messages"), t: t}}
	opened.Close = func() {
		t.stop()
		end()
	}
	return opened, nil
}

// Sample waits for messages that come, and for those that the broker retains, beside a run: as a client of its own that the
// broker forgets.
func (s *source) Sample(ctx context.Context, _ connect.Opening, which connect.Sampling) (out connect.Sample, err error) {
	if which.From != connect.Newest {
		return out, fmt.Errorf("%w: a broker of MQTT keeps no messages that were delivered; look at those that come", connect.ErrCannot)
	}
	wait := cmp.Or(which.Wait, 3*time.Second)
	limited, stop := context.WithTimeout(ctx, wait)
	defer stop()
	err = s.look(limited, func(events []connect.Event) error {
		out.Events = append(out.Events, events...)
		if len(out.Events) >= which.Rows {
			stop()
		}
		return nil
	})
	if err != nil && limited.Err() == nil {
		return out, err
	}
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	out.Events = out.Events[:min(len(out.Events), which.Rows)]
	if len(out.Events) == 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("no message of %s came within %s, and the broker retains none: it keeps no others to look at", strings.Join(s.Topics, ", "), wait))
	}
	return out, nil
}

// Follow gives the messages that come from now on.
func (s *source) Follow(ctx context.Context, next func([]connect.Event) error) error {
	return s.look(ctx, next)
}

// eventOf is a message of a sample.
func eventOf(m message, n int64) connect.Event {
	topic := m.topic
	return connect.Event{Partition: "messages", Offset: n, Key: []byte(topic), Stored: time.Now(), Text: m.text, Hidden: func(c *row.Column, field string) bool {
		if field == "meta.topic" {
			c.AppendBytes(levels(nil, topic))
		}
		return field == "meta.topic"
	}}
}

// levels appends the levels of a topic, as a list of texts.
func levels(dst []byte, topic string) []byte {
	c := row.NewColumn(row.String)
	for level := range strings.SplitSeq(topic, "/") {
		c.Reset()
		c.AppendString(level)
		dst = row.AppendElement(dst, c, 0)
	}
	return dst
}
