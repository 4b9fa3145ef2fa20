// Package e2e drives the whole product as a person would: a real server on a
// real database, real agents, a real browser.
package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent"
	"kestite/agent/store"
	"kestite/core/definition"
	"kestite/demo"
	"kestite/e2e/browser"
	"kestite/instrument"
	"kestite/server"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/standin"
	"kestite/web"
)

// TestMain leaves the browser to who asks for it, as make test does: its journeys take
// longer than all other tests together.
func TestMain(m *testing.M) {
	if os.Getenv("KESTITE_BROWSER") == "" {
		fmt.Println("the journeys in the browser were left out; make test makes them, or KESTITE_BROWSER=1")
		return
	}
	storetest.Parallel(m, 3) // browsers compute
}

// stage is a server with the demo's history and a browser in front of it.
type stage struct {
	t   *testing.T
	srv *server.Server
	*browser.Browser
}

func load(srv *server.Server) error {
	return demo.Load(context.Background(), srv, demo.Months, func(string) {})
}

// withHistory and thatDay are the demo's history, loaded once each: up to now, and up to a
// day of the past.
var (
	withHistory = storetest.Filled{Fill: load}
	thatDay     = storetest.Filled{Fill: load, At: time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)}
)

func newStage(t *testing.T, history bool, more ...func(*server.Options)) *stage {
	t.Helper()
	if history {
		return stageOf(t, &withHistory, more...)
	}
	return stageOf(t, nil, more...)
}

// onItsDay is a stage for what rests on what happened in a month, or on days that are
// named: there it is the 25th of November 2026, whatever day it is.
func onItsDay(t *testing.T) *stage {
	t.Helper()
	return stageOf(t, &thatDay)
}

func stageOf(t *testing.T, filled *storetest.Filled, more ...func(*server.Options)) *stage {
	t.Helper()
	t.Parallel() // each has a server, a database and a browser of its own
	options := append([]func(*server.Options){func(o *server.Options) { o.Web = web.Handler() }}, more...)
	moved := storetest.Moved()
	if filled != nil {
		options, moved = append(options, filled.Options(t)), filled.Moved()
	}
	srv := storetest.Started(t, options...)
	b, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	if moved != 0 {
		if err := b.MoveClock(moved); err != nil {
			t.Fatal(err)
		}
	}
	return &stage{t, srv, b}
}

// do fails the test at the first step that does not work.
func (s *stage) do(steps ...error) {
	s.t.Helper()
	for i, err := range steps {
		if err != nil {
			s.t.Fatalf("step %d: %v", i+1, err)
		}
	}
}

func (s *stage) text(selector string) string {
	s.t.Helper()
	text, err := browser.Eval[string](s.Browser, "document.querySelector("+fmt.Sprintf("%q", selector)+")?.innerText ?? ''")
	s.do(err)
	return text
}

// call makes a request as another system would, and expects a status.
func (s *stage) call(url string, want int) {
	s.t.Helper()
	resp, err := http.Get(url)
	s.do(err)
	resp.Body.Close()
	if resp.StatusCode != want {
		s.t.Errorf("GET %s: %s, want %d", url, resp.Status, want)
	}
}

// agent starts an agent with a token, as the command on the page would.
func (s *stage) agent(token string) {
	s.t.Helper()
	kept, err := store.Open(s.t.TempDir(), 10_000)
	s.do(err)
	a := &agent.Agent{Client: agent.NewClient(s.srv.URL, token), Store: kept, Version: "test", Log: slog.New(slog.DiscardHandler),
		Policy: instrument.LocalPolicy(), Now: storetest.Now}
	running, end := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := a.Run(running); err != nil {
			s.t.Error("agent:", err)
		}
	}()
	s.t.Cleanup(func() {
		end()
		<-done
		kept.Close()
	})
}

// location adds a location on the page and starts an agent with the token shown there.
func (s *stage) location(name string) {
	s.t.Helper()
	s.do(
		s.Go(s.srv.URL+"/set-up"),
		s.Click("Add a location"), s.Fill("Name", name), s.ClickOn("form button", "Add"), s.Reads(name),
	)
	id := strings.ToLower(name)
	s.do(s.ClickOn("[data-location='"+id+"'] button", "Start an agent here"), s.Until("the command", "document.querySelector('code.command')"))
	token := regexp.MustCompile(`kesa_\S+`).FindString(s.text("code.command"))
	if token == "" {
		s.t.Fatal("no token on the page")
	}
	s.agent(token)
	s.do(s.Until("the agent to be connected", "document.querySelector('[data-location=\""+id+"\"] .word-up')?.innerText === 'connected'"))
}

// One person goes the whole way: two locations, a service, first results, a
// break, what it costs, recovery, and the report of last month.
func TestFromAnAddressToAPublishedReport(t *testing.T) {
	s := newStage(t, true)
	web := &standin.Web{ID: "pier", Name: "Pier kiosk", Addr: "127.78.0.11:8478", Text: "Kiosk open"}
	s.do(web.Set(standin.OK))
	t.Cleanup(func() { web.Set(standin.Refused) })

	s.do(s.SignIn(s.srv.URL, "admin@skerry.example", demo.Password))
	s.location("Testvik")
	s.location("Testby")

	// A service from its address: what answers there is proposed and tried at once.
	s.do(s.Go(s.srv.URL+"/services/new"), s.Fill("Name", "Pier kiosk"), s.Fill("Address", "http://127.78.0.11:8478/"))
	for _, l := range []string{"Tolvik", "Eskerby"} { // the demo's own locations have no agent here
		s.do(s.Click(l))
	}
	s.do(
		s.Click("See what answers"),
		s.Until("both locations to answer", "[...document.querySelectorAll('[data-candidate=http] .word-up')].length === 2"),
		s.Until("ping from both", "[...document.querySelectorAll('[data-candidate=ping] .word-up')].length === 2"),
		s.Until("path from both", "[...document.querySelectorAll('[data-candidate=path] .word-up')].length === 2"),
		s.Choose("Measure every", "5 s"),
		s.Click("An availability was promised, or is aimed at"), // nothing is by itself
		s.Fill("Target", "100.1"), s.Click("Start measuring"), s.Reads("A percentage between 0 and 100"),
		s.Fill("Target", "99.9"), s.Fill("To whom", "Pier tenants"), s.ClickOn("[role=option]", "Add the customer Pier tenants"), s.Until("the list to close", "document.querySelector('[role=listbox]') === null"),
		s.Click("Start measuring"),
		s.Until("the first results", "document.querySelectorAll('[data-lane] .word-up').length >= 4"),
		s.Until("the service to be up", "document.querySelector('.head .word-up')"),
	)

	// Break it: Standing shows it down, and the allowance shrinks, without reload.
	s.do(s.ClickOn("nav a", "Standing"), s.Until("the agreement", "document.querySelector('[data-agreement=pier-kiosk]')"))
	s.do(web.Set(standin.Wrong))
	const left = "document.querySelector('[data-agreement=pier-kiosk] .pair b')?.innerText"
	before, err := browser.Eval[string](s.Browser, left)
	s.do(err)
	s.do(
		s.Until("Pier kiosk to be down", "[...document.querySelectorAll('[data-need=down]')].some((e) => e.innerText.includes('Pier kiosk down'))"),
		s.Until("the allowance to shrink", left+" !== "+fmt.Sprintf("%q", before)),
	)

	// Ask why: down to the measurement and its reason.
	s.do(
		s.ClickOn("[data-need=down] a", "explain"),
		s.Reads("the service's state: down"), s.Reads("status 500 is not in 200-399"),
	)

	// Recover.
	s.do(web.Set(standin.OK))
	s.do(
		s.Until("the service to be up again", "document.querySelector('.head .word-up')"),
		s.ClickOn("nav a", "Standing"),
		s.Until("nothing to be down", "document.querySelector('[data-agreement]') && !document.querySelector('[data-need=down]')"),
	)

	// Publish last month's report, download the PDF and read its figures.
	dir := t.TempDir()
	s.do(s.Downloads(dir), s.ClickOn("nav a", "Reports"), s.Fill("Agreement", "Ticket sales, Pass"), s.ClickOn("[role=option]",
		"Ticket sales, Passenger division"), s.Click("Draft the report"))
	s.do(s.Reads("a draft, not published"), s.Fill("Remark to the customer", "With thanks."), s.Click("Keep"), s.Click("Publish"),
		s.ClickOn("[role=dialog] button", "Publish"), s.Reads("SHA-256 of content and inputs"))
	availability := regexp.MustCompile(`\d+\.\d{4} %`).FindString(s.text(".statement"))
	sentence := s.text(".statement")
	s.do(s.ClickOn("a.link", "PDF"))
	var file string
	s.do(wait("the download", func() bool {
		found, _ := filepath.Glob(dir + "/*.pdf")
		if len(found) == 1 {
			file = found[0]
		}
		return file != ""
	}))
	out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
	s.do(err)
	for _, word := range []string{sentence, availability, "With thanks.", "Passenger division", "Europe/Oslo"} {
		if word == "" || !strings.Contains(strings.Join(strings.Fields(string(out)), " "), word) {
			t.Errorf("the PDF does not say %q:\n%s", word, out)
		}
	}
}

func wait(what string, ok func() bool) error {
	for end := storetest.Now().Add(browser.Patience); storetest.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if ok() {
			return nil
		}
	}
	return fmt.Errorf("waited for %s", what)
}

// A new installation leads from the console's token to the first location, where the line to the server is slow too.
func TestFirstStart(t *testing.T) {
	s := newStage(t, false, func(o *server.Options) {
		o.Web = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.Contains(r.URL.Path, "/locations-") {
				time.Sleep(2 * time.Second) // the page that follows comes late: what is shown until then must not lead elsewhere
			}
			web.Handler().ServeHTTP(w, r)
		})
	})
	s.do(
		s.Go(s.srv.URL+"/"), s.Reads("The first account"),
		s.Fill("One-time token", "kesf_guessed"), s.Fill("Organisation", "Skerry Line"), s.Fill("Time zone of your periods", "Europe/Oslo"),
		s.Fill("Your name", "Astrid Holm"), s.Fill("Your e-mail", "astrid@skerry.example"), s.Fill("Password", "a quiet harbour"),
		s.Click("Make the account"), s.Reads("the token is not the one that the server printed"),
		s.Fill("One-time token", s.srv.FirstToken), s.Click("Make the account"),
		s.Reads("Name the first one"),
		s.ClickOn("nav a", "Standing"), s.Reads("Nothing is measured yet"),
		s.ClickOn("nav a", "Services"), s.Reads("No service is described yet"),
	)
}

// Clauses are tried on the last months before anybody agrees to them.
func TestWhatIfBesideTheClauses(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/agreements/sailing-board"))
	s.do(s.Until("the periods as they were", "document.querySelector('[data-summary=own]')"))
	s.do(
		s.Fill("Target", "99.999"),
		s.Until("the periods under the new target", "document.querySelector('[data-summary=what-if]')"),
		s.Until("how near a month was", "[...document.querySelectorAll('[data-near]')].some((e) => e.innerText.includes('It would have been met with') || e.innerText.includes('more downtime would miss it'))"),
		s.Until("what could have been promised", "document.querySelector('[data-promisable]')?.innerText.includes('The target is above that.')"),
		s.Until("a month that would have been missed", "[...document.querySelectorAll('section .entry')].some((e) => e.querySelector('s')?.innerText === 'met' && e.querySelector('.word-missed'))"),
		s.Fill("Target", "100.1"), s.Reads("Give a target between 0 and 100 to see them."),
		s.Click("Save as revision 2"), s.Reads("A percentage between 0 and 100"),
	)
}

// An edit changes what was edited, and leaves all other clauses as they were.
func TestEditChangesWhatWasEdited(t *testing.T) {
	s := newStage(t, true)
	manager := servertest.Anonymous(t, s.srv.URL)
	manager.Must(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": demo.Password}, nil)
	type agreement struct {
		Revision int
		Spec     map[string]any
	}
	read := func() (out agreement) {
		t.Helper()
		var all struct {
			Items []struct {
				ID string
				agreement
			}
		}
		manager.Must(http.MethodGet, "/agreements", nil, &all)
		for _, a := range all.Items {
			if a.ID == "tickets-passenger" {
				return a.agreement
			}
		}
		t.Fatal("there is no such agreement")
		return out
	}
	before := read()
	before.Spec["maintenance"].(map[string]any)["within"] = map[string]any{"timezone": "Europe/Oslo", "weekly": []any{map[string]any{"days": []string{"SU"}, "from": "01:00", "to": "05:00"}}, "holidays": []string{}}
	manager.Must(http.MethodPut, "/agreements/tickets-passenger", map[string]any{"revision": before.Revision, "reason": "nights only", "spec": before.Spec}, nil)
	before = read()
	s.do(
		s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/agreements/tickets-passenger"), s.Until("the form", "document.querySelector('[data-summary=own]')"),
		s.Until("the times agreed for work", "document.querySelectorAll('[data-hours=within_plan] .row').length === 1"),
		s.Until("how the other promises fared", "[...document.querySelectorAll('section .entry')].some((e) => e.innerText.includes('all promises beside it met'))"),
		s.Fill("Outages a period, at most", "nine"), s.Click("Save as revision"), s.Reads("A whole number"),
		s.Fill("Outages a period, at most", "9"), s.Fill("Mean time to restore, at most", ""), s.Click("Save as revision"),
		s.Until("the list", "location.pathname === '/agreements'"),
	)
	after := read()
	want := map[string]any{"outages_at_most": 9.0, "longest_outage_s": 1800.0}
	if after.Revision != before.Revision+1 || !reflect.DeepEqual(after.Spec["objectives"], want) {
		t.Errorf("revision %d, objectives %v, want %v", after.Revision, after.Spec["objectives"], want)
	}
	delete(before.Spec, "objectives")
	delete(after.Spec, "objectives")
	if !reflect.DeepEqual(after.Spec, before.Spec) {
		t.Errorf("it was\n%v\nand is\n%v", before.Spec, after.Spec)
	}
}

// Every clause can be written down in the form, and what the server refuses stands at its field.
func TestEveryClauseInTheForm(t *testing.T) {
	s := newStage(t, true)
	manager := servertest.Anonymous(t, s.srv.URL)
	manager.Must(http.MethodPost, "/session", map[string]any{"email": "manager@skerry.example", "password": demo.Password}, nil)
	row := func(group string, n int, label, text string) error {
		_, err := browser.Eval[bool](s.Browser, fmt.Sprintf(`(() => {
			const row = document.querySelectorAll('[data-hours=%s] .row, [data-%s] .row')[%d]
			const f = [...row.querySelectorAll('label')].find((l) => l.innerText.trim() === %q).control
			f.focus(); f.select(); return true })()`, group, group, n, label))
		if err != nil {
			return err
		}
		return s.Type(text)
	}
	for _, step := range []func() error{ // one after the other: what comes after one that failed would only wait
		func() error { return s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password) },
		func() error { return s.Go(s.srv.URL + "/agreements/new?service=ticket-sales") },
		func() error { return s.Until("the form", "document.querySelector('[data-summary=what-if]')") },
		func() error { return s.Fill("Name", "Everything") },
		func() error { return s.Choose("Service hours", "by the week") },
		func() error { return s.Click("Add a row of hours") },
		func() error { return row("plan", 0, "To", "17:30") },
		func() error { return row("plan", 1, "From", "25:00") },
		func() error { return s.Fill("Holidays, without hours", "2026-12-25, 2027-02-30") },
		func() error { return s.Choose("Announced maintenance", "is taken out of the base") },
		func() error { return s.Fill("Notice", "36") },
		func() error { return s.Fill("Cap a period", "4") },
		func() error { return s.Choose("Work is agreed", "at times of the week") },
		func() error { return row("within_plan", 0, "To", "05:00") },
		func() error { return s.Choose("Emergency work", "is granted the same way") },
		func() error { return s.Fill("Notice of it", "15") },
		func() error { return s.Fill("Cap of it a period", "1.5") },
		func() error { return s.Fill("Time down while one of these fails is excused", "Card") },
		func() error { return s.ClickOn("[role=option]", "Card acquirer") },
		func() error { return s.Fill("Also this long before it", "30") },
		func() error { return s.Fill("And this long after it", "90") },
		func() error { return s.Choose("Answers in time, of the check", "Ticket sales page") },
		func() error { return s.Fill("Within", "800.5") },
		func() error { return s.Fill("This share of them", "95") },
		func() error { return s.Click("Add a credit") },
		func() error { return row("credits", 0, "A credit of", "5") },
		func() error { return s.Click("Add a credit") },
		func() error { return row("credits", 1, "Below an availability of", "99") },
		func() error { return row("credits", 1, "A credit of", "10") },
		func() error { return s.Click("Save the agreement") },
		func() error { return s.Reads("As 08:00, at most 24:00") },
		func() error { return row("plan", 1, "From", "22:00") },
		func() error { return row("plan", 1, "To", "02:00") },
		func() error { return s.Click("Save the agreement") },
		func() error {
			return s.Until("what the server says of a day that is none", "document.querySelector('[data-hours=plan]').innerText.includes('2027-02-30')")
		},
		func() error { return s.Fill("Holidays, without hours", "2026-12-25, 2027-01-01") },
		func() error { return s.Click("Save the agreement") },
		func() error { return s.Until("the list", "location.pathname === '/agreements'") },
	} {
		s.do(step())
	}
	var all struct {
		Items []struct {
			ID   string
			Spec definition.AgreementSpec
		}
	}
	manager.Must(http.MethodGet, "/agreements", nil, &all)
	i := slices.IndexFunc(all.Items, func(a struct {
		ID   string
		Spec definition.AgreementSpec
	}) bool {
		return a.Spec.Name == "Everything"
	})
	if i < 0 {
		t.Fatal("it was not written down")
	}
	have := all.Items[i].Spec
	cap, emergency := int64(4*3600), int64(5400)
	want := definition.AgreementSpec{
		Name: "Everything", Service: "ticket-sales", Timezone: demo.Zone, TargetPercent: "99.9", DegradedWeightPercent: "0", Unmeasured: "exclude", MinCoveragePercent: "0",
		ServiceHours: &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: demo.Zone, Weekly: []definition.WeeklyRow{
			{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "17:30"}, {Days: []string{"SA"}, From: "22:00", To: "02:00"},
		}, Holidays: []string{"2026-12-25", "2027-01-01"}}},
		Maintenance: &definition.MaintenanceSpec{Mode: "exclude", NoticeS: 36 * 3600, CapS: &cap,
			Within: &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: demo.Zone,
				Weekly: []definition.WeeklyRow{{Days: []string{"SU"}, From: "00:00", To: "05:00"}}, Holidays: []string{}}},
			Emergency: &definition.EmergencyAllowance{NoticeS: 900, CapS: &emergency}},
		Upstream: &definition.Upstream{Excuse: []string{"card-acquirer"}, LeadS: 30, LingerS: 90},
		Credits:  []definition.Credit{{BelowPercent: "99.9", CreditPercent: "5"}, {BelowPercent: "99", CreditPercent: "10"}},
		Latency:  &definition.Latency{Check: "ticket-sales-http", LimitMS: 800.5, TargetPercent: "95"},
	}
	if !reflect.DeepEqual(have, want) {
		a, _ := json.MarshalIndent(have, "", " ")
		b, _ := json.MarshalIndent(want, "", " ")
		t.Errorf("it says\n%s\nnot\n%s", a, b)
	}
}

// Say why: an account that has begun changes with it, and from then on accounts the period that it names; an
// edit leaves that alone. The band goes by the quarter, and each row says its own period.
func TestACorrectionAndABandByTheQuarter(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/agreements/messages"))
	present := func(revision int) string {
		return fmt.Sprintf("document.querySelector('[data-accounting]')?.innerText.includes('is accounted by revision %d.')", revision)
	}
	oslo, err := time.LoadLocation(demo.Zone)
	s.do(err)
	month := storetest.Now().In(oslo).Format("January 2006")
	s.do(
		s.Until("who accounts the present period", present(1)),
		s.Fill("Target", "98.5"), s.Click("Save as revision 2"), s.Until("the list", "location.pathname === '/agreements'"),
		s.Go(s.srv.URL+"/agreements/messages"), s.Until("the present period as it was", present(1)),
		s.Reads("Revision 2, which this form shows, counts from"),
		s.Choose("Counts from", month), s.Fill("Target", "98"), s.Click("Save as revision 3"),
		s.Reads("Say why: an account that has begun changes with it"),
		s.Fill("Why this correction", "The contract says 98 %."), s.Click("Save as revision 3"),
		s.Until("the list", "location.pathname === '/agreements'"),
		s.Go(s.srv.URL+"/agreements/messages"), s.Until("the present period corrected", present(3)),
	)
	s.do(
		s.Go(s.srv.URL+"/"), s.Until("an agreement by the quarter",
			"document.querySelector('[data-agreement=crew-roster] [data-own-period]')"),
		s.Until("the band by the quarter", `(() => {
			const band = document.querySelector('.band select')
			Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(band, 'quarter')
			return band.dispatchEvent(new Event('change', { bubbles: true }))
		})()`),
		s.Until("its own period to be the band", "location.search.includes('-Q') && document.querySelector('[data-agreement=crew-roster]') && !document.querySelector('[data-agreement=crew-roster] [data-own-period]')"),
		s.Until("the others' month", "document.querySelector('[data-agreement=sailing-board] [data-own-period]')"),
		s.Type("["), s.Until("the quarter before", "document.querySelector('.statement')?.innerText.includes('agreements were met')"),
		s.Type("."), s.Until("the present month", "!location.search.includes('span=')"),
	)
}

// What is retired by mistake comes back; what it was stays.
func TestRetireAndRestore(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "manager@skerry.example", demo.Password), s.Go(s.srv.URL+"/agreements/crew-roster"), s.Until("the form", "document.querySelector('[data-summary=own]')"))
	s.do(
		s.Click("Retire"), s.Reads("Its past accounts and its reports stay"), s.ClickOn("[role=dialog] button", "Retire the agreement"),
		s.Until("it among the retired", "document.querySelector('[data-retired]')?.innerText.includes('Crew roster')"),
		s.ClickOn("[data-retired] a", "Crew roster"), s.Click("Restore"),
		s.Until("it among the others", "!document.querySelector('[data-retired]') && [...document.querySelectorAll('.entry .name')].some((e) => e.innerText === 'Crew roster')"),
	)
	s.do(
		s.Go(s.srv.URL+"/checks/crew-roster-http"), s.Click("Retire"), s.ClickOn("[role=dialog] button", "Retire the check"),
		s.Until("the service's page", "location.pathname === '/services/crew-roster'"),
		s.Go(s.srv.URL+"/checks/crew-roster-http"), s.Click("Restore"),
		s.Until("its lanes again", "document.querySelector('[data-lane^=\"crew-roster-http\"]')"),
	)
}

// A viewer sees everything, is offered no change, and is refused one.
func TestViewersLookAndDoNotTouch(t *testing.T) {
	s := newStage(t, true)
	s.do(s.SignIn(s.srv.URL, "viewer@skerry.example", demo.Password))
	for path, ready := range map[string]string{
		"/services": "document.querySelector('[data-service]')", "/services/ticket-sales": "document.querySelector('[data-lane]')",
		"/agreements": "document.querySelector('.entry')", "/agreements/tickets-passenger": "document.querySelector('[data-summary]')",
		"/checks/ticket-sales-http": "document.querySelector('form')", "/reports": "document.querySelector('table')", "/set-up": "document.querySelector('[data-location]')",
	} {
		s.do(s.Go(s.srv.URL+path), s.Until(path, ready))
		offered, err := browser.Eval[[]string](s.Browser, `[...document.querySelectorAll('main button, main a')].filter((e) => e.offsetParent).map((e) => e.innerText.trim()).filter((t) => /^(Save|Retire|Restore|Add a|Describe a|Write down|Draft|Edit|Publish|Start|revoke)/.test(t))`)
		s.do(err)
		if len(offered) > 0 {
			t.Errorf("%s offers a viewer %v", path, offered)
		}
	}
	status, err := browser.Eval[int](s.Browser, `fetch('/api/v1/agreements/tickets-passenger', { method: 'DELETE' }).then((r) => r.status)`)
	s.do(err)
	if status != 403 {
		t.Errorf("a viewer retiring an agreement gets %d", status)
	}
}

// Keys go to the areas, step through months and find by name.
func TestKeys(t *testing.T) {
	s := newStage(t, true)
	// A key pressed as soon as the areas are drawn goes where it says.
	s.do(s.Go(s.srv.URL + "/sign-in"))
	_, err := browser.Eval[bool](s.Browser, `(() => {
		const watch = new MutationObserver(() => {
			if (!document.querySelector('nav[aria-label=Areas]')) return
			watch.disconnect()
			document.body.dispatchEvent(new KeyboardEvent('keydown', { key: '8', bubbles: true }))
		})
		watch.observe(document.body, { childList: true, subtree: true })
		return true
	})()`)
	s.do(err)
	s.do(s.Fill("E-mail", "viewer@skerry.example"), s.Fill("Password", demo.Password), s.Click("Sign in"))
	s.do(s.Until("Notices", "location.pathname === '/notices' && document.querySelector('[data-pool]')"), s.Type("1"))
	s.do(s.Until("Standing", "document.querySelector('[data-agreement]')"))
	s.do(
		s.Type("["), s.Until("the month before", "document.querySelector('.statement')?.innerText.includes('agreements were met')"),
		s.Type("2"), s.Until("Services with the period kept", "location.pathname === '/services' && location.search.includes('span=')"),
		s.Type("."), s.Until("the present month", "!location.search.includes('span=')"),
		s.Type("/"), s.Until("the finder", "document.querySelector('[role=dialog] input')"),
		s.Type("sailing service"), s.Until("the hit", "document.querySelector('[role=option]')?.innerText.includes('Sailing board')"),
		s.Type("\r"), s.Until("the service", "location.pathname === '/services/sailing-board'"),
		s.Type("?"), s.Reads("on the band: the time before, the time after"),
	)
}
