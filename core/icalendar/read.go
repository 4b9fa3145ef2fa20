package icalendar

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-ical"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Event is an event that can be a window.
type Event struct {
	UID       string
	Sequence  int64
	Cancelled bool
	Spec      definition.WindowSpec // without where it is from; its services are those that one of ours names
}

// Left is an event that can be no window, and why.
type Left struct{ Name, Why string }

// mostEvents bounds one calendar.
const mostEvents = 2_000

// Read reads the events of an iCalendar as windows; times without a zone are in home. A
// zone that it describes is looked for by what its clocks do from now on.
// The occurrences that stand for others (RECURRENCE-ID) are changes of their event, or,
// being cancelled, skipped. The error says what cannot be read as a whole.
func Read(text, home string, now span.Instant) ([]Event, []Left, error) {
	var events []Event
	var left []Left
	count := 0
	calendars, err := calendar.Decode(text)
	if err != nil {
		return nil, nil, err
	}
	for _, cal := range calendars {
		method := ""
		if p := cal.Props.Get(ical.PropMethod); p != nil {
			method = strings.ToUpper(p.Value)
		}
		list := cal.Events()
		if count += len(list); count > mostEvents {
			return nil, nil, fmt.Errorf("there are more than %d events in it", mostEvents)
		}
		r := reader{zones: zonesOf(cal, home, now.Time().Year()), home: home, cancels: method == "CANCEL"}
		e, l := r.all(list)
		events, left = append(events, e...), append(left, l...)
	}
	if count == 0 {
		return nil, nil, errors.New("there is no event in it; an iCalendar with work has parts that begin with BEGIN:VEVENT")
	}
	return events, left, nil
}

type reader struct {
	zones   *zones
	home    string
	cancels bool
}

// all reads the events of one calendar, those of one UID together.
func (r reader) all(list []ical.Event) (out []Event, left []Left) {
	at := map[string]int{}
	for _, e := range list {
		if e.Props.Get(ical.PropRecurrenceID) != nil {
			continue
		}
		event, err := r.event(e)
		if err != nil {
			left = append(left, Left{nameOf(e), err.Error()})
			continue
		}
		if n, twice := at[event.UID]; twice {
			if event.Sequence > out[n].Sequence {
				out[n] = event
			}
			continue
		}
		at[event.UID] = len(out)
		out = append(out, event)
	}
	seen := map[string]int64{} // the sequence of what stands for an occurrence
	for _, e := range list {
		if e.Props.Get(ical.PropRecurrenceID) == nil {
			continue
		}
		uid := textOf(e, ical.PropUID)
		n, is := at[uid]
		if !is {
			left = append(left, Left{nameOf(e), "it stands for an occurrence of an event that is not in it, or could not be read"})
			continue
		}
		if err := r.instead(&out[n], e, seen); err != nil {
			left = append(left, Left{nameOf(e), err.Error()})
		}
	}
	return out, left
}

func nameOf(e ical.Event) string {
	if s := strings.Join(strings.Fields(textOf(e, ical.PropSummary)), " "); s != "" {
		return s
	}
	return textOf(e, ical.PropUID)
}

func textOf(e ical.Event, name string) string {
	s, err := e.Props.Text(name)
	if err != nil {
		return ""
	}
	return s
}

// event reads one that stands for itself.
func (r reader) event(e ical.Event) (out Event, err error) {
	out.UID = textOf(e, ical.PropUID)
	if out.UID == "" {
		return out, errors.New("it has no UID, and could not be told from others again")
	}
	if out.Sequence, err = sequenceOf(e); err != nil {
		return out, err
	}
	out.Cancelled = r.cancelled(e)
	spec := definition.WindowSpec{Name: nameOf(e), Note: textOf(e, ical.PropDescription), Reference: textOf(e, propReference)}
	if textOf(e, propType) == definition.Emergency {
		spec.Type = definition.Emergency
	}
	spec.Services = strings.Fields(textOf(e, propServices))
	start, zone, err := r.time(e.Props.Get(ical.PropDateTimeStart))
	if err != nil {
		return out, fmt.Errorf("its start: %w", err)
	}
	spec.Start, spec.Timezone = start.String(), zone
	if spec.DurationS, err = r.length(e, start, zone); err != nil {
		return out, err
	}
	if p := e.Props.Get(ical.PropRecurrenceRule); p != nil {
		spec.RRule = p.Value
	}
	if len(e.Props.Values(ical.PropRecurrenceDates)) > 0 {
		return out, errors.New("it has dates beside its rule (RDATE), which a window cannot have; make events of them")
	}
	for _, p := range e.Props.Values(ical.PropExceptionDates) {
		for _, v := range strings.Split(p.Value, ",") {
			x, err := r.in(&ical.Prop{Name: p.Name, Params: p.Params, Value: v}, zone)
			if err != nil {
				return out, fmt.Errorf("a date that is left out: %w", err)
			}
			spec.Exdates = append(spec.Exdates, x.String())
		}
	}
	out.Spec = spec
	return out, nil
}

func sequenceOf(e ical.Event) (int64, error) {
	p := e.Props.Get(ical.PropSequence)
	if p == nil {
		return 0, nil
	}
	n, err := strconv.ParseInt(strings.TrimSpace(p.Value), 10, 32)
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is no SEQUENCE", p.Value)
	}
	return n, nil
}

func (r reader) cancelled(e ical.Event) bool {
	return r.cancels || strings.EqualFold(textOf(e, ical.PropStatus), string(ical.EventCancelled))
}

// instead lets an event stand for an occurrence of another one.
func (r reader) instead(of *Event, e ical.Event, seen map[string]int64) error {
	id := e.Props.Get(ical.PropRecurrenceID)
	if id.Params.Get("RANGE") != "" {
		return errors.New("it stands for an occurrence and all after it (RANGE); end the event there and make another")
	}
	if of.Spec.RRule == "" {
		return errors.New("it stands for an occurrence of an event without a rule")
	}
	wall, err := r.in(id, of.Spec.Timezone)
	if err != nil {
		return fmt.Errorf("the occurrence it stands for: %w", err)
	}
	sequence, err := sequenceOf(e)
	if err != nil {
		return err
	}
	at := wall.String()
	if before, twice := seen[of.UID+" "+at]; twice && before >= sequence {
		return nil
	}
	seen[of.UID+" "+at] = sequence
	of.Spec.Changes = slices.DeleteFunc(of.Spec.Changes, func(o definition.Occurrence) bool { return o.At == at })
	of.Sequence = max(of.Sequence, sequence)
	if r.cancelled(e) {
		if !slices.Contains(of.Spec.Exdates, at) {
			of.Spec.Exdates = append(of.Spec.Exdates, at)
		}
		return nil
	}
	start, err := r.in(e.Props.Get(ical.PropDateTimeStart), of.Spec.Timezone)
	if err != nil {
		return fmt.Errorf("its start: %w", err)
	}
	length, err := r.length(e, start, of.Spec.Timezone)
	if err != nil {
		return err
	}
	o := definition.Occurrence{At: at}
	if !start.Equal(wall) {
		o.Start = start.String()
	}
	if length != of.Spec.DurationS {
		o.DurationS = length
	}
	if o.Start != "" || o.DurationS != 0 {
		of.Spec.Changes = append(of.Spec.Changes, o)
	}
	return nil
}

// time reads when something is, and in which zone; a day is its midnight.
func (r reader) time(p *ical.Prop) (calendar.Wall, string, error) {
	if p == nil {
		return calendar.Wall{}, "", errors.New("it does not say when")
	}
	zone := r.home
	if id := p.Params.Get(ical.ParamTimezoneID); id != "" {
		name, err := r.zones.named(id)
		if err != nil {
			return calendar.Wall{}, "", err
		}
		zone = name
	}
	value, utc := strings.CutSuffix(p.Value, "Z")
	if utc {
		zone = "UTC"
	}
	t, err := time.Parse(stamp, value)
	if err != nil {
		if t, err = time.Parse("20060102", value); err != nil {
			return calendar.Wall{}, "", fmt.Errorf("%q is no time", p.Value)
		}
	}
	if t.Year() < 1970 || t.Year() > 9000 {
		return calendar.Wall{}, "", fmt.Errorf("%q is too far away", p.Value)
	}
	return calendar.WallOf(t), zone, nil
}

// in reads a time as the clocks of a zone show it.
func (r reader) in(p *ical.Prop, zone string) (calendar.Wall, error) {
	w, own, err := r.time(p)
	if err != nil || own == zone {
		return w, err
	}
	from, err := calendar.Zone(own)
	if err != nil {
		return w, err
	}
	to, err := calendar.Zone(zone)
	if err != nil {
		return w, err
	}
	return calendar.WallAt(w.Instant(from, calendar.Shift), to), nil
}

// length is how long an event lasts, s: by its end or its duration; a day, where it is on
// a day and says nothing.
func (r reader) length(e ical.Event, start calendar.Wall, zone string) (int64, error) {
	if p := e.Props.Get(ical.PropDuration); p != nil {
		d, err := p.Duration()
		if err != nil || d <= 0 || d%time.Second != 0 {
			return 0, fmt.Errorf("%q is no length that a window can have", p.Value)
		}
		return int64(d / time.Second), nil
	}
	loc, err := calendar.Zone(zone)
	if err != nil {
		return 0, err
	}
	end := start.AddDays(1)
	if p := e.Props.Get(ical.PropDateTimeEnd); p != nil {
		if end, err = r.in(p, zone); err != nil {
			return 0, fmt.Errorf("its end: %w", err)
		}
	} else if p := e.Props.Get(ical.PropDateTimeStart); p == nil || strings.Contains(p.Value, "T") {
		return 0, errors.New("it does not say how long it lasts")
	}
	ms := int64(end.Instant(loc, calendar.Shift) - start.Instant(loc, calendar.Shift))
	if ms <= 0 {
		return 0, errors.New("its end is not after its start")
	}
	return ms / span.Second, nil
}
