package file

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/hamba/avro/v2/ocf"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	library "github.com/parquet-go/parquet-go"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/formats/avro"
	"undertide/connect/formats/csv"
	"undertide/connect/formats/ndjson"
	"undertide/connect/formats/parquet"
	"undertide/core/engine"
	"undertide/core/row"
)

func packedAs(t *testing.T, ending, text string) []byte {
	t.Helper()
	var out bytes.Buffer
	switch ending {
	case ".gz": // of two members, as appended files are
		for _, part := range []string{text[:len(text)/2], text[len(text)/2:]} {
			w := gzip.NewWriter(&out)
			if _, err := w.Write([]byte(part)); err != nil {
				t.Fatal(err)
			}
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
		}
	case ".zst":
		w, err := zstd.NewWriter(&out)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	}
	return out.Bytes()
}

// drained reads a partition from a position to its end.
func drained(p engine.Partition, at json.RawMessage) (events []string, positions []json.RawMessage, err error) {
	ctx := context.Background()
	if err := p.Open(ctx, at); err != nil {
		return nil, nil, err
	}
	defer p.Close()
	var c engine.Chunk
	for !c.Last {
		c.Reset()
		if err := p.Read(ctx, &c); err != nil {
			return events, positions, err
		}
		for i := range c.Starts {
			events = append(events, string(c.Event(i)))
		}
		positions = append(positions, c.Position)
	}
	return events, positions, nil
}

// TestPacked: packed files give the events of the files that they were, also from a position on; one that is cut off, or none, or another, is told.
func TestPacked(t *testing.T) {
	var many []string
	for i := range 3*row.MaxRows + 5 {
		many = append(many, fmt.Sprintf("event,%d", i))
	}
	for _, ending := range connect.Packings {
		for _, format := range []*connect.Format{ndjson.Format, csv.Format} {
			text := strings.Join(many, "\n") + "\n"
			if format.Header {
				text = "name,n\n" + text
			}
			path := filepath.Join(t.TempDir(), "x"+format.Endings[0]+ending)
			whole := packedAs(t, ending, text)
			put := func(b []byte) engine.Partition {
				t.Helper()
				if err := os.WriteFile(path, b, 0o600); err != nil {
					t.Fatal(err)
				}
				return wholeOf(local{}, path, connect.Opening{Format: format}, false, 0)
			}
			p := put(whole)
			if empty, err := p.Empty(context.Background()); err != nil || empty {
				t.Errorf("%s: empty %v, %v", path, empty, err)
			}
			got, positions, err := drained(p, nil)
			if err != nil || !slices.Equal(got, many) {
				t.Fatalf("%s: %d events, %v", path, len(got), err)
			}
			for i, at := range positions {
				rest, _, err := drained(put(whole), at)
				if want := many[min(len(many), (i+1)*row.MaxRows):]; err != nil || !slices.Equal(rest, want) {
					t.Errorf("%s: from position %d on come %d events, want %d: %v", path, i, len(rest), len(want), err)
				}
			}
			if _, _, err := drained(put(whole[:len(whole)*2/3]), nil); err == nil || !strings.Contains(err.Error(), "ends too early") {
				t.Errorf("%s cut off says %v", path, err)
			}
			if _, _, err := drained(put([]byte(text)), nil); err == nil || !strings.Contains(err.Error(), "not packed as its name says") {
				t.Errorf("%s that is not packed says %v", path, err)
			}
			if _, _, err := drained(put(packedAs(t, ending, strings.ReplaceAll(text, "event", "other"))), positions[0]); err == nil || !strings.Contains(err.Error(), "is not the file") {
				t.Errorf("another %s says %v", path, err)
			}
		}
	}
}

// containers write files of numbers from 0, whose events are no lines.
var containers = map[*connect.Format]func(t *testing.T, out io.Writer, n int){
	avro.Format: func(t *testing.T, out io.Writer, n int) {
		e, err := ocf.NewEncoder(`{"type":"record","name":"r","fields":[{"name":"n","type":"long"}]}`, out, ocf.WithBlockLength(700))
		if err != nil {
			t.Fatal(err)
		}
		for i := range n {
			if err := e.Encode(map[string]any{"n": int64(i)}); err != nil {
				t.Fatal(err)
			}
		}
		if err := e.Close(); err != nil {
			t.Fatal(err)
		}
	},
	parquet.Format: func(t *testing.T, out io.Writer, n int) {
		type r struct {
			N int64 `parquet:"n"`
		}
		w := library.NewGenericWriter[r](out, library.PageBufferSize(1000), library.MaxRowsPerRowGroup(5000))
		for i := range n {
			if _, err := w.Write([]r{{int64(i)}}); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
	},
}

// TestContained: a file whose events are no lines is read in turns, goes on from each position, and is told from another.
func TestContained(t *testing.T) {
	for format, write := range containers {
		t.Run(format.Name, func(t *testing.T) {
			contain(t, format, func(n int) string {
				path := filepath.Join(t.TempDir(), "x"+format.Endings[0])
				var out bytes.Buffer
				write(t, &out, n)
				if err := os.WriteFile(path, out.Bytes(), 0o600); err != nil {
					t.Fatal(err)
				}
				return path
			})
		})
	}
}

func contain(t *testing.T, format *connect.Format, write func(n int) string) {
	opening := connect.Opening{Format: format, Fields: codec.Fields{{Name: "n", Kind: row.Int}}}
	for _, n := range []int{0, 1, row.MaxRows, 2*row.MaxRows + 9} {
		path := write(n)
		part := func() engine.Partition {
			return wholeOf(local{}, path, opening, false, 0)
		}
		p := part()
		if empty, err := p.Empty(context.Background()); err != nil || empty != (n == 0) {
			t.Errorf("%d events: empty %v, %v", n, empty, err)
		}
		all, positions, err := drained(p, nil)
		if err != nil || len(all) != n || len(positions) != max(1, (n+row.MaxRows-1)/row.MaxRows) {
			t.Errorf("%d events: %d in %d turns, %v", n, len(all), len(positions), err)
		}
		for i, at := range positions {
			if rest, _, err := drained(part(), at); err != nil || !slices.Equal(rest, all[min(n, (i+1)*row.MaxRows):]) {
				t.Errorf("%d events: from position %d on come %d, %v", n, i, len(rest), err)
			}
		}
		other := write(n + 1)
		if err := os.Rename(other, path); err != nil {
			t.Fatal(err)
		}
		if _, _, err := drained(part(), positions[0]); err == nil || !strings.Contains(err.Error(), "is not the file") {
			t.Errorf("another file says %v", err)
		}
	}
}
