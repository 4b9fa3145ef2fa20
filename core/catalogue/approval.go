package catalogue

import (
	"slices"
	"strings"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Unapproved is planned work that services ask a second person for, and that none has
// approved.
type Unapproved struct {
	Services []string // ids
	Names    []string
}

func (u *Unapproved) Error() string {
	asks := "asks"
	if len(u.Names) > 1 {
		asks = "ask"
	}
	return strings.Join(u.Names, ", ") + " " + asks + " a second person to approve planned work; ask for it on the Calendar"
}

// Unwrap is it as the fault of a window.
func (u *Unapproved) Unwrap() error { return definition.Faultf("services", "%s", u.Error()) }

// approvalAhead is how far ahead of its first start what is added to planned work is
// looked at, ms: ten years.
const approvalAhead = 3653 * span.Day

// Unapproved says which services ask a second person for what a window as it is to be
// adds to what was planned for them from an instant on; nil where none does. What
// lengthens work that runs is added by whoever does it, and so is emergency work.
func (s *Snapshot) Unapproved(id string, spec definition.WindowSpec, at span.Instant) (*Unapproved, error) {
	if spec.OfType() == definition.Emergency {
		return nil, nil
	}
	var asking []string
	for _, service := range spec.Services {
		if e := s.Services[service]; e != nil && e.Current().Spec.WorkApproval && !slices.Contains(asking, service) {
			asking = append(asking, service)
		}
	}
	if len(asking) == 0 {
		return nil, nil
	}
	fresh, old, err := s.plans(id, spec, at)
	if err != nil {
		return nil, err
	}
	ahead := span.Span{From: at, To: span.End}
	if spec.RRule != "" {
		ahead.To = max(at, fresh.rule.Start.Instant(fresh.rule.Location, calendar.Shift)).Add(approvalAhead)
	}
	added, err := fresh.adds(old, ahead)
	if err != nil {
		return nil, err
	}
	all, err := fresh.adds(nil, ahead)
	if err != nil {
		return nil, err
	}
	out := &Unapproved{}
	for _, service := range asking {
		known := old != nil && old.spec.OfType() == definition.Planned && slices.Contains(old.spec.Services, service)
		if known && len(added) == 0 || !known && len(all) == 0 {
			continue
		}
		out.Services, out.Names = append(out.Services, service), append(out.Names, s.Named(Service, service))
	}
	if len(out.Services) == 0 {
		return nil, nil
	}
	return out, nil
}

// adds is the time within that a plan takes and another one does not, but what lengthens
// an occurrence that runs as it begins.
func (p *plan) adds(old *plan, within span.Span) (span.Set, error) {
	fresh, err := p.occurrences(within)
	if err != nil {
		return nil, err
	}
	var before []span.Span
	if old != nil {
		if before, err = old.occurrences(within); err != nil {
			return nil, err
		}
	}
	runs := func(o span.Span) bool { return o.Contains(within.From) }
	if slices.ContainsFunc(before, runs) {
		fresh = slices.DeleteFunc(fresh, runs)
	}
	return span.Union(fresh...).Without(span.Union(before...)).Cut(within), nil
}
