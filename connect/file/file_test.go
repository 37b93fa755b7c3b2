package file

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/connect/formats/csv"
	"undertide/core/engine"
	"undertide/core/row"
)

func readAll(t *testing.T, p *Partition, at json.RawMessage) (events []string, positions []json.RawMessage) {
	t.Helper()
	if err := p.Open(context.Background(), at); err != nil {
		t.Fatal(err)
	}
	var c engine.Chunk
	for !c.Last {
		c.Reset()
		if err := p.Read(context.Background(), &c); err != nil {
			t.Fatal(err)
		}
		for i := range c.Starts {
			events = append(events, string(c.Event(i)))
		}
		positions = append(positions, c.Position)
	}
	return events, positions
}

// ofCSV cuts as CSV does.
var ofCSV = records{true, '"'}

// TestRead cuts files into events, whatever the block size.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	var many []string
	for i := range 2*row.MaxRows + 5 {
		many = append(many, fmt.Sprintf("event %d", i))
	}
	lines := records{}
	for i, c := range []struct {
		as   records
		text string
		want []string
	}{
		{lines, "", nil},
		{lines, "\n\n  \n", nil},
		{lines, "a", []string{"a"}},
		{lines, "a\r\n\r\n  b \nc\n\n", []string{"a", "b ", "c"}},
		{lines, strings.Join(many, "\n"), many},
		{lines, strings.Join(many[:row.MaxRows], "\n\n") + "\n\n \n", many[:row.MaxRows]},
		{ofCSV, "h1,h2\n", nil},
		{ofCSV, "\ufeffh1,h2\r\na,b\r\n\"x\ny\",\"\"\"\"\n\nlast,1", []string{"a,b", "\"x\ny\",\"\"\"\"", "last,1"}},
		{records{false, '"'}, "a,b\n\"x\ny\",2\n", []string{"a,b", "\"x\ny\",2"}},
		{records{true, '\''}, "h1,h2\n'x\ny',\"\n", []string{"'x\ny',\""}},
		{records{false, 0xff}, " a,\"b\n\tc,d\n", []string{" a,\"b", "\tc,d"}},
	} {
		path := filepath.Join(dir, fmt.Sprint(i))
		if err := os.WriteFile(path, []byte(c.text), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, block := range []int{0, 1, 3, 64} {
			empty, err := newPartition(local{}, path, c.as, false, block).Empty(context.Background())
			if err != nil || empty != (len(c.want) == 0) {
				t.Errorf("case %d, block %d: empty %v, %v", i, block, empty, err)
			}
			p := newPartition(local{}, path, c.as, false, block)
			got, positions := readAll(t, p, nil)
			if strings.Join(got, "|") != strings.Join(c.want, "|") {
				t.Errorf("case %d, block %d: %d events, want %d: %.80q", i, block, len(got), len(c.want), got)
			}
			if want := max(1, (len(c.want)+row.MaxRows-1)/row.MaxRows); len(positions) != want {
				t.Errorf("case %d, block %d: %d turns, want %d: the last event must be known as the last", i, block, len(positions), want)
			}
			if c.as.header && string(p.names) != "h1,h2" {
				t.Errorf("case %d: the header is %q", i, p.names)
			}
			if rest, _ := readAll(t, newPartition(local{}, path, c.as, false, block), positions[0]); strings.Join(rest, "|") != strings.Join(c.want[min(len(c.want), row.MaxRows):], "|") {
				t.Errorf("case %d, block %d: from the first position on come %d events", i, block, len(rest))
			}
		}
	}
}

// TestChangedFile: a file whose text before the position has changed is refused.
func TestChangedFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	text := strings.Repeat("an event\n", 2*row.MaxRows)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	_, positions := readAll(t, newPartition(local{}, path, records{}, false, 0), nil)
	for _, changed := range []string{strings.Replace(text, "an event", "no event", row.MaxRows), text[:100], ""} {
		if err := os.WriteFile(path, []byte(changed), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := newPartition(local{}, path, records{}, false, 0).Open(context.Background(), positions[0]); err == nil || !strings.Contains(err.Error(), "is not the file that the checkpoint read") {
			t.Errorf("a file that was changed gives %v", err)
		}
	}
}

// TestFollow: a growing file gives its events as they come; a line counts once it has its newline; a
// file that becomes shorter is a fault.
func TestFollow(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	p := newPartition(local{}, path, records{}, true, 0)
	if err := p.Open(context.Background(), nil); err != nil {
		t.Fatal(err)
	}
	chunks := make(chan []string)
	faults := make(chan error, 1)
	go func() {
		for {
			var c engine.Chunk
			if err := p.Read(context.Background(), &c); err != nil {
				faults <- err
				return
			}
			var out []string
			for i := range c.Starts {
				out = append(out, string(c.Event(i)))
			}
			if len(out) == 0 && c.CaughtUp {
				out = append(out, "caught up")
			}
			chunks <- out
		}
	}()
	add := func(s string) {
		if _, err := f.WriteString(s); err != nil {
			t.Fatal(err)
		}
	}
	next := func(want string) {
		t.Helper()
		select {
		case got := <-chunks:
			if strings.Join(got, "|") != want {
				t.Errorf("got %q, want %q", got, want)
			}
		case <-time.After(5 * time.Second):
			t.Fatalf("%q does not come", want)
		}
	}
	next("caught up")
	add("one\ntwo\nthr")
	next("one|two")
	next("caught up")
	add("ee\n")
	next("three")
	next("caught up")
	if err := f.Truncate(2); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-faults:
		if !strings.Contains(err.Error(), "has become shorter") {
			t.Errorf("a shorter file gives %v", err)
		}
	case <-time.After(5 * time.Second):
		t.Error("a shorter file is not noticed")
	}
}

var asCSV = Output{Format: csv.Format, Schema: row.Schema{{Name: "k", Kind: row.String}}}

func content(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return "not there"
	}
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestSingle: the file is aside until it is whole, and is cut back to the checkpoint on resume.
func TestSingle(t *testing.T) {
	path := filepath.Join(t.TempDir(), "out.csv")
	must(t, os.WriteFile(path, []byte("an older run's\n"), 0o644))
	s := NewSingle(path, asCSV)
	must(t, s.Open(nil, 1))
	if err := NewSingle(path, asCSV).Open(nil, 1); err == nil || !strings.Contains(err.Error(), "another run") {
		t.Errorf("a second run gets %v", err)
	}
	must(t, s.Write([]byte("a\n"), 1))
	shipment, err := shipped(s, 1)
	must(t, err)
	must(t, s.Write([]byte("after the checkpoint\n"), 1))
	must(t, s.Abort()) // as a run that was killed leaves it
	if got := content(t, path); got != "an older run's\n" {
		t.Errorf("the older file is now %q", got)
	}
	s = NewSingle(path, asCSV)
	must(t, s.Open([]engine.Shipment{shipment}, 2))
	must(t, s.Write([]byte("b\n"), 1))
	_, err = s.Prepare(2)
	must(t, err)
	must(t, s.Finish())
	if got := content(t, path); got != "k\na\nb\n" {
		t.Errorf("the file is %q", got)
	}
	must(t, NewSingle(path, asCSV).Recover(context.Background(), nil)) // finished already
	must(t, os.WriteFile(path+".part", []byte("k\n"), 0o644))
	if err := NewSingle(path, asCSV).Open([]engine.Shipment{shipment}, 3); err == nil || !strings.Contains(err.Error(), "2 bytes and the checkpoint says 4") {
		t.Errorf("a file that lost rows gives %v", err)
	}
}

// shipped is what the engine makes of an epoch's shipment.
func shipped(s engine.Sink, epoch int64) (engine.Shipment, error) {
	out, err := s.Prepare(epoch)
	out.Epoch = epoch
	return out, err
}

// TestFolder: an epoch's files appear with its checkpoint, the marker last; what an interrupted epoch
// left is made again; what was prepared and not delivered is delivered at the next start, once.
func TestFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "out")
	ctx := context.Background()
	open := func(epoch int64, waiting ...engine.Shipment) *Folder {
		s := NewFolder(dir, "rates", Rolled{Size: 10}, asCSV)
		must(t, s.Open(waiting, epoch))
		return s
	}
	file := func(name string) string { return content(t, filepath.Join(dir, name)) }
	s := open(1)
	must(t, s.Write([]byte("a\nb\nc\nd\n"), 4))
	must(t, s.Write([]byte("e\nf\n"), 2)) // past 10 bytes: another file
	first, err := shipped(s, 1)
	must(t, err)
	if file("rates-00000001-1.csv") != "not there" {
		t.Error("a file appeared before its checkpoint")
	}
	must(t, s.Write([]byte("g\n"), 1)) // of epoch 2, before epoch 1 is delivered
	must(t, s.Deliver(ctx, first))
	must(t, s.Deliver(ctx, first))
	if file("rates-00000001-1.csv") != "k\na\nb\nc\nd\n" || file("rates-00000001-2.csv") != "k\ne\nf\n" || file("rates.delivered") != "{\"epoch\":1}\n" {
		t.Errorf("epoch 1 is %q and %q, marker %q", file("rates-00000001-1.csv"), file("rates-00000001-2.csv"), file("rates.delivered"))
	}
	must(t, s.Abort())

	s = open(2, first) // goes on from checkpoint 1: what there was of epoch 2 is made again
	if file("rates-00000002-1.csv.part") != "not there" {
		t.Error("an interrupted epoch's file was left")
	}
	must(t, s.Write([]byte("g\n"), 1))
	second, err := shipped(s, 2)
	must(t, err)
	must(t, s.Write([]byte("h\n"), 1))
	third, err := shipped(s, 3)
	must(t, err)
	if second.Bytes != 2 || third.Bytes != 2 {
		t.Errorf("%d and %d bytes wait, want 2 each", second.Bytes, third.Bytes)
	}
	must(t, s.Write([]byte("i\n"), 1))
	must(t, s.Abort()) // killed after checkpoint 3, and before the delivery of epoch 2

	s = open(4, second, third)
	if file("rates-00000002-1.csv.part") == "not there" || file("rates-00000003-1.csv.part") == "not there" || file("rates-00000004-1.csv.part") != "not there" {
		t.Error("what waits for its delivery is not kept, or what is made again is")
	}
	must(t, s.Deliver(ctx, second))
	if file("rates-00000002-1.csv") != "k\ng\n" || file("rates.delivered") != "{\"epoch\":2}\n" {
		t.Errorf("epoch 2 is %q, marker %q after the next start", file("rates-00000002-1.csv"), file("rates.delivered"))
	}
	must(t, s.Finish())
	must(t, NewFolder(dir, "rates", Rolled{}, asCSV).Recover(ctx, []engine.Shipment{second, third}))
	if file("rates-00000003-1.csv") != "k\nh\n" || file("rates.delivered") != "{\"epoch\":3}\n" {
		t.Errorf("epoch 3 is %q, marker %q after it was recovered", file("rates-00000003-1.csv"), file("rates.delivered"))
	}
	third.Data = json.RawMessage(`{"files":["../rates-00000003-1.csv"]}`)
	if err := NewFolder(dir, "rates", Rolled{}, asCSV).Deliver(ctx, third); err == nil || !strings.Contains(err.Error(), "which is not in") {
		t.Errorf("a file elsewhere gives %v", err)
	}
	if err := NewFolder(dir, "rates", Rolled{}, asCSV).Open(nil, 1); err == nil || !strings.Contains(err.Error(), "choose another folder") {
		t.Errorf("an epoch that was delivered gives %v", err)
	}
}
