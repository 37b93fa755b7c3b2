package job

import (
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/row"
)

// Connection is a named way to reach a broker. The nearest wins: the document's own, then those of
// the working folder's undertide.yaml, then the service's.
type Connection struct {
	Name    string
	Via     string   // kafka
	Brokers []string // host:port
	TLS     *TLS     // nil: in the clear
	SASL    *SASL    // nil: nobody signs in
}

// TLS are a connection's settings of it. CA, Cert and Key are PEM, or the paths of files of it.
type TLS struct{ CA, Cert, Key, ServerName string }

// SASL is how a connection signs in. Password is empty where the document was only read.
type SASL struct{ Mechanism, User, Password string }

// ParseConnections reads connections from YAML with the field connections. Faults come as [Faults].
func ParseConnections(file, text string, opt Options) (map[string]Connection, error) {
	if opt.Env == nil {
		opt.Env = os.LookupEnv
	}
	r := &reader{file: file, opt: opt}
	out := map[string]Connection{}
	if root := r.readYAML(text); root != nil && root.kind != nullNode && r.mapping(root, "", fieldSpec{known: []string{"connections"}}) {
		r.connections(root.get("connections"), out)
	}
	if len(r.faults) > 0 {
		r.faults.sort()
		return nil, r.faults
	}
	return out, nil
}

// ConnectionsFile is looked for in the working folder.
const ConnectionsFile = "undertide.yaml"

// KafkaSource are the settings of a topic that is read.
type KafkaSource struct {
	Connection Connection
	Topic      string
	Group      string // positions are committed to it for other tools; by default undertide.JOB
	Begin      string // earliest, latest or time
	BeginAt    time.Time
}

// KafkaSink are the settings of a topic that is written.
type KafkaSink struct {
	Connection Connection
	Topic      string
	Key        []string // fields of the message key
	// Create makes the topic where the broker lacks it, with Partitions, or what the broker holds right.
	Create     bool
	Partitions int32
}

var (
	connectionFields  = fieldSpec{known: []string{"via", "brokers", "tls", "sasl"}, later: []string{"registry", "url", "user", "password", "address"}}
	tlsFields         = fieldSpec{known: []string{"ca", "cert", "key", "server_name"}}
	saslFields        = fieldSpec{known: []string{"mechanism", "user", "password"}}
	kafkaSourceFields = fieldSpec{known: []string{"connection", "topic", "group"}}
	kafkaSinkFields   = fieldSpec{known: []string{"connection", "topic", "create", "partitions"}, later: []string{"replace"}}
	sinkVias          = []string{"file", "kafka"}
)

// LoadConnections reads the connections of a working folder's undertide.yaml; none when the file is
// not there. Faults come as [Faults].
func LoadConnections(path string) (map[string]Connection, error) {
	text, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read connections: %w", err)
	}
	return ParseConnections(path, string(text), Options{NeedEnv: true})
}

// connections reads a mapping of connections into out.
func (r *reader) connections(n *node, out map[string]Connection) {
	if n == nil {
		return
	}
	if n.kind != mapNode {
		r.fault(n, "connections", fmt.Sprintf("%s stands where connections belong", n.kind), "write connections: {harbour: {via: kafka, brokers: [127.0.0.1:9092]}}")
		return
	}
	for i, k := range n.keys {
		place := join("connections", k.text)
		v := n.values[i]
		if !r.mapping(v, place, connectionFields) {
			continue
		}
		c := Connection{Name: k.text}
		if via := v.get("via"); via == nil {
			r.fault(k, place+".via", "the connection does not say what it reaches", "add via: kafka")
		} else {
			c.Via = r.choice(via, place+".via", []string{"kafka"}, []string{"postgres", "http", "mqtt", "mail"})
		}
		list := v.get("brokers")
		if list == nil || list.kind != listNode || len(list.values) == 0 {
			r.fault(k, place+".brokers", "the brokers are not named", "add brokers: [127.0.0.1:9092]")
			continue
		}
		for _, b := range list.values {
			if b.kind == mapNode && len(b.keys) == 1 && b.values[0].kind == scalarNode { // host:port, unquoted in a flow list
				b.kind, b.text, b.plain = scalarNode, b.keys[0].text+":"+b.values[0].text, true
			}
			s, ok := r.text(b, place+".brokers")
			if !ok {
				continue
			}
			_, port, err := net.SplitHostPort(s)
			if n, e := strconv.Atoi(port); err != nil || e != nil || n < 1 || n > 65535 {
				r.fault(b, place+".brokers", fmt.Sprintf("%q is no address of a broker", s), "write host:port, such as 127.0.0.1:9092")
			}
			c.Brokers = append(c.Brokers, s)
		}
		if v := v.get("tls"); v != nil && r.mapping(v, place+".tls", tlsFields) {
			c.TLS = &TLS{CA: r.optionalText(v.get("ca"), place+".tls.ca"), Cert: r.optionalText(v.get("cert"), place+".tls.cert"), ServerName: r.optionalText(v.get("server_name"), place+".tls.server_name")}
			if key := v.get("key"); key != nil {
				c.TLS.Key, _ = r.secretText(key, place+".tls.key")
				if strings.Contains(key.text, "-----BEGIN") {
					r.fault(key, place+".tls.key", "a key stands in the clear", "write ${secret.NAME} or ${env.NAME}, or the path of its file")
				}
			}
			if (v.get("cert") == nil) != (v.get("key") == nil) {
				r.fault(v, place+".tls", "cert and key belong together", "give both or none")
			}
		}
		if v := v.get("sasl"); v != nil && r.mapping(v, place+".sasl", saslFields) {
			c.SASL = r.sasl(k, v, place+".sasl")
		}
		out[k.text] = c
	}
}

func (r *reader) sasl(k, n *node, place string) *SASL {
	out := &SASL{}
	if m := n.get("mechanism"); m == nil {
		r.fault(k, place+".mechanism", "the way to sign in is not said", "add mechanism: plain, scram-sha-256 or scram-sha-512")
	} else {
		out.Mechanism = r.choice(m, place+".mechanism", []string{"plain", "scram-sha-256", "scram-sha-512"}, nil)
	}
	if u := n.get("user"); u == nil {
		r.fault(k, place+".user", "the user is not named", "add user:")
	} else {
		out.User, _ = r.text(u, place+".user")
	}
	p := n.get("password")
	switch {
	case p == nil:
		r.fault(k, place+".password", "the password is missing", "add password: ${secret.NAME}, or ${env.NAME}")
	case !wholeReference(p.text):
		r.fault(p, place+".password", "a password stands in the clear", "write ${secret.NAME} and store it by undertide secrets set NAME, or ${env.NAME}")
	default:
		out.Password, _ = r.secretText(p, place+".password")
	}
	return out
}

// wholeReference says whether a text is one ${secret.NAME} or ${env.NAME} and nothing else.
func wholeReference(text string) bool {
	return (strings.HasPrefix(text, "${secret.") || strings.HasPrefix(text, "${env.")) && strings.HasSuffix(text, "}") && strings.Count(text, "${") == 1
}

// connection finds the connection that a source or sink names.
func (b *builder) connection(n *node, place string, parent *node) Connection {
	if n == nil {
		b.fault(parent, place, "the connection is not named", "add connection: and a name of connections")
		return Connection{}
	}
	name, ok := b.text(n, place)
	if !ok {
		return Connection{}
	}
	if c, ok := b.known[name]; ok {
		return c
	}
	remedy := "describe it under connections: in the document or in " + ConnectionsFile
	if len(b.known) > 0 {
		remedy += "; known: " + strings.Join(slices.Sorted(maps.Keys(b.known)), ", ")
	}
	if own := b.doc.get("connections"); own == nil || own.get(name) == nil { // else its own fault was said
		b.fault(n, place, "there is no connection "+name, remedy)
	}
	return Connection{}
}

func (b *builder) topic(n *node, place string, parent *node) string {
	if n == nil {
		b.fault(parent, place, "the topic is not named", "add topic: and its name")
		return ""
	}
	s, _ := b.text(n, place)
	ok := s != "" && len(s) <= 249 && s != "." && s != ".."
	for _, c := range s {
		ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' || c == '_' || c == '-')
	}
	if !ok {
		b.fault(n, place, fmt.Sprintf("%q is no name of a topic", s), "use letters, digits, dots, _ and -")
	}
	return s
}

func (b *builder) kafkaSource(n *node, place string) KafkaSource {
	k := KafkaSource{Begin: "earliest", Group: "undertide." + b.job.Name}
	if !b.mapping(n, place, kafkaSourceFields) {
		return k
	}
	k.Connection = b.connection(n.get("connection"), place+".connection", n)
	k.Topic = b.topic(n.get("topic"), place+".topic", n)
	if g := n.get("group"); g != nil {
		k.Group, _ = b.text(g, place+".group")
	}
	return k
}

// begin reads where a topic's first run starts.
func (b *builder) begin(n *node, place string, k *KafkaSource) {
	s, ok := b.text(n, place)
	if !ok {
		return
	}
	if s == "earliest" || s == "latest" {
		k.Begin = s
		return
	}
	at, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		b.fault(n, place, s+" is neither earliest, latest nor a time", "write a time such as 2026-03-01T00:00:00Z")
	}
	k.Begin, k.BeginAt = "time", at
}

func (b *builder) kafkaSink(n *node, place string, s *Sink) {
	if !b.mapping(n, place, kafkaSinkFields) {
		return
	}
	s.Kafka.Connection = b.connection(n.get("connection"), place+".connection", n)
	s.Kafka.Topic = b.topic(n.get("topic"), place+".topic", n)
	s.Kafka.Create = b.boolean(n.get("create"), place+".create")
	if p := n.get("partitions"); p != nil {
		many, _ := b.whole(p, place+".partitions", 1)
		s.Kafka.Partitions = int32(min(many, 10_000))
		if !s.Kafka.Create {
			b.fault(p, place+".partitions", "partitions are those of a topic that is made", "add create: true, or leave it out")
		}
	}
	for i := range b.job.Sources {
		if in := &b.job.Sources[i]; in.Via == "kafka" && s.Kafka.Topic != "" && in.Kafka.Topic == s.Kafka.Topic && in.Kafka.Connection.Name == s.Kafka.Connection.Name {
			b.fault(n, place+".topic", fmt.Sprintf("the sink writes topic %s, which source %s reads: the job would read its own rows", s.Kafka.Topic, in.Name), "name another topic")
		}
	}
}

// sinkKey reads the fields of a message key.
func (b *builder) sinkKey(n *node, place string, s *Sink) {
	names, at := b.names(n, place)
	for i, name := range names {
		if len(s.Schema) > 0 && s.Schema.Index(name) < 0 {
			b.fault(at[i], place, "there is no field "+name, didYouMean(name, s.Schema.Names()))
			continue
		}
		s.Kafka.Key = append(s.Kafka.Key, name)
	}
}

// metaFields are the hidden fields that a source's expressions may name.
func (b *builder) metaFields(via string) row.Schema {
	all := row.Schema{{Name: "meta.partition", Kind: row.String, Hidden: true}, {Name: "meta.offset", Kind: row.Int, Hidden: true}}
	if via == "kafka" {
		all = append(all, row.Field{Name: "meta.key", Kind: row.String, Hidden: true}, row.Field{Name: "meta.stored", Kind: row.Timestamp, Hidden: true})
		for _, name := range sortedKeys(b.asked) {
			if strings.HasPrefix(name, "headers.") {
				all = append(all, row.Field{Name: "meta." + name, Kind: row.String, Hidden: true})
			}
		}
	}
	return slices.DeleteFunc(all, func(f row.Field) bool { return !b.asked[strings.TrimPrefix(f.Name, "meta.")] })
}
