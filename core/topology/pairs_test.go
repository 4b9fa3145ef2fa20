package topology_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/topology"
)

func places(regions ...string) []topology.Place {
	var out []topology.Place
	for i, r := range regions {
		out = append(out, topology.Place{ID: fmt.Sprintf("l%02d", i), Region: r})
	}
	return out
}

func TestPairs(t *testing.T) {
	for _, c := range []struct {
		name   string
		places []topology.Place
		shape  string
		want   int
	}{
		{"eight in a full mesh", places(make([]string, 8)...), topology.FullMesh, 28},
		{"two regions of three and two single ones", places("N", "N", "N", "S", "S", "S", "", ""), topology.ByRegions, 6 + 2*3},
		{"one region", places("N", "N", "N", "N"), topology.ByRegions, 6},
		{"all single", places("", "", "", ""), topology.ByRegions, 6},
		{"one location", places("N"), topology.FullMesh, 0},
		{"none", nil, topology.ByRegions, 0},
	} {
		got := topology.Pairs(c.places, c.shape)
		if len(got) != c.want {
			t.Errorf("%s: %d pairs, want %d", c.name, len(got), c.want)
		}
		seen := map[topology.Pair]bool{}
		for _, p := range got {
			if p.A >= p.B || seen[p] {
				t.Errorf("%s: the pair %v is out of order, or twice", c.name, p)
			}
			seen[p] = true
		}
		if !slices.IsSortedFunc(got, func(a, b topology.Pair) int { return slices.Compare([]string{a.A, a.B}, []string{b.A, b.B}) }) {
			t.Errorf("%s: not in order: %v", c.name, got)
		}
	}
}

// Checks between locations with long names can be saved: their own names are cut.
func TestPairsOfLongNames(t *testing.T) {
	long := strings.Repeat("Harbour office beyond the outer skerries ", 2)[:80]
	locations := map[string]definition.LocationSpec{
		"a": {Name: long, Address: "a.skerry.example", EchoPort: 8481}, "b": {Name: strings.Repeat("ø", 80), Address: "b.skerry.example", EchoPort: 8481},
		"c": {Name: "Pier", Address: "c.skerry.example", EchoPort: 8481},
	}
	plan := definition.PairPlanSpec{Name: "All", Service: "s", Kinds: definition.PairKinds, Shape: topology.FullMesh, Locations: []string{"a", "b", "c"},
		IntervalS: 300, BothWays: true}
	list, err := topology.Planned("all", plan, locations)
	if err != nil || len(list) != 18 {
		t.Fatalf("%d checks, %v", len(list), err)
	}
	for _, c := range list {
		if err := definition.Valid(c.Spec); err != nil {
			t.Errorf("%s: %v", c.Spec.Name, err)
		}
	}
}
