package e2e

import (
	"strings"
	"testing"

	"kestite/demo"
	"kestite/e2e/browser"
)

// A credit that a supplier owes is claimed and paid; what is typed survives a reload, what
// is too much is said at its field, a customer sees what is theirs and enters nothing.
func TestACreditIsSettled(t *testing.T) {
	s := onItsDay(t)
	row := "[data-ledger=from-supplier] [data-state=due]"
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/reports"), s.ClickOn("main a", "Credits"),
		s.Until("a credit that was not claimed", "document.querySelector('"+row+"')"), s.ClickOn(row+" button", ""),
		s.Reads("% of the fee of 18 750.00 NOK is 1 875.00 NOK"), s.Fill("Reference", "CLAIM-12"), s.Fill("Amount", "1 900"),
		s.Click("Enter it"), s.Reads("A number, such as"), s.Fill("Amount", "1900"), s.Click("Enter it"), s.Reads("more than can be claimed: 1875.00 NOK"),
		s.Go(s.srv.URL+"/reports/credits"), s.Until("it again", "document.querySelector('"+row+"')"), s.ClickOn(row+" button", ""),
		s.Until("what was typed", "[...document.querySelectorAll('input')].some((i) => i.value === 'CLAIM-12')"),
		s.Fill("Amount", "1875,00"), s.Click("Enter it"), s.Until("the claim", "document.querySelector('[data-entry=claim]')"), s.Reads("CLAIM-12"),
		s.Click("Enter it"), s.Until("the payment", "document.querySelector('[data-entry=payment]')"), s.Reads("0.00 NOK open of 3 750.00 due"),
	)
	if text := s.text("[data-ledger=from-supplier]"); strings.Contains(text, "not claimed") || strings.Count(text, "settled") != 2 {
		t.Errorf("afterwards: %s", text)
	}
	s.do(s.ClickOn("[data-entry=payment] button", "take back"), s.Reads("taken back"), s.Reads("1 875.00 NOK open of 3 750.00 due"))

	s.do(s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.SignIn(s.srv.URL, "customer@skerry.example", demo.Password), s.Go(s.srv.URL+"/reports/credits"), s.Reads("Boarding gates"),
		s.ClickOn("[data-ledger=to-customer] tbody button", ""))
	if seen, err := browser.Eval[bool](s.Browser, "Boolean(document.querySelector('[data-ledger=from-supplier], main form'))"); err != nil || seen {
		t.Errorf("a customer sees what suppliers owe, or is offered to enter something: %v", err)
	}
}
