package api_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// quiet is when an agent of Tolvik is told not to measure the check of a fixture.
func (f *fixture) quiet(t *testing.T) []span.Span {
	t.Helper()
	a := servertest.AsAgent(t, f.url, f.tolvik, wire.PathAssignments, `{"instance": "a", "version": "1", "known": "", "wait_s": 0}`)
	var out wire.Assignments
	if err := json.Unmarshal([]byte(a.Body), &out); err != nil || a.Status != http.StatusOK {
		t.Fatalf("assignments: %s", a)
	}
	i := slices.IndexFunc(out.Checks, func(c wire.Check) bool { return c.ID == f.check })
	if i < 0 {
		t.Fatalf("the check is not assigned: %+v", out.Checks)
	}
	return out.Checks[i].Quiet
}

// A manager lets a check pause during work that every agreement takes out; its agents
// hear of it shortly before, and measure again before the work ends. What is not granted
// any more is measured, whatever the window says; and nobody else may choose it.
func TestChecksPauseDuringWork(t *testing.T) {
	f := setUp(t)
	var agreement struct{ ID string }
	gold := definition.AgreementSpec{Name: "Gold", Service: f.service, TargetPercent: "99", Timezone: "UTC", Maintenance: &definition.MaintenanceSpec{Mode: "exclude"}}
	f.manager.Must(http.MethodPost, "/agreements", map[string]any{"spec": gold}, &agreement)
	operator := f.as(t, access.Operator)
	work := func(in time.Duration, lasts int64) definition.WindowSpec {
		w := f.planned(in, lasts)
		w.Start = calendar.WallOf(storetest.Now().UTC().Add(in).Truncate(time.Second)).String()
		w.Pause = []string{f.check}
		return w
	}
	if a := operator.Do(http.MethodPost, "/windows", map[string]any{"spec": work(30*time.Second, 3600)}); a.Status != 403 || !strings.Contains(string(a.Body), "a manager's choice") {
		t.Errorf("an operator lets a check pause: %s", a)
	}
	for what, c := range map[string]struct {
		edit func(*definition.WindowSpec)
		want string
	}{
		"a check that is not there": {func(w *definition.WindowSpec) { w.Pause = []string{"nothing"} }, "names no check"},
		"one of another service": {func(w *definition.WindowSpec) {
			w.Services = []string{f.manager.Create("/services", map[string]any{"name": "Crew", "kind": "business", "combine": "worst"})}
		}, "which the window does not name"},
		"twice":                  {func(w *definition.WindowSpec) { w.Pause = append(w.Pause, f.check) }, "stands there twice"},
		"work that is too short": {func(w *definition.WindowSpec) { w.DurationS = 60 }, "it is too short"},
	} {
		w := work(30*time.Second, 3600)
		c.edit(&w)
		for _, path := range []string{"/windows", "/windows/preview"} {
			if a := f.manager.Do(http.MethodPost, path, map[string]any{"spec": w}); a.Status != 422 || !strings.Contains(string(a.Body), c.want) || !strings.Contains(string(a.Body), "body.spec.pause") {
				t.Errorf("%s, %s: %s", what, path, a)
			}
		}
	}
	if got := f.quiet(t); got != nil {
		t.Errorf("before anything is planned it pauses in %v", got)
	}
	spec := work(30*time.Second, 3600)
	var made struct{ ID string }
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": spec}, &made)
	got := f.quiet(t)
	if len(got) != 1 || got[0].Length() <= 0 || got[0].Length() >= 3600*span.Second {
		t.Fatalf("it pauses in %v", got)
	}
	var c api.CalendarView
	operator.Must(http.MethodGet, "/calendar", nil, &c)
	if w := c.Lanes[0].Work; len(w) != 1 || len(w[0].Pause) != 1 {
		t.Errorf("the calendar shows %+v", w)
	}
	// An operator may edit the rest, and take the pause away, and not put it back.
	spec.Note = "Sound and light"
	operator.Must(http.MethodPut, "/windows/"+made.ID, map[string]any{"revision": 1, "spec": spec}, nil)
	// The clause is gone: the agreement would count what is not measured.
	gold.Maintenance = nil
	path := "/agreements/" + agreement.ID
	edit := f.manager.Edit(path, gold)
	edit["corrects"], edit["reason"] = storetest.Now().UTC().Format("2006-01"), "No maintenance was agreed"
	f.manager.Must(http.MethodPut, path, edit, nil)
	if got := f.quiet(t); got != nil {
		t.Errorf("work that is granted no more: it pauses in %v", got)
	}
	spec.Note = "Light"
	if a := f.manager.Do(http.MethodPut, "/windows/"+made.ID, map[string]any{"revision": 2, "spec": spec}); a.Status != 422 || !strings.Contains(string(a.Body), "does not take planned work out of its base") {
		t.Errorf("an edit that keeps the pause: %s", a)
	}
	spec.Pause = nil
	operator.Must(http.MethodPut, "/windows/"+made.ID, map[string]any{"revision": 2, "spec": spec}, nil)

	// Far away it is not told; cancelled it is told no more.
	gold.Maintenance = &definition.MaintenanceSpec{Mode: "exclude"}
	edit = f.manager.Edit(path, gold)
	edit["corrects"], edit["reason"] = storetest.Now().UTC().Format("2006-01"), "It was agreed after all"
	f.manager.Must(http.MethodPut, path, edit, nil)
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": work(20*time.Hour, 3600)}, nil)
	if got := f.quiet(t); got != nil {
		t.Errorf("of work tomorrow it pauses in %v", got)
	}
	f.manager.Must(http.MethodPost, "/windows", map[string]any{"spec": work(time.Second, 3600)}, &made)
	if got := f.quiet(t); len(got) != 1 {
		t.Errorf("it pauses in %v", got)
	}
	f.manager.Must(http.MethodDelete, "/windows/"+made.ID, nil, nil)
	if got := f.quiet(t); got != nil {
		t.Errorf("of work that was cancelled it pauses in %v", got)
	}
}
