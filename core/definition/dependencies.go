package definition

import (
	"cmp"
	"fmt"
	"slices"

	"kestite/core/span"
)

// Epoch is a time in which services depend on each other in no circle, whatever
// each of them depended on at some time of it.
type Epoch struct {
	span.Span
	// Order lists the services so that each comes after those it depends on then.
	Order []string
}

// EpochAt is the epoch that i lies in.
func (c *Compiled) EpochAt(i span.Instant) Epoch {
	n, found := slices.BinarySearchFunc(c.Epochs, i, func(e Epoch, i span.Instant) int { return cmp.Compare(e.From, i) })
	if !found {
		n--
	}
	return c.Epochs[max(0, n)]
}

// dependencies cuts time into epochs, and refuses unknown names and circles in any of them.
func (c *Compiled) dependencies() error {
	for i, s := range c.Bundle.Services {
		for j, g := range s.DependsOn {
			for k, member := range g.Services {
				if c.Services[member] == nil {
					return fault(fmt.Sprintf("services[%d].depends_on[%d].services[%d]", i, j, k), "%s names no service", quote(member))
				}
			}
		}
	}
	if order, _, _, fits := c.order(c.everNeeds); fits {
		c.Epochs = []Epoch{{span.All, order}}
		return nil
	}
	// A circle of what stood at different times may be none at any one of them.
	cuts := c.cuts()
	for i, from := range cuts {
		e := Epoch{Span: span.Span{From: from, To: span.End}}
		if i+1 < len(cuts) {
			e.To = cuts[i+1]
		}
		order, id, member, fits := c.order(func(id string) []string { return c.needs(id, from) })
		if !fits {
			return c.circle(e, id, member)
		}
		e.Order = order
		c.Epochs = append(c.Epochs, e)
	}
	return nil
}

// cuts are the instants at which the revision of some service changes, in order.
func (c *Compiled) cuts() []span.Instant {
	out := []span.Instant{span.Beginning}
	for _, s := range c.Bundle.Services {
		for _, at := range []*span.Instant{s.From, s.Until} {
			if at != nil {
				out = append(out, *at)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// order lists the services so that each comes after those that needs gives for
// it; fits is false where a circle forbids that, which leads from id over member.
func (c *Compiled) order(needs func(id string) []string) (list []string, id, member string, fits bool) {
	const (
		fresh = iota
		open
		done
	)
	visited := map[string]int{}
	var visit func(string) bool
	visit = func(of string) bool {
		visited[of] = open
		for _, m := range needs(of) {
			switch visited[m] {
			case open:
				id, member = of, m
				return false
			case fresh:
				if !visit(m) {
					return false
				}
			}
		}
		visited[of] = done
		list = append(list, of)
		return true
	}
	for _, s := range c.Bundle.Services {
		if visited[s.ID] == fresh && !visit(s.ID) {
			return nil, id, member, false
		}
	}
	return list, "", "", true
}

// everNeeds lists all that a service depends on directly in any of its revisions.
func (c *Compiled) everNeeds(id string) []string {
	var out []string
	for _, s := range c.Services[id] {
		for _, g := range s.DependsOn {
			out = append(out, g.Services...)
		}
	}
	return out
}

// needs lists all that a service depends on directly at an instant.
func (c *Compiled) needs(id string, i span.Instant) []string {
	s := c.Services[id].InForce(i)
	if s == nil {
		return nil
	}
	var out []string
	for _, g := range s.DependsOn {
		out = append(out, g.Services...)
	}
	return out
}

// circle is the fault of a service whose dependency leads back to it.
func (c *Compiled) circle(e Epoch, id, member string) error {
	s := c.Services[id].InForce(e.From)
	index := slices.IndexFunc(c.Bundle.Services, func(o Service) bool { return o.ID == id && Begins(o.From) == Begins(s.From) })
	path := fmt.Sprintf("services[%d].depends_on", index)
	for j, g := range s.DependsOn {
		if k := slices.Index(g.Services, member); k >= 0 {
			path = fmt.Sprintf("services[%d].depends_on[%d].services[%d]", index, j, k)
			break
		}
	}
	when := ""
	if e.From != span.Beginning || e.To != span.End {
		when = fmt.Sprintf(" from %s to %s", orWord(e.From, "the beginning"), orWord(e.To, "the end"))
	}
	return fault(path, "services depend on each other in a circle through %s and %s%s", id, member, when)
}

func orWord(i span.Instant, word string) string {
	if i == span.Beginning || i == span.End {
		return word
	}
	return i.String()
}

// dependsOn says whether service a depends on b at any one instant, through
// others too, and since when.
func (c *Compiled) dependsOn(a, b string) (span.Instant, bool) {
	if !reaches(a, b, c.everNeeds) {
		return 0, false
	}
	for _, from := range c.cuts() {
		if reaches(a, b, func(id string) []string { return c.needs(id, from) }) {
			return from, true
		}
	}
	return 0, false
}

// reaches says whether the needs of a lead to b.
func reaches(a, b string, needs func(string) []string) bool {
	seen := map[string]bool{}
	var visit func(string) bool
	visit = func(id string) bool {
		for _, member := range needs(id) {
			if member == b {
				return true
			}
			if !seen[member] {
				seen[member] = true
				if visit(member) {
					return true
				}
			}
		}
		return false
	}
	return visit(a)
}
