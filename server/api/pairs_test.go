package api_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"kestite/server/api"
)

func TestPairs(t *testing.T) {
	f := setUp(t)
	var ids []string
	for i, region := range []string{"North", "North", "North", "South", "South", "South", "", ""} {
		ids = append(ids, f.manager.Create("/locations", map[string]any{"name": fmt.Sprint("Pier ", i), "region": region, "address": fmt.Sprint("198.18.3.", i+1)}))
	}
	plan := api.PairPlan{Service: f.service, Kinds: []string{"ping"}, Shape: "full", Locations: ids, IntervalS: 300}
	preview := func() api.PairPreview {
		t.Helper()
		var out api.PairPreview
		f.manager.Must(http.MethodPost, "/pairs/preview", plan, &out)
		return out
	}
	if p := preview(); p.Pairs != 28 || len(p.Checks) != 28 || p.RunsPerDay != 28*288 {
		t.Errorf("a full mesh of eight: %d pairs, %d checks, %d runs a day", p.Pairs, len(p.Checks), p.RunsPerDay)
	}
	plan.Shape, plan.Kinds, plan.BothWays = "regions", []string{"ping", "path"}, true
	if p := preview(); p.Pairs != 12 || len(p.Checks) != 48 {
		t.Errorf("by regions, two kinds, both ways: %d pairs, %d checks", p.Pairs, len(p.Checks))
	}
	plan.Kinds, plan.BothWays = []string{"ping"}, false
	var made struct{ Items []struct{ ID string } }
	f.manager.Must(http.MethodPost, "/pairs", plan, &made)
	if len(made.Items) != 12 {
		t.Fatalf("%d checks were made, not 12", len(made.Items))
	}
	for _, c := range preview().Checks {
		if c.Have == "" {
			t.Errorf("%s is there and would be made again", c.Spec.Name)
		}
	}
	f.manager.Must(http.MethodPost, "/pairs", plan, &made)
	if len(made.Items) != 0 {
		t.Errorf("a second time made %d checks more", len(made.Items))
	}
	for want, change := range map[string]func(*api.PairPlan){
		"has no address":       func(p *api.PairPlan) { p.Locations = append(p.Locations, "tolvik", "eskerby") },
		"no UDP echo":          func(p *api.PairPlan) { p.Kinds = []string{"udp"} },
		"names no location":    func(p *api.PairPlan) { p.Locations = []string{"nowhere"} },
		"are no two locations": func(p *api.PairPlan) { p.Shape, p.Pairs = "picked", []api.PairOf{{A: ids[0], B: ids[0]}} },
		"names no service":     func(p *api.PairPlan) { p.Service = "nothing" },
	} {
		bad := plan
		change(&bad)
		if a := f.manager.Do(http.MethodPost, "/pairs", bad); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), want) {
			t.Errorf("want %q: %s", want, a)
		}
	}
	if p := (api.PairPlan{Service: f.service, Kinds: []string{"path"}, Shape: "picked", Pairs: []api.PairOf{{A: ids[2], B: ids[1]}, {A: ids[1], B: ids[2]}}, IntervalS: 300}); true {
		var out api.PairPreview
		f.manager.Must(http.MethodPost, "/pairs/preview", p, &out)
		if out.Pairs != 1 {
			t.Errorf("one pair named twice makes %d", out.Pairs)
		}
	}
}
