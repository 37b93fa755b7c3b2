package codec

import (
	"encoding/json"
	"fmt"
	"math/big"

	"github.com/shopspring/decimal"

	"undertide/core/expr"
	"undertide/core/row"
)

// mostDecimal bounds the bytes of a decimal: a thousand digits.
const mostDecimal = 415

// SetScaled appends a decimal that is written as a whole number in two's complement, its greatest byte first, of so many digits behind
// the point, to a column of kind Decimal or Double; false where it is too large.
func SetScaled(c *row.Column, b []byte, scale int32) bool {
	if len(b) > mostDecimal {
		return false
	}
	v := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0]&0x80 != 0 {
		v.Sub(v, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
	}
	setDecimalOf(c, decimal.NewFromBigInt(v, -scale))
	return true
}

// SetScaledInt is SetScaled for a number that fits 64 bits.
func SetScaledInt(c *row.Column, v int64, scale int32) { setDecimalOf(c, decimal.New(v, -scale)) }

func setDecimalOf(c *row.Column, v decimal.Decimal) {
	if c.Kind == row.Double {
		d, _ := v.Float64()
		c.AppendDouble(d)
		return
	}
	c.AppendString(expr.ScaledText(v))
}

// UUID gives the text of a UUID of 16 bytes (RFC 9562, section 4).
func UUID(b []byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// SampleValue gives the first value of a column as samples have it.
func SampleValue(c *row.Column) any {
	text := string(AppendText(nil, c, 0))
	switch {
	case c.Kind == row.Bool:
		return c.I[0] != 0
	case c.Kind == row.Int, c.Kind == row.Double:
		return json.Number(text)
	case !c.Kind.Plain():
		var v any
		if json.Unmarshal([]byte(text), &v) == nil {
			if list, ok := v.([]any); ok {
				return list
			}
		}
	}
	return text
}
