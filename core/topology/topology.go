// Package topology reasons about what services depend on.
package topology

import (
	"fmt"
	"math"

	"kestite/core/definition"
	"kestite/core/span"
)

// mostShared bounds the services that are conditioned on: each doubles the work.
const mostShared = 20

// Modelled is the availability of a service, 0–1, that follows from those of
// the services it depends on. A service in own has that availability. Any other
// is up when, in each of its groups, at least the needed number of members is
// (docs/accounting.md §5): groups in series, each a k-of-n system. The services
// in own are taken to fail independently of one another; one that is reached on
// several ways counts as the same one on all of them (total probability over
// its two states). For the k-of-n sum see IEC 61078, reliability block diagrams.
//
// What depends on what is taken from the end of the bundle's period.
//
// It fails when a service has neither an own availability nor dependencies, and
// when more than 20 services are shared.
func Modelled(c *definition.Compiled, own map[string]float64, service string) (float64, error) {
	at := c.Span.To - 1
	order := c.EpochAt(at).Order
	m := model{bundle: c, at: at, own: own, ways: map[string]int{service: 1}, fixed: map[string]bool{}}
	for i := len(order) - 1; i >= 0; i-- { // each before those it depends on
		if err := m.count(order[i]); err != nil {
			return 0, err
		}
	}
	var shared []string
	for _, id := range order {
		if _, leaf := own[id]; leaf && m.ways[id] > 1 {
			shared = append(shared, id)
		}
	}
	if len(shared) > mostShared {
		return 0, fmt.Errorf("%d services under %s are reached on more than one way; %d is the most that can be computed exactly", len(shared), service, mostShared)
	}
	return m.conditioned(service, shared), nil
}

// BestTarget is the highest target in percent, with four decimals, that an
// availability of 0–1 can support.
func BestTarget(availability float64) string {
	// A thousandth of the last decimal makes good what the sums of floats lost.
	tenThousandths := int64(math.Floor(availability*1_000_000 + 0.001))
	return fmt.Sprintf("%d.%04d", tenThousandths/10_000, tenThousandths%10_000)
}

// Measured is the share of the time that a service was up or degraded of that in
// which it was measured, 0–1; false when it was not measured.
func Measured(up, degraded, down int64) (float64, bool) {
	known := up + degraded + down
	if known <= 0 {
		return 0, false
	}
	return float64(up+degraded) / float64(known), true
}

// Leaves lists the services below one that are measured themselves at i: those
// whose availability Modelled needs. A service with a deciding check is one.
func Leaves(c *definition.Compiled, service string, i span.Instant) []string {
	var out []string
	seen := map[string]bool{}
	var visit func(id string, top bool)
	visit = func(id string, top bool) {
		if seen[id] {
			return
		}
		seen[id] = true
		if !top && measured(c, id, i) || len(groups(c, id, i)) == 0 {
			out = append(out, id)
			return
		}
		for _, g := range groups(c, id, i) {
			for _, member := range g.Members() {
				visit(member, false)
			}
		}
	}
	visit(service, true)
	return out
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

type model struct {
	bundle *definition.Compiled
	at     span.Instant
	own    map[string]float64
	ways   map[string]int     // on how many ways a service is reached: 0, 1 or more
	fixed  map[string]bool    // shared services, up or down in the case at hand
	known  map[string]float64 // what up found in the case at hand
}

// count adds the ways through a service to those of its members.
func (m *model) count(id string) error {
	if _, leaf := m.own[id]; leaf || m.ways[id] == 0 {
		return nil
	}
	below := groups(m.bundle, id, m.at)
	if len(below) == 0 {
		return fmt.Errorf("%s has no availability of its own and depends on nothing", id)
	}
	for _, g := range below {
		for _, member := range g.Members() {
			m.ways[member] = min(2, m.ways[member]+m.ways[id])
		}
	}
	return nil
}

// conditioned sums over the states of the shared services.
func (m *model) conditioned(service string, shared []string) float64 {
	if len(shared) == 0 {
		m.known = map[string]float64{}
		return m.up(service)
	}
	id, p := shared[0], m.own[shared[0]]
	m.fixed[id] = true
	whenUp := m.conditioned(service, shared[1:])
	m.fixed[id] = false
	whenDown := m.conditioned(service, shared[1:])
	delete(m.fixed, id)
	return p*whenUp + (1-p)*whenDown
}

// up is the probability that a service is up, all below it being independent.
func (m *model) up(id string) float64 {
	if state, known := m.fixed[id]; known {
		if state {
			return 1
		}
		return 0
	}
	if p, leaf := m.own[id]; leaf {
		return p
	}
	if p, known := m.known[id]; known {
		return p
	}
	all := 1.0
	for _, g := range groups(m.bundle, id, m.at) {
		members := g.Members()
		need := int(g.Need)
		if need == 0 {
			need = len(members)
		}
		// exactly[k] is the probability that k of the members seen so far are up.
		exactly := make([]float64, len(members)+1)
		exactly[0] = 1
		for n, member := range members {
			p := m.up(member)
			for k := n + 1; k > 0; k-- {
				exactly[k] = exactly[k]*(1-p) + exactly[k-1]*p
			}
			exactly[0] *= 1 - p
		}
		enough := 0.0
		for k := need; k <= len(members); k++ {
			enough += exactly[k]
		}
		all *= enough
	}
	m.known[id] = all
	return all
}
