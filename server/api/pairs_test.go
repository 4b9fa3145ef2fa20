package api_test

import (
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/server/api"
)

// piers makes eight locations in two regions of three and two that are single.
func piers(f *fixture) []string {
	var ids []string
	for i, region := range []string{"North", "North", "North", "South", "South", "South", "", ""} {
		ids = append(ids, f.manager.Create("/locations", map[string]any{"name": fmt.Sprint("Pier ", i), "region": region, "address": fmt.Sprint("198.18.3.", i+1)}))
	}
	return ids
}

func (f *fixture) previewPairs(id string, plan definition.PairPlanSpec) api.PairPreview {
	var out api.PairPreview
	f.manager.Must(http.MethodPost, "/pair-plans/preview", api.PairAsk{ID: id, Spec: plan}, &out)
	return out
}

// does counts what saving a plan would do.
func does(p api.PairPreview) map[string]int {
	out := map[string]int{}
	for _, c := range p.Checks {
		out[c.Does]++
	}
	return out
}

// kept are the checks in force that a plan keeps, by name.
func (f *fixture) kept(plan string) map[string]api.Defined[definition.CheckSpec] {
	var list struct {
		Items []api.Defined[definition.CheckSpec]
	}
	f.manager.Must(http.MethodGet, "/checks", nil, &list)
	out := map[string]api.Defined[definition.CheckSpec]{}
	for _, c := range list.Items {
		if c.Spec.Pair != nil && c.Spec.Pair.Plan == plan && !c.Retired {
			out[c.Spec.Name] = c
		}
	}
	return out
}

func TestPairPlanKeepsItsChecks(t *testing.T) {
	f := setUp(t)
	ids := piers(f)
	plan := definition.PairPlanSpec{Name: "Piers", Service: f.service, Kinds: []string{"ping"}, Shape: "full", Locations: ids, IntervalS: 300}
	if p := f.previewPairs("", plan); p.Pairs != 28 || len(p.Checks) != 28 || p.Load.RunsPerDay != 28*288 {
		t.Errorf("a full mesh of eight: %d pairs, %d checks, %d runs a day", p.Pairs, len(p.Checks), p.Load.RunsPerDay)
	}
	plan.Shape, plan.Kinds, plan.BothWays = "regions", []string{"ping", "path"}, true
	if p := f.previewPairs("", plan); p.Pairs != 12 || len(p.Checks) != 48 {
		t.Errorf("by regions, two kinds, both ways: %d pairs, %d checks", p.Pairs, len(p.Checks))
	}
	plan.Kinds, plan.BothWays = []string{"ping"}, false
	id := f.manager.Create("/pair-plans", plan)
	first := f.kept(id)
	if len(first) != 12 {
		t.Fatalf("%d checks were made, not 12", len(first))
	}
	if got := does(f.previewPairs(id, plan)); !reflect.DeepEqual(got, map[string]int{"kept": 12}) {
		t.Errorf("saving it again would do %v", got)
	}
	save := func() {
		t.Helper()
		f.manager.Must(http.MethodPut, "/pair-plans/"+id,
			map[string]any{"revision": f.manager.Revision("/pair-plans/" + id), "spec": plan}, nil)
	}
	// One pair of its own: other limits and a shorter interval. Another is left out.
	bound := 5.0
	plan.Overrides = []definition.PairOverride{
		{PairOf: definition.PairOf{A: ids[1], B: ids[0]}, IntervalS: 30, Limits: []measure.Limit{{Measure: "loss_percent", FailedAbove: &bound}}},
		{PairOf: definition.PairOf{A: ids[0], B: ids[2]}, Skip: true},
	}
	if got := does(f.previewPairs(id, plan)); !reflect.DeepEqual(got, map[string]int{"changed": 1, "retired": 1, "kept": 10}) {
		t.Errorf("the overrides would do %v", got)
	}
	save()
	second := f.kept(id)
	own := second["Pier 0 to Pier 1, ping"]
	if len(second) != 11 || own.Spec.IntervalS != 30 || *own.Spec.Limits[0].FailedAbove != 5 || own.Revision != 2 || second["Pier 1 to Pier 2, ping"].Revision != 1 {
		t.Errorf("%d checks; the pair of its own is %+v", len(second), own)
	}
	// What was left out comes back as the same check.
	plan.Overrides = nil
	save()
	if again := f.kept(id)["Pier 0 to Pier 2, ping"]; again.ID != first["Pier 0 to Pier 2, ping"].ID || again.Revision != 2 {
		t.Errorf("the pair that came back is %+v", again)
	}
	// A location that moves takes its checks along.
	f.manager.Must(http.MethodPut, "/locations/"+ids[1], map[string]any{"revision": f.manager.Revision("/locations/" + ids[1]),
		"spec": map[string]any{"name": "Pier 1", "region": "North", "address": "198.18.9.9"}}, nil)
	if got := f.kept(id)["Pier 0 to Pier 1, ping"].Spec.Target; got != "198.18.9.9" {
		t.Errorf("the target is %s after the location moved", got)
	}
	for why, a := range map[string]interface{ String() string }{
		"keeps this check": f.manager.Do(http.MethodDelete, "/checks/"+own.ID, nil),
		"change it there": f.manager.Do(http.MethodPut, "/checks/"+own.ID,
			map[string]any{"revision": f.manager.Revision("/checks/" + own.ID), "spec": own.Spec}),
		"only a pair plan makes": f.manager.Do(http.MethodPost, "/checks", map[string]any{"spec": own.Spec}),
		"take it out there":      f.manager.Do(http.MethodDelete, "/locations/"+ids[0], nil),
		"has no address": f.manager.Do(http.MethodPut, "/locations/"+ids[1],
			map[string]any{"revision": f.manager.Revision("/locations/" + ids[1]), "spec": map[string]any{"name": "Pier 1"}}),
		"its pair plan Piers is": f.manager.Do(http.MethodDelete, "/services/"+f.service, nil),
	} {
		if !strings.Contains(a.String(), "422") || !strings.Contains(a.String(), why) {
			t.Errorf("want %q: %s", why, a)
		}
	}
	// On demand it keeps none; retired and restored it is as before.
	plan.OnDemand = true
	save()
	if got := f.kept(id); len(got) != 0 {
		t.Errorf("on demand it keeps %d checks", len(got))
	}
	if p := f.previewPairs(id, plan); p.Pairs != 12 || p.Load.RunsPerDay != 0 {
		t.Errorf("on demand: %d pairs, %d runs a day", p.Pairs, p.Load.RunsPerDay)
	}
	plan.OnDemand = false
	save()
	f.manager.Must(http.MethodDelete, "/pair-plans/"+id, nil, nil)
	if got := f.kept(id); len(got) != 0 {
		t.Errorf("a retired plan keeps %d checks", len(got))
	}
	f.manager.Must(http.MethodPost, "/pair-plans/"+id+"/restore", nil, nil)
	if got := f.kept(id); len(got) != 12 || got["Pier 0 to Pier 1, ping"].ID != own.ID {
		t.Errorf("a restored plan keeps %d checks", len(got))
	}
}

func TestPairPlanThatCannotBe(t *testing.T) {
	f := setUp(t)
	ids := piers(f)
	plan := definition.PairPlanSpec{Name: "Piers", Service: f.service, Kinds: []string{"ping"}, Shape: "full", Locations: ids, IntervalS: 300}
	above := 200.0
	for want, change := range map[string]func(*definition.PairPlanSpec){
		"has no address":    func(p *definition.PairPlanSpec) { p.Locations = append(p.Locations, "tolvik") },
		"no UDP echo":       func(p *definition.PairPlanSpec) { p.Kinds = []string{"udp"} },
		"names no location": func(p *definition.PairPlanSpec) { p.Locations = []string{ids[0], "nowhere"} },
		"make no pair":      func(p *definition.PairPlanSpec) { p.Locations = ids[:1] },
		"are no two locations": func(p *definition.PairPlanSpec) {
			p.Shape, p.Pairs = "picked", []definition.PairOf{{A: ids[0], B: ids[0]}}
		},
		"names no service": func(p *definition.PairPlanSpec) { p.Service = "nothing" },
		"are no pair of the plan": func(p *definition.PairPlanSpec) {
			p.Overrides = []definition.PairOverride{{PairOf: definition.PairOf{A: ids[0], B: "tolvik"}}}
		},
		"stands there twice": func(p *definition.PairPlanSpec) {
			p.Overrides = []definition.PairOverride{{PairOf: definition.PairOf{A: ids[0], B: ids[1]}}, {PairOf: definition.PairOf{A: ids[1], B: ids[0]}}}
		},
		"impossible": func(p *definition.PairPlanSpec) {
			p.Overrides = []definition.PairOverride{{PairOf: definition.PairOf{A: ids[0], B: ids[1]}, Limits: []measure.Limit{{Measure: "loss_percent", FailedAbove: &above}}}}
		},
	} {
		bad := plan
		change(&bad)
		for path, in := range map[string]any{"/pair-plans/preview": api.PairAsk{Spec: bad}, "/pair-plans": map[string]any{"spec": bad}} {
			if a := f.manager.Do(http.MethodPost, path, in); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), want) {
				t.Errorf("%s, want %q: %s", path, want, a)
			}
		}
	}
	var checks struct{ Items []any }
	f.manager.Must(http.MethodGet, "/checks", nil, &checks)
	if len(checks.Items) != 1 {
		t.Errorf("refused plans left %d checks", len(checks.Items)-1)
	}
	picked := definition.PairPlanSpec{Name: "One", Service: f.service, Kinds: []string{"path"}, Shape: "picked", Pairs: []definition.PairOf{{A: ids[2], B: ids[1]}, {A: ids[1], B: ids[2]}}, IntervalS: 300}
	if p := f.previewPairs("", picked); p.Pairs != 1 {
		t.Errorf("one pair named twice makes %d", p.Pairs)
	}
}

// A run asks the agents for one measurement of each way.
func TestPairPlanRunsOnDemand(t *testing.T) {
	f := setUp(t)
	ids := piers(f)
	id := f.manager.Create("/pair-plans", definition.PairPlanSpec{
		Name: "Now and then", Service: f.service, Kinds: []string{"ping", "path"}, Shape: "picked", BothWays: true, OnDemand: true, IntervalS: 300,
		Pairs: []definition.PairOf{{A: ids[0], B: ids[3]}},
	})
	var run struct{ Items []api.PairRun }
	f.manager.Must(http.MethodPost, "/pair-plans/"+id+"/run", nil, &run)
	seen := map[string]bool{}
	for _, r := range run.Items {
		seen[r.From+" "+r.To+" "+r.Kind] = r.Trial != ""
	}
	want := map[string]bool{}
	for _, kind := range []string{"ping", "path"} {
		want[ids[0]+" "+ids[3]+" "+kind], want[ids[3]+" "+ids[0]+" "+kind] = true, true
	}
	if !reflect.DeepEqual(seen, want) {
		t.Errorf("the run measures %v", seen)
	}
	if a := f.manager.Do(http.MethodPost, "/pair-plans/none/run", nil); a.Status != http.StatusNotFound {
		t.Errorf("a run of no plan: %s", a)
	}
}
