package member

import (
	"reflect"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]Path{
		"ts":             Of("ts"),
		"crew.driver":    Of("crew", "driver"),
		"items[0].x":     {{Name: "items"}, {Item: true}, {Name: "x"}},
		"m[2][3]":        {{Name: "m"}, {Item: true, Number: 2}, {Item: true, Number: 3}},
		"['trace.id'].x": Of("trace.id", "x"),
		`a["it's"]`:      Of("a", "it's"),
		"a['']":          Of("a", ""),
		"@type.größe":    Of("@type", "größe"),
	} {
		got, err := Parse(text)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s is read as %v (%v), want %v", text, got, err, want)
			continue
		}
		if again, err := Parse(got.String()); err != nil || !reflect.DeepEqual(again, want) {
			t.Errorf("%s is written %s, which reads as %v (%v)", text, got, again, err)
		}
	}
	for text, why := range map[string]string{
		"": "it is empty", ".a": "a name is missing", "a..b": "a name is missing", "a.": "a name is missing", "a[": "[ is not closed", "a[x]": "not a number of an item", "a[-1]": "not a number of an item",
		"[0].a": "not a list", "a['b": "does not end", "a[0]b": "behind ]", "a]": "belong in",
	} {
		if p, err := Parse(text); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q is read as %v (%v), want a fault with %q", text, p, err, why)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"a.b[0]['c.d']", "[", "a['", "a[9999999999]"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		for _, part := range p {
			if strings.Contains(part.Name, "'") && strings.Contains(part.Name, `"`) {
				return // cannot be written
			}
		}
		if again, err := Parse(p.String()); err != nil || !reflect.DeepEqual(again, p) {
			t.Fatalf("%q is %v, written %q, read as %v (%v)", text, p, p.String(), again, err)
		}
	})
}
