package definition

import (
	"cmp"
	"fmt"
	"slices"

	"kestite/core/span"
)

// Epoch is a time in which no service's revision changes.
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
	cuts := []span.Instant{span.Beginning}
	for _, s := range c.Bundle.Services {
		for _, at := range []*span.Instant{s.From, s.Until} {
			if at != nil {
				cuts = append(cuts, *at)
			}
		}
	}
	slices.Sort(cuts)
	cuts = slices.Compact(cuts)
	for i, from := range cuts {
		e := Epoch{Span: span.Span{From: from, To: span.End}}
		if i+1 < len(cuts) {
			e.To = cuts[i+1]
		}
		var err error
		if e.Order, err = c.order(e); err != nil {
			return err
		}
		c.Epochs = append(c.Epochs, e)
	}
	return nil
}

// order lists the services so that each comes after those it depends on in an
// epoch; a circle is refused.
func (c *Compiled) order(e Epoch) ([]string, error) {
	const (
		fresh = iota
		open
		done
	)
	var out []string
	mark := map[string]int{}
	var visit func(id string) error
	visit = func(id string) error {
		mark[id] = open
		for _, member := range c.needs(id, e.From) {
			switch mark[member] {
			case open:
				return c.circle(e, id, member)
			case fresh:
				if err := visit(member); err != nil {
					return err
				}
			}
		}
		mark[id] = done
		out = append(out, id)
		return nil
	}
	for _, s := range c.Bundle.Services {
		if mark[s.ID] == fresh {
			if err := visit(s.ID); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
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
	for _, e := range c.Epochs {
		seen := map[string]bool{}
		var visit func(string) bool
		visit = func(id string) bool {
			for _, member := range c.needs(id, e.From) {
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
		if visit(a) {
			return e.From, true
		}
	}
	return 0, false
}
