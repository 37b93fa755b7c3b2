// Page writes docs/settings.md: every setting of documents, connections, connectors and formats, as the program has them.
package main

import (
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"os"
	"slices"
	"strings"

	"undertide/connect"
	_ "undertide/connect/all"
	"undertide/connect/settings"
	"undertide/job"
)

const path = "docs/settings.md"

func main() {
	text, err := page()
	if err == nil {
		err = os.WriteFile(path, []byte(text), 0o644)
	}
	if err != nil {
		log.Fatal(err)
	}
}

// head begins a table of settings.
const head = "\n| setting | is | without it | about |\n|---|---|---|---|\n"

// schema is what a page tells of a JSON Schema.
type schema struct {
	Ref                  string            `json:"$ref"`
	Description          string            `json:"description"`
	Type                 any               `json:"type"`
	Enum                 []string          `json:"enum"`
	Const                any               `json:"const"`
	Default              any               `json:"default"`
	Required             []string          `json:"required"`
	Properties           map[string]schema `json:"properties"`
	AdditionalProperties json.RawMessage   `json:"additionalProperties"`
	OneOf                []schema          `json:"oneOf"`
	AnyOf                []schema          `json:"anyOf"`
	Defs                 map[string]schema `json:"$defs"`
}

// chapters are the parts of a document in the order of the page, by the names that the schema has for them.
var chapters = []struct{ name, title, about string }{
	{"", "A document", "What stands at the left edge ([the job document](job-document.md))."},
	{"source", "A source", "Below `sources:`, by name. What `with` has is of the [connector](#connectors)."},
	{"field", "A field of a source or reference", "Below `fields:`, by name, where the type alone does not say enough."},
	{"reference", "A reference", "Below `references:`, by name."},
	{"step", "A step", "Below `steps:`, by name. Fields of one kind of step stand together ([steps](job-document.md#steps))."},
	{"sink", "A sink", "Below `sinks:`, by name."},
	{"alarm", "An alarm", "Below `alarms:`, by name ([alarms](alarms.md))."},
	{"example", "An example", "Below `examples:`, in a list."},
}

// page writes the page.
func page() (string, error) {
	var root schema
	if err := json.Unmarshal(job.Schema(), &root); err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("# Settings\n\nEvery setting, with its type and what holds without it. `make pages` writes this page from the program, and a test holds it to it. A duration is written\n`1h30m`, a size `256MiB`; an expression is [CEL](job-document.md#expressions). Any of them may be `${values.NAME}` or `${env.NAME}`.\n\n## The document\n")
	for _, c := range chapters {
		of := root
		if c.name != "" {
			of = root.Defs[c.name]
		}
		if c.name == "field" {
			of = of.OneOf[1]
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s\n%s", c.title, c.about, head)
		rows(&b, root, of, "")
	}
	b.WriteString("\n## Connectors\n\nWhat `via` names. What stands beside `via` and not within `with` is marked ↖.\n")
	for _, k := range connect.Kinds() {
		fmt.Fprintf(&b, "\n### %s\n\n%s.\n", k.Name, strings.ToUpper(k.About[:1])+k.About[1:])
		if k.Link != nil {
			described(&b, "A connection", k.Link())
		}
		if k.Source != nil {
			described(&b, "A source", k.Source())
		}
		if k.Reference != nil {
			described(&b, "A reference", k.Reference())
		}
		if k.Sink != nil {
			described(&b, "A sink", k.Sink())
		}
	}
	b.WriteString("\n## Formats\n\nWhat `decode` and `encode` name; their settings stand beside `decode`.\n\n| format | reads | writes | by the end of a name | about |\n|---|---|---|---|---|\n")
	for _, f := range connect.Formats() {
		if f.ForPeople {
			continue
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", f.Name, yes(f.Decode != nil), yes(f.Encode != nil), strings.Join(f.Endings, ", "), f.About)
	}
	for _, f := range connect.Formats() {
		if f.Decode != nil && len(settings.Of(f.Decode())) > 0 {
			described(&b, "`decode: "+f.Name+"`", f.Decode())
		}
	}
	b.WriteString("\n## undertide.yaml\n\nA file in the working folder of `run`, `check` and `serve`.\n" + head)
	b.WriteString("| `connections` | names with mappings | | Connections, as in a document; a document's own of the same name counts before. |\n")
	b.WriteString("| `service.files` | list of texts | | Folders whose files documents of the service may name; as `serve --files`. |\n")
	b.WriteString("| `service.env` | list of texts | | Variables of the environment that documents of the service may name; as `serve --env`. |\n")
	b.WriteString("| `service.user` | text | | Who the service runs as where root starts it; as `serve --user`. |\n")
	return b.String(), nil
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

// rows writes a line for each property, those of a mapping behind a dot.
func rows(b *strings.Builder, root, of schema, within string) {
	for _, name := range slices.Sorted(maps.Keys(of.Properties)) {
		p := of.Properties[name]
		is := p.kind(root)
		if slices.Contains(of.Required, name) {
			is += ", must be said"
		}
		fmt.Fprintf(b, "| `%s%s` | %s | %s | %s |\n", within, name, is, code(p.Default), p.about(root))
		if t := p.target(root); len(t.Properties) > 0 {
			rows(b, root, t, within+name+".")
		}
	}
}

// target gives what a reference leads to.
func (s schema) target(root schema) schema {
	if s.Ref == "" {
		return s
	}
	at := strings.Split(strings.TrimPrefix(s.Ref, "#/$defs/"), "/properties/")
	out := root.Defs[at[0]]
	for _, name := range at[1:] {
		out = out.Properties[name]
	}
	return out
}

func (s schema) about(root schema) string {
	if s.Description != "" {
		return cell(s.Description)
	}
	if s.Ref == "" || strings.HasSuffix(s.Ref, "/expression") || strings.HasSuffix(s.Ref, "/duration") {
		return ""
	}
	return cell(s.target(root).Description)
}

// kind says what is written for a property.
func (s schema) kind(root schema) string {
	switch name, is := strings.CutPrefix(s.Ref, "#/$defs/"); {
	case !is:
	case name == "size":
		return "duration or calendar size"
	case name == "names":
		return "list of names"
	case name == "expressions":
		return "names with expressions"
	case slices.Contains([]string{"duration", "expression", "from", "type", "scalar"}, name):
		return map[string]string{"from": "an input, or a list", "scalar": "text or number"}[name] + map[bool]string{true: name}[name != "from" && name != "scalar"]
	default:
		return s.target(root).kind(root)
	}
	if len(s.Enum) > 0 {
		return "`" + strings.Join(s.Enum, "`, `") + "`"
	}
	if s.Const != nil {
		return code(s.Const)
	}
	for _, one := range append(s.OneOf, s.AnyOf...) {
		if one.Ref != "" || one.Type != nil {
			var all []string
			for _, x := range append(s.OneOf, s.AnyOf...) {
				if k := x.kind(root); k != "" && !slices.Contains(all, k) {
					all = append(all, k)
				}
			}
			return strings.Join(all, " or ")
		}
	}
	switch fmt.Sprint(s.Type) {
	case "integer", "[integer string]":
		return "whole number"
	case "number", "[number string]":
		return "number"
	case "boolean", "[boolean string]":
		return "`true` or `false`"
	case "string":
		return "text"
	case "array":
		return "list"
	case "object":
		return "mapping"
	case "[string number boolean]":
		return "text"
	case "[object array]":
		return "mapping or list"
	case "[string array]":
		return "text or list"
	}
	return "text or number"
}

// described writes the settings of a described struct.
func described(b *strings.Builder, title string, of any) {
	list := settings.Of(of)
	if len(list) == 0 {
		fmt.Fprintf(b, "\n**%s** has none.\n", title)
		return
	}
	fmt.Fprintf(b, "\n**%s**\n%s", title, head)
	lines(b, list, "")
}

func lines(b *strings.Builder, list []settings.Setting, within string) {
	for i := range list {
		s := &list[i]
		is := map[settings.Type]string{settings.Bool: "`true` or `false`", settings.Whole: "whole number", settings.Texts: "list of texts", settings.Numbers: "list of numbers", settings.Scalars: "list", settings.Names: "list of fields",
			settings.Secret: "`${secret.NAME}` or `${env.NAME}`", settings.Key: "secret, or path", settings.PEM: "PEM, or path", settings.Group: "mapping", settings.Named: "names with mappings"}[s.Type]
		switch {
		case s.Type == settings.Choice:
			is = "`" + strings.Join(s.Choices, "`, `") + "`"
		case is == "":
			is = string(s.Type)
		}
		if s.Required {
			is += ", must be said"
		} else if s.Once {
			is += ", or another of these"
		}
		mark := ""
		if s.Beside {
			mark = " ↖"
		}
		without := ""
		if s.Default != "" {
			without = "`" + cell(s.Default) + "`"
		}
		fmt.Fprintf(b, "| `%s%s`%s | %s | %s | %s |\n", within, s.Name, mark, is, without, cell(s.About))
		name := s.Name + "."
		if s.Type == settings.Named {
			name = s.Name + ".NAME."
		}
		lines(b, s.Settings, within+name)
	}
}

func code(v any) string {
	if v == nil {
		return ""
	}
	return "`" + cell(fmt.Sprint(v)) + "`"
}

// cell writes a text into a cell of a table.
func cell(s string) string { return strings.ReplaceAll(s, "|", "\\|") }
