// Package topology reasons about what services depend on.
package topology

import (
	"fmt"
	"math"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// Model is a service with all that it needs at an instant, directly or through others: who
// is up when in each of its groups at least the needed number of members is
// (docs/accounting.md §5), groups in series, each a k-of-n system (IEC 61078, reliability
// block diagrams). A service that is reached on several ways is the same one on all of them.
//
// A service with an availability of its own has a part of its own besides: it is up when that
// part is and all that it needs is. The part is as good as the availability asks for: what its
// needs leave it, times the part, is the availability; where they leave it less, the part
// never fails. Parts fail independently of one another.
type Model struct {
	service string
	groups  map[string][]definition.Group
	// order lists the services reached, each behind those that it needs; the service is the last.
	order []string
	// needers are those reached that need a service directly.
	needers map[string][]string
	speaks  map[string]bool
}

// ModelOf is the model of a service of the bundle at i.
func ModelOf(c *definition.Compiled, service string, i span.Instant) *Model {
	m := &Model{service: service, groups: map[string][]definition.Group{}, needers: map[string][]string{}, speaks: map[string]bool{}}
	var visit func(id string)
	visit = func(id string) {
		if _, seen := m.groups[id]; seen {
			return
		}
		m.groups[id] = groups(c, id, i)
		m.speaks[id] = measured(c, id, i) || len(m.groups[id]) == 0
		for _, g := range m.groups[id] {
			for _, member := range g.Members() {
				visit(member)
				if !slices.Contains(m.needers[member], id) {
					m.needers[member] = append(m.needers[member], id)
				}
			}
		}
		m.order = append(m.order, id)
	}
	visit(service)
	return m
}

// Alone says that the service needs nothing: there is nothing to model.
func (m *Model) Alone() bool { return len(m.order) == 1 }

// Parts are the services whose availability it is made of: those that checks of their own
// decide, and those that need nothing; the service itself, where it is one, is the last.
func (m *Model) Parts() []string {
	return slices.DeleteFunc(slices.Clone(m.order), func(id string) bool { return !m.speaks[id] })
}

// Missing are those of the parts without which it cannot be computed from the availabilities
// of some. What is needed on no way but through a service with an availability is in that.
func (m *Model) Missing(has func(id string) bool) []string {
	through := map[string][]string{} // services on all ways to it, itself among them
	var out []string
	for _, id := range slices.Backward(m.order) { // each before what it needs
		for n, by := range m.needers[id] {
			if n == 0 {
				through[id] = slices.Clone(through[by])
			} else {
				through[id] = slices.DeleteFunc(through[id], func(on string) bool { return !slices.Contains(through[by], on) })
			}
		}
		if m.speaks[id] && id != m.service && !has(id) && !slices.ContainsFunc(through[id], has) {
			out = append(out, id)
		}
		through[id] = append(through[id], id)
	}
	slices.Reverse(out)
	return out
}

// Formula computes the availability of the service from those of some services.
type Formula struct {
	diagram *diagram
	top     int
	// parts are the variables: the service whose part it is, and the function of what it needs.
	parts []part
}

type part struct {
	service string
	needs   int
}

// Over is the formula over the availabilities of those that has names. It fails when the
// services share so much that the formula does not fit.
func (m *Model) Over(has func(id string) bool) (f *Formula, err error) {
	defer func() {
		if r := recover(); r == errTooLarge {
			err = fmt.Errorf("%d services: %w", len(m.order), errTooLarge)
		} else if r != nil {
			panic(r)
		}
	}()
	f = &Formula{diagram: newDiagram()}
	up := map[string]int{}
	for _, id := range m.order {
		needs := always
		for _, g := range m.groups[id] {
			var members []int
			for _, member := range g.Members() {
				members = append(members, up[member])
			}
			need := int(g.Need)
			if need == 0 {
				need = len(members)
			}
			needs = f.diagram.choose(needs, f.diagram.atLeast(need, members), never)
		}
		up[id] = needs
		if has(id) {
			own := f.diagram.node(len(f.parts), never, always)
			up[id] = f.diagram.choose(needs, own, never)
			f.parts = append(f.parts, part{id, needs})
		}
	}
	f.top = up[m.service]
	return f, nil
}

// Availability is that of the service, 0–1, from those of the others.
func (f *Formula) Availability(of func(id string) float64) float64 {
	nodes := f.diagram.nodes
	p := make([]float64, len(nodes)) // that a node is true
	p[always] = 1
	own := make([]float64, 0, len(f.parts))
	for n := 2; n < len(nodes); n++ {
		for v := nodes[n].variable; v >= len(own); { // the first of its part: what it needs stands before
			part := f.parts[len(own)]
			own = append(own, share(of(part.service), p[part.needs]))
		}
		up := own[nodes[n].variable]
		p[n] = up*p[nodes[n].high] + (1-up)*p[nodes[n].low]
	}
	return p[f.top]
}

// share is how good the own part of a service is that is to have an availability, when what
// it needs has another one.
func share(availability, needs float64) float64 {
	if needs <= availability || needs == 0 {
		return 1
	}
	return availability / needs
}

// BestTarget is the highest target in percent, with four decimals, that an
// availability of 0–1 can support.
func BestTarget(availability float64) string {
	// A thousandth of the last decimal makes good what the sums of floats lost.
	tenThousandths := int64(math.Floor(availability*1_000_000 + 0.001))
	return fmt.Sprintf("%d.%04d", tenThousandths/10_000, tenThousandths%10_000)
}

// groups is what a service depends on at an instant.
func groups(c *definition.Compiled, id string, i span.Instant) []definition.Group {
	if s := c.Services[id].InForce(i); s != nil {
		return s.DependsOn
	}
	return nil
}

func measured(c *definition.Compiled, id string, i span.Instant) bool {
	for _, check := range c.Services[id].Checks() {
		if check.Role == definition.Decides && definition.Begins(check.From) <= i && i < definition.Ends(check.Until) {
			return true
		}
	}
	return false
}
