// Package planning reasons about planned work to come: what of it clashes, when work
// would cost least, and what may be said of that in words.
package planning

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/topology"
)

// Work is time that planned work takes.
type Work struct {
	Window   string
	Services []string
	span.Span
}

// Clash is time in which work of several windows takes something down that no one of
// them would take down, as both members of a pair; or work lies in an embargo.
type Clash struct {
	span.Span
	Windows []string // in order
	Service string   // that goes down by them together
	Because []string // what it needs and is at work
	Embargo string   // that the one window lies in
}

// Clashes are those of some work, in order of time; needs gives the groups of each
// service. Each lasts as long as the same windows are at work.
func Clashes(needs map[string][]definition.Dependency, work []Work) []Clash {
	return graph{needs, map[string][]topology.Effect{}}.clashes(work)
}

func (g graph) clashes(work []Work) []Clash {
	var edges []span.Instant
	for _, w := range work {
		edges = append(edges, w.From, w.To)
	}
	slices.Sort(edges)
	edges = slices.Compact(edges)
	work = slices.Clone(work)
	slices.SortFunc(work, func(a, b Work) int { return cmp.Compare(a.From, b.From) })
	var out []Clash
	var open []Work
	next := 0
	for i := 0; i+1 < len(edges); i++ {
		at := span.Span{From: edges[i], To: edges[i+1]}
		open = slices.DeleteFunc(open, func(w Work) bool { return w.To <= at.From })
		for ; next < len(work) && work[next].From <= at.From; next++ {
			if work[next].To > at.From {
				open = append(open, work[next])
			}
		}
		for _, c := range g.together(open) {
			c.Span = at
			if n := slices.IndexFunc(out, func(x Clash) bool {
				return x.To == at.From && x.Service == c.Service && slices.Equal(x.Windows, c.Windows)
			}); n >= 0 {
				out[n].To = at.To
				continue
			}
			out = append(out, c)
		}
	}
	return out
}

// graph remembers what follows from work on services.
type graph struct {
	needs map[string][]definition.Dependency
	known map[string][]topology.Effect
}

// down are the services that are down while some are at work, with what makes them so.
func (g graph) down(services []string) map[string][]string {
	slices.Sort(services)
	services = slices.Compact(services)
	key := strings.Join(services, "\n")
	effects, has := g.known[key]
	if !has {
		effects = topology.Suppose(g.needs, services)
		g.known[key] = effects
	}
	out := map[string][]string{}
	for _, s := range services {
		out[s] = nil
	}
	for _, e := range effects {
		if e.Down {
			out[e.Service] = e.Because
		}
	}
	return out
}

// together are the services that some windows take down together and none alone.
func (g graph) together(open []Work) []Clash {
	windows := map[string][]string{} // services of each
	for _, w := range open {
		windows[w.Window] = append(windows[w.Window], w.Services...)
	}
	if len(windows) < 2 {
		return nil
	}
	alone := map[string]bool{}
	var all []string
	for _, services := range windows {
		for id := range g.down(slices.Clone(services)) {
			alone[id] = true
		}
		all = append(all, services...)
	}
	var out []Clash
	together := g.down(all)
	for _, id := range slices.Sorted(maps.Keys(together)) {
		if !alone[id] {
			out = append(out, Clash{Service: id, Because: together[id], Windows: slices.Sorted(maps.Keys(windows))})
		}
	}
	return out
}

// TakesDown are the services that are down while some are at work: those, and those that
// need too many of them, in order.
func TakesDown(needs map[string][]definition.Dependency, services []string) []string {
	return slices.Sorted(maps.Keys(graph{needs, map[string][]topology.Effect{}}.down(slices.Clone(services))))
}
