package account

import (
	"math/big"

	"kestite/core/span"
)

// Pace is the forecast of an account that is not final: what happens when
// downtime goes on at the rate of some time past.
type Pace struct {
	// From is the beginning of the time the rate was taken over; it ends now.
	From span.Instant `json:"from"`
	// DowntimeShare is downtime per agreed time in that time, 0–1.
	DowntimeShare float64 `json:"downtime_share"`
	// RunsOutAt is when the allowance is used up; nil when the period ends first.
	RunsOutAt *span.Instant `json:"runs_out_at"`
	// Verdict to expect at the period's end at this pace.
	Verdict Verdict `json:"verdict"`
}

// Forecast looks ahead at the pace since from, which is cut to the covered
// time. It returns nil for a final account.
func (a *Account) Forecast(from span.Instant) *Pace {
	if a.Final {
		return nil
	}
	c := a.Clauses
	seen := span.Span{From: max(from, a.From), To: a.To}
	var total [classes]int64
	for _, i := range a.Intervals {
		total[i.Class] += span.Span{From: i.From, To: i.To}.Intersect(seen).Length()
	}
	e := c.exact(total)
	pace := &Pace{From: seen.From, Verdict: Met}
	left := new(big.Rat).Sub(a.Exact.Allowance, a.Exact.Downtime)
	if left.Sign() < 0 {
		at := a.To
		pace.RunsOutAt, pace.Verdict = &at, Missed
	}
	if e.Base <= 0 || e.Downtime.Sign() == 0 {
		return pace
	}
	rate := new(big.Rat).Mul(e.Downtime, ratio(1, e.Base))
	pace.DowntimeShare, _ = rate.Float64()
	if pace.Verdict == Missed {
		return pace
	}
	// Service time that may still pass before the allowance is used up.
	room := floor(left.Quo(left, rate))
	for _, s := range c.openTime() {
		if room < s.Length() {
			at := s.From.Add(room)
			pace.RunsOutAt, pace.Verdict = &at, Missed
			return pace
		}
		room -= s.Length()
	}
	return pace
}

// openTime is the agreed time still to come, granted maintenance taken out.
func (c *Clauses) openTime() span.Set {
	rest := c.rest()
	set := c.Hours.Cut(rest)
	if c.Agreement.Maintenance.Mode != "exclude" {
		return set
	}
	return set.Intersect(complement(c.Granted.Cut(rest), rest))
}
