package e2e

import (
	"slices"
	"strings"
	"testing"

	"kestite/demo"
	"kestite/e2e/browser"
)

// refused counts the requests of the page in sight that were answered by 4xx or 5xx.
const refused = "performance.getEntriesByType('resource').filter((e) => e.responseStatus >= 400).map((e) => e.name).join(' ')"

// A customer finds what was promised to them, down to the published report, and nothing
// on their way asks for what is not theirs.
func TestWhatACustomerSees(t *testing.T) {
	s := newStage(t, true)
	fine := func() {
		t.Helper()
		if got, err := browser.Eval[string](s.Browser, refused); err != nil || got != "" {
			t.Errorf("refused: %s %v", got, err)
		}
	}
	s.do(s.SignIn(s.srv.URL, "customer@skerry.example", demo.Password), s.Go(s.srv.URL+"/"),
		s.Until("the areas", "document.querySelectorAll('nav[aria-label=Areas] li').length === 2"),
		s.Until("their agreements", "document.querySelectorAll('[data-agreement]').length === 2"), s.Reads("for Port authority"))
	fine()
	s.do(s.ClickOn("[data-agreement]", "Boarding gates"), s.Until("the periods before", "document.querySelectorAll('[data-period]').length === 11"))
	fine()
	s.do(s.ClickOn("[data-period] a", "report"), s.Until("the report", "document.querySelector('.paper')"), s.Reads("published"))
	fine()
	s.do(s.Go(s.srv.URL+"/reports"), s.Until("the reports", "document.querySelectorAll('tbody tr').length > 0"))
	if text := s.text("table tbody"); text == "" || !onlyOf(text, "Port authority") {
		t.Errorf("reports: %s", text)
	}
	fine()
	s.do(s.Type("/"), s.Until("the finder", "document.querySelectorAll('[role=option]').length > 0"))
	if text := s.text("[role=listbox]"); text == "" || containsAny(text, "service", "Write down", "People", "Ticket sales") {
		t.Errorf("the finder: %s", text)
	}
	fine()
	for _, path := range []string{"/services", "/agreements/gates-port-authority", "/set-up", "/checks", "/set-up/people"} {
		s.do(s.Go(s.srv.URL+path), s.Until("Standing in place of "+path, "location.pathname === '/' && document.querySelectorAll('[data-agreement]').length === 2"))
	}
}

// An administrator makes somebody a customer's, and a manager of one team's services; a
// team's manager is told what is not theirs, and nothing typed is lost.
func TestRightsAreGivenAndTold(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password), s.Go(s.srv.URL+"/set-up/people"),
		s.Fill("Name", "Gro Sand"), s.Fill("E-mail", "gro@skerry.example"), s.Choose("Role", "customer"), s.Choose("Which customer", "Freight desk"),
		s.Click("Let them sign in"), s.Until("the link", "document.querySelector('[data-link]')"),
		s.Until("whose they are", "document.querySelector('[data-person=\"gro@skerry.example\"]')?.innerText.includes('Freight desk')"))
	s.do(s.Go(s.srv.URL+"/set-up/teams"), s.Click("Add a team"), s.Fill("Name", "Night watch"), s.ClickOn("form button", "Add"),
		s.Until("the team", "document.querySelector('table')?.innerText.includes('Night watch')"))
	s.do(s.Click("sign out"), s.SignIn(s.srv.URL, "gates@skerry.example", demo.Password))
	const offers = "[...document.querySelectorAll('main button, main a')].filter((e) => e.offsetParent && /^(Edit|Retire|Add a)/.test(e.innerText.trim())).length"
	for path, want := range map[string]bool{"/services/ticket-sales": false, "/services/boarding-gates": true, "/set-up/customers": false} {
		s.do(s.Go(s.srv.URL+path), s.Until(path, "document.querySelector('[data-lane], table')"))
		if n, err := browser.Eval[int](s.Browser, offers); err != nil || n > 0 != want {
			t.Errorf("%s offers %d edits, %v", path, n, err)
		}
	}
	s.do(s.Go(s.srv.URL+"/services/ticket-sales/edit"),
		s.Fill("Runbook", "https://runbooks.skerry.example/other"), s.Click("Save as revision 2"),
		s.Reads("The service is owned by Passenger division, and your role counts for services of Terminal operations only."),
		s.Until("what was typed", "[...document.querySelectorAll('input')].some((i) => i.value === 'https://runbooks.skerry.example/other')"),
		s.Go(s.srv.URL+"/services/boarding-gates/edit"), s.Fill("Runbook", "https://runbooks.skerry.example/other"), s.Click("Save as revision 2"),
		s.Until("the service", "location.pathname === '/services/boarding-gates'"))
}

// onlyOf says whether every row of a table names somebody.
func onlyOf(table, name string) bool {
	rows := strings.Split(strings.TrimSpace(table), "\n")
	return len(rows) > 1 && !slices.ContainsFunc(rows, func(r string) bool { return !strings.Contains(r, name) })
}

func containsAny(text string, words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) })
}
