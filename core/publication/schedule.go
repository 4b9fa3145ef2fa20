package publication

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// mostMoved is how far a day that falls on a holiday moves, days.
const mostMoved = 30

// Due is when reports are drafted by a schedule in (from, to], in order. holidays are days
// without work as 2006-01-02. An instant that falls on a holiday, and for working days on a
// Saturday or Sunday, does not count; by a rule it moves to the next day that is none.
func Due(s definition.ReportSchedule, holidays []string, from, to span.Instant) ([]span.Instant, error) {
	loc, err := calendar.Zone(s.Timezone)
	if err != nil {
		return nil, err
	}
	at, err := calendar.ParseClock(s.At, false)
	if err != nil {
		return nil, err
	}
	off := func(day calendar.Wall) bool { return slices.Contains(holidays, day.DateString()) }
	var out []span.Instant
	add := func(day calendar.Wall) {
		if i := day.At(at).Instant(loc, calendar.Shift); i > from && i <= to {
			out = append(out, i)
		}
	}
	if s.RRule != "" {
		rule, err := s.Recurrence()
		if err != nil {
			return nil, err
		}
		walls, err := rule.Walls(from.Add(-(mostMoved+2)*span.Day), to.Add(2*span.Day))
		if err != nil {
			return nil, err
		}
		for _, day := range walls {
			for n := 0; n < mostMoved && off(day); n++ {
				day = day.AddDays(1)
			}
			add(day)
		}
		slices.Sort(out)
		return slices.Compact(out), nil
	}
	for m := calendar.MonthAt(from.Add(-2*span.Day), loc); m.Span().From <= to; m = m.Next(1) {
		count := 0
		for day := m.Start; day.Instant(loc, calendar.Shift) < m.Span().To; day = day.AddDays(1) {
			if weekday := day.Weekday(); weekday == time.Saturday || weekday == time.Sunday || off(day) {
				continue
			}
			if count++; count == s.WorkingDay {
				add(day)
				break
			}
		}
	}
	return out, nil
}

var ordinals = []string{"", "first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth"}

// Words say when reports are drafted: "on the third working day of each month at 08:00 (Europe/Oslo)".
func Words(s definition.ReportSchedule) string {
	when := "by the rule " + s.RRule
	switch {
	case s.WorkingDay > 0 && s.WorkingDay < len(ordinals):
		when = "on the " + ordinals[s.WorkingDay] + " working day of each month"
	case s.WorkingDay > 0:
		when = fmt.Sprintf("on working day %d of each month", s.WorkingDay)
	default:
		if day, has := strings.CutPrefix(s.RRule, "FREQ=MONTHLY;BYDAY="); has {
			if nth, name := nthDay(day); nth != "" {
				when = "on the " + nth + " " + name + " of each month"
			}
		}
	}
	return when + " at " + s.At + " (" + s.Timezone + ")"
}

// nthDay reads "1MO" as first and Monday; empty where it is something else.
func nthDay(s string) (nth, name string) {
	names := map[string]string{"MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday", "SU": "Sunday"}
	if len(s) < 3 || names[s[len(s)-2:]] == "" {
		return "", ""
	}
	nth = map[string]string{"1": "first", "2": "second", "3": "third", "4": "fourth", "-1": "last"}[s[:len(s)-2]]
	return nth, names[s[len(s)-2:]]
}
