package topology

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Place is a location as a plan of pairs sees it.
type Place struct{ ID, Region string }

// Pair is a link between two locations; A comes before B by id.
type Pair struct{ A, B string }

// Shapes of a plan of pairs.
const (
	FullMesh  = "full"    // every location with every other
	ByRegions = "regions" // one link between any two regions, a full mesh inside each
	Picked    = "picked"  // those that are named
)

// Pairs are the links that a shape makes among locations, in order. Of a region
// the location that is first by id links it to others; a location without a
// region is one by itself. A full mesh of n has n(n−1)/2 links.
func Pairs(places []Place, shape string) []Pair {
	var out []Pair
	mesh := func(ids []string) {
		sort.Strings(ids)
		for i, a := range ids {
			for _, b := range ids[i+1:] {
				out = append(out, Pair{a, b})
			}
		}
	}
	if shape == FullMesh {
		var all []string
		for _, p := range places {
			all = append(all, p.ID)
		}
		mesh(all)
		return out
	}
	regions := map[string][]string{}
	for _, p := range places {
		key := "region " + p.Region
		if p.Region == "" {
			key = "location " + p.ID
		}
		regions[key] = append(regions[key], p.ID)
	}
	var gates []string
	for _, ids := range regions {
		mesh(ids) // sorts ids
		gates = append(gates, ids[0])
	}
	mesh(gates)
	sort.Slice(out, func(i, j int) bool {
		return out[i].A < out[j].A || out[i].A == out[j].A && out[i].B < out[j].B
	})
	return out
}

// PairCheck is a check that a plan of pairs makes.
type PairCheck struct {
	Pair definition.PairOf
	Spec definition.CheckSpec
}

// Planned are the checks that a plan makes among the locations in force, by id.
// plan is the plan's own id. The error is a *definition.Fault.
func Planned(id string, plan definition.PairPlanSpec, locations map[string]definition.LocationSpec) ([]PairCheck, error) {
	links, err := links(plan, locations)
	if err != nil {
		return nil, err
	}
	for i, o := range plan.Overrides {
		if !slices.Contains(links, o.Ordered()) {
			return nil, definition.Faultf(fmt.Sprintf("overrides[%d]", i), "%s and %s are no pair of the plan", named(locations, o.A), named(locations, o.B))
		}
	}
	var out []PairCheck
	for _, pair := range links {
		if plan.Override(pair).Skip {
			continue
		}
		ways := []definition.PairOf{pair}
		if plan.BothWays {
			ways = append(ways, definition.PairOf{A: pair.B, B: pair.A})
		}
		for _, way := range ways {
			for _, kind := range plan.KindsOf(pair) {
				spec, err := between(plan, way, kind, locations)
				if err != nil {
					return nil, err
				}
				spec.Pair = &definition.PairRef{Plan: id, From: way.A, To: way.B}
				out = append(out, PairCheck{pair, spec})
			}
		}
	}
	return out, nil
}

// links are the pairs that a plan means, each once, in order.
func links(plan definition.PairPlanSpec, locations map[string]definition.LocationSpec) ([]definition.PairOf, error) {
	var out []definition.PairOf
	if plan.Shape == Picked {
		for i, p := range plan.Pairs {
			for _, end := range []string{p.A, p.B} {
				if _, here := locations[end]; !here {
					return nil, definition.Faultf(fmt.Sprintf("pairs[%d]", i), "%q names no location", end)
				}
			}
			if !slices.Contains(out, p.Ordered()) {
				out = append(out, p.Ordered())
			}
		}
		return out, nil
	}
	var places []Place
	for i, id := range plan.Locations {
		l, here := locations[id]
		if !here {
			return nil, definition.Faultf(fmt.Sprintf("locations[%d]", i), "%q names no location", id)
		}
		if !slices.ContainsFunc(places, func(p Place) bool { return p.ID == id }) {
			places = append(places, Place{ID: id, Region: l.Region})
		}
	}
	for _, p := range Pairs(places, plan.Shape) {
		out = append(out, definition.PairOf(p))
	}
	return out, nil
}

// between is the check from one location to another.
func between(plan definition.PairPlanSpec, way definition.PairOf, kind string, locations map[string]definition.LocationSpec) (definition.CheckSpec, error) {
	from, to := locations[way.A], locations[way.B]
	interval := plan.IntervalOf(way)
	spec := definition.CheckSpec{
		Service: plan.Service, Name: brief(from.Name) + " to " + brief(to.Name) + ", " + kind, Kind: kind, Target: to.Address, IntervalS: interval, TimeoutMS: 1000,
		StaleAfterS: interval*3 + 10, Confirm: 2, Recover: 2, Quorum: "any", Role: definition.Informs, Locations: []string{way.A},
	}
	if to.Address == "" {
		return spec, definition.Faultf("locations", "%s has no address; say under Set-up, Locations, where others find it", to.Name)
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
			return spec, definition.Faultf("kinds", "the agent of %s answers no UDP echo checks; give its location a UDP echo port", to.Name)
		}
		spec.Target = fmt.Sprintf("%s:%d", to.Address, to.EchoPort)
		spec.Limits = []measure.Limit{{Measure: "mos", DegradedBelow: bound(4), FailedBelow: bound(3.1)}}
		spec.UDP = &definition.UDPSettings{Codec: measure.G711.Name, Packets: 100}
	}
	if own := suiting(plan.Override(way).Limits, kind); len(own) > 0 {
		spec.Limits = own
	}
	return spec, definition.Valid(spec)
}

// brief is a location's name, cut so that two of them fit into the name of a check.
func brief(name string) string {
	const most = 32
	if letters := []rune(name); len(letters) > most {
		return strings.TrimSpace(string(letters[:most-1])) + "…"
	}
	return name
}

// suiting are the limits whose measures a kind has.
func suiting(limits []measure.Limit, kind string) []measure.Limit {
	var out []measure.Limit
	of, _ := measure.KindNamed(kind)
	for _, l := range limits {
		if of.Index(l.Measure) >= 0 {
			out = append(out, l)
		}
	}
	return out
}

func named(locations map[string]definition.LocationSpec, id string) string {
	if l, here := locations[id]; here {
		return l.Name
	}
	return id
}
