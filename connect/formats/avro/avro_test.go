package avro

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/hamba/avro/v2"
	"github.com/hamba/avro/v2/ocf"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/member"
)

const everything = `{"type":"record","name":"weight","namespace":"harbour","fields":[
 {"name":"truck","type":"string"},
 {"name":"gate","type":{"type":"enum","name":"gate","symbols":["NORTH","SOUTH"]}},
 {"name":"axles","type":"int"},
 {"name":"passes","type":"long"},
 {"name":"share","type":"float"},
 {"name":"tonnes","type":"double"},
 {"name":"full","type":"boolean"},
 {"name":"seal","type":"bytes"},
 {"name":"fee","type":{"type":"bytes","logicalType":"decimal","precision":20,"scale":2}},
 {"name":"tax","type":{"type":"fixed","name":"tax","size":6,"logicalType":"decimal","precision":10,"scale":3}},
 {"name":"id","type":{"type":"string","logicalType":"uuid"}},
 {"name":"day","type":{"type":"int","logicalType":"date"}},
 {"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}},
 {"name":"seen","type":{"type":"long","logicalType":"timestamp-micros"}},
 {"name":"took","type":{"type":"int","logicalType":"time-millis"}},
 {"name":"note","type":["null","string"],"default":null},
 {"name":"goods","type":{"type":"array","items":"string"}},
 {"name":"loads","type":{"type":"map","values":"double"}},
 {"name":"driver","type":{"type":"record","name":"driver","fields":[{"name":"name","type":"string"},{"name":"age","type":["null","int"]}]}},
 {"name":"next","type":["null","weight"]}
]}`

func parsed(t testing.TB, text string) avro.Schema {
	t.Helper()
	s, err := parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// example is a record of everything, as the library encodes it.
func example(n int) map[string]any {
	return map[string]any{
		"truck": fmt.Sprint("L", n), "gate": []string{"NORTH", "SOUTH"}[n%2], "axles": n % 7, "passes": int64(n) << 20, "share": float32(n) / 4, "tonnes": float64(n) / 3, "full": n%3 == 0, "seal": []byte{byte(n), 255},
		"fee": big.NewRat(int64(n*7-500), 100), "tax": big.NewRat(int64(n-3), 1000), "id": "12345678-1234-1234-1234-123456789abc", "day": time.Date(2026, 3, 1+n%20, 0, 0, 0, 0, time.UTC),
		"at": time.UnixMilli(int64(n) * 1001).UTC(), "seen": time.UnixMicro(int64(n) * 1000003).UTC(), "took": time.Duration(n) * time.Millisecond,
		"note": map[bool]any{true: nil, false: map[string]any{"string": "n"}}[n%2 == 0], "goods": []any{"a", fmt.Sprint(n)}, "loads": map[string]any{"b": 1.5, "a": float64(n)},
		"driver": map[string]any{"name": "D", "age": map[string]any{"int": 30 + n}}, "next": nil,
	}
}

// shown is how a decoded example reads.
func shown(n int) string {
	note := `"n"`
	if n%2 == 0 {
		note = "null"
	}
	fee := big.NewRat(int64(n*7-500), 100).FloatString(2)
	return fmt.Sprintf(`{"truck":"L%d","gate":"%s","axles":%d,"passes":%d,"share":%v,"tonnes":%v,"full":%v,"seal":"%s","fee":"%s","tax":"%s","id":"12345678-1234-1234-1234-123456789abc","day":"%s","at":"%s","seen":"%s","took":"%s","note":%s,"goods":["a","%d"],"loads":{"a":%v,"b":1.5},"name":"D","age":%d}`,
		n, []string{"NORTH", "SOUTH"}[n%2], n%7, int64(n)<<20, float32(n)/4, string(codec.AppendDouble(nil, float64(n)/3)), n%3 == 0, base64Of([]byte{byte(n), 255}), fee, big.NewRat(int64(n-3), 1000).FloatString(3), row.TimeOf(time.Date(2026, 3, 1+n%20, 0, 0, 0, 0, time.UTC)), row.TimeOf(time.UnixMilli(int64(n)*1001)), row.TimeOf(time.UnixMicro(int64(n)*1000003)), secondsOf(n), note, n, n, 30+n)
}

func textOf(f codec.Field, put func(c *row.Column)) string {
	c := row.NewColumn(f.Kind)
	put(c)
	return string(codec.AppendText(nil, c, 0))
}

func base64Of(b []byte) string {
	return textOf(codec.Field{Kind: row.Bytes}, func(c *row.Column) { c.AppendBytes(b) })
}

func secondsOf(ms int) string {
	return textOf(codec.Field{Kind: row.Duration}, func(c *row.Column) { c.AppendInt(int64(ms) * 1000) })
}

func encoded(t testing.TB, s avro.Schema, v any) []byte {
	t.Helper()
	out, err := avro.Marshal(s, v)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// decoded gives the rows and rejects of events, as lines.
func decoded(t testing.TB, d engine.Decoder, fields codec.Fields, header string, events ...[]byte) (rows, rejects []string) {
	t.Helper()
	schema := fields.Schema()
	c := engine.Chunk{Header: []byte(header)}
	for _, e := range events {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, e...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	if r, ok := d.(engine.Readier); ok {
		if err := r.Ready(context.Background(), &c); err != nil {
			t.Fatal(err)
		}
	}
	b := row.NewBatch(schema)
	for _, r := range d.Decode(&c, b, nil) {
		rejects = append(rejects, fmt.Sprintf("%d %s: %s", r.Index, r.Reason, r.Message))
	}
	text := strings.TrimSpace(string(ndjson.NewEncoder(schema).Append(nil, step.ViewOf(b))))
	if text != "" {
		rows = strings.Split(text, "\n")
	}
	return rows, rejects
}

// TestEveryType: each type and logical type reads as it was written by the library's encoder, by the fields that the schema describes.
func TestEveryType(t *testing.T) {
	s := parsed(t, everything)
	fields, err := fieldsOf(s)
	if err != nil {
		t.Fatal(err)
	}
	d := (&decoding{file: s}).Decoder(fields)
	for n := range 50 {
		rows, rejects := decoded(t, d, fields, "", encoded(t, s, example(n)))
		if len(rejects) > 0 || rows[0] != shown(n) {
			t.Fatalf("%v\n%s\nwant\n%s", rejects, strings.Join(rows, ""), shown(n))
		}
	}
}

// fixed is a registry of these schemas.
type fixed struct {
	schemas map[int]string
	newest  int
	asked   map[int]int
	away    int // times that it cannot be reached
}

func (f *fixed) Schema(_ context.Context, id int) (string, error) {
	f.asked[id]++
	if f.away > 0 {
		f.away--
		return "", connect.ErrUnreachable
	}
	if s, ok := f.schemas[id]; ok {
		return s, nil
	}
	return "", fmt.Errorf("registry: %w: schema %d", connect.ErrNoSchema, id)
}

func (f *fixed) Newest(context.Context, string) (int, string, error) {
	return f.newest, f.schemas[f.newest], nil
}

func message(id int, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{0}, uint32(id)), body...)
}

// TestEvolution: messages of several schemas of one topic read by the document's fields: renamed ones by their aliases, new ones by their
// default or null, widened numbers; a schema is asked for once, waited for, or a reject where there is none.
func TestEvolution(t *testing.T) {
	one := `{"type":"record","name":"w","fields":[{"name":"lorry","type":"string"},{"name":"tonnes","type":"int"},{"name":"gone","type":"string"}]}`
	two := `{"type":"record","name":"w","fields":[{"name":"tonnes","type":"double"},{"name":"truck","type":"string","aliases":["lorry"]},{"name":"axles","type":["null","int"],"default":null},{"name":"gate","type":"string","default":"NORTH"}]}`
	r := &fixed{schemas: map[int]string{1: one, 7: two, 9: `"string"`}, newest: 7, asked: map[int]int{}, away: 2}
	fields, err := (&decoding{registry: r, subject: "w-value"}).Described()
	if err != nil {
		t.Fatal(err)
	}
	d := (&decoding{registry: r, subject: "w-value"}).Decoder(fields)
	first := encoded(t, parsed(t, one), map[string]any{"lorry": "A", "tonnes": 12, "gone": "x"})
	second := encoded(t, parsed(t, two), map[string]any{"tonnes": 12.5, "truck": "B", "axles": map[string]any{"int": 3}, "gate": "SOUTH"})
	for range 2 {
		rows, rejects := decoded(t, d, fields, "", message(1, first), message(7, second), message(8, first), []byte("{}"), message(7, second[:4]), message(7, append(second[:len(second):len(second)], 1)), message(9, first))
		if got, want := strings.Join(rows, "\n"), `{"tonnes":12,"truck":"A","axles":null,"gate":"NORTH"}`+"\n"+`{"tonnes":12.5,"truck":"B","axles":3,"gate":"SOUTH"}`; got != want {
			t.Errorf("got\n%s\nwant\n%s", got, want)
		}
		for i, want := range []string{"2 malformed: registry: there is no such schema: schema 8", "3 malformed: it names no schema", "4 malformed: no Avro of its schema: it ends too early", "5 malformed: no Avro of its schema: 1 bytes are left", "6 malformed: schema 9: the schema is of type string"} {
			if i >= len(rejects) || !strings.HasPrefix(rejects[i], want) {
				t.Errorf("rejects %q, want %q", rejects, want)
			}
		}
	}
	if r.asked[1] != 3 || r.asked[7] != 1 || r.asked[8] != 1 {
		t.Errorf("asked %v times", r.asked)
	}
}

// TestOtherTypes: a value that a field does not take is a reject that names the field; one that it takes without loss is taken.
func TestOtherTypes(t *testing.T) {
	s := parsed(t, `{"type":"record","name":"r","fields":[{"name":"v","type":["null","int","double","string","boolean",{"type":"array","items":"int"}]},{"name":"w","type":"string"}]}`)
	for _, c := range []struct {
		kind  row.Kind
		parse codec.Parse
		v     any
		want  string
	}{
		{row.Int, 0, map[string]any{"int": 5}, `{"v":5}`},
		{row.Int, 0, map[string]any{"double": 5.0}, `{"v":5}`},
		{row.Int, 0, map[string]any{"double": 5.5}, "field v takes a whole number"},
		{row.Int, 0, map[string]any{"string": "5"}, "field v takes a whole number"},
		{row.Double, 0, map[string]any{"int": 5}, `{"v":5}`},
		{row.Double, 0, map[string]any{"boolean": true}, "field v takes a double"},
		{row.Decimal, 0, map[string]any{"string": "5.10"}, `{"v":"5.10"}`},
		{row.Decimal, 0, map[string]any{"double": 5.25}, `{"v":"5.25"}`},
		{row.String, 0, map[string]any{"int": 5}, "field v takes a string"},
		{row.Bool, 0, map[string]any{"boolean": true}, `{"v":true}`},
		{row.Timestamp, codec.EpochS, map[string]any{"int": 60}, `{"v":"1970-01-01T00:01:00Z"}`},
		{row.Timestamp, codec.RFC3339, map[string]any{"string": "2026-03-01T00:00:00Z"}, `{"v":"2026-03-01T00:00:00Z"}`},
		{row.Timestamp, codec.RFC3339, map[string]any{"int": 60}, "field v takes a timestamp"},
		{row.ListOf(row.Double), 0, map[string]any{"array": []any{1, 2}}, `{"v":[1,2]}`},
		{row.String, 0, map[string]any{"array": []any{1, 2}}, "field v takes a string"},
		{row.String, 0, nil, `{"v":null}`},
	} {
		fields := codec.Fields{{Name: "v", Kind: c.kind, Parse: c.parse}}
		rows, rejects := decoded(t, (&decoding{file: s}).Decoder(fields), fields, "", encoded(t, s, map[string]any{"v": c.v, "w": "after"}))
		if got := strings.Join(append(rows, rejects...), " "); !strings.Contains(got, c.want) {
			t.Errorf("%v into %v: %s, want %s", c.v, c.kind, got, c.want)
		}
	}
}

// TestWithin: values within records, also those of a union, are found by their paths.
func TestWithin(t *testing.T) {
	s := parsed(t, everything)
	at := func(names ...string) (p member.Path) {
		for _, n := range names {
			p = append(p, member.Part{Name: n})
		}
		return p
	}
	fields := codec.Fields{{Name: "who", Kind: row.String, At: at("driver", "name")}, {Name: "again", Kind: row.String, At: at("next", "truck")}, {Name: "years", Kind: row.Double, At: at("next", "driver", "age")}, {Name: "truck", Kind: row.String}}
	outer := example(1)
	outer["next"] = map[string]any{"harbour.weight": example(2)}
	rows, rejects := decoded(t, (&decoding{file: s}).Decoder(fields), fields, "", encoded(t, s, outer))
	if want := `{"who":"D","again":"L2","years":32,"truck":"L1"}`; len(rejects) > 0 || rows[0] != want {
		t.Errorf("%v %v, want %s", rows, rejects, want)
	}
}

// TestContainers: files of each packing read as they were written, block by block; a file that is damaged, or is none, is told.
func TestContainers(t *testing.T) {
	for _, packing := range []ocf.CodecName{ocf.Null, ocf.Deflate, ocf.Snappy, ocf.ZStandard} {
		var file bytes.Buffer
		e, err := ocf.NewEncoder(everything, &file, ocf.WithCodec(packing), ocf.WithBlockLength(7))
		if err != nil {
			t.Fatal(err)
		}
		for n := range 50 {
			if err := e.Encode(example(n)); err != nil {
				t.Fatal(err)
			}
		}
		if err := e.Close(); err != nil {
			t.Fatal(err)
		}
		rows, err := readFile(t, file.Bytes())
		if err != nil || len(rows) != 50 || rows[49] != shown(49) {
			t.Errorf("%s: %d rows, %v", packing, len(rows), err)
		}
		for cut := 1; cut < file.Len(); cut += 1 + file.Len()/200 {
			if rows, err := readFile(t, file.Bytes()[:cut]); err == nil && len(rows)%7 != 0 {
				t.Errorf("%s: cut off at byte %d it has %d rows and no fault", packing, cut, len(rows))
			}
		}
		r := rand.New(rand.NewPCG(1, 2))
		for range 300 {
			broken := bytes.Clone(file.Bytes())
			broken[r.IntN(len(broken))] ^= byte(1 + r.IntN(255))
			_, _ = readFile(t, broken) // it must end, and not panic
		}
	}
	if _, err := readFile(t, []byte("no avro")); err == nil || !strings.Contains(err.Error(), "not an Avro object container file") {
		t.Errorf("another file says %v", err)
	}
}

func readFile(t *testing.T, file []byte) (out []string, err error) {
	t.Helper()
	c, err := open(connect.Input{Reader: bytes.NewReader(file)})
	if err != nil {
		return nil, err
	}
	s, err := parse(string(c.Header()))
	if err != nil {
		return nil, err
	}
	fields, err := fieldsOf(s)
	if err != nil {
		return nil, err
	}
	d := (&decoding{}).Decoder(fields)
	for {
		var chunk engine.Chunk
		if err := c.Next(&chunk); err != nil {
			if err.Error() == "EOF" {
				return out, nil
			}
			return out, err
		}
		var events [][]byte
		for i := range chunk.Starts {
			events = append(events, chunk.Event(i))
		}
		rows, _ := decoded(t, d, fields, string(c.Header()), events...)
		out = append(out, rows...)
	}
}

// FuzzDecode: any bytes are a row or a reject by a schema with every type, soon, without a panic.
func FuzzDecode(f *testing.F) {
	s := parsed(f, everything)
	fields, err := fieldsOf(s)
	if err != nil {
		f.Fatal(err)
	}
	d := (&decoding{file: s}).Decoder(fields)
	for n := range 4 {
		f.Add(encoded(f, s, example(n)))
	}
	f.Add(bytes.Repeat([]byte{2}, 2000))
	f.Fuzz(func(t *testing.T, event []byte) {
		rows, rejects := decoded(t, d, fields, "", event)
		if len(rows)+len(rejects) != 1 {
			t.Errorf("%d rows and %d rejects", len(rows), len(rejects))
		}
	})
}

// FuzzContainer: any bytes are read or told to be no file of Avro.
func FuzzContainer(f *testing.F) {
	var file bytes.Buffer
	e, err := ocf.NewEncoder(everything, &file)
	if err != nil {
		f.Fatal(err)
	}
	if err := e.Encode(example(1)); err != nil {
		f.Fatal(err)
	}
	if err := e.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(file.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) { _, _ = readFile(t, b) })
}
