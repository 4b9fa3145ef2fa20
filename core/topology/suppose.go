package topology

import (
	"slices"

	"kestite/core/definition"
)

// Effect is what a failure would do to a service.
type Effect struct {
	Service string
	Down    bool     // it fails too; otherwise it loses redundancy
	Because []string // what it needs and would be down, in order
	Spare   int      // where it stays up: how many more of its tightest group may fail
}

// Suppose says what follows from some services being down: which others fail because a
// group that they need has too few members left, through others too, and which lose
// redundancy. needs gives the groups of each service. Those that fail stand first, each
// behind what brings it down; then those with the least to spare; equal ones by id.
func Suppose(needs map[string][]definition.Dependency, failed []string) []Effect {
	down := map[string]bool{}
	for _, id := range failed {
		down[id] = true
	}
	var out []Effect
	all := sorted(needs)
	for more := true; more; {
		more = false
		for _, id := range all {
			if down[id] {
				continue
			}
			var because []string
			for _, g := range needs[id] {
				if _, gone := left(g, down); len(g.Services)-len(gone) < needed(g) {
					because = append(because, gone...)
				}
			}
			if because != nil {
				slices.Sort(because)
				out = append(out, Effect{Service: id, Down: true, Because: slices.Compact(because)})
				down[id], more = true, true
			}
		}
	}
	var weaker []Effect
	for _, id := range all {
		e := Effect{Service: id, Spare: -1}
		for _, g := range needs[id] {
			up, gone := left(g, down)
			if spare := up - needed(g); !down[id] && len(gone) > 0 && (e.Spare < 0 || spare < e.Spare) {
				e.Spare, e.Because = spare, gone
			}
		}
		if e.Because != nil {
			weaker = append(weaker, e)
		}
	}
	slices.SortStableFunc(weaker, func(a, b Effect) int { return a.Spare - b.Spare })
	return append(out, weaker...)
}

func left(g definition.Dependency, down map[string]bool) (up int, gone []string) {
	for _, id := range g.Services {
		if down[id] {
			gone = append(gone, id)
		} else {
			up++
		}
	}
	slices.Sort(gone)
	return up, gone
}

func needed(g definition.Dependency) int {
	if g.Need > 0 {
		return g.Need
	}
	return len(g.Services)
}

func sorted(needs map[string][]definition.Dependency) []string {
	out := make([]string, 0, len(needs))
	for id := range needs {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}
