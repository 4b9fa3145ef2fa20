package account

import (
	"math/big"
	"slices"
)

// Promisable is the highest target that past periods would have met under their clauses,
// as percentages truncated to 4 decimals.
type Promisable struct {
	// Periods is of how many it is told: those that are over, and were measured enough for
	// a verdict.
	Periods int `json:"periods"`
	// Always would have been met in each of them, ButOne in all of them but one; absent
	// where there are too few.
	Always *string `json:"always_percent,omitempty"`
	ButOne *string `json:"but_one_percent,omitempty"`
	// The same by the lower bounds of what sampling leaves open.
	AlwaysLow *string `json:"always_low_percent,omitempty"`
	ButOneLow *string `json:"but_one_low_percent,omitempty"`
}

// CouldPromise says which target past periods would have met.
func CouldPromise(periods []*Account) Promisable {
	var all, low []*big.Rat
	for _, a := range periods {
		if !a.Final || a.Exact.Availability == nil || a.Verdict == Insufficient || a.Verdict == NotApplicable {
			continue
		}
		all = append(all, a.Exact.Availability)
		least := a.Exact.Availability
		if a.AvailabilityLowPercent != nil {
			if r, is := new(big.Rat).SetString(*a.AvailabilityLowPercent); is && r.Cmp(least) < 0 {
				least = r
			}
		}
		low = append(low, least)
	}
	out := Promisable{Periods: len(all)}
	nth := func(list []*big.Rat, n int) *string {
		if len(list) <= n {
			return nil
		}
		list = slices.SortedFunc(slices.Values(list), (*big.Rat).Cmp)
		return shown(list[n])
	}
	out.Always, out.ButOne, out.AlwaysLow, out.ButOneLow = nth(all, 0), nth(all, 1), nth(low, 0), nth(low, 1)
	return out
}
