package settings

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"
)

// tide reads itself.
type tide string

func (t *tide) UnmarshalText(text []byte) error {
	*t = tide(text)
	return nil
}

type all struct {
	_       struct{}        `later:"moon,sun"`
	Name    string          `set:"name,required" missing:"the name is missing" fix:"add name:"`
	Tide    *tide           `set:"tide,beside,free" default:"low"`
	Path    PathText        `set:"path,once"`
	Files   PathText        `set:"files,once"`
	Follow  bool            `set:"follow"`
	Count   int32           `set:"count" least:"1" most:"9"`
	Seed    uint64          `set:"seed"`
	Share   float64         `set:"share"`
	Every   time.Duration   `set:"up_to"`
	Size    Size            `set:"size"`
	Way     string          `set:"way" choices:"in,out" later:"round" first:"out"`
	Brokers []tide          `set:"brokers"`
	Low     []float64       `set:"low"`
	Pick    []Scalar        `set:"pick"`
	Key     FieldNames      `set:"key"`
	Secret  SecretText      `set:"secret"`
	Cert    PEMText         `set:"cert"`
	Own     KeyText         `set:"own"`
	Expr    ExpressionText  `set:"expr"`
	Fields  []Entry[maker]  `set:"fields"`
	Maker   *maker          `set:"maker" label:"the maker" about:"Who makes them." hint:"Ane"`
	Inner   struct{ X int } `set:"inner"`
	own     int
}

type maker struct {
	_  struct{} `later:"wind"`
	By string   `set:"by,required"`
}

// TestOf: each type of field is one that a document writes, and the tags say what holds of it.
func TestOf(t *testing.T) {
	var got []string
	for _, s := range Of(&all{}) {
		text := s.Name + " " + string(s.Type)
		for name, is := range map[string]bool{"required": s.Required, "beside": s.Beside, "free": s.Free, "once": s.Once} {
			if is {
				text += " " + name
			}
		}
		got = append(got, text)
	}
	want := []string{"name text required", "", "path path once", "files path once", "follow bool", "count whole", "seed whole", "share number", "up_to duration", "size text", "way choice", "brokers texts",
		"low numbers", "pick scalars", "key names", "secret secret", "cert pem", "own key", "expr expression", "fields named", "maker group", "inner group"}
	for i, w := range want {
		if w != "" && got[i] != w {
			t.Errorf("setting %d is %s, want %s", i, got[i], w)
		}
	}
	list := Of(all{})
	by := map[string]*Setting{}
	for i := range list {
		by[list[i].Name] = &list[i]
	}
	if s := by["tide"]; s.Type != Text || !s.Beside || !s.Free || s.Default != "low" || s.Label != "tide" {
		t.Errorf("tide: %+v", s)
	}
	if s := by["up_to"]; s.Label != "up to" {
		t.Errorf("up_to is called %q", s.Label)
	}
	if s := by["count"]; s.Least != 1 || s.Most != 9 {
		t.Errorf("count: %+v", s)
	}
	if s := by["way"]; fmt.Sprintf("%v %v %s", s.Choices, s.Later, s.First) != "[in out] [round] out" {
		t.Errorf("way: %+v", s)
	}
	for _, name := range []string{"fields", "maker"} {
		if s := by[name]; len(s.Settings) != 1 || s.Settings[0].Name != "by" || !s.Settings[0].Required || fmt.Sprint(s.Later) != "[wind]" {
			t.Errorf("%s: %+v", name, s)
		}
	}
	if s := by["maker"]; s.Label != "the maker" || s.About != "Who makes them." || s.Hint != "Ane" {
		t.Errorf("maker: %+v", s)
	}
	if got := LaterOf(&all{}); fmt.Sprint(got) != "[moon sun]" {
		t.Errorf("not built: %v", got)
	}
	v := all{own: 1}
	by["count"].In(reflect.ValueOf(&v).Elem()).SetInt(7)
	if v.Count != 7 || v.own != 1 {
		t.Errorf("filled: %+v", v)
	}
}

// TestOfRefuses: what nobody can fill is a mistake of whoever wrote it.
func TestOfRefuses(t *testing.T) {
	for _, described := range []any{
		struct {
			X chan int `set:"x"`
		}{},
		struct {
			X []int `set:"x"`
		}{},
		struct {
			X int `set:"x" least:"low"`
		}{},
	} {
		func() {
			defer func() {
				if r := recover(); r == nil || !strings.HasPrefix(fmt.Sprint(r), "settings: ") {
					t.Errorf("%T: %v, want that it is refused", described, r)
				}
			}()
			Of(described)
		}()
	}
}

func TestSize(t *testing.T) {
	for text, want := range map[string]Size{"1B": 1, "64MiB": 64 << 20, "2 KiB": 2048, "1GiB": 1 << 30} {
		var s Size
		if err := s.UnmarshalText([]byte(text)); err != nil || s != want {
			t.Errorf("%s is %d, %v", text, s, err)
		}
	}
	for _, text := range []string{"", "64", "64MB", "-1B", "0B", "99999999999GiB", "MiB"} {
		var s Size
		if err := s.UnmarshalText([]byte(text)); err == nil || !strings.Contains(err.Error(), "; write a size such as 64MiB") {
			t.Errorf("%q: %v, want what would be right", text, err)
		}
	}
}
