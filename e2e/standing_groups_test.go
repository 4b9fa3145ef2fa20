package e2e

import (
	"testing"

	"kestite/demo"
	"kestite/e2e/browser"
)

// Standing is grouped by customer, the most urgent group first, and compared with the
// period before; a link keeps both.
func TestStandingByCustomer(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Choose("Grouped by", "customer"),
		s.Until("the groups", "document.querySelectorAll('main h2[data-group]').length === 4"))
	first, err := browser.Eval[string](s.Browser, "document.querySelector('[data-agreement]').dataset.agreement + ' ' + document.querySelector('main h2[data-group]').dataset.group")
	if err != nil || first != "gates-port-authority Port authority" {
		t.Errorf("the first group and its first agreement: %q, %v", first, err)
	}
	s.do(s.Click("compare with the period before"), s.Until("the figures of before", "document.querySelectorAll('[data-before]').length >= 7"))
	// The quarter that runs has no earlier one in the month before.
	if wrong, err := browser.Eval[bool](s.Browser, "Boolean(document.querySelector('[data-agreement=crew-roster] [data-before=\"on track\"]'))"); err != nil || wrong {
		t.Errorf("a running quarter is compared with itself: %v", err)
	}
	s.do(s.Go(s.srv.URL+"/?by=customer&compare=before"), s.Until("the same again", "document.querySelectorAll('[data-before]').length >= 7 && document.querySelectorAll('main h2[data-group]').length === 4"))
}
