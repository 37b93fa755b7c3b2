package avro

import (
	"fmt"
	"testing"
	"time"

	"github.com/hamba/avro/v2"

	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
)

// BenchmarkDecode compares decoding Avro with decoding JSON of the same rows, batch by batch in turn (docs/speed.md).
func BenchmarkDecode(b *testing.B) {
	s := parsed(b, `{"type":"record","name":"reading","fields":[{"name":"gauge","type":"string"},{"name":"level_m","type":"double"},{"name":"battery_v","type":"double"},{"name":"seq","type":"long"},{"name":"read_at","type":{"type":"long","logicalType":"timestamp-millis"}}]}`)
	var binary, text engine.Chunk
	add := func(c *engine.Chunk, event []byte) {
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, event...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, '\n')
	}
	for n := range row.MaxRows {
		at := int64(1767225600123 + n)
		out, err := avro.Marshal(s, map[string]any{"gauge": fmt.Sprintf("G%d", n%300), "level_m": 3.217 + float64(n)/1000, "battery_v": 12.41, "seq": int64(1234567 + n), "read_at": time.UnixMilli(at)})
		if err != nil {
			b.Fatal(err)
		}
		add(&binary, out)
		add(&text, fmt.Appendf(nil, `{"gauge":"G%d","level_m":%v,"battery_v":12.41,"seq":%d,"read_at":%d}`, n%300, 3.217+float64(n)/1000, 1234567+n, at))
	}
	fields := codec.Fields{{Name: "gauge", Kind: row.String}, {Name: "level_m", Kind: row.Double}, {Name: "battery_v", Kind: row.Double}, {Name: "seq", Kind: row.Int}, {Name: "read_at", Kind: row.Timestamp, Parse: codec.EpochMS}}
	schema := fields.Schema()
	ours, json := (&decoding{file: s}).Decoder(fields), ndjson.NewDecoder(fields)
	rows := row.NewBatch(schema)
	var took, tookJSON time.Duration
	b.ReportAllocs()
	for b.Loop() {
		began := time.Now()
		rows.Reset()
		ours.Decode(&binary, rows, nil)
		between := time.Now()
		rows.Reset()
		json.Decode(&text, rows, nil)
		took += between.Sub(began)
		tookJSON += time.Since(between)
	}
	if rows.N != row.MaxRows {
		b.Fatalf("%d rows", rows.N)
	}
	b.ReportMetric(float64(took.Nanoseconds())/float64(b.N)/row.MaxRows, "ns/row")
	b.ReportMetric(float64(tookJSON)/float64(took), "of-json")
}
