package account

import (
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

// Lost finds the work of a period on an agreement's service, begun by the end of what is
// accounted, that lost its notice or its cap, or lay outside the times agreed for it, in
// order of time. There is none under an agreement that takes no account of maintenance.
func (e *Evidence) Lost(a definition.Agreement, acc *Account) ([]Lost, error) {
	if a.Maintenance.Mode == definition.MaintenanceIgnore || a.Maintenance.Mode == "" {
		return nil, nil
	}
	c := acc.Clauses
	var out []Lost
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
			rest := span.Set{planned}.Intersect(c.Hours).Without(c.Granted)
			if rest.Length() == 0 {
				continue
			}
			refused := Work{Type: w.OfType()}
			if err := refused.refusals(c, span.Set{planned}, late, rest); err != nil {
				return nil, err
			}
			out = append(out, Lost{WindowOf(w.ID), planned, refused.Refused})
		}
	}
	slices.SortStableFunc(out, func(a, b Lost) int { return int(a.Planned.From - b.Planned.From) })
	return out, nil
}
