package account

import (
	"math/big"

	"kestite/core/definition"
	"kestite/core/span"
)

// Supposed is how an account would stand at the end of its period if its service were
// down for some time to come, and up for all of the rest.
type Supposed struct {
	// DowntimeMS is what of the time would be downtime, ms.
	DowntimeMS int64
	// LeftMS is what would be left of the allowance, ms; negative: so much too much.
	LeftMS int64
	// RunsOutAt is when the allowance would be used up; nil where it lasts.
	RunsOutAt *span.Instant
	// Verdict at the end of the period, met or missed.
	Verdict Verdict
	// AvailabilityPercent of the whole period, truncated; nil where nothing was agreed in it.
	AvailabilityPercent *string
	// CreditPercent that would be owed.
	CreditPercent string
}

// Suppose adds times to come in which the service is down to an account. What is
// outside the service hours, or in granted maintenance, or shorter than the least
// outage, is no downtime. It returns nil for a final account.
func (a *Account) Suppose(down span.Set) *Supposed {
	if a.Final {
		return nil
	}
	c := a.Clauses
	counts := c.counting(down, c.Granted)
	out := &Supposed{DowntimeMS: counts.Length(), Verdict: Met}
	before := new(big.Rat).Sub(a.Exact.Allowance, a.Exact.Downtime)
	after := new(big.Rat).Sub(before, ratio(out.DowntimeMS, 1))
	out.LeftMS = floor(after)
	if after.Sign() < 0 {
		at := a.To
		if room := floor(before); room >= 0 {
			for _, s := range counts {
				if room < s.Length() {
					at = s.From.Add(room)
					break
				}
				room -= s.Length()
			}
		}
		out.RunsOutAt = &at
	}
	base := a.Exact.Base + c.toCome()
	if base <= 0 {
		out.Verdict, out.CreditPercent = NotApplicable, "0"
		return out
	}
	availability := new(big.Rat).Sub(ratio(base, 1), a.Exact.Downtime)
	availability.Sub(availability, ratio(out.DowntimeMS, 1))
	availability.Mul(availability, ratio(100, base))
	out.AvailabilityPercent = shown(availability)
	if availability.Cmp(c.Agreement.TargetPercent.Rat()) < 0 {
		out.Verdict = Missed
	}
	out.CreditPercent = c.credit(out.Verdict, availability)
	return out
}

// counting is the downtime of times to come in which the service is down, while some
// time is granted.
func (c *Clauses) counting(down, granted span.Set) span.Set {
	var lasting span.Set
	for _, s := range down {
		if s.Length() >= c.Agreement.MinOutageS*span.Second {
			lasting = append(lasting, s)
		}
	}
	lasting = lasting.Intersect(c.Hours).Cut(c.rest())
	if c.Agreement.Maintenance.Mode != definition.MaintenanceIgnore {
		lasting = lasting.Without(granted)
	}
	return lasting
}

// rest is what of the period is still to come.
func (c *Clauses) rest() span.Span { return span.Span{From: c.Covered.To, To: c.Period.To} }
