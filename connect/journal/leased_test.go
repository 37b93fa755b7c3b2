package journal

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"undertide/connect"
)

// openLeased opens a journal by a lease.
func openLeased(t *testing.T, dir string, lease int64, leased func() error) (*Journal, func()) {
	t.Helper()
	j, end, err := OpenIn(dir, Options{Segment: 200, Lease: lease, Leased: leased})
	if err != nil {
		t.Fatal(err)
	}
	return j, end
}

func appendOne(t *testing.T, j *Journal, text string) {
	t.Helper()
	if _, _, err := j.Append("", [][]byte{[]byte(text)}); err != nil {
		t.Fatal(err)
	}
}

// kept gives all that a journal has, oldest first.
func kept(t *testing.T, dir string) (out []string) {
	t.Helper()
	s, err := Look(connect.Sampling{Journal: dir, Rows: 10_000, From: connect.Oldest}, "p", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range s.Events {
		out = append(out, string(e.Text))
	}
	return out
}

// TestLeasedJournal: whoever takes a lease goes on with what the one before had acknowledged; what that one still writes is in nobody's way, and it
// acknowledges nothing more.
func TestLeasedJournal(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "readings")
	var gone error
	a, endA := openLeased(t, dir, 7, func() error { return gone })
	var want []string
	for n := range 40 { // several segments
		want = append(want, fmt.Sprintf("reading %d of node a", n))
		appendOne(t, a, want[n])
	}
	b, endB := openLeased(t, dir, 8, nil)
	if got := kept(t, dir); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("lease 8 begins with %d events: %v", len(got), got)
	}
	gone = errors.New("another node has the job")
	for range 30 { // a goes on, as one that was suspended
		if _, _, err := a.Append("", [][]byte{[]byte("too late")}); err == nil {
			t.Fatal("an append without the lease was taken")
		}
	}
	for n := range 20 {
		want = append(want, fmt.Sprintf("reading %d of node b", n))
		appendOne(t, b, want[40+n])
	}
	endA()
	if first, next := b.Bounds(); first != 0 || next != 60 {
		t.Errorf("lease 8 has events %d to %d", first, next)
	}
	endB()
	c, endC := openLeased(t, dir, 9, nil)
	if got := kept(t, dir); fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("lease 9 begins with %d events: %v", len(got), got)
	}
	if err := c.Release(50); err != nil {
		t.Fatal(err)
	}
	endC()
	c, endC = openLeased(t, dir, 9, nil) // tried again by the same lease
	if _, next := c.Bounds(); next != 60 {
		t.Errorf("lease 9 opened again ends at %d", next)
	}
	endC()
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 1 || entries[0].Name() != "9" {
		t.Errorf("the folder has %v, %v", entries, err)
	}
}

// TestLeasedFirst: the first lease goes on with the journal of a service that was no node; a copy that was interrupted is made anew.
func TestLeasedFirst(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "readings")
	j, end, err := OpenIn(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	appendOne(t, j, "before there were nodes")
	end()
	if err := os.MkdirAll(filepath.Join(dir, "1"+copying), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "1"+copying, fmt.Sprintf("%020d%s", 0, ending)), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, end = openLeased(t, dir, 1, nil)
	defer end()
	if got := kept(t, dir); strings.Join(got, ";") != "before there were nodes" {
		t.Errorf("the first lease begins with %v", got)
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "*"+ending)); len(left) > 0 {
		t.Errorf("%v are left", left)
	}
}
