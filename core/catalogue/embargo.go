package catalogue

import (
	"cmp"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// admitPast refuses planned work that is over already, unless it was planned before.
func (s *Snapshot) admitPast(id string, spec definition.WindowSpec, at span.Instant) error {
	if spec.RRule != "" {
		return nil
	}
	fresh, old, err := s.plans(id, spec, at)
	if err != nil || old != nil && old.same(fresh) {
		return err
	}
	list, err := fresh.occurrences(span.Span{From: at, To: span.End})
	if err == nil && len(list) == 0 {
		return definition.Faultf("start", "the work would be over by now; take a time to come. What has passed is excused by an adjustment in the account")
	}
	return err
}

// admitEmbargoed refuses new work in an embargo for which nobody says why.
func (s *Snapshot) admitEmbargoed(id string, spec definition.WindowSpec, at span.Instant, reason string) error {
	if spec.OfType() == definition.Emergency || reason != "" {
		return nil
	}
	fresh, old, err := s.plans(id, spec, at)
	if err != nil {
		return err
	}
	for _, e := range s.Embargo(spec.Services, span.Span{From: at, To: span.End}) {
		list, err := fresh.occurrences(e.Span)
		if err != nil {
			return err
		}
		for _, o := range list {
			if old.has(o) && !slices.ContainsFunc(spec.Services, func(id string) bool { return !slices.Contains(old.spec.Services, id) }) {
				continue
			}
			return definition.Faultf("reason", "on %s it lies in the embargo %q (%s to %s, %s); say why it has to be then, or skip or move that occurrence",
				o.From.Time().In(fresh.rule.Location).Format("2 January 2006"), e.Spec.Name, e.Spec.From, e.Spec.To, e.Spec.Timezone)
		}
	}
	return nil
}

// plans are what a window is to plan from an instant on, and what it planned; nil where
// that is nothing, or cannot be told.
func (s *Snapshot) plans(id string, spec definition.WindowSpec, at span.Instant) (fresh, old *plan, err error) {
	if fresh, err = s.plan(Revision[definition.WindowSpec]{From: at, Spec: spec}); err != nil {
		return nil, nil, err
	}
	if e := s.Windows[id]; e != nil && !e.Retired {
		if old, err = s.plan(Revision[definition.WindowSpec]{From: at, Spec: e.Current().Spec}); err != nil {
			old = nil
		}
	}
	return fresh, old, nil
}

// same says whether two plans plan the same time for the same services.
func (p *plan) same(o *plan) bool {
	return p.spec.Start == o.spec.Start && p.spec.Timezone == o.spec.Timezone && p.spec.DurationS == o.spec.DurationS &&
		p.spec.RRule == o.spec.RRule && p.spec.OfType() == o.spec.OfType() && slices.Equal(p.spec.Services, o.spec.Services)
}

// has says whether an occurrence was planned; nil plans nothing.
func (p *plan) has(o span.Span) bool {
	if p == nil {
		return false
	}
	list, err := p.occurrences(o)
	return err == nil && slices.Contains(list, o)
}

// Embargoed is an embargo in force and when it is.
type Embargoed struct {
	ID   string
	Spec definition.EmbargoSpec
	span.Span
}

// Embargo gives the embargoes that touch a span and are for one of some services, or for
// all services where none is asked for, in order of time.
func (s *Snapshot) Embargo(services []string, within span.Span) []Embargoed {
	var out []Embargoed
	for _, id := range Live(s.Embargoes) {
		spec := s.Embargoes[id].Current().Spec
		when := spec.Span().Intersect(within)
		concerns := len(spec.Services) == 0 || len(services) == 0 ||
			slices.ContainsFunc(spec.Services, func(id string) bool { return slices.Contains(services, id) })
		if !when.Empty() && concerns {
			out = append(out, Embargoed{id, spec, when})
		}
	}
	slices.SortStableFunc(out, func(a, b Embargoed) int { return cmp.Compare(a.From, b.From) })
	return out
}
