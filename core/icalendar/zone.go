package icalendar

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"kestite/core/calendar"
)

// change is when the offset of a zone becomes another one.
type change struct {
	at       time.Time
	from, to int // s east of UTC
	name     string
	daylight bool
}

// changes are those of a zone in some years, found by looking between months and halving.
func changes(loc *time.Location, first, last int) []change {
	var out []change
	offset := func(t time.Time) int { _, s := t.In(loc).Zone(); return s }
	for at := time.Date(first, 1, 1, 0, 0, 0, 0, time.UTC); at.Year() <= last; at = at.AddDate(0, 0, 7) {
		lo, hi := at, at.AddDate(0, 0, 7)
		if offset(lo) == offset(hi) {
			continue
		}
		for hi.Sub(lo) > time.Second {
			if mid := lo.Add(hi.Sub(lo) / 2).Truncate(time.Second); offset(mid) == offset(lo) {
				lo = mid
			} else {
				hi = mid
			}
		}
		name, to := hi.In(loc).Zone()
		out = append(out, change{at: hi, from: offset(lo), to: to, name: name, daylight: hi.In(loc).IsDST()})
	}
	return out
}

// timezone describes a zone in some years (RFC 5545 §3.6.5): what its offset is before
// them, and each change.
func timezone(name string, first, last int) (*ical.Component, error) {
	loc, err := calendar.Zone(name)
	if err != nil {
		return nil, err
	}
	z := ical.NewComponent(ical.CompTimezone)
	z.Props.SetText(ical.PropTimezoneID, name)
	begin := time.Date(first-1, 1, 1, 0, 0, 0, 0, time.UTC)
	abbreviation, offset := begin.In(loc).Zone()
	z.Children = append(z.Children, observance(change{at: begin, from: offset, to: offset, name: abbreviation, daylight: begin.In(loc).IsDST()}, nil))
	type kind struct {
		from, to int
		name     string
		daylight bool
	}
	kinds := map[kind][]time.Time{}
	for _, c := range changes(loc, first-1, last) {
		k := kind{c.from, c.to, c.name, c.daylight}
		kinds[k] = append(kinds[k], c.at)
	}
	order := slices.SortedFunc(maps.Keys(kinds), func(a, b kind) int { return kinds[a][0].Compare(kinds[b][0]) })
	for _, k := range order {
		at := kinds[k]
		z.Children = append(z.Children, observance(change{at: at[0], from: k.from, to: k.to, name: k.name, daylight: k.daylight}, at[1:]))
	}
	return z, nil
}

// observance is an offset that begins at an instant, and at others again; its times are
// those that clocks show before.
func observance(c change, again []time.Time) *ical.Component {
	o := ical.NewComponent(ical.CompTimezoneStandard)
	if c.daylight {
		o = ical.NewComponent(ical.CompTimezoneDaylight)
	}
	local := func(t time.Time) string { return t.Add(time.Duration(c.from) * time.Second).UTC().Format(stamp) }
	set := func(name, value string) { o.Props.Set(&ical.Prop{Name: name, Value: value, Params: ical.Params{}}) }
	set(ical.PropDateTimeStart, local(c.at))
	set(ical.PropTimezoneOffsetFrom, offsetText(c.from))
	set(ical.PropTimezoneOffsetTo, offsetText(c.to))
	set(ical.PropTimezoneName, c.name)
	for _, t := range again {
		o.Props.Add(&ical.Prop{Name: ical.PropRecurrenceDates, Value: local(t), Params: ical.Params{}})
	}
	return o
}

func offsetText(s int) string {
	sign := '+'
	if s < 0 {
		sign, s = '-', -s
	}
	text := fmt.Sprintf("%c%02d%02d", sign, s/3600, s%3600/60)
	if s%60 != 0 {
		text += fmt.Sprintf("%02d", s%60)
	}
	return text
}

// zones finds the zones of a calendar: those that it names as the time zone database
// does, and those that it describes.
type zones struct {
	home      string
	year      int // the present one
	described map[string]*ical.Component
	found     map[string]string
}

func zonesOf(cal *ical.Calendar, home string, year int) *zones {
	z := &zones{home: home, year: year, described: map[string]*ical.Component{}, found: map[string]string{}}
	for _, c := range cal.Children {
		if c.Name == ical.CompTimezone {
			if id := c.Props.Get(ical.PropTimezoneID); id != nil {
				z.described[id.Value] = c
			}
		}
	}
	return z
}

// named is the zone of the database for a name in the calendar. One that the database
// does not have is the first, ours before all, whose clocks show what the calendar
// describes: at every change of these years and between them.
func (z *zones) named(id string) (string, error) {
	if name, known := z.found[id]; known {
		return name, nil
	}
	name, err := z.find(id)
	if err == nil {
		z.found[id] = name
	}
	return name, err
}

func (z *zones) find(id string) (string, error) {
	candidate := strings.Trim(id, `"`)
	for range 3 { // some write a path before the name
		if _, err := calendar.Zone(candidate); err == nil && candidate != "" && candidate != "Local" {
			return candidate, nil
		}
		_, rest, cut := strings.Cut(strings.TrimPrefix(candidate, "/"), "/")
		if !cut {
			break
		}
		candidate = rest
	}
	described := z.described[id]
	if described == nil {
		return "", fmt.Errorf("the zone %q is neither known nor described in it", id)
	}
	if p := described.Props.Get("X-LIC-LOCATION"); p != nil {
		if _, err := calendar.Zone(p.Value); err == nil {
			return p.Value, nil
		}
	}
	offsets, err := offsetsOf(described, z.year)
	if err != nil {
		return "", fmt.Errorf("the zone %q cannot be read: %w", id, err)
	}
	for _, name := range append([]string{z.home}, common...) {
		loc, err := calendar.Zone(name)
		if err == nil && offsets.are(loc, z.year) {
			return name, nil
		}
	}
	return "", fmt.Errorf("the zone %q is none that is known: no other changes its clocks like that", id)
}

// common are zones that are looked at for one that is described, one for each way in
// which clocks change.
var common = []string{"UTC", "Europe/Berlin", "Europe/London", "Europe/Helsinki", "Europe/Moscow", "Europe/Istanbul", "Atlantic/Reykjavik", "Atlantic/Azores",
	"America/New_York", "America/Chicago", "America/Denver", "America/Phoenix", "America/Los_Angeles", "America/Anchorage", "America/Halifax", "America/St_Johns",
	"America/Sao_Paulo", "America/Bogota", "America/Caracas", "America/Santiago", "America/Mexico_City", "Pacific/Honolulu", "Africa/Cairo", "Africa/Lagos",
	"Africa/Johannesburg", "Africa/Nairobi", "Asia/Dubai", "Asia/Karachi", "Asia/Kolkata", "Asia/Kathmandu", "Asia/Dhaka", "Asia/Bangkok", "Asia/Shanghai", "Asia/Tokyo",
	"Asia/Jerusalem", "Australia/Perth", "Australia/Adelaide", "Australia/Brisbane", "Australia/Sydney", "Pacific/Auckland"}

// offsets are the changes that a calendar describes, in order of time.
type offsets []change

// comparedFor is how many years a zone is compared over, from the present one on.
const comparedFor = 3

// offsetsOf reads the observances of a VTIMEZONE that matter from some year on.
func offsetsOf(z *ical.Component, year int) (offsets, error) {
	var out offsets
	for _, o := range z.Children {
		value := func(name string) string {
			if p := o.Props.Get(name); p != nil {
				return p.Value
			}
			return ""
		}
		from, err := parseOffset(value(ical.PropTimezoneOffsetFrom))
		if err != nil {
			return nil, err
		}
		to, err := parseOffset(value(ical.PropTimezoneOffsetTo))
		if err != nil {
			return nil, err
		}
		start, err := time.Parse(stamp, value(ical.PropDateTimeStart))
		if err != nil {
			return nil, fmt.Errorf("%q is no time", value(ical.PropDateTimeStart))
		}
		walls := []time.Time{start}
		if rule := value(ical.PropRecurrenceRule); rule != "" {
			opt, err := rrule.StrToROption(rule)
			if err != nil || opt.Freq != rrule.YEARLY {
				return nil, fmt.Errorf("%q is no rule by the year", rule)
			}
			if opt.Dtstart = start; start.Year() < year-1 {
				opt.Dtstart = time.Date(year-1, 1, 1, start.Hour(), start.Minute(), start.Second(), 0, time.UTC)
			}
			r, err := rrule.NewRRule(*opt)
			if err != nil {
				return nil, err
			}
			walls = append(walls, r.Between(opt.Dtstart, time.Date(year+comparedFor+1, 1, 1, 0, 0, 0, 0, time.UTC), true)...)
		}
		for _, p := range o.Props.Values(ical.PropRecurrenceDates) {
			for _, v := range strings.Split(p.Value, ",") {
				if t, err := time.Parse(stamp, v); err == nil {
					walls = append(walls, t)
				}
			}
		}
		for _, w := range walls {
			out = append(out, change{at: w.Add(-time.Duration(from) * time.Second), from: from, to: to})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("it has no offset")
	}
	slices.SortStableFunc(out, func(a, b change) int { return cmp.Compare(a.at.Unix(), b.at.Unix()) })
	return out, nil
}

func parseOffset(text string) (int, error) {
	t, err := time.Parse("-0700", text)
	if err != nil {
		if t, err = time.Parse("-070000", text); err != nil {
			return 0, fmt.Errorf("%q is no offset", text)
		}
	}
	_, s := t.Zone()
	return s, nil
}

// at is the offset at an instant: that of the last change before it.
func (o offsets) at(t time.Time) int {
	offset := o[0].from
	for _, c := range o {
		if c.at.After(t) {
			break
		}
		offset = c.to
	}
	return offset
}

// are says whether the clocks of a zone show the same over some years, to the hour.
func (o offsets) are(loc *time.Location, year int) bool {
	for t := time.Date(year, 1, 1, 0, 30, 0, 0, time.UTC); t.Year() <= year+comparedFor; t = t.Add(6 * time.Hour) {
		if _, s := t.In(loc).Zone(); s != o.at(t) {
			return false
		}
	}
	for _, c := range changes(loc, year, year+comparedFor) { // and at the very changes
		if o.at(c.at) != c.to || o.at(c.at.Add(-time.Second)) != c.from {
			return false
		}
	}
	return true
}
