package account_test

import (
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// Coverage is lost at the very moment from which on not even perfect measuring of the rest
// gives the period a verdict: by trying that.
func TestCoverageIsLostWhenNothingToComeMendsIt(t *testing.T) {
	const day = 1440
	for _, silence := range []int{0, 30, 71, 72, 73, 200, 600} {
		rows := func(until int) string {
			return minutely("page", "tolvik", until, func(m int) string {
				if m >= 100 && m < 100+silence {
					return ""
				}
				return "ok"
			})
		}
		with := func(asOf *span.Instant) *definition.Compiled {
			return bundle(t, func(b *definition.Bundle) {
				b.AsOf, b.Agreements[0].MinCoveragePercent = asOf, "95"
			})
		}
		now, _ := span.ParseInstant("2026-03-02T15:00:00Z")
		running := accountOf(t, with(&now), rows(900))
		whole := accountOf(t, with(nil), rows(day))
		if lost := running.CoverageLost(); lost != (whole.Verdict == account.Insufficient) {
			t.Errorf("%d minutes of silence: lost %v; with all the rest measured it is %s (%s %%)", silence, lost, whole.Verdict, whole.CoveragePercent)
		}
		if whole.CoverageLost() {
			t.Error("of a period that is over")
		}
	}
}
