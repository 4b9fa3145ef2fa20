package catalogue

import (
	"cmp"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Occurrence is one time that a window takes.
type Occurrence struct {
	Window   string
	Revision int    // that plans it
	At       string // its start by the rule, as a wall time in the window's zone: what an edit of it alone names
	Changed  bool   // it is otherwise than the rule says
	Spec     definition.WindowSpec
	// Span is the whole of it. What of it lies before its revision began was planned by
	// another one, or by none.
	span.Span
	// Planned is what of it is planned while the revision is in force.
	Planned span.Span
}

// Occurrences are the times that windows take in a span, by the revisions in force
// then, in order of their starts. Faults are those that cannot be told, by window.
func (s *Snapshot) Occurrences(within span.Span) (out []Occurrence, faults map[string]error) {
	return s.occurrences(Sorted(s.Windows), within)
}

// OccurrencesOf are those of one window; the error says why they cannot be told.
func (s *Snapshot) OccurrencesOf(window string, within span.Span) ([]Occurrence, error) {
	out, faults := s.occurrences([]string{window}, within)
	return out, faults[window]
}

func (s *Snapshot) occurrences(windows []string, within span.Span) (out []Occurrence, faults map[string]error) {
	faults = map[string]error{}
	for _, id := range windows {
		for _, r := range s.Windows[id].Revisions {
			if r.During().Intersect(within).Empty() {
				continue
			}
			p, err := s.plan(r)
			if err == nil {
				var list []Occurrence
				list, err = p.named(p.Intersect(within))
				for _, o := range list {
					o.Window, o.Revision = id, r.Number
					out = append(out, o)
				}
			}
			if err != nil {
				faults[id] = err
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Occurrence) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Window, b.Window)) })
	return out, faults
}

// named are the occurrences that touch within, with what each is called by.
func (p *plan) named(within span.Span) ([]Occurrence, error) {
	list, err := p.occurrences(within)
	if err != nil {
		return nil, err
	}
	changed := map[span.Span][]string{}
	for i, c := range p.changed {
		changed[c] = append(changed[c], p.changedAt[i])
	}
	out := make([]Occurrence, 0, len(list))
	for _, o := range list {
		n := Occurrence{Span: o, Planned: o.Intersect(p.Span), Spec: p.spec}
		if at := changed[o]; len(at) > 0 {
			n.At, n.Changed, changed[o] = at[0], true, at[1:]
		} else if n.At, err = p.at(o.From); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// at is the wall time by which the rule gives a start. A start that a clock change moved
// has another one than the clocks show.
func (p *plan) at(start span.Instant) (string, error) {
	loc := p.rule.Location
	shown := calendar.WallAt(start, loc)
	const near = 3 * span.Hour
	if offset(start.Add(-near), loc) == offset(start, loc) {
		return shown.String(), nil
	}
	walls, err := p.rule.Walls(start, start+1)
	if err != nil || len(walls) == 0 {
		return shown.String(), err
	}
	return walls[0].String(), nil
}

func offset(i span.Instant, loc *time.Location) int {
	_, s := i.Time().In(loc).Zone()
	return s
}
