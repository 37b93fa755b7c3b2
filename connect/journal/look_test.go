package journal

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"undertide/connect"
)

// TestLook: events are looked at beside whoever writes them, the newest or the oldest, over several files, also where the last one is half written.
func TestLook(t *testing.T) {
	dir := t.TempDir()
	j, err := Open(dir, Options{Limit: 8 << 10}) // files of a kilobyte
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for n := range 100 {
		if _, _, err := j.Append("", [][]byte{fmt.Appendf(nil, `{"n":%d,"more":"some text of an event"}`, n)}); err != nil {
			t.Fatal(err)
		}
	}
	files, err := filepath.Glob(filepath.Join(dir, "*"+ending))
	if err != nil || len(files) < 3 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	f, err := os.OpenFile(files[len(files)-1], os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.Write([]byte{9, 0, 0, 0, 1}); err != nil { // as it is being written
		t.Fatal(err)
	}
	f.Close()
	for _, c := range []struct {
		o           connect.Sampling
		first, last int64
	}{
		{connect.Sampling{Rows: 5}, 95, 99},
		{connect.Sampling{Rows: 60}, 40, 99},
		{connect.Sampling{Rows: 5, From: connect.Oldest}, 0, 4},
		{connect.Sampling{Rows: 500, From: connect.Oldest}, 0, 99},
		{connect.Sampling{Rows: 3, From: connect.Since, At: time.Now().Add(-time.Hour)}, 0, 2},
		{connect.Sampling{Rows: 3, From: connect.Since, At: time.Now().Add(time.Hour)}, 0, -1},
	} {
		c.o.Journal = dir
		got, err := Look(c.o, "posts", "post some")
		if err != nil || int64(len(got.Events)) != c.last-c.first+1 {
			t.Errorf("%+v: %d events, %v", c.o, len(got.Events), err)
			continue
		}
		for i, e := range got.Events {
			if n := c.first + int64(i); e.Offset != n || string(e.Text) != fmt.Sprintf(`{"n":%d,"more":"some text of an event"}`, n) || e.Stored.IsZero() || e.Partition != "posts" {
				t.Fatalf("%+v: event %d is %+v %s", c.o, i, e, e.Text)
			}
		}
	}
	if got, err := Look(connect.Sampling{Rows: 1, Journal: filepath.Join(dir, "none")}, "posts", "post some"); err != nil || len(got.Events) > 0 || len(got.Notes) != 1 {
		t.Errorf("of no journal: %+v, %v", got, err)
	}
	if _, err := Look(connect.Sampling{Rows: 1}, "posts", "post some"); !errors.Is(err, connect.ErrCannot) {
		t.Errorf("of one that nobody knows: %v", err)
	}
}
