package e2e

import (
	"regexp"
	"testing"

	"kestite/demo"
	"kestite/standin"
)

// A list of addresses becomes measured services: what answers is picked, what
// does not is left out, and bad lines are named.
func TestManyAtOnce(t *testing.T) {
	s := newStage(t, true)
	web := &standin.Web{ID: "pier", Name: "Pier kiosk", Addr: "127.78.0.12:8479", Text: "Kiosk open"}
	s.do(web.Set(standin.OK))
	t.Cleanup(func() { web.Set(standin.Refused) })
	s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password))
	s.location("Manyvik")
	const field = "One service a line: name, address, target in percent if one was promised"
	s.do(
		s.Go(s.srv.URL+"/services/many"),
		s.Fill(field, "Kiosk, http://127.78.0.12:8479/, 199"), s.Reads("Line 1: “199” is no percentage between 0 and 100."),
		s.Fill(field, "name, address, target\nKiosk, http://127.78.0.12:8479/, 99.9\n\"Scales, old\"; 127.78.0.12:8479\n127.78.0.77"),
	)
	for _, l := range []string{"Tolvik", "Eskerby"} { // the demo's own locations have no agent here
		s.do(s.Click(l))
	}
	s.do(
		s.Click("See what answers at 3 addresses"),
		s.Until("all trials", "[...document.querySelectorAll('button')].some((e) => e.innerText === 'Start measuring 3 services' && !e.disabled)"),
		s.Until("what does not answer to be left out", "[...document.querySelectorAll('[data-line=\"4\"] input')].filter((e) => e.checked).length === 2"),
		s.Reads("suggested: degraded above"), s.Reads("99.9 % allows"),
		s.Click("Start measuring 3 services"), s.Reads("3 are measured now."),
		s.ClickOn("a", "See them"), s.Reads("Kiosk"), s.Reads("Scales, old"), s.Reads("127.78.0.77"),
	)
}

// A report-in check is defined, gets its address, and hears from another system.
func TestReportInFromAPage(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/checks/new?service=crew-roster"),
		s.Fill("Name", "Roster copy"), s.Choose("Kind", "report-in"),
		s.Fill("Numbers that come with a report", "rows, files"),
		s.Click("Start measuring"), s.Reads("Nobody can report in to it yet."),
		s.Click("Make its address"), s.Reads("It is shown this once."),
	)
	url := regexp.MustCompile(`http://\S+/in/kesr_[^'? ]+`).FindString(s.text("code.command"))
	if url == "" {
		t.Fatalf("no address on the page: %s", s.text("code.command"))
	}
	s.call(url+"?rows=7", 200)
	s.call(url+"?sheep=7", 422)
	s.call(url[:len(url)-1], 404)
	s.do(
		s.Go(s.srv.URL+"/services/crew-roster?at=now"),
		s.Until("the report on the page", "document.querySelector('aside')?.innerText.includes('first number')"),
	)
}

// Pairs are counted before they are made, and made once.
func TestPairsFromAPage(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/set-up/pairs"), s.Choose("Of which service", "Quay network"),
		s.Reads("1 pair, 1 checks, 1 of them new."),
		s.Click("from both ends"), s.Reads("1 pair, 2 checks, 2 of them new."),
		s.Click("Measure 2 more"), s.Reads("2 checks were made."), s.Reads("Nothing new to measure"),
	)
}

// Several checks are changed together, each as a revision, and changed back.
func TestChecksChangedTogether(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/checks"), s.Until("the checks", "document.querySelectorAll('[data-check]').length > 10"),
		s.Fill("Find by name, service, kind, target or location", "quay ping"),
		s.Until("the two switches", "document.querySelectorAll('[data-check]').length === 2"),
		s.ClickOn("[data-check] input", ""), s.Reads("Change this check"),
	)
	const every = "document.querySelector('[data-check=quay-switch-eskerby]')?.innerText.includes('"
	s.do(
		s.ClickOn("thead input", ""), s.Reads("Change these 2 checks"),
		s.Fill("Every", "1"), s.Click("Change 2"), s.Reads("0 changed, 2 not"), s.Reads("interval_s: it is at least 5"),
		s.Fill("Every", "120"), s.Fill("Why", "calmer"), s.Click("Change 2"), s.Reads("2 changed."),
		s.Until("the new interval", every+"2 min')"),
		s.ClickOn("button", "undo"), s.Until("the old interval", every+"30 s')"),
	)
}
