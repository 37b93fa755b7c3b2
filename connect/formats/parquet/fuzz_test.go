package parquet

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/parquet-go/parquet-go"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
)

// FuzzFile: whatever a file holds, reading it ends with its rows or an error.
func FuzzFile(f *testing.F) {
	r := rand.New(rand.NewPCG(5, 6))
	f.Add(packed(f, random(r, 3), random(r, 20)))
	f.Add(packed(f))
	var out bytes.Buffer
	w := parquet.NewGenericWriter[foreign](&out, parquet.DataPageVersion(1))
	if _, err := w.Write([]foreign{{Name: "G1", Level: 1.5}, {Name: "G2", Tags: []string{"a", "b"}}}); err != nil {
		f.Fatal(err)
	}
	if err := w.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(out.Bytes())
	f.Fuzz(func(t *testing.T, file []byte) {
		c, err := open(connect.Input{Reader: bytes.NewReader(file), At: bytes.NewReader(file), Size: int64(len(file))})
		if err != nil {
			return
		}
		in := c.(*container)
		defer in.Close()
		b := row.NewBatch(nil)
		for range 20 {
			var chunk engine.Chunk
			if err := in.Next(&chunk); err != nil {
				return
			}
			for i := range chunk.Starts {
				in.Text(chunk.Event(i))
			}
			newDecoder(in.fields).Decode(&engine.Chunk{Header: nil}, b, nil)
		}
	})
}

// foreign is what the library writes in its own ways.
type foreign struct {
	Name  string   `parquet:"name,dict"`
	Level float32  `parquet:"level"`
	Tags  []string `parquet:"tags,list"`
	Any   *int32   `parquet:"any,optional"`
}
