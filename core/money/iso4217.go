package money

import "strings"

// The currencies of ISO 4217, list one, as of 1 January 2026, by how many decimals (minor
// units) they have. Funds codes are in it; metals, units of account without minor units, and
// codes for tests are not: nothing is owed in them.
const (
	noDecimals    = "BIF CLP DJF GNF ISK JPY KMF KRW PYG RWF UGX UYI VND VUV XAF XOF XPF"
	threeDecimals = "BHD IQD JOD KWD LYD OMR TND"
	fourDecimals  = "CLF UYW"
	twoDecimals   = "AED AFN ALL AMD AOA ARS AUD AWG AZN BAM BBD BDT BMD BND BOB BOV BRL BSD BTN BWP BYN BZD CAD CDF CHE CHF CHW CNY COP COU CRC CUP CVE CZK " +
		"DKK DOP DZD EGP ERN ETB EUR FJD FKP GBP GEL GHS GIP GMD GTQ GYD HKD HNL HTG HUF IDR ILS INR IRR JMD KES KGS KHR KPW KYD KZT LAK LBP LKR LRD LSL " +
		"MAD MDL MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MXV MYR MZN NAD NGN NIO NOK NPR NZD PAB PEN PGK PHP PKR PLN QAR RON RSD RUB SAR SBD SCR SDG SEK SGD " +
		"SHP SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TOP TRY TTD TWD TZS UAH USD USN UYU UZS VED VES WST XAD XCD XCG YER ZAR ZMW ZWG"
	// formerTwo are those withdrawn since 2016 (list three): agreements of their time name them.
	formerTwo = "ANG BGN CUC HRK MRO SLL STD VEF ZWL"
)

// decimalsOf is how many decimals each currency has.
var decimalsOf = func() map[string]int {
	out := map[string]int{}
	for decimals, list := range map[int]string{0: noDecimals, 2: twoDecimals + " " + formerTwo, 3: threeDecimals, 4: fourDecimals} {
		for _, code := range strings.Fields(list) {
			out[code] = decimals
		}
	}
	return out
}()
