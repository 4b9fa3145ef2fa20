package e2e

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"kestite/core/measure"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/standin"
)

// receivers starts a post and a desk at an address, and lets the demo's relays use them.
func (s *stage) receivers(host string) *standin.Messages {
	s.t.Helper()
	kept := new(standin.Messages)
	for _, d := range []standin.Device{&standin.Post{ID: "post", Addr: host + ":8425", Kept: kept}, &standin.Desk{ID: "desk", Addr: host + ":8460", Kept: kept}} {
		if err := d.Set(standin.OK); err != nil {
			s.t.Fatal(err)
		}
		s.t.Cleanup(func() { d.Close() })
	}
	admin := servertest.Anonymous(s.t, s.srv.URL)
	admin.Must(http.MethodPost, "/session", map[string]any{"email": "admin@skerry.example", "password": demo.Password}, nil)
	for path, spec := range map[string]map[string]any{
		"/relays/post":        {"name": "Post", "kind": "mail", "address": "smtp://" + host + ":8425", "plain": true, "sender": "kestite@skerry.example"},
		"/relays/sms-gateway": {"name": "SMS gateway", "kind": "sms", "address": "http://" + host + ":8460/sms", "sender": "Skerry"},
	} {
		admin.Must(http.MethodPut, path, map[string]any{"revision": admin.Revision(path), "spec": spec}, nil)
	}
	return kept
}

func sendingTo(host string) func(*server.Options) {
	return func(o *server.Options) { o.SendTo = []string{host} }
}

// arrives waits for a message to an address that holds a text.
func (s *stage) arrives(kept *standin.Messages, to, text string) standin.Message {
	s.t.Helper()
	deadline := storetest.Now().Add(browser.Patience)
	for storetest.Now().Before(deadline) {
		for _, m := range kept.All() {
			if m.To == to && strings.Contains(m.Subject+"\n"+m.Text, text) {
				return m
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
	s.t.Fatalf("nothing of %q came to %s; there are %+v", text, to, kept.All())
	return standin.Message{}
}

// A manager adds a contact method and tests it, makes a plan, rehearses a failure; it
// fails; the one who was told acknowledges by the link in the mail; all stands in the log.
func TestWhoIsToldOfAFailure(t *testing.T) {
	const host = "127.78.0.60"
	s := newStage(t, true, sendingTo(host))
	kept := s.receivers(host)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/set-up/contact-methods"))
	s.do(s.Click("Add a contact method"), s.Fill("Name", "Control room"), s.Choose("By", "webhook"), s.Fill("Address", "ftp://"+host))
	s.do(s.Fill("Body", `{"headline": "{headlin}"}`), s.ClickOn("form button", "Add"), s.Reads("{headlin} is no placeholder"))
	s.do(s.Fill("Body", `{"headline": "{headline}", "link": "{link}"}`), s.ClickOn("form button", "Add"), s.Reads("is no web address"))
	s.do(s.Fill("Address", "http://"+host+":8460/control"))
	s.do(s.Click("What it would send of the latest incident"), s.Until("what it would send", "document.querySelector('[data-preview] code')?.innerText.startsWith('{\"headline\": \"')"))
	s.do(s.ClickOn("form button", "Add"))
	s.do(s.Until("it in the list", "document.querySelector('[data-contact-method=control-room]') && !document.querySelector('main form')"))
	s.do(s.ClickOn("[data-contact-method=control-room] button", "send a test"))
	s.do(s.Until("what the remote answered", "document.querySelector('[data-sent=true]')?.innerText.includes('202 Accepted taken as number')"))

	s.do(s.Go(s.srv.URL+"/notices/plans/new"), s.Until("the form", "document.querySelector('[data-step]')"))
	s.do(s.Fill("Name", "Gates first"), s.Click("Add the plan"), s.Reads("Say whom"))
	for _, who := range []string{"Control room", "Runa Vik"} {
		s.do(s.Fill("Tell", who), s.Until("the choice", "document.querySelectorAll('[role=option]').length === 1"), s.Type(kb.ArrowDown), s.Enter(),
			s.Until("it chosen", "[...document.querySelectorAll('[data-step] .MuiChip-label')].some((c) => c.innerText === '"+who+"')"))
	}
	s.do(s.Type(kb.Tab), s.Until("the list closed", "!document.querySelector('[role=listbox]')"))
	s.do(s.Choose("It is for", "all incidents that meet the conditions"))
	s.do(s.Until("what it says", `document.querySelector('[data-sentences]').innerText.includes('At once: Control room and Runa Vik.')
		&& document.querySelector('[data-sentences]').innerText.includes('For all incidents.')`))
	s.do(s.Click("Add the plan"), s.Until("it made", "location.pathname === '/notices/plans/gates-first'"))

	s.do(s.Go(s.srv.URL + "/notices/rehearsal?what=service%20boarding-gates&when=" + storetest.Now().AddDate(0, 0, 4).Format(time.DateOnly) + "%2003:10"))
	s.do(s.Until("who would be told", `document.querySelector('[data-line="Control room"]') && document.querySelector('[data-reached]').innerText.includes('after 20 s')`))

	s.fails("boarding-gates-http", measure.Failed)
	s.arrives(kept, "/control", "Boarding gates has been down for")
	mail := s.arrives(kept, "runa@skerry.example", "Boarding gates down since")
	_, link, _ := strings.Cut(mail.Text, "Acknowledge it: ")
	s.do(s.Go(s.srv.URL+"/incidents"), s.Until("it", "document.querySelector('section[aria-label=Open] [data-about=service]')"))
	s.do(s.ClickOn("section[aria-label=Open] [data-about=service]", "Boarding gates"))
	s.do(s.Until("who was told", "document.querySelector('[data-told] [data-what=begun]')?.innerText.includes('Control room')"))
	incident := s.path()

	// By the link, without signing in, on a phone.
	s.do(s.Go(s.srv.URL + "/notices"))
	s.do(s.Click("sign out"), s.Until("the way in", "location.pathname === '/sign-in'"), s.Resize(390, 844))
	s.do(s.Go(strings.TrimSpace(link)), s.Until("whose link it is", "document.querySelector('.card')?.innerText.includes('as Runa Vik')"))
	s.do(s.Click("I am on it"), s.Reads("You are on it, Runa Vik."))
	s.do(s.Go(s.srv.URL+"/sign-in"), s.Go(strings.TrimSpace(link)), s.Reads("This link is not good any more"))
	s.do(s.Resize(1280, 800), s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+incident))
	s.do(s.Until("who is on it", "document.querySelector('[data-on=acknowledged]')?.innerText.includes('Runa Vik')"))
	s.do(s.Until("why nobody else is told", "document.querySelector('[data-told] [data-plan=gates-first]')?.innerText.includes('somebody has acknowledged it')"))
	s.do(s.Until("what is new for her", "[...document.querySelectorAll('footer a')].some((a) => a.innerText.includes('new'))"))
	s.do(s.Click("inbox"), s.Until("it in the inbox", "[...document.querySelectorAll('[data-inbox]')].some((e) => e.innerText.includes('Boarding gates'))"))
	s.do(s.Click("I have read"), s.Until("nothing new", "![...document.querySelectorAll('footer a')].some((a) => a.innerText.includes('new'))"))

	s.do(s.Go(s.srv.URL+"/notices/deliveries?find=control"), s.Until("the log", "document.querySelector('[data-delivery]')"))
	s.do(s.ClickOn("[data-delivery] button", "Boarding gates"), s.Click("send it again"), s.Reads("It is sent again"))
	s.do(s.Until("both", "[...document.querySelectorAll('[data-delivery][data-state=sent]')].filter((e) => e.innerText.includes('Boarding gates: that it began')).length === 2"))
}

// An operator hands duty over and sees that on the axis.
func TestHandingOverDuty(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Type("8"), s.Until("Notices", "document.querySelector('[data-pool=duty] [data-turn]')"))
	now, err := browser.Eval[string](s.Browser, "document.querySelector('[data-pool=duty] > span:last-child b').innerText")
	s.do(err)
	next := map[string]string{"Runa Vik": "Sindre Aune", "Sindre Aune": "Runa Vik"}[now]
	s.do(s.Click("hand over"), s.Until("the form, with the other one in it",
		"document.querySelector('form[aria-label=\"Hand over Harbour duty\"] [role=combobox]')?.innerText === '"+next+"'"))
	s.do(s.Click("Hand over"), s.Until("the other one on duty", "document.querySelector('[data-pool=duty] > span:last-child b')?.innerText === '"+next+"'"))
	s.do(s.Until("who stands in", "document.querySelector('[data-pool=duty] rect[stroke-dasharray=\"4 2\"]')"))
}

// A person says by what they are told: the code that arrives there makes it good.
func TestHowIAmTold(t *testing.T) {
	const host = "127.78.0.61"
	s := newStage(t, true, sendingTo(host))
	kept := s.receivers(host)
	s.do(s.SignIn(s.srv.URL, "approver@skerry.example", demo.Password), s.Go(s.srv.URL+"/you"))
	s.do(s.Choose("By", "SMS"), s.Fill("Address or number", "seventy"), s.Click("Add it"), s.Reads("is no telephone number"))
	s.do(s.Fill("Address or number", "+46 70 555 44 33"), s.Click("Add it"), s.Until("it", "document.querySelector('[data-method=\"+46705554433\"]')"))
	s.do(s.Reads("not verified"), s.Click("Send a code"), s.Reads("Sent. The remote answered: SMS gateway: 202 Accepted"))
	_, code, _ := strings.Cut(s.arrives(kept, "+46705554433", "Your code is").Text, "Your code is ")
	s.do(s.Fill("Code", code[:6]), s.Click("Verify"))
	s.do(s.Until("it verified", "/· at any time|verified/.test(document.querySelector('[data-method]').innerText) && !document.querySelector('[data-method]').innerText.includes('not verified')"))
	s.do(s.Click("when"), s.Click("Only within some hours; what is due outside waits"), s.Click("Save the hours"), s.Reads("Mon–Fri 08:00 to 16:00, Europe/Oslo"))
	s.do(s.Click("remove"), s.Until("it gone", "!document.querySelector('[data-method]')"))
}

// The form of a service shows and keeps what opens its incidents, and whom they tell.
func TestAServicesFormKeepsItsPolicy(t *testing.T) {
	s := newStage(t, true)
	manager := servertest.Anonymous(t, s.srv.URL)
	manager.Must(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": demo.Password}, nil)
	spec := func() map[string]any {
		var list struct {
			Items []struct {
				ID   string
				Spec map[string]any
			}
		}
		manager.Must(http.MethodGet, "/services", nil, &list)
		for _, i := range list.Items {
			if i.ID == "sailing-board" {
				return i.Spec
			}
		}
		return nil
	}
	was := spec()
	was["incidents"] = map[string]any{"degraded": "none", "reopen_s": 1800}
	was["notices"] = map[string]any{"plan": "office", "owner": true}
	manager.Must(http.MethodPut, "/services/sailing-board", map[string]any{"revision": manager.Revision("/services/sailing-board"), "spec": was}, nil)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/services/sailing-board/edit"))
	s.do(s.Until("the form", "document.querySelector('form')"), s.Fill("Note", "Above the ticket hall"), s.Choose("That it is down is", "major"))
	s.do(s.Click("Save as revision 3"), s.Until("it saved", "location.pathname === '/services/sailing-board'"))
	now := spec()
	policy, _ := now["incidents"].(map[string]any)
	notices, _ := now["notices"].(map[string]any)
	if policy["degraded"] != "none" || policy["reopen_s"] != 1800.0 || policy["down"] != "major" || notices["plan"] != "office" || notices["owner"] != true ||
		now["note"] != "Above the ticket hall" {
		t.Errorf("after an edit in the form it is %v", now)
	}
}

// An operator holds the notices of a service for a while: that stands wherever it counts,
// until it is ended.
func TestHoldingNotices(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(s.srv.URL+"/services/sailing-board"))
	s.do(s.Click("Hold notices"), s.Until("the form", "document.querySelector('form[aria-label=\"Hold notices\"]')"))
	s.do(s.Fill("Why", "The board is being moved"), s.ClickOn("form button", "Hold notices"))
	const held = "document.querySelector('[data-hold=sailing-board]')?.innerText.includes('by Runa Vik: The board is being moved')"
	s.do(s.Until("it on the service's page", held))
	for _, path := range []string{"/", "/notices"} {
		s.do(s.Go(s.srv.URL+path), s.Until("it on "+path, held))
	}
	s.do(s.Click("end it now"), s.Until("it ended", "!document.querySelector('[data-hold]')"))
}

// A manager supposes that gates fail for a day: what goes down with them, what that costs,
// and who would be told; nothing of it is done.
func TestSupposingAFailure(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/services/boarding-gates"))
	s.do(s.Click("Suppose it fails"), s.Until("what goes down", "document.querySelector('[data-down=departure]')?.innerText.includes('needs Boarding gates')"))
	s.do(s.Choose("Lasts", "7 days"))
	s.do(s.Until("what it costs", "document.querySelector('[data-costs=departure] .word-missed')"))
	s.do(s.Until("who would be told", "document.querySelector('[data-tells=\"Harbour duty\"]')"))
	s.do(s.Until("a sentence", "document.querySelector('[data-supposed]').innerText.startsWith('It takes 1 other service down')"))
	s.do(s.Go(s.srv.URL+"/incidents"), s.Until("the incidents", "document.querySelector('section[aria-label=Open]')"))
	if down, err := browser.Eval[bool](s.Browser, "[...document.querySelectorAll('section[aria-label=Open] [data-about=service]')].some((e) => e.innerText.includes('Departure'))"); err != nil || down {
		t.Errorf("something was done: %s, %v", s.text("section[aria-label=Open]"), err)
	}
}
