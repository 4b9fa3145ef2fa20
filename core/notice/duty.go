// Package notice says who is due to be told what of an incident, and when: by a plan,
// by who is on duty, and by what happened to the incident. It sends nothing.
package notice

import (
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Turn is a time in which one person of a pool is on duty.
type Turn struct {
	span.Span
	Person  string // empty: nobody is
	StandIn bool   // by an override
}

// Turns are who is on duty within a time, one after the other without gaps. It is empty
// for a pool without rotation, of which all are told, and for one that cannot be read.
func Turns(p definition.PoolSpec, within span.Span) []Turn {
	if p.Rotation == nil || len(p.Members) == 0 || within.Empty() {
		return nil
	}
	r, err := p.Rotation.Compile()
	if err != nil {
		return nil
	}
	type who struct {
		person  string
		standIn bool
	}
	line := span.Constant(who{})
	days := int64(r.Days)
	day := func(w calendar.Wall) int64 { return int64(w.Instant(utc, calendar.Change)) / span.Day }
	first := day(r.First)
	at := func(k int64) span.Instant {
		return r.First.AddDays(int(k*days)).At(r.At).Instant(r.Location, calendar.Change)
	}
	// The hand-over before the first day, and one more where that day begins before it.
	k := max(0, (day(calendar.WallAt(within.From, r.Location))-first)/days-1)
	for ; ; k++ {
		begins := at(k)
		if begins >= within.To {
			break
		}
		line = line.Append(begins, who{person: p.Members[int(k%int64(len(p.Members)))]})
	}
	for _, o := range p.Overrides {
		from, errFrom := definition.Minute(o.From)
		to, errTo := definition.Minute(o.To)
		if errFrom != nil || errTo != nil {
			continue
		}
		stands := span.Span{From: from.Instant(r.Location, calendar.Change), To: to.Instant(r.Location, calendar.Change)}
		line = line.Overlay(span.Union(stands), who{o.Person, true}, func(who) bool { return true })
	}
	var out []Turn
	line.Runs(within, func(s span.Span, w who) { out = append(out, Turn{s, w.person, w.standIn}) })
	return out
}

// OnDuty is who of a pool is on duty at an instant; of a pool without rotation, all are.
func OnDuty(p definition.PoolSpec, at span.Instant) []string {
	if p.Rotation == nil {
		return p.Members
	}
	for _, t := range Turns(p, span.Span{From: at, To: at + 1}) {
		if t.Person != "" {
			return []string{t.Person}
		}
	}
	return nil
}
