package e2e

import (
	"testing"
	"time"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/store/storetest"
)

// lastMonth is the name of the demo's last finished month.
func lastMonth() string {
	loc, err := time.LoadLocation(demo.Zone)
	if err != nil {
		panic(err)
	}
	now := storetest.Now().In(loc)
	return now.AddDate(0, 0, -now.Day()).Format("2006-01")
}

// A month is closed by three people: an operator says what is known and proposes an
// adjustment, an approver approves it, the manager freezes, drafts and publishes.
func TestAMonthIsClosed(t *testing.T) {
	s := onItsDay(t)
	page := s.srv.URL + "/close/gates-port-authority?period=" + "2026-10"
	as := func(who string) {
		t.Helper()
		s.do(s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
			s.SignIn(s.srv.URL, who+"@skerry.example", demo.Password))
	}
	s.do(
		s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/close"),
		s.Until("the closes", "document.querySelector('[data-close=gates-port-authority]')"), s.Reads("can be frozen"),
		s.ClickOn("[data-close=gates-port-authority] a", "Boarding gates"), s.Reads("What caused the outage of Boarding gates"),
	)
	before := s.text("[data-account]")

	// An outage of which the customer was the cause: not here and now, but by two people.
	s.do(
		s.Fill("What is known of it", "The port turned the gates' power off for its own drill."),
		s.Choose("Cause", "the customer"), s.ClickOn("label", "Propose an adjustment"),
		s.Until("what it would do", "document.querySelector('[data-would]')?.innerText.includes('then')"),
		s.Until("both figures", "document.querySelector('[data-account]').innerText.split('99.').length > 4"),
		s.Fill("Reference", "PORT-88"),
	)
	// A half-filled answer survives a reload.
	s.do(s.Go(page), s.Until("what was typed", "document.querySelector('textarea')?.value.includes('its own drill')"))
	s.do(s.Click("Propose it"), s.Until("that it waits", "document.querySelector('[data-question=adjustment]')"))
	if s.text("[data-account]") != before {
		t.Errorf("a proposal changes the account: %s", s.text("[data-account]"))
	}
	s.do(s.ClickOn("[data-question=adjustment]", "adjustment of"), s.Reads("Somebody else decides"))
	if can, err := browser.Eval[bool](s.Browser, "[...document.querySelectorAll('button')].some((b) => b.innerText === 'Approve' || b.innerText === 'Freeze the account')"); err != nil || can {
		t.Errorf("an operator is offered to approve or to freeze: %v", err)
	}

	as("approver")
	s.do(
		s.Go(s.srv.URL+"/you/inbox"), s.Reads("Approve an adjustment? Boarding gates"), s.Go(page),
		s.ClickOn("[data-question=adjustment]", "adjustment of"), s.Reads("its own drill"), s.Fill("What you say to it", "Their letter is filed."),
		s.Click("Approve"), s.Until("the adjustment", "document.querySelector('[data-adjustment=approved]')"),
		s.Until("no outage of that day left", "document.querySelectorAll('[data-question=outage]').length === 2"),
	)

	as("manager")
	s.do(
		s.Go(page), s.Until("one question", "document.querySelectorAll('[data-question=incident]').length === 1"),
		s.ClickOn("[data-question=incident]", ""), s.Fill("What is known of it", "It was the port's drill."), s.Click("Answer, next question"), s.Reads("What becomes of the objection"),
		s.Fill("What is known of it", "It is answered on the report itself."), s.Click("Answer, next question"),
		s.Reads("nothing is open"), s.Click("Freeze the account"), s.Until("the question", "document.querySelector('[role=dialog]')"),
		s.ClickOn("[role=dialog] button", "Freeze the account"), s.Reads("the account says the same"),
		s.Click("Draft the report"), s.Reads("a draft, not published"), s.Reads("closed and frozen by Mikkel Brand"),
		s.Reads("counts as excused"), s.Reads("reference: PORT-88"), s.Reads("approved by"), s.Reads("The gate controller took an address"),
	)
	s.do(
		s.Click("Publish"), s.Until("the question", "document.querySelector('[role=dialog]')"), s.ClickOn("[role=dialog] button", "Publish"),
		s.Reads("SHA-256 of content and inputs"),
		s.Go(s.srv.URL+"/close"), s.Until("that it is published", "document.querySelector('[data-close=gates-port-authority]')?.innerText.includes('published')"),
	)
	// All that have nothing open are frozen by one click.
	all, err := browser.Eval[string](s.Browser, "[...document.querySelectorAll('button')].find((b) => /^Freeze \\d+ agreements$/.test(b.innerText))?.innerText ?? ''")
	s.do(err, s.Click(all), s.Until("them frozen", "'Freeze ' + [...document.querySelectorAll('[data-close]')].filter((e) => e.innerText.includes('frozen ')).length + ' agreements' === '"+all+"'"))
}

// Somebody else's list of outages is compared with the account: what differs is named,
// with what it is here; a line that cannot be read is told and harms no other.
func TestAListOfOutagesIsCompared(t *testing.T) {
	s := newStage(t, true)
	month := lastMonth()
	s.do(
		s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/close/gates-port-authority?period="+month),
		s.Until("the close", "document.querySelector('[data-account]')"), s.ClickOn("summary", "Compare with"),
		s.Fill("Begin, end and what it was, a line each; or an iCalendar", month+"-01 03:00, "+month+"-01 03:25, Gate 3 stood\nno time, "+month+"-02 04:00"), s.Click("Compare"),
		s.Until("what differs", "document.querySelector('[data-difference=theirs]')"), s.Reads("Gate 3 stood"), s.Reads("line 2: begin"), s.Reads("Down by their list: 25 min"),
		s.Until("what they do not list", "document.querySelector('[data-difference=ours]')"),
		s.ClickOn("[data-difference=theirs] a", ""), s.Until("the measurements then", "location.pathname === '/services/boarding-gates'"),
	)
}
