package parquet

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"

	"undertide/connect/codec"
	"undertide/core/row"
	"undertide/member"
)

// weighed has the types that files have, as the library writes them.
type weighed struct {
	Truck   string           `parquet:"truck,dict"`
	Note    *string          `parquet:"note,optional"`
	Axles   int32            `parquet:"axles,delta"`
	Load    uint32           `parquet:"load"`
	Passes  uint64           `parquet:"passes"`
	Share   float32          `parquet:"share,split"`
	Fee     int64            `parquet:"fee,decimal(2:18)"`
	Tax     int32            `parquet:"tax,decimal(3:9)"`
	ID      [16]byte         `parquet:"id,uuid"`
	Day     int32            `parquet:"day,date"`
	Seen    time.Time        `parquet:"seen,timestamp(nanosecond)"`
	Took    int64            `parquet:"took,time(microsecond)"`
	Old     deprecated.Int96 `parquet:"old"`
	Seal    []byte           `parquet:"seal"`
	Goods   []string         `parquet:"goods,list"`
	Loads   map[string]int64 `parquet:"loads"`
	Crew    *crew            `parquet:"crew,optional"`
	Stops   []stop           `parquet:"stops,list"`
	Plain   []int64          `parquet:"plain"`
	Epoch   int64            `parquet:"epoch"`
	Written string           `parquet:"written,delta"`
	Full    bool             `parquet:"full"`
}

type crew struct {
	Driver string `parquet:"driver"`
	Age    *int32 `parquet:"age,optional"`
}

type stop struct {
	Gate string `parquet:"gate"`
}

func weighedRow(n int) weighed {
	w := weighed{Truck: fmt.Sprint("L", n%5), Axles: int32(n - 3), Load: uint32(4_000_000_000 + n), Passes: uint64(n), Share: float32(n) / 4, Fee: int64(n*7 - 500), Tax: int32(n - 3), Day: int32(20_000 + n),
		Seen: time.Unix(1_767_225_600, int64(n)*1001).UTC(), Took: int64(n) * 1_000_003, Seal: []byte{byte(n), 255}, Loads: map[string]int64{}, Epoch: 1_767_225_600_000 + int64(n), Written: fmt.Sprintf("2026-03-01T06:00:%02dZ", n%60), Full: n%3 == 0}
	w.ID = [16]byte{0x12, 0x34, 15: byte(n)}
	w.Old = deprecated.Int96{uint32(n) * 1000, 0, 2440588 + 20_000}
	if n%2 == 0 {
		note := fmt.Sprint("note ", n)
		w.Note = &note
		age := int32(30 + n)
		w.Crew = &crew{Driver: fmt.Sprint("D", n)}
		if n%4 == 0 {
			w.Crew.Age = &age
		}
	}
	for i := range n % 3 {
		w.Goods, w.Plain = append(w.Goods, fmt.Sprint("g", i)), append(w.Plain, int64(i))
		w.Loads[fmt.Sprint("k", i)] = int64(n * i)
		w.Stops = append(w.Stops, stop{"north"})
	}
	return w
}

// weighedText is how a row reads as JSON.
func weighedText(n int) string {
	w := weighedRow(n)
	note, driver, age := "null", "null", "null"
	if w.Note != nil {
		note, driver = fmt.Sprintf("%q", *w.Note), fmt.Sprintf("%q", w.Crew.Driver)
		if w.Crew.Age != nil {
			age = fmt.Sprint(*w.Crew.Age)
		}
	}
	var goods, loads, plain []string
	for i := range n % 3 {
		goods, plain = append(goods, fmt.Sprintf(`"g%d"`, i)), append(plain, fmt.Sprint(i))
		loads = append(loads, fmt.Sprintf(`"k%d":%d`, i, n*i))
	}
	text := func(f codec.Field, put func(c *row.Column)) string {
		c := row.NewColumn(f.Kind)
		put(c)
		return string(codec.AppendText(nil, c, 0))
	}
	decimal := func(v int64, scale int32) string {
		return text(codec.Field{Kind: row.Decimal}, func(c *row.Column) { codec.SetScaledInt(c, v, scale) })
	}
	us := func(v int64) string { return row.Time(v).String() }
	return fmt.Sprintf(`{"truck":"L%d","note":%s,"axles":%d,"load":%d,"passes":%d,"share":%v,"fee":"%s","tax":"%s","id":"12340000-0000-0000-0000-0000000000%02x","day":"%s","seen":"%s","took":"%s","old":"%s","seal":"%s","goods":[%s],"loads":{%s},"driver":%s,"age":%s,"plain":[%s],"epoch":"%s","written":"2026-03-01T06:00:%02dZ","full":%v}`,
		n%5, note, n-3, 4_000_000_000+n, n, float64(n)/4, decimal(w.Fee, 2), decimal(int64(w.Tax), 3), n, us(int64(20_000+n)*86400e6), us(w.Seen.UnixMicro()),
		text(codec.Field{Kind: row.Duration}, func(c *row.Column) { c.AppendInt(int64(n) * 1_000_003) }), us(20_000*86400e6+int64(n)),
		text(codec.Field{Kind: row.Bytes}, func(c *row.Column) { c.AppendBytes([]byte{byte(n), 255}) }), strings.Join(goods, ","), strings.Join(loads, ","), driver, age, strings.Join(plain, ","),
		us(w.Epoch*1000), n%60, w.Full)
}

// TestForeignTypes: each physical and logical type reads as it was written, in pages of both versions, by every encoding, packed or not, and over pages
// that are smaller than rows' lists.
func TestForeignTypes(t *testing.T) {
	fields := codec.Fields{{Name: "truck", Kind: row.String}, {Name: "note", Kind: row.String}, {Name: "axles", Kind: row.Int}, {Name: "load", Kind: row.Int}, {Name: "passes", Kind: row.Int}, {Name: "share", Kind: row.Double},
		{Name: "fee", Kind: row.Decimal}, {Name: "tax", Kind: row.Decimal}, {Name: "id", Kind: row.String}, {Name: "day", Kind: row.Timestamp}, {Name: "seen", Kind: row.Timestamp}, {Name: "took", Kind: row.Duration}, {Name: "old", Kind: row.Timestamp},
		{Name: "seal", Kind: row.Bytes}, {Name: "goods", Kind: row.ListOf(row.String)}, {Name: "loads", Kind: row.MapOf(row.Int)}, {Name: "driver", Kind: row.String, At: member.Of("crew", "driver")}, {Name: "age", Kind: row.Int, At: member.Of("crew", "age")},
		{Name: "plain", Kind: row.ListOf(row.Int)}, {Name: "epoch", Kind: row.Timestamp, Parse: codec.EpochMS}, {Name: "written", Kind: row.Timestamp}, {Name: "full", Kind: row.Bool}}
	for name, options := range map[string][]parquet.WriterOption{
		"version 2":          {parquet.DataPageVersion(2)},
		"version 1, snappy":  {parquet.DataPageVersion(1), parquet.Compression(&parquet.Snappy)},
		"zstd, small pages":  {parquet.Compression(&parquet.Zstd), parquet.PageBufferSize(64)},
		"gzip, small groups": {parquet.Compression(&parquet.Gzip), parquet.MaxRowsPerRowGroup(7), parquet.DataPageVersion(1)},
	} {
		t.Run(name, func(t *testing.T) {
			var file bytes.Buffer
			w := parquet.NewGenericWriter[weighed](&file, options...)
			var want []string
			for n := range 60 {
				if _, err := w.Write([]weighed{weighedRow(n)}); err != nil {
					t.Fatal(err)
				}
				want = append(want, weighedText(n))
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			rows, rejects := lines(t, opened(t, file.Bytes(), fields), fields)
			if len(rejects) > 0 || !equal(rows, want) {
				t.Errorf("%d rejects %v; %s", len(rejects), rejects[:min(2, len(rejects))], differs(rows, want))
			}
			all := opened(t, file.Bytes(), nil).(*container)
			if got := len(all.fields); got != len(fields) { // but for the list of groups
				t.Errorf("%d fields are found: %s", got, all.header)
			}
			for path, why := range map[string]string{"stops": "lists of groups, which are not read", "truck": "its column truck is string, and field truck is to be list<int>"} {
				_, err := columnOf(&codec.Field{Name: path, Kind: row.ListOf(row.Int)}, mustColumns(all), []string{"stops"})
				if err == nil || !strings.Contains(err.Error(), why) {
					t.Errorf("%s: %v", path, err)
				}
			}
		})
	}
}

// TestDotted: a column whose name has dots is found by the path that is inferred for it.
func TestDotted(t *testing.T) {
	type dotted struct {
		Of int64 `parquet:"of.lift"`
	}
	var file bytes.Buffer
	w := parquet.NewGenericWriter[dotted](&file)
	if _, err := w.Write([]dotted{{7}}); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	fields := opened(t, file.Bytes(), nil).(*container).fields
	if rows, _ := lines(t, opened(t, file.Bytes(), fields), fields); len(rows) != 1 || !strings.HasSuffix(rows[0], ":7}") {
		t.Errorf("%v, by the path %s", rows, fields[0].Path())
	}
}

func mustColumns(c *container) []found {
	out, _ := columnsOf(c.file.Root())
	return out
}
