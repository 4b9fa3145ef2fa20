package notice

import (
	"slices"
	"time"

	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
)

var utc = time.UTC

// Fact is something that happened to an incident, with when it became known here: by
// that, not by when it happened, people are told.
type Fact struct {
	incident.Event
	Known span.Instant
}

// Life is an incident as telling of it goes by. Each time it opens is a round of telling.
type Life struct {
	Round    int
	From     span.Instant  // when the round began
	To       *span.Instant // when it was over; nil while it lasts
	Held     []Hold        // times in which the clock of plans stands still
	Severity span.Timeline[string]
	Causes   []Cause      // that it was found to follow since the round began
	Calm     int64        // ms that it is calm before that is told; it flaps
	Acked    *Acked       // who is on it now
	Settled  span.Instant // until then, the first step waits whether another cause is found
}

// Hold is a time in which the clock of plans stands still.
type Hold struct {
	span.Span
	Why string // acknowledged, follows, planned, held, calm
}

// Why a clock stands still.
const (
	IsAcked   = "acknowledged"
	IsPlanned = "planned"
	IsUnder   = "follows"
	IsHeld    = "held" // a person stopped notices for a while
	IsCalm    = "calm" // between two beginnings of what flaps
)

// Cause is another incident that it was found to follow.
type Cause struct {
	ID int64
	At span.Instant
}

// Acked says who has acknowledged it, since when.
type Acked struct {
	Person string
	At     span.Instant
}

// SettleMS is how long the first step of an incident waits at most, in ms, whether what
// it needs turns out to be its cause.
const SettleMS = 20 * span.Second

const never = span.Instant(1<<63 - 1)

// LifeOf is the latest round of an incident, by what happened to it in the order of the
// facts. settles says that it needs others, whose answers its first step waits for.
func LifeOf(i incident.Incident, facts []Fact, settles bool) Life {
	l := Life{Round: 1, From: i.KnownAt, Severity: span.Constant(i.Severity)}
	if len(facts) > 0 && facts[0].Kind == incident.Opened && facts[0].Other != "" {
		l.Severity = span.Constant(facts[0].Other)
	}
	var acked *Hold
	var under *Hold
	again := 0
	end := func(h **Hold, at span.Instant) {
		if *h != nil {
			(*h).To = min((*h).To, at)
			l.Held = append(l.Held, **h)
			*h = nil
		}
	}
	for _, f := range facts {
		switch f.Kind {
		case incident.Opened:
			l.From = f.Known
		case incident.Reopened:
			again++
			l.again(f.Known, again)
		case incident.ResolvedByItself, incident.ResolvedByHand, incident.NoTrouble:
			if l.To == nil {
				at := f.Known
				l.To = &at
			}
		case incident.Acked:
			end(&acked, f.Known)
			acked = &Hold{span.Span{From: f.Known, To: never}, IsAcked}
			if f.Event.To != nil {
				acked.To = *f.Event.To
			}
			l.Acked = &Acked{f.Person, f.Known}
		case incident.Released:
			end(&acked, f.Known)
		case incident.Raised:
			if f.Known >= l.Severity[len(l.Severity)-1].At {
				l.Severity = l.Severity.Append(f.Known, f.Text)
			}
		case incident.Followed:
			if !slices.ContainsFunc(l.Causes, func(c Cause) bool { return c.ID == f.Cause }) {
				l.Causes = append(l.Causes, Cause{f.Cause, f.Known})
			}
			if under == nil {
				under = &Hold{span.Span{From: f.Known, To: never}, IsUnder}
			}
		case incident.Freed:
			end(&under, f.Known)
		}
	}
	end(&acked, never)
	end(&under, never)
	switch { // where the facts do not tell all
	case i.ResolvedAt != nil && l.To == nil:
		l.To = i.ResolvedAt
	case i.ResolvedAt == nil && l.To != nil:
		l.again(*l.To, again+1)
	}
	if i.Acknowledged == nil || l.To != nil {
		l.Acked = nil
	}
	if i.Planned != nil && i.Planned.Until > l.From {
		l.Held = append(l.Held, Hold{span.Span{From: l.From, To: i.Planned.Until}, IsPlanned})
	}
	l.Settled = l.From
	if settles {
		l.Settled = l.From.Add(SettleMS)
	}
	return l
}

// Flaps is the beginning of its trouble from which an incident counts as flapping: it is
// one round of telling from then on, over once it was calm for CalmMS.
const (
	Flaps  = 3
	CalmMS = definition.ReopenS * span.Second
)

// again opens it again; it is the nth time that it does.
func (l *Life) again(at span.Instant, n int) {
	if l.To == nil {
		return
	}
	if l.Calm > 0 && at < l.To.Add(l.Calm) {
		l.Held = append(l.Held, Hold{span.Span{From: *l.To, To: at}, IsCalm})
		l.To = nil
		return
	}
	l.Round, l.From, l.To, l.Causes, l.Calm = l.Round+1, at, nil, nil, 0
	if n >= Flaps-1 {
		l.Calm = CalmMS
	}
}

// Hold stops telling of it in some times, by a person's decision. What it tells of its end
// goes on.
func (l Life) Hold(times ...span.Span) Life {
	l.Held = slices.Clone(l.Held)
	for _, t := range times {
		l.Held = append(l.Held, Hold{t, IsHeld})
	}
	return l
}

// running are the times until an instant in which the clock of a plan runs.
func (l Life) running(p definition.NoticePlanSpec, until span.Instant) span.Set {
	if l.To != nil {
		until = min(until, *l.To)
	}
	all := span.Span{From: l.From, To: until}
	if all.Empty() {
		return nil
	}
	var held []span.Span
	for _, h := range l.Held {
		held = append(held, h.Span)
	}
	out := span.Union(all).Without(span.Union(held...))
	if len(p.Severities) > 0 {
		out = out.Intersect(l.Severity.Where(all, func(s string) bool { return slices.Contains(p.Severities, s) }))
	}
	return out
}

// Still says why nobody is told any more what was due earlier, as things stand at an
// instant; "" where it is to be told.
func (l Life) Still(what What, now span.Instant) string {
	if what == Clear {
		return ""
	}
	if l.To != nil {
		return "it was over before"
	}
	for _, h := range l.Held {
		switch {
		case !h.Contains(now) || what == Found || what == Reminder:
		case h.Why == IsAcked && what != Worse:
			return "somebody acknowledged it before"
		case h.Why == IsUnder:
			return "it follows from another one, which is told"
		case h.Why == IsPlanned:
			return "it is planned work"
		case h.Why == IsHeld:
			return "notices of it are held"
		}
	}
	return ""
}
