package account

import (
	"math/big"

	"kestite/core/definition"
	"kestite/core/span"
)

// Exact holds the figures before they are cut for showing.
type Exact struct {
	Base         int64    // ms
	Downtime     *big.Rat // ms
	Availability *big.Rat // percent; nil without a base
	Allowance    *big.Rat // ms
}

var hundred = big.NewRat(100, 1)

// figures sums the classes of line over the covered time and reports each
// maximal interval to visit, where that is not nil.
func (c *Clauses) figures(line span.Timeline[Class], visit func(Interval)) (total [classes]int64) {
	line.Runs(c.Covered, func(s span.Span, class Class) {
		total[class] += s.Length()
		if visit != nil {
			visit(Interval{s.From, s.To, class})
		}
	})
	return total
}

func (c *Clauses) exact(total [classes]int64) Exact {
	a := c.Agreement
	e := Exact{Base: total[Up] + total[Degraded] + total[Down] + total[Tolerated] + total[Maintenance] + total[Unmeasured]}
	if a.Maintenance.Mode == definition.MaintenanceExclude {
		e.Base -= total[Maintenance]
	}
	e.Downtime = ratio(total[Down], 1)
	weighted := a.DegradedWeightPercent.Rat()
	weighted.Mul(weighted, ratio(total[Degraded], 100))
	e.Downtime.Add(e.Downtime, weighted)
	switch a.Unmeasured {
	case definition.UnmeasuredExclude, "":
		e.Base -= total[Unmeasured]
	case definition.UnmeasuredDown:
		e.Downtime.Add(e.Downtime, ratio(total[Unmeasured], 1))
	}
	if e.Base > 0 {
		e.Availability = new(big.Rat).Sub(ratio(e.Base, 1), e.Downtime)
		e.Availability.Mul(e.Availability, ratio(100, e.Base))
	}
	e.Allowance = new(big.Rat).Sub(hundred, a.TargetPercent.Rat())
	e.Allowance.Mul(e.Allowance, ratio(e.Base+c.toCome(), 100))
	return e
}

// toCome is the service time of the period after the covered part, in ms.
func (c *Clauses) toCome() int64 {
	if c.Final {
		return 0
	}
	rest := c.rest()
	ms := c.Hours.Cut(rest).Length()
	if c.Agreement.Maintenance.Mode == definition.MaintenanceExclude {
		ms -= c.Granted.Cut(rest).Length()
	}
	return ms
}

func (c *Clauses) fill(out *Account, total, lowTotal, highTotal [classes]int64) {
	e := c.exact(total)
	out.Exact = e
	t := Totals{
		Period: c.Covered.Length(), Outside: total[Outside], Up: total[Up], Degraded: total[Degraded],
		Down: total[Down], Tolerated: total[Tolerated], Maintenance: total[Maintenance],
		Upstream: total[Upstream], Excused: total[Excused], Unmeasured: total[Unmeasured],
	}
	t.Agreed = t.Period - t.Outside
	out.TotalMS = t
	out.BaseMS, out.DowntimeMS = e.Base, ceiling(e.Downtime)
	out.AvailabilityPercent = shown(e.Availability)

	low, high := e.Availability, e.Availability
	for _, view := range [][classes]int64{lowTotal, highTotal} {
		v := c.exact(view).Availability
		if v == nil {
			continue
		}
		if low == nil || v.Cmp(low) < 0 {
			low = v
		}
		if high == nil || v.Cmp(high) > 0 {
			high = v
		}
	}
	out.AvailabilityLowPercent, out.AvailabilityHighPercent = shown(low), shown(high)

	covered := coverage(total)
	out.CoveragePercent = *shown(covered)

	left := new(big.Rat).Sub(e.Allowance, e.Downtime)
	out.AllowanceMS, out.AllowanceLeftMS = floor(e.Allowance), floor(left)
	out.Verdict = c.verdict(e, covered, left)
	out.Outages = outages(out.Intervals, e)
	out.CreditPercent = c.credit(out.Verdict, e.Availability)
}

func (c *Clauses) verdict(e Exact, coverage, left *big.Rat) Verdict {
	switch {
	case !c.Final && left.Sign() < 0:
		return Missed
	case !c.Final:
		return OnTrack
	case coverage.Cmp(c.Agreement.MinCoveragePercent.Rat()) < 0:
		return Insufficient
	case e.Availability == nil:
		return NotApplicable
	case e.Availability.Cmp(c.Agreement.TargetPercent.Rat()) >= 0:
		return Met
	}
	return Missed
}

func outages(intervals []Interval, e Exact) Outages {
	var o Outages
	for _, i := range intervals {
		if i.Class != Down {
			continue
		}
		ms := int64(i.To - i.From)
		o.Count++
		o.TotalMS += ms
		o.LongestMS = max(o.LongestMS, ms)
	}
	if o.Count == 0 {
		return o
	}
	mttr := o.TotalMS / o.Count
	between := new(big.Rat).Sub(ratio(e.Base, 1), e.Downtime)
	mtbf := floor(between.Mul(between, ratio(1, o.Count)))
	o.MTTRMS, o.MTBFMS = &mttr, &mtbf
	return o
}

// credit is the largest credit of the bands above the availability.
func (c *Clauses) credit(v Verdict, availability *big.Rat) string {
	best := new(big.Rat)
	if v == Missed && availability != nil {
		for _, band := range c.Agreement.Credits {
			if credit := band.CreditPercent.Rat(); band.BelowPercent.Rat().Cmp(availability) > 0 && credit.Cmp(best) > 0 {
				best = credit
			}
		}
	}
	return plain(best)
}

func latency(objective definition.Latency, timing Timing, line span.Timeline[Class], covered span.Span) (*LatencyOutcome, error) {
	var out LatencyOutcome
	var err error
	out.Measurements, out.Within, err = timing(objective.Check, objective.Limit(), func(i span.Instant) bool {
		if !covered.Contains(i) {
			return false
		}
		class := line.At(i)
		return class == Up || class == Degraded
	})
	if err != nil {
		return nil, err
	}
	if out.Measurements > 0 {
		share := ratio(100*out.Within, out.Measurements)
		met := share.Cmp(objective.TargetPercent.Rat()) >= 0
		out.Percent, out.Met = shown(share), &met
	}
	return &out, nil
}

func ratio(a, b int64) *big.Rat { return big.NewRat(a, b) }

// floor and ceiling cut to whole milliseconds.
func floor(r *big.Rat) int64 {
	q, m := new(big.Int).QuoRem(r.Num(), r.Denom(), new(big.Int))
	if m.Sign() < 0 {
		q.Sub(q, big.NewInt(1))
	}
	return q.Int64()
}

func ceiling(r *big.Rat) int64 { return -floor(new(big.Rat).Neg(r)) }

// shown truncates a percentage to 4 decimals; nil stays nil.
func shown(r *big.Rat) *string {
	if r == nil {
		return nil
	}
	scaled := new(big.Int).Mul(r.Num(), big.NewInt(10000))
	scaled.Quo(scaled, r.Denom())
	s := new(big.Rat).SetFrac(scaled, big.NewInt(10000)).FloatString(4)
	return &s
}

// plain writes a terminating decimal without trailing zeros.
func plain(r *big.Rat) string {
	n, exact := r.FloatPrec()
	if !exact {
		n = 60
	}
	return r.FloatString(n)
}
