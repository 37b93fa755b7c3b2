package state

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unsafe"

	"undertide/core/row"
)

// TestDict compares the dictionary with a map, also after keys were dropped.
func TestDict(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	d := NewDict()
	model := map[string]uint32{}
	var k Keys
	c := row.NewColumn(row.String)
	put := func(name string) {
		c.Reset()
		c.AppendString(name)
		k.EncodeOne([]*row.Column{c}, 0)
		id := d.Put(k.Bytes(0), k.Hash[0])
		if want, ok := model[name]; ok && id != want || !ok && int(id) != len(model) {
			t.Fatalf("%s has number %d, want %d (known %v)", name, id, want, ok)
		}
		model[name] = id
	}
	named := func(n int) string { return strings.Repeat("k", n%40) + fmt.Sprint(n) } // short ones and long ones
	for range 20_000 {
		put(named(r.IntN(6000)))
	}
	live := make([]bool, d.Len())
	for id := range live {
		live[id] = r.IntN(3) == 0
	}
	next, to := d.Keep(live)
	kept := map[string]uint32{}
	for name, id := range model {
		if live[id] {
			kept[name] = to[id]
			if string(next.Key(to[id])) != string(d.Key(id)) || next.Hash(to[id]) != d.Hash(id) {
				t.Fatalf("%s has another key or hash after the others were dropped", name)
			}
		}
	}
	d, model = next, kept
	if d.Len() != len(kept) {
		t.Fatalf("%d keys are kept, want %d", d.Len(), len(kept))
	}
	for range 20_000 {
		put(named(r.IntN(9000)))
	}
}

// TestKeys: different keys have different bytes, and bytes read back as the key.
func TestKeys(t *testing.T) {
	rows := []struct{ a, b any }{{"x", "y"}, {"xy", ""}, {"", "xy"}, {nil, "y"}, {"x", nil}, {nil, nil}, {"", ""}, {string(make([]byte, 200)), "z"}}
	a, b := row.NewColumn(row.String), row.NewColumn(row.String)
	sel := []uint16{}
	for i, r := range rows {
		for c, v := range map[*row.Column]any{a: r.a, b: r.b} {
			if v == nil {
				c.AppendNull()
			} else {
				c.AppendString(v.(string))
			}
		}
		sel = append(sel, uint16(i))
	}
	var k Keys
	k.Encode([]*row.Column{a, b}, sel)
	seen := map[string]int{}
	for i := range rows {
		if o, twice := seen[string(k.Bytes(i))]; twice {
			t.Errorf("rows %d and %d have one key", o, i)
		}
		seen[string(k.Bytes(i))] = i
		x, y := row.NewColumn(row.String), row.NewColumn(row.String)
		if err := AppendKey([]*row.Column{x, y}, k.Bytes(i)); err != nil || x.IsNull(0) != a.IsNull(i) || string(y.Bytes(0)) != string(b.Bytes(i)) {
			t.Errorf("row %d does not read back: %v", i, err)
		}
	}
	zero := row.NewColumn(row.Double)
	negative := 0.0
	zero.AppendDouble(0)
	zero.AppendDouble(-negative * 1)
	zero.AppendDouble(-1 / (1 / negative))
	k.Encode([]*row.Column{zero}, []uint16{0, 1})
	if k.Hash[0] != k.Hash[1] {
		t.Error("the two zeros are two keys")
	}
	last := -1
	for share := range Shares { // lanes own runs of shares, all of them
		if l := LaneOf(uint8(share), 3); l != last && l != last+1 || l > 2 {
			t.Fatalf("share %d is in lane %d after lane %d", share, l, last)
		} else {
			last = l
		}
	}
}

// FuzzKey: no bytes make the key reader panic.
func FuzzKey(f *testing.F) {
	f.Add([]byte{1, 1, 'x', 2, 0, 0, 0, 0, 0, 0, 0, 0})
	f.Add([]byte{0, 0})
	f.Fuzz(func(t *testing.T, key []byte) {
		a, b := row.NewColumn(row.String), row.NewColumn(row.Int)
		if AppendKey([]*row.Column{a, b}, key) != nil {
			return
		}
		var k Keys
		k.EncodeOne([]*row.Column{a, b}, 0)
		c, d := row.NewColumn(row.String), row.NewColumn(row.Int)
		if err := AppendKey([]*row.Column{c, d}, k.Bytes(0)); err != nil || string(c.Bytes(0)) != string(a.Bytes(0)) || c.IsNull(0) != a.IsNull(0) || d.I[0] != b.I[0] {
			t.Fatalf("%x reads back otherwise: %v", key, err)
		}
	})
}

// TestLargeDict: long keys beyond four GiB keep their bytes. Once their offsets wrapped. The memory is only reserved.
func TestLargeDict(t *testing.T) {
	d := NewDict()
	d.arena = make([]byte, 1<<32-3, 1<<32+64)
	first, second := strings.Repeat("a", shortKey+1), strings.Repeat("b", shortKey+2)
	if id := d.Put([]byte(first), 7); string(d.Key(id)) != first {
		t.Errorf("the key is %q", d.Key(id))
	}
	if id := d.Put([]byte(second), 8); string(d.Key(id)) != second || d.Put([]byte(first), 7) != 0 {
		t.Errorf("the next key is %q", d.Key(id))
	}
}

// TestLinesOfMemory: an entry takes the bytes that [Dict.Bytes] counts, and two take a line of the processor's cache.
func TestLinesOfMemory(t *testing.T) {
	if n := unsafe.Sizeof(entry{}); n != entryBytes {
		t.Errorf("an entry takes %d bytes, not %d", n, entryBytes)
	}
}
