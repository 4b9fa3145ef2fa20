package account

import (
	"kestite/core/span"
	"kestite/core/verdict"
)

// ObjectivesMet is how the promises beside availability fared; nil ones were not
// made. They have no effect on the verdict.
type ObjectivesMet struct {
	OutagesAtMost *CountMet  `json:"outages_at_most,omitempty"`
	LongestOutage *LengthMet `json:"longest_outage_s,omitempty"`
	MTTR          *LengthMet `json:"mttr_s,omitempty"`
}

// CountMet is a number of outages beside its limit. Met is nil while it is not
// known, and where the account says nothing.
type CountMet struct {
	Limit int64 `json:"limit"`
	Value int64 `json:"value"`
	Met   *bool `json:"met"`
}

// LengthMet is a length, in ms, beside its limit in seconds. A mean is floored, and nil
// where there is nothing to take it of; whether it is met is decided exactly.
type LengthMet struct {
	Limit   int64  `json:"limit"`
	ValueMS *int64 `json:"value_ms"`
	Met     *bool  `json:"met"`
}

// objectives compares the troubles of an account with what was promised of them
// (docs/accounting.md §8).
func (c *Clauses) objectives(states span.Timeline[verdict.Views], a *Account) *ObjectivesMet {
	o := c.Agreement.Objectives
	if !o.Any() {
		return nil
	}
	lengths := c.troubles(states, a.Intervals)
	var total, longest int64
	for _, ms := range lengths {
		total += ms
		longest = max(longest, ms)
	}
	count := int64(len(lengths))
	// known says whether a promise is met: of a broken one it is known at once, of
	// a kept one when the period is over.
	known := func(kept, tellsEarly bool) *bool {
		switch {
		case a.Final && (a.Verdict == Insufficient || a.Verdict == NotApplicable):
			return nil
		case a.Final || tellsEarly && !kept:
			return &kept
		}
		return nil
	}
	out := &ObjectivesMet{}
	if limit := o.OutagesAtMost; limit != nil {
		out.OutagesAtMost = &CountMet{*limit, count, known(count <= *limit, true)}
	}
	if limit := o.LongestOutageS; limit != nil {
		out.LongestOutage = &LengthMet{*limit, &longest, known(longest <= *limit*span.Second, true)}
	}
	if limit := o.MTTRS; limit != nil {
		var mean *int64
		if count > 0 {
			mean = new(int64)
			*mean = total / count
		}
		out.MTTR = &LengthMet{*limit, mean, known(total <= *limit*span.Second*count, false)}
	}
	return out
}

// troubles are the lengths, in ms, of the outages that objectives count: a
// trouble is one however it is cut. It is a maximal run of the state down or
// unmeasured, from its first to its last down, and as long as its time of class
// down; what is down outside of these by adjustment is an outage of its own.
func (c *Clauses) troubles(states span.Timeline[verdict.Views], intervals []Interval) []int64 {
	known := span.All
	if !c.Final {
		known.To = c.Covered.To
	}
	var runs span.Set
	ill := func(v verdict.Views) bool {
		return v[verdict.Nominal] == verdict.Down || v[verdict.Nominal] == verdict.Unmeasured
	}
	down := states.Where(known, isDown(verdict.Nominal))
	for _, s := range states.Where(known, ill) {
		if inside := down.Cut(s); len(inside) > 0 {
			runs = append(runs, span.Span{From: inside[0].From, To: inside[len(inside)-1].To})
		}
	}
	var classed span.Set
	for _, i := range intervals {
		if i.Class == Down {
			classed = append(classed, span.Span{From: i.From, To: i.To})
		}
	}
	var out []int64
	for _, r := range runs {
		if ms := classed.Cut(r).Length(); ms > 0 {
			out = append(out, ms)
		}
	}
	for _, s := range classed.Intersect(complement(runs, span.All)) {
		out = append(out, s.Length())
	}
	return out
}
