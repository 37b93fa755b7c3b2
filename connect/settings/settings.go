// Package settings describes the settings of connectors and formats: a struct with tags, from which come the reading
// of documents with faults, the JSON Schema, the forms of the console and the words for people. It reads nothing
// itself; who reads fills the struct by [Setting.In] (docs/architecture.md, "A connector is a room of its own").
//
// A struct is described by the tags of its fields:
//
//	type source struct {
//		Topic string `set:"topic,required" missing:"the topic is not named" fix:"add topic: and its name" hint:"gauge.levels"`
//		Group string `set:"group,free" about:"Where positions are committed for other tools to see."`
//	}
//
// The tag set is the name and, after it, what holds of the setting: required; beside, for one that stands beside `via`
// and not within `with`; free, for one that does not change which events are read or where rows go; own, for a group whose members'
// flags bear its name (--registry-user); once, for one of
// several of which a mapping has one. The other tags are texts: label, about, hint, default, first (what forms begin with), missing (what is wrong
// without it), fix (what would be right), choices and later (with commas between; later ones are recognised and
// refused), least and most (of whole numbers). later on a field without a name, `_`, lists names that are not built.
package settings

import (
	"encoding"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Type says what a document writes for a setting.
type Type string

const (
	Text       Type = "text"
	Path       Type = "path"       // of a file; relative to the document
	Bool       Type = "bool"       // true or false
	Whole      Type = "whole"      // a whole number
	Number     Type = "number"     // with a fraction
	Duration   Type = "duration"   // 1h30m
	Choice     Type = "choice"     // one of Choices
	Texts      Type = "texts"      // a list of texts
	Numbers    Type = "numbers"    // a list of numbers
	Scalars    Type = "scalars"    // a list of texts and numbers
	Names      Type = "names"      // a list of names of fields
	Secret     Type = "secret"     // ${secret.NAME} or ${env.NAME}, never in the clear
	Key        Type = "key"        // like a secret, or the path of a file of it
	PEM        Type = "pem"        // PEM, or the path of a file of it
	Connection Type = "connection" // the name of a connection
	Expression Type = "expression" // CEL
	Group      Type = "group"      // a mapping: Settings
	Named      Type = "named"      // a mapping of names to groups: Settings
)

// Types of fields that say more than a string does.
type (
	// PathText is a path or pattern of files; FieldNames are names of fields of rows; SecretText is a secret's text,
	// KeyText that of a key, or the path of its file; PEMText is PEM, or the path of its file; ExpressionText is CEL, not
	// compiled yet.
	PathText       string
	FieldNames     []string
	SecretText     string
	KeyText        string
	PEMText        string
	ExpressionText string
)

// Scalar is a text or number as it is written.
type Scalar struct {
	Text   string
	Quoted bool // it stands in quotes: a text, whatever it looks like
}

// Entry is one of a named group: a field that is a slice of Entry[T] is a mapping of names to T, in order.
type Entry[T any] struct {
	Name  string
	Value T
}

// Setting is one setting of a description.
type Setting struct {
	Name  string `json:"name"`
	Type  Type   `json:"type"`
	Label string `json:"label"` // for people; Name where there is none
	About string `json:"about"`
	Hint  string `json:"hint"` // what it may look like
	// Default is what holds without it, as a document writes it; empty for nothing.
	Default string `json:"default"`
	// First is what a form begins with.
	First    string    `json:"first"`
	Required bool      `json:"required"`
	Beside   bool      `json:"beside"` // it stands beside `via`, and not within `with`
	Choices  []string  `json:"choices"`
	Settings []Setting `json:"settings"` // of a group, or of each entry of a named group

	Free         bool     `json:"-"` // it does not change which events are read, or where rows go
	Once         bool     `json:"-"` // one of those that have it stands, and no two
	Own          bool     `json:"-"` // flags of its members bear its name
	Later        []string `json:"-"` // choices, or names of a group, that are not built
	Missing, Fix string   `json:"-"`
	Least, Most  int64    `json:"-"`
	Shape        string   `json:"-"` // a regular expression for the JSON Schema

	index []int
}

// In gives the field of a described struct that the setting fills.
func (s *Setting) In(described reflect.Value) reflect.Value { return described.FieldByIndex(s.index) }

var (
	durationType = reflect.TypeFor[time.Duration]()
	unmarshaler  = reflect.TypeFor[encoding.TextUnmarshaler]()
)

// Of describes a struct, or a pointer to one. It panics where a field has a type that nobody can fill: a mistake of
// whoever wrote it.
func Of(described any) []Setting {
	t := structOf(reflect.TypeOf(described))
	if known, ok := descriptions.Load(t); ok {
		return slices.Clone(known.([]Setting))
	}
	out := of(t)
	descriptions.Store(t, out)
	return slices.Clone(out)
}

// descriptions are those that were read, by the struct's type.
var descriptions sync.Map

// LaterOf gives the names that a described struct recognises and that are not built.
func LaterOf(described any) []string { return laterOf(structOf(reflect.TypeOf(described))) }

func structOf(t reflect.Type) reflect.Type {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return t
}

func laterOf(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		if f := t.Field(i); f.Name == "_" {
			out = append(out, split(f.Tag.Get("later"))...)
		}
	}
	return out
}

func of(t reflect.Type) []Setting {
	out := []Setting{}
	for i := range t.NumField() {
		f := t.Field(i)
		tag, ok := f.Tag.Lookup("set")
		if !ok {
			continue
		}
		parts := strings.Split(tag, ",")
		s := Setting{Name: parts[0], Label: f.Tag.Get("label"), About: f.Tag.Get("about"), Hint: f.Tag.Get("hint"), Default: f.Tag.Get("default"), First: f.Tag.Get("first"), Missing: f.Tag.Get("missing"), Fix: f.Tag.Get("fix"),
			Choices: []string{}, Settings: []Setting{}, Shape: f.Tag.Get("shape"), index: f.Index}
		if s.Label == "" {
			s.Label = strings.ReplaceAll(s.Name, "_", " ")
		}
		has := func(what string) bool { return slices.Contains(parts[1:], what) }
		s.Required, s.Beside, s.Free, s.Once, s.Own = has("required"), has("beside"), has("free"), has("once"), has("own")
		s.Choices, s.Later = append(s.Choices, split(f.Tag.Get("choices"))...), split(f.Tag.Get("later"))
		s.Least, s.Most = bound(f.Tag.Get("least"), -1<<63), bound(f.Tag.Get("most"), 1<<63-1)
		s.Type = typeOf(f.Type, len(s.Choices) > 0)
		switch s.Type {
		case Group:
			s.Settings, s.Later = of(structOf(f.Type)), laterOf(structOf(f.Type))
		case Named:
			value, _ := f.Type.Elem().FieldByName("Value") // Entry has it
			s.Settings, s.Later = of(value.Type), laterOf(value.Type)
		}
		out = append(out, s)
	}
	return out
}

func split(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(s, ",")
}

func bound(text string, none int64) int64 {
	if text == "" {
		return none
	}
	v, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		panic("settings: " + text + " is not a bound")
	}
	return v
}

// Elsewhere says whether a path is of no folder of this machine, but of a store of objects.
func Elsewhere(path string) bool { return strings.HasPrefix(path, "s3://") }

// IsConnection says whether a type is that of a named connection; package connect sets it, since the type is its own.
var IsConnection = func(reflect.Type) bool { return false }

func typeOf(t reflect.Type, choice bool) Type {
	switch {
	case IsConnection(t):
		return Connection
	case t == durationType:
		return Duration
	case t == reflect.TypeFor[PathText]():
		return Path
	case t == reflect.TypeFor[FieldNames]():
		return Names
	case t == reflect.TypeFor[SecretText]():
		return Secret
	case t == reflect.TypeFor[KeyText]():
		return Key
	case t == reflect.TypeFor[PEMText]():
		return PEM
	case t == reflect.TypeFor[ExpressionText]():
		return Expression
	case t == reflect.TypeFor[[]Scalar]():
		return Scalars
	case choice:
		return Choice
	case reflect.PointerTo(t).Implements(unmarshaler):
		return Text
	}
	switch t.Kind() {
	case reflect.String:
		return Text
	case reflect.Bool:
		return Bool
	case reflect.Int, reflect.Int32, reflect.Int64, reflect.Uint64:
		return Whole
	case reflect.Float64:
		return Number
	case reflect.Struct:
		return Group
	case reflect.Pointer:
		if t.Elem().Kind() == reflect.Struct {
			return Group
		}
		return typeOf(t.Elem(), choice)
	case reflect.Slice:
		switch e := t.Elem(); {
		case e.Kind() == reflect.Struct && e.NumField() == 2 && e.Field(0).Name == "Name" && e.Field(1).Name == "Value":
			return Named
		case e.Kind() == reflect.String || reflect.PointerTo(e).Implements(unmarshaler):
			return Texts
		case e.Kind() == reflect.Float64:
			return Numbers
		}
	}
	panic("settings: nobody fills a " + t.String())
}
