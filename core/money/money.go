// Package money is amounts in whole minor units of a currency (ISO 4217): 12.50 NOK is
// 1250. Nothing here is a floating-point number.
package money

import (
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"
)

// Most is the largest amount, in minor units.
const Most = 1_000_000_000_000_000

var decimal = regexp.MustCompile(`^[0-9]{1,13}(\.[0-9]{1,4})?$`)

// scaleOf is how many decimals a currency has.
func scaleOf(code string) (int, error) {
	scale, known := decimalsOf[code]
	if !known {
		return 0, fmt.Errorf("%q is no currency; write three capital letters of ISO 4217, such as NOK", code)
	}
	return scale, nil
}

// Known says why a currency cannot be; nil where it can.
func Known(code string) error {
	_, err := scaleOf(code)
	return err
}

// Parse reads an amount such as "12500.00". It is not negative, and has no more decimals
// than the currency.
func Parse(text, code string) (int64, error) {
	scale, err := scaleOf(code)
	if err != nil {
		return 0, err
	}
	if !decimal.MatchString(text) {
		return 0, fmt.Errorf("%q is no amount; write it as 12500.00", text)
	}
	whole, part, _ := strings.Cut(text, ".")
	if len(part) > scale {
		return 0, fmt.Errorf("%s has %d decimals; %s has %d", text, len(part), code, scale)
	}
	minor, err := strconv.ParseInt(whole+part+strings.Repeat("0", scale-len(part)), 10, 64)
	if err != nil || minor > Most {
		return 0, fmt.Errorf("%s is more than can be", text)
	}
	return minor, nil
}

// Write writes an amount with the decimals of its currency: "-12.50". A currency that is
// not known has none.
func Write(minor int64, code string) string {
	scale, err := scaleOf(code)
	if err != nil || scale == 0 {
		return strconv.FormatInt(minor, 10)
	}
	sign := ""
	if minor < 0 {
		sign, minor = "-", -minor
	}
	text := fmt.Sprintf("%0*d", scale+1, minor)
	return sign + text[:len(text)-scale] + "." + text[len(text)-scale:]
}

// Words writes an amount with its currency: "12.50 NOK".
func Words(minor int64, code string) string { return Write(minor, code) + " " + code }

// Share is so much percent of an amount, rounded half up to whole minor units.
func Share(minor int64, percent *big.Rat) int64 {
	r := new(big.Rat).Mul(percent, big.NewRat(minor, 100))
	return floor(r.Add(r, big.NewRat(1, 2)))
}

// AtMost is so much percent of an amount, what is below a minor unit cut off.
func AtMost(minor int64, percent *big.Rat) int64 {
	return floor(new(big.Rat).Mul(percent, big.NewRat(minor, 100)))
}

// floor is the greatest whole number that is not above.
func floor(r *big.Rat) int64 { return new(big.Int).Div(r.Num(), r.Denom()).Int64() }
