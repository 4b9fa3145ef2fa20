package catalogue

import (
	"maps"
	"reflect"
	"slices"

	"kestite/core/definition"
	"kestite/core/topology"
)

// What a pair plan does about a check when it is saved.
const (
	PairNew       = "new"
	PairChanged   = "changed"
	PairKept      = "kept"
	PairRestored  = "restored"
	PairRetired   = "retired"
	PairElsewhere = "elsewhere" // a check that no plan keeps measures this already
)

// PairStep is a check of a pair plan, and what saving the plan does about it.
type PairStep struct {
	topology.PairCheck
	Check string // its id; empty for a new one
	Does  string
}

// Planned are the checks of a plan among the locations in force.
func (s *Snapshot) Planned(id string, plan definition.PairPlanSpec) ([]topology.PairCheck, error) {
	return topology.Planned(id, plan, s.places())
}

// PairSteps are what saving a plan does; id is empty for a plan that is new. A
// plan that runs on demand keeps no checks.
func (s *Snapshot) PairSteps(id string, plan definition.PairPlanSpec) ([]PairStep, error) {
	planned, err := topology.Planned(id, plan, s.places())
	if err != nil {
		return nil, err
	}
	if plan.OnDemand {
		planned = nil
	}
	before := map[way]string{}
	for _, check := range s.keptBy(id) {
		before[wayOf(s.Checks[check].Current().Spec)] = check
	}
	elsewhere := s.measuring(plan.Service)
	var out []PairStep
	for _, p := range planned {
		check, there := before[wayOf(p.Spec)]
		delete(before, wayOf(p.Spec))
		step := PairStep{p, check, PairNew}
		switch {
		case there && s.Checks[check].Retired:
			step.Does = PairRestored
		case there && reflect.DeepEqual(s.Checks[check].Current().Spec, p.Spec):
			step.Does = PairKept
		case there:
			step.Does = PairChanged
		default:
			if step.Check = elsewhere[targetOf(p.Spec)]; step.Check != "" {
				step.Does = PairElsewhere
			}
		}
		out = append(out, step)
	}
	for _, check := range slices.Sorted(maps.Values(before)) {
		if spec := s.Checks[check].Current().Spec; !s.Checks[check].Retired {
			pair := definition.PairOf{A: spec.Pair.From, B: spec.Pair.To}.Ordered()
			out = append(out, PairStep{topology.PairCheck{Pair: pair, Spec: spec}, check, PairRetired})
		}
	}
	return out, nil
}

// planSteps are the steps that make a plan's checks what it says.
func (s *Snapshot) planSteps(id string, plan definition.PairPlanSpec) ([]Step, error) {
	list, err := s.PairSteps(id, plan)
	if err != nil {
		return nil, err
	}
	var out []Step
	for _, p := range list {
		reason := "pair plan " + plan.Name
		switch p.Does {
		case PairNew:
			out = append(out, Step{Does: Make, Kind: Check,
				Name: plan.Service + " " + p.Spec.Pair.From + " " + p.Spec.Pair.To + " " + p.Spec.Kind, Spec: p.Spec, Reason: reason})
		case PairChanged:
			out = append(out, Step{Does: Rewrite, Kind: Check, ID: p.Check, Spec: p.Spec, Reason: reason})
		case PairRestored:
			out = append(out, Step{Does: Restore, Kind: Check, ID: p.Check, Spec: p.Spec, Reason: reason})
		case PairRetired:
			out = append(out, Step{Does: Retire, Kind: Check, ID: p.Check, Reason: reason})
		}
	}
	return out, nil
}

// way is from where to where a check of a plan measures, and how.
type way struct{ from, to, kind string }

func wayOf(c definition.CheckSpec) way { return way{c.Pair.From, c.Pair.To, c.Kind} }

// KeptBy are the checks in force that a plan keeps.
func (s *Snapshot) KeptBy(plan string) []string {
	return slices.DeleteFunc(s.keptBy(plan), func(id string) bool { return s.Checks[id].Retired })
}

// keptBy are the checks that a plan keeps or kept.
func (s *Snapshot) keptBy(plan string) []string {
	var out []string
	for _, id := range Sorted(s.Checks) {
		if p := s.Checks[id].Current().Spec.Pair; p != nil && p.Plan == plan && plan != "" {
			out = append(out, id)
		}
	}
	return out
}

// target is what is measured from where.
type target struct{ kind, target, location string }

func targetOf(c definition.CheckSpec) target { return target{c.Kind, c.Target, c.Locations[0]} }

// measuring are a service's checks in force that measure from one location and
// that no plan keeps, by what they measure.
func (s *Snapshot) measuring(service string) map[target]string {
	out := map[target]string{}
	for _, id := range s.ChecksOf[service] {
		if c := s.Checks[id].Current().Spec; !s.Checks[id].Retired && c.Pair == nil && len(c.Locations) == 1 {
			out[targetOf(c)] = id
		}
	}
	return out
}

// places are the locations in force.
func (s *Snapshot) places() map[string]definition.LocationSpec {
	out := map[string]definition.LocationSpec{}
	for _, id := range Live(s.Locations) {
		out[id] = s.Locations[id].Current().Spec
	}
	return out
}

// names says whether a plan includes a location.
func names(plan definition.PairPlanSpec, location string) bool {
	if plan.Shape != topology.Picked {
		return slices.Contains(plan.Locations, location)
	}
	return slices.ContainsFunc(plan.Pairs, func(p definition.PairOf) bool { return p.A == location || p.B == location })
}
