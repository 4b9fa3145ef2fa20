// Package icalendar writes windows as iCalendar objects and reads them (RFC 5545).
package icalendar

import (
	"bytes"
	"cmp"
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

// Window is a window as a calendar shows it.
type Window struct {
	ID        string
	Spec      definition.WindowSpec
	Revision  int
	Since     span.Instant // of the revision
	Cancelled bool
	Names     []string // of its services
}

// Properties of our own.
const (
	propServices  = "X-KESTITE-SERVICES"
	propType      = "X-KESTITE-TYPE"
	propReference = "X-KESTITE-REFERENCE"
)

// ours is what the UIDs of windows end with that were not imported.
const ours = "@kestite"

// UIDOf is the UID of a window: that of the event it was imported from, or one of ours.
func UIDOf(id string, spec definition.WindowSpec) string {
	if spec.Imported != nil {
		return spec.Imported.UID
	}
	return id + ours
}

// stamp is how a time is written.
const stamp = "20060102T150405"

// Write writes windows as one iCalendar object, called name, with the zones that they
// use, each up to some years after now. Lines end and fold as RFC 5545 §3.1 says. The
// error says which window cannot be written; the others are not written either.
func Write(name, home string, windows []Window, now span.Instant) ([]byte, error) {
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Kestite//Planned work//EN")
	cal.Props.SetText("X-WR-CALNAME", name)
	zones := map[string]int{home: now.Time().Year()} // the first year that each is used in
	var events []*ical.Component
	for _, w := range windows {
		list, err := eventsOf(w)
		if err != nil {
			return nil, fmt.Errorf("the window %q cannot be written: %w", w.Spec.Name, err)
		}
		events = append(events, list...)
		if start, err := calendar.ParseWall(w.Spec.Start); err == nil {
			year := start.Instant(time.UTC, calendar.Shift).Time().Year()
			if have, is := zones[w.Spec.Timezone]; !is || year < have {
				zones[w.Spec.Timezone] = year
			}
		}
	}
	for _, zone := range sortedKeys(zones) {
		z, err := timezone(zone, zones[zone], now.Time().Year()+5)
		if err != nil {
			return nil, err
		}
		cal.Children = append(cal.Children, z)
	}
	cal.Children = append(cal.Children, events...)
	var out bytes.Buffer
	if err := ical.NewEncoder(&out).Encode(cal); err != nil {
		return nil, err
	}
	return folded(out.Bytes()), nil
}

func sortedKeys(m map[string]int) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// eventsOf is a window as events: one, and one for each occurrence that is otherwise.
func eventsOf(w Window) ([]*ical.Component, error) {
	spec := w.Spec
	e := event(w)
	if err := setTime(e, ical.PropDateTimeStart, spec.Timezone, spec.Start); err != nil {
		return nil, err
	}
	setLength(e, spec.DurationS)
	if spec.RRule != "" {
		e.Props.Set(&ical.Prop{Name: ical.PropRecurrenceRule, Value: spec.RRule, Params: ical.Params{}})
	}
	for _, x := range spec.Exdates {
		p, err := timeProp(ical.PropExceptionDates, spec.Timezone, x)
		if err != nil {
			return nil, err
		}
		e.Props.Add(p)
	}
	out := []*ical.Component{e}
	for _, o := range spec.Changes {
		c := event(w)
		if err := setTime(c, ical.PropRecurrenceID, spec.Timezone, o.At); err != nil {
			return nil, err
		}
		if err := setTime(c, ical.PropDateTimeStart, spec.Timezone, cmp.Or(o.Start, o.At)); err != nil {
			return nil, err
		}
		setLength(c, cmp.Or(o.DurationS, spec.DurationS))
		out = append(out, c)
	}
	return out, nil
}

// event is one without a time.
func event(w Window) *ical.Component {
	e := ical.NewComponent(ical.CompEvent)
	set := func(name, text string) {
		if text != "" {
			e.Props.SetText(name, text)
		}
	}
	set(ical.PropUID, UIDOf(w.ID, w.Spec))
	e.Props.Set(&ical.Prop{Name: ical.PropDateTimeStamp, Value: w.Since.Time().Format(stamp) + "Z", Params: ical.Params{}})
	sequence := int64(w.Revision)
	if w.Spec.Imported != nil {
		sequence = w.Spec.Imported.Sequence
	}
	e.Props.Set(&ical.Prop{Name: ical.PropSequence, Value: strconv.FormatInt(sequence, 10), Params: ical.Params{}})
	set(ical.PropSummary, w.Spec.Name)
	set(ical.PropDescription, w.Spec.Note)
	set(ical.PropLocation, strings.Join(w.Names, ", "))
	status := "CONFIRMED"
	if w.Cancelled {
		status = "CANCELLED"
	}
	set(ical.PropStatus, status)
	set(propServices, strings.Join(w.Spec.Services, " "))
	if w.Spec.OfType() == definition.Emergency {
		set(propType, definition.Emergency)
	}
	set(propReference, w.Spec.Reference)
	return e
}

func setTime(e *ical.Component, name, zone, wall string) error {
	p, err := timeProp(name, zone, wall)
	if err == nil {
		e.Props.Set(p)
	}
	return err
}

// timeProp is a wall time in a zone; in UTC it is written with a Z.
func timeProp(name, zone, wall string) (*ical.Prop, error) {
	w, err := calendar.ParseWall(wall)
	if err != nil {
		return nil, err
	}
	p := &ical.Prop{Name: name, Params: ical.Params{}, Value: w.Instant(time.UTC, calendar.Shift).Time().Format(stamp)}
	if zone == "UTC" {
		p.Value += "Z"
		return p, nil
	}
	p.Params.Set(ical.ParamTimezoneID, zone)
	return p, nil
}

func setLength(e *ical.Component, s int64) {
	e.Props.Set(&ical.Prop{Name: ical.PropDuration, Value: fmt.Sprintf("PT%dS", s), Params: ical.Params{}})
}

// folded cuts lines after 75 octets, between characters (RFC 5545 §3.1).
func folded(text []byte) []byte {
	var out bytes.Buffer
	for line := range bytes.SplitSeq(bytes.TrimSuffix(text, []byte("\r\n")), []byte("\r\n")) {
		for most := 75; len(line) > most; most = 74 { // the space that a folded line begins with counts
			cut := most
			for line[cut]&0xC0 == 0x80 { // within a character
				cut--
			}
			out.Write(line[:cut])
			out.WriteString("\r\n ")
			line = line[cut:]
		}
		out.Write(line)
		out.WriteString("\r\n")
	}
	return out.Bytes()
}
