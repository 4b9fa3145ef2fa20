package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/servertest"
	"kestite/standin"
)

// tabTo presses the tabulator until what has the focus, e, is what is meant, as a person
// without a mouse would.
func (s *stage) tabTo(what, meant string) {
	s.t.Helper()
	const most = 200
	before := ""
	for range most {
		s.do(s.Type(kb.Tab))
		at, err := browser.Eval[string](s.Browser, fmt.Sprintf(`(() => {
			const e = document.activeElement
			if (%s) return ''
			const box = e.getBoundingClientRect()
			return e.tagName + ' ' + (e.innerText || e.getAttribute('aria-label') || e.name || '').slice(0, 60) + (box.width === 0 ? ' (unseen)' : '')
		})()`, meant))
		s.do(err)
		if at == "" {
			return
		}
		before = at
	}
	s.t.Fatalf("%d times the tabulator did not come to %s; it was at %s last", most, what, before)
}

// tabToText is tabTo what reads so.
func (s *stage) tabToText(text string) {
	s.t.Helper()
	s.tabTo(text, fmt.Sprintf("(e.innerText || '').trim() === %q", text))
}

// tabToField is tabTo the field of a label.
func (s *stage) tabToField(label string) {
	s.t.Helper()
	s.tabTo("the field "+label, fmt.Sprintf("[...(e.labels ?? [])].some((l) => l.innerText.replace('*', '').trim() === %q)", label))
}

// enter follows a link, or presses a button.
func (s *stage) enter() { s.do(s.Enter()) }

// replace types in place of what stands in the field that has the focus.
func (s *stage) replace(text string) {
	s.t.Helper()
	s.do(s.Press(kb.Control, "a"), s.Type(text))
}

// Everything that the README leads through, without a mouse.
func TestEveryJourneyByKeyboard(t *testing.T) {
	s := newStage(t, true)
	web := &standin.Web{ID: "pier", Name: "Pier kiosk", Addr: "127.78.0.21:8478", Text: "Kiosk open"}
	s.do(web.Set(standin.OK))
	t.Cleanup(func() { web.Set(standin.Refused) })
	admin := servertest.Anonymous(t, s.srv.URL)
	admin.Must(http.MethodPost, "/session", map[string]any{"email": "admin@skerry.example", "password": demo.Password}, nil)
	var token struct{ Token string }
	admin.Must(http.MethodPost, "/locations/"+admin.Create("/locations", map[string]any{"name": "Testvik"})+"/agents", nil, &token)
	s.agent(token.Token)

	signIn := func(email string) {
		t.Helper()
		s.do(s.Until("the way in", "document.activeElement?.name === 'email' || document.querySelector('form')"))
		s.tabToField("E-mail")
		s.replace(email)
		s.tabToField("Password")
		s.do(s.Type(demo.Password))
		s.enter()
	}

	// 1 Standing, and what needs me.
	s.do(s.Go(s.srv.URL + "/sign-in"))
	signIn("manager@skerry.example")
	s.do(s.Until("Standing", "document.querySelector('[data-agreement]')"))
	s.tabToText("Skip to the content")

	// 3 From an address to a measured service.
	s.do(s.Type("2"))
	s.do(s.Until("Services", "location.pathname === '/services' && document.querySelector('[data-service]')"))
	s.tabToText("Describe a service")
	s.enter()
	s.do(s.Until("the form", "location.pathname === '/services/new' && document.activeElement?.name === 'name'"))
	s.do(s.Type("Pier kiosk"))
	s.tabToField("Address")
	s.do(s.Type("http://127.78.0.21:8478/"))
	for _, l := range []string{"Eskerby", "Tolvik"} { // the demo's own locations have no agent here
		s.tabToField(l)
		s.do(s.Type(" "))
	}
	s.tabToText("See what answers")
	s.enter()
	s.do(s.Until("what answers", "document.querySelector('[data-candidate=http] .word-up')"))
	s.do(s.Until("all of it", "[...document.querySelectorAll('button')].some((b) => b.innerText === 'Start measuring' && !b.disabled)"))
	s.tabTo("how often", "e.getAttribute('role') === 'combobox' && e.innerText === '1 min'")
	s.do(s.Type(kb.ArrowUp)) // opens it
	s.do(s.Until("the choices", "document.querySelector('[role=listbox]')"))
	s.do(s.Type(kb.Home))
	s.enter()
	s.do(s.Until("the choice made", "!document.querySelector('[role=listbox]')"))
	s.tabToField("An availability was promised, or is aimed at")
	s.do(s.Type(" "))
	s.tabToText("Start measuring")
	s.enter()
	s.do(s.Until("it to be up", "document.querySelector('.head .word-up')"))

	const span = "/api/v1/services/:id/span?*"
	// 2 It breaks; explain it, moment by moment, closer and wider.
	s.do(web.Set(standin.Wrong))
	s.do(s.Type("1"))
	s.do(s.Until("Pier kiosk to be down",
		"[...document.querySelectorAll('[data-need=down]')].some((e) => e.innerText.includes('Pier kiosk down'))"))
	s.tabTo("its explanation", "e.innerText === 'explain' && e.closest('[data-need=down]')?.innerText.includes('Pier kiosk')")
	s.do(s.Late(span, 3*time.Second)) // what the page knew before the failure is still shown at first
	s.enter()
	s.do(s.Until("which rule", "document.querySelector('aside .rules')"))
	s.tabTo("the strips", "e.getAttribute('role') === 'slider'")
	s.do(s.Type(kb.ArrowDown))
	s.do(s.Until("the strip below", "document.activeElement.dataset.strip === 'Pier kiosk, its state'"))
	spoken := func() string {
		t.Helper()
		text, err := browser.Eval[string](s.Browser, "document.activeElement.getAttribute('aria-valuetext')")
		s.do(err)
		return text
	}
	s.do(s.Type(kb.End))
	s.do(s.Until("its end", "document.activeElement.getAttribute('aria-valuetext').startsWith('down, ')"))
	s.do(s.Late(span, 0))
	if text := spoken(); !strings.HasSuffix(text, ", "+demo.Zone) {
		t.Errorf("a strip speaks of %q", text)
	}
	s.do(s.Type(kb.ArrowLeft))
	s.do(s.Until("the change before", "Date.parse(new URLSearchParams(location.search).get('at')) > 0"))
	at := spoken()
	s.do(s.Type(kb.PageDown))
	s.do(s.Until("a tenth earlier", fmt.Sprintf("document.activeElement.getAttribute('aria-valuetext') !== %q", at)))
	s.do(s.Type(kb.Home))
	s.do(s.Until("its beginning",
		"Number(document.activeElement.getAttribute('aria-valuenow')) === Number(document.activeElement.getAttribute('aria-valuemin'))"))
	s.do(s.Type("+"))
	s.do(s.Until("half of it", "location.search.includes('T')"))
	s.do(s.Type("-"))
	if stops, err := browser.Eval[int](s.Browser, "document.querySelectorAll('[role=slider][tabindex=\"0\"]').length"); err != nil ||
		stops != 1 {
		t.Errorf("the strips are %d stops of the tabulator, %v", stops, err)
	}
	s.do(web.Set(standin.OK))

	// 4 Other clauses, tried and left.
	s.do(s.Type("6"))
	s.do(s.Until("Agreements", "location.pathname === '/agreements' && document.querySelector('.entry')"))
	s.tabTo("an agreement", "e.matches('a.entry') && e.innerText.startsWith('Sailing board')")
	s.enter()
	s.do(s.Until("its form", "document.querySelector('[data-summary=own]')"))
	s.tabToField("Target")
	s.replace("99.99")
	s.do(s.Until("the periods under it", "document.querySelector('[data-summary=what-if]')"))
	s.tabToText("Save as revision 2")
	s.do(s.Type("2")) // a digit does nothing where somebody fills in a form
	s.do(s.Press(kb.Control, "k"))
	s.do(s.Until("the finder", "document.querySelector('[role=dialog] input')"))
	s.do(s.Type("reports"))
	s.do(s.Until("the area",
		"[...document.querySelectorAll('[role=option]')].some((o) => o.innerText.startsWith('Reports') && o.ariaSelected === 'true')"))
	s.enter()
	s.do(s.Reads("Leave without saving?"))
	s.do(s.Until("the harmless answer to be the one that enter gives", "document.activeElement.innerText === 'Leave it'"))
	s.tabToText("Leave without saving")
	s.enter()

	// 5 A report, drafted, read and published.
	s.do(s.Until("Reports", "location.pathname === '/reports' && document.querySelector('table')"))
	s.tabToField("Agreement")
	s.replace("Ticket sales, Pass")
	s.do(s.Until("the one", "document.querySelectorAll('[role=option]').length === 1"))
	s.enter()
	s.tabToText("Draft the report")
	s.enter()
	s.do(s.Reads("a draft, not published"))
	s.tabToText("Publish")
	s.enter()
	s.do(s.Until("the question", "document.querySelector('[role=dialog]')"))
	s.do(s.Until("the harmless answer to be the one that enter gives", "document.activeElement.innerText === 'Leave it'"))
	s.tabToText("Publish")
	s.enter()
	s.do(s.Reads("SHA-256 of content and inputs"))
	s.tabTo("the document", "e.matches('a[href*=\"format=pdf\"]')")

	// 6 Out, and in again as a customer.
	s.tabToText("sign out")
	s.enter()
	signIn("customer@skerry.example")
	s.do(s.Until("what was promised to them", "document.querySelector('[data-agreement]')"))
	s.tabTo("one of them", "e.closest('[data-agreement]') && e.matches('a')")
	s.enter()
	s.do(s.Until("its periods", "location.pathname.startsWith('/promised/') && document.querySelector('[data-period]')"))
}
