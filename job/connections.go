package job

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
)

// ConnectionsFile is looked for in the working folder.
const ConnectionsFile = "undertide.yaml"

// ParseConnections reads connections from YAML with the field connections. Faults come as [Faults].
func ParseConnections(file, text string, opt Options) (map[string]*connect.Connection, error) {
	r, root := readSettings(file, text, opt)
	out := r.connectionsIn(root)
	if len(r.faults) > 0 {
		return out, r.said(r.faults, 0, "mistakes")
	}
	return out, nil
}

// readSettings reads the YAML of an undertide.yaml; nil where there is nothing to read.
func readSettings(file, text string, opt Options) (*reader, *node) {
	if opt.Env == nil {
		opt.Env = os.LookupEnv
	}
	r := &reader{ctx: context.Background(), file: file, opt: opt}
	root := r.readYAML(text)
	if root == nil || root.kind == nullNode || !r.mapping(root, "", fieldSpec{known: []string{"connections", "service"}}) {
		return r, nil
	}
	return r, root
}

func (r *reader) connectionsIn(root *node) map[string]*connect.Connection {
	out := map[string]*connect.Connection{}
	r.connections(root.get("connections"), out)
	return out
}

// LoadConnections reads the connections of a working folder's undertide.yaml; none when the file is
// not there. Faults come as [Faults].
func LoadConnections(path string) (map[string]*connect.Connection, error) {
	s, err := LoadSettings(path)
	return s.Connections, err
}

// Settings are those of a working folder, undertide.yaml.
type Settings struct {
	Connections map[string]*connect.Connection
	// Files, Env and User are what `serve` takes by flags of these names.
	Files, Env []string
	User       string
}

// LoadSettings reads a working folder's undertide.yaml; nothing when the file is not there. Faults come as [Faults].
func LoadSettings(path string) (Settings, error) {
	var out Settings
	text, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return out, nil
	}
	if err != nil {
		return out, fmt.Errorf("read connections: %w", err)
	}
	r, root := readSettings(path, string(text), Options{})
	if out.Connections = r.connectionsIn(root); root != nil {
		r.service(root.get("service"), &out)
	}
	needs, root := readSettings(path, string(text), Options{NeedEnv: true})
	needs.connectionsIn(root)
	if len(r.faults) > 0 { // what a variable lacks may be the cause
		if len(needs.faults) > 0 {
			r = needs
		}
		return Settings{}, r.said(r.faults, 0, "mistakes")
	}
	for name, c := range out.Connections { // a variable that is missing matters to who uses the connection
		if missing := faultsAt(needs.faults, "connections."+name); len(missing) > 0 {
			c.Unready = missing
		}
	}
	return out, nil
}

// faultsAt gives the faults of a place.
func faultsAt(all Faults, place string) (out Faults) {
	for _, f := range all {
		if f.Place == place || strings.HasPrefix(f.Place, place+".") {
			out = append(out, f)
		}
	}
	return out
}

func (r *reader) service(n *node, out *Settings) {
	if n == nil || !r.mapping(n, "service", fieldSpec{known: []string{"files", "env", "user"}}) {
		return
	}
	if v := n.get("files"); v != nil {
		out.Files, _ = r.names(v, "service.files")
	}
	if v := n.get("env"); v != nil {
		out.Env, _ = r.names(v, "service.env")
	}
	out.User = r.optionalText(n.get("user"), "service.user")
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
		r.aside = r.opt.SinksAside && !r.forSources[k.text]
		if c := r.connection(k, n.values[i], join("connections", k.text)); c != nil {
			out[k.text] = c
		}
		r.aside = false
	}
}

// namedBySources gives the connections that sources, or references, name.
func namedBySources(lists ...*node) map[string]bool {
	out := map[string]bool{}
	for _, list := range lists {
		if list == nil {
			continue
		}
		for _, s := range list.values {
			if with := s.get("with"); with != nil {
				if c := with.get("connection"); c != nil {
					out[c.text] = true
				}
			}
		}
	}
	return out
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
	r.bound(n, place, c)
	c.Link.Check(s.checker(connect.Checker{Name: k.text}))
	return c
}

// bound asks whether the secrets that a connection names may go where it leads.
func (r *reader) bound(n *node, place string, c *connect.Connection) {
	if r.opt.SecretFor == nil || r.aside {
		return
	}
	for _, name := range secretsIn(n) {
		if err := r.opt.SecretFor(name, c.Link.Words().Addresses()); err != nil {
			message, remedy, _ := strings.Cut(err.Error(), "; ")
			r.fault(n, place, message, remedy)
		}
	}
}

// secretsIn names the secrets that stand in a part of a document.
func secretsIn(n *node) (out []string) {
	if n == nil {
		return nil
	}
	for _, m := range secretName.FindAllStringSubmatch(n.text, -1) {
		out = append(out, m[1])
	}
	for _, v := range n.values {
		out = append(out, secretsIn(v)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

var secretName = regexp.MustCompile(`\$\{secret\.([^}]*)\}`)

// Secrets names the secrets that the document names.
func (d *Document) Secrets() []string { return secretsIn(d.root) }

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
		if faults := Faults(nil); b.needs() && errors.As(c.Unready, &faults) && len(faults) > 0 {
			b.fault(n, place, "connection "+name+": "+faults[0].Message, faults[0].Remedy)
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
