package topology

import "sort"

// Place is a location as a plan of pairs sees it.
type Place struct{ ID, Region string }

// Pair is a link between two locations; A comes before B by id.
type Pair struct{ A, B string }

// Shapes of a plan of pairs.
const (
	FullMesh  = "full"    // every location with every other
	ByRegions = "regions" // one link between any two regions, a full mesh inside each
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
