package standing

import (
	"slices"

	"kestite/core/account"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Outage is a run of a service being down, or degraded.
type Outage struct {
	span.Span
	State verdict.State
}

// Outages are the runs of down and of degraded that reach into a span, the latest
// first. One that began before the span has its own beginning, as far as the line
// knows it.
func Outages(line span.Timeline[verdict.Views], within span.Span) []Outage {
	states := span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
	var out []Outage
	states.Runs(within, func(s span.Span, v verdict.State) {
		if v != verdict.Down && v != verdict.Degraded {
			return
		}
		if began := states.Since(s.From); s.From == within.From && began > span.Beginning {
			s.From = began
		}
		out = append(out, Outage{s, v})
	})
	slices.Reverse(out)
	return out
}

// Counted is how much of some time an account counts as a class.
type Counted struct {
	Class account.Class
	MS    int64
}

// CountsAs is what a time counts as in an account, the longest first; the intervals
// are in order of time, and what lies outside them is not told.
func CountsAs(intervals []account.Interval, s span.Span) []Counted {
	var out []Counted
	for _, i := range intervals {
		ms := s.Intersect(span.Span{From: i.From, To: i.To}).Length()
		if ms <= 0 {
			continue
		}
		at := slices.IndexFunc(out, func(c Counted) bool { return c.Class == i.Class })
		if at < 0 {
			out = append(out, Counted{Class: i.Class})
			at = len(out) - 1
		}
		out[at].MS += ms
	}
	slices.SortStableFunc(out, func(a, b Counted) int { return int(min(1, max(-1, b.MS-a.MS))) })
	return out
}
