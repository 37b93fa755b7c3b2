package parquet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"testing"
	"time"

	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// BenchmarkDecode compares reading a file of Parquet with cutting and decoding the same rows as NDJSON (docs/speed.md): five fields of a
// gauge's readings, a hundred thousand rows, in turn.
func BenchmarkDecode(b *testing.B) {
	const rows = 100_000
	schema := row.Schema{{Name: "gauge", Kind: row.String}, {Name: "level_m", Kind: row.Double}, {Name: "battery_v", Kind: row.Double}, {Name: "seq", Kind: row.Int}, {Name: "read_at", Kind: row.Timestamp}}
	var file, text bytes.Buffer
	p, enc := pack(&file, schema), newEncoder(schema)
	batch := row.NewBatch(schema)
	for n := range rows {
		at := int64(1767225600123 + n)
		fmt.Fprintf(&text, `{"gauge":"G%d","level_m":%v,"battery_v":12.41,"seq":%d,"read_at":%d}`+"\n", n%300, 3.217+float64(n)/1000, 1234567+n, at)
		batch.Cols[0].AppendString(fmt.Sprint("G", n%300))
		batch.Cols[1].AppendDouble(3.217 + float64(n)/1000)
		batch.Cols[2].AppendDouble(12.41)
		batch.Cols[3].AppendInt(int64(1234567 + n))
		batch.Cols[4].AppendInt(at * 1000)
		if batch.N++; batch.N == row.MaxRows || n == rows-1 {
			if err := p.Write(enc.Append(nil, step.ViewOf(batch)), batch.N); err != nil {
				b.Fatal(err)
			}
			batch.Reset()
		}
	}
	if err := p.Close(); err != nil {
		b.Fatal(err)
	}
	fields := fieldsFor(schema)
	ms := append(codec.Fields(nil), fields...)
	ms[4].Parse = codec.EpochMS
	ours, json := newDecoder(fields), ndjson.NewDecoder(ms)
	var took, tookJSON time.Duration
	var c engine.Chunk
	for b.Loop() {
		began, got := time.Now(), 0
		in := opened(b, file.Bytes(), fields)
		for {
			c.Reset()
			c.Header = in.Header()
			if err := in.Next(&c); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				b.Fatal(err)
			}
			batch.Reset()
			ours.Decode(&c, batch, nil)
			got += batch.N
		}
		between := time.Now()
		for rest := text.Bytes(); len(rest) > 0; {
			c.Reset()
			for len(rest) > 0 && len(c.Starts) < row.MaxRows {
				n := bytes.IndexByte(rest, '\n')
				c.Starts = append(c.Starts, uint32(len(c.Raw)))
				c.Raw = append(c.Raw, rest[:n]...)
				c.Ends = append(c.Ends, uint32(len(c.Raw)))
				c.Raw, rest = append(c.Raw, '\n'), rest[n+1:]
			}
			batch.Reset()
			json.Decode(&c, batch, nil)
			got += batch.N
		}
		took += between.Sub(began)
		tookJSON += time.Since(between)
		if got != 2*rows {
			b.Fatalf("%d rows", got)
		}
	}
	b.ReportMetric(float64(took.Nanoseconds())/float64(b.N)/rows, "ns/row")
	b.ReportMetric(float64(tookJSON)/float64(took), "of-json")
}
