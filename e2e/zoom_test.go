package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"kestite/demo"
	"kestite/e2e/browser"
)

// shownSpan is the span in the address.
func (s *stage) shownSpan() (from, to time.Time, name string) {
	s.t.Helper()
	name, err := browser.Eval[string](s.Browser, "new URLSearchParams(location.search).get('span') ?? ''")
	s.do(err)
	if first, last, is := strings.Cut(name, "/"); is {
		from, _ = time.Parse(time.RFC3339, first)
		to, _ = time.Parse(time.RFC3339, last)
	}
	return from, to, name
}

// The axis goes from a year to ten minutes, by drag, keys and typed times, on every
// screen with strips; links keep it, back goes back, and an outage is told, looked
// at closely and explained.
func TestTheAxisZooms(t *testing.T) {
	s := onItsDay(t)
	const strip = ".band svg.strip"
	s.do(s.SignIn(s.srv.URL, "viewer@skerry.example", demo.Password))
	for _, screen := range []struct{ path, ready string }{
		{"/", "document.querySelector('[data-agreement] svg rect')"}, {"/services", "document.querySelector('[data-service] svg rect')"},
		{"/agreements", "document.querySelector('.entry svg rect')"}, {"/services/ticket-sales",
			"document.querySelector('[data-lane] svg rect')"},
	} {
		s.do(s.Go(s.srv.URL + screen.path + "?span=2026-10"))
		s.do(s.Until("strips", screen.ready))
		s.do(s.Drag(strip, 0.2, 0.4))
		s.do(s.Until("less of the time",
			"new URLSearchParams(location.search).get('span')?.includes('T') && document.querySelector('.band h2').innerText.includes(' to ') && "+screen.ready))
		from, to, name := s.shownSpan()
		if long := to.Sub(from); long < 6*24*time.Hour || long > 7*24*time.Hour || from.Month() != time.October {
			t.Errorf("%s: a fifth of a month is %s", screen.path, name)
		}
	}
	for range 20 { // as close as it gets, faster than answers come
		s.do(s.Type("+"))
	}
	s.do(s.Until("ten minutes", "document.querySelector('.band .sub').innerText.startsWith('10 min')"))
	if from, to, name := s.shownSpan(); to.Sub(from) != 10*time.Minute {
		t.Errorf("closest is %s", name)
	}
	for range 20 {
		s.do(s.Type("-"))
	}
	s.do(s.Until("a year", "document.querySelector('.band h2').innerText === '2026'"))
	for _, step := range []func() error{
		func() error { return s.ClickOn(".band h2 button", "2026") },
		func() error { return s.Fill("From", "2026-10-07") },
		func() error { return s.Fill("To", "2026-10-07 09:30") },
		func() error { return s.Click("Show") },
		func() error { return s.Reads("Finish both times") },
		func() error { return s.Fill("From", "2026-10-09 08:00") },
		func() error { return s.Click("Show") },
		func() error {
			return s.Until("what is wrong", "document.querySelector('form .trouble, form [role=alert]')")
		},
		func() error { return s.Fill("From", "2026-10-07 08:00") },
		func() error { return s.Click("Show") },
		func() error {
			return s.Until("what was typed", "document.querySelector('.band h2').innerText.includes('7 October 2026 08:00 to 09:30')")
		},
		func() error { return s.ClickOn("nav a", "Standing") },
		func() error {
			return s.Until("it on another screen",
				"document.querySelector('.band h2').innerText.includes('7 October 2026 08:00 to 09:30') && document.querySelector('[data-agreement]')")
		},
		func() error { _, err := browser.Eval[bool](s.Browser, "(history.back(), true)"); return err },
		func() error {
			return s.Until("the screen before, as it was",
				"location.pathname === '/services/ticket-sales' && document.querySelector('.band h2').innerText.includes('08:00 to 09:30')")
		},
		func() error { return s.Go(s.srv.URL + "/services/ticket-sales?span=2026-10") },
		func() error { return s.Until("its outages", "document.querySelector('[data-outages] tbody tr')") },
	} {
		s.do(step())
	}
	rows, err := browser.Eval[[][]string](s.Browser,
		"[...document.querySelectorAll('[data-outages] tbody tr')].map((r) => [...r.cells].map((c) => c.innerText.trim()))")
	s.do(err)
	for _, r := range rows {
		if r[0] == "" || r[1] == "" || r[3] == "explain it at its beginning" || r[4] == "" {
			t.Errorf("an outage without begin, end, reason or what it counts as: %q", r)
		}
	}
	s.do(s.ClickOn("[data-outages] button", "closer"))
	s.do(s.Until("the outage in sight",
		"document.querySelector('[data-outages]')?.dataset.outages === '1' && document.querySelector('.curve')"))
	if from, to, name := s.shownSpan(); to.Sub(from) > 2*time.Hour {
		t.Errorf("close to an outage is %s", name)
	}
	s.do(s.ClickOn("[data-outages] button", "explain"))
	s.do(s.Until("why it counts so",
		fmt.Sprintf("document.querySelector('aside').innerText.includes('connection refused') || document.querySelector('aside').innerText.includes(%q)", "down")))
}
