package topology

import (
	"slices"

	"kestite/core/definition"
)

// Ways in which services hang together with one.
const (
	Both    = "both"
	Needed  = "needed" // what needs it
	Needing = "needs"  // what it needs
)

// Around are the services that hang together with one, through others too, itself among
// them, in order; needs gives the groups of each service there is.
func Around(needs map[string][]definition.Dependency, of, way string) []string {
	down, up := map[string][]string{}, map[string][]string{}
	for id, groups := range needs {
		for _, g := range groups {
			for _, m := range g.Services {
				down[id] = append(down[id], m)
				up[m] = append(up[m], id)
			}
		}
	}
	all := map[string]bool{}
	var visit func(id string, next map[string][]string, seen map[string]bool)
	visit = func(id string, next map[string][]string, seen map[string]bool) {
		if _, is := needs[id]; !is || seen[id] {
			return
		}
		seen[id], all[id] = true, true
		for _, n := range next[id] {
			visit(n, next, seen)
		}
	}
	if way != Needed {
		visit(of, down, map[string]bool{})
	}
	if way != Needing {
		visit(of, up, map[string]bool{})
	}
	var out []string
	for id := range all {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// Trouble tells those services that are down by themselves from those that are down with
// something they need, each in order, and counts the groups that have just enough members
// up and could do with all of them. up says of each service whether it is up or degraded,
// down whether it is down.
func Trouble(needs map[string][]definition.Dependency, up, down map[string]bool) (roots, taken []string, tight int) {
	for _, id := range sorted(needs) {
		short := false
		for _, g := range needs[id] {
			n, left := 0, len(g.Services)
			for _, m := range g.Services {
				if up[m] {
					n++
				}
				if down[m] {
					left--
				}
			}
			short = short || left < needed(g) // what is not measured takes nothing down
			if n == needed(g) && n < len(g.Services) {
				tight++
			}
		}
		switch {
		case down[id] && short:
			taken = append(taken, id)
		case down[id]:
			roots = append(roots, id)
		}
	}
	return roots, taken, tight
}
