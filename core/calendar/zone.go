// Package calendar turns wall times, service hours, periods and recurrence
// rules into instants, by the rules of docs/accounting.md §1 and §6.
package calendar

import (
	"fmt"
	"sync"
	"time"

	"kestite/core/span"
)

// Wall is a date and time of day as a clock on a wall shows it: no zone, no
// offset. It is kept as the instant it would be in UTC.
type Wall struct{ utc time.Time }

// WallOf takes the wall reading of t in its own zone.
func WallOf(t time.Time) Wall {
	y, m, d := t.Date()
	return Wall{time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)}
}

// Date returns midnight at the start of a calendar date; out-of-range days
// roll over as in time.Date.
func Date(year int, month time.Month, day int) Wall {
	return Wall{time.Date(year, month, day, 0, 0, 0, 0, time.UTC)}
}

// ParseWall reads "2006-01-02T15:04:05" with up to three decimals of a second.
func ParseWall(s string) (Wall, error) {
	t, err := time.Parse("2006-01-02T15:04:05", s)
	if err != nil || t.Nanosecond()%int(time.Millisecond) != 0 || !span.StrictDateTime(s) {
		return Wall{}, fmt.Errorf("%q is no wall time; write it as 2006-01-02T15:04:05, without an offset", s)
	}
	return Wall{t}, nil
}

// ParseDate reads "2006-01-02".
func ParseDate(s string) (Wall, error) {
	t, err := time.Parse("2006-01-02", s)
	if err != nil {
		return Wall{}, fmt.Errorf("%q is no date; write it as 2006-01-02", s)
	}
	return Wall{t}, nil
}

// String writes the wall time as "2006-01-02T15:04:05", with decimals only where it has some.
func (w Wall) String() string { return w.utc.Format("2006-01-02T15:04:05.999") }

// DateString writes the date alone.
func (w Wall) DateString() string { return w.utc.Format("2006-01-02") }

// Weekday of the date.
func (w Wall) Weekday() time.Weekday { return w.utc.Weekday() }

// AddDays moves the date; the time of day stays.
func (w Wall) AddDays(n int) Wall { return Wall{w.utc.AddDate(0, 0, n)} }

// AddMonths moves the date by whole months.
func (w Wall) AddMonths(n int) Wall { return Wall{w.utc.AddDate(0, n, 0)} }

// At returns the wall time of the same date at ms milliseconds past midnight.
func (w Wall) At(ms int64) Wall {
	y, m, d := w.utc.Date()
	return Wall{time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Add(time.Duration(ms) * time.Millisecond)}
}

// Equal and Before compare wall readings.
func (w Wall) Equal(o Wall) bool { return w.utc.Equal(o.utc) }

// Before says whether w reads earlier than o.
func (w Wall) Before(o Wall) bool { return w.utc.Before(o.utc) }

// zones are those that were found, by name: to find one reads its table each time.
var zones sync.Map

// Zone finds an IANA time zone. The empty name and "Local" are refused: what
// they mean depends on the machine.
func Zone(name string) (*time.Location, error) {
	if known, has := zones.Load(name); has {
		return known.(*time.Location), nil
	}
	if name == "" || name == "Local" {
		return nil, fmt.Errorf("%q names no time zone; write an IANA name such as Europe/Oslo or UTC", name)
	}
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%q names no time zone; write an IANA name such as Europe/Oslo or UTC", name)
	}
	zones.Store(name, loc)
	return loc, nil
}

// Gap says how a wall time that a clock change skips is read.
type Gap bool

const (
	// Shift reads a skipped wall time with the offset before the gap (RFC 5545 §3.3.5).
	Shift Gap = false
	// Change reads it as the instant of the clock change; service hours do.
	Change Gap = true
)

// Instant returns when the wall time occurs in loc. One that occurs twice is
// its first occurrence; gap says what one that never occurs is.
func (w Wall) Instant(loc *time.Location, gap Gap) span.Instant {
	const around = 48 * time.Hour // wider than any offset and any clock change
	from := w.utc.Add(-around).In(loc)
	var before time.Time // the wall time read with the offset of the previous zone span
	for {
		start, end := from.ZoneBounds()
		_, offset := from.Zone()
		candidate := w.utc.Add(-time.Duration(offset) * time.Second)
		if !start.IsZero() && candidate.Before(start) {
			if gap == Change || before.IsZero() {
				return span.Of(start)
			}
			return span.Of(before)
		}
		// In some years to come the library says that a zone's span ends before it: at the
		// turn of 2100 for Oslo. There is nothing behind such an end.
		if end.IsZero() || candidate.Before(end) || !end.After(from) {
			return span.Of(candidate)
		}
		before, from = candidate, end
	}
}

// WallAt reads the wall clock of loc at i.
func WallAt(i span.Instant, loc *time.Location) Wall { return WallOf(i.Time().In(loc)) }
