package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/server"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// fixture is a server with a service measured from two locations.
type fixture struct {
	srv     *server.Server
	url     string
	manager *servertest.Client
	service string
	check   string
	tolvik  string // agent tokens
	eskerby string
}

func setUp(t *testing.T) *fixture {
	t.Helper()
	t.Parallel() // each has a server and a database of its own
	srv := storetest.Server(t)
	f := &fixture{srv: srv, url: servertest.Serve(t, srv)}
	f.manager = servertest.As(t, srv, f.url, access.Manager)
	for _, name := range []string{"Tolvik", "Eskerby"} {
		f.manager.Create("/locations", map[string]any{"name": name})
	}
	f.manager.Create("/customers", map[string]any{"name": "Passenger division"})
	f.service = f.manager.Create("/services", map[string]any{"name": "Ticket sales", "kind": "business", "combine": "worst"})
	f.check = f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik", "eskerby"}, nil))
	f.tolvik, f.eskerby = servertest.Agent(t, srv, "tolvik"), servertest.Agent(t, srv, "eskerby")
	return f
}

func agreement(service string, edit func(map[string]any)) map[string]any {
	spec := map[string]any{
		"name": "Ticket sales", "customer": "passenger-division", "service": service, "timezone": "Europe/Oslo", "target_percent": "99.9",
		"degraded_weight_percent": "0", "min_coverage_percent": "0", "unmeasured": "exclude",
	}
	if edit != nil {
		edit(spec)
	}
	return spec
}

func TestOpenAPIDocumentInTheRepositoryIsCurrent(t *testing.T) {
	want, err := api.Describe("development")
	if err != nil {
		t.Fatal(err)
	}
	have, err := os.ReadFile("openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(bytes.TrimSpace(want), bytes.TrimSpace(have)) {
		t.Error("server/api/openapi.json is not what the Go types describe; run make types")
	}
}

// operations reads every operation and the roles that may do it from the document: none
// where nobody need be signed in.
func operations(t *testing.T) map[string][]access.Role {
	t.Helper()
	doc, err := api.Describe("test")
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]map[string]struct{ Description string }
	}
	if err := json.Unmarshal(doc, &d); err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(d.OpenAPI, "3.1") {
		t.Errorf("OpenAPI version %s", d.OpenAPI)
	}
	out := map[string][]access.Role{}
	for path, methods := range d.Paths {
		for method, op := range methods {
			var may []access.Role
			for _, p := range access.Administrator.All() {
				if op.Description == "Needs a role that permits to "+p.Words()+"." {
					may = access.With(p)
				}
			}
			out[strings.ToUpper(method)+" "+path] = may
		}
	}
	return out
}

// forCustomers is all that a customer may ask for.
var forCustomers = []string{
	"GET /api/v1/session", "GET /api/v1/standing", "GET /api/v1/accounts", "GET /api/v1/agreements/{id}/account", "GET /api/v1/agreements/{id}/calendar",
	"GET /api/v1/agreements/{id}/periods", "GET /api/v1/agreements/{id}/notes", "GET /api/v1/reports", "GET /api/v1/reports/{id}",
	"GET /api/v1/reports/{id}/document", "POST /api/v1/reports/{id}/objections", "POST /api/v1/reports/{id}/objections/{note}/end",
	"GET /api/v1/credits", "GET /api/v1/credits/export", "GET /api/v1/signing-keys", "GET /api/v1/signing-keys/public.pem",
	"GET /api/v1/volumes", "GET /api/v1/volumes/{id}/document",
}

// Every operation but signing in refuses who is not signed in, and who has a role that
// does not permit it.
func TestRolesAreEnforcedOnEveryRoute(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	url := servertest.Serve(t, srv)
	stranger := servertest.Anonymous(t, url)
	clients := map[access.Role]*servertest.Client{}
	for _, role := range access.Roles {
		r := access.Rights{Role: role}
		if role == access.Customer {
			r.Customer = "port"
		}
		clients[role] = servertest.With(t, srv, url, string(role), r)
	}
	agents := servertest.Agent(t, srv, "tolvik")
	all := operations(t)
	if len(all) < 50 {
		t.Fatalf("only %d operations", len(all))
	}
	open, refused := 0, 0
	for op, may := range all {
		method, path, _ := strings.Cut(op, " ")
		path = strings.TrimPrefix(path, "/api/v1")
		path = strings.NewReplacer("{id}", "00000000-0000-0000-0000-000000000000").Replace(path)
		if may == nil {
			open++
			continue
		}
		// An agent's token opens nothing that is people's.
		if got := servertest.AsAgentTo(t, method, url, agents, "/api/v1"+path, "{}"); got.Status != http.StatusUnauthorized {
			t.Errorf("%s with an agent's token: %d", op, got.Status)
		}
		// What is one's own is nobody else's: not even an administrator's.
		if strings.HasPrefix(path, "/me/") && strings.Contains(op, "{id}") {
			other := "/me/sessions/" + own(t, clients[access.Viewer])
			if got := clients[access.Administrator].Do(method, other, nil); got.Status != http.StatusNotFound {
				t.Errorf("%s of somebody else: %s", op, got)
			}
		}
		if got := stranger.Do(method, path, map[string]any{}); got.Status != http.StatusUnauthorized {
			t.Errorf("%s by a stranger: %d", op, got.Status)
		}
		if theirs := slices.Contains(forCustomers, op) || strings.HasPrefix(path, "/me/"); theirs != slices.Contains(may, access.Customer) {
			t.Errorf("%s: a customer may: %v", op, !theirs)
		}
		if method == http.MethodGet && slices.Contains(may, access.Viewer) != (len(may) >= 5) {
			t.Errorf("%s: %v", op, may)
		}
		for role, c := range clients {
			if slices.Contains(may, role) {
				continue
			}
			refused++
			if got := c.Do(method, path, map[string]any{}); got.Status != http.StatusForbidden {
				t.Errorf("%s as %s: %d", op, role, got.Status)
			}
		}
	}
	if open != 12 {
		t.Errorf("%d operations need nobody signed in; they are first-person (2), sign-in, sign-out, password-link links that acknowledge (2), links to reports (3) and to Standing, and the feed of planned work", open)
	}
	if refused < 250 {
		t.Errorf("only %d refusals were looked at", refused)
	}
}

// own is the id of a client's session.
func own(t *testing.T, c *servertest.Client) string {
	t.Helper()
	var list struct{ Items []api.SessionView }
	c.Must(http.MethodGet, "/me/sessions", nil, &list)
	return list.Items[0].ID
}

// Nor does a person's session open what is agents'.
func TestAgentsRoutesNeedTheirToken(t *testing.T) {
	f := setUp(t)
	for _, path := range []string{wire.PathAssignments, wire.PathBatches, wire.PathTrials + "/00000000-0000-0000-0000-000000000000"} {
		resp, err := f.manager.HTTP.Post(f.url+path, "application/json", strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusUnauthorized {
			t.Errorf("%s with a person's session: %d", path, resp.StatusCode)
		}
	}
}

func TestFirstPersonNeedsTheTokenFromTheConsole(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	url := servertest.Serve(t, srv)
	c := servertest.Anonymous(t, url)
	body := map[string]any{
		"token": "guessed", "name": "Astrid Holm", "email": "astrid@skerry.example", "password": "lantern on the quay",
		"organisation": "Skerry Line", "timezone": "Europe/Oslo",
	}
	if a := c.Do(http.MethodPost, "/first-person", body); a.Status != 422 {
		t.Errorf("a guessed token: %s", a)
	}
	body["token"] = srv.FirstToken
	body["password"] = "short"
	if a := c.Do(http.MethodPost, "/first-person", body); a.Status != 422 {
		t.Errorf("a short password: %s", a)
	}
	body["password"] = "lantern on the quay"
	var me api.Me
	c.Must(http.MethodPost, "/first-person", body, &me)
	if me.Role != access.Administrator || me.Organisation != "Skerry Line" {
		t.Errorf("made %+v", me)
	}
	c.Must(http.MethodGet, "/people", nil, nil) // signed in at once
	body["email"] = "other@skerry.example"
	if a := servertest.Anonymous(t, url).Do(http.MethodPost, "/first-person", body); a.Status != 409 {
		t.Errorf("a second first person: %s", a)
	}
}

func TestSigningIn(t *testing.T) {
	t.Parallel()
	srv := storetest.Server(t)
	url := servertest.Serve(t, srv)
	servertest.As(t, srv, url, access.Viewer)
	c := servertest.Anonymous(t, url)
	for range 5 {
		if a := c.Do(http.MethodPost, "/session", map[string]any{"email": "viewer@skerry.example", "password": "wrong password"}); a.Status != 401 {
			t.Fatalf("wrong password: %s", a)
		}
	}
	if a := c.Do(http.MethodPost, "/session", map[string]any{"email": "viewer@skerry.example", "password": servertest.Password}); a.Status != 429 {
		t.Errorf("the sixth attempt: %s", a)
	}
	if a := c.Do(http.MethodPost, "/session", map[string]any{"email": "nobody@skerry.example", "password": "whatever it is"}); a.Status != 401 {
		t.Errorf("unknown address: %s", a)
	}
	req, _ := http.NewRequest(http.MethodPost, url+"/api/v1/session", strings.NewReader(`{}`))
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusForbidden {
		t.Errorf("a change asked for by another site: %d", resp.StatusCode)
	}
}

func TestBadDefinitionsAreRefusedAtTheirFields(t *testing.T) {
	f := setUp(t)
	both := []string{"tolvik", "eskerby"}
	for name, c := range map[string]struct {
		path  string
		spec  map[string]any
		field string
	}{
		"a target above 100":         {"/agreements", agreement(f.service, func(s map[string]any) { s["target_percent"] = "100.1" }), "body.spec.target_percent"},
		"a target that is no number": {"/agreements", agreement(f.service, func(s map[string]any) { s["target_percent"] = "high" }), "body.spec.target_percent"},
		"a zone that is none":        {"/agreements", agreement(f.service, func(s map[string]any) { s["timezone"] = "Europe/Skerry" }), "body.spec.timezone"},
		"a service that is none":     {"/agreements", agreement("ferries", nil), "body.spec.service"},
		"a check with no location":   {"/checks", servertest.Check(f.service, []string{}, nil), "body.spec.locations"},
		"an unknown location":        {"/checks", servertest.Check(f.service, []string{"atlantis"}, nil), "body.spec.locations[0]"},
		"no web address":             {"/checks", servertest.Check(f.service, both, func(s map[string]any) { s["target"] = "ftp://harbour" }), "body.spec.target"},
		"a timeout beyond interval":  {"/checks", servertest.Check(f.service, both, func(s map[string]any) { s["interval_s"] = 5; s["timeout_ms"] = 6000 }), "body.spec.timeout_ms"},
		"stale before the next":      {"/checks", servertest.Check(f.service, both, func(s map[string]any) { s["stale_after_s"] = 60 }), "body.spec.stale_after_s"},
		"quorum of none":             {"/checks", servertest.Check(f.service, both, func(s map[string]any) { s["quorum"] = "0" }), "body.spec.quorum"},
		"a loss above 100 %": {"/checks", servertest.Check(f.service, both, func(s map[string]any) {
			s["kind"], s["target"] = "ping", "127.0.0.1"
			s["limits"] = []any{map[string]any{"measure": "loss_percent", "failed_above": 120}}
		}), "body.spec.limits[0]"},
		"a name of blanks":        {"/services", map[string]any{"name": "  ", "kind": "business", "combine": "worst"}, "body.spec.name"},
		"a kind that is none":     {"/services", map[string]any{"name": "X", "kind": "hobby", "combine": "worst"}, "body.spec.kind"},
		"depending on no one":     {"/services", map[string]any{"name": "X", "kind": "business", "combine": "worst", "depends_on": []any{map[string]any{"services": []string{"ferries"}}}}, "body.spec.depends_on[0].services[0]"},
		"a field that is unknown": {"/services", map[string]any{"name": "X", "kind": "business", "combine": "worst", "colour": "red"}, "body.spec.colour"},
	} {
		a := f.manager.Do(http.MethodPost, c.path, map[string]any{"spec": c.spec})
		detail, fields := a.Problem()
		if a.Status != 422 || fields[c.field] == "" || detail == "" {
			t.Errorf("%s: %s", name, a)
		}
		if got := a.Header.Get("Content-Type"); !strings.HasPrefix(got, "application/problem+json") {
			t.Errorf("%s: content type %s", name, got)
		}
	}
}

func TestEditsOpenRevisionsAndRefuseOldOnes(t *testing.T) {
	f := setUp(t)
	path := "/services/" + f.service
	spec := map[string]any{"name": "Tickets", "kind": "business", "combine": "worst"}
	f.manager.Must(http.MethodPut, path, map[string]any{"revision": 1, "spec": spec, "reason": "shorter"}, nil)
	if a := f.manager.Do(http.MethodPut, path, map[string]any{"revision": 1, "spec": spec}); a.Status != 409 {
		t.Errorf("an edit of an old revision: %s", a)
	}
	var revisions struct{ Items []api.RevisionView }
	f.manager.Must(http.MethodGet, path+"/revisions", nil, &revisions)
	if len(revisions.Items) != 2 || revisions.Items[0].Reason != "shorter" || revisions.Items[1].Until == nil || !revisions.Items[1].Until.Equal(revisions.Items[0].From) {
		t.Errorf("revisions %+v", revisions.Items)
	}
	// What others need is not retired under them.
	if a := f.manager.Do(http.MethodDelete, path, nil); a.Status != 422 {
		t.Errorf("retiring a service that is measured: %s", a)
	}
	f.manager.Must(http.MethodDelete, "/checks/"+f.check, nil, nil)
	f.manager.Must(http.MethodDelete, path, nil, nil)
	if a := f.manager.Do(http.MethodPut, path, map[string]any{"revision": f.manager.Revision(path), "spec": spec}); a.Status != 409 {
		t.Errorf("an edit of a retired one: %s", a)
	}
	f.manager.Must(http.MethodPost, path+"/restore", nil, nil)
	f.manager.Must(http.MethodPut, path, map[string]any{"revision": f.manager.Revision(path), "spec": spec}, nil)
	if a := f.manager.Do(http.MethodPut, "/services/ferries", map[string]any{"revision": 1, "spec": spec}); a.Status != 404 {
		t.Errorf("an edit of nothing: %s", a)
	}
}

func TestAgentRequestsThatAreWrong(t *testing.T) {
	f := setUp(t)
	now := storetest.Now().UTC().Truncate(time.Millisecond)
	batch := func(rows ...string) string { return `{"measurements":[` + strings.Join(rows, ",") + `]}` }
	row := func(check string, at time.Time, outcome, measures string) string {
		return fmt.Sprintf(`{"check":%q,"at":%q,"outcome":%q,"measures":%s}`, check, at.Format("2006-01-02T15:04:05.000Z"), outcome, measures)
	}
	good := row(f.check, now, "ok", `{"total_ms":12.5}`)
	for name, c := range map[string]struct {
		token, body string
		status      int
		says        string
	}{
		"no token":         {"", batch(good), 401, "token"},
		"a wrong token":    {"kesa_wrong", batch(good), 401, "not known"},
		"no JSON":          {f.tolvik, "measurements", 422, "invalid character"},
		"cut short":        {f.tolvik, batch(good)[:40], 422, "Nothing of it was stored"},
		"an unknown field": {f.tolvik, `{"rows":[]}`, 422, "rows"},
		"more after it":    {f.tolvik, batch(good) + batch(good), 422, "more after its end"},
	} {
		a := servertest.AsAgent(t, f.url, c.token, wire.PathBatches, c.body)
		if detail, _ := a.Problem(); a.Status != c.status || !strings.Contains(detail, c.says) {
			t.Errorf("%s: %s", name, a)
		}
	}
	// Rows that cannot be placed are refused one by one; the rest is stored.
	a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathBatches, batch(
		good, good,
		row("ferries", now, "ok", "{}"),
		row(f.check, now.Add(2*time.Minute), "ok", "{}"),
		row(f.check, now.Add(-24*time.Hour), "ok", "{}"),
		row(f.check, now.Add(time.Second), "ok", `{"wind_ms":3}`),
		row(f.check, now.Add(2*time.Second), "good", "{}"),
	))
	var receipt wire.Receipt
	if err := json.Unmarshal(a.Body, &receipt); err != nil || a.Status != 200 {
		t.Fatal(a)
	}
	if receipt.Stored != 1 || receipt.Duplicates != 1 || len(receipt.Refused) != 5 {
		t.Fatalf("receipt %+v", receipt)
	}
	for i, says := range []string{"no check", "in the future", "not in force", "no measure", "outcome 'good'"} {
		if !strings.Contains(receipt.Refused[i].Reason, says) || receipt.Refused[i].Index != i+2 {
			t.Errorf("refusal %d: %s", i, receipt.Refused[i].Reason)
		}
	}
	// Sent again, all is a duplicate.
	a = servertest.AsAgent(t, f.url, f.tolvik, wire.PathBatches, batch(good))
	if json.Unmarshal(a.Body, &receipt); receipt.Duplicates != 1 || receipt.Stored != 0 {
		t.Errorf("again: %s", a)
	}
}

func TestPeriodsThatCannotBe(t *testing.T) {
	f := setUp(t)
	id := f.manager.Create("/agreements", agreement(f.service, nil))
	now := inOslo(t)                                                                                // the agreement's zone
	future := time.Date(now.Year(), now.Month()+2, 1, 0, 0, 0, 0, now.Location()).Format("2006-01") // AddDate of a 31st may be a month later
	for _, path := range []string{"/standing?span=" + future, "/agreements/" + id + "/account?span=" + future, "/standing?span=november"} {
		if a := f.manager.Do(http.MethodGet, path, nil); a.Status != 422 {
			t.Errorf("%s: %s", path, a)
		}
	}
	for period, says := range map[string]string{future: "has not begun", now.Format("2006-01"): "not over", "2020-01": "began after"} {
		a := f.manager.Do(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": period})
		if _, fields := a.Problem(); a.Status != 422 || !strings.Contains(fields["body.period"], says) {
			t.Errorf("a report for %s: %s", period, a)
		}
	}
	if a := f.manager.Do(http.MethodGet, "/services/"+f.service+"/moment?at=yesterday", nil); a.Status != 422 {
		t.Errorf("a moment that is none: %s", a)
	}
}

// The last periods under clauses that are not saved, and nothing is saved.
func TestWhatIf(t *testing.T) {
	f := setUp(t)
	spec := agreement(f.service, nil)
	var out struct{ Items []struct{ Period string } }
	f.manager.Must(http.MethodPost, "/what-if", map[string]any{"spec": spec, "last": 3}, &out)
	if len(out.Items) != 3 || out.Items[0].Period <= out.Items[2].Period {
		t.Errorf("%+v", out)
	}
	spec["target_percent"] = "100.1"
	if _, fields := f.manager.Do(http.MethodPost, "/what-if", map[string]any{"spec": spec, "last": 3}).Problem(); fields["body.spec.target_percent"] == "" {
		t.Errorf("a target of 100.1: %v", fields)
	}
	if a := f.manager.Do(http.MethodPost, "/what-if", map[string]any{"spec": agreement("ferries", nil), "last": 3}); a.Status != 422 {
		t.Errorf("a service that is none: %s", a)
	}
	var agreements struct{ Items []any }
	f.manager.Must(http.MethodGet, "/agreements", nil, &agreements)
	if len(agreements.Items) != 0 {
		t.Errorf("asking saved %v", agreements.Items)
	}
}
