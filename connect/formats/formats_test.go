package formats_test

import (
	"bytes"
	stdcsv "encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"undertide/connect/codec"
	"undertide/connect/formats/csv"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

var fields = codec.Fields{
	{Name: "s", Kind: row.String}, {Name: "i", Kind: row.Int}, {Name: "x", Kind: row.Double}, {Name: "p", Kind: row.Bool},
	{Name: "ms", Kind: row.Timestamp, Parse: codec.EpochMS}, {Name: "t", Kind: row.Timestamp}, {Name: "d", Kind: row.Duration}, {Name: "z", Kind: row.Bytes},
	{Name: "driver", Kind: row.String, At: member.Of("crew", "driver")},
}

func chunkOf(lines ...string) *engine.Chunk {
	c := &engine.Chunk{}
	for _, l := range lines {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, l...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, '\n')
	}
	return c
}

// decodeOne gives the row as JSON, or the reject's reason and message.
func decodeOne(t *testing.T, f codec.Fields, line string) string {
	t.Helper()
	b := row.NewBatch(f.Schema())
	// The line stands between others, so that what reads past its end is noticed.
	c := chunkOf(`{"i":1,"s":"before"}`, line, `{"i":2,"x":0.5,"s":"behind"}`)
	rejects := ndjson.NewDecoder(f).Decode(c, b, nil)
	if b.N+len(rejects) != 3 {
		t.Fatalf("%s: %d rows and %d rejects of 3 events", line, b.N, len(rejects))
	}
	for _, col := range b.Cols {
		if col.Len() != b.N {
			t.Fatalf("%s: a column has %d values for %d rows", line, col.Len(), b.N)
		}
	}
	if len(rejects) > 0 {
		return rejects[0].Reason + ": " + rejects[0].Message
	}
	return string(ndjson.NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{1}, N: b.N}))
}

func TestJSON(t *testing.T) {
	required := codec.Fields{{Name: "s", Kind: row.String, Required: true}, {Name: "i", Kind: row.Int, Default: expr.Value{Kind: row.Int, I: 7}}}
	all := func(s string) string { // the values that are given, the rest null
		out := map[string]string{"s": "null", "i": "null", "x": "null", "p": "null", "ms": "null", "t": "null", "d": "null", "z": "null", "driver": "null"}
		for _, kv := range strings.Split(s, "|") {
			if k, v, ok := strings.Cut(kv, "="); ok {
				out[k] = v
			}
		}
		var b strings.Builder
		for i, f := range fields {
			fmt.Fprintf(&b, `%s"%s":%s`, map[bool]string{true: "{", false: ","}[i == 0], f.Name, out[f.Name])
		}
		return b.String() + "}\n"
	}
	for _, c := range []struct {
		fields     codec.Fields
		line, want string
	}{
		{fields, `{"s":"C1","i":-12,"x":2.50,"p":true}`, all(`s="C1"|i=-12|x=2.5|p=true`)},
		{fields, ` { "s" : "a\"\u00e4" , "i" : 9223372036854775807 } `, all(`s="a\"ä"|i=9223372036854775807`)},
		{fields, `{"i":12.0,"x":3}`, all(`i=12|x=3`)},
		{fields, `{"i":1e3}`, all(`i=1000`)},
		{fields, `{"i":0,"x":0}`, all(`i=0|x=0`)},
		{fields, `{"i":-0}`, all(`i=0`)},
		{fields, `{"x":0.1234567890123456789}`, all(`x=0.12345678901234568`)},
		{fields, `{"x":8126230080006203.00000}`, all(`x=8126230080006203`)},
		{fields, `{"x":1e-7}`, all(`x=1e-7`)},
		{fields, `{"ms":1767225600123}`, all(`ms="2026-01-01T00:00:00.123Z"`)},
		{fields, `{"ms":-1}`, all(`ms="1969-12-31T23:59:59.999Z"`)},
		{fields, `{"t":"2026-01-01T02:00:00.1234567+02:00"}`, all(`t="2026-01-01T00:00:00.123456Z"`)},
		{fields, `{"d":"1m30.5s"}`, all(`d="90.5s"`)},
		{fields, `{"z":"AQID"}`, all(`z="AQID"`)},
		{fields, `{"crew":{"name":"x","driver":"Ane"},"other":[1,{"s":"no"}]}`, all(`driver="Ane"`)},
		{fields, `{"crew":null,"s":null}`, all("")},
		{fields, `{"crew":3}`, all("")},
		{fields, `{"i":1,"i":2,"x":1,"x":2.5,"s":"a","s":"b"}`, all(`i=2|x=2.5|s="b"`)},
		{fields, `{"\u0069":5}`, all(`i=5`)},
		{fields, `{}`, all("")},
		{required, `{"s":"a"}`, `{"s":"a","i":7}` + "\n"},
		{required, `{"i":null,"s":"a"}`, `{"s":"a","i":7}` + "\n"},
		{required, `{"i":1}`, "missing: field s is missing or null, and has no default"},
		{fields, `{"i":1.5}`, "wrong type: field i takes a whole number of 64 bits, got 1.5"},
		{fields, `{"i":9223372036854775808}`, "wrong type: field i takes a whole number of 64 bits, got 9223372036854775808"},
		{fields, `{"i":"1"}`, `wrong type: field i takes a whole number of 64 bits, got "1"`},
		{fields, `{"x":"1"}`, `wrong type: field x takes a double, got "1"`},
		{fields, `{"x":1e999}`, "wrong type: field x takes a double, got 1e999"},
		{fields, `{"s":1}`, "wrong type: field s takes a string, got 1"},
		{fields, `{"p":"true"}`, `wrong type: field p takes a bool, got "true"`},
		{fields, `{"ms":"2026-01-01T00:00:00Z"}`, `wrong type: field ms takes a timestamp (epoch milliseconds), got "2026-01-01T00:00:00Z"`},
		{fields, `{"t":1767225600}`, "wrong type: field t takes a timestamp (RFC 3339 text), got 1767225600"},
		{fields, `{"ms":99999999999999999}`, "wrong type: field ms takes a timestamp (epoch milliseconds), got 99999999999999999"},
		{fields, "{\"s\":\"\xff\"}", "malformed: field s is not UTF-8"},
	} {
		if got := decodeOne(t, c.fields, c.line); got != c.want {
			t.Errorf("%s gives\n%s, want\n%s", c.line, got, c.want)
		}
	}
	for _, line := range []string{`{"i":1`, `{"i":1}}`, `{"i":1} x`, `{"i":1},{"i":2}`, `[1]`, `"a"`, `1`, `{"i":01}`, `{"i":1-2}`, `{"x":1..2}`, `{"x":-}`, `{"x":.5}`, `{"x":1.}`, `{"x":tru}`, `{"s":"a}`, `{i:1}`, `nope`, `{"i":1,}`} {
		if got := decodeOne(t, fields, line); !strings.HasPrefix(got, "malformed: no JSON object: ") {
			t.Errorf("%s gives %s, want it malformed", line, got)
		}
	}
}

// TestNumbersAreExact compares numbers of every length with strconv: the library's own conversion is
// wrong beyond 19 digits.
func TestNumbersAreExact(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	f := codec.Fields{{Name: "x", Kind: row.Double}, {Name: "i", Kind: row.Int}}
	d := ndjson.NewDecoder(f)
	for range 30_000 {
		var text string
		switch r.IntN(4) {
		case 0:
			text = strconv.FormatFloat(math.Float64frombits(r.Uint64()), 'g', -1, 64)
		case 1:
			text = strconv.FormatFloat(r.NormFloat64()*100, 'f', r.IntN(18), 64)
		case 2:
			text = strconv.FormatFloat(r.Float64()*1e17, 'f', r.IntN(6), 64)
		default:
			text = strconv.FormatInt(int64(r.Uint64()>>r.IntN(64)), 10)
		}
		want, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(want) || math.IsInf(want, 0) {
			continue
		}
		b := row.NewBatch(f.Schema())
		whole := int64(r.Uint64()) >> r.IntN(64)
		rej := d.Decode(chunkOf(fmt.Sprintf(`{"x":%s,"i":%d}`, text, whole), `{"x":1.5,"i":2}`), b, nil)
		if len(rej) > 0 || b.Cols[0].F[0] != want || b.Cols[1].I[0] != whole {
			t.Fatalf("%s and %d are read as %v and %v (%v)", text, whole, b.Cols[0].F, b.Cols[1].I, rej)
		}
	}
}

// FuzzJSON: the decoder takes what encoding/json takes as an object of these types, and what it takes
// survives a round trip.
func FuzzJSON(f *testing.F) {
	for _, s := range []string{`{"s":"a","i":1,"x":2.5,"p":true}`, `{"i":1.0}`, `{"x":123456789012345678901}`, `{"s":"\ud800"}`, `{"i":1}}`, `{"x":1-2}`, `{"i":12,`, `{"x": 1e5 }`} {
		f.Add([]byte(s))
	}
	simple := fields[:4]
	f.Fuzz(func(t *testing.T, line []byte) {
		if bytes.ContainsAny(line, "\n") {
			return
		}
		b := row.NewBatch(simple.Schema())
		rejects := ndjson.NewDecoder(simple).Decode(chunkOf(string(line), `{"x":1,"i":2}`), b, nil)
		taken := len(rejects) == 0
		var any map[string]json.RawMessage
		valid := json.Unmarshal(line, &any) == nil && any != nil
		if taken && !valid && utf8.Valid(line) {
			t.Fatalf("%q is taken, and is not a JSON object", line)
		}
		if !taken {
			if rejects[0].Message == "" {
				t.Fatalf("%q is refused without words", line)
			}
			if valid && rejects[0].Reason == step.Malformed && utf8.Valid(line) && bytes.Count(line, []byte("[")) < 100 && bytes.Count(line, []byte("{")) < 100 {
				t.Fatalf("%q is a JSON object, and refused as %s", line, rejects[0].Message)
			}
			return
		}
		text := ndjson.NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{0}, N: b.N})
		again := row.NewBatch(b.Schema)
		if rej := ndjson.NewDecoder(simple).Decode(chunkOf(strings.TrimSuffix(string(text), "\n")), again, nil); len(rej) > 0 {
			t.Fatalf("%q is written as %s, which is refused: %v", line, text, rej)
		}
		if back := ndjson.NewEncoder(b.Schema).Append(nil, step.View{Cols: again.Cols, Sel: []uint16{0}, N: 1}); !bytes.Equal(back, text) {
			t.Fatalf("%q is written as %s and then as %s", line, text, back)
		}
	})
}

// TestDoublesAsEncodingJSON: doubles are written as encoding/json writes them.
func TestDoublesAsEncodingJSON(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 100_000 {
		v := math.Float64frombits(r.Uint64())
		switch r.IntN(4) {
		case 0:
			v = r.NormFloat64() * math.Pow(10, float64(r.IntN(50)-25))
		case 1: // decimals of any length
			v = float64(r.Int64()>>r.IntN(63)) / math.Pow(10, float64(r.IntN(12)))
		case 2: // and their neighbours
			v = math.Nextafter(float64(r.Int64N(1e12))/1e6, float64(r.IntN(2))*1e12)
		}
		if math.IsNaN(v) || math.IsInf(v, 0) {
			continue
		}
		want, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		if got := codec.AppendDouble(nil, v); string(got) != string(want) {
			t.Fatalf("%v is written %s, encoding/json writes %s", v, got, want)
		}
	}
}

func decodeCSV(header string, records ...string) (*row.Batch, []step.Reject) {
	c := chunkOf(records...)
	c.Header = []byte(header)
	f := fields[:5]
	b := row.NewBatch(f.Schema())
	return b, csv.NewDecoder(f).Decode(c, b, nil)
}

func TestCSV(t *testing.T) {
	b, rejects := decodeCSV("i,s,extra,x,p,ms", `1,"a, ""b""",,2.5,true,1000`, `,,,,,`, `x,a,,1,true,1`, `1,2`, `1,"line`+"\n"+`two",,1e3,false,0`)
	if b.N != 3 || len(rejects) != 2 {
		t.Fatalf("%d rows, %d rejects: %v", b.N, len(rejects), rejects)
	}
	if got := string(b.Cols[0].Bytes(0)); got != `a, "b"` {
		t.Errorf("the first text is %s", got)
	}
	if !b.Cols[0].IsNull(1) || !b.Cols[1].IsNull(1) || string(b.Cols[0].Bytes(2)) != "line\ntwo" || b.Cols[2].F[2] != 1000 {
		t.Error("nulls or the record of two lines are wrong")
	}
	if rejects[0].Reason != step.WrongType || rejects[1].Message != "the record has 2 cells, and 6 columns are named" {
		t.Errorf("rejects: %v", rejects)
	}
	// What is written reads back by encoding/csv.
	text := append(csv.Head(b.Schema), csv.NewEncoder(b.Schema).Append(nil, step.View{Cols: b.Cols, Sel: []uint16{0, 1, 2}, N: 3})...)
	records, err := stdcsv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil || len(records) != 4 || records[1][0] != `a, "b"` || records[3][0] != "line\ntwo" || records[1][4] != "1970-01-01T00:00:01Z" {
		t.Errorf("written:\n%s\nread: %v, %v", text, records, err)
	}
}

// FuzzCSV: no record makes the decoder panic, and each gives a row or a reject.
func FuzzCSV(f *testing.F) {
	f.Add("s,i", `a,1`)
	f.Add(`"s`, "\"a\nb\",1")
	f.Fuzz(func(t *testing.T, header, record string) {
		b, rejects := decodeCSV(header, record, "a,1")
		if b.N+len(rejects) != 2 {
			t.Fatalf("%d rows and %d rejects of 2 records", b.N, len(rejects))
		}
	})
}

// TestNoAllocation: decoding and encoding a batch allocates nothing in the steady state.
func TestNoAllocation(t *testing.T) {
	simple := fields[:5]
	var lines []string
	for i := range row.MaxRows {
		lines = append(lines, fmt.Sprintf(`{"s":"C%d","i":%d,"x":%d.25,"p":true,"ms":1767225600123}`, i%7, i, i))
	}
	c := chunkOf(lines...)
	b := row.NewBatch(simple.Schema())
	d, e := ndjson.NewDecoder(simple), ndjson.NewEncoder(b.Schema)
	var out []byte
	once := func() {
		b.Reset()
		d.Decode(c, b, nil)
		v := step.ViewOf(b)
		out = e.Append(out[:0], v)
	}
	once()
	if n := testing.AllocsPerRun(5, once); n > 0 {
		t.Errorf("%.0f allocations a batch of %d rows, want none", n, row.MaxRows)
	}
}
