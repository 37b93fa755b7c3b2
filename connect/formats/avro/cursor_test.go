package avro

import (
	"encoding/binary"
	"math"
	"math/rand/v2"
	"testing"
)

// TestLong: numbers of every length are read as the standard library reads them, wherever they end.
func TestLong(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 3))
	check := func(b []byte) {
		want, n := binary.Varint(b)
		var c cursor
		c.reset(b)
		got := c.long()
		if (c.err != nil) != (n <= 0) || n > 0 && (got != want || c.at != n) {
			t.Fatalf("% x is read as %d, up to %d, %v; want %d, up to %d", b, got, c.at, c.err, want, n)
		}
	}
	for _, v := range []int64{0, -1, 1, 63, 64, -64, -65, 8191, 8192, math.MaxInt32, math.MinInt64, math.MaxInt64, 1<<55 - 1, 1 << 55, 1<<54 - 1, 1 << 54} {
		check(binary.AppendVarint(nil, v))
	}
	for range 200_000 {
		b := binary.AppendVarint(nil, r.Int64()>>r.IntN(64))
		if r.IntN(4) == 0 {
			b = b[:r.IntN(len(b)+1)]
		}
		if r.IntN(8) == 0 && len(b) > 0 { // longer than it need be
			b[len(b)-1] |= 0x80
			b = append(b, 0)
		}
		for range r.IntN(12) {
			b = append(b, byte(r.Uint32()))
		}
		check(b)
	}
}
