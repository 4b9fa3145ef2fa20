package e2e

import (
	"context"
	"testing"

	"kestite/demo"
)

// What cannot be computed costs its own row; what an agent set aside is shown
// and released; the organisation is renamed where people are.
func TestTroubleIsShownWhereItIs(t *testing.T) {
	s := newStage(t, true)
	exec := func(sql string, args ...any) {
		t.Helper()
		_, err := s.srv.API.Store.Pool.Exec(context.Background(), sql, args...)
		s.do(err)
	}
	exec(`UPDATE revision SET body = body || '{"rrule": "FREQ=SECONDLY"}' WHERE kind = 'window' AND id = 'ticket-release'`)
	s.do(
		s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password),
		s.Until("the row that cannot be accounted", "document.querySelector('.no-account')?.innerText.includes('Ticket sales release')"),
		s.Until("the others beside it", "document.querySelectorAll('.entry .pair').length > 4"),
		s.Reads("1 cannot be accounted"),
	)
	exec(`INSERT INTO agent (location, token_hash, created_by, seen_at, set_aside, aside) VALUES ('tolvik', '\x00', 'test', now(), 2,
		'[{"check": "ticket-sales-page", "at": "2026-11-26T09:12:00.000Z", "reason": "it cannot be stored: poison"}]')`)
	s.do(
		s.Go(s.srv.URL+"/set-up"),
		s.Reads("2 measurements of this agent could not be taken by any server."),
		s.ClickOn("summary", "The latest 1"), s.Reads("it cannot be stored: poison"),
		s.Click("Let the agent deliver them again"), s.Reads("Asked; the agent tries again"),
		s.Go(s.srv.URL+"/set-up/trail"), s.Reads("release quarantine"),
		s.Go(s.srv.URL+"/set-up/people"),
		s.Fill("Zone of its months", "Europe/Nowhere"), s.ClickOn("form[aria-label='Organisation'] button", "Save"), s.Reads("names no time zone"),
		s.Fill("Zone of its months", "Europe/Berlin"), s.ClickOn("form[aria-label='Organisation'] button", "Save"),
		s.Until("that it is saved",
			"(fetch('/api/v1/session').then((r) => r.json()).then((me) => { window.zone = me.timezone }), window.zone === 'Europe/Berlin')"),
		s.Go(s.srv.URL+"/set-up/trail"), s.Until("the change in the trail",
			"[...document.querySelectorAll('[data-trail]')].some((r) => /edit.*\\s+organisation/.test(r.innerText))"),
		s.Go(s.srv.URL+"/"), s.Reads("Europe/Berlin"),
	)
}
