package measure

import (
	"math"
	"math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
)

func TestThousandths(t *testing.T) {
	for v, want := range map[float64]int64{
		0: 0, 900.2: 900200, 900.2004: 900200, 900.2005: 900201, 0.0005: 1, 0.00049: 0, 1.0005: 1001, 2.0015: 2002, -0.0005: 0, -0.0006: -1, -1.0005: -1000,
		-0.00051: -1, 1e15: 1e18, -1e15: -1e18, 1e-300: 0, 16384.0015: 16384002, 123456789.0015: 123456789002,
		math.Inf(1): None, math.Inf(-1): None, 1e39: None, 1e300: None, 1.1e15: None, -1.1e15: None,
	} {
		if got := Thousandths(v); got != want {
			t.Errorf("%v: %d, not %d", v, got, want)
		}
	}
	if Thousandths(math.NaN()) != None || !math.IsNaN(OfThousandths(None)) || OfThousandths(900200) != 900.2 {
		t.Error("what is absent")
	}
}

// The rounding is that of exact decimal arithmetic, floor(v × 1000 + 1/2).
func TestThousandthsAgainstExactArithmetic(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	exact := func(text string) int64 {
		x, ok := new(big.Rat).SetString(text)
		if !ok {
			t.Fatal(text)
		}
		x.Mul(x, big.NewRat(1000, 1)).Add(x, big.NewRat(1, 2))
		return new(big.Int).Div(new(big.Int).Sub(x.Num(), new(big.Int).Mod(x.Num(), x.Denom())), x.Denom()).Int64()
	}
	for range 200_000 {
		v := (r.Float64() - 0.5) * math.Pow(10, float64(r.IntN(14)))
		if r.IntN(2) == 0 { // at and around halves
			v = (math.Round(v*1000) + 0.5) / 1000
		}
		text := strconv.FormatFloat(v, 'f', -1, 64)
		if got, want := Thousandths(v), exact(text); got != want {
			t.Fatalf("%s: %d, not %d", text, got, want)
		}
		if got, ok := ParseThousandths(text); !ok || got != exact(text) {
			t.Fatalf("reading %s: %d %v", text, got, ok)
		}
	}
	for _, bad := range []string{"", "-", ".", "+1", "1e3", "NaN", "Inf", "1 ", " 1", "1,5", "--1", "1.2.3", "0x1", strings.Repeat("9", 17), "1000000000000000.001"} {
		if got, ok := ParseThousandths(bad); ok {
			t.Errorf("%q was read as %d", bad, got)
		}
	}
}
