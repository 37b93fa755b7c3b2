package formats_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

// TestPaths: one member in two fields, a parent beside its child, items of lists, names with dots, and members that
// stand twice. Once one of such fields was silently null.
func TestPaths(t *testing.T) {
	at := func(name string, kind row.Kind, path string) codec.Field {
		p, err := member.Parse(path)
		if err != nil {
			t.Fatal(err)
		}
		return codec.Field{Name: name, Kind: kind, At: p}
	}
	for _, c := range []struct {
		name   string
		fields codec.Fields
		event  string
		want   string
	}{
		{"one member twice", codec.Fields{{Name: "ts", Kind: row.Timestamp, Parse: codec.EpochMS}, at("raw", row.Int, "ts"), at("again", row.Double, "ts")},
			`{"ts":1767225600123}`, `{"ts":"2026-01-01T00:00:00.123Z","raw":1767225600123,"again":1767225600123}`},
		{"parent and child", codec.Fields{at("crew", row.MapOf(row.Int), "crew"), at("size", row.Int, "crew.size")}, `{"crew":{"size":4,"age":7}}`, `{"crew":{"age":7,"size":4},"size":4}`},
		{"child before parent", codec.Fields{at("size", row.Int, "crew.size"), at("crew", row.MapOf(row.Int), "crew")}, `{"crew":{"size":4}}`, `{"size":4,"crew":{"size":4}}`},
		{"a name with a dot", codec.Fields{at("id", row.String, "['trace.id']"), at("other", row.String, "trace.id")}, `{"trace.id":"a","trace":{"id":"b"}}`, `{"id":"a","other":"b"}`},
		{"items", codec.Fields{at("first", row.Int, "items[0].x"), at("third", row.Int, "items[2].x"), at("all", row.ListOf(row.Int), "sizes"), at("second", row.Int, "sizes[1]")},
			`{"items":[{"x":1},{"x":2}],"sizes":[5,6]}`, `{"first":1,"third":null,"all":[5,6],"second":6}`},
		{"lists in lists", codec.Fields{at("v", row.Int, "m[1][0]")}, `{"m":[[1,2],[3,4]]}`, `{"v":3}`},
		{"the last counts, within a path", codec.Fields{at("x", row.Int, "a.x"), at("y", row.Int, "a.y")}, `{"a":{"x":1,"y":2},"a":{"x":3}}`, `{"x":3,"y":null}`},
		{"the last counts, which is null", codec.Fields{at("x", row.Int, "a.x")}, `{"a":{"x":1},"a":null}`, `{"x":null}`},
		{"the last counts, in both fields", codec.Fields{{Name: "ts", Kind: row.Int}, at("raw", row.Double, "ts")}, `{"ts":1,"ts":2}`, `{"ts":2,"raw":2}`},
		{"a number within an object", codec.Fields{at("x", row.Int, "a.x")}, `{"a":5}`, `{"x":null}`},
		{"an object where a list is meant", codec.Fields{at("x", row.Int, "a[0]")}, `{"a":{"0":5}}`, `{"x":null}`},
		{"wrong in one field", codec.Fields{{Name: "a", Kind: row.String}, at("b", row.Int, "a")}, `{"a":"x"}`, `wrong type: field b takes a whole number of 64 bits, got "x"`},
	} {
		if got := decodeOne(t, c.fields, c.event); got != c.want+"\n" && got != c.want {
			t.Errorf("%s: %s gives %s, want %s", c.name, c.event, got, c.want)
		}
	}
}

// TestRandomPaths compares the decoder with encoding/json on random fields and events, whose members stand twice
// now and then.
func TestRandomPaths(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	names := []string{"a", "b", "c"}
	var value func(depth int) string
	object := func(depth int) string {
		var parts []string
		for range r.IntN(5) {
			parts = append(parts, fmt.Sprintf("%q:%s", names[r.IntN(3)], value(depth)))
		}
		return "{" + strings.Join(parts, ",") + "}"
	}
	value = func(depth int) string {
		switch n := r.IntN(8); {
		case n < 3 && depth > 0:
			return object(depth - 1)
		case n == 3 && depth > 0:
			var parts []string
			for range r.IntN(4) {
				parts = append(parts, value(depth-1))
			}
			return "[" + strings.Join(parts, ",") + "]"
		case n == 4:
			return "null"
		}
		return fmt.Sprint(r.IntN(100))
	}
	for range 3000 {
		var fields codec.Fields
		for i := range 1 + r.IntN(4) {
			p := member.Of(names[r.IntN(3)])
			for range r.IntN(3) {
				if r.IntN(3) == 0 {
					p = append(p, member.Part{Item: true, Number: r.IntN(3)})
				} else {
					p = append(p, member.Part{Name: names[r.IntN(3)]})
				}
			}
			fields = append(fields, codec.Field{Name: fmt.Sprintf("f%d", i), Kind: []row.Kind{row.Int, row.Double, row.ListOf(row.Int)}[r.IntN(3)], At: p})
		}
		var lines []string
		for range 5 {
			lines = append(lines, object(3))
		}
		b := row.NewBatch(fields.Schema())
		rejects := ndjson.NewDecoder(fields).Decode(chunkOf(lines...), b, nil)
		rejected := map[int]bool{}
		for _, x := range rejects {
			if x.Reason != step.WrongType {
				t.Fatalf("%v is rejected: %s", lines[x.Index], x.Message)
			}
			rejected[int(x.Index)] = true
		}
		at := 0
		for i, line := range lines {
			want, ok := plainRow(t, fields, line)
			if ok == rejected[i] {
				t.Fatalf("%v of %s: rejected %v, want %v", fields, line, rejected[i], !ok)
			}
			if !ok {
				continue
			}
			got := string(ndjson.NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{uint16(at)}, N: b.N}))
			if at++; strings.TrimSpace(got) != want {
				t.Fatalf("%v of %s gives %s, want %s", fields, line, got, want)
			}
		}
	}
}

// plainRow reads fields by encoding/json; false for a value of another type.
func plainRow(t *testing.T, fields codec.Fields, line string) (string, bool) {
	t.Helper()
	var event any
	if err := json.Unmarshal([]byte(line), &event); err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range fields {
		v := event
		for _, p := range f.At {
			switch x := v.(type) {
			case map[string]any:
				if v = nil; !p.Item {
					v = x[p.Name]
				}
			case []any:
				if v = nil; p.Item && p.Number < len(x) {
					v = x[p.Number]
				}
			default:
				v = nil
			}
		}
		switch x := v.(type) {
		case nil:
		case float64:
			if !f.Kind.Plain() {
				return "", false
			}
		case []any:
			if f.Kind.Plain() {
				return "", false
			}
			for _, e := range x {
				if _, ok := e.(float64); !ok && e != nil {
					return "", false
				}
			}
		default:
			return "", false
		}
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprintf("%q:%s", f.Name, text))
	}
	return "{" + strings.Join(out, ",") + "}", true
}

// TestWholeNumbers: whole numbers are read by their digits, however they are written; epochs may have a fraction.
func TestWholeNumbers(t *testing.T) {
	for text, want := range map[string]string{
		"1e18": "1000000000000000000", "9007199254740993.0": "9007199254740993", "1.5e1": "15", "-1.20e1": "-12", "0e9": "0", "-0.0": "0", "120e-1": "12",
		"9223372036854775807.0": "9223372036854775807", "-9223372036854775808": "-9223372036854775808", "922337203685477580.7e1": "9223372036854775807",
		"1.0000000000000001": "", "9223372036854775808": "", "1e19": "", "1e-1": "", "5e-400": "", "1e400": "", "12e-3": "",
	} {
		got := decodeOne(t, codec.Fields{{Name: "i", Kind: row.Int}}, `{"i":`+text+`}`)
		if want == "" && !strings.HasPrefix(got, step.WrongType) || want != "" && strings.TrimSpace(got) != `{"i":`+want+`}` {
			t.Errorf("%s is read as %s, want %q", text, got, want)
		}
		csv, ok := codec.WholeNumber(text)
		if ok != (want != "") || ok && fmt.Sprint(csv) != want {
			t.Errorf("%s in CSV is read as %d (%v), want %q", text, csv, ok, want)
		}
	}
	for _, c := range []struct {
		parse codec.Parse
		text  string
		want  string
	}{
		{codec.EpochS, "1767225600.5", "2026-01-01T00:00:00.5Z"}, {codec.EpochS, "1767225600.1234567", "2026-01-01T00:00:00.123456Z"}, {codec.EpochS, "-0.0000001", "1969-12-31T23:59:59.999999Z"},
		{codec.EpochMS, "1767225600000.25", "2026-01-01T00:00:00.00025Z"}, {codec.EpochUS, "1.9", "1970-01-01T00:00:00.000001Z"}, {codec.EpochUS, "-1.1", "1969-12-31T23:59:59.999998Z"},
		{codec.EpochNS, "1999.5", "1970-01-01T00:00:00.000001Z"}, {codec.EpochS, "1.7672256e9", "2026-01-01T00:00:00Z"},
	} {
		got := decodeOne(t, codec.Fields{{Name: "t", Kind: row.Timestamp, Parse: c.parse}}, `{"t":`+c.text+`}`)
		if strings.TrimSpace(got) != `{"t":"`+c.want+`"}` {
			t.Errorf("%s is read as %s, want %s", c.text, got, c.want)
		}
	}
}
