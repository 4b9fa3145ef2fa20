package notice

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Said is what there is to say of an incident in a message.
type Said struct {
	What     What
	Incident incident.Incident
	Name     string   // what it is about, of a check with its service
	Service  string   // the service that it concerns; empty: no one's
	Headline string   // see incident.Headline
	Detail   []string // further lines: what needs it, its cause, what a person wrote
	Severity string   // that it is told with
	Link     string   // to the incident
	Ack      string   // a link that acknowledges it; empty: none
	DueAt    span.Instant
	Now      span.Instant
	Zone     *time.Location
}

// LateMS is from how long after it was due, in ms, a message says that it is late.
const LateMS = 60 * span.Second

// Subject is one line: how severe it is, what is the matter, since when.
func (s Said) Subject() string {
	i := s.Incident
	since := s.when(i.BeganAt)
	state := i.State.String()
	switch {
	case i.About == incident.Location && i.State == verdict.Degraded:
		state = "does not deliver everything"
	case i.About == incident.Location:
		state = "silent"
	}
	name := s.Name
	if i.About == incident.Agreement {
		name, state = "Allowance of "+name, "low"
	}
	switch s.What {
	case Clear:
		if i.Unfounded {
			return "Not so: " + name
		}
		return fmt.Sprintf("Over: %s, since %s", name, s.when(i.Lasted(s.Now).To))
	case Again:
		return fmt.Sprintf("[%s] Still: %s %s since %s", s.Severity, name, state, since)
	case Worse:
		return fmt.Sprintf("[%s] More severe: %s %s since %s", s.Severity, name, state, since)
	case Found:
		return fmt.Sprintf("Cause known: %s", name)
	case Reminder:
		return fmt.Sprintf("[%s] Acknowledged and not over: %s %s since %s", s.Severity, name, state, since)
	}
	return fmt.Sprintf("[%s] %s %s since %s", s.Severity, name, state, since)
}

// Text is all there is to say, in lines.
func (s Said) Text() string {
	lines := append([]string{s.Headline}, s.Detail...)
	if late := int64(s.Now - s.DueAt); late >= LateMS {
		lines = append(lines, fmt.Sprintf("This message is late: it was due at %s, %s ago.", s.when(s.DueAt), span.Words(late/span.Second*span.Second)))
	}
	lines = append(lines, "", s.Link)
	if s.Ack != "" {
		lines = append(lines, "Acknowledge it: "+s.Ack)
	}
	return strings.Join(lines, "\n")
}

// MostShort is how many characters a short message has at most: two of 160 (3GPP TS
// 23.038).
const MostShort = 306

// Short is a text message: the subject, what fits of the link.
func (s Said) Short() string {
	subject, link := s.Subject(), s.Link
	if s.Ack != "" {
		link = s.Ack
	}
	return Fit(subject, link)
}

// Fit is a subject and a link in one short message: as much of the subject as fits.
func Fit(subject, link string) string {
	if room := MostShort - utf8.RuneCountInString(link) - 1; room > 20 {
		return cut(subject, room) + " " + link
	}
	return cut(subject, MostShort)
}

func cut(s string, most int) string {
	if utf8.RuneCountInString(s) <= most {
		return s
	}
	return string([]rune(s)[:most-1]) + "…"
}

// when is an instant on the clocks of the zone, with its name.
func (s Said) when(i span.Instant) string {
	zone := s.Zone
	if zone == nil {
		zone = time.UTC
	}
	t := i.Time().In(zone)
	if s.Now.Time().In(zone).Format(time.DateOnly) == t.Format(time.DateOnly) {
		return t.Format("15:04") + " " + zone.String()
	}
	return t.Format("2 Jan 15:04") + " " + zone.String()
}

// Values are what the placeholders of a message stand for: definition.Placeholders.
func (s Said) Values() map[string]string {
	return map[string]string{
		"what": string(s.What), "headline": s.Headline, "severity": s.Severity, "service": s.Service, "began": s.Incident.BeganAt.String(),
		"incident": fmt.Sprint(s.Incident.ID), "link": s.Link, "detail": strings.Join(s.Detail, "\n"),
	}
}
