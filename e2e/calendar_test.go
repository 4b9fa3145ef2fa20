package e2e

import (
	"context"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/defining"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// An operator plans work: sees what it costs at a bad time, takes the cheapest one, and
// finds it in the calendar; skips an occurrence of a window, puts it back, moves one, and
// cancels all.
func TestPlanningWork(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Type("5"), s.Until("the calendar", "document.querySelectorAll('[data-planned]').length > 4"))
	s.do(s.Click("Plan work"), s.Until("the form", "document.querySelector('form')"))
	s.do(s.Fill("Name", "Fares import"), s.Fill("On", "Sailing"), s.Until("the choice", "document.querySelector('[role=option]')"), s.Type(kb.ArrowDown), s.Enter())
	s.do(s.Fill("Lasts, min", "90"))
	s.do(s.Until("cheapest times", "document.querySelectorAll('[data-slot]').length === 5"))
	s.do(s.ClickOn("summary", "Whom to tell, type, change reference, note"), s.Fill("Change reference", "CHG-7"))
	s.do(s.Fill("Tell", "Runa"), s.Until("her", "document.querySelectorAll('[role=option]').length === 1"), s.Type(kb.ArrowDown), s.Enter())
	s.do(s.ClickOn("[data-slot] button", ""))
	s.do(s.Until("what it costs, of those that need it too", "document.querySelector('[data-effect=departure]') && document.querySelector('[data-effect][data-tone]')"))
	s.do(s.Until("what goes down with it", "document.querySelector('[data-also]')?.innerText.includes('Departure check-in goes down with it')"))
	s.do(s.Click("Name it too"), s.Until("that it is named", "!document.querySelector('[data-also]')"))
	s.do(s.Click("Announce and plan"), s.Until("it in the calendar", "location.pathname === '/calendar' && document.querySelector('[data-chosen=fares-import]')?.innerText.includes('CHG-7')"))
	s.do(s.Until("its lanes", "document.querySelectorAll('[data-work^=\"fares-import \"]').length === 2"))
	s.do(s.Until("when it is", "[...document.querySelectorAll('[data-planned^=\"fares-import \"]')].some((e) => e.innerText.includes('1 h 30 min'))"))

	// Whom it names is told, in the inbox too.
	s.do(s.Go(s.srv.URL+"/you/inbox"), s.Until("that it is planned", "[...document.querySelectorAll('[data-inbox]')].some((e) => e.innerText.includes('Planned: Fares import'))"), s.Go(s.srv.URL+"/calendar"))

	// One of a weekly window.
	s.do(s.Until("some of a weekly window", "document.querySelector(\"[data-planned^='freight-database ']\")"))
	last, err := browser.Eval[string](s.Browser, "[...document.querySelectorAll(\"[data-planned^='freight-database ']\")].at(-1).dataset.planned") // the first may be over
	s.do(err)
	s.do(s.ClickOn("[data-planned='"+last+"'] button", ""), s.Until("it", "document.querySelector('[data-chosen=freight-database]')?.innerText.includes('every week on Tuesday')"))
	chosen, err := browser.Eval[string](s.Browser, "new URLSearchParams(location.search).get('work')")
	s.do(err)
	gone := "!document.querySelector('[data-planned=\"" + chosen + "\"]')"
	s.do(s.Click("Skip this one"), s.Until("it gone", gone))
	s.do(s.Go(s.srv.URL+"/calendar/plan/freight-database"), s.Click("put it back"), s.Click("Save as revision 3"))
	s.do(s.Until("it back", "location.pathname === '/calendar' && document.querySelector('[data-planned=\""+chosen+"\"]')"))
	s.do(s.ClickOn("[data-planned=\""+chosen+"\"] button", ""), s.Click("Move it"), s.Fill("Lasts, min", "many"), s.Until("what is wrong", "document.querySelector('form')?.innerText.includes('Whole minutes')"))
	s.do(s.Fill("Lasts, min", "30"), s.ClickOn("form button", "Move it"), s.Until("it shorter", "document.querySelector('[data-planned=\""+chosen+"\"]')?.innerText.includes(', 30 min')"))
	s.do(s.Until("that it is otherwise", "document.querySelector('[data-chosen]')?.innerText.includes('This one is otherwise than its rule says')"))
	s.do(s.Click("cancel all of it"), s.ClickOn("[role=dialog] button", "Cancel all of it"), s.Until("it gone", "!document.querySelector('[data-planned=\""+chosen+"\"]')"))
}

// ahead is a year that is still to come.
func ahead() string { return strconv.Itoa(storetest.Now().Year() + 4) }

// A manager makes an embargo; work in it wants a reason, and shows as a clash.
func TestEmbargoes(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/set-up/embargoes"))
	s.do(s.Click("Add an embargo"), s.Fill("Name", "Regatta"), s.Fill("From", ahead()+"-06-01 00:00"), s.Fill("To", ahead()+"-05-01 00:00"), s.ClickOn("form button", "Add"), s.Reads("is not after its beginning"))
	s.do(s.Fill("To", ahead()+"-06-08 00:00"), s.ClickOn("form button", "Add"), s.Until("it in the list", "document.querySelector('[data-embargo=regatta]')?.innerText.includes('all services')"))
	s.do(s.Go(s.srv.URL+"/calendar/plan?service=ticket-sales&start="+ahead()+"-06-03%2004:00&lasts=60"), s.Fill("Name", "Regatta ticketing"))
	s.do(s.Until("the clash", "[...document.querySelectorAll('[data-clashes]')].some((e) => e.innerText.includes('lies in the embargo Regatta'))"))
	s.do(s.Click("Announce and plan"), s.Until("what is missing", "document.querySelector('form')?.innerText.includes('say why it has to be then')"))
	s.do(s.Fill("Why it has to be then", "The organiser asks for it"), s.Click("Announce and plan"), s.Until("it saved", "location.pathname === '/calendar'"))
	s.do(s.Go(s.srv.URL+"/calendar?from="+ahead()+"-06-01&days=7"), s.Until("both", "document.querySelector('[data-clashes]') && document.querySelector('[data-embargoes]')?.innerText.includes('Regatta') && document.querySelector('[data-planned^=\"regatta-ticketing\"]')"))
}

// Who may only look is offered nothing to change; dragging along a lane plans nothing.
func TestTheCalendarOfWhoMayLook(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "viewer@skerry.example", demo.Password), s.Go(s.srv.URL+"/calendar?work=gate-firmware"), s.Until("the lanes", "document.querySelector('[data-calendar-lane]')"))
	s.do(s.ClickOn("[data-planned] button", ""), s.Until("what it costs", "document.querySelector('[data-chosen]')"))
	for _, offered := range []string{"Plan work", "Move it", "Skip this one", "Edit the window", "cancel all of it"} {
		is, err := browser.Eval[bool](s.Browser, "[...document.querySelectorAll('button, a')].some((e) => e.innerText === '"+offered+"')")
		s.do(err)
		if is {
			t.Errorf("a viewer is offered %q", offered)
		}
	}
	s.do(s.Go(s.srv.URL+"/calendar/plan"), s.Until("the calendar", "document.querySelector('[data-calendar-lane]')"))
	if form, err := browser.Eval[bool](s.Browser, "Boolean(document.querySelector('form'))"); err != nil || form {
		t.Errorf("a viewer has the form: %v %v", form, err)
	}
}

// Dragging along a lane plans work of that service then.
func TestDraggingPlansWork(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/calendar?days=7"), s.Until("the lane", "document.querySelector('[data-calendar-lane=customer-messages] svg')"))
	s.do(s.Drag("[data-calendar-lane=customer-messages] svg", 0.5, 0.55), s.Until("the form of it", "location.search.includes('service=customer-messages') && document.querySelector('form')"))
	s.do(s.Until("it drawn, and its cost", "document.querySelector('[data-calendar-lane=customer-messages] rect[opacity]') && document.querySelector('[data-effect=messages]')"))
	lasts, err := browser.Eval[string](s.Browser, "new URLSearchParams(location.search).get('lasts')")
	s.do(err)
	if lasts != "510" && lasts != "495" && lasts != "525" { // a twentieth of a week, in quarters of an hour
		t.Errorf("it lasts %s minutes", lasts)
	}
}

// A feed is made, read by its address alone, and ended; somebody's calendar is looked at
// before it is taken, with what it leaves out.
func TestCalendarsOutAndIn(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/calendar"), s.Click("iCalendar"), s.Until("the page", "document.querySelector('form[aria-label=\"Make a feed\"]')"))
	s.do(s.Fill("Name of the feed", "Quay desk"), s.ClickOn("form button", "Make a feed"), s.Until("its address", "document.querySelector('[data-feed-address] code')"))
	feed, err := browser.Eval[string](s.Browser, "fetch(document.querySelector('[data-feed-address] code').innerText, { credentials: 'omit' }).then((r) => r.text())")
	s.do(err)
	if !strings.Contains(feed, "SUMMARY:Gate firmware") {
		t.Errorf("the feed is %.300s", feed)
	}
	s.do(s.ClickOn("[data-feed='Quay desk'] button", "end it"), s.Until("it gone", "!document.querySelector('[data-feed=\"Quay desk\"]')"))
	// As if a file had been chosen.
	_, err = browser.Eval[bool](s.Browser, strings.ReplaceAll(`(() => {
		const text = 'BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Desk//EN\r\n' +
			'BEGIN:VEVENT\r\nUID:pier@desk\r\nSUMMARY:Pier lights\r\nDTSTART:YEAR0603T020000Z\r\nDURATION:PT2H\r\nEND:VEVENT\r\n' +
			'BEGIN:VEVENT\r\nUID:old@desk\r\nSUMMARY:Long ago\r\nDTSTART:20010603T020000Z\r\nDURATION:PT2H\r\nEND:VEVENT\r\n' +
			'BEGIN:VEVENT\r\nUID:odd@desk\r\nSUMMARY:Of no length\r\nDTSTART:YEAR0603T020000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n'
		const files = new DataTransfer()
		files.items.add(new File([text], 'pier.ics', { type: 'text/calendar' }))
		const input = document.querySelector('input[type=file]')
		input.files = files.files
		input.dispatchEvent(new Event('change', { bubbles: true }))
		return true
	})()`, "YEAR", ahead()))
	s.do(err)
	s.do(s.Until("that services are missing", "document.querySelector('[data-imported=refused]')?.innerText.includes('it names no service')"))
	s.do(s.Fill("For", "Quay"), s.Until("the choice", "document.querySelector('[role=option]')"), s.Type(kb.ArrowDown), s.Enter())
	s.do(s.Until("what would be", `document.querySelector('[data-imported=make]')?.innerText.includes('Pier lights') && document.querySelector('[data-imported=refused]')?.innerText.includes('over by now')
		&& document.querySelector('[data-imported=left]')?.innerText.includes('Of no length')`))
	s.do(s.Click("Take 1 window"), s.Until("that it is done", "document.querySelector('[data-import=done]')?.innerText.includes('1 window was made')"))
	s.do(s.Go(s.srv.URL+"/calendar?from="+ahead()+"-06-01"), s.Until("it in the calendar", "document.querySelector('[data-planned^=\"pier-lights \"]')"))
}

// A service that asks for it: an operator's work waits, an approver hears of it, sees what
// it would cost and approves it; from then on it is planned.
func TestASecondPersonApprovesWork(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/calendar/plan?service=customer-messages&start="+ahead()+"-06-03%2023:30&lasts=30"))
	s.do(s.Fill("Name", "Quay cranes"), s.Until("that it asks", "document.querySelector('[data-asks]')?.innerText.includes('Customer messages asks a second person')"))
	s.do(s.Fill("Why, for who approves it", "The crane is away"), s.Click("Ask for approval"))
	s.do(s.Until("it waiting", "document.querySelector('[data-request][data-state=open]')?.innerText.includes('Somebody else decides')"))
	request := s.path()
	s.do(s.Until("it in the list", "document.querySelector('[data-waiting]')?.innerText.includes('Quay cranes')"), s.Click("sign out"))
	s.do(s.SignIn(s.srv.URL, "approver@skerry.example", demo.Password), s.Until("what waits", "[...document.querySelectorAll('[data-need=request]')].some((n) => n.innerText.includes('Quay cranes'))"))
	s.do(s.ClickOn("[data-need=request] a[aria-label*='Quay cranes']", ""), s.Until("it, with its reason", "document.querySelector('[data-request]')?.innerText.includes('The crane is away') && document.querySelector('[data-request] [data-effects]')"))
	s.do(s.Click("Refuse"), s.Reads("say why, so that they can ask for something else"), s.Fill("What you say to it", "Well done"), s.Click("Approve and announce"))
	s.do(s.Until("that it is approved", "document.querySelector('[data-request][data-state=approved]')?.innerText.includes('Approved by Eir Moen')"))
	s.do(s.Until("nothing of it waiting", "!document.querySelector('[data-waiting]')?.innerText.includes('Quay cranes')"))
	s.do(s.Click("sign out"), s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/you/inbox"), s.Reads("Approved: Quay cranes"))
	s.do(s.Go(s.srv.URL+request), s.Click("The window"), s.Until("its form", "document.querySelector('form[aria-label=\"Edit the window\"]')"))
}

// A window of 90 seconds that begins within a minute, as a file may bring it, is edited in the
// form and keeps both.
func TestSecondsSurviveTheForm(t *testing.T) {
	s := newStage(t, true)
	ctx := context.Background()
	start := ahead() + "-06-03T04:00:30"
	_, err := s.srv.API.Definitions.Create(ctx, catalogue.Window, "key-swap", "", definition.WindowSpec{Name: "Key swap", Services: []string{"ticket-sales"},
		Start: start, Timezone: demo.Zone, DurationS: 90}, defining.Change{By: trail.By{Name: "test"}, Approved: true})
	s.do(err)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/calendar/plan/key-swap"),
		s.Until("its length", "[...document.querySelectorAll('input')].some((i) => i.value === '1:30')"),
		s.ClickOn("summary", "Whom to tell, type, change reference, note"), s.Fill("Change reference", "CHG-90"), s.Click("Save as revision 2"),
		s.Until("it saved", "location.pathname === '/calendar'"))
	snap, err := s.srv.API.Definitions.Snapshot(ctx)
	s.do(err)
	if spec := snap.Windows["key-swap"].Current().Spec; spec.Start != start || spec.DurationS != 90 || spec.Reference != "CHG-90" {
		t.Errorf("it is %+v now", spec)
	}
}
