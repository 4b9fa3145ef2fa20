package calendar

import (
	"fmt"
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
	exdates  map[int64]bool // wall readings, as if UTC, in ms
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
			kept = append(kept, "UNTIL="+t.Format("20060102T150405Z"))
		} else if t, err := time.Parse("20060102", value); err == nil {
			kept = append(kept, "UNTIL="+t.Format("20060102")+"T235959Z")
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
	// In UTC the library sees plain wall arithmetic; the zone is applied to each start afterwards.
	opt.Dtstart = start.utc
	if _, err := rrule.NewRRule(*opt); err != nil {
		return fail(err)
	}
	r.rule = opt
	return r, nil
}

// Recurs says whether there is a rule.
func (r Recurrence) Recurs() bool { return r.rule != nil }

// Starts returns the instants of the starts in [from, to), in time order. It
// fails when there would be more than three million to look at.
func (r Recurrence) Starts(from, to span.Instant) ([]span.Instant, error) {
	var out []span.Instant
	keep := func(w Wall) {
		if i := w.Instant(r.Location, Shift); i >= from && i < to && i <= r.until && !r.exdates[w.utc.UnixMilli()] {
			out = append(out, i)
		}
	}
	if r.rule == nil {
		keep(r.Start)
		return out, nil
	}
	rule, err := rrule.NewRRule(*r.rule)
	if err != nil {
		return nil, err
	}
	const slack = 2 * span.Day // an offset and a clock change are shorter
	next := rule.Iterator()
	for n := 0; ; n++ {
		t, ok := next()
		if !ok || span.Of(t) > min(to, r.until).Add(slack) {
			break
		}
		if n == maxStarts {
			return nil, fmt.Errorf("the rule has more than %d starts up to %s; use a longer interval or a later start", maxStarts, to)
		}
		keep(Wall{t})
	}
	return sortedInstants(out), nil
}
