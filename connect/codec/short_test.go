package codec

import (
	"math"
	"math/rand/v2"
	"strconv"
	"testing"
)

// TestShortNumbers: what is read without the standard library is what that reads, to the bit, and what is not a number of its forms is left to it.
func TestShortNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 2))
	short := 0
	for n := range 200_000 {
		text := make([]byte, 1+r.IntN(20))
		for i := range text {
			text[i] = "0123456789012345678901234567890123456789....--eE+x"[r.IntN(50)]
		}
		if n%4 == 0 {
			text = strconv.AppendFloat(text[:0], r.NormFloat64()*math.Pow10(r.IntN(12)-4), 'f', r.IntN(8), 64)
		}
		for i := range text {
			if v, end := DoubleAt(text, i); end >= 0 {
				short++
				if want, err := strconv.ParseFloat(string(text[i:end]), 64); err != nil || math.Float64bits(v) != math.Float64bits(want) {
					t.Fatalf("%q from %d to %d is read as %v, and by the library as %v, %v", text, i, end, v, want, err)
				}
			}
			if v, end := WholeAt(text, i); end >= 0 {
				if want, err := strconv.ParseInt(string(text[i:end]), 10, 64); err != nil || v != want {
					t.Fatalf("%q from %d to %d is read as %d, and by the library as %d, %v", text, i, end, v, want, err)
				}
			}
		}
	}
	if short < 100_000 {
		t.Errorf("only %d numbers were short", short)
	}
}
