package e2e

import (
	"path/filepath"
	"testing"

	"kestite/demo"
)

// The customer's objection is answered by a revision, which a customer who wants that gets
// only once a second person approved it.
func TestAReportIsReviewed(t *testing.T) {
	s := newStage(t, true)
	as := func(who string) {
		t.Helper()
		s.do(s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
			s.SignIn(s.srv.URL, who+"@skerry.example", demo.Password))
	}
	// The objection of the port authority.
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Reads("an objection to the report of"), s.ClickOn(".needs a", "answer"),
		s.Until("the objection", "document.querySelector('[data-note=objection][data-state=open]')"), s.Reads("Gate 3 stood still"),
		s.Click("The report stands"), s.Reads("say why, with what shows it"),
		s.Fill("The answer, with what shows it", "The gate answered every probe; gate 3 alone is not the service."), s.Click("The report stands"),
		s.Until("that it stands", "document.querySelector('[data-note=objection][data-state=stands]')"),
	)
	// A report of the freight desk is approved by a second person.
	s.do(
		s.Go(s.srv.URL+"/reports"), s.Fill("Agreement", "Freight booking"), s.ClickOn("[role=option]", "Freight booking, Freight desk"), s.Click("Draft the report"), s.Reads("Not approved."),
		s.Until("that it cannot be published", "[...document.querySelectorAll('button')].find((b) => b.innerText === 'Publish')?.disabled"),
		s.Fill("A comment on the draft", "Please look at the outage of the 12th."), s.Click("Comment"), s.Until("the comment", "document.querySelector('[data-note=comment]')"),
	)
	as("approver")
	s.do(
		s.Go(s.srv.URL+"/you/inbox"), s.Reads("Approve a report? Freight booking"), s.Go(s.srv.URL+"/reports"), s.ClickOn("tbody a", "Freight booking"),
		s.Reads("Please look at the outage"), s.Click("Approve it as it reads"), s.Until("the approval", "document.querySelector('[data-approval=true]')"),
	)
	as("manager")
	s.do(
		s.Go(s.srv.URL+"/you/inbox"), s.Reads("Approved: Freight booking"), s.Go(s.srv.URL+"/reports"), s.ClickOn("tbody a", "Freight booking"),
		s.Reads("Approved by Eir Moen"), s.Click("Publish"), s.ClickOn("[role=dialog] button", "Publish"), s.Until("that it is published", "document.querySelector('[data-seal]')"),
	)
	as("customer")
	s.do(
		s.Go(s.srv.URL+"/reports"), s.ClickOn("tbody a", "Boarding gates"), s.Reads("The gate answered every probe"),
		s.Click("Object to a line of it"), s.Choose("The line", "Down"), s.Fill("What is wrong with it, and what shows that", "Our log says otherwise."), s.Click("Object"),
		s.Until("the objection", "document.querySelector('[data-note=objection][data-state=open]')"), s.Click("take it back"),
		s.Until("that it is taken back", "document.querySelector('[data-state=withdrawn]')"),
	)
}

// A report is read by a link without an account, until it is revoked.
func TestAReportIsReadByALink(t *testing.T) {
	s := newStage(t, true)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/reports"), s.ClickOn("tbody a", "Boarding gates"),
		s.ClickOn("summary", "Links for readers"), s.Fill("For whom", "The auditor"), s.Click("Make a link"), s.Until("the link", "document.querySelector('[data-made-link]')"),
	)
	link := s.text("[data-made-link] code")
	dir := t.TempDir()
	s.do(
		s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.Go(link), s.Reads("The target of 99.95 %"), s.Reads("of your reports, code"), s.Downloads(dir), s.Click("Workbook"),
	)
	s.do(wait("the download", func() bool {
		found, _ := filepath.Glob(dir + "/*.xlsx")
		return len(found) == 1
	}))
	// Its reader objects by it.
	s.do(
		s.Click("Object to a line of it"), s.Choose("The line", "Down"), s.Click("Object"), s.Reads("Say something"),
		s.Fill("What is wrong with it, and what shows that", "Our log says otherwise."), s.Click("Object"), s.Reads("It is being looked at."),
	)
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/reports"), s.ClickOn("tbody a", "Boarding gates"),
		s.ClickOn("summary", "Links for readers"), s.Reads("opened 4 times"), s.Click("revoke"), s.Until("that it is revoked", "document.querySelector('[data-link=revoked]')"),
		s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"), s.Go(link), s.Reads("not good any more"),
	)
}
