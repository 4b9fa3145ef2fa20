package e2e

import (
	"fmt"
	"net/http"
	"slices"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// Days are typed and taken from a calendar, become a list, and an agreement has them;
// a date that is not typed to its end is refused, and not dropped.
func TestHolidaysAndDates(t *testing.T) {
	s := newStage(t, true)
	manager := servertest.Anonymous(t, s.srv.URL)
	manager.Must(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": demo.Password}, nil)
	next := storetest.Now().Year() + 1
	const upload = `(() => {
		const to = new DataTransfer()
		to.items.add(new File([%q], 'harbour.ics', { type: 'text/calendar' }))
		const input = document.querySelector('input[type=file]')
		input.files = to.files
		return input.dispatchEvent(new Event('change', { bubbles: true }))
	})()`
	file := fmt.Sprintf("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Skerry Line//EN\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:%d0623\r\nSUMMARY:Midsummer Eve\r\nEND:VEVENT\r\n"+
		"BEGIN:VEVENT\r\nUID:2\r\nDTSTAMP:20260101T000000Z\r\nDTSTART:%d0624T100000Z\r\nSUMMARY:Boat race\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
		next, next)
	for _, step := range []func() error{
		func() error { return s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password) },
		func() error { return s.Go(s.srv.URL + "/set-up/holidays") },
		func() error { return s.Reads("Public holidays") },
		func() error { return s.Click("Add a list of holidays") },
		func() error { return s.Fill("Name", "Harbour days") },
		func() error { return s.Fill("Days", fmt.Sprintf("%d-07-29 Saint Olav\rChristmas", next)) },
		func() error { return s.ClickOn("form button", "Add") },
		func() error { return s.Reads("line 2 does not") },
		func() error { return s.Fill("Days", fmt.Sprintf("%d-07-29 Saint Olav", next)) },
		func() error { return s.Until("the file", fmt.Sprintf(upload, "<html>")) },
		func() error { return s.Reads("it is no iCalendar") },
		func() error { return s.Until("the file", fmt.Sprintf(upload, file)) },
		func() error { return s.Until("its one day", "document.querySelector('[data-loaded=\"1\"]')") },
		func() error { return s.Reads("Left out: Boat race; it is at a time of day") },
		func() error { return s.ClickOn("form button", "Add") },
		func() error {
			return s.Until("the list",
				fmt.Sprintf("[...document.querySelectorAll('[data-list-of-holidays=harbour-days] td')].some((c) => c.innerText === '%d-06-23 Midsummer Eve')", next))
		},
		func() error { return s.Go(s.srv.URL + "/agreements/crew-roster") },
		func() error { return s.Until("the form", "document.querySelector('[data-summary=own]')") },
		func() error { return s.Fill("Holidays, without hours, from lists", "Harbour") },
		func() error { return s.ClickOn("[role=option]", "Harbour days") },
		func() error { return s.Reads("except on the days of Public holidays and the days of Harbour days") },
		func() error { return s.Fill("Last day", "2027") },
		func() error { return s.Click("Save as revision") },
		func() error { return s.Reads("Finish the date, as 2026-12-25, or clear it") },
		func() error { return s.Fill("Last day", fmt.Sprintf("%d-12-31", next+1)) },
		func() error { return s.Click("Save as revision") },
		func() error { return s.Until("the list", "location.pathname === '/agreements'") },
	} {
		s.do(step())
	}
	var all struct {
		Items []struct {
			ID   string
			Spec definition.AgreementSpec
		}
	}
	manager.Must(http.MethodGet, "/agreements", nil, &all)
	for _, a := range all.Items {
		if a.ID == "crew-roster" && (!slices.Equal(a.Spec.ServiceHours.HolidayLists, []string{"public-holidays", "harbour-days"}) ||
			a.Spec.Until != fmt.Sprintf("%d-12-31", next+1)) {
			t.Errorf("it says %+v until %q", a.Spec.ServiceHours, a.Spec.Until)
		}
	}

	// A picker is in the zone of what it dates, wherever the browser is.
	for zone, date := range map[string]string{"Pacific/Kiritimati": "", "Pacific/Niue": ""} {
		loc, err := time.LoadLocation(zone)
		s.do(err)
		date = storetest.Now().In(loc).Format("2")
		s.do(s.Go(s.srv.URL + "/agreements/new?service=ticket-sales"))
		s.do(s.Until("the form", "document.querySelector('[data-summary]')"))
		s.do(s.Fill("In the zone", zone))
		s.do(s.ClickOn("button[aria-label^='Choose date']", ""))
		s.do(s.Until("the calendar", "document.querySelector('[aria-current=date]')"))
		today, err := browser.Eval[string](s.Browser, "document.querySelector('[aria-current=date]').innerText")
		s.do(err)
		if still := storetest.Now().In(loc).Format("2"); today != date && today != still {
			t.Errorf("today is the %s in %s, and the picker's the %s", date, zone, today)
		}
	}
}

// Lines of holidays are read as people write them.
func TestLinesOfHolidays(t *testing.T) {
	for text, want := range map[string]struct {
		lines string
		wrong []int
	}{
		"2026-12-25 Christmas Day\n2026-12-24": {"2026-12-24\n2026-12-25 Christmas Day", nil},
		"2026-12-25,\"Christmas\"\n\n":         {"2026-12-25 Christmas", nil},
		"2026-12-25;  Christmas ":              {"2026-12-25 Christmas", nil},
		"25.12.2026 Christmas\n2026-12-26":     {"2026-12-26", []int{1}},
		"2026-12-255":                          {"", []int{1}},
		"":                                     {"", nil},
	} {
		var got struct {
			Lines string
			Wrong []int
		}
		evaluated(t, "src/setup/holiday-lines.ts",
			"(() => { const r = m.holidaysOf(input); return { lines: m.linesOf(r.days), wrong: r.wrong } })()", text, &got)
		if got.Lines != want.lines || !slices.Equal(got.Wrong, want.wrong) {
			t.Errorf("%q is read as %q, wrong lines %v", text, got.Lines, got.Wrong)
		}
	}
	var merged string
	evaluated(t, "src/setup/holiday-lines.ts", "m.linesOf(m.joined(input[0], input[1]))", [][]map[string]string{
		{{"date": "2026-12-25", "name": "Yule"}, {"date": "2026-12-26"}}, {{"date": "2026-12-25", "name": "Christmas"}, {"date": "2026-12-26",
			"name": "Second"}, {"date": "2026-01-01"}},
	}, &merged)
	if merged != "2026-01-01\n2026-12-25 Yule\n2026-12-26 Second" {
		t.Errorf("joined they are %q", merged)
	}
}
