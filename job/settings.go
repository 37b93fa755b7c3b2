package job

import (
	"encoding"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/settings"
	"undertide/core/expr"
	"undertide/core/row"
)

// settingsReader fills a described struct (package settings) from a mapping, with the place of each fault.
type settingsReader struct {
	*reader
	job *builder // for connections and expressions; nil where there can be none
	// within is the mapping of the settings, at place; beside is the one around it, for those that stand beside `via`.
	within, beside *node
	place, outside string
	kind           string     // of the connector
	schema         row.Schema // of a sink, whose names of fields are checked
}

// read fills a struct's fields from a mapping whose names were checked. It says what is missing at the mapping itself.
func (s *settingsReader) read(n *node, place string, list []settings.Setting, into reflect.Value) {
	for into.Kind() == reflect.Pointer {
		into = into.Elem()
	}
	for i := range list {
		one, from, at := &list[i], n, place
		if one.Beside {
			from, at = s.beside, s.outside
		}
		at = join(at, one.Name)
		v := from.get(one.Name)
		switch {
		case v != nil:
			s.value(v, at, one, one.In(into))
		case one.Required:
			message, remedy := one.Missing, one.Fix
			if message == "" {
				message, remedy = one.Name+" is missing", "give "+strings.Join(required(list), ", ")
			}
			s.fault(from, at, message, remedy)
		}
	}
}

func required(list []settings.Setting) (out []string) {
	for i := range list {
		if list[i].Required {
			out = append(out, list[i].Name)
		}
	}
	return out
}

// value fills one field. What is wrong leaves it as it was.
func (s *settingsReader) value(n *node, place string, one *settings.Setting, into reflect.Value) {
	switch one.Type {
	case settings.Group:
		if !s.mapping(n, place, fieldSpec{known: namesOf(one.Settings), later: one.Later}) {
			return
		}
		if into.Kind() == reflect.Pointer {
			into.Set(reflect.New(into.Type().Elem()))
		}
		s.read(n, place, one.Settings, into)
	case settings.Named:
		s.named(n, place, one, into)
	case settings.Connection:
		if c := s.job.named(n, place, s.kind); c != nil {
			into.Set(reflect.ValueOf(c))
		}
	case settings.Choice:
		into.SetString(s.choice(n, place, one.Choices, one.Later))
	case settings.Bool:
		into.SetBool(s.boolean(n, place))
	case settings.Duration:
		d, _ := s.duration(n, place, false)
		into.SetInt(int64(d))
	case settings.Whole:
		s.wholeNumber(n, place, one, into)
	case settings.Number:
		f, _ := s.double(n, place)
		into.SetFloat(f)
	case settings.Names:
		s.fieldNames(n, place, into)
	case settings.Texts, settings.Numbers, settings.Scalars:
		s.list(n, place, one, into)
	case settings.Secret:
		s.secret(n, place, one, into)
	case settings.Key:
		if text, ok := s.secretText(n, place); ok {
			into.SetString(text)
		}
		if strings.Contains(n.text, "-----BEGIN") {
			s.fault(n, place, "a key stands in the clear", "write ${secret.NAME} or ${env.NAME}, or the path of its file")
		} else if !strings.HasPrefix(n.text, "${") {
			s.pem(n, place, into.String())
		}
	case settings.Path:
		if !s.takesOnly(n, place, "a path", "path", "string") {
			return
		}
		if text, ok := s.text(n, place); ok {
			into.SetString(text)
			s.path(n, place, text)
		}
	case settings.PEM:
		s.plainText(n, place, into)
		if !strings.HasPrefix(n.text, "${") {
			s.pem(n, place, into.String())
		}
	case settings.Expression:
		into.SetString(n.text) // compiled by whoever checks it, at this place
	default:
		s.plainText(n, place, into)
	}
}

var sizeType = reflect.TypeFor[settings.Size]()

// plainText fills a string, or what reads itself from text; its error is the fault, `what is wrong; what would be right`.
func (s *settingsReader) plainText(n *node, place string, into reflect.Value) {
	switch {
	case into.Type() == sizeType && !s.takesOnly(n, place, "a size", "size"),
		strings.HasSuffix(place, ".topic") && !s.takesOnly(n, place, "a topic", "topic", "string"):
		return
	}
	text, ok := s.text(n, place)
	if !ok {
		return
	}
	u, own := into.Addr().Interface().(encoding.TextUnmarshaler)
	if !own {
		into.SetString(text)
		return
	}
	if err := u.UnmarshalText([]byte(text)); err != nil {
		message, remedy, _ := strings.Cut(err.Error(), "; ")
		s.fault(n, place, message, remedy)
	}
}

func (s *settingsReader) wholeNumber(n *node, place string, one *settings.Setting, into reflect.Value) {
	v, ok := s.whole(n, place, max(one.Least, -1<<53))
	switch {
	case !ok:
	case v > one.Most:
		s.fault(n, place, fmt.Sprintf("%d is more than %d", v, one.Most), fmt.Sprintf("give at most %d", one.Most))
	case into.CanUint():
		into.SetUint(uint64(v))
	default:
		into.SetInt(v)
	}
}

// secret takes a whole reference and nothing else, so that nothing secret stands in a document.
func (s *settingsReader) secret(n *node, place string, one *settings.Setting, into reflect.Value) {
	if !wholeReference(n.text) {
		s.fault(n, place, "a "+one.Name+" stands in the clear", "write ${secret.NAME} and store it by undertide secrets set NAME, or ${env.NAME}")
		return
	}
	if text, ok := s.secretText(n, place); ok {
		into.SetString(text)
	}
}

// wholeReference says whether a text is one ${secret.NAME} or ${env.NAME} and nothing else.
func wholeReference(text string) bool {
	return (strings.HasPrefix(text, "${secret.") || strings.HasPrefix(text, "${env.")) && strings.HasSuffix(text, "}") && strings.Count(text, "${") == 1
}

func (s *settingsReader) fieldNames(n *node, place string, into reflect.Value) {
	names, at := s.names(n, place)
	var out settings.FieldNames
	for i, name := range names {
		if len(s.schema) > 0 && s.schema.Index(name) < 0 {
			s.fault(at[i], place, "there is no field "+name, s.didYouMean(name, s.schema.Names()))
			continue
		}
		out = append(out, name)
	}
	into.Set(reflect.ValueOf(out))
}

// list fills a slice of texts, numbers, or of both.
func (s *settingsReader) list(n *node, place string, one *settings.Setting, into reflect.Value) {
	if n.kind != listNode {
		s.fault(n, place, fmt.Sprintf("%s stands where a list belongs", n.kind), one.Fix)
		return
	}
	if len(n.values) == 0 && one.Required {
		s.fault(n, place, one.Missing, one.Fix)
		return
	}
	out := reflect.MakeSlice(into.Type(), 0, len(n.values))
	for _, v := range n.values {
		if v.kind == mapNode && len(v.keys) == 1 && v.values[0].kind == scalarNode { // host:port, unquoted in a flow list
			v.kind, v.text, v.plain = scalarNode, v.keys[0].text+":"+v.values[0].text, true
		}
		e := reflect.New(into.Type().Elem()).Elem()
		switch before := len(s.faults); one.Type {
		case settings.Numbers:
			f, _ := s.double(v, place)
			e.SetFloat(f)
			if len(s.faults) > before {
				return
			}
		case settings.Scalars:
			text, ok := s.text(v, place)
			if !ok {
				return
			}
			e.Set(reflect.ValueOf(settings.Scalar{Text: text, Quoted: v.quoted}))
		default:
			if s.plainText(v, place, e); len(s.faults) > before {
				continue
			}
		}
		out = reflect.Append(out, e)
	}
	into.Set(out)
}

// named fills a slice of entries from a mapping of names to groups.
func (s *settingsReader) named(n *node, place string, one *settings.Setting, into reflect.Value) {
	if n.kind != mapNode || len(n.keys) == 0 {
		s.fault(n, place, one.Missing, one.Fix)
		return
	}
	for i, k := range n.keys {
		at := join(place, k.text)
		if !s.mapping(n.values[i], at, fieldSpec{known: namesOf(one.Settings), later: one.Later}) {
			continue
		}
		e := reflect.New(into.Type().Elem()).Elem()
		e.Field(0).SetString(k.text)
		before := len(s.faults)
		if s.read(n.values[i], at, one.Settings, e.Field(1)); len(s.faults) == before {
			into.Set(reflect.Append(into, e))
		}
	}
}

// pem checks what is PEM, or the path of a file of it.
func (r *reader) pem(n *node, place, text string) {
	if !strings.HasPrefix(strings.TrimSpace(text), "-----BEGIN") {
		r.path(n, place, text)
	}
}

// path refuses relative paths where the document has no folder, and those that are in no folder that it may name.
func (r *reader) path(n *node, place, path string) {
	if settings.Elsewhere(path) {
		return
	}
	before := len(r.faults)
	r.absolute(n, place, path)
	if err := r.opt.Files.Allows(path); err != nil && path != "" && !r.aside && len(r.faults) == before {
		message, remedy, _ := strings.Cut(err.Error(), "; ")
		r.fault(n, place, message, remedy)
	}
}

// absolute refuses relative paths where the document has no folder.
func (r *reader) absolute(n *node, place, path string) {
	switch {
	case !r.opt.Absolute || path == "" || strings.HasPrefix(path, "/"):
	case path == "-":
		r.fault(n, place, "a service has no standard input or output", "name a file")
	default:
		r.fault(n, place, "the path "+path+" is relative, and a job in a service has no folder", "write the whole path, from /")
	}
}

// checker gives what the settings check themselves by.
func (s *settingsReader) checker(c connect.Checker) *connect.Checker {
	c.Absolute, c.Files = s.opt.Absolute, s.opt.Files
	c.Nearest = s.didYouMean
	c.Has = func(at ...string) bool {
		_, _, whole := s.find(at)
		return whole
	}
	c.Fault = func(message, remedy string, at ...string) {
		n, place, _ := s.find(at)
		s.fault(n, place, message, remedy)
	}
	c.Warn = func(message, remedy string, at ...string) {
		n, place, _ := s.find(at)
		s.warn(n, place, message, remedy)
	}
	c.Expression = func(_ settings.ExpressionText, fields row.Schema, at ...string) *expr.Program {
		n, place, _ := s.find(at)
		return s.expression(n, place, expr.Scope{Fields: fields, Values: s.job.job.Values})
	}
	return &c
}

// find gives the node of a place and its name, or the nearest around it that stands in the document; whole says that
// it is the place itself. What stands beside `via` is found there.
func (s *settingsReader) find(at []string) (n *node, place string, whole bool) {
	n, place = s.within, s.place
	if len(at) > 0 && s.within != s.beside && s.within.get(at[0]) == nil && s.beside.get(at[0]) != nil && at[0] != "with" {
		n, place = s.beside, s.outside
	}
	whole = true
	for _, name := range at {
		place = join(place, name)
		if v := n.get(name); v != nil && whole {
			n = v
		} else {
			whole = false
		}
	}
	return n, place, whole
}

// roleOf says which settings of all kinds stand beside `via` in sources, or sinks.
func besideOf(sinks bool) (out []string) {
	add := func(described any) {
		for _, s := range settings.Of(described) {
			if s.Beside && !slices.Contains(out, s.Name) {
				out = append(out, s.Name)
			}
		}
	}
	for _, k := range connect.Kinds() {
		if sinks && k.Sink != nil {
			add(k.Sink())
		} else if !sinks && k.Source != nil {
			add(k.Source())
		}
	}
	if !sinks {
		for _, f := range connect.Formats() {
			if f.Decode != nil {
				add(f.Decode())
			}
		}
	}
	return out
}

// ParseDuration reads the durations of documents: whole numbers with the units us, ms, s, m, h, d
// (24 hours), greatest first.
func ParseDuration(s string) (time.Duration, error) { return settings.ParseDuration(s) }
