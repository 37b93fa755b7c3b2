package job

import (
	_ "embed"
	"encoding/json"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
)

//go:embed job.schema.json
var schemaBase string

// Schema gives the JSON Schema of job documents, for editors. What depends on the kinds of connectors and on the
// formats comes from their descriptions; a test keeps the other names and the reader's together.
func Schema() []byte {
	var links []branch
	sources, references, sinks, besideSources, besideSinks := []branch{}, []branch{}, []branch{}, properties{}, properties{}
	for _, k := range connect.Kinds() {
		if k.Link != nil {
			list := append([]settings.Setting{{Name: "via", Required: true, Type: settings.Choice, Choices: linkKinds()}}, settings.Of(k.Link())...)
			links = append(links, branch{k.Name, "", schemaOf(list)})
		}
		if k.Source != nil {
			sources = append(sources, branch{k.Name, "with", schemaOf(within(k.Source()))})
			besideSources.add(settings.Of(k.Source()))
		}
		if k.Reference != nil {
			references = append(references, branch{k.Name, "with", schemaOf(within(k.Reference()))})
		}
		if k.Sink != nil {
			sinks = append(sinks, branch{k.Name, "with", schemaOf(within(k.Sink()))})
			besideSinks.add(settings.Of(k.Sink()))
		}
	}
	for _, f := range connect.Formats() {
		if f.Decode != nil {
			besideSources.add(settings.Of(f.Decode()))
		}
	}
	return []byte(strings.NewReplacer(
		`"@source-kinds"`, jsonText(sourceKinds()), `"@sink-kinds"`, jsonText(sinkKinds()), `"@link-kinds"`, jsonText(linkKinds()),
		`"@decode-formats"`, jsonText(connect.FormatNames(false)), `"@encode-formats"`, jsonText(connect.FormatNames(true)), `"@default-format"`, jsonText(connect.DefaultFormat().Name),
		`"@source-beside": ""`, besideSources.text(), `"@sink-beside": ""`, besideSinks.text(),
		`"@source-with"`, branches(sources), `"@reference-kinds"`, jsonText(referenceKinds()), `"@reference-with"`, branches(references), `"@sink-with"`, branches(sinks), `"@link-with"`, branches(links),
	).Replace(schemaBase))
}

// within are the settings of `with`.
func within(described any) []settings.Setting {
	return slices.DeleteFunc(settings.Of(described), func(s settings.Setting) bool { return s.Beside })
}

// branch is what holds of a part where `via` is a kind: the schema of its member, or of the part itself.
type branch struct{ kind, member, schema string }

func branches(list []branch) string {
	out := make([]string, len(list))
	for i, b := range list {
		then := b.schema
		if b.member != "" {
			then = `{"properties": {` + jsonText(b.member) + `: ` + b.schema + `}}`
		}
		out[i] = "\n        " + `{"if": {"properties": {"via": {"const": ` + jsonText(b.kind) + `}}, "required": ["via"]}, "then": ` + then + `}`
	}
	return "[" + strings.Join(out, ",") + "\n      ]"
}

// properties are the settings that stand beside `via`, each once: what one kind says of it holds for all.
type properties struct{ list []settings.Setting }

func (p *properties) add(list []settings.Setting) {
	for _, s := range list {
		at := slices.IndexFunc(p.list, func(x settings.Setting) bool { return x.Name == s.Name })
		switch {
		case !s.Beside:
		case at < 0:
			p.list = append(p.list, s)
		case s.Type == settings.Text: // another kind takes more than a few words
			p.list[at] = s
		}
	}
}

func (p *properties) text() string {
	out := make([]string, len(p.list))
	for i := range p.list {
		out[i] = jsonText(p.list[i].Name) + ": " + schemaOfOne(&p.list[i])
	}
	return strings.Join(out, ",\n        ")
}

// schemaOf gives the schema of a mapping of settings.
func schemaOf(list []settings.Setting) string {
	var members, needed, once []string
	for i := range list {
		s := &list[i]
		members = append(members, jsonText(s.Name)+": "+schemaOfOne(s))
		if s.Required {
			needed = append(needed, s.Name)
		}
		if s.Once {
			once = append(once, `{"required": [`+jsonText(s.Name)+`]}`)
		}
	}
	out := `{"type": "object", "additionalProperties": false, "properties": {` + strings.Join(members, ", ") + `}`
	if len(needed) > 0 {
		out += `, "required": ` + jsonText(needed)
	}
	if len(once) > 0 {
		out += `, "oneOf": [` + strings.Join(once, ", ") + `]`
	}
	return out + "}"
}

// filledIn is the shape of a text where another type belongs: a value of the document, or of the environment.
const filledIn = `"pattern": "^\\$\\{(values|env)\\.[^}]+\\}$"`

var schemaTypes = map[settings.Type]string{
	settings.Text: `"type": ["string", "number", "boolean"]`, settings.Path: `"type": "string"`, settings.Bool: `"type": ["boolean", "string"], ` + filledIn, settings.Number: `"type": ["number", "string"], ` + filledIn,
	settings.Duration: `"$ref": "#/$defs/duration"`, settings.Texts: `"type": "array", "items": {"type": "string"}`, settings.Numbers: `"type": "array", "items": {"type": "number"}`,
	settings.Scalars: `"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/scalar"}`, settings.Names: `"$ref": "#/$defs/names"`, settings.Key: `"type": "string"`, settings.PEM: `"type": "string"`,
	settings.Secret: `"type": "string", "pattern": "^\\$\\{(secret|env)\\.[^}]+\\}$"`, settings.Connection: `"type": "string"`, settings.Expression: `"$ref": "#/$defs/expression"`,
}

// schemaOfOne gives the schema of one setting.
func schemaOfOne(s *settings.Setting) string {
	var parts []string
	if s.About != "" {
		parts = append(parts, `"description": `+jsonText(s.About))
	}
	body := schemaTypes[s.Type]
	switch s.Type {
	case settings.Choice:
		body = `"enum": ` + jsonText(s.Choices)
	case settings.Whole:
		body = `"type": ["integer", "string"], ` + filledIn
		if s.Least > -1<<53 {
			body += `, "minimum": ` + jsonText(s.Least)
		}
		if s.Most < 1<<53 {
			body += `, "maximum": ` + jsonText(s.Most)
		}
	case settings.Group:
		body = strings.TrimSuffix(strings.TrimPrefix(schemaOf(s.Settings), "{"), "}")
	case settings.Named:
		body = `"type": "object", "minProperties": 1, "additionalProperties": ` + schemaOf(s.Settings)
	case settings.Texts:
		if s.Required {
			body += `, "minItems": 1`
		}
	}
	parts = append(parts, body)
	if s.Shape != "" {
		parts = append(parts, `"pattern": `+jsonText(s.Shape))
	}
	if s.Default != "" {
		def := jsonText(s.Default)
		if s.Type == settings.Bool || s.Type == settings.Whole {
			def = s.Default
		}
		parts = append(parts, `"default": `+def)
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func jsonText(v any) string {
	out, err := json.Marshal(v)
	if err != nil { // texts, numbers and lists of them
		panic(err)
	}
	return string(out)
}
