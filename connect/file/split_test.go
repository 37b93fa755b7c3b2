package file

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// TestFolders: rows lie in the folders that their fields name, each once and in order, however often a run is interrupted between its checkpoints,
// however many folders there are, and whatever time files stay open.
func TestFolders(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 4 {
		dir := t.TempDir()
		through(t, r, func(rolled Rolled, o Output) func() recoverable {
			open := inFolder(rolled, o)
			return func() recoverable { return open(dir) }
		}, func() map[string]string {
			got := map[string]string{}
			for _, path := range under(t, dir, ".ndjson") {
				folder, err := filepath.Rel(filepath.Join(dir, "out"), filepath.Dir(path))
				must(t, err)
				got[folder] += numbers(content(t, path))
			}
			if left := under(t, dir, ".part"); len(left) > 0 {
				t.Fatalf("unfinished files are left: %v", left)
			}
			return got
		})
	}
}

// numbers gives the values of n of rows.
func numbers(text string) (out string) {
	for line := range strings.Lines(text) {
		_, number, _ := strings.Cut(strings.TrimSuffix(line, "}\n"), `"n":`)
		out += number + " "
	}
	return out
}

// through sends some six hundred rows through a sink of folders by two fields, over lives that end at any time, and compares what is in them in the
// end.
func through(t *testing.T, r *rand.Rand, in func(rolled Rolled, o Output) func() recoverable, found func() map[string]string) {
	t.Helper()
	schema := row.Schema{{Name: "gate", Kind: row.String}, {Name: "at", Kind: row.Timestamp}, {Name: "n", Kind: row.Int}}
	keys := 1 + r.IntN(100)
	rolled := Rolled{Folders: folders("{at:%Y-%m-%d}/gate {gate}"), Every: time.Duration(r.IntN(4)) * 20 * time.Minute, Size: []int64{0, 60}[r.IntN(2)]}
	open := in(rolled, Output{Schema: schema, Format: ndjson.Format})
	want := map[string]string{}
	var epoch int64
	var waiting []engine.Shipment
	ctx := context.Background()
	written := 0 // rows of complete checkpoints
	for finished := false; !finished; {
		s := open()
		_, err := s.Delivered(ctx)
		must(t, err)
		must(t, s.Open(waiting, epoch+1))
		enc := s.NewEncoder(schema)
		n := written
		var made []string
		for life := true; life; {
			b := row.NewBatch(schema)
			for range r.IntN(60) {
				day := 1 + n/250
				b.Cols[0].AppendString(fmt.Sprint("G/", n%keys))
				b.Cols[1].AppendInt(int64(row.TimeOf(time.Date(2026, 3, day, 0, 0, n%60, 0, time.UTC))))
				b.Cols[2].AppendInt(int64(n))
				b.N++
				made = append(made, fmt.Sprintf("2026-03-%02d/gate G_%d", day, n%keys))
				n++
			}
			must(t, s.Write(enc.Append(nil, step.ViewOf(b)), b.N))
			switch r.IntN(6) {
			case 0: // killed
				must(t, s.Abort())
				life = false
			case 1, 2:
				epoch++
				sh, err := shipped(s, epoch)
				must(t, err)
				waiting = append(waiting, sh)
				for _, folder := range made {
					want[folder] += fmt.Sprintf("%d ", written)
					written++
				}
				made = nil
				finished = written > 600
				if finished || r.IntN(3) > 0 { // delivered; else the run is behind
					for _, sh := range waiting {
						must(t, s.Deliver(ctx, sh))
					}
					waiting = waiting[len(waiting)-1:]
				}
				if !finished {
					continue
				}
				life = false
				if r.IntN(2) == 0 {
					must(t, s.Finish())
				} else {
					must(t, s.Abort())
					must(t, open().Recover(ctx, waiting))
				}
			}
		}
	}
	got := found()
	if len(got) != len(want) {
		t.Fatalf("%+v: %d folders, want %d", rolled, len(got), len(want))
	}
	for folder, rows := range want {
		if got[folder] != rows {
			t.Fatalf("every %s, size %d, %d keys: folder %s has\n%s\nwant\n%s", rolled.Every, rolled.Size, keys, folder, got[folder], rows)
		}
	}
}

// TestSafeName: a value is one name, that leads nowhere.
func TestSafeName(t *testing.T) {
	for value, want := range map[string]string{
		"G1": "G1", "": "_", "..": "_.", ".x": "_x", "a/b": "a_b", "a\x00b": "a_b", "é": "é", "a b": "a_b", "2026-03-01T06:00:00Z": "2026-03-01T06_00_00Z", "\xff": "_",
		strings.Repeat("x", 300): strings.Repeat("x", mostName),
	} {
		if got := string(safeName(nil, []byte(value))); got != want {
			t.Errorf("%q is %q, want %q", value, got, want)
		}
	}
}
