package e2e

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// fails lets a web service of the demo fail for some minutes until now, from both harbours.
func (s *stage) fails(check string, outcome measure.Outcome) {
	s.t.Helper()
	for _, place := range []string{"tolvik", "eskerby"} {
		var list []wire.Measurement
		for back := range 6 {
			list = append(list, wire.Measurement{Check: check, At: span.Of(storetest.Now().Add(-time.Duration(back) * 10 * time.Second)),
				Outcome: outcome,
				Detail:  "status 500 is not in 200-299"})
		}
		if _, err := s.srv.API.Ingest.Batch(context.Background(), place, "", list); err != nil {
			s.t.Fatal(err)
		}
	}
}

// An operator is told of trouble, takes it, writes down what they know and reviews it,
// with the keyboard as far as keys reach; what is typed survives a reload.
func TestAnIncidentFromOnsetToReview(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/incidents?span="+lastMonth()),
		s.Until("past ones", "document.querySelectorAll('[data-incident]').length > 3"), s.Go(s.srv.URL+"/incidents"),
		s.Until("the page", "document.querySelector('section[aria-label=Open]')"))
	s.fails("boarding-gates-http", measure.Failed)
	s.do(s.Until("the open one, without a reload",
		"document.querySelector('section[aria-label=Open] [data-about=service]')?.innerText.includes('Boarding gates')"))
	s.do(s.Until("that nobody is on it", "document.querySelector('h1').innerText.includes('nobody is on')"))
	s.do(s.ClickOn("section[aria-label=Open] [data-about=service]", "Boarding gates"))
	s.do(s.Until("its headline", "document.querySelector('h1')?.innerText.includes('Boarding gates has been down for')"))
	s.do(s.Until("what it costs", "document.querySelector('[data-cost=gates-port-authority]')"))
	s.do(s.Until("what follows from it", "document.querySelector('[data-lane=departure]')"))
	s.do(s.Until("that evidence is asked for", "document.querySelector('[data-evidence=http]')"))
	s.do(s.Key("a"), s.Until("who is on it", "document.querySelector('[data-on=acknowledged]')?.innerText.includes('Runa Vik')"))
	// A note that is half written is there after a reload.
	s.do(s.Key("w"), s.Until("the note's form", "document.activeElement?.tagName === 'TEXTAREA'"))
	s.do(s.Type("The controller answers with an error page."))
	s.do(s.Until("the draft to be kept", "Object.keys(sessionStorage).some((k) => k.includes('/note'))"))
	s.do(s.Go(s.srv.URL+s.path()), s.Until("the page again", "document.querySelector('[data-on=acknowledged]')"))
	s.do(s.Key("w"), s.Until("what was typed", "[...document.querySelectorAll('textarea')].some((e) => e.value.includes('error page'))"))
	s.do(s.Click("Add the note"), s.Until("it on the timeline",
		"document.querySelector('[data-happened=note]')?.innerText.includes('Runa Vik: The controller answers')"))
	s.do(s.Key("g"), s.Until("whom to give it to", "document.activeElement?.tagName === 'INPUT'"))
	s.do(s.Type("Mikkel"), s.Until("him among the choices", "[...document.querySelectorAll('[role=option]')].some((o) => o.innerText === 'Mikkel Brand')"))
	s.do(s.Type(kb.Enter), s.Until("whom it was given to",
		"document.querySelector('[data-on]')?.innerText.includes('given to Mikkel Brand')"))

	s.do(s.Click("More"), s.Until("where files go", "document.querySelector('input[type=file]')"))
	_, err := browser.Eval[bool](s.Browser, `(() => {
		const chosen = new DataTransfer(), field = document.querySelector('input[type=file]')
		chosen.items.add(new File(['What the mast said.'], 'mast.txt', { type: 'text/plain' }))
		field.files = chosen.files
		field.dispatchEvent(new Event('change', { bubbles: true }))
		return true
	})()`)
	s.do(err, s.Until("the file", "document.querySelector('section[aria-label=Files]')?.innerText.includes('mast.txt')"))

	// Somebody else takes it over, having been asked.
	address := s.path()
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+address), s.Until("who is on it",
		"document.querySelector('[data-on=acknowledged]')"))
	s.do(s.Click("Acknowledge"), s.Until("the question",
		"document.querySelector('[role=dialog]')?.innerText.includes('Runa Vik acknowledged it')"))
	s.do(s.ClickOn("[role=dialog] button", "Take it over"), s.Until("who is on it now",
		"document.querySelector('[data-on=acknowledged]')?.innerText.includes('Mikkel Brand')"))

	// It is over by itself, and reviewed.
	time.Sleep(10 * time.Second)
	s.fails("boarding-gates-http", measure.OK)
	s.do(s.Until("that it is over", "document.querySelector('[data-on=resolved]')?.innerText.includes('over by itself')"))
	s.do(s.Click("Review"), s.Choose("What it was", "network"))
	s.do(s.Click("Save the review"), s.Reads("is missing; write something"))
	s.do(s.Fill("Cause", "An address was given out twice."), s.Fill("Action", "Fixed addresses."), s.Click("Save the review"))
	s.do(s.Until("the review", "document.querySelector('[data-review=network]')?.innerText.includes('given out twice')"))
	s.do(s.Go(s.srv.URL+"/incidents"), s.Until("the list", "document.querySelector('[data-incident]')"))
	s.do(s.Fill("Search", "given out twice"), s.Until("the one that was found",
		"document.querySelectorAll('[data-incident]').length === 1 || [...document.querySelectorAll('[data-incident]')].every((e) => e.innerText.includes('Boarding gates'))"))

	// Who may only look is offered nothing.
	s.do(s.SignIn(s.srv.URL, "viewer@skerry.example", demo.Password), s.Go(s.srv.URL+address), s.Until("the page",
		"document.querySelector('[data-on=reviewed]')"))
	if buttons := s.text("main"); strings.Contains(buttons, "Add a note") || strings.Contains(buttons, "Change the review") {
		t.Errorf("a viewer is offered what they may not do: %s", buttons)
	}
}

// On a phone an operator finds what is open, and acknowledges it.
func TestAcknowledgedOnAPhone(t *testing.T) {
	s := newStage(t, true)
	s.fails("sailing-board-http", measure.Failed)
	s.do(s.Resize(390, 844), s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/"))
	s.do(s.Until("the need",
		"[...document.querySelectorAll('[data-need=down]')].some((e) => e.innerText.includes('Sailing board down') && e.innerText.includes('nobody is on it'))"))
	s.do(s.ClickOn("[data-need=down] a", "incident"), s.Until("the incident",
		"document.querySelector('h1')?.innerText.includes('Sailing board has been down')"))
	s.do(s.Click("Acknowledge"), s.Until("who is on it", "document.querySelector('[data-on=acknowledged]')?.innerText.includes('Runa Vik')"))
	if wide, err := browser.Eval[int](s.Browser, "document.documentElement.scrollWidth"); err != nil || wide > 390 {
		t.Errorf("%d pixels wide on a phone (%v)", wide, err)
	}
	s.do(s.Go(s.srv.URL+"/"), s.Until("that somebody is on it",
		"document.querySelector('[data-need=down]')?.innerText.includes('Runa Vik is on it')"))
}

// Hundreds of open incidents are found and left again.
func TestHundredsOfIncidents(t *testing.T) {
	s := newStage(t, false)
	admin := servertest.As(t, s.srv, s.srv.URL, access.Administrator)
	tolvik := admin.Create("/locations", map[string]any{"name": "Tolvik"})
	var checks []string
	for n := range 300 {
		service := admin.Create("/services", map[string]any{"name": "Quay lamp " + strings.Repeat("i",
			n%3) + string(rune('a'+n%26)) + time.Unix(int64(n), 0).UTC().Format("1504"), "kind": "supporting"})
		checks = append(checks, admin.Create("/checks", servertest.Check(service, []string{tolvik}, func(c map[string]any) {
			c["confirm"],
				c["recover"] = 1, 1
		})))
	}
	for _, outcome := range []measure.Outcome{measure.OK, measure.Failed} {
		var list []wire.Measurement
		for _, c := range checks {
			list = append(list, wire.Measurement{Check: c, At: span.Of(storetest.Now()), Outcome: outcome})
		}
		if _, err := s.srv.API.Ingest.Batch(context.Background(), tolvik, "", list); err != nil {
			t.Fatal(err)
		}
		s.do(wait("all to be judged", func() bool {
			waiting, err := s.srv.Judge.Waiting(context.Background())
			return err == nil && len(waiting) == 0
		}))
		time.Sleep(20 * time.Millisecond)
	}
	s.do(s.SignIn(s.srv.URL, "administrator@skerry.example", servertest.Password))
	s.do(s.Go(s.srv.URL+"/incidents"), s.Until("a hundred of them",
		"document.querySelectorAll('section[aria-label=Open] [data-incident]').length === 100"))
	s.do(s.ClickOn("section[aria-label=Open] button", "A hundred more"), s.Until("another hundred",
		"document.querySelectorAll('section[aria-label=Open] [data-incident]').length === 200"))
	s.do(s.Until("how many there are", "document.querySelector('h1').innerText.includes('300 incidents are open')"))
	s.do(s.Fill("Search", "lamp"), s.Until("those that match", "document.querySelector('h1').innerText.includes('match')"))
}

// path is where the browser is.
func (s *stage) path() string {
	s.t.Helper()
	path, err := browser.Eval[string](s.Browser, "location.pathname + location.search")
	s.do(err)
	return path
}
