package publish_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/demo"
	"kestite/server"
	"kestite/server/defining"
	"kestite/server/report"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

// A schedule publishes at once in the name of who stands for it, and says so in the report;
// without that, with an adjustment or without a verdict it drafts and says why. However many
// servers look, each report is published once, with one message and one number.
func TestAScheduleUnderAStandingApproval(t *testing.T) {
	t.Parallel()
	one := storetest.Server(t, storetest.At(t, storetest.MidMonth())) // no month ends while it runs
	now := one.API.Store.Now()
	if err := demo.Load(ctx, one, 5, func(string) {}); err != nil {
		t.Fatal(err)
	}
	url := servertest.Serve(t, one)
	two := storetest.Server(t, storetest.On(one))
	loc, err := time.LoadLocation(demo.Zone)
	if err != nil {
		t.Fatal(err)
	}
	here := now.In(loc)
	const customer = "passenger-division"
	by := trail.By{Name: "test"}
	snap, err := one.API.Definitions.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	spec := snap.Customers[customer].Current()
	// Approved by a second person as a rule: who stands for it is that person.
	spec.Spec.ReportApproval, spec.Spec.Attach = true, true
	spec.Spec.Tell = []definition.Recipient{{Contact: "quay-office"}}
	spec.Spec.Schedule = &definition.ReportSchedule{WorkingDay: 2, At: "08:00", Timezone: demo.Zone, Publish: true}
	if _, err := one.API.Definitions.Apply(ctx, defining.Change{By: by, At: time.Date(here.Year(), here.Month(), 1, 0, 0, 1, 0, loc)}, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Customer, ID: customer, Expected: spec.Number, Spec: spec.Spec}); err != nil {
		t.Fatal(err)
	}
	run := func(months int) {
		t.Helper()
		at := time.Date(here.Year(), here.Month()+time.Month(months), 9, 0, 0, 0, 0, loc)
		var all sync.WaitGroup
		for range 2 {
			for _, srv := range []*server.Server{one, two} {
				all.Go(func() {
					if err := srv.API.Desk.Scheduled(ctx, at); err != nil {
						t.Error(err)
					}
				})
			}
		}
		all.Wait()
	}
	type made struct {
		state    string
		content  report.Content
		attached int
	}
	reports := func(months int) map[string]made {
		t.Helper()
		period := time.Date(here.Year(), here.Month()+time.Month(months)-1, 1, 0, 0, 0, 0, loc).Format("2006-01")
		rows, err := one.API.Store.Pool.Query(ctx, `SELECT r.agreement, r.state, coalesce(r.content, '{}'), (SELECT count(*) FROM notice n WHERE n.report = r.id)
			FROM report r WHERE r.period = $1 AND r.made_by = 'the schedule of Passenger division'`, period)
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		out := map[string]made{}
		for rows.Next() {
			var agreement string
			var text []byte
			var m made
			if err := rows.Scan(&agreement, &m.state, &text, &m.attached); err != nil {
				t.Fatal(err)
			}
			if err := json.Unmarshal(text, &m.content); err != nil {
				t.Fatal(err)
			}
			out[agreement] = m
		}
		return out
	}
	said := func() (text string) {
		t.Helper()
		if err := one.API.Store.Pool.QueryRow(ctx, "SELECT text FROM delivery WHERE subject LIKE 'Reports %: Passenger division' ORDER BY id DESC LIMIT 1").Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}

	named := func(name string, role access.Role, teams ...string) *servertest.Client {
		return servertest.With(t, one, url, name, access.Rights{Role: role, Teams: teams})
	}
	manager, operator, limited := named("boss", access.Manager), named("hand", access.Operator), named("limited", access.Approver, "payments")
	path := "/customers/" + customer + "/standing-approval"
	stand := func(c *servertest.Client, until string) servertest.Answer {
		return c.Do(http.MethodPost, path, map[string]any{"until": until})
	}
	for what, a := range map[string]servertest.Answer{"an operator": stand(operator, ""), "who is limited": stand(limited, "")} {
		if a.Status != 403 {
			t.Errorf("%s stands for it: %s", what, a)
		}
	}
	for what, until := range map[string]string{"no day": "soon", "a day that is over": "2020-01-01"} {
		if a := stand(manager, until); a.Status != 422 {
			t.Errorf("%s: %s", what, a)
		}
	}
	if a := manager.Do(http.MethodPost, "/customers/no-such/standing-approval", map[string]any{}); a.Status != 404 {
		t.Errorf("of nobody: %s", a)
	}
	if a := stand(manager, ""); a.Status >= 300 {
		t.Fatal(a)
	}
	// The demo says that its schedules were followed up to now; this one was not.
	if _, err := one.API.Store.Pool.Exec(ctx, "DELETE FROM report_schedule_run WHERE customer = $1", customer); err != nil {
		t.Fatal(err)
	}
	run(0)
	got := reports(0)
	published := 0
	for agreement, m := range got {
		verdict := m.content.Account.Verdict
		if m.state != "published" {
			if !strings.Contains(said(), snap.Named(catalogue.Agreement, agreement)+", ") || !strings.Contains(said(), "not published, because its account has adjustments") {
				t.Errorf("%s is %s; %s", agreement, m.state, said())
			}
			continue
		}
		published++
		if m.content.Standing == nil || m.content.Standing.ID == "" || m.content.Standing.Name == "" || verdict != "met" && verdict != "missed" || m.attached != 1 || len(m.content.Adjustments) > 0 {
			t.Errorf("%s: %s, %+v, attached %d", agreement, verdict, m.content.Standing, m.attached)
		}
	}
	if len(got) != 2 || published == 0 {
		t.Errorf("%d reports, %d of them published; %s", len(got), published, said())
	}
	// Nobody stands for it any more.
	approver := named("second", access.Approver)
	if a := approver.Do(http.MethodDelete, path, nil); a.Status >= 300 {
		t.Error(a)
	}
	if a := approver.Do(http.MethodDelete, path, nil); a.Status != 404 {
		t.Errorf("withdrawn twice: %s", a)
	}
	run(1)
	if got := reports(1); len(got) != 2 || got["tickets-passenger"].state != "draft" || !strings.Contains(said(), "no standing approval is in force") {
		t.Errorf("%v; %s", got, said())
	}
	// Nothing was measured by then: there is no verdict to publish.
	if a := stand(manager, ""); a.Status >= 300 {
		t.Fatal(a)
	}
	run(2)
	if got := reports(2); len(got) != 2 || got["sailing-board"].state != "draft" || !strings.Contains(said(), "it has no verdict") {
		t.Errorf("%v; %s", got, said())
	}
	// Who stands for it is disabled: nothing is published any more, and it is said.
	if _, err := one.API.Store.Pool.Exec(ctx, "UPDATE person SET disabled_at = clock() WHERE id = (SELECT given_by FROM standing_approval WHERE withdrawn_at IS NULL)"); err != nil {
		t.Fatal(err)
	}
	run(3)
	for agreement, m := range reports(3) {
		if m.state != "draft" || !strings.Contains(said(), "may not approve any more") {
			t.Errorf("%s: %s; %s", agreement, m.state, said())
		}
	}
}
