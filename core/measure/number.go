package measure

import (
	"math"
	"strconv"
	"strings"
)

// MostValue is the greatest amount that a measure may have, in its unit; what
// lies beyond it, and what is no number, is no value of a measure.
const MostValue = 1e15

// None stands for an absent measure among values in thousandths.
const None = math.MinInt64

// Usable says whether v is a number that a measure may have.
func Usable(v float64) bool { return v >= -MostValue && v <= MostValue }

// Thousandths returns v in whole thousandths of its unit, rounded half up by its
// decimal digits: what is kept and compared. It is None where v is not Usable.
func Thousandths(v float64) int64 {
	if !Usable(v) {
		return None
	}
	scaled := v * 1000
	whole := math.Floor(scaled)
	// Binary fractions blur a half: close to one the decimal digits decide.
	const blurred, sharp = 1e-3, 1e12
	if part := scaled - whole; math.Abs(part-0.5) > blurred && math.Abs(scaled) < sharp {
		return int64(math.Floor(scaled + 0.5))
	}
	t, _ := ParseThousandths(strconv.FormatFloat(v, 'f', -1, 64))
	return t
}

// ParseThousandths reads a decimal number such as "-12.3455" and rounds it half
// up to whole thousandths, exactly; false where s is no such number or beyond
// MostValue.
func ParseThousandths(s string) (int64, bool) {
	digits, negative := strings.CutPrefix(s, "-")
	whole, fraction, _ := strings.Cut(digits, ".")
	if whole == "" && fraction == "" || !numerals(whole) || !numerals(fraction) {
		return None, false
	}
	whole = strings.TrimLeft(whole, "0")
	const longest = 16 // digits of MostValue
	if len(whole) > longest {
		return None, false
	}
	rest := ""
	if len(fraction) > 3 {
		fraction, rest = fraction[:3], fraction[3:]
	}
	t, err := strconv.ParseInt("0"+whole+fraction+"000"[len(fraction):], 10, 64)
	if err != nil {
		return None, false
	}
	more := rest != "" && rest[0] >= '5'
	if negative {
		// Half up is towards the greater number: -0.0015 is -0.001.
		more = rest != "" && (rest[0] > '5' || rest[0] == '5' && strings.Trim(rest[1:], "0") != "")
	}
	if more {
		t++
	}
	if t > MostValue*1000 {
		return None, false
	}
	if negative {
		t = -t
	}
	return t, true
}

func numerals(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// OfThousandths returns the value that t stands for; NaN for None.
func OfThousandths(t int64) float64 {
	if t == None {
		return math.NaN()
	}
	return float64(t) / 1000
}
