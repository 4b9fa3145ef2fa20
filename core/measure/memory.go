package measure

import (
	"fmt"
	"math"
)

// Memory rates measurements by limits over time, for one check at one location: it remembers
// what the measurements before were. The zero Memory has seen none.
type Memory struct {
	// Gap is how long nothing may be measured (ms) before means begin anew; 0: any time.
	Gap    int64
	limits []remembered
}

// remembered is what one limit needs to know of the past.
type remembered struct {
	limit  Limit
	row    [2]int   // how many in a row broke it: for degraded (or worse), for failed
	since  [2]int64 // ms, when the row began
	points []point
	began  int64 // ms, since when points are there without a gap
}

type point struct {
	at int64
	v  float64
}

// Rate adds a measurement that was due at an instant (ms, later than all before) and
// returns the outcome that the limits over time make of it, and why. Measurements
// without the value neither break nor mend anything. A limit that was changed
// starts anew. A mean says nothing until what is remembered covers all of its time.
func (m *Memory) Rate(k Kind, at int64, values []float64, limits []Limit) (Outcome, string) {
	m.follow(limits)
	outcome, why := OK, ""
	for n := range m.limits {
		r := &m.limits[n]
		i := k.Index(r.limit.Measure)
		if i < 0 || i >= len(values) || math.IsNaN(values[i]) {
			continue
		}
		if o, text := r.rate(k.Measures[i], at, values[i], m.Gap); o > outcome {
			outcome, why = o, text
		}
	}
	return outcome, why
}

// follow keeps what is remembered of the limits that are still the same.
func (m *Memory) follow(limits []Limit) {
	var now []remembered
	for _, l := range limits {
		if !l.Timed() {
			continue
		}
		kept := remembered{limit: l}
		for _, old := range m.limits {
			if same(old.limit, l) {
				kept = old
			}
		}
		now = append(now, kept)
	}
	m.limits = now
}

func same(a, b Limit) bool {
	equal := func(x, y *float64) bool { return x == nil && y == nil || x != nil && y != nil && *x == *y }
	return a.Measure == b.Measure && a.InARow == b.InARow && a.ForS == b.ForS && a.MeanS == b.MeanS &&
		equal(a.DegradedAbove, b.DegradedAbove) && equal(a.DegradedBelow, b.DegradedBelow) &&
		equal(a.FailedAbove, b.FailedAbove) && equal(a.FailedBelow, b.FailedBelow)
}

func (r *remembered) rate(m Measure, at int64, v float64, gap int64) (Outcome, string) {
	const second = 1000
	if r.limit.MeanS > 0 {
		if n := len(r.points); n == 0 || gap > 0 && at-r.points[n-1].at > gap {
			r.points, r.began = nil, at
		}
		r.points = append(r.points, point{at, v})
		for r.points[0].at <= at-r.limit.MeanS*second {
			r.points = r.points[1:]
		}
		if at-r.began < r.limit.MeanS*second {
			return OK, ""
		}
		sum := 0.0
		for _, p := range r.points {
			sum += p.v
		}
		o, why := r.limit.breach(m, sum/float64(len(r.points)))
		if why != "" {
			why = fmt.Sprintf("mean of %d over %d s: %s", len(r.points), r.limit.MeanS, why)
		}
		return o, why
	}
	now, why := r.limit.breach(m, v)
	out := OK
	for i, level := range []Outcome{Degraded, Failed} {
		if now < level {
			r.row[i] = 0
			continue
		}
		if r.row[i] == 0 {
			r.since[i] = at
		}
		r.row[i]++
		if r.limit.ForS > 0 && at-r.since[i] >= r.limit.ForS*second || r.limit.InARow > 1 && r.row[i] >= r.limit.InARow {
			out = level
		}
	}
	switch {
	case out == OK:
		return OK, ""
	case r.limit.ForS > 0:
		return out, fmt.Sprintf("%s, for %d s and longer", why, r.limit.ForS)
	}
	return out, fmt.Sprintf("%s, %d times in a row", why, r.row[0])
}
