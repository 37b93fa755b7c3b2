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
}

var (
	connectionFields  = fieldSpec{known: []string{"via", "brokers"}, later: []string{"tls", "sasl", "registry", "url", "user", "password", "address"}}
	kafkaSourceFields = fieldSpec{known: []string{"connection", "topic", "group"}}
	kafkaSinkFields   = fieldSpec{known: []string{"connection", "topic"}, later: []string{"replace", "create"}}
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
	r := &reader{file: path, opt: Options{Env: os.LookupEnv, NeedEnv: true}}
	out := map[string]Connection{}
	if root := r.readYAML(string(text)); root != nil && root.kind != nullNode && r.mapping(root, "", fieldSpec{known: []string{"connections"}}) {
		r.connections(root.get("connections"), out)
	}
	if len(r.faults) > 0 {
		r.faults.sort()
		return nil, r.faults
	}
	return out, nil
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
		out[k.text] = c
	}
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
