package topology_test

import (
	"fmt"
	"slices"
	"testing"

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
