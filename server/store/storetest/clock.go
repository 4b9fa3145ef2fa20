package storetest

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"kestite/core/calendar"
)

// ClockVariable names the day on which the tests of a process begin: one of Days, an
// instant (RFC 3339), or ByDate. Empty: today.
const ClockVariable = "KESTITE_TEST_CLOCK"

// ByDate stands for one of Days, another one each day.
const ByDate = "by-date"

// oslo is the zone of the scenario, on whose clocks months end.
var oslo, noZone = calendar.Zone("Europe/Oslo")

// Days are those on which what holds on others is known to fail: each is the next of its
// kind after now.
var Days = map[string]func(now time.Time) time.Time{
	"first-of-month": func(now time.Time) time.Time {
		return time.Date(now.Year(), now.Month()+1, 1, 0, 10, 0, 0, oslo)
	},
	"end-of-month": func(now time.Time) time.Time {
		month := now.Month()
		if month == time.December {
			month++ // the year's end is a day of its own
		}
		return time.Date(now.Year(), month+1, 1, 0, 0, 0, 0, oslo).Add(-time.Minute)
	},
	"end-of-year": func(now time.Time) time.Time {
		return time.Date(now.Year()+1, 1, 1, 0, 0, 0, 0, oslo).Add(-time.Minute)
	},
	"leap-day": func(time.Time) time.Time { return time.Date(2028, 2, 29, 10, 30, 0, 0, oslo) },
	"spring":   func(now time.Time) time.Time { return lastSunday(now, time.March).Add(-2 * time.Minute) },
	"autumn":   func(now time.Time) time.Time { return lastSunday(now, time.October).Add(-2 * time.Minute) },
	"decade":   func(now time.Time) time.Time { return now.AddDate(10, 0, 0) },
}

// lastSunday is the instant at which the clocks of Europe change (01:00 UTC on the last
// Sunday, Directive 2000/84/EC) in the next such month.
func lastSunday(now time.Time, month time.Month) time.Time {
	for year := now.Year(); ; year++ {
		last := time.Date(year, month+1, 0, 1, 0, 0, 0, time.UTC)
		if change := last.AddDate(0, 0, -int(last.Weekday())); change.After(now) {
			return change
		}
	}
}

// begins is when the tests of this process begin, by what ClockVariable says.
func begins(says string, now time.Time) (time.Time, error) {
	if says == "" || noZone != nil {
		return now, noZone
	}
	now = now.In(oslo)
	names := slices.Sorted(maps.Keys(Days))
	if says == ByDate {
		says = names[now.YearDay()%len(names)]
	}
	if day, known := Days[says]; known {
		return day(now), nil
	}
	at, err := time.Parse(time.RFC3339, says)
	if err != nil {
		return now, fmt.Errorf("%s is %q: say one of %s, %s, or an instant such as 2028-02-29T10:30:00+01:00", ClockVariable, says, strings.Join(names, ", "), ByDate)
	}
	return at, nil
}

// moved is how far the clock of all that is tested stands from this machine's.
var moved time.Duration

// setClock moves the clock to where the tests of this process begin.
func setClock() error {
	real := time.Now()
	at, err := begins(os.Getenv(ClockVariable), real)
	moved = at.Sub(real).Truncate(time.Second)
	return err
}

// Now is the present instant for all that is tested: of the servers, the database, the
// agents and the browser. Tests that go by another clock fail on some day.
func Now() time.Time { return time.Now().Add(moved) }

// MidMonth is noon on the 15th of the present month, in UTC.
func MidMonth() time.Time {
	now := Now().UTC()
	return time.Date(now.Year(), now.Month(), 15, 12, 0, 0, 0, time.UTC)
}

// Moved is how far Now stands from this machine's clock.
func Moved() time.Duration { return moved }
