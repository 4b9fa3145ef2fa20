package calendar

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-ical"

	"kestite/core/span"
)

// NamedDay is a day and what it is called.
type NamedDay struct {
	Date Wall
	Name string
}

// Left is an event of which no day was taken, and why.
type Left struct{ Name, Why string }

// Bounds on one calendar, so that none is worked on for minutes.
const (
	mostDays   = 10_000
	mostEvents = 2_000
	mostRules  = 200
	firstYear  = 1900
)

// DaysOf reads the whole days in [from, to) of an iCalendar (RFC 5545): of each event
// that takes days (DTSTART is a date), every day of it, with those of its RRULE and RDATE
// and without those of its EXDATE; single ones that were moved (RECURRENCE-ID) where they
// are now, and none of what is cancelled. Events at a time of day are left, and said so.
// A day that several events take is there once. The days are in order; the error says
// what cannot be read.
func DaysOf(text string, from, to Wall) ([]NamedDay, []Left, error) {
	var events []event
	var left []Left
	calendars, err := Decode(text)
	if err != nil {
		return nil, nil, err
	}
	for _, cal := range calendars {
		for _, component := range cal.Events() {
			e, why := read(component)
			if why != "" {
				left = append(left, Left{e.name, why})
				continue
			}
			events = append(events, e)
		}
	}
	if len(events)+len(left) == 0 {
		return nil, nil, errors.New("there is no event in it; an iCalendar with days has parts that begin with BEGIN:VEVENT")
	}
	rules := 0
	for _, e := range events {
		if e.rule != "" {
			rules++
		}
	}
	if len(events) > mostEvents || rules > mostRules {
		return nil, nil, fmt.Errorf("there are %d events in it, %d with a rule; %d and %d are the most", len(events), rules, mostEvents,
			mostRules)
	}
	moved := map[string][]Wall{} // by UID, the starts that others stand for
	for _, e := range events {
		if e.instead != nil {
			moved[e.uid] = append(moved[e.uid], *e.instead)
		}
	}
	names := map[string]string{}
	for _, e := range events {
		if e.cancelled {
			continue
		}
		if e.instead == nil {
			e.except = append(e.except, moved[e.uid]...)
		}
		if err := e.days(from, to, func(day Wall) bool {
			if name, known := names[day.DateString()]; !known || name == "" {
				names[day.DateString()] = e.name
			}
			return len(names) <= mostDays
		}); err != nil {
			left = append(left, Left{e.name, err.Error()})
		}
		if len(names) > mostDays {
			return nil, nil, fmt.Errorf("there are more than %d days in it", mostDays)
		}
	}
	var days []NamedDay
	for date, name := range names {
		day, err := ParseDate(date)
		if err != nil {
			continue // years beyond 9999 have none
		}
		days = append(days, NamedDay{day, name})
	}
	slices.SortFunc(days, func(a, b NamedDay) int { return a.Date.utc.Compare(b.Date.utc) })
	slices.SortFunc(left, func(a, b Left) int { return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Why, b.Why)) })
	return days, slices.Compact(left), nil
}

// event is one that takes days.
type event struct {
	uid, name string
	start     Wall
	length    int // days
	rule      string
	except    []Wall
	more      []Wall // of RDATE
	instead   *Wall  // the start by the rule that it stands for
	cancelled bool
}

// read reads one; why says of one that takes no days that it does not.
func read(e ical.Event) (out event, why string) {
	text := func(name string) string {
		if p := e.Props.Get(name); p != nil {
			return p.Value
		}
		return ""
	}
	out.uid, out.rule = text(ical.PropUID), text(ical.PropRecurrenceRule)
	out.cancelled = strings.EqualFold(text(ical.PropStatus), string(ical.EventCancelled))
	if summary, err := e.Props.Text(ical.PropSummary); err == nil {
		out.name = oneLine(summary)
	}
	var err error
	if out.start, err = dateOf(e.Props.Get(ical.PropDateTimeStart)); err != nil {
		return out, err.Error()
	}
	out.length = 1
	if e.Props.Get(ical.PropDateTimeEnd) != nil || e.Props.Get(ical.PropDuration) != nil {
		end, err := e.DateTimeEnd(time.UTC)
		if err != nil {
			return out, fmt.Sprintf("its end cannot be read: %v", err)
		}
		if out.length = int(end.Sub(out.start.utc) / (24 * time.Hour)); out.length < 1 {
			out.length = 1 // some write the day itself as its end
		}
	}
	for name, into := range map[string]*[]Wall{ical.PropExceptionDates: &out.except, ical.PropRecurrenceDates: &out.more} {
		for _, p := range e.Props.Values(name) {
			for _, value := range strings.Split(p.Value, ",") {
				day, err := dateOf(&ical.Prop{Name: name, Params: p.Params, Value: value})
				if err != nil {
					return out, err.Error()
				}
				*into = append(*into, day)
			}
		}
	}
	if p := e.Props.Get(ical.PropRecurrenceID); p != nil {
		day, err := dateOf(p)
		if err != nil {
			return out, err.Error()
		}
		out.instead, out.rule = &day, ""
	}
	return out, ""
}

// dateOf reads a date.
func dateOf(p *ical.Prop) (Wall, error) {
	if p == nil {
		return Wall{}, errors.New("it does not say when it is")
	}
	day, err := time.Parse("20060102", p.Value)
	if err != nil || day.Year() < 1 {
		if len(p.Value) >= len("20060102T150405") {
			return Wall{}, errors.New("it is at a time of day, and takes no whole day")
		}
		return Wall{}, fmt.Errorf("%q is no date", p.Value)
	}
	return WallOf(day), nil
}

// oneLine is a text on one line, as names are.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// days gives all days of an event in [from, to) until yield returns false.
func (e event) days(from, to Wall, yield func(Wall) bool) error {
	r, err := NewRecurrence(e.start, time.UTC, e.rule, e.except)
	if err != nil {
		return fmt.Errorf("its rule cannot be followed: %w", err)
	}
	if r.MostStartsADay() > 1 {
		return errors.New("its rule starts several times a day")
	}
	if e.start.utc.Year() < firstYear {
		return fmt.Errorf("it begins before %d", firstYear)
	}
	length := min(e.length, 366*100)
	starts, err := r.Walls(span.Of(from.AddDays(-length).utc), span.Of(to.utc))
	if err != nil {
		return err
	}
	for _, start := range append(starts, e.more...) {
		for n := range length {
			day := start.AddDays(n)
			if day.Before(from) {
				continue
			}
			if !day.Before(to) {
				break
			}
			if !yield(day) {
				return nil
			}
		}
	}
	return nil
}
