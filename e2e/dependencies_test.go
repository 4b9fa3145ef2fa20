package e2e

import (
	"testing"

	"github.com/chromedp/chromedp/kb"

	"kestite/core/measure"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/store/storetest"
)

// The picture of what needs what follows states without moving anything; what a service
// needs is changed in its place, and a circle is refused with the circle.
func TestThePictureOfDependencies(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/services"), s.Click("Dependencies"))
	s.do(s.Until("the picture", "document.querySelector('[data-node=departure]') && document.querySelector('[data-junction]')?.textContent === '1 of 2'"))
	where := func() string {
		t.Helper()
		out, err := browser.Eval[string](s.Browser, `[...document.querySelectorAll('[data-node] rect:first-of-type')].map((r) => r.getAttribute('x') + ' ' + r.getAttribute('y')).join()`)
		s.do(err)
		return out
	}
	before := where()
	s.fails("boarding-gates-http", measure.Failed)
	s.do(s.Until("what it takes with it", `document.querySelector('[data-node="boarding-gates"]')?.dataset.state === 'down' && document.querySelector('[data-node=departure]')?.dataset.state === 'down'
		&& document.querySelector('h1')?.innerText === 'Boarding gates is down and takes Departure check-in with it.'`))
	if after := where(); after != before {
		t.Errorf("a state moved what is drawn: %s, then %s", before, after)
	}
	s.do(s.ClickOn("[data-node='quay-network']", ""), s.Until("it", "document.querySelector('[data-picked=quay-network]')?.innerText.includes('1 of 2: Uplink east, Uplink west')"))
	s.do(s.Click("Change what it needs"), s.Fill("Group 1", "Departure"), s.Until("the choice", "document.querySelectorAll('[role=option]').length === 1"), s.Type(kb.ArrowDown), s.Enter())
	s.do(s.Click("Save as revision 2"), s.Reads("services would depend on each other in a circle: departure depends on boarding-gates, which depends on quay-network"))
	s.do(s.Click("Take out"), s.Click("Save as revision 2"), s.Until("that it needs nothing", "document.querySelector('[data-picked=quay-network]')?.innerText.includes('Nothing that is described here')"))

	s.do(s.Click("only what hangs together with it"), s.Until("that alone", "document.querySelector('[data-around=quay-network]') && !document.querySelector('[data-node=\"ticket-sales\"]')"))
	s.do(s.Click("All services"), s.Until("all again", "document.querySelector('[data-node=\"ticket-sales\"]')"))
	s.do(s.Click("As a table"), s.Until("the table", "document.querySelector('[data-needs=departure]')?.innerText.includes('Boarding gates, Sailing board')"))
	s.do(s.Go(s.srv.URL+"/services/dependencies?at="+storetest.Now().AddDate(0, 0, -7).Format("2006-01-02")+"%2012:00"), s.Until("as it was then", "document.querySelector('[data-junction]') && document.querySelector('.lead')?.innerText.includes('as it was on')"))

	// By keys: one stop, and arrows from one to the other.
	s.do(s.Go(s.srv.URL+"/services/dependencies?pick=departure"), s.Until("the picture", "document.querySelector('[data-node=departure]')"))
	stops, err := browser.Eval[int](s.Browser, "(document.querySelector('[data-node=departure]').focus(), document.querySelectorAll('[data-node][tabindex=\"0\"]').length)")
	s.do(err)
	if stops != 1 {
		t.Errorf("the picture is %d stops", stops)
	}
	s.do(s.Type(kb.ArrowRight), s.Until("the next one", "['boarding-gates', 'sailing-board'].includes(document.activeElement?.dataset.node)"))
	s.do(s.Enter(), s.Until("it", "document.querySelector('[data-picked]:not([data-picked=departure])')"))
	s.do(s.ClickOn("[data-node^='fold ']", ""), s.Until("them one by one", "document.querySelector('[data-node=\"crew-roster\"]')"))
}

// Dependencies come in from a file after a look; a file with faults says which lines.
func TestDependenciesFromAFile(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/services/dependencies"), s.Click("Files"), s.Until("the files", "document.querySelector('[data-files] input[type=file]')"))
	choose := func(name, text string) {
		t.Helper()
		_, err := browser.Eval[bool](s.Browser, `(() => {
			const files = new DataTransfer()
			files.items.add(new File([`+"`"+text+"`"+`], '`+name+`'))
			const input = document.querySelector('[data-files] input[type=file]')
			input.files = files.files
			input.dispatchEvent(new Event('change', { bubbles: true }))
			return true
		})()`)
		s.do(err)
	}
	choose("wrong.csv", "service,group,need,member\\nCrew roster,1,all,Nowhere\\nCrew roster,1,all\\n")
	s.do(s.Until("what is wrong", "document.querySelector('[data-file-faults]')?.innerText.includes('line 3: has 3 columns')"))
	choose("wrong.yaml", "- service: Crew roster\\n  needs: [{services: [Nowhere]}]\\n")
	s.do(s.Until("what is wrong", "document.querySelector('[data-file-faults]')?.innerText.includes('line 1: \"Nowhere\" names no service in force')"))
	choose("right.yaml", "- service: Crew roster\\n  needs:\\n    - services: [Harbour names, Quay network]\\n      need: 1\\n")
	s.do(s.Until("what would change", "document.querySelector('[data-changes=crew-roster]')?.innerText.includes('1 of Harbour names and Quay network')"))
	s.do(s.Click("Change 1 service"), s.Until("that it is done", "document.querySelector('[data-file=done]')"), s.Until("it in the picture", "document.querySelector('[data-junction^=\"crew-roster\"]')"))
}
