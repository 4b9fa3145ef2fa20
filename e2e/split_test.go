package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"kestite/demo"
	"kestite/server/api"
	"kestite/server/servertest"
)

// Clauses that change within a period: one agreement ends, another begins under the
// same contract, and Standing shows both with the part of the period that each
// promises. A day that cannot be is said at its field, and nothing typed is lost.
func TestClausesChangeWithinAPeriod(t *testing.T) {
	s := newStage(t, true)
	manager := servertest.Anonymous(t, s.srv.URL)
	manager.Must(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": demo.Password}, nil)
	var list struct{ Items []api.PeriodName }
	manager.Must(http.MethodGet, "/agreements/sailing-board/calendar?last=3", nil, &list)
	month := list.Items[2] // the last that is over
	if !month.Over || month.Published {
		t.Fatalf("%+v", month)
	}
	day := func(d string) string { return month.Name + "-" + d }
	const first = "First day of the new clauses"
	for _, step := range []func() error{
		func() error { return s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password) },
		func() error { return s.Go(s.srv.URL + "/agreements/sailing-board") },
		func() error { return s.Until("the form", "document.querySelector('[data-summary=own]')") },
		func() error { return s.Fill("Target", "99.5") },
		func() error { return s.Choose("Counts from", "a day within a period, as a second agreement") },
		func() error { return s.Fill(first, day("01")) },
		func() error { return s.Click("End it, and begin another") },
		func() error { return s.Reads("Say why") },
		func() error { return s.Fill("Why this change", "renegotiated") },
		func() error { return s.Click("End it, and begin another") },
		func() error { return s.Reads("is the first day of " + month.Words) },
		func() error { s.shows("Target", "99.5"); return nil },
		func() error { return s.Fill(first, day("10")) },
		func() error { return s.Click("End it, and begin another") },
		func() error {
			return s.Until("the agreement that begins", "/^.agreements.sailing-board-\\d/.test(location.pathname)")
		},
		func() error { s.shows("Target", "99.5"); return nil },
		func() error { return s.Go(s.srv.URL + "/?span=" + month.Name) },
		func() error {
			return s.Until("both rows", "[...document.querySelectorAll('[data-agreement^=sailing-board]')].length === 2")
		},
	} {
		s.do(step())
	}
	rows := s.text("[data-agreement=sailing-board]") + s.text("[data-agreement^=sailing-board-]")
	for _, want := range []string{"until 9 ", "from 10 ", "99.9 %", "99.5 %"} {
		if !strings.Contains(rows, want) {
			t.Errorf("Standing does not say %q: %s", want, rows)
		}
	}
	s.do(s.Go(s.srv.URL + "/set-up/contracts"))
	s.do(s.Until("the contract with both",
		fmt.Sprintf("document.querySelector('table')?.innerText.includes('Sailing board until %s-09, Sailing board from %s-10')", month.Name,
			month.Name)))
}
