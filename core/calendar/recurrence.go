package calendar

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"kestite/core/span"
)

// Recurrence is when something planned starts: once at Start, or by an RFC 5545
// recurrence rule whose DTSTART it is, in wall time of its zone.
type Recurrence struct {
	Start    Wall
	Location *time.Location
	rule     *rrule.ROption
	until    span.Instant   // bound on the start's instant, from an UNTIL with Z; End when there is none
	last     time.Time      // bound on the start's wall reading, from an UNTIL without Z; zero when there is none
	exdates  map[int64]bool // wall readings, as if UTC, in ms
	kept     []span.Instant // all starts before keptTo, where they were expanded once for many uses
	keptTo   span.Instant
}

// maxStarts bounds one expansion, so that a rule such as FREQ=SECONDLY over
// years is refused and not computed for minutes.
const maxStarts = 3_000_000

// NewRecurrence parses rule (empty: once). Supported is what RFC 5545 §3.3.10
// defines, without a leading "RRULE:" or a DTSTART of its own.
func NewRecurrence(start Wall, loc *time.Location, rule string, exdates []Wall) (Recurrence, error) {
	r := Recurrence{Start: start, Location: loc, until: span.End, exdates: map[int64]bool{}}
	for _, w := range exdates {
		r.exdates[w.utc.UnixMilli()] = true
	}
	if rule == "" {
		return r, nil
	}
	fail := func(err error) (Recurrence, error) {
		return r, fmt.Errorf("%q is no RFC 5545 recurrence rule: %v", rule, err)
	}
	seen := map[string]bool{}
	var kept []string
	for _, part := range strings.Split(rule, ";") {
		name, value, ok := strings.Cut(part, "=")
		name = strings.ToUpper(name)
		if !ok || value == "" {
			return fail(fmt.Errorf("the part %q has no value", part))
		}
		if seen[name] {
			return fail(fmt.Errorf("%s is given twice", name))
		}
		seen[name] = true
		if name == "BYEASTER" {
			return fail(fmt.Errorf("BYEASTER is no part of it"))
		}
		if name != "UNTIL" {
			kept = append(kept, name+"="+strings.ToUpper(value))
			continue
		}
		value = strings.ToUpper(value)
		if t, err := time.Parse("20060102T150405Z", value); err == nil {
			r.until = span.Of(t)
		} else if t, err := time.Parse("20060102T150405", value); err == nil {
			r.last = t
		} else if t, err := time.Parse("20060102", value); err == nil {
			r.last = t.AddDate(0, 0, 1).Add(-time.Nanosecond) // that day included
		} else {
			return fail(fmt.Errorf("UNTIL=%s is no date or date-time", value))
		}
	}
	if seen["UNTIL"] && seen["COUNT"] {
		return fail(fmt.Errorf("UNTIL and COUNT exclude each other"))
	}
	opt, err := rrule.StrToROption(strings.Join(kept, ";"))
	if err != nil {
		return fail(err)
	}
	if !seen["FREQ"] {
		return fail(fmt.Errorf("FREQ is missing"))
	}
	if seen["COUNT"] && opt.Count < 1 || seen["INTERVAL"] && opt.Interval < 1 {
		return fail(fmt.Errorf("COUNT and INTERVAL are at least 1"))
	}
	if err := forbidden(seen, opt); err != nil {
		return fail(err)
	}
	// A value given twice counts once; the library would count its start twice.
	for _, list := range []*[]int{&opt.Bysetpos, &opt.Bymonth, &opt.Bymonthday, &opt.Byyearday, &opt.Byweekno, &opt.Byhour, &opt.Byminute, &opt.Bysecond} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	opt.Byweekday = distinct(opt.Byweekday)
	// In UTC the library sees plain wall arithmetic; the zone is applied to each start afterwards.
	opt.Dtstart = start.utc.Truncate(time.Second)
	if _, err := rrule.NewRRule(*opt); err != nil {
		return fail(err)
	}
	r.rule = opt
	return r, nil
}

func distinct(days []rrule.Weekday) []rrule.Weekday {
	var out []rrule.Weekday
	for _, d := range days {
		if !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	return out
}

// forbidden refuses what RFC 5545 §3.3.10 says a rule MUST NOT have.
func forbidden(seen map[string]bool, o *rrule.ROption) error {
	freq := o.Freq.String()
	by := 0
	for name := range seen {
		if strings.HasPrefix(name, "BY") && name != "BYSETPOS" {
			by++
		}
	}
	numeric := slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return d.N() != 0 })
	switch {
	case seen["BYSETPOS"] && by == 0:
		return fmt.Errorf("BYSETPOS needs another BY… part to choose from")
	case seen["BYWEEKNO"] && o.Freq != rrule.YEARLY:
		return fmt.Errorf("BYWEEKNO goes with FREQ=YEARLY only, not with %s", freq)
	case seen["BYYEARDAY"] && (o.Freq == rrule.DAILY || o.Freq == rrule.WEEKLY || o.Freq == rrule.MONTHLY):
		return fmt.Errorf("BYYEARDAY does not go with FREQ=%s", freq)
	case seen["BYMONTHDAY"] && o.Freq == rrule.WEEKLY:
		return fmt.Errorf("BYMONTHDAY does not go with FREQ=WEEKLY")
	case numeric && o.Freq != rrule.MONTHLY && o.Freq != rrule.YEARLY:
		return fmt.Errorf("a number before a day of BYDAY goes with FREQ=MONTHLY or YEARLY only, not with %s", freq)
	case numeric && seen["BYWEEKNO"]:
		return fmt.Errorf("a number before a day of BYDAY does not go with BYWEEKNO")
	}
	return nil
}

// Recurs says whether there is a rule.
func (r Recurrence) Recurs() bool { return r.rule != nil }

// Starts returns the instants of the starts in [from, to), in time order. It
// fails when there would be more than three million to look at.
func (r Recurrence) Starts(from, to span.Instant) ([]span.Instant, error) {
	if r.kept != nil && to <= r.keptTo {
		first, _ := slices.BinarySearch(r.kept, from)
		last, _ := slices.BinarySearch(r.kept, to)
		return slices.Clone(r.kept[first:max(first, last)]), nil
	}
	var out []span.Instant
	err := r.walls(to, func(w Wall) {
		if i := w.Instant(r.Location, Shift); i >= from && i < to && i <= r.until && !r.exdates[w.utc.UnixMilli()] {
			out = append(out, i)
		}
	})
	return sortedInstants(out), err
}

// Walls returns the starts in [from, to) as wall readings, in order, two where a
// clock change lets two readings be one instant. It fails where Starts does.
func (r Recurrence) Walls(from, to span.Instant) ([]Wall, error) {
	var out []Wall
	err := r.walls(to, func(w Wall) {
		if i := w.Instant(r.Location, Shift); i >= from && i < to && i <= r.until && !r.exdates[w.utc.UnixMilli()] {
			out = append(out, w)
		}
	})
	slices.SortFunc(out, func(a, b Wall) int { return a.utc.Compare(b.utc) })
	return out, err
}

// Except returns the recurrence without the starts at some wall readings.
func (r Recurrence) Except(walls []Wall) Recurrence {
	if len(walls) == 0 {
		return r
	}
	r.exdates = maps.Clone(r.exdates)
	gone := map[span.Instant]bool{}
	for _, w := range walls {
		r.exdates[w.utc.UnixMilli()] = true
		gone[w.Instant(r.Location, Shift)] = true
	}
	if r.kept != nil {
		r.kept = slices.DeleteFunc(slices.Clone(r.kept), func(i span.Instant) bool { return gone[i] })
	}
	return r
}

// walls gives every wall reading of the rule up to about an instant, in no certain order.
func (r Recurrence) walls(to span.Instant, keep func(Wall)) error {
	if r.rule == nil {
		keep(r.Start)
		return nil
	}
	const margin = 2 * span.Day // an offset and a clock change are shorter
	horizon := min(to, r.until).Add(margin).Time()
	if !r.last.IsZero() && r.last.Before(horizon) {
		horizon = r.last
	}
	fraction := r.Start.utc.Sub(r.rule.Dtstart)
	n, tooMany := 0, false
	take := func(t time.Time) bool {
		t = t.Add(fraction)
		if t.After(horizon) {
			return false
		}
		n++
		tooMany = n > maxStarts
		keep(Wall{t})
		return !tooMany
	}
	if err := r.each(horizon, take); err != nil {
		return err
	}
	if tooMany {
		return fmt.Errorf("the rule has more than %d starts up to %s; use a longer interval or a later start", maxStarts, to)
	}
	return nil
}

// Expanded returns the recurrence with its starts before an instant kept, for
// many calls of Starts. It fails where Starts does.
func (r Recurrence) Expanded(to span.Instant) (Recurrence, error) {
	starts, err := r.Starts(span.Beginning, to)
	if err != nil {
		return r, err
	}
	r.kept, r.keptTo = append([]span.Instant{}, starts...), to
	return r, nil
}

// MostStartsADay is how many starts the rule can give on one day, by its text
// alone: the hours it can name × its minutes × its seconds, whatever INTERVAL,
// BYSETPOS, COUNT or UNTIL leave of them.
func (r Recurrence) MostStartsADay() int {
	if r.rule == nil {
		return 1
	}
	hours, minutes, seconds := max(1, len(r.rule.Byhour)), max(1, len(r.rule.Byminute)), max(1, len(r.rule.Bysecond))
	switch r.rule.Freq {
	case rrule.SECONDLY:
		return 24 * 60 * 60
	case rrule.MINUTELY:
		return 24 * 60
	case rrule.HOURLY:
		if len(r.rule.Byhour) == 0 {
			hours = 24
		}
	}
	return hours * minutes * seconds
}

// each yields the wall readings of the rule, whole seconds, until yield returns false.
func (r Recurrence) each(horizon time.Time, yield func(time.Time) bool) error {
	if r.rule.Freq == rrule.HOURLY || r.rule.Freq == rrule.MINUTELY || r.rule.Freq == rrule.SECONDLY {
		return within(r.rule, horizon, yield)
	}
	rule, err := rrule.NewRRule(*r.rule)
	if err != nil {
		return err
	}
	next := rule.Iterator()
	for t, ok := next(); ok && yield(t); t, ok = next() {
	}
	return nil
}
