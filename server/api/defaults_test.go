package api_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// spec is what a check says now.
func (f *fixture) spec(id string) (definition.CheckSpec, int) {
	var list struct {
		Items []api.Defined[definition.CheckSpec]
	}
	f.manager.Must(http.MethodGet, "/checks", nil, &list)
	i := slices.IndexFunc(list.Items, func(d api.Defined[definition.CheckSpec]) bool { return d.ID == id })
	return list.Items[i].Spec, list.Items[i].Revision
}

func TestDefaultsFlowFromServiceToCheck(t *testing.T) {
	f := setUp(t)
	service := func(defaults any) map[string]any {
		return f.manager.Edit("/services/"+f.service,
			map[string]any{"name": "Ticket sales", "kind": "business", "combine": "worst", "check_defaults": defaults})
	}
	put := func(defaults any) {
		t.Helper()
		f.manager.Must(http.MethodPut, "/services/"+f.service, service(defaults), nil)
	}
	put(map[string]any{"interval_s": 30, "stale_after_s": 100, "confirm": 3, "locations": []string{"eskerby"}})
	if _, revision := f.spec(f.check); revision != 1 {
		t.Error("a check that follows nothing was changed")
	}
	id := f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) {
		c["name"], c["follows"] = "Second page", []string{"interval_s", "confirm", "locations", "retry_s"}
	}))
	got, _ := f.spec(id)
	if got.IntervalS != 30 || got.Confirm != 3 || got.StaleAfterS != 150 || !slices.Equal(got.Locations, []string{"eskerby"}) {
		t.Errorf("it was made as %+v", got)
	}
	if !slices.Equal(got.Follows, []string{"interval_s", "confirm", "locations"}) {
		t.Errorf("it follows %v; there is no default for retry_s", got.Follows)
	}
	put(map[string]any{"interval_s": 45, "confirm": 4, "locations": []string{"tolvik", "eskerby"}})
	got, revision := f.spec(id)
	if got.IntervalS != 45 || got.Confirm != 4 || len(got.Locations) != 2 || revision != 2 {
		t.Errorf("revision %d after the defaults changed: %+v", revision, got)
	}
	var history struct{ Items []api.RevisionView }
	f.manager.Must(http.MethodGet, "/checks/"+id+"/revisions", nil, &history)
	if r := history.Items[0]; !strings.Contains(r.Reason, "defaults of its service") {
		t.Errorf("the revision says why: %q", r.Reason)
	}
	// An own value overrides; saving the same defaults again changes nothing.
	got.Confirm, got.Follows = 1, []string{"interval_s", "locations"}
	f.manager.Must(http.MethodPut, "/checks/"+id, map[string]any{"revision": 2, "spec": got}, nil)
	put(map[string]any{"interval_s": 45, "confirm": 4, "locations": []string{"tolvik", "eskerby"}})
	if got, revision := f.spec(id); got.Confirm != 1 || revision != 3 {
		t.Errorf("revision %d after it said its own: %+v", revision, got)
	}
	// Without a default the value stays, and is the check's own.
	put(map[string]any{"locations": []string{"tolvik"}})
	if got, _ := f.spec(id); got.IntervalS != 45 || !slices.Equal(got.Follows, []string{"locations"}) {
		t.Errorf("after the default went: %+v", got)
	}
	// A default that a check cannot follow is refused whole.
	f.manager.Create("/locations", map[string]any{"name": "Pier"})
	put(map[string]any{"locations": []string{"tolvik"}, "stale_after_s": 150})
	got, _ = f.spec(id)
	got.Follows = append(got.Follows, "stale_after_s")
	f.manager.Must(http.MethodPut, "/checks/"+id, map[string]any{"revision": f.manager.Revision("/checks/" + id), "spec": got}, nil)
	for why, defaults := range map[string]map[string]any{
		"names no location":                      {"locations": []string{"nowhere"}},
		"its check Second page would be refused": {"locations": []string{"tolvik"}, "stale_after_s": 40},
		"more often than every 5 s":              {"interval_s": 2},
		"most":                                   {"quorum": "most"},
	} {
		a := f.manager.Do(http.MethodPut, "/services/"+f.service, service(defaults))
		if a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), why) || !strings.Contains(string(a.Body), "check_defaults") {
			t.Errorf("want %q: %s", why, a)
		}
	}
	// A rolling rule that comes by default does away with the check's own retries.
	put(map[string]any{"locations": []string{"tolvik"}, "rolling": map[string]any{"runs": 3, "locations": 1, "window_s": 300}})
	got, _ = f.spec(id)
	got.RetryS, got.Follows = 20, append(got.Follows, "rolling")
	f.manager.Must(http.MethodPut, "/checks/"+id, map[string]any{"revision": f.manager.Revision("/checks/" + id), "spec": got}, nil)
	if got, _ := f.spec(id); got.Rolling == nil || got.Rolling.Runs != 3 || got.RetryS != 0 {
		t.Errorf("following a rolling rule: %+v", got)
	}
	put(map[string]any{"locations": []string{"pier"}})
	if a := f.manager.Do(http.MethodDelete, "/locations/pier", nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "by default") {
		t.Errorf("retiring a location of the defaults: %s", a)
	}
	if a := f.manager.Do(http.MethodPut, "/checks/"+id, map[string]any{"revision": f.manager.Revision("/checks/" + id),
		"spec": servertest.Check(f.service, []string{"tolvik"}, func(c map[string]any) {
			c["follows"] = []string{"target"}
		})}); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), "no field that a service has a default for") {
		t.Errorf("following a field of no default: %s", a)
	}
}

// A rolling rule reaches the explanation and is refused where it could never hold.
func TestRollingRuleOfACheck(t *testing.T) {
	f := setUp(t)
	put := func(rule map[string]any) servertest.Answer {
		return f.manager.Do(http.MethodPut, "/checks/"+f.check,
			map[string]any{"revision": f.manager.Revision("/checks/" + f.check),
				"spec": servertest.Check(f.service, []string{"tolvik", "eskerby"}, func(c map[string]any) {
					c["rolling"] = rule
				})})
	}
	if a := put(map[string]any{"runs": 7, "locations": 2, "window_s": 180}); a.Status != http.StatusUnprocessableEntity ||
		!strings.Contains(string(a.Body), "180 s / 60 s = 3 a location, × 2 locations = 6, and 7 must fail; take at least 240 s") || !strings.Contains(string(a.Body), "rolling.window_s") {
		t.Errorf("a window that holds too few: %s", a)
	}
	if a := put(map[string]any{"runs": 4, "locations": 2, "window_s": 180}); a.Status != http.StatusNoContent && a.Status != http.StatusOK {
		t.Fatalf("a rule that can hold: %s", a)
	}
	var moment api.Moment
	f.manager.Must(http.MethodGet, "/services/"+f.service+"/moment?at="+momentAgo(), nil, &moment)
	if len(moment.Service.Checks) != 1 || !strings.Contains(moment.Service.Checks[0].Text, "4 runs failed from at least 2 locations within 180 s") {
		t.Errorf("the moment says %+v", moment.Service.Checks)
	}
}

// momentAgo is an instant that the definitions just made are in force at.
func momentAgo() string {
	at := storetest.Now().Add(3 * time.Millisecond)
	time.Sleep(at.Add(100 * time.Millisecond).Sub(storetest.Now())) // it is not to come, on the server's clock either
	return at.UTC().Format("2006-01-02T15:04:05.000Z")
}
