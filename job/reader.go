package job

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/expr"
)

// reader walks the nodes of a document and collects faults and warnings.
type reader struct {
	ctx        context.Context // of whoever waits for the reading
	file       string
	lines      []string
	opt        Options
	faults     Faults
	warnings   Faults
	unsaid     [2]int                    // faults and warnings beyond maxFaults
	written    int                       // bytes of expressions so far
	hidden     map[string]string         // values of variables that no message shows, to their names
	forSources map[string]bool           // connections that sources name
	constants  map[string]value          // of the document, by name
	functions  map[string]*expr.Function // of the document, by name
	unmade     map[string]bool           // functions that are not compiled, or cannot be
	texts      map[string]string         // of functions, as they are written
	aside      bool                      // what is read belongs to sinks that are not opened
}

func (r *reader) faultAt(line, column int, place, message, remedy string) {
	r.note(&r.faults, 0, Fault{File: r.file, Line: line, Column: column, Place: place, Message: message, Remedy: remedy})
}

// note adds a fault or warning as long as it will be said; the rest are counted.
func (r *reader) note(list *Faults, which int, f Fault) {
	if len(*list) >= maxFaults {
		r.unsaid[which]++
		return
	}
	for value, name := range r.hidden {
		f.Message, f.Remedy = strings.ReplaceAll(f.Message, value, name), strings.ReplaceAll(f.Remedy, value, name)
	}
	f.Place, f.Message, f.Remedy = shorten(f.Place), shorten(f.Message), shorten(f.Remedy)
	*list = append(*list, f)
}

// over says that reading has no more to find: whoever waited has gone, or there are more faults than are said.
func (r *reader) over() bool { return len(r.faults) >= maxFaults || r.ctx.Err() != nil }

// shorten cuts a text that would fill a screen, such as a name of a megabyte.
func shorten(s string) string {
	const most = 600
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + " …"
}

// didYouMean words the remedy for an unknown name, where the fault is said.
func (r *reader) didYouMean(wrong string, known []string) string {
	if r.over() {
		return ""
	}
	return didYouMean(wrong, known)
}

// said gives faults or warnings in the document's order, each once, with a word of those that are not said.
func (r *reader) said(list Faults, which int, noun string) Faults {
	list.sort()
	list = slices.CompactFunc(list, func(a, b Fault) bool { return a == b })
	if n := r.unsaid[which]; n > 0 {
		last := list[len(list)-1]
		list = append(list, Fault{File: r.file, Line: last.Line, Column: last.Column, Message: fmt.Sprintf("and %d more %s, as far as they were looked for", n, noun), Remedy: "put these right first"})
	}
	return list
}

func (r *reader) fault(n *node, place, message, remedy string) {
	r.faultAt(n.line, n.column, place, message, remedy)
}

func (r *reader) warn(n *node, place, message, remedy string) {
	r.note(&r.warnings, 1, Fault{File: r.file, Line: n.line, Column: n.column, Place: place, Message: message, Remedy: remedy})
}

const seeDocs = "see docs/job-document.md for what there is"

// fieldSpec says what keys a mapping may have.
type fieldSpec struct {
	known []string // built
	later []string // in the contract, refused until they are built
}

// mapping checks that n is a mapping of known keys, and reports each other one.
func (r *reader) mapping(n *node, place string, spec fieldSpec) bool {
	if n == nil {
		return false
	}
	if n.kind != mapNode {
		r.fault(n, place, fmt.Sprintf("%s stands where a mapping belongs", n.kind), "fields: "+strings.Join(spec.known, ", "))
		return false
	}
	for _, k := range n.keys {
		switch {
		case slices.Contains(spec.known, k.text):
		case slices.Contains(spec.later, k.text):
			r.fault(k, join(place, k.text), k.text+" is not built yet", seeDocs)
		default:
			r.fault(k, join(place, k.text), "unknown field "+k.text, r.didYouMeanOf(k.text, spec.known, spec.later))
		}
	}
	return true
}

func join(place, name string) string {
	if place == "" {
		return name
	}
	return place + "." + name
}

// needs says whether what a run needs has to be there for what is read now.
func (r *reader) needs() bool { return r.opt.NeedEnv && !r.aside }

// text gives a scalar with its ${…} filled in; false, with a fault, when there is none.
func (r *reader) text(n *node, place string) (string, bool) {
	if n == nil {
		return "", false
	}
	if n.kind != scalarNode || n.text == "" && n.plain {
		r.fault(n, place, fmt.Sprintf("%s stands where a text belongs", n.kind), "give a text")
		return "", false
	}
	return r.fill(n, place)
}

// secretText is text that may name secrets; what it gives must not be shown.
func (r *reader) secretText(n *node, place string) (string, bool) {
	if name, is := strings.CutPrefix(n.text, "${secret."); is && strings.HasSuffix(name, "}") {
		name = strings.TrimSuffix(name, "}")
		if r.aside {
			return "", true
		}
		if r.opt.Secret == nil {
			r.fault(n, place, "secrets are kept by a service, and this program runs without one", "write ${env.NAME} here, or let the service run it")
			return "", false
		}
		v, err := r.opt.Secret(name)
		switch {
		case err == nil:
			return v, true
		case r.needs():
			r.fault(n, place, err.Error(), "store it: undertide secrets set "+name)
			return "", false
		default:
			r.warn(n, place, err.Error(), "a run needs it: undertide secrets set "+name)
			return "", true
		}
	}
	return r.text(n, place)
}

// fill replaces ${env.NAME}. A variable that is not set is a fault when the document is to run.
func (r *reader) fill(n *node, place string) (string, bool) {
	var out strings.Builder
	rest := n.text
	for {
		i := strings.Index(rest, "${")
		if i < 0 {
			out.WriteString(rest)
			return out.String(), true
		}
		j := strings.Index(rest[i:], "}")
		if j < 0 {
			r.fault(n, place, "${ is not closed", "write ${env.NAME}")
			return "", false
		}
		out.WriteString(rest[:i])
		name := rest[i+2 : i+j]
		rest = rest[i+j+1:]
		switch env, isEnv := strings.CutPrefix(name, "env."); {
		case isEnv:
			if r.opt.EnvNames != nil && !slices.Contains(r.opt.EnvNames, env) {
				r.fault(n, place, "documents of this service may not use the environment variable "+env, "keep what it holds as a secret, or start the service with --env "+env)
				return "", false
			}
			v, set := r.opt.Env(env)
			r.hide(env, v)
			if !set && r.needs() {
				r.fault(n, place, fmt.Sprintf("the environment variable %s is not set", env), "set it before the run starts: "+env+"=…")
				return "", false
			} else if !set {
				r.warn(n, place, fmt.Sprintf("the environment variable %s is not set here", env), "a run needs it")
			}
			out.WriteString(v)
		case strings.HasPrefix(name, "values."):
			v, ok := r.valueNamed(n, place, strings.TrimPrefix(name, "values."))
			if !ok {
				return "", false
			}
			out.WriteString(v)
		case strings.HasPrefix(name, "secret."):
			r.fault(n, place, "a secret would be shown here", "secrets stand alone as password or tls.key of a connection; use ${env.NAME} for the rest")
			return "", false
		default:
			r.fault(n, place, fmt.Sprintf("${%s} means nothing here", name), "write ${values.NAME} or ${env.NAME}")
			return "", false
		}
	}
}

// hide keeps what a variable holds out of messages.
func (r *reader) hide(name, value string) {
	if r.opt.EnvNames == nil || value == "" {
		return
	}
	if r.hidden == nil {
		r.hidden = map[string]string{}
	}
	r.hidden[value] = "${env." + name + "}"
}

// optionalText is text for a field that may be left out.
func (r *reader) optionalText(n *node, place string) string {
	if n == nil {
		return ""
	}
	s, _ := r.text(n, place)
	return s
}

// choice reads one of a few words.
func (r *reader) choice(n *node, place string, known, later []string) string {
	s, ok := r.text(n, place)
	if !ok {
		return ""
	}
	switch {
	case slices.Contains(known, s):
		return s
	case slices.Contains(later, s):
		r.fault(n, place, s+" is not built yet", "built: "+strings.Join(known, ", "))
	default:
		r.fault(n, place, fmt.Sprintf("%s is not one of %s", s, strings.Join(known, ", ")), r.didYouMeanOf(s, known, later))
	}
	return ""
}

// whole reads a whole number of at least least.
func (r *reader) whole(n *node, place string, least int64) (int64, bool) {
	if !r.takesOnly(n, place, "a whole number", "int") {
		return 0, false
	}
	s, ok := r.text(n, place)
	if !ok {
		return 0, false
	}
	v, err := strconv.ParseInt(strings.ReplaceAll(s, "_", ""), 10, 64)
	if err != nil || v < least {
		r.fault(n, place, fmt.Sprintf("%s is not a whole number of at least %d", s, least), fmt.Sprintf("give a number such as %d", max(least, 1)))
		return 0, false
	}
	return v, true
}

func (r *reader) double(n *node, place string) (float64, bool) {
	if !r.takesOnly(n, place, "a number", "double", "int", "decimal") {
		return 0, false
	}
	s, ok := r.text(n, place)
	if !ok {
		return 0, false
	}
	v, err := strconv.ParseFloat(s, 64)
	if err != nil || math.IsInf(v, 0) || math.IsNaN(v) {
		r.fault(n, place, s+" is not a number", "give a number such as 0.5")
		return 0, false
	}
	return v, true
}

func (r *reader) boolean(n *node, place string) bool {
	if n == nil {
		return false
	}
	if !r.takesOnly(n, place, "true or false", "bool") {
		return false
	}
	s, ok := r.text(n, place)
	if ok && s != "true" && s != "false" {
		r.fault(n, place, s+" is neither true nor false", "write true or false")
	}
	return s == "true"
}

// names reads a list of names.
func (r *reader) names(n *node, place string) ([]string, []*node) {
	if n == nil {
		return nil, nil
	}
	if n.kind != listNode {
		r.fault(n, place, fmt.Sprintf("%s stands where a list of names belongs", n.kind), "write [name] or [one, two]")
		return nil, nil
	}
	var out []string
	var at []*node
	for i, v := range n.values {
		s, ok := r.text(v, fmt.Sprintf("%s[%d]", place, i))
		if !ok {
			continue
		}
		if slices.Contains(out, s) {
			r.fault(v, place, s+" stands twice", "keep one of them")
			continue
		}
		out, at = append(out, s), append(at, v)
	}
	return out, at
}

// duration reads 250us, 5s, 1h30m. Zero is allowed where zero says so, less never.
func (r *reader) duration(n *node, place string, zero bool) (time.Duration, bool) {
	if !r.takesOnly(n, place, "a duration", "duration") {
		return 0, false
	}
	s, ok := r.text(n, place)
	if !ok {
		return 0, false
	}
	d, err := ParseDuration(s)
	switch {
	case err != nil:
		remedy := "write 250ms, 5s, 15m, 1h30m"
		if _, e := strconv.ParseFloat(s, 64); e == nil {
			remedy = fmt.Sprintf("say the unit: %ss, %sm", s, s)
		}
		if f := strings.Fields(s); len(f) == 2 {
			if _, ok := calendarUnits[strings.TrimSuffix(f[1], "s")]; ok {
				r.fault(n, place, "a calendar size is not a duration", "use a fixed length such as 24h; windows take calendar sizes")
				return 0, false
			}
		}
		r.fault(n, place, err.Error(), remedy)
		return 0, false
	case d < 0, d == 0 && !zero:
		r.fault(n, place, s+" is not above zero", "write a duration such as 15m")
		return 0, false
	}
	return d, true
}

// expression compiles a CEL expression; nil, with faults, when it is wrong.
func (r *reader) expression(n *node, place string, scope expr.Scope) *expr.Program {
	if n == nil || r.over() {
		return nil
	}
	if n.kind != scalarNode {
		r.fault(n, place, fmt.Sprintf("%s stands where an expression belongs", n.kind), "write CEL in quotes, such as 'tonnes > 0.5'")
		return nil
	}
	if n.tag {
		r.fault(n, place, "an unquoted expression begins with !, which YAML takes for a tag", "put it in quotes: "+quote(n.text))
	}
	if n.plain && r.cutByComment(n) {
		r.fault(n, place, "YAML takes what follows ` #` for a comment and cuts the expression", "put the whole expression in quotes")
		return nil
	}
	if strings.Contains(n.text, "${values.") {
		r.fault(n, place, "an expression names values as they are", "write values.NAME, without ${ }")
		return nil
	}
	text, ok := r.fill(n, place)
	if !ok {
		return nil
	}
	scope.Functions = r.functions
	if len(text) <= expr.MaxText { // Compile refuses a longer one
		r.written += len(text)
	}
	if r.written > maxExpressions {
		r.fault(n, place, fmt.Sprintf("the document's expressions have more than %d KiB together", maxExpressions>>10), "a job needs less; make several jobs of it")
		return nil
	}
	p, faults := expr.Compile(text, scope)
	for _, f := range faults {
		if f.Function && r.unmade[f.Name] {
			continue // what is wrong with the function is said there
		}
		line, column := n.line, n.column
		switch {
		case n.block:
			line, column = n.line+f.Line-1, f.Column+1
		case f.Line == 1:
			column += f.Column
			if n.quoted {
				column++
			}
		}
		remedy := f.Remedy
		switch ours := expr.OtherName(f.Name, scope.Measure); {
		case f.Name == "":
		case f.Function && ours != "":
			remedy = "did you mean " + ours + "?"
		case f.Function:
			remedy = r.didYouMean(f.Name, append(sortedKeys(r.functions), expr.FunctionNames(scope.Measure)...))
		default:
			remedy = r.didYouMean(f.Name, scopeNames(scope))
		}
		r.faultAt(line, column, place, f.Message, remedy)
	}
	return p
}

func scopeNames(s expr.Scope) []string {
	var out []string
	for _, f := range s.Fields {
		if f.Name != "" {
			out = append(out, f.Name)
		}
	}
	for v := range s.Values {
		out = append(out, "values."+v)
	}
	slices.Sort(out[len(s.Fields.Names()):])
	return out
}

// cutByComment says whether a plain scalar lost its end to a comment: its quotes or parentheses do
// not close, and a # follows on its line.
func (r *reader) cutByComment(n *node) bool {
	if n.line < 1 || n.line > len(r.lines) {
		return false
	}
	l := r.lines[n.line-1]
	i := strings.Index(l, n.text)
	if i < 0 || !strings.HasPrefix(strings.TrimLeft(l[i+len(n.text):], " "), "#") {
		return false
	}
	return strings.Count(n.text, "'")%2 == 1 || strings.Count(n.text, "\"")%2 == 1 || strings.Count(n.text, "(") != strings.Count(n.text, ")")
}
