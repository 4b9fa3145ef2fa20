package calendar

import (
	"fmt"
	"slices"
	"time"

	"github.com/teambition/rrule-go"
)

// maxSteps bounds what one expansion of a rule looks at.
const maxSteps = 10_000_000

// within yields the starts of an HOURLY, MINUTELY or SECONDLY rule from its
// DTSTART to a wall time, in order, until yield returns false (RFC 5545
// §3.3.10). The library searches such a rule up to the year 9999, unit by unit,
// where its parts contradict each other; this stops at to, skips whole days
// that do not match, and says so when there is too much to look at.
func within(o *rrule.ROption, to time.Time, yield func(time.Time) bool) error {
	unit := map[rrule.Frequency]time.Duration{rrule.HOURLY: time.Hour, rrule.MINUTELY: time.Minute, rrule.SECONDLY: time.Second}[o.Freq]
	step := unit * time.Duration(max(1, o.Interval))
	begin := o.Dtstart
	origin := begin.Truncate(unit) // the unit that DTSTART lies in
	minutes, seconds := []int{0}, []int{0}
	if o.Freq == rrule.HOURLY {
		minutes = orElse(o.Byminute, begin.Minute())
	}
	if o.Freq != rrule.SECONDLY {
		seconds = orElse(o.Bysecond, begin.Second())
	}
	left := o.Count
	steps := 0
	look := func() error {
		if steps++; steps > maxSteps {
			return fmt.Errorf("the rule needs more than %d steps up to %s; use a longer interval or a later start", maxSteps, to.Format(time.DateTime))
		}
		return nil
	}
	for at := origin; !at.After(to); {
		if err := look(); err != nil {
			return err
		}
		if !dayMatches(o, at) {
			at = onGrid(at, at.Truncate(24*time.Hour).Add(24*time.Hour), step)
			continue
		}
		if len(o.Byhour) > 0 && !slices.Contains(o.Byhour, at.Hour()) {
			at = onGrid(at, at.Truncate(time.Hour).Add(time.Hour), step)
			continue
		}
		if o.Freq != rrule.HOURLY && len(o.Byminute) > 0 && !slices.Contains(o.Byminute, at.Minute()) {
			at = onGrid(at, at.Truncate(time.Minute).Add(time.Minute), step)
			continue
		}
		if o.Freq == rrule.SECONDLY && len(o.Bysecond) > 0 && !slices.Contains(o.Bysecond, at.Second()) {
			at = at.Add(step)
			continue
		}
		var set []time.Time
		for _, m := range minutes {
			for _, s := range seconds {
				steps++
				set = append(set, at.Add(time.Duration(m)*time.Minute+time.Duration(s)*time.Second))
			}
		}
		for _, t := range chosen(set, o.Bysetpos) {
			if t.Before(begin) {
				continue
			}
			if !yield(t) {
				return nil
			}
			if left--; left == 0 {
				return nil
			}
		}
		at = at.Add(step)
	}
	return nil
}

// onGrid returns the first instant of the grid through at that is not before t.
func onGrid(at, t time.Time, step time.Duration) time.Time {
	n := (t.Sub(at) + step - 1) / step
	return at.Add(max(1, n) * step)
}

func orElse(list []int, value int) []int {
	if len(list) == 0 {
		return []int{value}
	}
	list = slices.Clone(list)
	slices.Sort(list)
	return slices.Compact(list)
}

// chosen applies BYSETPOS to the sorted set of one unit.
func chosen(set []time.Time, positions []int) []time.Time {
	if len(positions) == 0 {
		return set
	}
	var out []time.Time
	for i := range set {
		if slices.Contains(positions, i+1) || slices.Contains(positions, i-len(set)) {
			out = append(out, set[i])
		}
	}
	return out
}

// dayMatches applies the parts that limit days.
func dayMatches(o *rrule.ROption, t time.Time) bool {
	if len(o.Bymonth) > 0 && !slices.Contains(o.Bymonth, int(t.Month())) {
		return false
	}
	if n := daysIn(t); len(o.Bymonthday) > 0 && !slices.Contains(o.Bymonthday, t.Day()) && !slices.Contains(o.Bymonthday, t.Day()-n-1) {
		return false
	}
	year := time.Date(t.Year(), 12, 31, 0, 0, 0, 0, time.UTC).YearDay()
	if len(o.Byyearday) > 0 && !slices.Contains(o.Byyearday, t.YearDay()) && !slices.Contains(o.Byyearday, t.YearDay()-year-1) {
		return false
	}
	weekday := (int(t.Weekday()) + 6) % 7 // Monday is 0
	return len(o.Byweekday) == 0 || slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return d.Day() == weekday })
}

func daysIn(t time.Time) int { return time.Date(t.Year(), t.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day() }
