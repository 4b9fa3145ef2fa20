package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"kestite/core/span"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/store/storetest"
)

// screens are all that there are, with what says that one has come.
var screens = [][]struct{ path, ready string }{
	{
		{"/", "document.querySelector('[data-agreement]')"},
		{"/services", "document.querySelector('[data-service]')"},
		{"/services/ticket-sales?at=now", "document.querySelector('.moment .rules')"},
		{"/services/ticket-sales?span=hour", "document.querySelector('[data-lane]')"},
		{"/services/new", "document.querySelector('form')"},
		{"/services/departure/edit", "document.querySelector('form')"},
		{"/services/ticket-sales/edit", "document.querySelector('.consequence')"},
		{"/services/many", "document.querySelector('textarea')"},
		{"/checks", "document.querySelector('[data-check]')"},
		{"/checks/new?service=ticket-sales", "document.querySelector('form')"},
		{"/checks/ticket-sales-http", "document.querySelector('[data-revision]')"},
		{"/checks/way-to-quay", "document.querySelector('[data-revision]')"},
		{"/checks/slowest-page", "document.querySelector('[data-revision]')"},
		{"/checks/freight-copy", "document.querySelector('[data-revision]')"},
	}, {
		{"/incidents?span=month", "document.querySelectorAll('[data-incident]').length > 3"},
		{"/incidents/8", "document.querySelector('[data-happened]')"},
		{"/agreements", "document.querySelector('.entry')"},
		{"/agreements/new", "document.querySelector('[data-summary]')"},
		{"/agreements/tickets-passenger", "document.querySelectorAll('.entry').length > 12 && document.querySelector('.sentences')"},
		{"/promised/tickets-passenger", "document.querySelector('[data-period]')"},
		{"/close", "document.querySelector('[data-close]')"},
		{"/close/freight-desk?period=month", "document.querySelector('[data-account]')"},
		{"/close/tickets-passenger?period=month", "document.querySelector('[data-account]')"},
		{"/reports", "document.querySelector('table')"},
		{"/reports/volumes", "document.querySelector('form')"},
		{"/reports/legal-holds", "document.querySelector('h1')"},
		{"/reports/credits", "document.querySelector('[data-ledger]')"},
		{"report", "document.querySelector('.paper')"},
		{"/you", "document.querySelector('[data-session]')"},
		{"/enter#kesl_x", "document.querySelector('form')"},
		{"/stand-ins", "document.querySelector('main h1')"},
		{"/nowhere", "document.querySelector('main h1')"},
	}, {
		{"/set-up", "document.querySelector('[data-location]')"},
		{"/set-up/pairs", "document.querySelector('[data-plan] tbody th')"},
		{"/set-up/pairs/harbours", "document.querySelector('[data-pair]')"},
		{"/set-up/pairs/new", "document.querySelector('form')"},
		{"/set-up/kits", "document.querySelector('[data-kit]')"},
		{"/set-up/networks", "document.querySelector('[data-network]')"},
		{"/set-up/credentials", "document.querySelector('[data-credential]')"},
		{"/set-up/teams", "document.querySelector('table')"},
		{"/set-up/customers", "document.querySelector('table')"},
		{"/set-up/contracts", "document.querySelector('main h1')"},
		{"/set-up/layouts", "document.querySelector('[data-layout]')"},
		{"/set-up/holidays", "document.querySelector('table')"},
		{"/set-up/people", "document.querySelector('[data-person]')"},
		{"/set-up/trail", "document.querySelector('[data-trail]')"},
	}, {
		{"/notices", "document.querySelector('[data-turn]') && document.querySelector('[data-gaps]')"},
		{"/notices/plans", "document.querySelectorAll('[data-plan]').length > 3 && document.querySelector('main').innerText.includes('Harbour duty')"},
		{"/notices/plans/new", "document.querySelector('[data-step]')"},
		{"/notices/plans/on-duty", "document.querySelectorAll('[data-step]').length === 3"},
		{"/services/suppose?what=quay-network%20card-acquirer&lasts=14400", "document.querySelector('[data-costs]')"},
		{"/notices/rehearsal?what=service%20boarding-gates", "document.querySelector('[data-line]')"},
		{"/notices/deliveries", "document.querySelector('[data-delivery]')"},
		{"/calendar", "document.querySelector('[data-planned]')"},
		{"/calendar/plan?service=sailing-board&start=ahead-06-03%2004:00&lasts=60", "document.querySelector('[data-effect]') && document.querySelector('[data-slot]')"},
		{"/services/dependencies?pick=departure", "document.querySelector('[data-node]') && document.querySelector('[data-between]')"},
		{"/services/dependencies?as=table", "document.querySelector('[data-needs]')"},
		{"/calendar/exchange", "document.querySelector('form')"},
		{"/set-up/embargoes", "document.querySelector('[data-embargo]')"},
		{"/set-up/selections", "document.querySelector('[data-selection]')"},
		{"/notices/plans/minor", "document.querySelectorAll('[data-step]').length === 1"},
		{"/set-up/pools", "document.querySelector('[data-pool]')"},
		{"/set-up/contact-methods", "document.querySelector('[data-contact-method]')"},
		{"/set-up/relays", "document.querySelector('[data-relay]')"},
		{"/you/inbox", "document.querySelector('[data-inbox], .empty')"},
		{"/acknowledge#nothing", "document.querySelector('.trouble')"},
	},
}

// looks are those that every screen has.
var looks = []string{"light", "dark", "phone"}

// look makes the screen that is shown look so.
func (s *stage) look(look string) {
	s.t.Helper()
	width := int64(1280)
	if look == "phone" {
		width, look = 390, "light"
	}
	s.do(s.Resize(width, 844))
	_, err := browser.Eval[bool](s.Browser, fmt.Sprintf(`(document.documentElement.dataset.scheme = %q,
		new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => done(true)))))`, look))
	s.do(err)
}

// Every screen can be used by everybody: nothing that axe-core calls serious in the
// light, in the dark and on a phone; there nothing runs off the side; and each has one
// heading, which the tab is called by.
func TestEveryScreenIsAccessible(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	for i, group := range screens {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			s := newStage(t, true)
			s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password))
			report, err := browser.Eval[string](s.Browser, "fetch('/api/v1/reports').then((r) => r.json()).then((l) => '/reports/' + l.items[0].id)")
			s.do(err)
			for _, screen := range group {
				path := screen.path
				path = strings.ReplaceAll(path, "period=month", "period="+lastMonth())
				path = strings.ReplaceAll(path, "span=month", "span="+lastMonth())
				path = strings.ReplaceAll(path, "start=ahead", "start="+ahead())
				hour := span.Of(storetest.Now()).Add(-2 * span.Hour)
				path = strings.ReplaceAll(path, "span=hour", fmt.Sprintf("span=%s/%s", hour, hour.Add(span.Hour)))
				if path == "report" {
					path = report
				}
				s.do(s.Resize(1280, 844))
				s.do(s.Go(s.srv.URL + path))
				s.do(s.Until(path, screen.ready))
				for _, look := range looks {
					s.look(look)
					s.accessible(path+" ("+look+")", string(axe))
					if look == "phone" {
						wide, err := browser.Eval[int](s.Browser, "document.documentElement.scrollWidth")
						s.do(err)
						if wide > 390 {
							t.Errorf("%s is %d pixels wide on a phone", path, wide)
						}
					}
				}
				// Both at once: what is live changes between two looks.
				called, err := browser.Eval[[]string](s.Browser, "[document.title, ...[...document.querySelectorAll('h1')].map((h) => h.innerText.trim().replace(/\\s+/g, ' '))]")
				s.do(err)
				if len(called) != 2 || called[0] != called[1]+" · Kestite" {
					t.Errorf("%s, its title and its headings: %q", path, called)
				}
			}
		})
	}
}

// accessible reports what axe-core finds serious on the screen as it stands.
func (s *stage) accessible(what, axe string) {
	s.t.Helper()
	there, err := browser.Eval[bool](s.Browser, "typeof axe !== 'undefined'")
	s.do(err)
	if !there {
		_, err := browser.Eval[bool](s.Browser, axe+"; true")
		s.do(err)
	}
	found, err := browser.Eval[[]string](s.Browser, `axe.run(document, { resultTypes: ['violations'] }).then((r) => r.violations
		.filter((v) => v.impact === 'serious' || v.impact === 'critical')
		.map((v) => v.id + ': ' + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + ' — ' + n.failureSummary).join(' | ')))`)
	s.do(err)
	for _, f := range found {
		s.t.Errorf("%s: %s", what, f)
	}
}

// dialogs are what opens above the screens: how, and what says that it has.
var dialogs = []struct{ path, ready, open, shown string }{
	{"/", "document.querySelector('[data-agreement]')", "key /", "document.querySelector('[role=dialog] [role=option]')"},
	{"/", "document.querySelector('[data-agreement]')", "key ?", "document.querySelector('[role=dialog] table')"},
	{"/", "document.querySelector('[data-agreement]')", ".band h2 button",
		"document.querySelector('form[aria-label=\"From when to when\"] [role=spinbutton]')"},
	{"/services/ticket-sales", "document.querySelector('[data-lane]')", "button Retire", "document.querySelector('[role=dialog]')"},
	{"/checks/ticket-sales-http", "document.querySelector('[data-revision]')", "button Retire", "document.querySelector('[role=dialog]')"},
	{"/agreements/crew-roster", "document.querySelector('[data-summary=own]')", "button Retire", "document.querySelector('[role=dialog]')"},
	{"/agreements/crew-roster", "document.querySelector('[data-summary=own]')", "button[aria-label^='Choose date']",
		"document.querySelector('[role=grid]')"},
	{"/agreements/new", "document.querySelector('[data-summary]')", "[role=combobox]", "document.querySelector('[role=listbox]')"},
	{"/set-up", "document.querySelector('[data-location]')", "button Add a location", "document.querySelector('form')"},
	{"/set-up", "document.querySelector('[data-location]')", "button Retire", "document.querySelector('[role=dialog]')"},
	{"/set-up", "document.querySelector('[data-location]')", "button revoke its token", "document.querySelector('[role=dialog]')"},
	{"/set-up/holidays", "document.querySelector('table')", "button Add a list of holidays", "document.querySelector('form')"},
	{"/set-up/pools", "document.querySelector('[data-pool]')", "button Add a pool", "document.querySelector('form')"},
	{"/set-up/contact-methods", "document.querySelector('table')", "button Add a contact method", "document.querySelector('form')"},
	{"/set-up/relays", "document.querySelector('table')", "button Add a relay", "document.querySelector('form')"},
	{"/notices", "document.querySelector('[data-pool]')", "button hand over", "document.querySelector('form[aria-label]')"},
	{"/set-up/kits", "document.querySelector('[data-kit]')", "button Use it", "document.querySelector('.form')"},
	{"/set-up/pairs", "document.querySelector('[data-plan]')", "button Retire", "document.querySelector('[role=dialog]')"},
	{"/set-up/people", "document.querySelector('[data-person]')", "button more", "document.querySelector('[role=menu]')"},
	{"draft", "document.querySelector('.paper')", "button Publish", "document.querySelector('[role=dialog]')"},
	{"draft", "document.querySelector('.paper')", "button Throw away", "document.querySelector('[role=dialog]')"},
}

// What opens above a screen can be used by everybody too, and has a name.
func TestEveryDialogIsAccessible(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password))
	draft, err := browser.Eval[string](s.Browser, `(async () => {
		await fetch('/api/v1/locations/tolvik/agents', { method: 'POST' })
		const periods = (await (await fetch('/api/v1/agreements/crew-roster/calendar')).json()).items
		const body = JSON.stringify({ agreement: 'crew-roster', period: periods.find((p) => p.over && !p.published).name })
		return '/reports/' + (await (await fetch('/api/v1/reports', { method: 'POST', body, headers: { 'Content-Type': 'application/json' } })).json()).id
	})()`)
	s.do(err)
	for _, d := range dialogs {
		path := d.path
		if path == "draft" {
			path = draft
		}
		s.do(s.Resize(1280, 844))
		s.do(s.Go(s.srv.URL + path))
		s.do(s.Until(path, d.ready))
		if key, is := strings.CutPrefix(d.open, "key "); is {
			s.do(s.Type(key))
		} else if button, is := strings.CutPrefix(d.open, "button "); is {
			s.do(s.ClickOn("main button", button))
		} else {
			s.do(s.ClickOn(d.open, ""))
		}
		s.do(s.Until(d.open, d.shown))
		for _, look := range looks {
			s.look(look)
			s.do(s.Until(d.open+" still", d.shown))
			s.accessible(fmt.Sprintf("%s, %s (%s)", path, d.open, look), string(axe))
		}
		named, err := browser.Eval[bool](s.Browser, `[...document.querySelectorAll('[role=dialog]')].every((d) =>
			d.getAttribute('aria-label') || document.getElementById(d.getAttribute('aria-labelledby'))?.innerText)`)
		s.do(err)
		if !named {
			t.Errorf("%s, %s: the dialog has no name", path, d.open)
		}
	}
}
