package calendar_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/span"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	loc, err := calendar.Zone(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

func instant(t *testing.T, s string) span.Instant {
	t.Helper()
	i, err := span.ParseInstant(s)
	if err != nil {
		t.Fatal(err)
	}
	return i
}

func TestPeriodsOfCycles(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	for _, c := range []struct {
		says       string
		cycle      calendar.Cycle
		at         string
		start, end string
		name       string
		words      string
	}{
		{"months by default", calendar.Cycle{}, "2026-11-26T12:00:00Z", "2026-11-01T00:00:00", "2026-12-01T00:00:00", "2026-11",
			"November 2026"},
		{"the zone's month", calendar.Cycle{}, "2026-10-31T23:30:00Z", "2026-11-01T00:00:00", "2026-12-01T00:00:00", "2026-11",
			"November 2026"},
		{"months from the 15th, after it", calendar.Cycle{Unit: calendar.Month, Day: 15}, "2026-11-26T12:00:00Z",
			"2026-11-15T00:00:00", "2026-12-15T00:00:00", "2026-11-15/2026-12-15", "15 November to 14 December 2026"},
		{"months from the 15th, before it", calendar.Cycle{Unit: calendar.Month, Day: 15}, "2026-01-14T12:00:00Z",
			"2025-12-15T00:00:00", "2026-01-15T00:00:00", "2025-12-15/2026-01-15", "15 December 2025 to 14 January 2026"},
		{"months from the last day", calendar.Cycle{Unit: calendar.Month, Day: calendar.LastDay}, "2026-02-28T12:00:00Z",
			"2026-02-28T00:00:00", "2026-03-31T00:00:00", "2026-02-28/2026-03-31", "28 February to 30 March 2026"},
		{"months from the last day, on the day before it", calendar.Cycle{Unit: calendar.Month, Day: calendar.LastDay},
			"2028-02-28T12:00:00Z",
			"2028-01-31T00:00:00", "2028-02-29T00:00:00", "2028-01-31/2028-02-29", "31 January to 28 February 2028"},
		{"quarters", calendar.Cycle{Unit: calendar.Quarter}, "2026-11-26T12:00:00Z",
			"2026-10-01T00:00:00", "2027-01-01T00:00:00", "2026-Q4", "October to December 2026"},
		{"quarters counted from February", calendar.Cycle{Unit: calendar.Quarter, Month: time.February}, "2026-01-26T12:00:00Z",
			"2025-11-01T00:00:00", "2026-02-01T00:00:00", "2025-11-01/2026-02-01", "1 November 2025 to 31 January 2026"},
		{"half-years", calendar.Cycle{Unit: calendar.HalfYear}, "2026-06-30T12:00:00Z",
			"2026-01-01T00:00:00", "2026-07-01T00:00:00", "2026-H1", "January to June 2026"},
		{"years", calendar.Cycle{Unit: calendar.Year}, "2026-12-31T22:59:59Z", "2026-01-01T00:00:00", "2027-01-01T00:00:00", "2026",
			"2026"},
		{"years from 6 April", calendar.Cycle{Unit: calendar.Year, Month: time.April, Day: 6}, "2026-04-05T12:00:00Z",
			"2025-04-06T00:00:00", "2026-04-06T00:00:00", "2025-04-06/2026-04-06", "6 April 2025 to 5 April 2026"},
		{"weeks", calendar.Cycle{Unit: calendar.Week}, "2026-11-26T12:00:00Z",
			"2026-11-23T00:00:00", "2026-11-30T00:00:00", "2026-W48", "23 to 29 November 2026"},
		{"the first week of a year may begin in the last", calendar.Cycle{Unit: calendar.Week}, "2026-01-01T12:00:00Z",
			"2025-12-29T00:00:00", "2026-01-05T00:00:00", "2026-W01", "29 December 2025 to 4 January 2026"},
		{"weeks from Sunday", calendar.Cycle{Unit: calendar.Week, Weekday: 7}, "2026-11-29T12:00:00Z",
			"2026-11-29T00:00:00", "2026-12-06T00:00:00", "2026-11-29/2026-12-06", "29 November to 5 December 2026"},
	} {
		p := c.cycle.At(instant(t, c.at), oslo)
		if p.Start.String() != c.start || p.End.String() != c.end || p.Name() != c.name || p.Words() != c.words {
			t.Errorf("%s: %s to %s, %q, %q", c.says, p.Start, p.End, p.Name(), p.Words())
		}
		back, err := calendar.ParsePeriod(p.Name(), oslo)
		if err != nil || back.Span() != p.Span() {
			t.Errorf("%s: %q is read as %v, %v", c.says, p.Name(), back, err)
		}
	}
}

// Whatever the cycle and the zone, periods follow one another without a gap, hold
// the instants they are asked for, and have names that lead back to them.
func TestPeriodsTileTime(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	units := []calendar.Unit{calendar.Week, calendar.Month, calendar.Quarter, calendar.HalfYear, calendar.Year}
	// Apia skipped a whole day, Lord Howe changes by half an hour, Santiago at midnight.
	zones := []string{"UTC", "Europe/Oslo", "Pacific/Apia", "Australia/Lord_Howe", "America/Santiago"}
	from, to := instant(t, "2009-01-01T00:00:00Z"), instant(t, "2030-01-01T00:00:00Z")
	for range 5000 {
		c := calendar.Cycle{Unit: units[r.IntN(len(units))]}
		if c.Unit == calendar.Week {
			c.Weekday = r.IntN(8)
		} else {
			c.Day, c.Month = r.IntN(30)-1, time.Month(r.IntN(13))
		}
		loc := zone(t, zones[r.IntN(len(zones))])
		i := from + span.Instant(r.Int64N(int64(to-from)))
		p := c.At(i, loc)
		if !p.Span().Contains(i) {
			t.Fatalf("%+v in %s: %s is not in %s", c, loc, i, p.Name())
		}
		if before := c.Before(p); before.Span().To != p.Span().From || before.Span().Empty() {
			t.Fatalf("%+v in %s: %s does not end where %s begins", c, loc, before.Name(), p.Name())
		}
		if back, err := calendar.ParsePeriod(p.Name(), loc); err != nil || back.Span() != p.Span() {
			t.Fatalf("%+v in %s: %q is read as %s, %v", c, loc, p.Name(), back.Name(), err)
		}
	}
}

func TestNamesThatNameNoPeriod(t *testing.T) {
	for _, s := range []string{
		"", "2026-13", "2026-00", "2026-1", "26-01", "2026-Q5", "2026-Q0", "2026-H3", "2026-W54", "2026-W00", "2025-W53", "2026-w01",
		"2026-11-15", "2026-11-15/2026-11-15", "2026-11-15/2026-11-14", "2026-11-31/2026-12-15", "2026-11-15/", "/",
		"November 2026", "2026-11\x00",
	} {
		if p, err := calendar.ParsePeriod(s, time.UTC); err == nil {
			t.Errorf("%q is read as %s", s, p.Name())
		}
	}
	if _, err := calendar.ParseMonth("2026-Q4", time.UTC); err == nil {
		t.Error("a quarter is read as a month")
	}
}

func TestStepsOfABand(t *testing.T) {
	for name, want := range map[string][2]string{
		"2026-01": {"2025-12", "2026-02"}, "2026-Q1": {"2025-Q4", "2026-Q2"}, "2026-H1": {"2025-H2", "2026-H2"}, "2026": {"2025", "2027"},
		"2026-W01": {"2025-W52", "2026-W02"}, "2026-11-15/2026-11-18": {"2026-11-12/2026-11-15", "2026-11-18/2026-11-21"},
	} {
		p, err := calendar.ParsePeriod(name, time.UTC)
		if err != nil || p.Next(-1).Name() != want[0] || p.Next(1).Name() != want[1] || p.Next(0).Name() != name {
			t.Errorf("%s: %s, %s, %v", name, p.Next(-1).Name(), p.Next(1).Name(), err)
		}
	}
}
