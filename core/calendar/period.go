package calendar

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestite/core/span"
)

// Period is a stretch of calendar time that an account covers: wall times in a zone.
type Period struct {
	Location   *time.Location
	Start, End Wall
	exact      span.Span // of what is two instants; Start and End say what clocks in the zone show then
}

// Exactly is what lies between two instants, told by clocks in loc: a span that
// somebody looks at. No account is of one.
func Exactly(s span.Span, loc *time.Location) Period {
	return Period{loc, WallAt(s.From, loc), WallAt(s.To, loc), s}
}

// Span returns the period as instants.
func (p Period) Span() span.Span {
	if !p.exact.Empty() {
		return p.exact
	}
	return span.Span{From: p.Start.Instant(p.Location, Shift), To: p.End.Instant(p.Location, Shift)}
}

// EndIn is the end as clocks in another zone show it, so that a month ends there
// when the month does; that of two instants is the same everywhere.
func (p Period) EndIn(loc *time.Location) span.Instant {
	if !p.exact.Empty() {
		return p.exact.To
	}
	return p.End.Instant(loc, Shift)
}

// Unit is how long the periods of a cycle are.
type Unit string

// The units.
const (
	Week     Unit = "week"
	Month    Unit = "month"
	Quarter  Unit = "quarter"
	HalfYear Unit = "half-year"
	Year     Unit = "year"
)

// months is how many months a unit has; 0 for a week.
func (u Unit) months() int {
	switch u {
	case Week:
		return 0
	case Quarter:
		return 3
	case HalfYear:
		return 6
	case Year:
		return 12
	}
	return 1
}

// LastDay as the day of a cycle is the last of the month, as BYMONTHDAY=-1 is in
// RFC 5545 §3.3.10.
const LastDay = -1

// Cycle is how periods follow one another without a gap. The zero Cycle is
// calendar months.
type Cycle struct {
	Unit Unit
	// Day of the month on which periods start, 1 to 28 or LastDay; 0 is 1. It
	// means nothing for weeks.
	Day int
	// Month in which a year starts; quarters and half-years are counted from
	// there. 0 is January.
	Month time.Month
	// Weekday on which weeks start, as in ISO 8601: 1 Monday to 7 Sunday; 0 is Monday.
	Weekday int
}

// At is the period of the cycle that i lies in, in loc.
func (c Cycle) At(i span.Instant, loc *time.Location) Period {
	wall := WallAt(i, loc)
	if n := c.Unit.months(); n > 0 {
		start := c.monthStart(wall.utc.Year(), wall.utc.Month())
		for range 2 { // this month's, or that of the one before, where this month's is still to come
			start = c.aligned(start)
			if start.Instant(loc, Shift) <= i {
				break
			}
			start = c.later(start, -1)
		}
		return Period{Location: loc, Start: start, End: c.later(start, n)}
	}
	back := (int(wall.Weekday()) + 7 - max(1, c.Weekday)) % 7 // days since the last start
	start := wall.At(0).AddDays(-back)
	return Period{Location: loc, Start: start, End: start.AddDays(7)}
}

// monthStart is the day of a month on which a period of the cycle may start.
func (c Cycle) monthStart(year int, month time.Month) Wall {
	if c.Day == LastDay {
		return Date(year, month+1, 0)
	}
	return Date(year, month, max(1, c.Day))
}

// later is the start that lies n months after one.
func (c Cycle) later(start Wall, n int) Wall {
	return c.monthStart(start.utc.Year(), start.utc.Month()+time.Month(n))
}

// aligned is the start of the period that begins in the month of start or before.
func (c Cycle) aligned(start Wall) Wall {
	n := c.Unit.months()
	past := (int(start.utc.Month()) - int(max(time.January, c.Month)) + 12) % n
	return c.later(start, -past)
}

// Before is the period of the cycle before p.
func (c Cycle) Before(p Period) Period { return c.At(p.Span().From-1, p.Location) }

// MonthAt returns the calendar month in loc that i lies in.
func MonthAt(i span.Instant, loc *time.Location) Period { return Cycle{}.At(i, loc) }

// Next returns the period n of its unit after this one (before it, where n is
// negative); one that is of no unit is moved by its own length in days, and two
// instants by theirs.
func (p Period) Next(n int) Period {
	if long := p.exact.Length(); long > 0 {
		return Exactly(span.Span{From: p.exact.From.Add(int64(n) * long), To: p.exact.To.Add(int64(n) * long)}, p.Location)
	}
	if u := p.UnitOf(); u.months() > 0 && u != "" {
		return Period{Location: p.Location, Start: p.Start.AddMonths(n * u.months()), End: p.Start.AddMonths((n + 1) * u.months())}
	}
	days := max(1, int(p.End.utc.Sub(p.Start.utc)/(24*time.Hour)))
	return Period{Location: p.Location, Start: p.Start.AddDays(n * days), End: p.End.AddDays(n * days)}
}

// UnitOf is the unit of which a period is one of the calendar's own, starting on
// its first day; empty where it is none.
func (p Period) UnitOf() Unit {
	if !p.exact.Empty() || !p.Start.midnight() || !p.End.midnight() {
		return ""
	}
	day, month := p.Start.utc.Day(), p.Start.utc.Month()
	for _, u := range []Unit{Month, Quarter, HalfYear, Year} {
		n := u.months()
		if day == 1 && (int(month)-1)%n == 0 && p.End.Equal(p.Start.AddMonths(n)) {
			return u
		}
	}
	if p.Start.Weekday() == time.Monday && p.End.Equal(p.Start.AddDays(7)) {
		return Week
	}
	return ""
}

// Name writes the period's key: a month as 2006-01, a quarter as 2006-Q1, a
// half-year as 2006-H1, a year as 2006, a week as 2006-W01 (ISO 8601), and any
// other by its first day and the day after its last, 2006-01-15/2006-02-15. Two
// instants are written in UTC, 2006-01-15T08:00:00.000Z/2006-01-15T09:30:00.000Z.
func (p Period) Name() string {
	if !p.exact.Empty() {
		return p.exact.From.String() + "/" + p.exact.To.String()
	}
	t := p.Start.utc
	switch p.UnitOf() {
	case Month:
		return t.Format("2006-01")
	case Quarter:
		return fmt.Sprintf("%04d-Q%d", t.Year(), (int(t.Month())+2)/3)
	case HalfYear:
		return fmt.Sprintf("%04d-H%d", t.Year(), (int(t.Month())+5)/6)
	case Year:
		return t.Format("2006")
	case Week:
		year, week := t.ISOWeek()
		return fmt.Sprintf("%04d-W%02d", year, week)
	}
	return p.Start.short() + "/" + p.End.short()
}

// Words writes the period as a sentence would: "October 2026", "October to
// December 2026", "23 to 29 November 2026".
func (p Period) Words() string {
	first, last := p.Start.utc, p.End.utc.Add(-time.Millisecond)
	switch u := p.UnitOf(); u {
	case Month:
		return first.Format("January 2006")
	case Year:
		return first.Format("2006")
	case Quarter, HalfYear:
		return first.Format("January to ") + last.Format("January 2006")
	}
	if whole := func(w Wall) bool { return w.utc.Second() == 0 && w.utc.Nanosecond() == 0 }; !p.exact.Empty() && whole(p.Start) &&
		whole(p.End) {
		layout := "2 January 2006 15:04"
		if p.Start.At(0).Equal(p.End.At(0)) {
			layout = "15:04"
		}
		return p.Start.utc.Format("2 January 2006 15:04") + " to " + p.End.utc.Format(layout)
	}
	if !p.Start.midnight() || !p.End.midnight() {
		return p.Start.utc.Format("2 January 2006 15:04:05") + " to " + p.End.utc.Format("2 January 2006 15:04:05")
	}
	layout := "2 January 2006"
	switch {
	case first.Format("2006-01-02") == last.Format("2006-01-02"):
		return first.Format(layout)
	case first.Year() != last.Year():
	case first.Month() != last.Month():
		layout = "2 January"
	default:
		layout = "2"
	}
	return first.Format(layout) + " to " + last.Format("2 January 2006")
}

var named = regexp.MustCompile(`^(\d{4})(?:-(?:(\d{2})|Q([1-4])|H([12])|W(\d{2})))?$`)

// ParsePeriod reads the name of a period as one in loc.
func ParsePeriod(s string, loc *time.Location) (Period, error) {
	wrong := func() (Period, error) {
		return Period{}, fmt.Errorf("%q names no period; write a month as 2006-01, a quarter as 2006-Q1, a half-year as 2006-H1, "+
			"a year as 2006, a week as 2006-W01, or two days as 2006-01-15/2006-02-15", s)
	}
	if from, to, is := strings.Cut(s, "/"); is {
		start, err := parseShort(from)
		end, err2 := parseShort(to)
		if err != nil || err2 != nil || !start.Before(end) {
			return wrong()
		}
		return Period{Location: loc, Start: start, End: end}, nil
	}
	m := named.FindStringSubmatch(s)
	if m == nil {
		return wrong()
	}
	number := func(i int) int { n, _ := strconv.Atoi(m[i]); return n } // digits alone, by the pattern
	year := number(1)
	of := func(start Wall, months int) (Period, error) {
		return Period{Location: loc, Start: start, End: start.AddMonths(months)}, nil
	}
	switch {
	case m[2] != "":
		if n := number(2); n < 1 || n > 12 {
			return wrong()
		}
		return of(Date(year, time.Month(number(2)), 1), 1)
	case m[3] != "":
		return of(Date(year, time.Month(number(3)*3-2), 1), 3)
	case m[4] != "":
		return of(Date(year, time.Month(number(4)*6-5), 1), 6)
	case m[5] != "":
		// The week with 4 January in it is the first (ISO 8601).
		start := Date(year, time.January, 4)
		start = start.AddDays(-(int(start.Weekday())+6)%7 + 7*(number(5)-1))
		if y, w := start.utc.ISOWeek(); y != year || w != number(5) {
			return wrong()
		}
		return Period{Location: loc, Start: start, End: start.AddDays(7)}, nil
	}
	return of(Date(year, time.January, 1), 12)
}

// ParseSpan reads the name of a period as one in loc, or two instants, as Name
// writes them, which loc's clocks tell.
func ParseSpan(s string, loc *time.Location) (Period, error) {
	from, to, is := strings.Cut(s, "/")
	if !is || !strings.ContainsAny(from, "Zz") {
		return ParsePeriod(s, loc)
	}
	first, err := span.ParseInstant(from)
	last, err2 := span.ParseInstant(to)
	if err != nil || err2 != nil || first >= last {
		return Period{}, fmt.Errorf("%q is no span; write two instants as 2006-01-15T08:00:00Z/2006-01-15T09:30:00Z, the earlier first", s)
	}
	return Exactly(span.Span{From: first, To: last}, loc), nil
}

// ParseMonth reads "2006-01" as that month in loc.
func ParseMonth(s string, loc *time.Location) (Period, error) {
	p, err := ParsePeriod(s, loc)
	if err != nil || p.UnitOf() != Month {
		return Period{}, fmt.Errorf("%q is no month; write it as 2006-01", s)
	}
	return p, nil
}

// midnight says whether the time of day is the very beginning of the date.
func (w Wall) midnight() bool { return w.At(0).Equal(w) }

// short writes a date, with the time of day where that is not its beginning.
func (w Wall) short() string {
	if w.midnight() {
		return w.DateString()
	}
	return w.String()
}

func parseShort(s string) (Wall, error) {
	if w, err := ParseDate(s); err == nil {
		return w, nil
	}
	return ParseWall(s)
}

func sortedInstants(list []span.Instant) []span.Instant {
	slices.Sort(list)
	return slices.Compact(list)
}
