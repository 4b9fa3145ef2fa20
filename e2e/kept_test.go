package e2e

import (
	"fmt"
	"net/http"
	"testing"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/servertest"
)

// value is what stands in the field of a label.
func (s *stage) value(label string) string {
	s.t.Helper()
	text, err := browser.Eval[string](s.Browser, fmt.Sprintf(`[...document.querySelectorAll('label')].find((l) => l.innerText.replace('*', '').trim() === %q)?.control?.value ?? ''`, label))
	s.do(err)
	return text
}

func (s *stage) shows(label, want string) {
	s.t.Helper()
	if got := s.value(label); got != want {
		s.t.Errorf("%s reads %q, not %q", label, got, want)
	}
}

// Two people edit one service: nobody's typing is lost, nobody's edit is undone
// unseen, and leaving asks.
func TestNothingTypedIsLost(t *testing.T) {
	s := newStage(t, true)
	admin := servertest.Anonymous(t, s.srv.URL)
	admin.Must(http.MethodPost, "/session", map[string]any{"email": "admin@skerry.example", "password": demo.Password}, nil)
	spec := func() map[string]any {
		t.Helper()
		var all struct {
			Items []struct {
				ID   string
				Spec map[string]any
			}
		}
		admin.Must(http.MethodGet, "/services", nil, &all)
		for _, i := range all.Items {
			if i.ID == "crew-roster" {
				return i.Spec
			}
		}
		t.Fatal("there is no such service")
		return nil
	}
	others := func(revision int, change map[string]any) {
		t.Helper()
		now := spec()
		for k, v := range change {
			now[k] = v
		}
		admin.Must(http.MethodPut, "/services/crew-roster", map[string]any{"revision": revision, "reason": "moved house", "spec": now}, nil)
	}
	const edit = "/services/crew-roster/edit"
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password))
	s.do(s.Go(s.srv.URL + edit))
	s.do(s.Fill("Runbook", "https://runbooks.skerry.example/mine"))
	s.do(s.Fill("Tags", "crew, mine"))

	// Somebody else saves: what only they changed comes in, what both changed is shown.
	others(1, map[string]any{"note": "theirs", "runbook": "https://runbooks.skerry.example/theirs"})
	s.do(s.Until("who it was", "document.querySelector('[data-came=\"2\"]')?.innerText.includes('Astrid Holm saved revision 2')"))
	s.do(s.Until("what both changed",
		"document.querySelectorAll('[data-both]').length === 1 && document.querySelector('[data-both=runbook]').innerText.includes('/theirs')"))
	s.shows("Runbook", "https://runbooks.skerry.example/mine")
	s.shows("Tags", "crew, mine")
	s.shows("Note", "theirs")
	s.do(s.Until("its label above it",
		"[...document.querySelectorAll('label')].find((l) => l.innerText === 'Note').dataset.shrink === 'true'"))

	// Leaving asks, by a link and by a key; staying keeps all.
	s.do(s.ClickOn("nav a", "Standing"))
	s.do(s.Reads("Leave without saving?"))
	s.do(s.ClickOn("[role=dialog] button", "Leave it"))
	s.do(s.Until("the dialog to be gone", "!document.querySelector('[role=dialog]')"))
	s.shows("Runbook", "https://runbooks.skerry.example/mine")

	// A reload brings it back, with what came in meanwhile.
	s.do(s.Until("the draft", "Object.keys(sessionStorage).some((k) => k.startsWith('kestite-draft'))"))
	others(2, map[string]any{"note": "theirs again"})
	s.do(s.Go(s.srv.URL + edit))
	s.do(s.Until("the draft again", "document.querySelector('[data-restored]')"))
	s.shows("Tags", "crew, mine")
	s.shows("Note", "theirs again")
	s.do(s.Until("what both changed", "document.querySelector('[data-both=runbook]')"))
	s.do(s.ClickOn("[data-both=runbook] button", "take theirs"))
	s.shows("Runbook", "https://runbooks.skerry.example/theirs")
	s.do(s.Click("Save as revision 4"))
	s.do(s.Until("the service", "location.pathname === '/services/crew-roster'"))
	got := spec()
	if fmt.Sprintf("%v %v %v", got["tags"], got["note"], got["runbook"]) != "[crew mine] theirs again https://runbooks.skerry.example/theirs" {
		t.Errorf("it says %v", got)
	}
	if left, err := browser.Eval[int](s.Browser,
		"Object.keys(sessionStorage).filter((k) => k.startsWith('kestite-draft')).length"); err != nil || left != 0 {
		t.Errorf("%d drafts stay of what was saved, %v", left, err)
	}

	// What was typed goes when its person signs out, and nothing is asked of who typed nothing.
	s.do(s.Go(s.srv.URL + "/agreements/crew-roster"))
	s.do(s.Until("the form", "document.querySelector('[data-summary=own]')"))
	s.do(s.ClickOn("nav a", "Reports"))
	s.do(s.Until("the reports", "location.pathname === '/reports'"))
	s.do(s.Go(s.srv.URL + "/agreements/crew-roster"))
	s.do(s.Fill("Target", "98.7"))
	s.do(s.Until("the draft", "Object.keys(sessionStorage).some((k) => k.startsWith('kestite-draft'))"))
	s.do(s.Click("sign out"))
	s.do(s.Until("the way in", "location.pathname === '/sign-in'"))
	if left, err := browser.Eval[int](s.Browser,
		"Object.keys(sessionStorage).filter((k) => k.startsWith('kestite-draft')).length"); err != nil || left != 0 {
		t.Errorf("%d drafts stay behind, %v", left, err)
	}
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password))
	s.do(s.Go(s.srv.URL + "/agreements/crew-roster"))
	s.do(s.Until("the form", "document.querySelector('[data-summary=own]')"))
	s.shows("Target", "99")
}

// Whatever is filled in, wherever, is there after a reload, leaving it asks, and two
// forms on one page are both asked of.
func TestEveryFormIsKept(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password))
	for _, f := range []struct{ path, ready, open, label string }{
		{"/set-up/pairs/new", "document.querySelector('form')", "", "Name"},
		{"/set-up/pairs/harbours", "document.querySelector('[data-pair]')", "", "Name"},
		{"/set-up/kits", "document.querySelector('[data-kit]')", "Make a kit of a service’s checks", "Name of the kit"},
		{"/set-up", "document.querySelector('[data-location]')", "Add a location", "Name"},
		{"/set-up/holidays", "document.querySelector('table')", "Add a list of holidays", "Note"},
		{"/set-up/pools", "document.querySelector('[data-pool]')", "Add a pool", "Note"},
		{"/set-up/contact-methods", "document.querySelector('table')", "Add a contact method", "Address"},
		{"/set-up/relays", "document.querySelector('table')", "Add a relay", "Sender"},
		{"/notices/plans/new", "document.querySelector('[data-step]')", "", "Tags of the service"},
		{"/notices/plans/on-duty", "document.querySelector('[data-step]')", "", "Note"},
		{"/calendar/plan", "document.querySelector('form')", "", "Name"},
		{"/calendar/plan/gate-firmware", "document.querySelector('form')", "", "Name"},
		{"/set-up/embargoes", "document.querySelector('[data-embargo]')", "Add an embargo", "Note"},
		{"/services/many", "document.querySelector('textarea')", "", "One service a line: name, address, target in percent if one was promised"},
		{"/services/new", "document.querySelector('form')", "", "Name"},
	} {
		shown := func() {
			t.Helper()
			s.do(s.Go(s.srv.URL + f.path))
			s.do(s.Until(f.path, f.ready))
			if f.open != "" {
				s.do(s.Click(f.open))
			}
			s.do(s.Until(f.label, fmt.Sprintf("[...document.querySelectorAll('label')].some((l) => l.innerText.replace('*', '').trim() === %q)",
				f.label)))
		}
		shown()
		s.do(s.Fill(f.label, "Half of it"))
		shown()
		s.do(s.Until("the draft of "+f.path, "document.querySelector('[data-restored]')"))
		s.shows(f.label, "Half of it")
		s.do(s.ClickOn("nav a", "Standing"))
		s.do(s.Reads("Leave without saving?"))
		s.do(s.ClickOn("[role=dialog] button", "Leave without saving"))
		s.do(s.Until("Standing", "location.pathname === '/' && document.querySelector('[data-agreement]')"))
		shown()
		if left := s.value(f.label); left == "Half of it" {
			t.Errorf("%s: what was given up stands there again", f.path)
		}
	}

	// Two forms on one page: the first is asked of, whichever was opened last.
	s.do(s.Go(s.srv.URL + "/set-up"))
	for _, at := range []string{"tolvik", "eskerby"} {
		s.do(s.ClickOn("[data-location="+at+"] button", "Edit"))
		s.do(s.Until("its form", "document.querySelector('[data-location="+at+"] form')"))
	}
	s.do(s.Until("the first one's note", `(() => {
		const label = [...document.querySelectorAll('[data-location=tolvik] label')].find((l) => l.innerText === 'Note')
		label.control.focus()
		return document.activeElement === label.control
	})()`))
	s.do(s.Type("moved"))
	s.do(s.ClickOn("nav a", "Standing"))
	s.do(s.Reads("Leave without saving?"))
}
