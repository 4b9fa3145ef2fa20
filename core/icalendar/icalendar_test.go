package icalendar_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/icalendar"
	"kestite/core/span"
)

var now = span.Of(time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC))

// Whatever a window says comes back as it was written, and says the same when it is read
// by its times alone.
func TestWindowsComeBackAsTheyWere(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	rules := []string{"", "FREQ=DAILY", "FREQ=WEEKLY;INTERVAL=2;BYDAY=TH", "FREQ=MONTHLY;BYDAY=1MO", "FREQ=MONTHLY;BYDAY=FR;BYSETPOS=-1;UNTIL=20271231T235959Z", "FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU", "FREQ=DAILY;COUNT=9"}
	var windows []icalendar.Window
	for n := range 60 {
		w := definition.WindowSpec{Name: fmt.Sprintf("Work %d, with; \\ signs — in a name that is longer than what fits a line of seventy-five octets, ånd øther letters", n), Services: []string{"ticket-sales", "quay"}[:1+r.IntN(2)],
			Start: fmt.Sprintf("2026-%02d-%02dT%02d:%02d:00", 1+r.IntN(12), 1+r.IntN(28), r.IntN(24), r.IntN(60)), DurationS: int64(1+r.IntN(900)) * 60,
			Timezone: []string{"UTC", "Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca"}[r.IntN(5)], RRule: rules[r.IntN(len(rules))]}
		if r.IntN(3) == 0 {
			w.Type, w.Reference, w.Note = definition.Emergency, "CHG-2041", "Two\nlines, and a comma"
		}
		if r.IntN(4) == 0 {
			w.Imported = &definition.Imported{UID: fmt.Sprintf("event-%d@desk.skerry.example", n), Sequence: int64(r.IntN(9))}
		}
		if w.RRule == "FREQ=DAILY" {
			day, _ := calendar.ParseWall(w.Start)
			w.Exdates = []string{day.AddDays(2).String(), day.AddDays(5).String()}
			w.Changes = []definition.Occurrence{{At: day.AddDays(3).String(), Start: day.AddDays(4).String()}, {At: day.AddDays(7).String(), DurationS: 120}}
		}
		windows = append(windows, icalendar.Window{ID: fmt.Sprint("w", n), Spec: w, Revision: 1 + r.IntN(5), Since: now})
	}
	text, err := icalendar.Write("Skerry Line", "Europe/Oslo", windows, now)
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(string(text), "\r\n") {
		if len(line) > 75 || strings.Contains(line, "\n") {
			t.Errorf("a line of %d octets: %q", len(line), line)
		}
	}
	// As if no zone were known by its name, too.
	for name, text := range map[string]string{"as it is": string(text), "with zones of another name": strings.ReplaceAll(string(text), "Europe/Oslo", "Skerry Standard Time")} {
		events, left, err := icalendar.Read(text, "Europe/Oslo", now)
		if err != nil || len(left) > 0 || len(events) != len(windows) {
			t.Fatalf("%s: %d events, %v left out, %v", name, len(events), left, err)
		}
		for i, e := range events {
			want := windows[i].Spec
			sequence := int64(windows[i].Revision)
			if want.Imported != nil {
				sequence = want.Imported.Sequence
			}
			if e.UID != icalendar.UIDOf(windows[i].ID, want) || e.Sequence != sequence || e.Cancelled {
				t.Errorf("%s: it comes back as %s, sequence %d", name, e.UID, e.Sequence)
			}
			want.Imported = nil
			if !reflect.DeepEqual(e.Spec, want) {
				t.Fatalf("%s:\n%+v came back as\n%+v", name, want, e.Spec)
			}
		}
	}
}

const head, foot = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Desk//EN\r\n", "END:VCALENDAR\r\n"

func event(lines ...string) string {
	return "BEGIN:VEVENT\r\nUID:u1\r\nSUMMARY:Work\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT\r\n"
}

// zone describes Oslo's clocks under a name of somebody's own.
const zone = "BEGIN:VTIMEZONE\r\nTZID:Fjord\r\nBEGIN:STANDARD\r\nDTSTART:16011028T030000\r\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10\r\nTZOFFSETFROM:+0200\r\nTZOFFSETTO:+0100\r\nEND:STANDARD\r\n" +
	"BEGIN:DAYLIGHT\r\nDTSTART:16010325T020000\r\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=3\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0200\r\nEND:DAYLIGHT\r\nEND:VTIMEZONE\r\n"

// Calendars of others: what they say of when, and what cannot be a window.
func TestReadingCalendarsOfOthers(t *testing.T) {
	for name, x := range map[string]struct{ body, want string }{
		"with an end":                 {event("DTSTART;TZID=Europe/Oslo:20261201T183000", "DTEND;TZID=Europe/Oslo:20261202T033000"), "2026-12-01T18:30:00 Europe/Oslo 32400s"},
		"in UTC":                      {event("DTSTART:20261201T183000Z", "DURATION:PT90M"), "2026-12-01T18:30:00 UTC 5400s"},
		"without a zone":              {event("DTSTART:20261201T183000", "DURATION:P1DT1H"), "2026-12-01T18:30:00 Europe/Oslo 90000s"},
		"an end in another zone":      {event("DTSTART;TZID=Europe/Oslo:20261201T183000", "DTEND:20261201T183000Z"), "2026-12-01T18:30:00 Europe/Oslo 3600s"},
		"a day":                       {event("DTSTART;VALUE=DATE:20261201"), "2026-12-01T00:00:00 Europe/Oslo 86400s"},
		"the day the clocks change":   {event("DTSTART;VALUE=DATE:20270328", "DTEND;VALUE=DATE:20270329"), "2027-03-28T00:00:00 Europe/Oslo 82800s"},
		"a zone that it describes":    {zone + event("DTSTART;TZID=Fjord:20261201T183000", "DURATION:PT1H"), "2026-12-01T18:30:00 Europe/Oslo 3600s"},
		"a path before a zone":        {event("DTSTART;TZID=/desk.example/2026/Europe/Oslo:20261201T183000", "DURATION:PT1H"), "2026-12-01T18:30:00 Europe/Oslo 3600s"},
		"an unknown zone":             {event("DTSTART;TZID=Fjord:20261201T183000", "DURATION:PT1H"), `left: Work: its start: the zone "Fjord" is neither known nor described in it`},
		"a zone like no other":        {strings.ReplaceAll(zone, "+0200", "+0217") + event("DTSTART;TZID=Fjord:20261201T183000", "DURATION:PT1H"), `left: Work: its start: the zone "Fjord" is none that is known`},
		"dates left out":              {event("DTSTART;TZID=Europe/Oslo:20261201T183000", "DURATION:PT1H", "RRULE:FREQ=DAILY", "EXDATE;TZID=Europe/Oslo:20261202T183000,20261203T183000", "EXDATE:20261204T173000Z"), "2026-12-01T18:30:00 Europe/Oslo 3600s FREQ=DAILY without 2026-12-02T18:30:00 2026-12-03T18:30:00 2026-12-04T18:30:00"},
		"an occurrence moved":         {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY") + event("RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T200000Z", "DURATION:PT2H"), "2026-12-01T18:30:00 UTC 3600s FREQ=DAILY but 2026-12-03T18:30:00 at 2026-12-03T20:00:00 for 7200"},
		"one before its event":        {event("RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T200000Z", "DURATION:PT1H") + event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY"), "2026-12-01T18:30:00 UTC 3600s FREQ=DAILY but 2026-12-03T18:30:00 at 2026-12-03T20:00:00 for 0"},
		"an occurrence cancelled":     {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY") + event("RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T183000Z", "DURATION:PT1H", "STATUS:CANCELLED"), "2026-12-01T18:30:00 UTC 3600s FREQ=DAILY without 2026-12-03T18:30:00"},
		"moved twice, the later wins": {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY") + event("SEQUENCE:3", "RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T210000Z", "DURATION:PT1H") + event("SEQUENCE:2", "RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T200000Z", "DURATION:PT1H"), "2026-12-01T18:30:00 UTC 3600s FREQ=DAILY but 2026-12-03T18:30:00 at 2026-12-03T21:00:00 for 0"},
		"two of a UID":                {event("SEQUENCE:2", "DTSTART:20261201T183000Z", "DURATION:PT1H") + event("SEQUENCE:1", "DTSTART:20261201T193000Z", "DURATION:PT1H"), "2026-12-01T18:30:00 UTC 3600s"},
		"cancelled":                   {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "STATUS:CANCELLED"), "cancelled 2026-12-01T18:30:00 UTC 3600s"},
		"a calendar that cancels":     {"METHOD:CANCEL\r\n" + event("DTSTART:20261201T183000Z", "DURATION:PT1H"), "cancelled 2026-12-01T18:30:00 UTC 3600s"},
		"an end before the start":     {event("DTSTART:20261201T183000Z", "DTEND:20261201T183000Z"), "left: Work: its end is not after its start"},
		"no length":                   {event("DTSTART:20261201T183000Z"), "left: Work: it does not say how long it lasts"},
		"no start":                    {event("DURATION:PT1H"), "left: Work: its start: it does not say when"},
		"a negative length":           {event("DTSTART:20261201T183000Z", "DURATION:-PT1H"), `left: Work: "-PT1H" is no length`},
		"dates beside its rule":       {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RDATE:20261205T183000Z"), "left: Work: it has dates beside its rule (RDATE)"},
		"all after an occurrence":     {event("DTSTART:20261201T183000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY") + event("RECURRENCE-ID;RANGE=THISANDFUTURE:20261203T183000Z", "DTSTART:20261203T200000Z", "DURATION:PT1H"), "2026-12-01T18:30:00 UTC 3600s FREQ=DAILY; left: Work: it stands for an occurrence and all after it"},
		"for an event that is absent": {event("RECURRENCE-ID:20261203T183000Z", "DTSTART:20261203T200000Z", "DURATION:PT1H"), "left: Work: it stands for an occurrence of an event that is not in it"},
		"no UID":                      {strings.Replace(event("DTSTART:20261201T183000Z", "DURATION:PT1H"), "UID:u1\r\n", "", 1), "left: Work: it has no UID"},
		"a sequence of words":         {event("SEQUENCE:many", "DTSTART:20261201T183000Z", "DURATION:PT1H"), `left: Work: "many" is no SEQUENCE`},
		"far away":                    {event("DTSTART:99991201T183000Z", "DURATION:PT1H"), `left: Work: its start: "99991201T183000Z" is too far away`},
		"one that cannot among good ones": {event("DTSTART:tomorrow", "DURATION:PT1H") + strings.Replace(event("DTSTART:20261201T183000Z", "DURATION:PT1H"), "u1", "u2", 1),
			`2026-12-01T18:30:00 UTC 3600s; left: Work: its start: "tomorrow" is no time`},
	} {
		events, left, err := icalendar.Read(head+x.body+foot, "Europe/Oslo", now)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var out []string
		for _, e := range events {
			s := fmt.Sprintf("%s %s %ds", e.Spec.Start, e.Spec.Timezone, e.Spec.DurationS)
			if e.Cancelled {
				s = "cancelled " + s
			}
			if e.Spec.RRule != "" {
				s += " " + e.Spec.RRule
			}
			if len(e.Spec.Exdates) > 0 {
				s += " without " + strings.Join(e.Spec.Exdates, " ")
			}
			for _, c := range e.Spec.Changes {
				s += fmt.Sprintf(" but %s at %s for %d", c.At, c.Start, c.DurationS)
			}
			out = append(out, s)
		}
		for _, l := range left {
			out = append(out, "left: "+l.Name+": "+l.Why)
		}
		if got := strings.Join(out, "; "); got != x.want && !strings.HasPrefix(got, x.want) {
			t.Errorf("%s: %s\nwant %s", name, got, x.want)
		}
	}
	for name, text := range map[string]string{"nothing": "", "no calendar": "Work on Monday", "no event": head + foot, "cut off": head + "BEGIN:VEVENT\r\nUID:x"} {
		if events, left, err := icalendar.Read(text, "UTC", now); err == nil {
			t.Errorf("%s: %v %v", name, events, left)
		}
	}
}

// What a zone is described as is what its clocks do, for every zone of the database that
// the machine knows of, over the years it is written for.
func TestZonesAreDescribedAsTheyAre(t *testing.T) {
	names := icalendar.Zones()
	if text, err := os.ReadFile("/usr/share/zoneinfo/tzdata.zi"); err == nil { // all that there are, where the machine says which
		for line := range strings.Lines(string(text)) {
			if f := strings.Fields(line); len(f) > 1 && f[0] == "Z" {
				names = append(names, f[1])
			}
		}
	}
	seen := 0
	for _, name := range names {
		loc, err := calendar.Zone(name)
		if err != nil {
			continue
		}
		text, err := icalendar.Write("x", name, nil, now)
		if err != nil {
			t.Fatal(name, err)
		}
		seen++
		if bad := icalendar.Differs(string(text), loc, 2026, 2031); bad != "" {
			t.Errorf("%s: %s", name, bad)
		}
	}
	if seen < 35 {
		t.Errorf("only %d zones were looked at", seen)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(head + event("DTSTART;TZID=Europe/Oslo:20261201T183000", "DURATION:PT1H", "RRULE:FREQ=DAILY", "EXDATE:20261202T183000Z") + foot)
	f.Add(head + zone + event("DTSTART;TZID=Fjord:20261201T183000", "DTEND:20261201T190000Z") + foot)
	f.Fuzz(func(t *testing.T, text string) {
		events, _, err := icalendar.Read(text, "Europe/Oslo", now)
		if err != nil {
			return
		}
		for i, e := range events {
			if e.UID == "" || e.Spec.DurationS <= 0 || e.Sequence < 0 {
				t.Errorf("event %d: %+v", i, e)
			}
			w := e.Spec
			w.Services = []string{"quay"}
			if definition.Valid(w) != nil {
				continue
			}
			out, err := icalendar.Write("x", "Europe/Oslo", []icalendar.Window{{ID: "w", Spec: w, Revision: 1, Since: now}}, now)
			if err != nil {
				t.Fatalf("%+v cannot be written: %v", w, err)
			}
			again, left, err := icalendar.Read(string(out), "UTC", now)
			if err != nil || len(left) > 0 || len(again) != 1 {
				t.Fatalf("%+v comes back as %v, %v, %v", w, again, left, err)
			}
		}
	})
}
