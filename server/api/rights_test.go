package api_test

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/api"
	"kestite/server/defining"
	"kestite/server/servertest"
	"kestite/server/store"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// since is a change of definitions some days ago.
func since(days int) defining.Change {
	return defining.Change{By: trail.By{Name: "test"}, At: storetest.Now().Add(-time.Duration(days) * 24 * time.Hour)}
}

// A customer sees what was promised to them, then and now, and nothing of others.
func TestCustomersSeeWhatIsTheirs(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/customers", map[string]any{"name": "Port authority"})
	own := f.manager.Create("/agreements", agreement(f.service, nil)) // with the passenger division
	others := f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) { m["name"], m["customer"] = "Gates", "port-authority" }))
	inside := f.manager.Create("/agreements", agreement(f.service, func(m map[string]any) { m["name"], m["customer"] = "Inside", "" }))
	customer := servertest.With(t, f.srv, f.url, "passenger", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	var me api.Me
	customer.Must(http.MethodGet, "/session", nil, &me)
	if me.Customer != "Passenger division" || len(me.May) != 1 {
		t.Errorf("%+v", me)
	}
	var standing, all api.Standing
	f.manager.Must(http.MethodGet, "/standing", nil, &all)
	customer.Must(http.MethodGet, "/standing", nil, &standing)
	if all.Agreements != 3 || all.Services == 0 || standing.Agreements != 1 || standing.Found != 1 || standing.Accounts[0].Agreement != own ||
		standing.Accounts[0].Customer != "Passenger division" || len(standing.Needs)+standing.NeedsLeft+standing.Services+standing.Checks != 0 {
		t.Errorf("%+v, of %+v", standing, all)
	}
	var found api.Standing
	customer.Must(http.MethodGet, "/standing?find=gates", nil, &found)
	if found.Found != 0 || strings.Contains(fmt.Sprint(found), "Port authority") {
		t.Errorf("%+v", found)
	}
	var accounts api.Accounts
	customer.Must(http.MethodGet, fmt.Sprintf("/accounts?ids=%s&ids=%s&ids=%s", own, others, inside), nil, &accounts)
	if len(accounts.Accounts) != 1 || accounts.Accounts[0].Agreement != own {
		t.Errorf("%+v", accounts.Accounts)
	}
	for _, path := range []string{"account", "calendar", "periods"} {
		if a := customer.Do(http.MethodGet, "/agreements/"+own+"/"+path, nil); a.Status != http.StatusOK {
			t.Errorf("own %s: %s", path, a)
		}
		for _, id := range []string{others, inside, "no-agreement"} {
			if a := customer.Do(http.MethodGet, "/agreements/"+id+"/"+path, nil); a.Status != http.StatusNotFound || strings.Contains(string(a.Body), "Gates") {
				t.Errorf("%s of %s: %s", path, id, a)
			}
		}
	}
	// The same question by two: each has its own answer, though it is made once for all who may see the same.
	port := servertest.With(t, f.srv, f.url, "port", access.Rights{Role: access.Customer, Customer: "port-authority"})
	answers := make(chan string, 40)
	for i := range cap(answers) {
		go func() {
			c, want := customer, own
			if i%2 == 0 {
				c, want = port, others
			}
			var s api.Standing
			c.Must(http.MethodGet, "/standing", nil, &s)
			if s.Agreements != 1 || s.Accounts[0].Agreement != want {
				answers <- fmt.Sprintf("%s is shown %+v", want, s.Accounts)
				return
			}
			answers <- ""
		}()
	}
	for range cap(answers) {
		if wrong := <-answers; wrong != "" {
			t.Error(wrong)
		}
	}
}

// What somebody was promised once stays theirs to read, and what came after is another's.
func TestReportsAreThoseOfTheirTime(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/customers", map[string]any{"name": "Port authority"})
	id := "for-the-port"
	begin := func(change defining.Change, does catalogue.Deed, expected int, customer string) {
		t.Helper()
		spec, err := catalogue.Read(catalogue.Agreement, fmt.Appendf(nil, `{"name": "Gates", "customer": %q, "service": %q, "timezone": "UTC", "target_percent": "99.9",
			"degraded_weight_percent": "0", "min_coverage_percent": "0", "unmeasured": "exclude"}`, customer, f.service))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := f.srv.API.Definitions.Apply(t.Context(), change, catalogue.Step{Does: does, Kind: catalogue.Agreement, ID: id, Expected: expected, Spec: spec}); err != nil {
			t.Fatal(err)
		}
	}
	begin(since(100), catalogue.Make, 0, "port-authority")
	begin(since(40), catalogue.Rewrite, 1, "passenger-division") // from the month after on
	month := func(ago int) string {
		now := storetest.Now().UTC()
		return time.Date(now.Year(), now.Month()-time.Month(ago), 1, 0, 0, 0, 0, time.UTC).Format("2006-01")
	}
	changed := storetest.Now().UTC().Add(-40 * 24 * time.Hour)
	counts := time.Date(changed.Year(), changed.Month()+1, 1, 0, 0, 0, 0, time.UTC).Format("2006-01")
	ids := map[string]string{}
	for ago := 1; ago <= 3; ago++ {
		var made struct{ ID string }
		f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": month(ago)}, &made)
		ids[month(ago)] = made.ID
	}
	port := servertest.With(t, f.srv, f.url, "port", access.Rights{Role: access.Customer, Customer: "port-authority"})
	division := servertest.With(t, f.srv, f.url, "division", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	read := func(c *servertest.Client) (periods []string) {
		var list struct{ Items []api.ReportView }
		c.Must(http.MethodGet, "/reports", nil, &list)
		for _, r := range list.Items {
			periods = append(periods, r.Period)
		}
		slices.Sort(periods)
		return periods
	}
	if n := len(read(port)) + len(read(division)); n != 0 {
		t.Errorf("%d drafts are shown to customers", n)
	}
	for _, r := range ids {
		f.manager.Publish("/reports/" + r)
	}
	var before, after []string
	for period := range ids {
		if period < counts {
			before = append(before, period)
		} else {
			after = append(after, period)
		}
	}
	slices.Sort(before)
	slices.Sort(after)
	if got := read(port); len(before) == 0 || !slices.Equal(got, before) {
		t.Errorf("the first customer reads %v, not %v", got, before)
	}
	if got := read(division); !slices.Equal(got, after) {
		t.Errorf("the second customer reads %v, not %v", got, after)
	}
	for period, r := range ids {
		mine, other := port, division
		if period >= counts {
			mine, other = division, port
		}
		for _, path := range []string{"/reports/" + r, "/reports/" + r + "/document?format=json", "/reports/" + r + "/document?format=inputs"} {
			if a := mine.Do(http.MethodGet, path, nil); a.Status != http.StatusOK {
				t.Errorf("%s: %s", path, a)
			}
			if a := other.Do(http.MethodGet, path, nil); a.Status != http.StatusNotFound {
				t.Errorf("%s of another's: %d", path, a.Status)
			}
		}
	}
	// Its periods are theirs too, each one's own.
	for c, want := range map[*servertest.Client]func(string) bool{
		port: func(p string) bool { return p < counts }, division: func(p string) bool { return p >= counts },
	} {
		var periods struct{ Items []api.PeriodAccount }
		c.Must(http.MethodGet, "/agreements/"+id+"/periods?last=6", nil, &periods)
		var names struct{ Items []api.PeriodName }
		c.Must(http.MethodGet, "/agreements/"+id+"/calendar?last=6", nil, &names)
		if len(periods.Items) == 0 || len(names.Items) == 0 {
			t.Error("there are no periods")
		}
		for _, p := range periods.Items {
			if !want(p.Period) {
				t.Errorf("%s is another's", p.Period)
			}
		}
		for _, p := range names.Items {
			if !want(p.Name) {
				t.Errorf("%s is another's, by name", p.Name)
			}
		}
	}
}

// Who is limited to teams changes what their services are made of, by whatever door.
func TestTeamsLimitWhatMayBeChanged(t *testing.T) {
	f := setUp(t)
	for _, name := range []string{"Quay crew", "Ticket office"} {
		f.manager.Create("/teams", map[string]any{"name": name})
	}
	gates := f.manager.Create("/services", map[string]any{"name": "Gates", "kind": "business", "combine": "worst", "owner": "quay-crew"})
	check := f.manager.Create("/checks", servertest.Check(gates, []string{"tolvik"}, nil))
	quay := servertest.With(t, f.srv, f.url, "quay", access.Rights{Role: access.Manager, Teams: []string{"quay-crew"}})
	var me api.Me
	quay.Must(http.MethodGet, "/session", nil, &me)
	if !slices.Equal(me.Teams, []string{"Quay crew"}) {
		t.Errorf("%+v", me)
	}
	own := quay.Create("/agreements", agreement(gates, nil))
	other := f.manager.Create("/agreements", agreement(f.service, nil))
	quay.Must(http.MethodPut, "/checks/"+check, map[string]any{"revision": 1, "spec": servertest.Check(gates, []string{"tolvik", "eskerby"}, nil)}, nil)
	quay.Must(http.MethodPost, "/proposals/take", map[string]any{"name": "Crane", "owner": "quay-crew", "interval_s": 60, "locations": []string{"tolvik"},
		"taken": []any{map[string]any{"kind": "tcp", "name": "Port", "target": "198.18.4.20:443"}}, "promised": map[string]any{"target_percent": "99"}}, nil)
	ownCheck, otherCheck := servertest.Check(gates, []string{"tolvik"}, nil), servertest.Check(f.service, []string{"tolvik"}, nil)
	for name, c := range map[string]struct {
		method, path string
		body         any
	}{
		"edit a check":    {http.MethodPut, "/checks/" + f.check, map[string]any{"revision": 1, "spec": otherCheck}},
		"make a check":    {http.MethodPost, "/checks", map[string]any{"spec": otherCheck}},
		"retire a check":  {http.MethodDelete, "/checks/" + f.check, nil},
		"edit a service":  {http.MethodPut, "/services/" + f.service, map[string]any{"revision": 1, "spec": map[string]any{"name": "Mine", "kind": "business", "combine": "worst", "owner": "quay-crew"}}},
		"make a location": {http.MethodPost, "/locations", map[string]any{"spec": map[string]any{"name": "Far"}}},
		"make a service":  {http.MethodPost, "/services", map[string]any{"spec": map[string]any{"name": "Nobody's", "kind": "business", "combine": "worst"}}},
		"an agreement":    {http.MethodPost, "/agreements", map[string]any{"spec": agreement(f.service, nil)}},
		"one step of two": {http.MethodPost, "/changes", map[string]any{"steps": []any{step("make", "check", map[string]any{"spec": ownCheck}), step("make", "check", map[string]any{"spec": otherCheck})}}},
		"only to look":    {http.MethodPost, "/changes", map[string]any{"preview": true, "steps": []any{step("retire", "check", map[string]any{"id": f.check})}}},
		"take a proposal": {http.MethodPost, "/proposals/take", map[string]any{"service": f.service, "interval_s": 60, "locations": []string{"tolvik"}, "taken": []any{map[string]any{"kind": "tcp", "name": "Port", "target": "198.18.4.20:443"}}}},
		"draft a report":  {http.MethodPost, "/reports", map[string]any{"agreement": other, "period": "2026-01"}},
		"a window":        {http.MethodPost, "/windows", map[string]any{"spec": map[string]any{"name": "W", "services": []string{gates, f.service}, "start": "2030-01-01T10:00:00", "timezone": "UTC", "duration_s": 3600}}},
	} {
		if a := quay.Do(c.method, c.path, c.body); a.Status != http.StatusForbidden || !strings.Contains(string(a.Body), "Quay crew only") {
			t.Errorf("%s: %s", name, a)
		}
	}
	snap, err := f.srv.API.Definitions.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if len(snap.Checks[f.check].Revisions) != 1 || snap.Checks[f.check].Retired || len(snap.Windows) != 0 || snap.Agreements[own] == nil || len(snap.LiveChecks(gates)) != 1 {
		t.Error("something of what was refused was done")
	}
}

// Who is limited to teams takes back nothing that others made for other services, whatever
// made it.
func TestTeamsLimitWhatMayBeTakenBack(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/teams", map[string]any{"name": "Quay crew"})
	gates := f.manager.Create("/services", map[string]any{"name": "Gates", "kind": "business", "combine": "worst", "owner": "quay-crew"})
	f.manager.Create("/agreements", agreement(gates, func(spec map[string]any) { spec["customer"] = "" }))
	other := f.manager.Create("/agreements", agreement(f.service, nil))
	window := f.manager.Create("/windows", map[string]any{"name": "W", "services": []string{f.service}, "start": storetest.Now().AddDate(1, 0, 0).Format("2006-01-02") + "T10:00:00", "timezone": "UTC", "duration_s": 3600})
	approver := servertest.As(t, f.srv, f.url, access.Approver)
	approver.Must(http.MethodPost, "/customers/passenger-division/standing-approval", map[string]any{}, nil)
	f.manager.Must(http.MethodPost, "/customers/passenger-division/links", map[string]any{"whom": "The division", "days": 3}, nil)
	var links struct{ Items []api.ReportLinkView }
	f.manager.Must(http.MethodGet, "/customers/passenger-division/links", nil, &links)
	var hold struct{ ID int64 }
	f.manager.Must(http.MethodPost, "/holds", map[string]any{"about": "service", "subject": f.service, "until": storetest.Now().Add(time.Hour), "reason": "Works on the quay."}, &hold)
	rights := access.Rights{Role: access.Manager, Teams: []string{"quay-crew"}}
	quay := servertest.With(t, f.srv, f.url, "quay", rights)
	rights.Role = access.Approver
	second := servertest.With(t, f.srv, f.url, "second", rights)
	for what, path := range map[string]string{
		"a standing approval": "/customers/passenger-division/standing-approval",
		"a standing link":     "/customers/passenger-division/links/" + itoa(links.Items[0].ID),
		"a hold":              "/holds/" + itoa(hold.ID),
		"a window":            "/windows/" + window,
		"an agreement":        "/agreements/" + other,
		"a check":             "/checks/" + f.check,
	} {
		for name, c := range map[string]*servertest.Client{"a manager": quay, "an approver": second} {
			if a := c.Do(http.MethodDelete, path, nil); a.Status != http.StatusForbidden {
				t.Errorf("%s takes back %s: %s", name, what, a)
			}
		}
	}
	var approvals struct{ Items []api.StandingApproval }
	f.manager.Must(http.MethodGet, "/standing-approvals", nil, &approvals)
	if len(approvals.Items) != 1 || approvals.Items[0].WithdrawnAt != nil {
		t.Errorf("%+v", approvals)
	}
	approver.Must(http.MethodDelete, "/customers/passenger-division/standing-approval", nil, nil)
}

// Administrators say what people are limited to; what nobody can have is refused.
func TestRightsOfPeople(t *testing.T) {
	f := setUp(t)
	admin := servertest.As(t, f.srv, f.url, access.Administrator)
	f.manager.Create("/teams", map[string]any{"name": "Quay crew"})
	person := func(more map[string]any) map[string]any {
		out := map[string]any{"name": "Tove Sund", "email": "tove@skerry.example", "role": "customer"}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	for path, wrong := range map[string]map[string]any{
		"body.customer": {}, "body.teams": {"role": "viewer", "teams": []string{"quay-crew"}}, "body.teams[0]": {"role": "operator", "teams": []string{"crane"}},
	} {
		a := admin.Do(http.MethodPost, "/people", person(wrong))
		if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || fields[path] == "" {
			t.Errorf("%s: %s", path, a)
		}
	}
	var made api.MadePerson
	admin.Must(http.MethodPost, "/people", person(map[string]any{"customer": "passenger-division"}), &made)
	admin.Must(http.MethodPut, "/people/"+made.ID, map[string]any{"name": "Tove Sund", "role": "operator", "teams": []string{"quay-crew"}, "disabled": false}, nil)
	var list struct{ Items []api.PersonView }
	admin.Must(http.MethodGet, "/people", nil, &list)
	i := slices.IndexFunc(list.Items, func(p api.PersonView) bool { return p.ID == made.ID })
	if p := list.Items[i]; p.Role != access.Operator || p.Customer != "" || !slices.Equal(p.Teams, []string{"quay-crew"}) {
		t.Errorf("%+v", p)
	}
}

// The stream of changes tells a customer nothing of others, and ends when their rights do.
func TestLiveTellsCustomersLittle(t *testing.T) {
	f := setUp(t)
	admin := servertest.As(t, f.srv, f.url, access.Administrator)
	customer := servertest.With(t, f.srv, f.url, "passenger", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	ctx, end := context.WithTimeout(t.Context(), 60*time.Second)
	defer end()
	go f.srv.API.Feed.Run(ctx, f.srv.API.Store, f.srv.API.Log)
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, f.url+"/api/v1/live", nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := customer.HTTP.Do(ask)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	tell := func() {
		for _, e := range []store.Event{
			{Kind: store.OnMeasurement, IDs: []string{"secret-service"}}, {Kind: store.OnAgent, IDs: []string{"secret-place"}},
			{Kind: store.OnState, IDs: []string{"secret-service"}},
		} {
			if err := store.Notify(ctx, f.srv.API.Store.Pool, e); err != nil {
				t.Error(err)
			}
		}
	}
	told, changed := false, false
	for lines.Scan() {
		line := lines.Text()
		if strings.Contains(line, "secret") || strings.Contains(line, "measurement") || strings.Contains(line, "agent") {
			t.Errorf("a customer is told %s", line)
		}
		told = told || strings.Contains(line, `{"kind":"state"}`)
		switch {
		case !told:
			tell()
		case !changed: // they are a viewer from now on: what this stream knows of them is over
			changed = true
			var list struct{ Items []api.PersonView }
			admin.Must(http.MethodGet, "/people", nil, &list)
			for _, p := range list.Items {
				if p.Role == access.Customer {
					admin.Must(http.MethodPut, "/people/"+p.ID, map[string]any{"name": p.Name, "role": "viewer", "disabled": false}, nil)
				}
			}
		}
	}
	if !told || !changed || ctx.Err() != nil {
		t.Errorf("told %v, changed %v, and then it did not end: %v", told, changed, ctx.Err())
	}
}
