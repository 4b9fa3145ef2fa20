package calendar

import (
	"fmt"
	"strings"
	"testing"
)

// calendarOf is an iCalendar of events, each given by its lines.
func calendarOf(events ...string) string {
	text := "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//Skerry Line//EN\n"
	for i, e := range events {
		if !strings.Contains(e, "UID:") {
			e += fmt.Sprintf("\nUID:%d", i)
		}
		text += "BEGIN:VEVENT\nDTSTAMP:20260101T000000Z\n" + e + "\nEND:VEVENT\n"
	}
	return strings.ReplaceAll(text+"END:VCALENDAR\n", "\n", "\r\n")
}

func TestDaysOf(t *testing.T) {
	const date = "DTSTART;VALUE=DATE:"
	for _, c := range []struct{ name, text, want, left string }{
		{"one day", calendarOf(date + "20261225\nSUMMARY:Christmas\\, first day"), "2026-12-25 Christmas, first day", ""},
		{"to the day after", calendarOf(date + "20261224\nDTEND;VALUE=DATE:20261227\nSUMMARY:Yule"),
			"2026-12-24 Yule, 2026-12-25 Yule, 2026-12-26 Yule", ""},
		{"the day itself as its end", calendarOf(date + "20261224\nDTEND;VALUE=DATE:20261224"), "2026-12-24 ", ""},
		{"two days long", calendarOf(date + "20261224\nDURATION:P2D"), "2026-12-24 , 2026-12-25 ", ""},
		{"every year, as far as is asked", calendarOf(date + "20200517\nRRULE:FREQ=YEARLY\nSUMMARY:Constitution"),
			"2026-05-17 Constitution, 2027-05-17 Constitution", ""},
		{"but for one", calendarOf(date + "20200517\nRRULE:FREQ=YEARLY\nEXDATE;VALUE=DATE:20260517"), "2027-05-17 ", ""},
		{"more days", calendarOf(date + "20260101\nRDATE;VALUE=DATE:20260406,20260514"), "2026-01-01 , 2026-04-06 , 2026-05-14 ", ""},
		{"one moved", calendarOf("UID:a\n"+date+"20260101\nRRULE:FREQ=MONTHLY;COUNT=3\nSUMMARY:First",
			"UID:a\n"+date+"20260202\nRECURRENCE-ID;VALUE=DATE:20260201\nSUMMARY:Second"),
			"2026-01-01 First, 2026-02-02 Second, 2026-03-01 First", ""},
		{"one of them cancelled", calendarOf("UID:a\n"+date+"20260101\nRRULE:FREQ=MONTHLY;COUNT=2",
			"UID:a\n"+date+"20260201\nRECURRENCE-ID;VALUE=DATE:20260201\nSTATUS:CANCELLED"), "2026-01-01 ", ""},
		{"cancelled", calendarOf(date + "20260101\nSTATUS:CANCELLED"), "", ""},
		{"at a time of day", calendarOf(date+"20260101", "DTSTART:20260102T100000Z\nSUMMARY:Drill"), "2026-01-01 ",
			"Drill: it is at a time of day, and takes no whole day"},
		{"on no date", calendarOf(date+"20260101", date+"20260230\nSUMMARY:Never"), "2026-01-01 ", `Never: "20260230" is no date`},
		{"by no rule", calendarOf(date + "20260101\nRRULE:FREQ=SOMETIMES\nSUMMARY:Odd"), "", `Odd: its rule cannot be followed`},
		{"twice", calendarOf(date+"20260101\nSUMMARY:New Year", date+"20260101\nSUMMARY:Rest"), "2026-01-01 New Year", ""},
		{"outside what is asked", calendarOf(date+"20251231", date+"20280101"), "", ""},
		{"a century long", calendarOf(date + "19000101\nDTEND;VALUE=DATE:25000101\nRRULE:FREQ=YEARLY"), "2026-01-01", ""},
	} {
		days, left, err := DaysOf(c.text, Date(2026, 1, 1), Date(2028, 1, 1))
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var have, has []string
		for _, d := range days {
			have = append(have, d.Date.DateString()+" "+d.Name)
		}
		for _, l := range left {
			has = append(has, l.Name+": "+l.Why)
		}
		if got := strings.Join(have, ", "); got != c.want && (c.name != "a century long" || !strings.HasPrefix(got, c.want) || len(days) != 730) {
			t.Errorf("%s gives %q, want %q", c.name, got, c.want)
		}
		if got := strings.Join(has, ", "); !strings.HasPrefix(got, c.left) || (c.left == "") != (got == "") {
			t.Errorf("%s leaves %q, want %q", c.name, got, c.left)
		}
	}
	for name, text := range map[string]string{
		"nothing": "", "a page": "<html></html>", "no events": calendarOf(), "half of it": "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n",
		"too many": calendarOf(strings.Split(strings.Repeat("DTSTART;VALUE=DATE:20260101\nRRULE:FREQ=DAILY|", 501), "|")...),
		"Rome":     calendarOf("DTSTART;VALUE=DATE:00010101\nRRULE:FREQ=DAILY"),
		"zeros":    "BEGIN:VCALENDAR\x00\r\n", "days without end": calendarOf("DTSTART;VALUE=DATE:20260101\nRRULE:FREQ=SECONDLY"),
	} {
		days, left, err := DaysOf(text, Date(2026, 1, 1), Date(2126, 1, 1))
		if err == nil && (len(days) > 0 || len(left) == 0) {
			t.Errorf("%s gives %v, and leaves %v", name, days, left)
		}
	}
}

// Whatever is loaded, what comes out are days in order within what was asked.
func FuzzDaysOf(f *testing.F) {
	f.Add(calendarOf("DTSTART;VALUE=DATE:20261225\nSUMMARY:Christmas\nRRULE:FREQ=YEARLY;COUNT=3"))
	f.Add(calendarOf("UID:a\nDTSTART;VALUE=DATE:20260101\nRRULE:FREQ=MONTHLY",
		"UID:a\nDTSTART;VALUE=DATE:20260202\nRECURRENCE-ID;VALUE=DATE:20260201"))
	f.Add(calendarOf("DTSTART;VALUE=DATE:00010101\nDTEND;VALUE=DATE:99991231\nRDATE;VALUE=DATE:20260101,x"))
	from, to := Date(2026, 1, 1), Date(2030, 1, 1)
	f.Fuzz(func(t *testing.T, text string) {
		days, _, err := DaysOf(text, from, to)
		if err != nil && len(days) > 0 {
			t.Fatalf("both %v and %d days", err, len(days))
		}
		for i, d := range days {
			if d.Date.Before(from) || !d.Date.Before(to) || i > 0 && !days[i-1].Date.Before(d.Date) {
				t.Fatalf("%s in the place %d of %d", d.Date, i, len(days))
			}
			if strings.ContainsAny(d.Name, "\n\r") {
				t.Fatalf("%q takes more than one line", d.Name)
			}
		}
	})
}
