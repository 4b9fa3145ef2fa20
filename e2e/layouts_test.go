package e2e

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/server/store/storetest"
)

// A layout is changed and looked at before it is saved; what is half filled in survives; a
// volume puts what was published together; and somebody stands for a customer's reports.
func TestLayoutsVolumesAndStandingApprovals(t *testing.T) {
	s := newStage(t, true)
	dir := t.TempDir()
	files := func(pattern string, want int) func() bool {
		return func() bool {
			found, _ := filepath.Glob(dir + "/" + pattern)
			return len(found) == want
		}
	}
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Downloads(dir), s.Go(s.srv.URL+"/set-up/layouts"),
		s.ClickOn("[data-layout=customers] button", "edit"), s.Fill("Published by", "Skerry Line, quality"), s.ClickOn("[aria-label='Outages: earlier']", ""), s.Fill("Colour of headings", "#ffffaa"),
		s.Click("Print a draft"), s.Reads("too light to be seen on paper"),
		// A reload keeps what was typed.
		s.Go(s.srv.URL+"/set-up/layouts"), s.ClickOn("[data-layout=customers] button", "edit"), s.Until("what was typed", "document.querySelector('form[aria-label=Layout] input[name=accent]').value === '#ffffaa'"),
		s.Fill("Colour of headings", "#5b4a8a"), s.Click("Print a draft"),
	)
	s.do(wait("the draft", files("*.pdf", 1)))
	s.do(s.Click("Save"), s.Until("that it is saved", "!document.querySelector('form[aria-label=Layout]')"))
	// A logo that is no picture is refused with the reason.
	s.do(
		s.ClickOn("[data-layout=own-house] button", "edit"),
		s.file("[aria-label='Publisher’s logo']", "mark.svg", "<svg xmlns='http://www.w3.org/2000/svg'><script>1</script></svg>"), s.Reads("no picture that can be read"), s.Click("Leave it"),
	)
	s.do(
		s.Go(s.srv.URL+"/reports/volumes"), s.Reads("None was made yet."), s.Fill("For periods that end in", "2019"), s.Click("Put it together"), s.Reads("publish its reports first"),
		s.Fill("For periods that end in", monthsAgo(2)), s.Click("Put it together"), s.Until("the volume", "document.querySelector('[data-volume]')"), s.ClickOn("[data-volume] a", "XLSX"),
	)
	s.do(wait("the workbook", files("*.xlsx", 1)))
	// The port authority's reports are published at once, once somebody stands for it.
	s.do(
		s.Go(s.srv.URL+"/set-up/customers"), s.ClickOn("[data-customer=port-authority] button", "edit"), s.Click("Publish at once what has a verdict"), s.Click("Save"),
		s.Until("that nobody stands for it", "document.querySelector('[data-standing-approval=port-authority]')"), s.Reads("nobody stands for it"), s.Click("stand for it"),
		s.Fill("Until the day", "2020-01-01"), s.ClickOn("[role=dialog] button", "Stand for it"), s.Reads("is over; take a day to come"),
		s.Fill("Until the day", ""), s.ClickOn("[role=dialog] button", "Stand for it"), s.Reads("published at once in the name of Mikkel Brand"), s.Click("withdraw that"), s.Reads("nobody stands for it"),
		// And who has a link reads how it stands.
		s.ClickOn("[data-customer=port-authority] summary", "Links to how it stands"), s.Fill("For whom", "Solveig Naust"), s.Click("Make a link"), s.Until("the link", "document.querySelector('[data-made-link]')"),
	)
	link := s.text("[data-made-link] code")
	s.do(
		s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.Go(link), s.Until("how it stands", "document.querySelectorAll('[data-agreement]').length === 2 && document.getElementById('hatch-maintenance')"), s.Reads("Port authority"), s.Reads("Boarding gates"),
	)
	if there, err := browser.Eval[bool](s.Browser, "document.body.innerText.includes('Ticket sales')"); err != nil || there {
		t.Errorf("what was promised to others is shown, %v", err)
	}
}

// A close has an owner, says who else is there, and keeps what was attached.
func TestTwoPeopleCloseAPeriod(t *testing.T) {
	s := onItsDay(t)
	path := s.srv.URL + "/close/gates-port-authority?period=" + "2026-10"
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(path), s.Reads("questions are open"), s.Choose("Sees to it", "Runa Vik"),
		s.Until("the owner", "[...document.querySelectorAll('.together [role=combobox]')].some((b) => b.innerText === 'Runa Vik')"),
		s.Go(s.srv.URL+"/you"), s.Click("sign out"), s.Until("signed out", "location.pathname === '/sign-in'"),
		s.SignIn(s.srv.URL, "operator@skerry.example", demo.Password), s.Go(path), s.Until("who was there", "document.querySelector('[data-others]')"), s.Reads("here too"),
		s.file("[aria-label='Attach a file']", "gate.txt", "The mast says so."), s.Until("the file", "document.querySelector('[data-file=\"gate.txt\"]')"),
		s.file("[aria-label='Attach a file']", "page.txt", "<html><script>1</script></html>"), s.Reads("by its first bytes"),
		s.Click("take away"), s.Until("that it is gone", "!document.querySelector('[data-file]')"),
	)
}

// The page of a report, which leaves the house, can be used by everybody too: upright or
// not, with all sections, and on its own.
func TestTheReportsPageIsAccessible(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password))
	pages, err := browser.Eval[[]string](s.Browser, `(async () => {
		const all = (await (await fetch('/api/v1/reports')).json()).items.filter((r) => r.state === 'published')
		const some = ['gates-port-authority', 'card-acquirer', 'tickets-passenger'].map((a) => all.find((r) => r.agreement === a))
		return Promise.all(some.map(async (r) => (await fetch('/api/v1/reports/' + r.id + '/document?format=html')).text()))
	})()`)
	s.do(err)
	for i, page := range pages {
		name := filepath.Join(t.TempDir(), "report.html")
		if err := os.WriteFile(name, []byte(page), 0o600); err != nil {
			t.Fatal(err)
		}
		s.do(s.Resize(1280, 844), s.Go("file://"+name), s.Until("the report", "document.querySelector('h1')"))
		s.accessible(filepath.Base(name), string(axe))
		s.do(s.Resize(390, 844))
		s.accessible(filepath.Base(name)+" on a phone", string(axe))
		wide, err := browser.Eval[int](s.Browser, "document.documentElement.scrollWidth")
		s.do(err)
		order, err := browser.Eval[[]string](s.Browser, "[...document.querySelectorAll('h1, h2')].map((h) => h.tagName + ' ' + h.innerText)")
		s.do(err)
		if wide > 390 || len(order) < 6 || order[0][:2] != "H1" {
			t.Errorf("page %d is %d pixels wide on a phone; its headings: %q", i, wide, order)
		}
	}
}

// file chooses a file for an input, as a person would.
func (s *stage) file(input, name, content string) error {
	_, err := browser.Eval[bool](s.Browser, `(() => {
		const files = new DataTransfer()
		files.items.add(new File([`+strconv.Quote(content)+`], `+strconv.Quote(name)+`))
		const input = [...document.querySelectorAll(`+strconv.Quote(input)+`)].find((e) => e.type === 'file')
		input.files = files.files
		input.dispatchEvent(new Event('change', { bubbles: true }))
		return true
	})()`)
	return err
}

// monthsAgo is the name of a month so many before this one, in the demo's zone.
func monthsAgo(n int) string {
	loc, err := time.LoadLocation(demo.Zone)
	if err != nil {
		panic(err)
	}
	now := storetest.Now().In(loc)
	return time.Date(now.Year(), now.Month()-time.Month(n), 1, 0, 0, 0, 0, loc).Format("2006-01")
}
