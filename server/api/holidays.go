package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

// holidayRoutes are those of the days without hours that agreements share.
func (s *Server) holidayRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.HolidayListSpec]{
		kind: catalogue.HolidayList, path: "/holiday-lists", name: "a list of holidays",
		named: func(s definition.HolidayListSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.HolidayListSpec] {
			return s.HolidayLists
		},
	})
	on(a, access.Define, http.MethodPost, "/holiday-lists/read", "read-holidays",
		"The whole days of an iCalendar (RFC 5545), from the beginning of last year for eleven years; nothing is kept", s.readHolidays)
}

// CalendarAsk is an iCalendar to be read.
type CalendarAsk struct {
	Text string `json:"text" minLength:"1" maxLength:"1000000" doc:"The calendar: what stands in a file that ends with .ics"`
}

// CalendarDays are the days of an iCalendar.
type CalendarDays struct {
	Days []definition.Holiday `json:"days"`
	Left []LeftEvent          `json:"left" doc:"Events of which no day was taken"`
}

// LeftEvent is an event of which no day was taken.
type LeftEvent struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

// For how long the days of rules without an end are taken.
const yearsOfDays = 11

func (s *Server) readHolidays(_ context.Context, in *struct{ Body CalendarAsk }) (*body[CalendarDays], error) {
	from := calendar.Date(span.Of(s.Now()).Time().Year()-1, 1, 1)
	days, left, err := calendar.DaysOf(in.Body.Text, from, from.AddMonths(12*yearsOfDays))
	if err != nil {
		return nil, definition.Faultf("text", "%v", err)
	}
	out := CalendarDays{Days: make([]definition.Holiday, len(days)), Left: make([]LeftEvent, len(left))}
	for i, d := range days {
		out.Days[i] = definition.Holiday{Date: d.Date.DateString(), Name: d.Name}
	}
	for i, l := range left {
		out.Left[i] = LeftEvent(l)
	}
	return &body[CalendarDays]{out}, nil
}
