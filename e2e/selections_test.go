package e2e

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"kestite/core/measure"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/demo"
	"kestite/server/store/storetest"
)

// pick chooses an entry of a list that one types in.
func (s *stage) pick(label, text string) {
	s.t.Helper()
	s.do(s.Fill(label, text), s.Until("the choice "+text, "document.querySelectorAll('[role=option]').length === 1"), s.Type(kb.ArrowDown), s.Enter())
}

// A manager keeps a filter under a name, sees what it takes before saving, and uses it: in
// a list, to plan work on all of it, and for a plan that tells of it in a digest.
func TestSelections(t *testing.T) {
	s := onItsDay(t)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/set-up/selections"))
	s.do(s.Click("Add a selection"), s.Fill("Name", "For passengers"), s.ClickOn("form button", "Add"), s.Reads("says no condition"))
	s.pick("Tag of the service", "passengers")
	s.do(s.Until("what it takes", "document.querySelector('[data-takes]')?.innerText.startsWith('It takes 4 services now: ')"))
	s.pick("Its kind", "supporting")
	s.do(s.Until("what it takes now", "document.querySelector('[data-takes]')?.innerText === 'It takes 1 service now: Customer messages.'"))
	s.do(s.ClickOn("form button", "Add"), s.Until("it in the list", "document.querySelector('[data-selection=for-passengers]')?.innerText.includes('Services of supporting services tagged passengers')"))
	s.do(s.ClickOn("[data-selection=for-passengers] a", "1 service"))
	s.do(s.Until("the list", "location.search.includes('selection=for-passengers') && document.querySelectorAll('[data-service]').length === 1"))
	s.do(s.Choose("In the selection", "Harbour network"), s.Until("another", "document.querySelectorAll('[data-service]').length === 5"))

	s.do(s.Go(s.srv.URL+"/calendar/plan"), s.Until("the form", "document.querySelector('form[aria-label=\"Plan work\"]')"))
	s.pick("On", "the selection harbour")
	s.do(s.Until("all of it chosen", "document.querySelectorAll('form[aria-label=\"Plan work\"] .MuiChip-root').length === 5"))

	s.do(s.Go(s.srv.URL+"/notices/plans/new"), s.Until("the form", "document.querySelector('[data-step]')"))
	s.do(s.Fill("Name", "Messages, summed up"))
	s.pick("Tell", "Operations")
	s.do(s.Type(kb.Tab), s.Choose("It is for", "all incidents that meet the conditions"), s.Choose("In the selections", "For passengers"), s.Type(kb.Escape))
	s.do(s.Click("Tell within some hours"), s.Choose("What is due outside them", "stands in the next digest"))
	s.do(s.Fill("Digests at", "25:00"), s.Click("Add the plan"), s.Reads("25:00"))
	s.do(s.Fill("Digests at", "07:30, 12:00"))
	s.do(s.Until("what it says", `(() => { const says = document.querySelector('[data-sentences]').innerText
		return says.includes('For all incidents in the selection For passengers.') && says.includes('stands in one message at 07:30 and 12:00 every day, Europe/Oslo.') })()`))
	s.do(s.Click("Add the plan"), s.Until("it made", "location.pathname === '/notices/plans/messages-summed-up'"))
	s.do(s.Go(s.srv.URL + "/notices/rehearsal?what=service%20customer-messages&when=2026-11-29%2003:10"))
	s.do(s.Until("who would be told by a digest", `[...document.querySelectorAll('[data-line=Operations]')].some((l) => l.innerText.includes('in the digest at') && l.innerText.includes('Messages, summed up'))`))
}

// onDuty is the address of who of the harbours' duty is on duty, who is another one each week.
func (s *stage) onDuty() string {
	s.t.Helper()
	ctx := context.Background()
	snap, err := s.srv.API.Definitions.Snapshot(ctx)
	s.do(err)
	p, err := s.srv.API.Store.Person(ctx, notice.OnDuty(snap.Pools["duty"].Current().Spec, span.Of(storetest.Now()))[0])
	s.do(err)
	return p.Email
}

// What is for me shows on whatever page I have open, and can be heard.
func TestNoticesOnThePage(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, s.onDuty(), demo.Password), s.Go(s.srv.URL+"/you"))
	s.do(s.Choose("A sound for", "what is critical"), s.Click("Let me hear it"), s.Until("whether it could be heard", "document.querySelector('main [role=status]')?.innerText.includes('That was it')"))
	s.do(s.Go(s.srv.URL+"/agreements"), s.Until("the page", "document.querySelector('.entry')"))
	s.fails("boarding-gates-http", measure.Failed)
	s.do(s.Until("what is new", "document.querySelector('[data-news]')?.innerText.includes('Boarding gates down')"))
	s.do(s.Until("that it rang once", "Number(localStorage.getItem('kestite-rung')) > 0"))
	s.do(s.ClickOn("[data-news] a", "[critical] Boarding gates"), s.Until("the incident", "location.pathname.startsWith('/incidents/') && !document.querySelector('[data-news]')"))
}
