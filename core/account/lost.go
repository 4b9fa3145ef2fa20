package account

import (
	"cmp"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// Lost is an occurrence of planned work of which an agreement grants less than lies in its
// service hours.
type Lost struct {
	Window  string
	Planned span.Span // inside the period
	Refused []Refusal
}

// Done is an occurrence of work on the service of an agreement, inside the period.
type Done struct {
	Window    string
	Type      string // planned or emergency
	Planned   span.Span
	ServiceMS int64     // of it in service hours
	GrantedMS int64     // of that granted as maintenance
	Refused   []Refusal // the rest, by why; empty under an agreement that takes no account of maintenance
}

// Lost finds the work of a period on an agreement's service, begun by the end of what is
// accounted, that lost its notice or its cap, or lay outside the times agreed for it, in
// order of time. There is none under an agreement that takes no account of maintenance.
func (e *Evidence) Lost(a definition.Agreement, acc *Account) ([]Lost, error) {
	if !takesAccount(a) {
		return nil, nil
	}
	list, err := e.Done(a, acc)
	var out []Lost
	for _, d := range list {
		if d.ServiceMS > d.GrantedMS {
			out = append(out, Lost{d.Window, d.Planned, d.Refused})
		}
	}
	return out, err
}

func takesAccount(a definition.Agreement) bool {
	return a.Maintenance.Mode != definition.MaintenanceIgnore && a.Maintenance.Mode != ""
}

// Done finds all work of a period on an agreement's service that began by the end of what
// is accounted, in order of time.
func (e *Evidence) Done(a definition.Agreement, acc *Account) ([]Done, error) {
	c := acc.Clauses
	var out []Done
	for _, w := range e.bundle.Windows {
		if !slices.Contains(w.Services, a.Service) {
			continue
		}
		length := w.DurationS * span.Second
		starts, err := w.Starts(c.Period.From.Add(-length+1), c.Covered.To)
		if err != nil {
			return nil, &definition.Fault{Path: "windows." + w.ID + ".rrule", Message: err.Error()}
		}
		_, late, _, err := e.ownTime(a, WindowOf(w.ID), c.Period)
		if err != nil {
			return nil, err
		}
		for _, s := range starts {
			planned := (span.Span{From: s, To: s.Add(length)}).Intersect(c.Covered)
			hours := span.Set{planned}.Intersect(c.Hours)
			rest := hours.Without(c.Granted)
			d := Done{Window: WindowOf(w.ID), Type: w.OfType(), Planned: planned, ServiceMS: hours.Length(), GrantedMS: hours.Length() - rest.Length()}
			if rest.Length() > 0 && takesAccount(a) {
				refused := Work{Type: w.OfType()}
				if err := refused.refusals(c, span.Set{planned}, late, rest); err != nil {
					return nil, err
				}
				d.Refused = refused.Refused
			}
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(a, b Done) int { return cmp.Compare(a.Planned.From, b.Planned.From) })
	return out, nil
}
