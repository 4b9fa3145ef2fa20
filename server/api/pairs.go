package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/topology"
	"kestite/server/auth"
	"kestite/server/catalogue"
)

// PairPlan asks for checks between locations.
type PairPlan struct {
	Service   string   `json:"service" minLength:"1"`
	Kinds     []string `json:"kinds" minItems:"1" enum:"ping,path,udp"`
	Shape     string   `json:"shape" enum:"full,regions,picked" doc:"full: every location with every other; regions: one link between any two regions and a full mesh inside each; picked: those in pairs"`
	Locations []string `json:"locations,omitempty" doc:"Among which; for full and regions"`
	Pairs     []PairOf `json:"pairs,omitempty" doc:"For picked"`
	IntervalS int64    `json:"interval_s" minimum:"10" maximum:"86400"`
	BothWays  bool     `json:"both_ways,omitempty" doc:"Measure each pair from either end"`
}

// PairOf is two locations by id.
type PairOf struct {
	A string `json:"a"`
	B string `json:"b"`
}

// PairCheck is a check that a plan makes.
type PairCheck struct {
	Pair PairOf               `json:"pair"`
	Spec definition.CheckSpec `json:"spec"`
	Have string               `json:"have,omitempty" doc:"Id of a check that measures this already; it is not made again"`
}

// PairPreview is what a plan makes, before it does.
type PairPreview struct {
	Pairs      int         `json:"pairs"`
	Checks     []PairCheck `json:"checks"`
	RunsPerDay int64       `json:"runs_per_day"`
}

func (s *Server) pairRoutes(a *operations) {
	on(a, auth.Manager, http.MethodPost, "/pairs/preview", "preview-pairs", "The checks between locations that a plan makes", func(ctx context.Context, in *body[PairPlan]) (*body[PairPreview], error) {
		out, err := s.pairs(ctx, in.Body)
		return &body[PairPreview]{out}, err
	})
	on(a, auth.Manager, http.MethodPost, "/pairs", "create-pairs", "Make the checks of a plan that are not there yet", func(ctx context.Context, in *body[PairPlan]) (*list[made], error) {
		plan, err := s.pairs(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		var out []made
		for _, c := range plan.Checks {
			if c.Have != "" {
				continue
			}
			id, err := s.Catalogue.Create(ctx, catalogue.Check, "", c.Spec.Service+" "+c.Pair.A+" "+c.Pair.B+" "+c.Spec.Kind, c.Spec, s.change(ctx, "plan of pairs"))
			if err != nil {
				return nil, fmt.Errorf("after %d of %d checks: %w", len(out), len(plan.Checks), err)
			}
			out = append(out, made{id})
		}
		return items(out), s.judgeSoon(ctx, []string{in.Body.Service})
	})
}

// pairs turns a plan into checks.
func (s *Server) pairs(ctx context.Context, plan PairPlan) (PairPreview, error) {
	snap, err := s.Catalogue.Snapshot(ctx)
	if err != nil {
		return PairPreview{}, err
	}
	links, err := planLinks(snap, plan)
	if err != nil {
		return PairPreview{}, err
	}
	out := PairPreview{Pairs: len(links), Checks: []PairCheck{}}
	for _, p := range links {
		ends := []PairOf{p}
		if plan.BothWays {
			ends = append(ends, PairOf{p.B, p.A})
		}
		for _, e := range ends {
			for _, kind := range plan.Kinds {
				spec, err := pairCheck(snap, plan, e, kind)
				if err != nil {
					return PairPreview{}, err
				}
				out.Checks = append(out.Checks, PairCheck{p, spec, known(snap, spec)})
				const day = 86_400
				out.RunsPerDay += day / plan.IntervalS
			}
		}
	}
	return out, nil
}

// planLinks are the pairs that a plan means, each once.
func planLinks(snap *catalogue.Snapshot, plan PairPlan) ([]PairOf, error) {
	if e := snap.Services[plan.Service]; e == nil || e.Retired {
		return nil, invalid("service", plan.Service+" names no service")
	}
	here := func(id string) bool { e := snap.Locations[id]; return e != nil && !e.Retired }
	var out []PairOf
	if plan.Shape == "picked" {
		for i, p := range plan.Pairs {
			if !here(p.A) || !here(p.B) || p.A == p.B {
				return nil, invalid(fmt.Sprintf("pairs[%d]", i), fmt.Sprintf("%q and %q are no two locations", p.A, p.B))
			}
			if p.B < p.A {
				p = PairOf{p.B, p.A}
			}
			if !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
		return out, nil
	}
	var places []topology.Place
	for i, id := range plan.Locations {
		if !here(id) {
			return nil, invalid(fmt.Sprintf("locations[%d]", i), fmt.Sprintf("%q names no location", id))
		}
		if !slices.ContainsFunc(places, func(p topology.Place) bool { return p.ID == id }) {
			places = append(places, topology.Place{ID: id, Region: snap.Locations[id].Current().Spec.Region})
		}
	}
	for _, p := range topology.Pairs(places, plan.Shape) {
		out = append(out, PairOf(p))
	}
	return out, nil
}

// pairCheck is the check from one location to another.
func pairCheck(snap *catalogue.Snapshot, plan PairPlan, p PairOf, kind string) (definition.CheckSpec, error) {
	from, to := snap.Locations[p.A].Current().Spec, snap.Locations[p.B].Current().Spec
	spec := definition.CheckSpec{
		Service: plan.Service, Name: from.Name + " to " + to.Name, Kind: kind, Target: to.Address, IntervalS: plan.IntervalS, TimeoutMS: 1000,
		StaleAfterS: plan.IntervalS*3 + 10, Confirm: 2, Recover: 2, Quorum: "any", Role: definition.Informs, Locations: []string{p.A},
	}
	if to.Address == "" {
		return spec, invalid("locations", to.Name+" has no address; say under Set-up, Locations, where others find it")
	}
	bound := func(v float64) *float64 { return &v }
	switch kind {
	case measure.Ping.Name:
		spec.Limits = []measure.Limit{{Measure: "loss_percent", DegradedAbove: bound(20), FailedAbove: bound(80)}}
		spec.Ping = &definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200}
	case measure.Path.Name:
		spec.Limits = []measure.Limit{{Measure: "route_changed", DegradedAbove: bound(0)}}
		spec.Path = &definition.PathSettings{Method: definition.ByICMP}
	case measure.UDP.Name:
		if to.EchoPort == 0 {
			return spec, invalid("kinds", "the agent of "+to.Name+" answers no UDP echo checks; give its location a UDP echo port")
		}
		spec.Target = fmt.Sprintf("%s:%d", to.Address, to.EchoPort)
		spec.Limits = []measure.Limit{{Measure: "mos", DegradedBelow: bound(4), FailedBelow: bound(3.1)}}
		spec.UDP = &definition.UDPSettings{Codec: measure.G711.Name, Packets: 100}
	default:
		return spec, invalid("kinds", fmt.Sprintf("%q is not measured between locations; it is ping, path or udp", kind))
	}
	spec.Name += ", " + kind
	return spec, spec.Validate()
}

// known is the check that measures the same from the same place; empty where there is none.
func known(snap *catalogue.Snapshot, spec definition.CheckSpec) string {
	for _, id := range catalogue.Live(snap.Checks) {
		c := snap.Checks[id].Current().Spec
		if c.Service == spec.Service && c.Kind == spec.Kind && c.Target == spec.Target && slices.Equal(c.Locations, spec.Locations) {
			return id
		}
	}
	return ""
}
