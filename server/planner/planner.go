// Package planner works out what planned work does: to the agreements that it touches,
// to what else is planned, and when it would cost least.
package planner

import (
	"context"
	"slices"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/history"
)

// Ahead is how far what work costs is looked at, ms.
const Ahead = 62 * span.Day

// mostPeriods is how many periods of an agreement are looked at.
const mostPeriods = 3

// usualFor is how long failures before count as usual, ms.
const usualFor = 396 * span.Day

// Planner is safe for concurrent use.
type Planner struct {
	Books *history.Books
	Board *accounting.Board
}

// Effect is what a window does to an agreement in one of its periods.
type Effect struct {
	Agreement string
	Period    calendar.Period
	Promise   definition.Agreement
	Named     bool   // the window names its service; otherwise that goes down by what it needs
	Excused   string // the service whose downtime its clauses excuse; empty: none
	Before    *account.Account
	Work      *account.Work // nil where Fault says why
	Fault     error
}

// Needs are the groups that each service in force needs.
func Needs(snap *catalogue.Snapshot) map[string][]definition.Dependency {
	out := map[string][]definition.Dependency{}
	for _, id := range catalogue.Live(snap.Services) {
		if groups := snap.Services[id].Current().Spec.DependsOn; len(groups) > 0 {
			out[id] = groups
		}
	}
	return out
}

// Taken are the services that work on some takes down, and that it does not name, in order.
func Taken(snap *catalogue.Snapshot, services []string) []string {
	return slices.DeleteFunc(planning.TakesDown(Needs(snap), services), func(id string) bool { return slices.Contains(services, id) })
}

// Coming are the occurrences of a window to come: those of the time ahead, or from the
// first on where that is later; none more than ten years ahead.
func Coming(snap *catalogue.Snapshot, window string, now span.Instant) []catalogue.Occurrence {
	for _, far := range []int64{Ahead, 400 * span.Day, 3650 * span.Day} {
		list, err := snap.OccurrencesOf(window, span.Span{From: now, To: now.Add(far)})
		if err != nil {
			return nil
		}
		if len(list) > 0 {
			end := max(now, list[0].From).Add(Ahead)
			return slices.DeleteFunc(list, func(o catalogue.Occurrence) bool { return o.From >= end })
		}
	}
	return nil
}

// Effects says what a window as after defines it does to every agreement that it
// touches, compared with before, in which it is not there or otherwise. The worst stand
// first.
func (p *Planner) Effects(ctx context.Context, before, after *catalogue.Snapshot, window string, now span.Instant) ([]Effect, error) {
	spec := after.Windows[window].Current().Spec
	var spans []span.Span
	for _, o := range Coming(after, window, now) {
		spans = append(spans, o.Planned.Intersect(span.Span{From: now, To: span.End}))
	}
	down := span.Union(spans...)
	if len(down) == 0 {
		return nil, nil
	}
	services := planning.TakesDown(Needs(after), spec.Services)
	var out []Effect
	for _, id := range catalogue.Live(after.Agreements) {
		service := after.Agreements[id].Current().Spec.Service
		if !slices.Contains(services, service) || before.Agreements[id] == nil {
			continue
		}
		list, err := p.effects(ctx, before, after, window, id, down, services, now)
		if err != nil {
			return nil, err
		}
		for i := range list {
			list[i].Named = slices.Contains(spec.Services, service)
		}
		out = append(out, list...)
	}
	slices.SortStableFunc(out, func(a, b Effect) int {
		left := func(e Effect) int64 {
			if e.Work == nil {
				return 0
			}
			return e.Work.LeftMS
		}
		return int(min(1, max(-1, left(a)-left(b))))
	})
	return out, nil
}

// effects are those on one agreement, of each period that some downtime touches.
func (p *Planner) effects(ctx context.Context, before, after *catalogue.Snapshot, window, agreement string, down span.Set, services []string,
	now span.Instant) ([]Effect, error) {
	var out []Effect
	period, err := before.PeriodAt(agreement, max(now, down[0].From))
	for n := 0; err == nil && n < mostPeriods && period.Span().From < down[len(down)-1].To; n++ {
		if here := down.Cut(period.Span()); len(here) > 0 {
			e, fault := p.effect(ctx, before, after, window, agreement, period, here, now)
			switch {
			case history.Incomputable(fault):
				e = &Effect{Fault: fault}
			case fault != nil:
				return nil, fault
			}
			if e != nil {
				e.Agreement, e.Period = agreement, period
				e.Excused = excuses(e.Promise, services)
				out = append(out, *e)
			}
		}
		period, err = before.PeriodAt(agreement, period.Span().To)
	}
	if history.Incomputable(err) {
		return append(out, Effect{Agreement: agreement, Fault: err}), nil
	}
	return out, err
}

func (p *Planner) effect(ctx context.Context, before, after *catalogue.Snapshot, window, agreement string, period calendar.Period, down span.Set,
	now span.Instant) (*Effect, error) {
	open, err := p.Books.Open(ctx, before, period, now, nil, []string{agreement})
	if err != nil {
		return nil, err
	}
	then, err := after.Bundle(period, open.Bundle.AsOf, nil, []string{agreement}, true)
	if err != nil {
		return nil, err
	}
	a, err := account.NewEvidence(open.Bundle, open.Stretches.Source, nil).Account(open.Bundle.Agreements[0])
	if err != nil {
		return nil, err
	}
	e := &Effect{Promise: then.Agreements[0], Before: a}
	e.Work, err = account.NewEvidence(then, open.Stretches.Source, nil).Work(then.Agreements[0], a, window, down)
	if e.Work == nil {
		return nil, err
	}
	return e, err
}

// excuses is the first service of some whose downtime an agreement excuses.
func excuses(a definition.Agreement, down []string) string {
	for _, id := range a.Upstream.Excuse {
		if slices.Contains(down, id) {
			return id
		}
	}
	return ""
}

// Rooms are what agreements leave for work in a span that is to come, with all that is
// planned but one window; named says of which the work names the service.
func (p *Planner) Rooms(ctx context.Context, snap *catalogue.Snapshot, named map[string]bool, within span.Span, now span.Instant, without string) ([]planning.Room, error) {
	type group struct {
		period calendar.Period
		ids    []string
	}
	groups := map[string]*group{}
	var order []string
	for _, id := range catalogue.Live(snap.Agreements) {
		if _, is := named[id]; !is {
			continue
		}
		period, err := snap.PeriodAt(id, max(now, within.From))
		for n := 0; err == nil && n < mostPeriods && period.Span().From < within.To; n++ {
			key := period.Name() + " " + period.Location.String()
			if groups[key] == nil {
				groups[key] = &group{period: period}
				order = append(order, key)
			}
			groups[key].ids = append(groups[key].ids, id)
			period, err = snap.PeriodAt(id, period.Span().To)
		}
		if err != nil && !history.Incomputable(err) {
			return nil, err
		}
	}
	left, err := p.left(ctx, snap, named, now)
	if err != nil {
		return nil, err
	}
	var out []planning.Room
	for _, key := range order {
		g := groups[key]
		rooms, err := rooms(snap, g.period, g.ids, now, without)
		if history.Incomputable(err) { // one of them; the others have theirs
			for _, id := range g.ids {
				one, err := rooms1(snap, g.period, id, now, without)
				if err != nil {
					return nil, err
				}
				rooms = append(rooms, one...)
			}
		} else if err != nil {
			return nil, err
		}
		for _, r := range rooms {
			r.Named = named[r.Agreement.ID]
			if ms, is := left[r.Agreement.ID]; is && r.Period.Contains(now) {
				r.LeftMS = ms
			}
			out = append(out, r)
		}
	}
	return out, nil
}

// rooms1 is the room of one agreement; none where it cannot be computed.
func rooms1(snap *catalogue.Snapshot, period calendar.Period, id string, now span.Instant, without string) ([]planning.Room, error) {
	list, err := rooms(snap, period, []string{id}, now, without)
	if history.Incomputable(err) {
		return nil, nil
	}
	return list, err
}

// rooms are those of agreements with a period in common; of one that runs what is left
// is not told.
func rooms(snap *catalogue.Snapshot, period calendar.Period, ids []string, now span.Instant, without string) ([]planning.Room, error) {
	asOf := max(now, period.Span().From)
	bundle, err := snap.Bundle(period, &asOf, nil, ids, true)
	if err != nil {
		return nil, err
	}
	if without != "" {
		bundle.Windows = slices.DeleteFunc(slices.Clone(bundle.Windows), func(w definition.CompiledWindow) bool { return account.WindowOf(w.ID) == without })
	}
	unmeasured := account.NewEvidence(bundle, func(_, _ string) []verdict.Stretch { return nil }, nil)
	var out []planning.Room
	for _, a := range bundle.Agreements {
		room, err := account.RoomOf(bundle, a)
		if err != nil {
			return nil, err
		}
		r := planning.Room{Room: room}
		if asOf > now || asOf == period.Span().From { // nothing of it has passed
			whole, err := unmeasured.Account(a)
			if err != nil {
				return nil, err
			}
			r.LeftMS = whole.AllowanceLeftMS
		}
		out = append(out, r)
	}
	return out, nil
}

// left is what is left of the allowances of the present periods.
func (p *Planner) left(ctx context.Context, snap *catalogue.Snapshot, of map[string]bool, now span.Instant) (map[string]int64, error) {
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	var ids []string
	for id := range of {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	rows, err := p.Board.Rows(ctx, snap, now, calendar.MonthAt(now, zone), ids)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, r := range rows {
		if r.Account != nil && !r.Account.Final {
			out[r.Agreement] = r.Account.AllowanceLeftMS
		}
	}
	return out, nil
}

// Touched are the agreements of services that work on some takes down, each with whether
// the work names its service, and those that are excused left away.
func Touched(snap *catalogue.Snapshot, services []string) map[string]bool {
	down := planning.TakesDown(Needs(snap), services)
	out := map[string]bool{}
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if !slices.Contains(down, spec.Service) || spec.Upstream != nil &&
			slices.ContainsFunc(spec.Upstream.Excuse, func(id string) bool { return slices.Contains(down, id) }) {
			continue
		}
		out[id] = slices.Contains(services, spec.Service)
	}
	return out
}

// Cheapest are the best times for work on services that lasts so many seconds, in so many
// days from now; window is one that is there already and would be moved, or empty.
func (p *Planner) Cheapest(ctx context.Context, snap *catalogue.Snapshot, services []string, lastsS, days int64, window string, now span.Instant, n int) ([]planning.Slot, error) {
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	q := planning.Question{Services: services, LastsS: lastsS, Within: span.Span{From: now, To: now.Add(days*span.Day + lastsS*span.Second)}, Now: now, Zone: zone, Needs: Needs(snap)}
	if q.Rooms, err = p.Rooms(ctx, snap, Touched(snap, services), q.Within, now, window); err != nil {
		return nil, err
	}
	list, _ := snap.Occurrences(q.Within)
	for _, o := range list {
		if o.Window != window {
			q.Others = append(q.Others, planning.Work{Window: o.Window, Services: o.Spec.Services, Span: o.Planned})
		}
	}
	for _, e := range snap.Embargo(services, q.Within) {
		q.Closed = append(q.Closed, planning.Embargo{ID: e.ID, Span: e.Span})
	}
	if q.Failures, err = p.failures(ctx, snap, services, zone.String(), now); err != nil {
		return nil, err
	}
	return planning.Cheapest(q, n), nil
}

// failures are the times that services were down in the time that counts as usual.
func (p *Planner) failures(ctx context.Context, snap *catalogue.Snapshot, services []string, zone string, now span.Instant) ([]span.Span, error) {
	loc, err := calendar.Zone(zone)
	if err != nil {
		return nil, err
	}
	past := span.Span{From: now.Add(-usualFor), To: now}
	open, err := p.Books.Open(ctx, snap, calendar.Exactly(past, loc), now, services, nil)
	if history.Incomputable(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []span.Span
	for _, id := range services {
		out = append(out, open.Evidence.Service(id).Where(past, func(v verdict.Views) bool { return v[verdict.Nominal] == verdict.Down })...)
	}
	return out, nil
}
