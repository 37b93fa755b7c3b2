package file

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undertide/connect"
	"undertide/connect/settings"
)

// TestWritten: the newest rows of a sink's files come from the last ones, in their order; files of others and unfinished ones are left alone. A single file
// is read while it is not finished.
func TestWritten(t *testing.T) {
	dir := t.TempDir()
	file := func(name string, rows ...int) {
		var b strings.Builder
		for _, n := range rows {
			fmt.Fprintf(&b, "{\"n\":%d}\n", n)
		}
		must(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		must(t, os.WriteFile(filepath.Join(dir, name), []byte(b.String()), 0o644))
	}
	file("out/rates-00000009-2.ndjson", 3, 4)
	file("out/rates-00000009-10.ndjson", 5, 6)
	file("out/rates-00000010-1.ndjson", 7)
	file("out/rates-00000011-1.ndjson.part", 8)
	file("out/other-00000012-1.ndjson", 9)
	file("one.ndjson.part", 1, 2)
	file("by/G[1]/rates-00000001-1.ndjson", 1)
	file("by/G2/rates-00000002-1.ndjson", 2)
	for _, c := range []struct {
		path string
		rows int
		want string
	}{{"out/", 4, "4 5 6 7"}, {"out/", 100, "3 4 5 6 7"}, {"out/", 1, "7"}, {"one.ndjson", 1, "2"}, {"none.ndjson", 1, ""}, {"empty/", 1, ""}, {"by/{g}/", 9, "1 2"}} {
		s := &sink{Path: settings.PathText(c.path)}
		if strings.Contains(c.path, "{") {
			s.folders = folders("{g}")
		}
		got, err := s.Written(context.Background(), connect.Opening{Name: "rates", Dir: dir, Format: &connect.Format{Name: "json"}}, c.rows)
		if err != nil {
			t.Errorf("%s: %v", c.path, err)
			continue
		}
		var texts []string
		for _, e := range got.Events {
			texts = append(texts, strings.Trim(string(e.Text), `{"n:}`))
		}
		if strings.Join(texts, " ") != c.want {
			t.Errorf("the newest %d of %s are %v, want %s", c.rows, c.path, texts, c.want)
		}
	}
}
