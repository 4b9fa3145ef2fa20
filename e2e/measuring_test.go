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

// A plan of pairs is counted before it is saved, keeps its checks, and is run at once.
func TestPairPlanFromAPage(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/set-up/pairs"), s.Reads("1 pair, 4 checks, every 1 min"), s.Until("what reaches whom", "document.querySelectorAll('[data-plan=harbours] tbody th').length === 2"),
		s.Click("Plan pairs"), s.Fill("Name", "Crossing"), s.Fill("Of which service", "Crew"), s.ClickOn("[role=option]", "Crew roster"),
		s.Reads("1 pair, 1 check."), s.Reads("1 new"),
		s.Click("from both ends"), s.Reads("1 pair, 2 checks."),
		s.ClickOn("button", "do it differently"), s.Click("ping"), s.Reads("1 pair, 4 checks."),
		s.Choose("Every", "30 s"),
		s.Click("Start measuring"),
		s.Until("the plan", "document.querySelector('[data-plan=crossing]')?.innerText.includes('1 pair, 4 checks')"),
		s.ClickOn("[data-plan=crossing] button", "Run it now"),
		s.Until("the run", "document.querySelector('[data-plan=crossing] [role=status]')?.innerText.includes('of 4 measured')"),
	)
	s.do(
		s.Go(s.srv.URL+"/checks"), s.Fill("Find by name, service, kind, target or location", "crew roster ping to"),
		s.Until("the kept checks", "document.querySelectorAll('[data-check]').length === 2"),
		s.ClickOn("[data-check] a", ""), s.Reads("The pair plan crossing keeps this check"),
	)
}

// Defaults of a service reach the checks that follow them; a check says where
// each value comes from.
func TestDefaultsFromAPage(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/checks/ticket-sales-http"), s.Reads("From Ticket sales."),
		s.Fill("Failures to believe it", "5"), s.Reads("Its own; Ticket sales says 2."),
		s.ClickOn("[data-origin=own] button", "follow"),
		s.Until("the value of the service", "document.querySelector('input[name=confirm]').value === '2'"),
		s.Go(s.srv.URL+"/services/ticket-sales/edit"), s.Reads("checks follows: Ticket sales page"),
		s.Fill("Failures to believe it", "3"), s.Reads("Saving opens a new revision of Ticket sales page."),
		s.Click("Save as revision 2"), s.Until("the service", "location.pathname === '/services/ticket-sales'"),
		s.Go(s.srv.URL+"/checks/ticket-sales-http"),
		s.Until("the new value", "document.querySelector('input[name=confirm]')?.value === '3'"), s.Reads("the defaults of its service changed"),
	)
}

// A rolling rule is refused in the form as soon as its window holds too few.
func TestRollingRuleFromAPage(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/checks/quay-switch-eskerby"),
		s.Choose("A failure is believed", "when so many runs fail within a window, of all locations together"),
		s.Reads("hold 5 runs a location, × 2 locations = 10; 4 of them must fail."),
		s.Fill("Within", "30"), s.Reads("The window is too short"),
		s.Click("Save as revision 2"), s.Reads("a window of 30 s holds too few samples"),
		s.Fill("Within", "300"), s.Click("Save as revision 2"), s.Until("the service", "location.pathname === '/services/quay-network'"),
	)
}

// Several checks are changed together, each as a revision, and changed back.
func TestChecksChangedTogether(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password),
		s.Go(s.srv.URL+"/checks"), s.Until("the checks", "document.querySelectorAll('[data-check]').length > 10"),
		s.Fill("Find by name, service, kind, target or location", "quay switch"),
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
