// Package account does the accounting of one agreement over one period: every
// millisecond in exactly one class, the figures that follow, and what sampling
// cannot know. The rules are docs/accounting.md §6–§9.
package account

import (
	"slices"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Class is what an instant of a period counts as.
type Class uint8

// The classes.
const (
	Outside Class = iota
	Up
	Degraded
	Down
	Tolerated
	Maintenance
	Upstream
	Excused
	Unmeasured
	classes
)

var classNames = [...]string{"outside", "up", "degraded", "down", "tolerated", "maintenance", "upstream", "excused", "unmeasured"}

func (c Class) String() string { return classNames[c] }

// MarshalText writes the class's word.
func (c Class) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

// UnmarshalText reads the class's word; an unknown one is Unmeasured.
func (c *Class) UnmarshalText(text []byte) error {
	*c = Unmeasured
	if known, ok := ParseClass(string(text)); ok {
		*c = known
	}
	return nil
}

// ParseClass finds the class of a word.
func ParseClass(word string) (Class, bool) {
	for i, n := range classNames {
		if n == word {
			return Class(i), true
		}
	}
	return Outside, false
}

func ofState(s verdict.State) Class {
	switch s {
	case verdict.Up:
		return Up
	case verdict.Degraded:
		return Degraded
	case verdict.Down:
		return Down
	}
	return Unmeasured
}

// OfStates are the states of a timeline inside within, as the classes that they are by
// themselves.
func OfStates(line span.Timeline[verdict.Views], within span.Span) []Interval {
	out := []Interval{}
	states := span.Map(line, func(v verdict.Views) verdict.State { return v[verdict.Nominal] })
	states.Runs(within, func(s span.Span, v verdict.State) { out = append(out, Interval{s.From, s.To, ofState(v)}) })
	return out
}

// Clauses are an agreement's terms applied to one period, ready to classify.
type Clauses struct {
	Agreement definition.Agreement
	Period    span.Span
	Covered   span.Span // the part accounted so far
	Final     bool
	Hours     span.Set // service hours within the whole period
	Granted   span.Set // granted maintenance within the whole period
	Excused   span.Set // excused upstream downtime, lead and linger included
	Approved  []definition.Adjustment
}

func newClauses(e *Evidence, a definition.Agreement, hours calendar.Hours) (*Clauses, error) {
	c := &Clauses{Agreement: a, Period: e.bundle.Span, Covered: e.bundle.Span, Final: e.bundle.Final()}
	if !c.Final {
		c.Covered.To = *e.bundle.AsOf
	}
	valid := span.Span{From: definition.Begins(a.From), To: definition.Ends(a.Until)}
	c.Hours = hours.Within(c.Period).Cut(valid)
	var err error
	if c.Granted, err = granted(e.bundle, a, c.Hours, c.Period); err != nil {
		return nil, err
	}
	c.Excused = upstream(e.states, a.Upstream)
	for _, adj := range e.bundle.Adjustments {
		if adj.Approved && adj.Agreement == a.ID {
			c.Approved = append(c.Approved, adj)
		}
	}
	return c, nil
}

// granted returns the maintenance time that the agreement's clause grants:
// planned work announced in time, inside service hours and the times agreed for
// it, in time order until the cap is used; then emergency work by its own
// notice and cap, of what planned work did not take.
func granted(bundle *definition.Compiled, a definition.Agreement, hours span.Set, period span.Span) (span.Set, error) {
	asks, err := asking(bundle, a, hours, period)
	if err != nil {
		return nil, err
	}
	return asks.granted(a.Maintenance, period), nil
}

// asked is the time that may be granted as maintenance, before any cap: announced in
// time, in service hours and, of planned work, in the times agreed for it.
type asked struct{ planned, urgent span.Set }

// asking finds what windows ask of an agreement; nothing where it grants none.
func asking(bundle *definition.Compiled, a definition.Agreement, hours span.Set, period span.Span) (out asked, err error) {
	m := a.Maintenance
	if m.Mode == definition.MaintenanceIgnore || m.Mode == "" {
		return out, nil
	}
	if out.planned, err = announced(bundle.Windows, a.Service, definition.Planned, m.NoticeS, period); err != nil {
		return out, err
	}
	within, err := agreedFor(m, period)
	if err != nil {
		return out, err
	}
	out.planned = out.planned.Intersect(hours).Intersect(within)
	if m.Emergency == nil {
		return out, nil
	}
	urgent, err := announced(bundle.Windows, a.Service, definition.Emergency, m.Emergency.NoticeS, period)
	out.urgent = urgent.Intersect(hours)
	return out, err
}

// agreedFor are the times agreed for planned work in a period; all of it where none are.
func agreedFor(m definition.Maintenance, period span.Span) (span.Set, error) {
	if m.Within == nil || m.Within.Plan == nil {
		return span.Set{period}, nil
	}
	within, err := definition.CompileHours(*m.Within)
	if err != nil {
		return nil, err
	}
	return within.Within(period), nil
}

func (x asked) granted(m definition.Maintenance, period span.Span) span.Set {
	planned := capped(x.planned, m.CapS)
	if m.Emergency == nil {
		return planned
	}
	urgent := capped(x.urgent.Intersect(complement(planned, period)), m.Emergency.CapS)
	return span.Union(append(append([]span.Span{}, planned...), urgent...)...)
}

// announced is the time, inside the period, of occurrences of one type on a
// service that were announced so many seconds before they start.
func announced(windows []definition.CompiledWindow, service, kind string, noticeS int64, period span.Span) (span.Set, error) {
	var spans []span.Span
	for _, w := range windows {
		if w.OfType() != kind || !slices.Contains(w.Services, service) {
			continue
		}
		length := w.DurationS * span.Second
		starts, err := w.Starts(period.From.Add(-length), period.To)
		if err != nil {
			return nil, &definition.Fault{Path: "windows." + w.ID + ".rrule", Message: err.Error()}
		}
		for _, s := range starts {
			if w.AnnouncedAt <= s.Add(-noticeS*span.Second) {
				spans = append(spans, span.Span{From: s, To: s.Add(length)})
			}
		}
	}
	return span.Union(spans...).Cut(period), nil
}

// capped takes time in order until a cap in seconds is used; nil is none.
func capped(set span.Set, s *int64) span.Set {
	if s == nil {
		return set
	}
	return set.Take(*s * span.Second)
}

// upstream returns the downtime of the excused services, each outage extended
// by lead and linger.
func upstream(states map[string]span.Timeline[verdict.Views], u definition.Upstream) span.Set {
	var spans []span.Span
	for _, id := range u.Excuse {
		for _, s := range states[id].Where(span.All, isDown(verdict.Nominal)) {
			spans = append(spans, span.Span{From: s.From.Add(-u.LeadS * span.Second), To: s.To.Add(u.LingerS * span.Second)})
		}
	}
	return span.Union(spans...)
}

func isDown(view int) func(verdict.Views) bool {
	return func(v verdict.Views) bool { return v[view] == verdict.Down }
}

// classify gives every instant its class: the first rule of §7 that applies.
// It lays the rules over one another from the last to the first.
func (c *Clauses) classify(states span.Timeline[verdict.Views], view int) span.Timeline[Class] {
	line := span.Map(states, func(v verdict.Views) Class { return ofState(v[view]) })
	is := func(wanted ...Class) func(Class) bool {
		return func(have Class) bool {
			for _, w := range wanted {
				if w == have {
					return true
				}
			}
			return false
		}
	}
	always := func(Class) bool { return true }
	line = line.Overlay(c.tolerated(states, view), Tolerated, is(Down))
	line = line.Overlay(c.Excused, Upstream, is(Down, Tolerated))
	switch c.Agreement.Maintenance.Mode {
	case definition.MaintenanceExclude:
		line = line.Overlay(c.Granted, Maintenance, always)
	case definition.MaintenanceForgive:
		line = line.Overlay(c.Granted, Maintenance, is(Down, Tolerated, Upstream, Degraded))
	}
	for _, adj := range c.Approved {
		class, _ := ParseClass(adj.Class)
		line = line.Overlay(span.Union(span.Span{From: adj.From, To: adj.To}), class, always)
	}
	return line.Overlay(complement(c.Hours, c.Period), Outside, always)
}

// tolerated returns the outages that are too short to count: whole runs of the
// state down, across the period's edges.
func (c *Clauses) tolerated(states span.Timeline[verdict.Views], view int) span.Set {
	if c.Agreement.MinOutageS == 0 {
		return nil
	}
	known := span.All
	if !c.Final {
		known.To = c.Covered.To
	}
	var short span.Set
	for _, s := range states.Where(known, isDown(view)) {
		if s.Length() < c.Agreement.MinOutageS*span.Second {
			short = append(short, s)
		}
	}
	return short
}

func complement(set span.Set, within span.Span) span.Set { return span.Set{within}.Without(set) }
