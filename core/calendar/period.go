package calendar

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/span"
)

// Period is a stretch of calendar time that an account covers: wall times in a zone.
type Period struct {
	Location   *time.Location
	Start, End Wall
}

// Span returns the period as instants.
func (p Period) Span() span.Span {
	return span.Span{From: p.Start.Instant(p.Location, Shift), To: p.End.Instant(p.Location, Shift)}
}

// Month returns the calendar month in loc that i lies in.
func Month(i span.Instant, loc *time.Location) Period {
	t := i.Time().In(loc)
	start := Date(t.Year(), t.Month(), 1)
	return Period{loc, start, start.AddMonths(1)}
}

// ParseMonth reads "2006-01" as that month in loc.
func ParseMonth(s string, loc *time.Location) (Period, error) {
	t, err := time.Parse("2006-01", s)
	if err != nil {
		return Period{}, fmt.Errorf("%q is no month; write it as 2006-01", s)
	}
	start := Date(t.Year(), t.Month(), 1)
	return Period{loc, start, start.AddMonths(1)}, nil
}

// Name writes the month's key, "2006-01".
func (p Period) Name() string { return p.Start.utc.Format("2006-01") }

// Next returns the month n months later.
func (p Period) Next(n int) Period {
	return Period{p.Location, p.Start.AddMonths(n), p.Start.AddMonths(n + 1)}
}

func sortedInstants(list []span.Instant) []span.Instant {
	slices.Sort(list)
	return slices.Compact(list)
}
