package service

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/api"
	"undertide/core/row"
)

var levels = row.Schema{{Name: "gauge", Kind: row.String}, {Name: "n", Kind: row.Int}}

func all(api.Row) bool { return true }

// TestTap compares the ring with a plain list, over many sizes of what is kept and given.
func TestTap(t *testing.T) {
	for keep := 1; keep <= 12; keep++ {
		tap := newTap(seen{name: "minute", schema: levels, key: []string{"gauge"}}, keep, "b", nil)
		var list []int64 // the seqs that were kept
		var passed int64
		for give := range 25 {
			rows := give%4 + 1
			fit := min(rows, give%3+1)
			var data strings.Builder
			for i := range fit {
				fmt.Fprintf(&data, "{\"gauge\":\"G%d\",\"n\":%d}\n", i%2, passed+int64(i)+1)
				list = append(list, passed+int64(i)+1)
			}
			passed += int64(rows)
			tap.Take([]byte(data.String()), rows)
			got := tap.newest(100, all)
			want := list[max(0, len(list)-keep):]
			if len(got.Rows) != len(want) || got.Passed != passed || got.Skipped != passed-int64(len(list)) {
				t.Fatalf("keep %d, after %d: %d rows, %d passed, %d skipped; want %d, %d, %d", keep, give, len(got.Rows), got.Passed, got.Skipped, len(want), passed, passed-int64(len(list)))
			}
			for i, r := range got.Rows {
				seq := want[len(want)-1-i]
				if r.Seq != seq || !strings.Contains(string(r.Row), fmt.Sprintf(`"n":%d}`, seq)) {
					t.Fatalf("keep %d, after %d: row %d is %d %s, want %d", keep, give, i, r.Seq, r.Row, seq)
				}
			}
			again := newTap(seen{name: "minute", schema: levels}, keep+give%3, "b", nil)
			again.takeUp(tap.keepNewest(4))
			again.Take([]byte("{\"n\":0}\n"), 1)
			kept := append(want[max(0, len(want)-4):len(want):len(want)], passed+1)
			kept = kept[max(0, len(kept)-keep-give%3):]
			if got := again.newest(100, all); got.Passed != passed+1 || len(got.Rows) != len(kept) || got.Rows[len(got.Rows)-1].Seq != kept[0] || got.Rows[0].Seq != passed+1 {
				t.Fatalf("keep %d, after %d: taken up are %+v, want %v", keep, give, got.Rows, kept)
			}
			if after := tap.after(want[0], 100); len(after) != len(want)-1 || len(after) > 0 && after[0].Seq != want[1] {
				t.Fatalf("keep %d: after %d come %v", keep, want[0], after)
			}
		}
	}
}

// TestTapRoom: rows that come too fast are counted and not kept.
func TestTapRoom(t *testing.T) {
	tap := newTap(seen{name: "levels", schema: levels}, 100, "b", nil)
	took := 0
	began := time.Now().Unix()
	for range 1000 {
		took += tap.Room(5)
	}
	if seconds := int(time.Now().Unix()-began) + 1; took < 10 || took > 10*seconds {
		t.Errorf("%d rows had room in about %d seconds, want ten a second", took, seconds)
	}
}

// TestMatchKey: keys are given by value or by name, and a wrong one is told what there is.
func TestMatchKey(t *testing.T) {
	tap := newTap(seen{name: "minute", schema: levels, key: []string{"gauge"}}, 10, "b", nil)
	r := api.Row{Row: json.RawMessage(`{"gauge":"a=b","n":7}`)}
	for _, c := range []struct {
		key  []string
		want bool
	}{{nil, true}, {[]string{"gauge=a=b"}, true}, {[]string{"G1"}, false}, {[]string{"n=7"}, true}, {[]string{"gauge=a=b", "n=8"}, false}} {
		match, err := tap.matchKey(c.key)
		if err != nil || match(r) != c.want {
			t.Errorf("key %v: %v, want %v", c.key, err, c.want)
		}
	}
	if _, err := tap.matchKey([]string{"a=b"}); err == nil || !strings.Contains(err.Error(), "for a value that has = in it, write gauge=a=b") {
		t.Errorf("a value that looks like a field: %v", err)
	}
	if _, err := tap.matchKey([]string{"gouge=G1"}); err == nil || !strings.Contains(err.Error(), "there is no field gouge; did you mean gauge?") {
		t.Errorf("a field that is not there: %v", err)
	}
	if _, err := tap.matchKey([]string{"a", "b"}); err == nil || !strings.Contains(err.Error(), "the step has the key gauge; give FIELD=VALUE; fields: gauge, n") {
		t.Errorf("a value too many: %v", err)
	}
}

// TestLogs: a log is rolled, searched and cut to what was asked for.
func TestLogs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logs", "means.ndjson")
	l, err := openLog(path)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.NewJSONHandler(l, nil))
	filler := strings.Repeat("x", 1<<20)
	for i := range 12 {
		log.Info("filling", "n", i, "text", filler[:900_000])
	}
	log.Warn("the run waits", "trouble", "Broker harbour")
	l.Close()
	if _, err := l.Write([]byte("x")); err == nil {
		t.Error("a closed log takes lines")
	}
	if st, err := os.Stat(path + ".old"); err != nil || st.Size() > mostLog {
		t.Errorf("the older file: %v", err)
	}
	for _, c := range []struct {
		name  string
		query logQuery
		want  int
	}{
		{"all", logQuery{limit: 100}, 13}, {"the newest", logQuery{limit: 2}, 2}, {"a word in any case", logQuery{grep: "BROKER", limit: 100}, 1},
		{"a level", logQuery{level: slog.LevelWarn, limit: 100}, 1}, {"later", logQuery{since: time.Now().Add(time.Hour), limit: 100}, 0},
	} {
		got, err := readLog(context.Background(), path, c.query)
		if err != nil || len(got) != c.want {
			t.Errorf("%s: %d lines, %v; want %d", c.name, len(got), err, c.want)
		}
	}
	got, err := readLog(context.Background(), path, logQuery{limit: 1})
	if err != nil || got[0].Message != "the run waits" || got[0].Level != "WARN" || got[0].Fields["trouble"] != "Broker harbour" {
		t.Errorf("the newest line: %+v %v", got, err)
	}
}

// TestTapBytes: what taps keep is bounded by its bytes, each and all together; a row that is too long is counted and
// not kept; what is released is given back.
func TestTapBytes(t *testing.T) {
	var all budget
	long := []byte(`{"gauge":"` + strings.Repeat("x", 20_000) + "\"}\n")
	var taps []*tap
	for i := range 60 {
		tap := newTap(seen{name: fmt.Sprint(i), schema: levels}, 10_000, "b", &all)
		taps = append(taps, tap)
		for range 500 {
			tap.Take(long, 1)
			if tap.bytes > mostStepBytes {
				t.Fatalf("a step keeps %d bytes", tap.bytes)
			}
		}
		if most := int64(mostLookBytes + len(taps)*leastStepBytes); all.used.Load() > most {
			t.Fatalf("%d steps keep %d bytes together, want %d at most", len(taps), all.used.Load(), most)
		}
	}
	if n := len(taps[0].newest(1000, func(api.Row) bool { return true }).Rows); n < 200 {
		t.Errorf("the first step keeps %d rows", n)
	}
	if n := len(taps[59].newest(1000, func(api.Row) bool { return true }).Rows); n < 3 || n > 10 {
		t.Errorf("the last step keeps %d rows", n)
	}
	for _, tap := range taps {
		tap.release()
	}
	if all.used.Load() != 0 {
		t.Errorf("%d bytes are left of nothing", all.used.Load())
	}
	tap := newTap(seen{name: "levels", schema: levels}, 100, "b", &all)
	tap.Take([]byte(`{"gauge":"`+strings.Repeat("x", mostRowBytes)+"\"}\n"+`{"gauge":"y"}`+"\n"), 2)
	if got := tap.newest(10, func(api.Row) bool { return true }); len(got.Rows) != 1 || got.Rows[0].Seq != 2 || got.Skipped != 1 || got.Passed != 2 {
		t.Errorf("a row that is too long: %+v", got)
	}
	tap.Take(long, 1)
	if room := tap.Room(1_000_000); room > 10 {
		t.Errorf("long rows have room for %d", room)
	}
}

// TestMarks: marks of a service that ended count with the next one; of one that was killed those count that it kept
// aside, and for others the answer begins anew.
func TestMarks(t *testing.T) {
	give := func(tap *tap, n int) {
		for range n {
			tap.Take([]byte(`{"n":1}`+"\n"), 1)
		}
	}
	a := newTap(seen{name: "levels", schema: levels}, 10, "a", nil)
	give(a, 30)
	kept := a.keepNewest(5)
	give(a, 20) // those are lost with a kill
	b := newTap(seen{name: "levels", schema: levels}, 10, "b", nil)
	b.takeUp(kept)
	give(b, 100)
	c := newTap(seen{name: "levels", schema: levels}, 10, "c", nil)
	c.takeUp(b.keepNewest(5))
	for _, x := range []struct {
		tap  *tap
		mark string
		seq  int64
		ok   bool
	}{{b, "a-30", 30, true}, {b, "a-31", 31, false}, {b, "a-50", 50, false}, {b, "b-31", 31, true}, {b, "b-131", 131, false}, {b, "131", 131, false}, {b, "7", 7, true}, {c, "a-30", 30, true}, {c, "a-31", 31, false}, {c, "b-130", 130, true}, {c, "z-1", 1, false}} {
		if seq, ok, err := x.tap.seqOf(x.mark); seq != x.seq || ok != x.ok || err != nil {
			t.Errorf("mark %s of %s: %d %v %v", x.mark, x.tap.boot, seq, ok, err)
		}
	}
	for _, wrong := range []string{"a-", "a-x", "-1", "x", "a-1-2"} {
		if _, ok, err := b.seqOf(wrong); err == nil && ok {
			t.Errorf("%q is a mark", wrong)
		}
	}
	missed, last := missedIn(b.after(30, 100), 30)
	if missed != 90 || last != 130 {
		t.Errorf("%d rows are missed up to %d", missed, last)
	}
}
