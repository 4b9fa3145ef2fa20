package calendar

import (
	"fmt"
	"time"

	"kestite/core/span"
)

// Hours are the service hours of an agreement. The zero value is "always".
type Hours struct {
	Weekly   bool // false: always
	Location *time.Location
	Rows     []HoursRow
	Holidays map[string]bool // dates as 2006-01-02 that start no hours
}

// HoursRow is one line of a weekly plan: on these days from From to To, both
// in milliseconds past midnight. To ≤ From runs into the next day.
type HoursRow struct {
	Days     [7]bool // indexed by time.Weekday
	From, To int64
}

// ParseClock reads "15:04" or "15:04:05" as milliseconds past midnight. "24:00" is allowed where end is.
func ParseClock(s string, end bool) (int64, error) {
	if end && (s == "24:00" || s == "24:00:00") {
		return span.Day, nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if t, err := time.Parse(layout, s); err == nil && len(s) == len(layout) {
			return int64(t.Hour())*span.Hour + int64(t.Minute())*span.Minute + int64(t.Second())*span.Second, nil
		}
	}
	if end {
		return 0, fmt.Errorf("%q is no time of day; write it as 18:00, at most 24:00", s)
	}
	return 0, fmt.Errorf("%q is no time of day; write it as 08:00, at most 23:59", s)
}

// Within returns the service hours inside within.
func (h Hours) Within(within span.Span) span.Set {
	if !h.Weekly {
		return span.Union(within)
	}
	var spans []span.Span
	last := WallAt(within.To, h.Location).AddDays(2)
	for day := WallAt(within.From, h.Location).At(0).AddDays(-2); day.Before(last); day = day.AddDays(1) {
		if h.Holidays[day.DateString()] {
			continue
		}
		for _, row := range h.Rows {
			if !row.Days[day.Weekday()] {
				continue
			}
			to := day.At(row.To)
			if row.To <= row.From {
				to = day.AddDays(1).At(row.To)
			}
			spans = append(spans, span.Span{
				From: day.At(row.From).Instant(h.Location, Change),
				To:   to.Instant(h.Location, Change),
			})
		}
	}
	return span.Union(spans...).Cut(within)
}
