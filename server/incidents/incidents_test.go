package incidents_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server"
	"kestite/server/attached"
	"kestite/server/defining"
	"kestite/server/servertest"
	"kestite/server/store"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// harbour is a server with a quay network, some services that need it, and one that
// does not; each has a check that decides, ticket sales one that informs too.
type harbour struct {
	*testing.T
	srv      *server.Server
	services []string
	url      string
}

func newHarbour(t *testing.T, dependants int, options ...func(*server.Options)) *harbour {
	t.Helper()
	h := &harbour{T: t, srv: storetest.Server(t, options...)}
	h.make(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"})
	h.service("quay", definition.ServiceSpec{Name: "Quay network", Kind: "supporting"})
	for n := range dependants {
		h.service(fmt.Sprintf("gate-%02d", n), definition.ServiceSpec{Name: fmt.Sprintf("Gate %02d", n), Kind: "business",
			DependsOn: []definition.Dependency{{Services: []string{"quay"}}}})
	}
	h.service("tickets", definition.ServiceSpec{Name: "Ticket sales", Kind: "business"})
	informs := checkOf("tickets")
	informs.Name, informs.Role = "Certificate of tickets", definition.Informs
	h.make(catalogue.Check, "tickets-informs", informs)
	h.url = servertest.Serve(t, h.srv)
	return h
}

func checkOf(service string) definition.CheckSpec {
	return definition.CheckSpec{Service: service, Name: "Page", Kind: "http", Target: "http://" + service + ".skerry.example/", IntervalS: 60,
		TimeoutMS: 1000, StaleAfterS: 7200, Confirm: 1, Recover: 1, Quorum: "any", Role: definition.Decides, Locations: []string{"tolvik"}}
}

func (h *harbour) make(kind, id string, spec catalogue.Spec) {
	h.Helper()
	if _, err := h.srv.API.Definitions.Create(ctx, kind, id, "", spec, defining.Change{By: trail.By{Name: "test"},
		At: h.srv.API.Store.Now().Add(-48 * time.Hour)}); err != nil {
		h.Fatal(err)
	}
}

func (h *harbour) service(id string, spec definition.ServiceSpec) {
	h.Helper()
	spec.Combine = "worst"
	h.make(catalogue.Service, id, spec)
	h.make(catalogue.Check, id, checkOf(id))
	h.services = append(h.services, id)
}

// measured delivers a measurement of checks some time ago, and judges.
func (h *harbour) measured(ago time.Duration, outcome measure.Outcome, checks ...string) {
	h.Helper()
	var list []wire.Measurement
	for _, id := range checks {
		list = append(list, wire.Measurement{Check: id, At: span.Of(h.srv.API.Store.Now().Add(-ago)), Outcome: outcome, Detail: "seen in a test"})
	}
	if _, err := h.srv.API.Ingest.Batch(ctx, "tolvik", "", list); err != nil {
		h.Fatal(err)
	}
	h.judge()
}

func (h *harbour) judge() {
	h.Helper()
	for more := true; more; {
		var err error
		if more, err = h.srv.Judge.Due(ctx); err != nil {
			h.Fatal(err)
		}
	}
}

func (h *harbour) sweep() {
	h.Helper()
	if err := h.srv.API.Incidents.Sweep(ctx); err != nil {
		h.Fatal(err)
	}
}

type seen struct {
	ID        int64
	About     string
	Subject   string
	Headline  string
	Phase     string
	Severity  string
	State     string
	Times     int
	Unfounded bool
	Cause     int64
	Followers []struct{ Name string }
	Quiet     bool
	Planned   *struct{ Window, Name string }
	Review    *struct {
		Class, Cause string
		At           string
	}
	Acknowledged *struct{ By string }
	Assignee     string
}

func (h *harbour) list(c *servertest.Client, query string) []seen {
	h.Helper()
	var out struct{ Items []seen }
	c.Must(http.MethodGet, "/incidents?"+query, nil, &out)
	return out.Items
}

func (h *harbour) up(ago time.Duration) { h.Helper(); h.measured(ago, measure.OK, h.services...) }

func TestOneCauseIsOneIncident(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 40)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.up(4 * time.Minute)
	if got := h.list(viewer, ""); len(got) != 0 {
		t.Fatalf("all is well, and there are %+v", got)
	}
	// Those that need it are seen first.
	h.measured(3*time.Minute, measure.Failed, h.services[1:31]...)
	h.measured(2*time.Minute, measure.Failed, "quay")
	h.measured(2*time.Minute, measure.Failed, h.services[31:41]...)
	got := h.list(viewer, "open=true")
	if len(got) != 1 || got[0].Subject != "quay" || len(got[0].Followers) != 40 || got[0].Severity != "major" {
		t.Fatalf("%d stand by themselves: %+v", len(got), got)
	}
	if want := "Gate 00, Gate 01 and 38 more follow from it."; !strings.Contains(got[0].Headline, want) {
		t.Errorf("%q does not say %q", got[0].Headline, want)
	}
	var standing struct {
		Needs []struct {
			Kind, Subject string
			Incident      int64
			With          []string
		}
	}
	viewer.Must(http.MethodGet, "/standing", nil, &standing)
	if len(standing.Needs) == 0 || standing.Needs[0].Incident != got[0].ID || len(standing.Needs[0].With) != 40 {
		t.Errorf("Standing says %+v", standing.Needs)
	}
	h.measured(time.Minute, measure.OK, h.services...)
	if got := h.list(viewer, "open=true&all=true"); len(got) != 0 {
		t.Errorf("all is well again, and open are %+v", got)
	}
	all := h.list(viewer, "all=true&most=200")
	if len(all) != 41 {
		t.Errorf("%d incidents, not 41", len(all))
	}
	// Back soon: the same again.
	h.measured(100*time.Millisecond, measure.Failed, "quay")
	if got := h.list(viewer, "open=true&all=true"); len(got) == 0 || got[len(got)-1].Times != 2 && got[0].Times != 2 {
		t.Errorf("back soon: %+v", got)
	}
}

func TestWhatIsKnownLaterOfThePast(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.up(50 * time.Minute)
	h.up(5 * time.Minute)
	h.up(0)
	h.measured(30*time.Minute, measure.OK, "quay")
	h.measured(29*time.Minute, measure.Failed, "quay") // an agent was cut off, and delivers
	h.measured(27*time.Minute, measure.OK, "quay")
	got := h.list(viewer, "")
	if len(got) != 1 || got[0].Phase != "resolved" || got[0].Subject != "quay" {
		t.Fatalf("%+v", got)
	}
}

func TestChecksThatInformAndSilentLocations(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	operator := servertest.As(t, h.srv, h.url, access.Operator)
	h.up(3 * time.Minute)
	h.measured(3*time.Minute, measure.OK, "tickets-informs")
	h.measured(time.Minute, measure.Failed, "tickets-informs")
	h.sweep()
	got := h.list(operator, "open=true")
	if len(got) != 1 || got[0].About != "check" || got[0].Severity != "minor" || !strings.Contains(got[0].Headline,
		"Certificate of tickets of Ticket sales has been down") {
		t.Fatalf("%+v", got)
	}
	h.sweep()
	h.measured(100*time.Millisecond, measure.OK, "tickets-informs")
	h.sweep()
	if got := h.list(operator, "about=check"); len(got) != 1 || got[0].Phase != "resolved" {
		t.Errorf("it is well again: %+v", got)
	}
	servertest.Agent(t, h.srv, "tolvik")
	storetest.Exec(t, h.srv, "UPDATE agent SET seen_at = clock() - interval '5 minutes'")
	h.sweep()
	if got := h.list(operator, "open=true&about=location"); len(got) != 1 || got[0].Severity != "major" ||
		!strings.HasPrefix(got[0].Headline, "Nothing has come from Tolvik for 5 min") {
		t.Errorf("%+v", got)
	}
	storetest.Exec(t, h.srv, "UPDATE agent SET seen_at = clock()")
	h.sweep()
	if got := h.list(operator, "open=true"); len(got) != 0 {
		t.Errorf("%+v", got)
	}
}

// What began before there were incidents, or was missed, is found; what is retired ends.
func TestMissedAndRetired(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	manager := servertest.As(t, h.srv, h.url, access.Manager)
	h.up(4 * time.Minute)
	h.measured(time.Minute, measure.Failed, "quay")
	storetest.Exec(t, h.srv, "TRUNCATE incident CASCADE")
	h.sweep()
	if got := h.list(manager, "open=true"); len(got) != 1 || got[0].Subject != "quay" {
		t.Fatalf("%+v", got)
	}
	manager.Must(http.MethodDelete, fmt.Sprintf("/checks/quay?revision=%d", manager.Revision("/checks/quay")), nil, nil)
	manager.Must(http.MethodDelete, fmt.Sprintf("/services/quay?revision=%d", manager.Revision("/services/quay")), nil, nil)
	h.judge()
	h.sweep()
	if got := h.list(manager, ""); len(got) != 1 || got[0].Phase != "resolved" {
		t.Errorf("%+v", got)
	}
}

func TestPlannedWorkDisturbsNobody(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 1)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.make(catalogue.Window, "dredging", definition.WindowSpec{Name: "Dredging", Type: "planned", Services: []string{"quay"},
		Start: storetest.Now().UTC().Add(-time.Hour).Format("2006-01-02T15:04:05"), Timezone: "UTC", DurationS: 7200})
	h.up(4 * time.Minute)
	h.measured(time.Minute, measure.Failed, h.services[:2]...)
	got := h.list(viewer, "open=true")
	if len(got) != 1 || !got[0].Quiet || got[0].Planned == nil || got[0].Planned.Name != "Dredging" || len(got[0].Followers) != 1 {
		t.Fatalf("%+v", got)
	}
	var standing struct {
		Needs []struct{ Kind, Subject string }
	}
	viewer.Must(http.MethodGet, "/standing", nil, &standing)
	for _, n := range standing.Needs {
		if n.Kind == "down" {
			t.Errorf("planned work needs somebody: %+v", n)
		}
	}
}

func TestPoliciesOfServices(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.service("mild", definition.ServiceSpec{Name: "Mild", Kind: "business", Incidents: &definition.TroublePolicy{Degraded: "none",
		Down: "minor"}})
	h.up(4 * time.Minute)
	h.measured(2*time.Minute, measure.Degraded, "mild", "tickets")
	if got := h.list(viewer, "open=true"); len(got) != 1 || got[0].Subject != "tickets" || got[0].Severity != "minor" {
		t.Fatalf("%+v", got)
	}
	h.measured(time.Minute, measure.Failed, "mild", "tickets")
	for _, i := range h.list(viewer, "open=true") {
		if want := map[string]string{"mild": "minor", "tickets": "critical"}[i.Subject]; i.Severity != want {
			t.Errorf("%s: %s, not %s", i.Subject, i.Severity, want)
		}
	}
}

// People and the judge change one incident at the same time, and nothing is lost.
func TestNothingThatPeopleDoIsLost(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 3)
	operator := servertest.As(t, h.srv, h.url, access.Operator)
	h.up(4 * time.Minute)
	h.measured(3*time.Minute, measure.Failed, "tickets")
	id := h.list(operator, "open=true")[0].ID
	path := fmt.Sprintf("/incidents/%d", id)
	operator.Must(http.MethodPost, path+"/acknowledgement", map[string]any{"note": "On my way."}, nil)
	var wait sync.WaitGroup
	for n := range 20 {
		wait.Go(func() {
			if a := operator.Do(http.MethodPost, path+"/notes", map[string]any{"text": fmt.Sprintf("Note %02d", n)}); a.Status >= 300 {
				t.Error(a)
			}
		})
		wait.Go(func() {
			if _, err := h.srv.API.Ingest.Batch(ctx, "tolvik", "", []wire.Measurement{{Check: "tickets",
				At:      span.Of(storetest.Now().Add(-170 * time.Second)).Add(int64(n) * 1000),
				Outcome: []measure.Outcome{measure.OK, measure.Failed}[n%2]}}); err != nil {
				t.Error(err)
			}
			if _, err := h.srv.Judge.Due(store.For(ctx, store.Jobs)); err != nil { // as it runs: over connections of its own
				t.Error(err)
			}
		})
	}
	wait.Wait()
	h.judge()
	var detail struct {
		Incident seen
		Timeline []struct{ Kind, Text string }
	}
	operator.Must(http.MethodGet, path, nil, &detail)
	notes := 0
	for _, e := range detail.Timeline {
		if e.Kind == incident.Noted {
			notes++
		}
	}
	if notes != 21 || detail.Incident.Acknowledged == nil && detail.Incident.Phase != "resolved" {
		t.Errorf("%d notes, acknowledged %v, phase %s", notes, detail.Incident.Acknowledged, detail.Incident.Phase)
	}
}

func TestWorkOnAnIncident(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 1)
	operator, manager := servertest.As(t, h.srv, h.url, access.Operator), servertest.As(t, h.srv, h.url, access.Manager)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.up(4 * time.Minute)
	h.measured(2*time.Minute, measure.Failed, "quay", "tickets", "gate-00")
	byName := map[string]int64{}
	for _, i := range h.list(viewer, "open=true&all=true") {
		byName[i.Subject] = i.ID
	}
	path := fmt.Sprintf("/incidents/%d", byName["quay"])
	one := func() (out struct {
		Incident seen
		May      bool
		Timeline []struct{ Kind, Text, Address string }
		Files    []struct {
			ID         int64
			Name, Type string
		}
		Evidence []struct{ Moment, Label, Kind, State string }
		Strips   []struct{ Service, Role string }
		Together struct {
			Order  string
			Others []struct{ ID, Name string }
			Shared []struct{ Kind, What, Words string }
		}
	}) {
		t.Helper()
		operator.Must(http.MethodGet, path, nil, &out)
		return out
	}
	if a := viewer.Do(http.MethodPost, path+"/acknowledgement", map[string]any{}); a.Status != http.StatusForbidden {
		t.Errorf("a viewer: %v", a)
	}
	operator.Must(http.MethodPost, path+"/acknowledgement",
		map[string]any{"until": storetest.Now().Add(time.Hour).UTC().Format("2006-01-02T15:04:05Z")}, nil)
	if a := manager.Do(http.MethodPost, path+"/acknowledgement", map[string]any{}); a.Status != http.StatusConflict {
		t.Errorf("somebody else is on it: %v", a)
	}
	manager.Must(http.MethodPost, path+"/acknowledgement", map[string]any{"take": true}, nil)
	if got := one(); got.Incident.Phase != "acknowledged" || !got.May {
		t.Errorf("%+v", got.Incident)
	}
	var people struct{ Items []struct{ ID, Name string } }
	operator.Must(http.MethodGet, "/incidents/people", nil, &people)
	operator.Must(http.MethodPut, path+"/assignee", map[string]any{"person": people.Items[0].ID}, nil)
	for _, c := range []struct {
		method, path string
		body         any
		status       int
		field        string
	}{
		{http.MethodPut, "/assignee", map[string]any{"person": "nobody"}, 422, "body.person"},
		{http.MethodPost, "/notes", map[string]any{"text": "a\x00b"}, 422, "body.text"},
		{http.MethodPost, "/notes", map[string]any{"text": "   "}, 422, "body.text"},
		{http.MethodPost, "/links", map[string]any{"address": "javascript:alert(1)"}, 422, "body.address"},
		{http.MethodPost, "/resolution", map[string]any{}, 422, "body.note"},
		{http.MethodPut, "/review", map[string]any{"class": "power", "cause": "A fuse."}, 409, ""},
		{http.MethodPut, "/cause", map[string]any{"cause": byName["quay"]}, 422, "body.cause"},
		{http.MethodPut, "/cause", map[string]any{"cause": 99999}, 422, "body.cause"},
	} {
		a := operator.Do(c.method, path+c.path, c.body)
		if _, fields := a.Problem(); a.Status != c.status || c.field != "" && fields[c.field] == "" {
			t.Errorf("%s %s %v: %v", c.method, c.path, c.body, a)
		}
	}
	operator.Must(http.MethodPost, path+"/notes", map[string]any{"text": "<script>alert(1)</script> the mast has no power"}, nil)
	operator.Must(http.MethodPost, path+"/links", map[string]any{"address": "https://desk.skerry.example/214",
		"title": "The supplier's ticket"}, nil)

	// Under another one, and apart again.
	tickets := fmt.Sprintf("/incidents/%d", byName["tickets"])
	operator.Must(http.MethodPut, tickets+"/cause", map[string]any{"cause": byName["quay"]}, nil)
	if got := one(); len(got.Incident.Followers) != 2 {
		t.Errorf("%+v", got.Incident.Followers)
	}
	if a := operator.Do(http.MethodPut, path+"/cause", map[string]any{"cause": byName["tickets"]}); a.Status != 422 {
		t.Errorf("a circle: %v", a)
	}
	operator.Must(http.MethodDelete, tickets+"/cause", nil, nil)
	if got := one(); len(got.Incident.Followers) != 1 {
		t.Errorf("%+v", got.Incident.Followers)
	}

	// Evidence was asked for as it was believed: its check, its path and its name.
	kinds := map[string]bool{}
	for _, e := range one().Evidence {
		kinds[e.Kind] = true
		if e.Moment != "onset" || e.State != "waiting" {
			t.Errorf("%+v", e)
		}
	}
	if !kinds["http"] || !kinds["path"] || !kinds["dns"] {
		t.Errorf("evidence of %v", kinds)
	}

	// What began with it: in order, and what the evidence says that they have in common.
	if got := one().Together; len(got.Others) != 2 || got.Order == "" || len(got.Shared) != 0 {
		t.Errorf("together: %+v", got)
	}
	for _, id := range []int64{byName["quay"], byName["tickets"]} {
		ended, err := json.Marshal(wire.Result{Outcome: measure.Failed, Findings: &measure.Findings{Trace: &measure.Trace{Hops: []measure.Hop{{TTL: 1, Addrs: []string{"198.18.0.7"}, Sent: 3, Answered: 3}}}}})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := h.srv.API.Store.Exec(t.Context(), "UPDATE trial SET done_at = clock(), result = $1 WHERE incident = $2 AND spec ->> 'kind' = 'path'", ended, id); err != nil {
			t.Fatal(err)
		}
	}
	if got := one().Together.Shared; len(got) != 1 || got[0].Kind != "hop" || got[0].What != "198.18.0.7" {
		t.Errorf("together: %+v", got)
	}

	h.measured(100*time.Millisecond, measure.OK, h.services...)
	operator.Must(http.MethodPut, path+"/review", map[string]any{"class": "power", "cause": "A fuse in the mast.",
		"action": "A second feed."}, nil)
	if a := manager.Do(http.MethodPut, path+"/review", map[string]any{"class": "network",
		"cause": "Another story."}); a.Status != http.StatusConflict {
		t.Errorf("over another's review: %v", a)
	}
	if got := h.list(viewer, "find=fuse%20mast"); len(got) != 1 || got[0].Review == nil || got[0].Review.Class != "power" {
		t.Errorf("found by its review: %+v", got)
	}
	if got := h.list(viewer, "find=fuse%20crane"); len(got) != 0 {
		t.Errorf("found by what it does not say: %+v", got)
	}
	for _, odd := range []string{"%27%20%7C%20%21", "a%3A%2A%26", "%5C", "%00", "%FF"} {
		if a := viewer.Do(http.MethodGet, "/incidents?find="+odd, nil); a.Status >= 500 {
			t.Errorf("find %s: %v", odd, a)
		}
	}
	var lines int
	if a := viewer.Do(http.MethodGet, "/incidents/export", nil); a.Status == 200 {
		lines = strings.Count(string(a.Body), "\n")
	}
	if lines != 4 {
		t.Errorf("%d lines were exported, not a head and three", lines)
	}
}

func TestFilesOfIncidents(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	operator := servertest.As(t, h.srv, h.url, access.Operator)
	h.up(4 * time.Minute)
	h.measured(time.Minute, measure.Failed, "quay")
	id := h.list(operator, "open=true")[0].ID
	by := trail.By{Name: "test"}
	attach := func(name, content string) error {
		return h.srv.API.Incidents.Attach(ctx, by, id, name, []byte(content))
	}
	for name, content := range map[string]string{"empty.txt": "", "page.txt": "<html><script>alert(1)</script></html>", "drawing.svg": `<?xml version="1.0"?><svg/>`,
		"program.txt": "\x7fELF\x02\x01\x01", "long.txt": strings.Repeat("a", 2<<20+1), " ": "text"} {
		if err := attach(name, content); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	for range 2 { // the same twice is kept once
		if err := attach("../../etc/notes.txt", "What the mast said."); err != nil {
			t.Fatal(err)
		}
	}
	var detail struct {
		Files []struct {
			ID   int64
			Name string
		}
	}
	operator.Must(http.MethodGet, fmt.Sprintf("/incidents/%d", id), nil, &detail)
	if len(detail.Files) != 1 || detail.Files[0].Name != "notes.txt" {
		t.Fatalf("%+v", detail.Files)
	}
	for name, size := range map[string]int{"fits": attached.MostBytes, "one byte too many": attached.MostBytes + 1} {
		req, err := http.NewRequest(http.MethodPost, fmt.Sprintf("%s/api/v1/incidents/%d/files?name=long.txt", h.url, id), strings.NewReader("\x89PNG\r\n\x1a\n"+strings.Repeat("\x00", size-8)))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/octet-stream")
		resp, err := operator.HTTP.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if fits := resp.StatusCode < 300; fits != (size == attached.MostBytes) {
			t.Errorf("%s: %s", name, resp.Status)
		}
	}
	a := operator.Do(http.MethodGet, fmt.Sprintf("/incidents/%d/files/%d", id, detail.Files[0].ID), nil)
	if a.Status != 200 || string(a.Body) != "What the mast said." {
		t.Errorf("%v", a)
	}
}

// An allowance that goes too fast has an incident, and one that is used up; the next
// period has its own allowance.
func TestAllowancesThatGoTooFast(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0, storetest.At(t, storetest.MidMonth())) // as much of the period is left as was
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.make(catalogue.Customer, "freight", definition.CustomerSpec{Name: "Freight desk"})
	h.make(catalogue.Agreement, "promise", definition.AgreementSpec{Name: "Tickets for freight", Service: "tickets", Customer: "freight",
		TargetPercent: "99", Timezone: "UTC"})
	h.up(100 * time.Minute)
	look := func() []seen {
		t.Helper()
		if err := h.srv.API.Incidents.Allowances(ctx); err != nil {
			t.Fatal(err)
		}
		return h.list(viewer, "about=agreement")
	}
	if got := look(); len(got) != 0 {
		t.Fatalf("all is well: %+v", got)
	}
	h.measured(20*time.Minute, measure.Failed, "tickets")
	got := look()
	if len(got) != 1 || got[0].Severity != "major" || !strings.Contains(got[0].Headline, "Tickets for freight, Freight desk: ") ||
		!strings.Contains(got[0].Headline, " of downtime in ") {
		t.Fatalf("%+v", got)
	}
	var standing struct {
		Needs []struct{ Kind, Subject, Text string }
	}
	viewer.Must(http.MethodGet, "/standing", nil, &standing)
	said := false
	for _, n := range standing.Needs {
		said = said || n.Kind == "allowance" && n.Subject == "Tickets for freight, Freight desk" && strings.Contains(n.Text,
			"its allowance ends in")
	}
	if !said {
		t.Errorf("Standing says %+v", standing.Needs)
	}
	var detail struct {
		Incident seen
		Costs    []struct{ Agreement, Words string }
	}
	viewer.Must(http.MethodGet, fmt.Sprintf("/incidents/%d", got[0].ID), nil, &detail)
	if len(detail.Costs) != 1 || detail.Costs[0].Agreement != "promise" {
		t.Errorf("%+v", detail.Costs)
	}
	if again := look(); len(again) != 1 || again[0].Times != 1 {
		t.Errorf("looked at again: %+v", again)
	}
	h.measured(10*time.Minute, measure.OK, "tickets")
	if got := look(); len(got) != 1 || got[0].Phase != "resolved" && got[0].Phase != "open" {
		t.Errorf("%+v", got)
	}
	// Who reads the account of a month sees when somebody would have been called.
	var periods struct{ Items []struct{ Calls []string } }
	viewer.Must(http.MethodGet, "/agreements/promise/periods?last=2", nil, &periods)
	calls := 0
	for _, p := range periods.Items {
		calls += len(p.Calls)
	}
	if calls == 0 {
		t.Errorf("%+v", periods)
	}
}

// Everything fails at once, and several judge: nobody waits for each other in a circle.
func TestManyFailAtOnce(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 120)
	viewer := servertest.As(t, h.srv, h.url, access.Viewer)
	h.up(4 * time.Minute)
	var list []wire.Measurement
	for _, id := range h.services {
		list = append(list, wire.Measurement{Check: id, At: span.Of(storetest.Now().Add(-time.Minute)), Outcome: measure.Failed})
	}
	if _, err := h.srv.API.Ingest.Batch(ctx, "tolvik", "", list); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			for {
				more, err := h.srv.Judge.Due(store.For(ctx, store.Jobs))
				if err != nil {
					t.Error(err)
				}
				if waiting, err := h.srv.Judge.Waiting(ctx); err != nil || !more && len(waiting) == 0 {
					return
				}
			}
		})
	}
	wait.Wait()
	open := h.list(viewer, "open=true")
	if len(open) != 2 { // the network with all gates, and ticket sales
		t.Errorf("%d stand by themselves", len(open))
	}
	for _, i := range open {
		if i.Subject == "quay" && len(i.Followers) != 120 {
			t.Errorf("%d gates follow", len(i.Followers))
		}
	}
}

// What is written is kept, however much it is.
func TestMoreWordsThanCanBeFound(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	h.up(4 * time.Minute)
	h.measured(time.Minute, measure.Failed, "quay")
	id := h.list(servertest.As(t, h.srv, h.url, access.Viewer), "open=true")[0].ID
	for n := range 400 {
		text := fmt.Sprintf("%s%d %s%d", strings.Repeat("a", 2000), n, strings.Repeat("b", 2000), n)
		if err := h.srv.API.Incidents.Do(ctx, trail.By{Name: "test"}, id, "note", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
			return i.Note("test", now, text, false)
		}); err != nil {
			t.Fatalf("note %d: %v", n, err)
		}
	}
}

// Where no server was there for a while, agents have the time to call before their
// locations count as silent; what was silent before stays so until they do.
func TestAServerThatComesBackWaitsForAgents(t *testing.T) {
	h := newHarbour(t, 0)
	storetest.Exec(t, h.srv, `INSERT INTO agent (id, location, token_hash, created_by, created_at, seen_at)
		VALUES ('00000000-0000-4000-8000-000000000001', 'tolvik', 'x', 'test', clock() - interval '1 hour', clock() - interval '10 minutes')`)
	open := func() int {
		t.Helper()
		rows, err := h.srv.API.Store.OpenIncidentsAbout(ctx, incident.Location)
		if err != nil {
			t.Fatal(err)
		}
		return len(rows)
	}
	there := func(ago string) {
		t.Helper()
		storetest.Exec(t, h.srv, `INSERT INTO attendance (since_at, last_at, judged_at, worked_at) VALUES (clock() - $1::interval, clock(), clock(), clock())
			ON CONFLICT (only_row) DO UPDATE SET since_at = excluded.since_at`, ago)
	}
	there("10 seconds")
	h.sweep()
	if n := open(); n != 0 {
		t.Errorf("ten seconds after a server came back %d locations are silent", n)
	}
	there("1 minute")
	h.sweep()
	if n := open(); n != 1 {
		t.Fatalf("a minute after it came back %d locations are silent, want 1", n)
	}
	there("10 seconds")
	h.sweep()
	if n := open(); n != 1 {
		t.Errorf("a server that has just come back ended it: %d are silent", n)
	}
	storetest.Exec(t, h.srv, "UPDATE agent SET seen_at = clock()")
	h.sweep()
	if n := open(); n != 0 {
		t.Errorf("once its agent called, %d are silent", n)
	}
}
