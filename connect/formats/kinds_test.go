package formats_test

import (
	"encoding"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/csv"
	"undertide/connect/formats/ndjson"
	"undertide/connect/formats/text"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// TestKinds: decimals, lists, maps and times by a pattern, read from JSON and written as JSON and CSV.
func TestKinds(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	fields := codec.Fields{
		{Name: "price", Kind: row.Decimal}, {Name: "tags", Kind: row.ListOf(row.String)}, {Name: "seals", Kind: row.MapOf(row.Int)},
		{Name: "prices", Kind: row.ListOf(row.Decimal)}, {Name: "at", Kind: row.Timestamp, Parse: codec.ByLayout, Layout: "02/01/2006 15:04:05", Zone: lisbon},
		{Name: "took", Kind: row.ListOf(row.Duration)}, {Name: "often", Kind: row.ListOf(row.Timestamp), Parse: codec.EpochS},
	}
	for _, c := range []struct{ in, json, csv string }{
		{`{"price":12.50,"tags":["a","b\n"],"seals":{"z":1,"a":null},"prices":["0.1",2],"at":"29/06/2026 09:30:00","took":["1m30s"],"often":[0,60]}`,
			`{"price":"12.50","tags":["a","b\n"],"seals":{"a":null,"z":1},"prices":["0.1","2"],"at":"2026-06-29T08:30:00Z","took":["90s"],"often":["1970-01-01T00:00:00Z","1970-01-01T00:01:00Z"]}`,
			`12.50,"[""a"",""b\n""]","{""a"":null,""z"":1}","[""0.1"",""2""]",2026-06-29T08:30:00Z,"[""90s""]","[""1970-01-01T00:00:00Z"",""1970-01-01T00:01:00Z""]"`},
		{`{"price":"1e3","tags":[],"seals":{}}`, `{"price":"1000","tags":[],"seals":{},"prices":null,"at":null,"took":null,"often":null}`, `1000,[],{},,,,`},
		{`{"price":-0.0,"tags":[null]}`, `{"price":"0.0","tags":[null],"seals":null,"prices":null,"at":null,"took":null,"often":null}`, `0.0,[null],,,,,`},
		{`{"price":"twelve"}`, "wrong type: field price takes a decimal such as \"12.50\", got \"\\\"twelve\\\"\"", ""},
		{`{"price":true}`, "wrong type: field price takes a decimal", ""},
		{`{"tags":"a"}`, "wrong type: field tags takes a list<string>, got \"a\"", ""},
		{`{"tags":["a",1]}`, "wrong type: field tags takes a list<string>, got [\"a\",1]", ""},
		{`{"seals":["a"]}`, "wrong type: field seals takes a map<int>", ""},
		{`{"seals":{"a":1.5}}`, "wrong type: field seals takes a map<int>", ""},
		{`{"at":"2026-06-29"}`, "wrong type: field at takes a timestamp (text of the pattern in parse)", ""},
		{`{"tags":["a"`, "malformed: no JSON object", ""},
	} {
		schema := fields.Schema()
		b := row.NewBatch(schema)
		rejects := ndjson.NewDecoder(fields).Decode(chunkOf(c.in), b, nil)
		if len(rejects) > 0 {
			if got := rejects[0].Reason + ": " + rejects[0].Message; c.csv != "" || !strings.HasPrefix(strings.ReplaceAll(got, `\"`, ``), strings.ReplaceAll(c.json, `\"`, ``)) {
				t.Errorf("%s is rejected: %s; want %s", c.in, got, c.json)
			}
			continue
		}
		v := step.ViewOf(b)
		if got := strings.TrimSpace(string(ndjson.NewEncoder(schema).Append(nil, v))); got != c.json {
			t.Errorf("%s is written\n  %s\nwant\n  %s", c.in, got, c.json)
		}
		line := strings.TrimSuffix(string(csv.NewEncoder(schema).Append(nil, v)), "\n")
		if line != c.csv {
			t.Errorf("%s is written as CSV\n  %s\nwant\n  %s", c.in, line, c.csv)
		}
	}
	// A list in a cell comes back.
	b, rejects := decodeKinds(codec.Fields{{Name: "tags", Kind: row.ListOf(row.String)}, {Name: "price", Kind: row.Decimal}}, "tags,price", `"[""a"",""b""]",0.10`)
	if len(rejects) > 0 || string(codec.AppendText(nil, b.Cols[0], 0)) != `["a","b"]` || string(codec.AppendText(nil, b.Cols[1], 0)) != "0.10" {
		t.Errorf("a list in a cell: %v", rejects)
	}
}

func decodeKinds(fields codec.Fields, header, record string) (*row.Batch, []step.Reject) {
	c := chunkOf(record)
	c.Header = []byte(header)
	b := row.NewBatch(fields.Schema())
	return b, csv.NewDecoder(fields).Decode(c, b, nil)
}

var gate = codec.Fields{{Name: "gate", Kind: row.String}, {Name: "code", Kind: row.Int, Default: intValue(200)}, {Name: "ms", Kind: row.Double, Required: true}, {Name: "note", Kind: row.String}}

var gatePattern = regexp.MustCompile(`^(?P<gate>\w+)(?: (?P<code>\d+))? (?P<ms>[0-9.x]*) ms(?P<note>.*)$`)

// TestText takes lines apart: groups without a match are missing, what does not fit is a reject with words.
func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"north 403 1.5 ms!":           `{"gate":"north","code":403,"ms":1.5,"note":"!"}`,
		"north 1.5 ms\r":              `{"gate":"north","code":200,"ms":1.5,"note":""}`,
		"north 1 x ms":                "wrong type: field ms takes a double, got \"x\"",
		"north  ms":                   "missing: field ms is missing, and has no default",
		"closed":                      "malformed: the line does not match the pattern",
		"north 403 1 ms \xff":         "malformed: the line is not UTF-8",
		"a 99999999999999999999 1 ms": "wrong type: field code takes a whole number of 64 bits",
	} {
		b := row.NewBatch(gate.Schema())
		rejects := text.NewDecoder(gate, gatePattern).Decode(chunkOf(in), b, nil)
		got := ""
		if len(rejects) > 0 {
			got = rejects[0].Reason + ": " + rejects[0].Message
		} else {
			got = strings.TrimSpace(string(ndjson.NewEncoder(gate.Schema()).Append(nil, step.ViewOf(b))))
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%q gives %s, want %s", in, got, want)
		}
	}
}

// FuzzText: no line makes the decoder panic; each becomes a row or a reject.
func FuzzText(f *testing.F) {
	for _, s := range []string{"north 403 1.5 ms!", "closed", "a 1 ms", "\xff", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		b := row.NewBatch(gate.Schema())
		rejects := text.NewDecoder(gate, gatePattern).Decode(chunkOf(line), b, nil)
		if b.N+len(rejects) != 1 {
			t.Fatalf("%q gives %d rows and %d rejects", line, b.N, len(rejects))
		}
		for i, c := range b.Cols {
			if c.Len() != b.N {
				t.Fatalf("%q: column %d has %d values, want %d", line, i, c.Len(), b.N)
			}
		}
	})
}

// FuzzKinds: lists, maps and decimals of any text are read or refused, and what was read comes back.
func FuzzKinds(f *testing.F) {
	for _, s := range []string{`["a"]`, `{"a":1}`, `1.50`, `"x"`, `[1,[2]]`, `1e400`, `{"a":{"b":1}}`} {
		f.Add(s)
	}
	fields := codec.Fields{{Name: "l", Kind: row.ListOf(row.String)}, {Name: "m", Kind: row.MapOf(row.Double)}, {Name: "d", Kind: row.Decimal}, {Name: "t", Kind: row.ListOf(row.Timestamp)}}
	f.Fuzz(func(t *testing.T, value string) {
		for i, name := range []string{"l", "m", "d", "t"} {
			b := row.NewBatch(fields.Schema())
			rejects := ndjson.NewDecoder(fields).Decode(chunkOf(`{"`+name+`":`+value+`}`), b, nil)
			if b.N+len(rejects) != 1 {
				t.Fatalf("%s gives %d rows and %d rejects", value, b.N, len(rejects))
			}
			if b.N == 0 || b.Cols[i].IsNull(0) {
				continue
			}
			out := string(ndjson.NewEncoder(fields.Schema()).Append(nil, step.ViewOf(b)))
			again := row.NewBatch(fields.Schema())
			rejects = ndjson.NewDecoder(fields).Decode(chunkOf(strings.TrimSpace(out)), again, nil)
			if len(rejects) > 0 || string(again.Cols[i].Bytes(0)) != string(b.Cols[i].Bytes(0)) {
				t.Fatalf("%s is written %s, which does not come back: %v", value, out, rejects)
			}
		}
	})
}

func intValue(v int64) expr.Value { return expr.Value{Kind: row.Int, I: v} }

// TestPieces: a line is cut at the groups of its pattern, and its pieces are the whole line.
func TestPieces(t *testing.T) {
	d := text.Format.Decode()
	pattern := reflect.ValueOf(d).Elem().FieldByName("Pattern").Addr().Interface().(encoding.TextUnmarshaler)
	if err := pattern.UnmarshalText([]byte(`^(?P<gate>\w+) "(?P<method>\w+) (?P<path>\S+)" (?P<code>\d*)(?P<all> .*)?$`)); err != nil {
		t.Fatal(err)
	}
	for line, want := range map[string]string{
		`north "GET /x" 200`:     `<gate:north> "<method:GET> <path:/x>" <code:200>`,
		"north \"GET /x\"  ms\r": `<gate:north> "<method:GET> <path:/x>" <all: ms>`,
		"the gate is open":       "",
		"\xff \"GET /x\" 200":    "",
	} {
		got := ""
		for _, p := range d.(connect.Piecing).Pieces([]byte(line)) {
			if p.Field != "" {
				p.Text = "<" + p.Field + ":" + p.Text + ">"
			}
			got += p.Text
		}
		if got != want {
			t.Errorf("%q is cut as %q, want %q", line, got, want)
		}
	}
}
