package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/api"
	"kestite/server/servertest"
)

func step(does, kind string, more map[string]any) map[string]any {
	out := map[string]any{"does": does, "kind": kind}
	for k, v := range more {
		out[k] = v
	}
	return out
}

// services counts what is defined.
func (f *fixture) defined(t *testing.T) (services, checks, agreements int) {
	t.Helper()
	snap, err := f.srv.API.Definitions.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return len(snap.Services), len(snap.Checks), len(snap.Agreements)
}

// whole are the steps that make a service with a check and an agreement.
func whole(name, target string) []any {
	return []any{
		step("make", "service", map[string]any{"spec": map[string]any{"name": name, "kind": "business"}}),
		step("make", "check", map[string]any{"spec": servertest.Check("$0", []string{"tolvik"}, nil)}),
		step("make", "agreement", map[string]any{"spec": agreement("$0",
			func(m map[string]any) { m["name"], m["target_percent"] = name, target })}),
	}
}

// A service with its check and its agreement is one change: seen before it is made,
// refused as a whole, and made once, however often it is asked for.
func TestAServiceIsMadeWholeAndOnce(t *testing.T) {
	f := setUp(t)
	services, checks, agreements := f.defined(t)
	unchanged := func(when string) {
		t.Helper()
		if s, c, a := f.defined(t); s != services || c != checks || a != agreements {
			t.Errorf("%s: %d services, %d checks, %d agreements", when, s, c, a)
		}
	}
	var view api.ChangeView
	f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": whole("Crew roster", "99.5"), "preview": true}, &view)
	if view.Done || !slices.Equal(view.IDs, []string{"crew-roster", "page",
		"crew-roster"}) || len(view.Writes) != 3 || view.After.RunsPerDay != 1440 ||
		len(view.Accounts) != 1 || view.Accounts[0].Target != "99.5" {
		t.Errorf("the preview: %+v", view)
	}
	unchanged("a preview")
	for what, c := range map[string]struct {
		steps []any
		path  string
	}{
		"a target above 100": {whole("Crew roster", "100.1"), "body.steps[2].spec.target_percent"},
		"an unknown location": {append(whole("Crew roster", "99")[:1],
			step("make", "check", map[string]any{"spec": servertest.Check("$0", []string{"nowhere"}, nil)})),
			"body.steps[1].spec.locations[0]"},
		"a step that is to come": {[]any{step("make", "check",
			map[string]any{"spec": servertest.Check("$1", []string{"tolvik"}, nil)})}, "body.steps[0].spec.service"},
		"no spec": {append(whole("Crew roster", "99"), step("make", "service", nil)), "body.steps[3].spec"},
		"an edit of no revision": {[]any{step("edit", "service",
			map[string]any{"id": f.service, "spec": map[string]any{"name": "X", "kind": "business"}})}, "body.steps[0].revision"},
		"what is no spec": {[]any{step("make", "service", map[string]any{"spec": []int{1}})}, "body.steps[0].spec"},
		"an unknown field's type": {[]any{step("make", "service", map[string]any{"spec": map[string]any{"name": 7}})},
			"body.steps[0].spec"},
		"an id that is taken": {[]any{step("make", "service",
			map[string]any{"id": f.service, "spec": map[string]any{"name": "X", "kind": "business"}})}, "body.steps[0].id"},
		"a kind that is none": {[]any{step("make", "ferry", nil)}, "body.steps[0].kind"},
	} {
		for _, preview := range []bool{true, false} {
			a := f.manager.Do(http.MethodPost, "/changes", map[string]any{"steps": c.steps, "preview": preview})
			if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || fields[c.path] == "" {
				t.Errorf("%s (preview %v): %s", what, preview, a)
			}
		}
	}
	unchanged("what was refused")
	// Twenty at once, as when somebody is impatient or an answer was lost.
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": whole("Crew roster", "99.5"), "key": "one"}, nil)
		})
	}
	all.Wait()
	if s, c, a := f.defined(t); s != services+1 || c != checks+1 || a != agreements+1 {
		t.Errorf("made once there are %d services, %d checks, %d agreements", s, c, a)
	}
	f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": whole("Crew roster", "99.5"), "key": "one"}, &view)
	if !view.Done || !view.Repeated || view.IDs[0] != "crew-roster" {
		t.Errorf("asked for again: %+v", view)
	}
	a := f.manager.Do(http.MethodPost, "/changes", map[string]any{"steps": whole("Freight booking", "99"), "key": "one"})
	if _, fields := a.Problem(); !strings.Contains(fields["body.key"], "another change") {
		t.Errorf("another change with the key: %s", a)
	}
	// Another person's key is another's.
	other := servertest.As(t, f.srv, f.url, access.Administrator)
	other.Must(http.MethodPost, "/changes", map[string]any{"steps": whole("Freight booking", "99"), "key": "one"}, &view)
	if view.Repeated {
		t.Errorf("another person's: %+v", view)
	}
	// And all of it goes in one change, in its order.
	f.manager.Must(http.MethodPost, "/changes", map[string]any{"steps": []any{
		step("retire", "agreement", map[string]any{"id": "crew-roster"}), step("retire", "check", map[string]any{"id": "page"}),
		step("retire", "service", map[string]any{"id": "crew-roster"}),
	}}, &view)
	if len(view.Writes) != 3 || view.Writes[1].Does != "retire" || view.Before.RunsPerDay != 1440 || view.After.RunsPerDay != 0 {
		t.Errorf("retiring all: %+v", view)
	}
}

// A change is its steps': who may not do one of them does none.
func TestChangesNeedTheRoleOfEachStep(t *testing.T) {
	f := setUp(t)
	operator := servertest.As(t, f.srv, f.url, access.Operator)
	window := step("make", "window", map[string]any{"spec": map[string]any{"name": "Patch", "services": []string{f.service},
		"start": "2030-01-01T10:00:00", "timezone": "UTC", "duration_s": 3600}})
	operator.Must(http.MethodPost, "/changes", map[string]any{"steps": []any{window}}, nil)
	a := operator.Do(http.MethodPost, "/changes", map[string]any{"steps": append([]any{window}, whole("Crew roster", "99")...)})
	if detail, _ := a.Problem(); a.Status != http.StatusForbidden || !strings.Contains(detail,
		"Step 1, on a service: To define services, checks, agreements and what they need one needs the role administrator or manager; you are operator.") {
		t.Errorf("%s", a)
	}
	if snap, err := f.srv.API.Definitions.Snapshot(t.Context()); err != nil || len(snap.Windows) != 1 {
		t.Errorf("%d windows, %v", len(snap.Windows), err)
	}
	if a := servertest.As(t, f.srv, f.url, access.Viewer).Do(http.MethodPost, "/changes",
		map[string]any{"steps": []any{window}, "preview": true}); a.Status != http.StatusForbidden {
		t.Errorf("a viewer: %s", a)
	}
}

// What was proposed is taken as one change, in which something decides.
func TestTakingWhatWasProposed(t *testing.T) {
	f := setUp(t)
	f.manager.Create("/customers", map[string]any{"name": "Crew office"})
	for address, want := range map[string]int{"https://127.0.0.1:9/": 4, "127.0.0.1:9": 6, "localhost": 5} {
		var list struct{ Items []api.Candidate }
		f.manager.Must(http.MethodPost, "/proposals", map[string]any{"address": address, "locations": []string{"tolvik", "eskerby"}}, &list)
		if len(list.Items) != want || slices.ContainsFunc(list.Items,
			func(c api.Candidate) bool { return len(c.Trials) != 2 || c.Target == "" }) {
			t.Errorf("%s: %+v", address, list.Items)
		}
	}
	ask := func(more map[string]any) map[string]any {
		out := map[string]any{
			"name": "Roster", "interval_s": 60, "locations": []string{"tolvik"},
			"promised": map[string]any{"target_percent": "99.5", "customer": "crew-office"},
			"taken": []any{map[string]any{"kind": "tcp", "name": "Port", "target": "198.18.4.20:443",
				"tried": []any{map[string]any{"connect_ms": 55}}}},
		}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	for path, wrong := range map[string]map[string]any{
		"body.promised.target_percent": {"promised": map[string]any{"target_percent": "100.1"}},
		"body.name":                    {"name": " "},
		"body.taken[0].locations[0]":   {"locations": []string{"nowhere"}},
		"body.taken[0].target":         {"taken": []any{map[string]any{"kind": "tcp", "name": "Port", "target": "198.18.4.20"}}},
		"body.service":                 {"service": "ferries"},
		"body.interval_s":              {"interval_s": 1},
	} {
		a := f.manager.Do(http.MethodPost, "/proposals/take", ask(wrong))
		if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || fields[path] == "" {
			t.Errorf("%s: %s", path, a)
		}
	}
	if s, c, a := f.defined(t); s != 1 || c != 1 || a != 0 {
		t.Errorf("what was refused left %d services, %d checks, %d agreements", s, c, a)
	}
	var view api.ChangeView
	f.manager.Must(http.MethodPost, "/proposals/take", ask(map[string]any{"key": "k"}), &view)
	f.manager.Must(http.MethodPost, "/proposals/take", ask(map[string]any{"key": "k"}), nil)
	snap, err := f.srv.API.Definitions.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	check := snap.Checks[view.IDs[1]].Current().Spec
	if check.Service != "roster" || check.Role != "decides" || len(check.Limits) != 1 || *check.Limits[0].DegradedAbove != 200 {
		t.Errorf("the check %+v", check)
	}
	if a := snap.Agreements[view.IDs[2]].Current().Spec; a.Service != "roster" || a.Customer != "crew-office" || a.TargetPercent != "99.5" || len(snap.Agreements) != 1 {
		t.Errorf("the agreement %+v", a)
	}
}

// What is beyond its bounds comes in by no door.
func TestBoundsHoldAtEveryDoor(t *testing.T) {
	f := setUp(t)
	check := func(field string, v any) map[string]any {
		return servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) { c[field] = v })
	}
	for i, c := range []struct {
		kind, path string
		spec       map[string]any
	}{
		{"check", "/checks", check("interval_s", 1)},
		{"check", "/checks", check("confirm", -7)},
		{"check", "/checks", check("timeout_ms", 1e9)},
		{"check", "/checks", check("name", strings.Repeat("x", 81))},
		{"check", "/checks", check("role", "watches")},
		{"check", "/checks", check("locations", []string{})},
		{"agreement", "/agreements", agreement(f.service, func(m map[string]any) { m["target_percent"] = "1e9" })},
		{"agreement", "/agreements", agreement(f.service, func(m map[string]any) {
			m["maintenance"] = map[string]any{"mode": "exclude", "notice_s": -3, "cap_s": nil}
		})},
		{"agreement", "/agreements", agreement(f.service, func(m map[string]any) {
			m["maintenance"] = map[string]any{"mode": "never", "notice_s": 0, "cap_s": nil}
		})},
		{"agreement", "/agreements", agreement(f.service,
			func(m map[string]any) { m["period"] = map[string]any{"unit": "month", "day": 31} })},
		{"agreement", "/agreements", agreement(f.service, func(m map[string]any) { m["min_outage_s"] = 86401 })},
		{"service", "/services", map[string]any{"name": "S", "kind": "ferry"}},
		{"service", "/services", map[string]any{"name": "", "kind": "business"}},
		{"window", "/windows", map[string]any{"name": "W", "services": []string{f.service}, "start": "2030-01-01T10:00:00",
			"timezone": "UTC", "duration_s": 59}},
		{"location", "/locations", map[string]any{"name": "L", "latitude": 91, "longitude": 0}},
		{"network", "/networks", map[string]any{"name": "N", "prefixes": []string{}}},
		{"pair-plan", "/pair-plans", map[string]any{"name": "P", "service": f.service, "kinds": []string{"ping"}, "shape": "star",
			"locations": []string{"tolvik", "eskerby"}, "interval_s": 60}},
	} {
		for door, a := range map[string]servertest.Answer{
			"its own": f.manager.Do(http.MethodPost, c.path, map[string]any{"spec": c.spec}),
			"a change": f.manager.Do(http.MethodPost, "/changes",
				map[string]any{"steps": []any{step("make", c.kind, map[string]any{"spec": c.spec})}}),
			"a preview": f.manager.Do(http.MethodPost, "/changes",
				map[string]any{"preview": true, "steps": []any{step("make", c.kind, map[string]any{"spec": c.spec})}}),
		} {
			if _, fields := a.Problem(); a.Status != http.StatusUnprocessableEntity || len(fields) == 0 {
				t.Errorf("%d, %s by %s: %s", i, fmt.Sprint(c.spec), door, a)
			}
		}
	}
	if snap, err := f.srv.API.Definitions.Snapshot(t.Context()); err != nil || len(snap.Agreements)+len(snap.Windows)+len(snap.PairPlans)+len(snap.Networks) > 0 || len(catalogue.Live(snap.Checks)) != 1 {
		t.Errorf("something came in, %v", err)
	}
}
