package job

import (
	"context"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
)

// ConnectionsFile is looked for in the working folder.
const ConnectionsFile = "undertide.yaml"

// ParseConnections reads connections from YAML with the field connections. Faults come as [Faults].
func ParseConnections(file, text string, opt Options) (map[string]*connect.Connection, error) {
	if opt.Env == nil {
		opt.Env = os.LookupEnv
	}
	r := &reader{ctx: context.Background(), file: file, opt: opt}
	out := map[string]*connect.Connection{}
	if root := r.readYAML(text); root != nil && root.kind != nullNode && r.mapping(root, "", fieldSpec{known: []string{"connections"}}) {
		r.connections(root.get("connections"), out)
	}
	if len(r.faults) > 0 {
		return nil, r.said(r.faults, 0, "faults")
	}
	return out, nil
}

// LoadConnections reads the connections of a working folder's undertide.yaml; none when the file is
// not there. Faults come as [Faults].
func LoadConnections(path string) (map[string]*connect.Connection, error) {
	text, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read connections: %w", err)
	}
	return ParseConnections(path, string(text), Options{NeedEnv: true})
}

// linkKinds are the kinds of connectors that have connections.
func linkKinds() (out []string) {
	for _, k := range connect.Kinds() {
		if k.Link != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

// connections reads a mapping of connections into out. Each stands in out by its name also where it has faults, so
// that what names it is not faulted again.
func (r *reader) connections(n *node, out map[string]*connect.Connection) {
	if n == nil {
		return
	}
	if n.kind != mapNode {
		r.fault(n, "connections", fmt.Sprintf("%s stands where connections belong", n.kind), "write connections: {harbour: {via: kafka, brokers: [127.0.0.1:9092]}}")
		return
	}
	for i, k := range n.keys {
		if c := r.connection(k, n.values[i], join("connections", k.text)); c != nil {
			out[k.text] = c
		}
	}
}

func (r *reader) connection(k, n *node, place string) *connect.Connection {
	if n.kind != mapNode {
		r.mapping(n, place, fieldSpec{known: []string{"via"}})
		return nil
	}
	via := n.get("via")
	if via == nil {
		r.fault(k, place+".via", "the connection does not say what it reaches", "add via: and one of "+strings.Join(linkKinds(), ", "))
		return nil
	}
	name := r.choice(via, place+".via", linkKinds(), connect.NotBuilt.Links)
	if name == "" {
		return nil
	}
	kind := connect.KindNamed(name)
	c := &connect.Connection{Name: k.text, Kind: kind, Link: kind.Link()}
	list := settings.Of(c.Link)
	if !r.mapping(n, place, fieldSpec{known: append([]string{"via"}, namesOf(list)...), later: settings.LaterOf(c.Link)}) {
		return nil
	}
	s := settingsReader{reader: r, within: n, beside: n, place: place, outside: place}
	s.read(n, place, list, reflect.ValueOf(c.Link))
	c.Link.Check(s.checker(connect.Checker{Name: k.text}))
	return c
}

func namesOf(list []settings.Setting) (out []string) {
	for i := range list {
		out = append(out, list[i].Name)
	}
	return out
}

// named finds the connection that a source or sink of a kind names.
func (b *builder) named(n *node, place, kind string) *connect.Connection {
	name, ok := b.text(n, place)
	if !ok {
		return nil
	}
	if c, ok := b.known[name]; ok {
		if c.Kind.Name != kind {
			b.fault(n, place, fmt.Sprintf("connection %s is a %s connection and no %s one", name, c.Kind.Name, kind), "name another, or say via: "+c.Kind.Name)
		}
		return c
	}
	remedy := "describe it under connections: in the document or in " + ConnectionsFile
	if len(b.known) > 0 {
		remedy += "; known: " + strings.Join(slices.Sorted(maps.Keys(b.known)), ", ")
	}
	if own := b.doc.get("connections"); own == nil || own.get(name) == nil { // else its own fault was said
		b.fault(n, place, "there is no connection "+name, remedy)
	}
	return nil
}
