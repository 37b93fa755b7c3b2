package kafka

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"undertide/connect"
	"undertide/connect/registry"
	"undertide/connect/secure"
	"undertide/connect/settings"
	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
)

// Kind are topics of brokers that speak the Kafka wire protocol.
var Kind = &connect.Kind{
	Name: "kafka", Lists: true, Noun: "topic", About: "topics of brokers that speak the Kafka protocol",
	SourceExample: connect.Example{Name: "topic", About: "the messages of a topic",
		Lines: "via: kafka\nwith: {connection: CONNECTION, topic: TOPIC}\nbegin: earliest"},
	Source:    func() connect.Source { return &source{} },
	Reference: func() connect.Source { return &source{} },
	Sink:      func() connect.Sink { return &sink{} },
	Link:      func() connect.Link { return &Link{} },
	Cross:     cross,
	AtStream: func(c *connect.Connection, topic string) (connect.Source, error) {
		return &source{Connection: c, Topic: topicName(topic)}, nil
	},
	SinkExample: connect.Example{Name: "topic", About: "messages of a topic, which is made where it is missing",
		Lines: "via: kafka\nwith: {connection: CONNECTION, topic: TOPIC, create: true}"},
	ReferenceExample: connect.Example{Name: "topic", About: "the newest message of each key of a topic",
		Lines: "via: kafka\nwith: {connection: CONNECTION, topic: TOPIC}\nfields: {id: string, name: string}\nkey: [id]"},
}

// Link are the settings of a connection to brokers (docs/connectors.md, "Connections").
type Link struct {
	_       struct{} `later:"url,user,password,address"`
	files   *disk.Files
	Brokers []address        `set:"brokers,required" missing:"the brokers are not named" fix:"add brokers: [127.0.0.1:9092]" hint:"10.0.0.5:9092, 10.0.0.6:9092" about:"Their addresses, host:port; one of them is enough to find the others."`
	TLS     *secure.Settings `set:"tls" label:"TLS" about:"Reach it over TLS, by the system's authorities unless one is named."`
	SASL    *struct {
		Mechanism string              `set:"mechanism,required" about:"How to sign in." choices:"plain,scram-sha-256,scram-sha-512" first:"scram-sha-512" missing:"the way to sign in is not said" fix:"add mechanism: plain, scram-sha-256 or scram-sha-512"`
		User      string              `set:"user,required" about:"Who signs in." missing:"the user is not named" fix:"add user:"`
		Password  settings.SecretText `set:"password,required" about:"The password: ${secret.NAME} or ${env.NAME}." missing:"the password is missing" fix:"add password: ${secret.NAME}, or ${env.NAME}"`
	} `set:"sasl" label:"sign-in" about:"Who signs in, and how."`
	Schemas *struct {
		URL      string              `set:"url,required" missing:"the registry is not named" fix:"add url: http://127.0.0.1:8081" hint:"http://10.0.0.5:8081" about:"Where it is, http:// or https://."`
		User     string              `set:"user" about:"Who signs in; nobody where it is left out."`
		Password settings.SecretText `set:"password" about:"The password: ${secret.NAME} or ${env.NAME}."`
	} `set:"registry,own" label:"schema registry" about:"Where the schemas of messages stand, by their numbers."`

	once     sync.Once // guards below
	registry *registry.Client
	why      error // why there is none
}

// address is host:port.
type address string

// UnmarshalText takes host:port and nothing else.
func (a *address) UnmarshalText(text []byte) error {
	_, port, err := net.SplitHostPort(string(text))
	if n, e := strconv.Atoi(port); err != nil || e != nil || n < 1 || n > 65535 {
		return fmt.Errorf("%q is not an address of a broker; write host:port, such as 127.0.0.1:9092", text)
	}
	*a = address(text)
	return nil
}

// LinkTo gives the settings of a connection to brokers in the clear, where nobody signs in.
func LinkTo(brokers ...string) *Link {
	l := &Link{}
	for _, b := range brokers {
		l.Brokers = append(l.Brokers, address(b))
	}
	return l
}

// Check says whether the certificate and its key stand together, and whether the password would be sent in the clear.
func (l *Link) Check(c *connect.Checker) {
	l.files = c.Files
	if l.SASL != nil && l.SASL.Mechanism == "plain" && l.TLS == nil {
		for _, b := range l.brokers() {
			if !onLoopback(b) {
				c.Fault("the password would be sent in the clear to "+b, "add tls: {}, or sign in by scram-sha-512, which sends none", "sasl", "mechanism")
				break
			}
		}
	}
	l.TLS.Check(c.Has, c.Fault)
	if l.Schemas != nil {
		l.checkRegistry(c)
	}
}

func (l *Link) checkRegistry(c *connect.Checker) {
	u, err := url.Parse(l.Schemas.URL)
	switch {
	case l.Schemas.URL == "": // it was said
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		c.Fault(fmt.Sprintf("%q is not an address of a registry", l.Schemas.URL), "write url: http://127.0.0.1:8081", "registry", "url")
	case u.User != nil:
		c.Fault("the password stands in the clear", "take it out of url, and add user: and password: ${secret.NAME}", "registry", "url")
	case c.Has("registry", "password") && !c.Has("registry", "user"):
		c.Fault("a password without a user", "add user:", "registry", "password")
	case c.Has("registry", "password") && u.Scheme == "http" && !connect.OfThisMachine(u.Hostname()):
		c.Fault("the password would be sent in the clear to "+u.Host, "write https://", "registry", "url")
	}
}

// Registry implements [connect.Registered]. All that go through the connection share it, with what it has answered.
func (l *Link) Registry() (connect.Registry, error) {
	c, err := l.Ask()
	if c == nil || err != nil {
		return nil, err // and no nil of a type
	}
	return c, nil
}

// Ask gives the registry's client; nil for none.
func (l *Link) Ask() (*registry.Client, error) {
	if l.Schemas == nil {
		return nil, nil
	}
	l.once.Do(func() {
		var secured *tls.Config
		if t := l.TLS; t != nil { // the name in its certificate is the registry's own
			secured, l.why = secure.TLS(l.files, string(t.CA), string(t.Cert), string(t.Key), "")
		}
		if l.why == nil {
			l.registry, l.why = registry.New(l.Schemas.URL, l.Schemas.User, string(l.Schemas.Password), secured)
		}
	})
	return l.registry, l.why
}

// onLoopback says whether an address is this machine's own.
func onLoopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

func (l *Link) brokers() []string {
	out := make([]string, len(l.Brokers))
	for i, b := range l.Brokers {
		out[i] = string(b)
	}
	return out
}

// Words says what is reached, how, and who signs in.
func (l *Link) Words() connect.LinkWords {
	w := connect.LinkWords{Reaches: strings.Join(l.brokers(), ", "), Way: "in the clear", SignIn: "nobody signs in"}
	if l.TLS != nil {
		w.Way = "TLS"
	}
	if l.SASL != nil {
		w.SignIn = l.SASL.User + " by " + l.SASL.Mechanism
	}
	return w
}

// connection gives the connection as clients take it.
func (l *Link) connection(name string) (Connection, error) {
	out := Connection{Name: name, Brokers: l.brokers()}
	var err error
	if out.TLS, err = l.TLS.Config(l.files, ""); err != nil {
		return out, err
	}
	if s := l.SASL; s != nil {
		if out.SASL, err = SignIn(s.Mechanism, s.User, string(s.Password)); err != nil {
			return out, err
		}
	}
	out.registry, err = l.Ask()
	return out, err
}

// Look makes a looker; the broker is reached by its methods.
func (l *Link) Look(name string) (connect.Looker, error) {
	c, err := l.connection(name)
	if err != nil {
		return nil, err
	}
	return Look(c)
}

// reach gives a connection as clients take it.
func reach(c *connect.Connection) (Connection, error) {
	out, err := c.Link.(*Link).connection(c.Name) // the kind was checked as the document was read
	if err != nil {
		return out, fmt.Errorf("connection %s: %w", c.Name, err)
	}
	return out, nil
}

// topicName is a topic's name.
type topicName string

// UnmarshalText takes what brokers take for a name.
func (t *topicName) UnmarshalText(text []byte) error {
	s := string(text)
	ok := s != "" && len(s) <= 249 && s != "." && s != ".."
	for _, c := range s {
		ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' || c == '_' || c == '-')
	}
	if !ok {
		return fmt.Errorf("%q is not a name of a topic; use letters, digits, dots, _ and -", s)
	}
	*t = topicName(s)
	return nil
}

// place is where a topic's first run starts.
type place struct {
	begin Begin
	at    time.Time
}

// UnmarshalText reads earliest, latest or a time.
func (p *place) UnmarshalText(text []byte) error {
	switch string(text) {
	case "earliest":
		*p = place{}
		return nil
	case "latest":
		*p = place{begin: Latest}
		return nil
	}
	at, err := time.Parse(time.RFC3339Nano, string(text))
	if err != nil {
		return fmt.Errorf("%s is neither earliest, latest nor a time; write a time such as 2026-03-01T00:00:00Z", text)
	}
	*p = place{AtTime, at}
	return nil
}

// source are the settings of a topic that is read (docs/connectors.md, "kafka").
type source struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Topic      topicName           `set:"topic,required" about:"The topic." missing:"the topic is not named" fix:"add topic: and its name" hint:"its name"`
	Group      string              `set:"group,free" about:"Where positions are committed for other tools to see; default undertide.JOB."`
	Begin      place               `set:"begin,beside,free" default:"earliest" hint:"earliest, latest, or a time" about:"Where a first run starts."`
	Until      bound               `set:"until,beside" hint:"latest, or a time" about:"Where reading ends: before the first event that was stored at this time or later, or after what is stored when the run first starts. Without it the run does not end."`
}

// bound is where a topic's reading ends.
type bound struct {
	set bool
	at  time.Time // zero: what is stored when the run first starts
}

// UnmarshalText reads latest or a time.
func (b *bound) UnmarshalText(text []byte) error {
	if string(text) == "latest" {
		*b = bound{set: true}
		return nil
	}
	at, err := time.Parse(time.RFC3339Nano, string(text))
	if err != nil {
		return fmt.Errorf("%s is neither latest nor a time; write a time such as 2026-03-01T00:00:00Z", text)
	}
	*b = bound{true, at}
	return nil
}

// Span reads the topic from one time to another in place of what the document says; texts as in `begin` and `until`, empty
// for what it says.
func (s *source) Span(begin, until string) error {
	if begin != "" {
		if err := s.Begin.UnmarshalText([]byte(begin)); err != nil {
			return err
		}
	}
	if until == "" {
		return nil
	}
	return s.Until.UnmarshalText([]byte(until))
}

func (s *source) Check(c *connect.Checker) {
	if s.Group == "" {
		s.Group = "undertide." + c.Job
	}
	if s.Begin.begin == AtTime && !s.Until.at.IsZero() && !s.Until.at.After(s.Begin.at) {
		c.Fault("it ends where it begins, or before", "give a time after begin", "until")
	}
}

func (s *source) Reads(f *connect.Format) string {
	text := fmt.Sprintf("%s, %s, from ", connect.StreamText(s), strings.ToUpper(f.Name))
	switch s.Begin.begin {
	case AtTime:
		text += s.Begin.at.UTC().Format(time.RFC3339)
	case Latest:
		text += "the latest event"
	default:
		text += "the earliest event"
	}
	switch {
	case !s.Until.set:
	case s.Until.at.IsZero():
		text += " to what is stored when the run first starts"
	default:
		text += " to those stored before " + s.Until.at.UTC().Format(time.RFC3339)
	}
	if s.Begin.begin != Earliest || s.Until.set {
		text += "; a run that goes on from a checkpoint does not look at begin and until again"
	}
	return text
}

func (s *source) Unbounded() bool { return !s.Until.set }

// Divides implements [connect.Divided].
func (s *source) Divides() bool { return true }

func (s *source) HasStored() bool { return true }

func (s *source) Stream() (*connect.Connection, string) { return s.Connection, string(s.Topic) }

// MetaFields are the message's key, when it was stored, and its headers.
func (s *source) MetaFields(asked []string) row.Schema {
	out := row.Schema{{Name: "meta.key", Kind: row.String, Hidden: true}, {Name: "meta.stored", Kind: row.Timestamp, Hidden: true}}
	for _, name := range asked {
		if strings.HasPrefix(name, "headers.") {
			out = append(out, row.Field{Name: "meta." + name, Kind: row.String, Hidden: true})
		}
	}
	return out
}

// Document says how a document over the topic begins.
func (s *source) Document() connect.Origin {
	connection := connect.Quoted(s.Connection.Name)
	with := func(topic, more string) string {
		return "via: kafka\nwith: {connection: " + connection + ", topic: " + connect.Quoted(topic) + more + "}"
	}
	return connect.Origin{Name: string(s.Topic), Stored: true, Source: with(string(s.Topic), ""),
		Sink: func(_, suffix, key string) string {
			lines := with(string(s.Topic)+"."+suffix, ", create: true")
			if key != "" {
				lines += "\nkey: [" + key + "]"
			}
			return lines
		}, Once: true}
}

func (s *source) Open(ctx context.Context, o connect.Opening) (connect.Opened, error) {
	conn, err := reach(s.Connection)
	if err != nil {
		return connect.Opened{}, err
	}
	c := SourceConfig{Connection: conn, Topic: string(s.Topic), Group: s.Group, Begin: s.Begin.begin, BeginAt: s.Begin.at, Bounded: s.Until.set, UntilAt: s.Until.at, Fresh: len(o.Known) == 0, Known: o.Known, Buffer: o.Buffer}
	if !o.Kept {
		c.Group = "" // positions that nothing goes on from are nobody's
	}
	src, err := Open(ctx, c)
	if err != nil {
		return connect.Opened{}, err
	}
	out := connect.Opened{Partitions: src.Partitions(), Find: src.Find, Close: src.Close}
	if s.Until.set {
		out.Find = nil // what is added later is of later
	}
	if c.Fresh && (s.Begin.begin != Earliest || s.Until.set) {
		out.Notes = []string{src.begun()}
	}
	return out, nil
}

// looker reaches the topic's broker.
func (s *source) looker() (*Looker, error) {
	conn, err := reach(s.Connection)
	if err != nil {
		return nil, err
	}
	return Look(conn)
}

// Sample takes events of the topic, and says why there are none.
func (s *source) Sample(ctx context.Context, _ connect.Opening, which connect.Sampling) (connect.Sample, error) {
	var out connect.Sample
	p := PeekConfig{Topic: string(s.Topic), From: which.From, At: which.At, Limit: which.Rows, Wait: which.Wait}
	if which.Partition != "" {
		n, err := strconv.ParseInt(which.Partition, 10, 32)
		if err != nil || n < 0 {
			return out, fmt.Errorf("%w: %s is not a number of a partition; partitions of topics are numbered from 0 on", connect.ErrUsage, which.Partition)
		}
		one := int32(n)
		p.Partition = &one
	}
	l, err := s.looker()
	if err != nil {
		return out, err
	}
	defer l.Close()
	found, err := l.Peek(ctx, p)
	if err != nil {
		return out, err
	}
	if out.Registry, out.Subject, err = connect.RegistryOf(s); err != nil {
		return out, err
	}
	if out.Events = found.Events; len(out.Events) == 0 {
		out.Notes = append(out.Notes, found.whyEmpty(p))
	}
	if stored := found.kept(); s.Begin.begin == Latest && stored > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("begin: latest: a run that starts anew passes over the %d events that are stored by then, such as these", stored))
	}
	return out, nil
}

// kept counts the events that the broker holds, by offsets.
func (f Peeked) kept() (n int64) {
	for _, s := range f.Spans {
		n += s.End - s.Start
	}
	return n
}

// whyEmpty words why nothing was found.
func (f Peeked) whyEmpty(p PeekConfig) string {
	kept, was := f.kept(), int64(0)
	for _, s := range f.Spans {
		was += s.End
	}
	switch {
	case was == 0:
		return fmt.Sprintf("topic %s is empty: nothing was ever sent to it", p.Topic)
	case kept == 0:
		return fmt.Sprintf("topic %s is empty now: it had events up to offset %d, which the broker has deleted", p.Topic, was)
	case p.From == connect.Since:
		return fmt.Sprintf("topic %s has no event stored since %s; look at its newest or oldest instead", p.Topic, p.At.UTC().Format(time.RFC3339))
	}
	return fmt.Sprintf("topic %s has only markers of transactions, or events that are not committed", p.Topic)
}

// Follow gives the events that are stored from now on.
func (s *source) Follow(ctx context.Context, next func([]connect.Event) error) error {
	l, err := s.looker()
	if err != nil {
		return err
	}
	defer l.Close()
	return l.Follow(ctx, string(s.Topic), next)
}

// sink are the settings of a topic that is written.
type sink struct {
	Connection *connect.Connection `set:"connection,required" about:"By its name: of the document, of undertide.yaml, or of the service." missing:"the connection is not named" fix:"add connection: and a name of connections"`
	Topic      topicName           `set:"topic,required" about:"The topic." missing:"the topic is not named" fix:"add topic: and its name" hint:"its name"`
	Create     bool                `set:"create,free" label:"make the topic" about:"Make the topic where the broker lacks it." default:"false"`
	Partitions int32               `set:"partitions,free" least:"1" most:"10000" about:"Of a topic that is made; default: what the broker holds right."`
	Replace    bool                `set:"replace" label:"the newest row of a key counts" about:"The key is the identity of the row, and a withdrawn row a message without a value; for compacted topics." default:"false"`
	Key        settings.FieldNames `set:"key,beside" label:"message key" hint:"fields, with commas between" about:"The fields of the message key."`
}

func (s *sink) Check(c *connect.Checker) {
	if c.Has("partitions") && !s.Create {
		c.Fault("partitions are those of a topic that is made", "add create: true, or leave it out", "partitions")
	}
}

func (s *sink) Atomic() bool { return true }

// Replaces says whether the newest message of a key is the one that counts.
func (s *sink) Replaces() (bool, []string) { return s.Replace, s.Key }

// ReplaceBy is told the identity.
func (s *sink) ReplaceBy(key []string) { s.Key = key }

func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, string(s.Topic) }

// Written gives the newest messages of the topic ([connect.Readable]).
func (s *sink) Written(ctx context.Context, o connect.Opening, rows int) (connect.Sample, error) {
	return (&source{Connection: s.Connection, Topic: s.Topic}).Sample(ctx, o, connect.Sampling{Rows: rows})
}

// Makes says whether the topic is made where it is missing.
func (s *sink) Makes() bool { return s.Create }

func (s *sink) Words(f *connect.Format, schema row.Schema, d connect.Delivering) connect.SinkWords {
	w := connect.SinkWords{Writes: connect.StreamText(s) + ", " + strings.ToUpper(f.Name), Delivery: d.AtLeastOnce(s.Replace), AsMade: !d.Once || !d.Kept}
	if d.Once && d.Kept {
		w.Delivery = d.WithCheckpoints() + ", in one transaction of the broker; readers that take committed messages alone see each once"
	}
	keyed := ""
	if len(s.Key) > 0 {
		keyed = ", keyed by " + strings.Join(s.Key, ", ")
	}
	if s.Replace {
		keyed += "; the newest of a key counts, and one without a value takes it back"
	}
	w.Writes += keyed
	if !s.Create {
		return w
	}
	w.Makes = "topic " + string(s.Topic)
	if s.Partitions > 0 {
		w.Makes += fmt.Sprintf(" with %d partition", s.Partitions)
		if s.Partitions > 1 {
			w.Makes += "s"
		}
	}
	if s.Replace {
		w.Makes += ", compacted"
	}
	var fields []string
	for _, i := range schema.Visible() {
		fields = append(fields, schema[i].Name+" "+schema[i].Kind.String())
	}
	what := "JSON objects"
	if f.Schema != nil {
		what = f.Title + " records, by a schema that is registered as " + string(s.Topic) + "-value, of"
	} else if f.Header {
		what = f.Title + " records, without a line of names, of"
	}
	w.Makes += ", unless it is there; its messages are " + what + " {" + strings.Join(fields, ", ") + "}" + keyed
	return w
}

func (s *sink) Open(_ context.Context, o connect.Opening) (engine.Sink, error) {
	conn, err := reach(s.Connection)
	if err != nil {
		return nil, err
	}
	c := SinkConfig{Connection: conn, Topic: string(s.Topic), Job: o.Job, Sink: o.Name, Key: s.Key, Replace: s.Replace, Create: s.Create, Partitions: s.Partitions}
	if o.Format != nil {
		c.Encode = o.Format.Encode
		if o.Format.Schema != nil {
			c.Schema, c.registered = o.Format.Schema(c.Topic, o.Schema), new(atomic.Int64)
		}
	}
	if o.Shipments != "" {
		return NewOnce(c, staging.New(o.Shipments, o.Name, connect.StreamText(s))), nil
	}
	return NewSink(c), nil
}

func (s *sink) Place(string, bool) string { return connect.StreamText(s) }

// OpenToSend opens a topic for sending.
func (l *Looker) OpenToSend(ctx context.Context, topic string) (connect.Sender, error) {
	w, err := NewWriterTo(ctx, l.c, topic)
	if err != nil {
		return nil, err
	}
	return &sender{w, topic, make(chan error, 1)}, nil
}

// sender sends to one topic, and keeps the first fault until somebody asks.
type sender struct {
	w     *Writer
	topic string
	fault chan error
}

func (s *sender) Send(ctx context.Context, key, text []byte) error {
	s.w.Send(ctx, s.topic, key, text, time.Now(), func(err error) {
		if err != nil {
			select {
			case s.fault <- err:
			default:
			}
		}
	})
	return s.failed()
}

func (s *sender) failed() error {
	select {
	case err := <-s.fault:
		return fmt.Errorf("send to topic %s: %w", s.topic, err)
	default:
		return nil
	}
}

func (s *sender) Flush(ctx context.Context) error { return errors.Join(s.w.Flush(ctx), s.failed()) }
func (s *sender) Close()                          { s.w.Close() }
