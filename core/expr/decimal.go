package expr

import (
	"cel.dev/cel-go/cel"
	"github.com/shopspring/decimal"

	"undertide/core/row"
)

// decimalType is the CEL type of decimals; of a kind that may be null.
var decimalType = cel.ObjectType("decimal")

// DecimalDigits is how many digits after the point a quotient of decimals has at most; all else is exact
// (docs/job-document.md, "Types").
const DecimalDigits = 18

// maxDecimal bounds the digits of a decimal, before and after the point together.
const maxDecimal = 1000

// DecimalOf reads a decimal's text as rows hold it.
func DecimalOf(text []byte) decimal.Decimal {
	d, err := decimal.NewFromString(string(text))
	if err != nil {
		panic("a decimal of a row cannot be read: " + err.Error()) // it was read before it got there
	}
	return d
}

// DecimalText writes a decimal without an exponent or closing zeros, as results are written: equal decimals are
// equal texts.
func DecimalText(d decimal.Decimal) string {
	if d.IsZero() {
		return "0"
	}
	return d.String()
}

// ScaledText writes a decimal without an exponent, with the digits after the point that it was given with.
func ScaledText(d decimal.Decimal) string { return d.StringFixed(max(0, -d.Exponent())) }

// ParseDecimal reads a decimal number of any usual form into text without an exponent, with the digits after
// the point that it has: 10.10 stays 10.10. False for others and for those of more than a thousand digits.
func ParseDecimal(text string) (string, bool) {
	if len(text) > maxDecimal {
		return "", false
	}
	d, err := decimal.NewFromString(text)
	if err != nil || d.Exponent() > maxDecimal || d.Exponent() < -maxDecimal {
		return "", false
	}
	return ScaledText(d), true
}

func decimalValue(d decimal.Decimal) (Value, error) {
	if d.NumDigits() > maxDecimal || d.Exponent() < -maxDecimal || d.Exponent() > maxDecimal {
		return Value{}, errDecimal
	}
	return Value{Kind: row.Decimal, S: DecimalText(d)}, nil
}

func applyDecimal(o op, a []Value) (Value, error) {
	x := DecimalOf([]byte(a[0].S))
	if o == opNeg {
		return decimalValue(x.Neg())
	}
	y := DecimalOf([]byte(a[1].S))
	switch o {
	case opAdd:
		return decimalValue(x.Add(y))
	case opSub:
		return decimalValue(x.Sub(y))
	case opMul:
		return decimalValue(x.Mul(y))
	}
	if y.IsZero() {
		return Value{}, errDivision
	}
	return decimalValue(x.DivRound(y, DecimalDigits))
}
