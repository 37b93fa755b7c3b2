package step

import (
	"bytes"
	"math/big"
	"math/rand/v2"
	"testing"

	"undertide/core/row"
)

// TestOrderOfValues: the bytes that order rows order as values do: null first, numbers by size, also decimals, texts by
// bytes. Once decimals were ordered as texts are.
func TestOrderOfValues(t *testing.T) {
	order := func(kind row.Kind, set func(*row.Column)) []byte {
		c := row.NewColumn(kind)
		set(c)
		return appendOrder(nil, c, 0)
	}
	decimal := func(s string) []byte { return order(row.Decimal, func(c *row.Column) { c.AppendString(s) }) }
	ascending := [][]byte{
		order(row.Decimal, func(c *row.Column) { c.AppendNull() }),
		decimal("-100"), decimal("-27.48"), decimal("-26.57"), decimal("-26.5"), decimal("-0.01"), decimal("0"), decimal("0.001"), decimal("0.01"), decimal("9.9"), decimal("12.5"), decimal("12.51"), decimal("100"),
	}
	for i := 1; i < len(ascending); i++ {
		if bytes.Compare(ascending[i-1], ascending[i]) >= 0 {
			t.Errorf("decimal %d of the list does not come before the next", i-1)
		}
	}
	for _, same := range [][2]string{{"10.10", "10.1"}, {"-3.00", "-3"}, {"0.00", "0"}, {"-0.0", "0"}, {"007", "7"}} {
		if !bytes.Equal(decimal(same[0]), decimal(same[1])) {
			t.Errorf("%s and %s are one number and are ordered", same[0], same[1])
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	text := func() string {
		return big.NewRat(r.Int64N(2_000_000)-1_000_000, []int64{1, 10, 1000, 100_000}[r.IntN(4)]).FloatString(r.IntN(6))
	}
	for range 20_000 {
		a, b := text(), text()
		x, _ := new(big.Rat).SetString(a)
		y, _ := new(big.Rat).SetString(b)
		if got := bytes.Compare(decimal(a), decimal(b)); got != x.Cmp(y) {
			t.Fatalf("%s and %s are ordered %d, as numbers %d", a, b, got, x.Cmp(y))
		}
	}
	texts := []string{"", "\x00", "\x00a", "a", "a\x00", "aa", "b"}
	for i := 1; i < len(texts); i++ {
		a := order(row.String, func(c *row.Column) { c.AppendString(texts[i-1]) })
		b := order(row.String, func(c *row.Column) { c.AppendString(texts[i]) })
		if bytes.Compare(a, b) >= 0 {
			t.Errorf("%q does not come before %q", texts[i-1], texts[i])
		}
	}
}
