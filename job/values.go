package job

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"undertide/connect/settings"
	"undertide/core/expr"
	"undertide/core/row"
)

// valueTypes are the types of values beside those of fields, by what a value of them is in expressions
// (docs/job-document.md, "Values").
var valueTypes = map[string]row.Kind{"size": row.Int, "path": row.String, "topic": row.String}

const valueTypeNames = kindNames + ", size, path, topic"

// ValueOf is a named constant of a document, as text.
type ValueOf struct{ Name, Type, Default string }

// value is a value of the document as it is written; text is empty where nothing was given.
type value struct {
	typ   string
	text  string
	given bool
	wrong bool // its type, or what was given, is wrong, which is said there
}

// values reads `values`, with what a start sets in their place.
func (b *builder) values() {
	b.constants = map[string]value{}
	defer b.unknownSets()
	n := b.doc.get("values")
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, "values", fmt.Sprintf("%s stands where a mapping belongs", n.kind), "write values: {name: {type: double, default: 1.0}}")
		return
	}
	for i, k := range n.keys {
		place := join("values", k.text)
		if b.checkField(k, place, k.text) && b.mapping(n.values[i], place, fieldSpec{known: []string{"type", "default"}}) {
			b.value(k, n.values[i], place)
		}
	}
}

func (b *builder) value(k, v *node, place string) {
	b.constants[k.text] = value{wrong: true} // until it is read
	kind, typ, ok := b.valueType(v, place)
	if !ok {
		return
	}
	def := v.get("default")
	text, given := b.optionalText(def, place+".default"), def != nil
	if s, set := b.opt.Set[k.text]; set {
		text, given = s, true
	}
	if !given {
		b.constants[k.text] = value{typ: typ}
		if b.needs() {
			b.fault(k, place, "the value has no default and was not set", fmt.Sprintf("give it: --set %s=…", k.text))
		} else {
			b.warn(k, place, "the value has no default", fmt.Sprintf("a run needs it: --set %s=…", k.text))
		}
		b.job.Values[k.text] = expr.Value{Kind: kind, Null: true}
		return
	}
	val, err := parseNamed(typ, kind, text)
	if err != nil {
		at := v
		if def != nil {
			at = def
		}
		message, remedy, _ := strings.Cut(err.Error(), "; ")
		if remedy == "" {
			remedy = "give a " + typ
		}
		b.fault(at, place, message, remedy)
		b.job.Values[k.text] = expr.Value{Kind: kind, Null: true} // expressions that name it are right all the same
		return
	}
	b.constants[k.text] = value{typ: typ, text: text, given: true}
	b.job.Values[k.text] = val
}

// valueType reads the type of a value: that of a field, or size, path or topic.
func (b *builder) valueType(v *node, place string) (row.Kind, string, bool) {
	t := v.get("type")
	if t != nil && t.kind == scalarNode {
		if kind, own := valueTypes[t.text]; own {
			return kind, t.text, true
		}
	}
	kind, ok := b.kindAmong(t, place+".type", v, valueTypeNames, sortedKeys(valueTypes))
	return kind, kind.String(), ok
}

// notTopic matches what no broker takes in a topic's name.
var notTopic = regexp.MustCompile(`[\s\p{C}]`)

// parseNamed reads a value of a type from text. Its error may hold a remedy, after `; `.
func parseNamed(typ string, kind row.Kind, text string) (expr.Value, error) {
	v := expr.Value{Kind: kind, S: text}
	switch typ {
	case "size":
		n, err := settings.ParseSize(text)
		if err != nil {
			return v, fmt.Errorf("%w; write a size such as 256MiB", err)
		}
		return expr.Value{Kind: kind, I: n}, nil
	case "path":
		if text == "" {
			return v, fmt.Errorf("a path is empty; name a file or folder")
		}
		return v, nil
	case "topic":
		if text == "" || len(text) > 1000 || notTopic.MatchString(text) {
			return v, fmt.Errorf("%q is not the name of a topic; write it without spaces, such as gauge.levels", shorten(text))
		}
		return v, nil
	}
	return ParseValue(kind, text)
}

// ValueList gives the document's values by name.
func (j *Job) ValueList() []ValueOf {
	var out []ValueOf
	for _, n := range sortedKeys(j.Values) {
		one := ValueOf{Name: n, Type: j.constants[n].typ}
		if v := j.Values[n]; !v.Null {
			one.Default = v.String()
			if _, own := valueTypes[one.Type]; own {
				one.Default = j.constants[n].text
			}
		}
		out = append(out, one)
	}
	return out
}

// aValue is a ${values.NAME} in a text.
var aValue = regexp.MustCompile(`\$\{values\.([^}]*)\}`)

// valueNamed gives what stands for ${values.NAME} in a text; false, with a fault, where there is none.
func (r *reader) valueNamed(n *node, place, name string) (string, bool) {
	v, known := r.constants[name]
	switch {
	case !known:
		remedy := r.didYouMean(name, sortedKeys(r.constants))
		if len(r.constants) == 0 {
			remedy = "add values: {" + name + ": {type: string, default: …}}"
		}
		r.fault(n, place, "the document has no value "+name, remedy)
	case v.wrong:
	case !v.given:
		r.fault(n, place, "the value "+name+" has no default, and this cannot be checked without it", "give it a default, or set it: --set "+name+"=…")
	default:
		return v.text, true
	}
	return "", false
}

// takesOnly says whether a place that is one ${values.NAME} as a whole has a value of one of these types; anything else is
// left to whoever reads the text. A value that is not there is said by [reader.fill].
func (r *reader) takesOnly(n *node, place, what string, types ...string) bool {
	if n == nil || n.kind != scalarNode {
		return true
	}
	m := aValue.FindStringSubmatchIndex(n.text)
	if m == nil || m[0] != 0 || m[1] != len(n.text) {
		return true
	}
	name := n.text[m[2]:m[3]]
	v, known := r.constants[name]
	if !known || v.wrong || slices.Contains(types, v.typ) {
		return true
	}
	r.fault(n, place, fmt.Sprintf("values.%s is %s, and %s belongs here", name, row.Article(v.typ), what), "give the value the type "+strings.Join(types, " or "))
	return false
}

// filled gives a text with the document's values in it, and says nothing of those that are not there.
func (r *reader) filled(text string) string {
	return aValue.ReplaceAllStringFunc(text, func(at string) string {
		if v := r.constants[at[len("${values."):len(at)-1]]; v.given {
			return v.text
		}
		return at
	})
}

// valuesIn gives the values that a part of a document has in its texts as ${values.NAME}, each with what it is.
func (j *Job) valuesIn(n *node) (out []string) {
	if n == nil {
		return nil
	}
	for _, m := range aValue.FindAllStringSubmatch(n.text, -1) {
		out = append(out, m[1]+"="+j.constants[m[1]].text)
	}
	for _, v := range n.values {
		out = append(out, j.valuesIn(v)...)
	}
	return out
}
