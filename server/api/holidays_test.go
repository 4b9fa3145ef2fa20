package api_test

import (
	"net/http"
	"strings"
	"testing"

	"kestite/server/api"
)

// Days come out of a calendar with what was left of it; then they are a list that
// agreements share.
func TestHolidaysFromACalendar(t *testing.T) {
	f := setUp(t)
	year := f.srv.API.Now().UTC().Year()
	event := func(lines ...string) string {
		return "BEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20200101T000000Z\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT\r\n"
	}
	ics := "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Skerry Line//EN\r\n" +
		event("DTSTART;VALUE=DATE:20200517", "RRULE:FREQ=YEARLY", "SUMMARY:Constitution Day") +
		event("DTSTART:20200517T090000Z", "SUMMARY:Parade") + "END:VCALENDAR\r\n"
	var read api.CalendarDays
	f.manager.Must(http.MethodPost, "/holiday-lists/read", map[string]any{"text": ics}, &read)
	if len(read.Days) != 11 || read.Days[0].Name != "Constitution Day" || len(read.Left) != 1 || !strings.Contains(read.Left[0].Why,
		"time of day") {
		t.Fatalf("it gives %+v", read)
	}
	for name, text := range map[string]string{"a page": "<html>", "nothing": "", "a NUL": ics + "\x00", "too much": strings.Repeat("x",
		1_000_001)} {
		if a := f.manager.Do(http.MethodPost, "/holiday-lists/read",
			map[string]any{"text": text}); a.Status != http.StatusUnprocessableEntity && a.Status != http.StatusRequestEntityTooLarge {
			t.Errorf("%s: %d %s", name, a.Status, a.Body)
		}
	}

	list := f.manager.Create("/holiday-lists", map[string]any{"name": "Public holidays", "days": read.Days})
	var words api.ClausesView
	f.manager.Must(http.MethodPost, "/clauses", agreement(f.service, func(m map[string]any) {
		m["service_hours"] = map[string]any{"timezone": "Europe/Oslo", "weekly": []any{map[string]any{"days": []string{"MO"}, "from": "08:00",
			"to": "16:00"}}, "holidays": []string{}, "holiday_lists": []string{list}}
	}), &words)
	if !strings.Contains(words.Sentences[0], "except on the days of Public holidays") {
		t.Errorf("in words: %q", words.Sentences[0])
	}
	// Hours on 17 May alone: whatever day it is this year, the list leaves none.
	var periods struct {
		Items []struct {
			Period  string
			Figures struct {
				Total struct {
					Outside int64 `json:"outside"`
				} `json:"total_ms"`
				BaseMS int64 `json:"base_ms"`
			}
		}
	}
	ask := func(lists []string) int {
		t.Helper()
		spec := agreement(f.service, func(m map[string]any) {
			m["from"] = "2020-01-01"
			m["unmeasured"] = "up"
			m["service_hours"] = map[string]any{"timezone": "Europe/Oslo", "weekly": []any{map[string]any{"days": []string{"MO", "TU", "WE", "TH",
				"FR", "SA", "SU"}, "from": "08:00", "to": "16:00"}}, "holidays": []string{}, "holiday_lists": lists}
		})
		f.manager.Must(http.MethodPost, "/what-if", map[string]any{"spec": spec, "last": 13}, &periods)
		for _, p := range periods.Items {
			if strings.HasSuffix(p.Period, "-05") {
				return int(p.Figures.BaseMS / 3_600_000)
			}
		}
		t.Fatal("no May among the last thirteen months")
		return 0
	}
	if with, without := ask([]string{list}), ask(nil); without-with != 8 {
		t.Errorf("May has %d h with the list in %d, and %d h without", with, year, without)
	}
}
