package definition

import (
	"fmt"
	"slices"

	"kestite/core/measure"
)

// PairPlanSpec describes checks between locations, which it keeps: they are
// made, changed and retired with it.
type PairPlanSpec struct {
	Name      string         `json:"name" minLength:"1" maxLength:"80"`
	Service   string         `json:"service" minLength:"1" doc:"Whose checks they are"`
	Kinds     []string       `json:"kinds" minItems:"1" enum:"ping,path,udp"`
	Shape     string         `json:"shape" enum:"full,regions,picked" doc:"full: every location with every other; regions: one link between any two regions and a full mesh inside each; picked: those in pairs"`
	Locations []string       `json:"locations,omitempty" doc:"Among which; for full and regions"`
	Pairs     []PairOf       `json:"pairs,omitempty" maxItems:"5000" doc:"For picked"`
	IntervalS int64          `json:"interval_s" minimum:"10" maximum:"86400"`
	BothWays  bool           `json:"both_ways,omitempty" doc:"Measure each pair from either end"`
	OnDemand  bool           `json:"on_demand,omitempty" doc:"Keeps no checks; it measures when somebody runs it"`
	Overrides []PairOverride `json:"overrides,omitempty" maxItems:"5000" doc:"What single pairs do differently"`
	Note      string         `json:"note,omitempty" maxLength:"2000"`
}

// PairOf is two locations by id, in either order.
type PairOf struct {
	A string `json:"a" minLength:"1"`
	B string `json:"b" minLength:"1"`
}

// Ordered is the pair with the location first that comes first by id.
func (p PairOf) Ordered() PairOf {
	if p.B < p.A {
		return PairOf{p.B, p.A}
	}
	return p
}

// PairOverride is what one pair of a plan does differently.
type PairOverride struct {
	PairOf
	Skip      bool            `json:"skip,omitempty" doc:"Is not measured"`
	IntervalS int64           `json:"interval_s,omitempty" minimum:"0" maximum:"86400" doc:"0: as the plan says"`
	Kinds     []string        `json:"kinds,omitempty" enum:"ping,path,udp" doc:"Absent: as the plan says"`
	Limits    []measure.Limit `json:"limits,omitempty" doc:"In place of the usual ones, for the kinds that have these measures"`
}

// PairRef says which plan keeps a check, and the way it measures.
type PairRef struct {
	Plan string `json:"plan"`
	From string `json:"from"`
	To   string `json:"to"`
}

// PairKinds are the kinds of check that are made between locations.
var PairKinds = []string{measure.Ping.Name, measure.Path.Name, measure.UDP.Name}

// Validate of a plan, as far as can be told of it alone.
func (p PairPlanSpec) Validate() error {
	if err := called("name", p.Name); err != nil {
		return err
	}
	if err := pairKinds("kinds", p.Kinds); err != nil {
		return err
	}
	if len(p.Kinds) == 0 {
		return fault("kinds", "is empty; a plan measures by ping, path or udp")
	}
	for i, pair := range p.Pairs {
		if pair.A == pair.B {
			return fault(fmt.Sprintf("pairs[%d]", i), "%q and %q are no two locations", pair.A, pair.B)
		}
	}
	switch picked := p.Shape == "picked"; {
	case picked && len(p.Pairs) == 0:
		return fault("pairs", "is empty; pick at least one pair")
	case !picked && len(p.Locations) < 2:
		return fault("locations", "%d make no pair; take at least two", len(p.Locations))
	}
	seen := map[PairOf]bool{}
	for i, o := range p.Overrides {
		path := fmt.Sprintf("overrides[%d]", i)
		if seen[o.Ordered()] {
			return fault(path, "the pair %s, %s stands there twice; put what it does differently into one", o.A, o.B)
		}
		seen[o.Ordered()] = true
		if err := pairKinds(path+".kinds", o.Kinds); err != nil {
			return err
		}
		if o.IntervalS > 0 && o.IntervalS < 10 {
			return fault(path+".interval_s", "%d s is more often than every 10 s", o.IntervalS)
		}
		for n, l := range o.Limits {
			if err := limitOfAny(l, ownOr(o.Kinds, p.Kinds)); err != nil {
				return fault(fmt.Sprintf("%s.limits[%d]", path, n), "%v", err)
			}
		}
	}
	return nil
}

// Override is what the plan says of one pair; the zero override where it says nothing.
func (p PairPlanSpec) Override(pair PairOf) PairOverride {
	for _, o := range p.Overrides {
		if o.Ordered() == pair.Ordered() {
			return o
		}
	}
	return PairOverride{PairOf: pair}
}

// KindsOf and IntervalOf are what holds for a pair.
func (p PairPlanSpec) KindsOf(pair PairOf) []string { return ownOr(p.Override(pair).Kinds, p.Kinds) }

// IntervalOf is how often a pair is measured, s.
func (p PairPlanSpec) IntervalOf(pair PairOf) int64 {
	if s := p.Override(pair).IntervalS; s > 0 {
		return s
	}
	return p.IntervalS
}

func ownOr(own, general []string) []string {
	if len(own) > 0 {
		return own
	}
	return general
}

func pairKinds(path string, kinds []string) error {
	for i, k := range kinds {
		if !slices.Contains(PairKinds, k) {
			return fault(fmt.Sprintf("%s[%d]", path, i), "%q is not measured between locations; it is ping, path or udp", k)
		}
	}
	return nil
}

// limitOfAny says what is wrong with a limit that must suit one of the kinds.
func limitOfAny(l measure.Limit, kinds []string) error {
	var last error
	for _, name := range kinds {
		kind, _ := measure.KindNamed(name)
		if last = l.Check(kind); last == nil {
			return nil
		}
	}
	return last
}
