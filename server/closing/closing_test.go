package closing_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/api"
	"kestite/server/attached"
	"kestite/server/defining"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// quay is a service that was measured last week, and needs a supplier that promised
// something: what was measured came all at once today, with a clock that was not sure.
func quay(t *testing.T) (srv *server.Server, at string, week string) {
	t.Helper()
	t.Parallel()
	srv = storetest.Server(t)
	now := storetest.Now()
	began := now.AddDate(0, 0, -15)
	loc, err := calendar.Zone("UTC")
	if err != nil {
		t.Fatal(err)
	}
	last := calendar.Cycle{Unit: calendar.Week}.At(span.Of(now).Add(-7*span.Day), loc)
	promise := func(name, service, target string, edit func(*definition.AgreementSpec)) definition.AgreementSpec {
		a := definition.AgreementSpec{Name: name, Service: service, Timezone: "UTC", TargetPercent: definition.Percent(target), DegradedWeightPercent: "0", MinCoveragePercent: "0",
			Unmeasured: definition.UnmeasuredExclude, Period: &definition.Cycle{Unit: calendar.Week}, From: began.UTC().Format("2006-01-02")}
		if edit != nil {
			edit(&a)
		}
		return a
	}
	check := func(service, id string) definition.CheckSpec {
		return definition.CheckSpec{Service: service, Name: id, Kind: measure.HTTP.Name, Target: "http://127.0.0.1/", Role: definition.Decides, IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Confirm: 2, Recover: 1,
			Locations: []string{"tolvik"}}
	}
	made := func(kind, id string, spec catalogue.Spec) catalogue.Step {
		return catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec}
	}
	steps := []catalogue.Step{
		made(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}),
		made(catalogue.Customer, "port", definition.CustomerSpec{Name: "Port authority"}),
		made(catalogue.Service, "acquirer", definition.ServiceSpec{Name: "Card acquirer", Kind: definition.Supplier, Combine: definition.Worst}),
		made(catalogue.Service, "quay", definition.ServiceSpec{Name: "Quay", Kind: definition.Business, Combine: definition.Worst, DependsOn: []definition.Dependency{{Services: []string{"acquirer"}}}}),
		made(catalogue.Check, "quay-http", check("quay", "quay-http")),
		made(catalogue.Check, "acquirer-http", check("acquirer", "acquirer-http")),
		made(catalogue.Agreement, "quay", promise("Quay", "quay", "99.9", func(a *definition.AgreementSpec) { a.Customer = "port" })),
		made(catalogue.Agreement, "acquirer", promise("Card acquirer", "acquirer", "99.9", func(a *definition.AgreementSpec) {
			a.Fee, a.Credits = &definition.Fee{Amount: "1000.00", Currency: "NOK"}, []definition.Credit{{BelowPercent: "99.9", CreditPercent: "10"}}
		})),
	}
	if _, err := srv.API.Definitions.Apply(t.Context(), defining.Change{By: trail.By{Name: "test"}, At: began}, steps...); err != nil {
		t.Fatal(err)
	}
	at = servertest.Serve(t, srv)
	token := servertest.Agent(t, srv, "tolvik")
	middle := last.Span().From.Add(3 * span.Day)
	var list []wire.Measurement
	for i := range 180 {
		for _, c := range []string{"quay-http", "acquirer-http"} {
			m := wire.Measurement{Check: c, At: middle.Add(int64(i) * span.Minute), Outcome: measure.OK, Measures: map[string]float64{"total_ms": 12}}
			if c == "acquirer-http" && i >= 60 && i < 90 {
				m.Outcome, m.Measures = measure.Failed, nil
			}
			if c == "quay-http" && i < 7 {
				m.Clock = &wire.Clock{Offset: 3, Uncertain: 1400 + int64(i)}
			}
			list = append(list, m)
		}
	}
	if a := servertest.DeliverPacked(t, at, token, servertest.Packed(t, wire.Batch{Measurements: list})); a.Status != http.StatusOK || strings.Contains(string(a.Body), "reason") {
		t.Fatal(a)
	}
	if err := srv.Judge.Hours(context.Background()); err != nil {
		t.Fatal(err)
	}
	return srv, at, last.Name()
}

func look(t *testing.T, c *servertest.Client, agreement, period string) (page api.ClosePage) {
	t.Helper()
	c.Must(http.MethodGet, "/closes/"+agreement+"?period="+url.QueryEscape(period), nil, &page)
	return page
}

func kinds(p api.ClosePage) string {
	var out []string
	for _, q := range p.Questions {
		if k := fmt.Sprintf("%s %d %s", q.Kind, q.Count, name(q.Subject)); !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return strings.Join(out, "; ")
}

func name(r *api.Ref) string {
	if r == nil {
		return ""
	}
	return r.Name
}

// A close asks about measurements that came late or whose instants are unsure, about what is
// objected to and what suppliers owe; the list counts them as the page does.
func TestWhatACloseAsksBesideTheAccount(t *testing.T) {
	srv, at, week := quay(t)
	manager := servertest.As(t, srv, at, access.Manager)
	page := look(t, manager, "quay", week)
	if got := kinds(page); !strings.Contains(got, "late 360 Tolvik") || !strings.Contains(got, "clock 7 Tolvik") || strings.Contains(got, "claim") {
		t.Errorf("%s", got)
	}
	// The acquirer's own account is of its own measurements.
	if got := kinds(look(t, manager, "acquirer", week)); !strings.Contains(got, "late 180 Tolvik") || strings.Contains(got, "clock") {
		t.Errorf("%s", got)
	}
	for _, q := range page.Questions {
		if q.Kind == "clock" && q.MS != 1406 {
			t.Errorf("%+v", q)
		}
	}
	publish := func(agreement string) string {
		t.Helper()
		var drafted struct{ ID string }
		manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": agreement, "period": week}, &drafted)
		var r api.ReportPage
		manager.Must(http.MethodGet, "/reports/"+drafted.ID, nil, &r)
		manager.Must(http.MethodPost, "/reports/"+drafted.ID+"/publish", map[string]any{"seen": r.Seen}, nil)
		return drafted.ID
	}
	publish("acquirer")
	report := publish("quay")
	customer := servertest.With(t, srv, at, "liv", access.Rights{Role: access.Customer, Customer: "port"})
	customer.Must(http.MethodPost, "/reports/"+report+"/objections", map[string]any{"text": "It was down on Tuesday."}, nil)
	page = look(t, manager, "quay", week)
	got := kinds(page)
	if !strings.Contains(got, "claim 1 Card acquirer") || !strings.Contains(got, "objection 1 the report") {
		t.Errorf("%s", got)
	}
	for _, q := range page.Questions {
		if q.Kind == "claim" && (!strings.Contains(q.Why, "100.00 NOK") && !strings.Contains(q.Why, "NOK 100.00") || !strings.Contains(q.Why, "nobody has claimed it") || !q.Answerable) {
			t.Errorf("%+v", q)
		}
	}
	var list api.Closes
	manager.Must(http.MethodGet, "/closes?span="+url.QueryEscape(week), nil, &list)
	for _, l := range list.Lines {
		if p := look(t, manager, l.Agreement.ID, week); l.Left != p.Left || l.All != len(p.Questions) {
			t.Errorf("%s: the list counts %d of %d, the page %d of %d", l.Agreement.ID, l.Left, l.All, p.Left, len(p.Questions))
		}
	}
	if len(list.Lines) != 2 {
		t.Errorf("%d lines", len(list.Lines))
	}
	// Claimed, it is a document that says what it follows from.
	manager.Must(http.MethodPost, "/credits/entries", map[string]any{"agreement": "acquirer", "period": week, "kind": "claim", "amount": "60.00", "reference": "Letter 17"}, nil)
	var ledger struct{ Items []api.CreditLine }
	manager.Must(http.MethodGet, "/credits", nil, &ledger)
	entry := fmt.Sprintf("/credits/acquirer/entries/%d", ledger.Items[0].Entries[0].ID)
	var r api.ReportPage
	manager.Must(http.MethodGet, "/reports/"+ledger.Items[0].Report, nil, &r)
	claim := manager.Do(http.MethodGet, entry+"/document", nil)
	text := servertest.PDFText(t, claim.Body)
	for _, want := range []string{"Claim to Card acquirer", "NOK 60.00 are claimed", "Letter 17", r.Sentence, r.Seal.Code, "Outages", "What was promised"} {
		if !strings.Contains(strings.Join(strings.Fields(text), " "), want) {
			t.Errorf("the claim does not say %q: %s", want, text)
		}
	}
	viewer := servertest.With(t, srv, at, "viggo", access.Rights{Role: access.Viewer})
	for what, a := range map[string]servertest.Answer{"a viewer": viewer.Do(http.MethodGet, entry+"/document", nil), "another agreement": manager.Do(http.MethodGet, strings.Replace(entry, "acquirer", "quay", 1)+"/document", nil)} {
		if a.Status != 403 && a.Status != 404 {
			t.Errorf("%s takes the claim: %s", what, a)
		}
	}
	if got := kinds(look(t, manager, "quay", week)); !strings.Contains(got, "claim 1") {
		t.Errorf("claimed and not settled: %s", got)
	}
	manager.Must(http.MethodDelete, entry, nil, nil)
	if a := manager.Do(http.MethodGet, entry+"/document", nil); a.Status != 409 {
		t.Errorf("a claim that was taken back: %s", a)
	}
	// Paid, it is asked no more; answered words stay as long as it is the same.
	manager.Must(http.MethodPost, "/credits/entries", map[string]any{"agreement": "acquirer", "period": week, "kind": "payment", "amount": "100.00"}, nil)
	if got := kinds(look(t, manager, "quay", week)); strings.Contains(got, "claim") {
		t.Errorf("paid: %s", got)
	}
}

// Two people close a period: one of them owns it and is told, each sees that the other is
// there, and what they attach stays with what was asked until it is frozen.
func TestTwoPeopleAtAClose(t *testing.T) {
	srv, at, week := quay(t)
	manager := servertest.With(t, srv, at, "astrid", access.Rights{Role: access.Manager})
	operator := servertest.With(t, srv, at, "runa", access.Rights{Role: access.Operator})
	viewer := servertest.With(t, srv, at, "viggo", access.Rights{Role: access.Viewer})
	path, of := "/closes/quay", "?period="+url.QueryEscape(week)
	idOf := func(c *servertest.Client) string {
		var me struct{ ID string }
		c.Must(http.MethodGet, "/session", nil, &me)
		return me.ID
	}
	for _, c := range []struct {
		what   string
		by     *servertest.Client
		person string
		status int
	}{{"a viewer who says so", viewer, idOf(operator), 403}, {"a viewer who is to", manager, idOf(viewer), 422}, {"nobody known", manager, "00000000-0000-0000-0000-000000000000", 422}, {"no id", manager, "runa", 422}, {"an operator", manager, idOf(operator), 204}} {
		if a := c.by.Do(http.MethodPut, path+"/owner"+of, map[string]any{"person": c.person}); a.Status != c.status {
			t.Errorf("%s: %s", c.what, a)
		}
	}
	page := look(t, operator, "quay", week)
	if page.Owner == nil || page.Owner.Name != "A runa" || !page.Owner.Mine {
		t.Errorf("%+v", page.Owner)
	}
	var told int
	if err := srv.API.Store.Pool.QueryRow(t.Context(), "SELECT count(*) FROM delivery WHERE person = $1 AND kind = 'inbox' AND subject LIKE 'Yours to close: Quay%'", idOf(operator)).Scan(&told); err != nil || told != 1 {
		t.Errorf("the owner is told %d times, %v", told, err)
	}
	visit := func(c *servertest.Client) string {
		var out api.Others
		c.Must(http.MethodPost, path+"/visit"+of, nil, &out)
		return strings.Join(out.Others, ", ")
	}
	if first, second, again := visit(manager), visit(operator), visit(manager); first != "" || second != "A astrid" || again != "A runa" {
		t.Errorf("%q, %q, %q", first, second, again)
	}
	if a := manager.Do(http.MethodPost, "/closes/no-such/visit"+of, nil); a.Status != 404 {
		t.Errorf("a visit to nothing: %s", a)
	}

	key := page.Questions[0].Key
	attach := func(c *servertest.Client, key, name string, content []byte) servertest.Answer {
		return c.Do(http.MethodPost, path+"/files"+of+"&key="+url.QueryEscape(key)+"&name="+url.QueryEscape(name), content)
	}
	png := append([]byte("\x89PNG\r\n\x1a\n"), make([]byte, 100)...)
	for _, c := range []struct {
		what    string
		by      *servertest.Client
		key     string
		content []byte
		status  int
	}{{"a viewer", viewer, key, png, 403}, {"a page", operator, key, []byte("<html><script>"), 422}, {"too long", operator, key, append(png, make([]byte, attached.MostBytes)...), 413},
		{"what is not asked", operator, "outage never", png, 409}, {"a picture", operator, key, png, 204}, {"the same again", manager, key, png, 204}} {
		if a := attach(c.by, c.key, "../../pier.png", c.content); a.Status != c.status {
			t.Errorf("%s: %s", c.what, a)
		}
	}
	page = look(t, viewer, "quay", week)
	if len(page.Questions[0].Files) != 1 || page.Questions[0].Files[0].Name != "pier.png" || page.Questions[0].Files[0].By != "A runa" {
		t.Fatalf("%+v", page.Questions[0].Files)
	}
	file := fmt.Sprintf("%s/files/%d%s", path, page.Questions[0].Files[0].ID, of)
	if a := viewer.Do(http.MethodGet, file, nil); a.Status != 200 || string(a.Body) != string(png) || a.Header.Get("Content-Type") != "image/png" || !strings.Contains(a.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("%d %v", a.Status, a.Header)
	}
	if a := viewer.Do(http.MethodGet, strings.Replace(file, "/quay/", "/acquirer/", 1), nil); a.Status != 404 {
		t.Errorf("of another close: %s", a)
	}
	// Frozen, nothing of it changes.
	var keys []string
	for _, q := range page.Questions {
		keys = append(keys, q.Key)
	}
	operator.Must(http.MethodPut, path+"/answers"+of, map[string]any{"keys": keys, "text": "The agent had no line."}, nil)
	manager.Must(http.MethodPost, path+"/freeze"+of, map[string]any{"seen": look(t, manager, "quay", week).Seen}, nil)
	for what, a := range map[string]servertest.Answer{"attaching": attach(operator, key, "x.png", append(png, 1)), "taking away": operator.Do(http.MethodDelete, file, nil), "giving away": manager.Do(http.MethodPut, path+"/owner"+of, map[string]any{})} {
		if a.Status != 409 {
			t.Errorf("%s after the freeze: %s", what, a)
		}
	}
	manager.Must(http.MethodPost, path+"/unfreeze"+of, map[string]any{"reason": "Another file."}, nil)
	if a := operator.Do(http.MethodDelete, file, nil); a.Status != 204 {
		t.Error(a)
	}
	if a := operator.Do(http.MethodDelete, file, nil); a.Status != 404 {
		t.Errorf("taken away twice: %s", a)
	}
	var line api.Closes
	if err := json.Unmarshal(manager.Do(http.MethodGet, "/closes?span="+url.QueryEscape(week), nil).Body, &line); err != nil || !slices.ContainsFunc(line.Lines, func(l api.CloseLine) bool { return l.Agreement.ID == "quay" && l.Owner == "A runa" }) {
		t.Errorf("%+v, %v", line, err)
	}
}

// A published report says how it differs from today's account, and from where measurements
// came since; a customer is told by a revision, and not by that.
func TestWhatCameSinceIsNamed(t *testing.T) {
	srv, at, week := quay(t)
	manager := servertest.As(t, srv, at, access.Manager)
	var drafted struct{ ID string }
	manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": "quay", "period": week}, &drafted)
	path := "/reports/" + drafted.ID
	read := func(c *servertest.Client) (r api.ReportPage) {
		t.Helper()
		c.Must(http.MethodGet, path, nil, &r)
		return r
	}
	before := read(manager)
	manager.Must(http.MethodPost, path+"/publish", map[string]any{"seen": before.Seen}, nil)
	if today := read(manager).Today; len(today) != 0 {
		t.Errorf("nothing came, and it says %q", today)
	}
	time.Sleep(1100 * time.Millisecond) // instants of publication are whole seconds
	var list []wire.Measurement
	from := before.From.Add(3*span.Day + 200*span.Minute)
	for i := range 16 {
		list = append(list, wire.Measurement{Check: "quay-http", At: from.Add(int64(i) * span.Minute), Outcome: measure.Failed})
	}
	if a := servertest.DeliverPacked(t, at, servertest.Agent(t, srv, "tolvik"), servertest.Packed(t, wire.Batch{Measurements: list})); a.Status != http.StatusOK {
		t.Fatal(a)
	}
	// What was published stands on every screen, with today's beside it and why.
	published := *before.Figures.AvailabilityPercent
	customer := servertest.With(t, srv, at, "liv", access.Rights{Role: access.Customer, Customer: "port"})
	for who, c := range map[string]*servertest.Client{"manager": manager, "customer": customer} {
		var standing api.Standing
		var some api.Accounts
		var one struct{ api.AccountView }
		var periods api.PeriodAccounts
		of := "?span=" + url.QueryEscape(week)
		c.Must(http.MethodGet, "/standing"+of, nil, &standing)
		c.Must(http.MethodGet, "/accounts"+of+"&ids=quay", nil, &some)
		c.Must(http.MethodGet, "/agreements/quay/account"+of, nil, &one)
		c.Must(http.MethodGet, "/agreements/quay/periods?last=3", nil, &periods)
		type shown struct {
			figures api.Figures
			stands  *api.StandsView
		}
		screens := map[string]shown{"some": {some.Accounts[0].Figures, some.Accounts[0].Stands}, "one": {one.Figures, one.Stands}}
		for _, a := range standing.Accounts {
			if a.Agreement == "quay" {
				screens["standing"] = shown{a.Figures, a.Stands}
			}
		}
		for _, p := range periods.Items {
			if p.Period == week {
				screens["periods"] = shown{p.Figures, p.Stands}
			}
		}
		if len(screens) != 4 {
			t.Fatalf("%s: only %d screens show it", who, len(screens))
		}
		for screen, x := range screens {
			if got := *x.figures.AvailabilityPercent; got != published {
				t.Errorf("%s, %s: shows %s, and %s was published", who, screen, got, published)
			}
			switch {
			case x.stands == nil || x.stands.How != "published" || x.stands.Number != 1 || x.stands.Report != drafted.ID:
				t.Errorf("%s, %s: stands by %+v", who, screen, x.stands)
			case who == "customer" && (x.stands.Today != nil || len(x.stands.Differs) > 0):
				t.Errorf("a customer is told on %s: %+v", screen, x.stands)
			case who == "manager" && (x.stands.Today == nil || *x.stands.Today.AvailabilityPercent == published || len(x.stands.Differs) == 0):
				t.Errorf("%s: today's is not beside it: %+v", screen, x.stands)
			}
		}
		if one.AsOf != one.Stands.At || periods.Promisable.Always == nil || *periods.Promisable.Always != published {
			t.Errorf("%s: as of %s, could be promised %v", who, one.AsOf, periods.Promisable.Always)
		}
	}
	today := strings.Join(read(manager).Today, " ")
	if !strings.Contains(today, "The downtime is 1") || !strings.Contains(today, "16 measurements from Tolvik came after it was published.") {
		t.Errorf("%q", today)
	}
	if today := read(customer).Today; len(today) != 0 {
		t.Errorf("a customer is told %q", today)
	}
}
