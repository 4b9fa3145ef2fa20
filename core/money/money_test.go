package money

import (
	"math/big"
	"strings"
	"testing"
)

func TestAmountsAreExact(t *testing.T) {
	for _, of := range []struct {
		text, code string
		minor      int64
	}{{"12500.00", "NOK", 1250000}, {"0.5", "NOK", 50}, {"7", "NOK", 700}, {"1234", "JPY", 1234}, {"1.234", "KWD", 1234}, {"0", "EUR", 0}, {"9999999999999.99", "EUR", 999999999999999}} {
		minor, err := Parse(of.text, of.code)
		if err != nil || minor != of.minor {
			t.Errorf("%s %s: got %d, %v", of.text, of.code, minor, err)
		}
		again, err := Parse(Write(minor, of.code), of.code)
		if err != nil || again != minor {
			t.Errorf("%s %s: written as %s it reads %d, %v", of.text, of.code, Write(minor, of.code), again, err)
		}
	}
	for _, of := range [][2]string{{"", "NOK"}, {"-1", "NOK"}, {"+1", "NOK"}, {"1,50", "NOK"}, {"1.234", "NOK"}, {"0.1", "JPY"}, {"1e39", "NOK"}, {"NaN", "NOK"},
		{"Inf", "NOK"}, {"1\x00", "NOK"}, {"12345678901234", "NOK"}, {" 1", "NOK"}, {"١", "NOK"}, {"1", "nok"}, {"1", "KRONE"}, {"1", ""}, {"1.", "NOK"}} {
		if minor, err := Parse(of[0], of[1]); err == nil {
			t.Errorf("%q %q: got %d", of[0], of[1], minor)
		}
	}
	for minor, want := range map[int64]string{-1250: "-12.50", -5: "-0.05", 0: "0.00", 7: "0.07"} {
		if got := Write(minor, "NOK"); got != want {
			t.Errorf("%d: got %s, want %s", minor, got, want)
		}
	}
}

// Decimals are those of ISO 4217, which differ from what is usual where cash is rounded.
func TestDecimalsOfCurrencies(t *testing.T) {
	for decimals, list := range map[int]string{2: "RSD PKR COP IDR MRU SLE VES HUF TWD ALL AMD CRC IRR KPW LAK LBP MGA MMK SOS SYP TZS UZS YER ZWG XCG BGN", 0: "JPY ISK CLP VND UGX XAF", 3: "IQD KWD BHD TND", 4: "CLF UYW"} {
		for _, code := range strings.Fields(list) {
			if got, err := scaleOf(code); err != nil || got != decimals {
				t.Errorf("%s has %d decimals, %v; want %d", code, got, err, decimals)
			}
		}
	}
	// XXX is the code of a transaction without a currency, XTS that of tests (ISO 4217).
	for _, code := range []string{"XXX", "XTS", "XAU", "XYZ", "nok", "NO", "NOKK", "", "N K"} {
		if Known(code) == nil {
			t.Errorf("%q is taken for a currency", code)
		}
	}
	if n := len(decimalsOf); n != len(strings.Fields(noDecimals+" "+twoDecimals+" "+threeDecimals+" "+fourDecimals+" "+formerTwo)) || n < 160 {
		t.Errorf("%d currencies: one stands twice, or some are missing", n)
	}
}

func TestSharesAreRoundedHalfUp(t *testing.T) {
	for _, of := range []struct {
		minor              int64
		percent            string
		rounded, truncated int64
	}{{1000, "5", 50, 50}, {1001, "5", 50, 50}, {1010, "5", 51, 50}, {1009, "5", 50, 50}, {333, "33.3333333333", 111, 110}, {1, "50", 1, 0}, {1, "49.999", 0, 0}, {0, "100", 0, 0}, {Most, "100", Most, Most}} {
		p, _ := new(big.Rat).SetString(of.percent)
		if got := Share(of.minor, p); got != of.rounded {
			t.Errorf("%s %% of %d: got %d, want %d", of.percent, of.minor, got, of.rounded)
		}
		if got := AtMost(of.minor, p); got != of.truncated {
			t.Errorf("at most %s %% of %d: got %d, want %d", of.percent, of.minor, got, of.truncated)
		}
	}
}
