package notice

import (
	"slices"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// Person is somebody who may be told.
type Person struct {
	ID, Name string
	Gone     bool // may not sign in any more
	Methods  []Method
}

// Method is a contact method of a person.
type Method struct {
	ID, Kind, Address string
	Verified          bool
	Active            *definition.WeeklyPlan // nil: always
}

// Directory is who and what can be told.
type Directory struct {
	People   map[string]Person
	Pools    map[string]definition.PoolSpec
	Contacts map[string]definition.ContactSpec
}

// Way is how one receiver is told, or why not.
type Way struct {
	Person  string       // empty: a shared contact method
	Kind    string       // of the contact method; empty: there is none
	Method  string       // its id; empty: the inbox
	Address string       //
	At      span.Instant // when it may be used: now, or when it is active next
	Why     string       // why nobody is reached by it; empty: somebody is
}

// mostWait is how far ahead a contact method is looked for to become active.
const mostWait = 14 * span.Day

// Reach are the ways in which a receiver is told at an instant; in says by which kinds
// people are reached. There is at least one, which may say why nobody is reached.
func (d Directory) Reach(r definition.Recipient, in func(kind string) bool, at span.Instant) []Way {
	switch {
	case r.Contact != "":
		c, is := d.Contacts[r.Contact]
		if !is {
			return []Way{{Why: "the contact method is retired"}}
		}
		w := Way{Kind: c.Kind, Method: r.Contact, Address: c.Address}
		w.when(c.Active, at)
		return []Way{w}
	case r.Person != "":
		return d.person(r.Person, in, at)
	}
	p, is := d.Pools[r.Pool]
	if !is {
		return []Way{{Why: "the pool is retired"}}
	}
	var out []Way
	for _, id := range OnDuty(p, at) {
		out = append(out, d.person(id, in, at)...)
	}
	if len(out) == 0 {
		return []Way{{Why: "nobody of " + p.Name + " is on duty"}}
	}
	return out
}

func (d Directory) person(id string, in func(kind string) bool, at span.Instant) []Way {
	p, is := d.People[id]
	if !is || p.Gone {
		name := p.Name
		if name == "" {
			name = "the person"
		}
		return []Way{{Person: id, Why: name + " has no account any more"}}
	}
	out := []Way{{Person: id, Kind: definition.Inbox, At: at}}
	for _, m := range p.Methods {
		w := Way{Person: id, Kind: m.Kind, Method: m.ID, Address: m.Address}
		switch {
		case !in(m.Kind):
			continue
		case !m.Verified:
			w.Why = m.Address + " was never verified"
		default:
			w.when(m.Active, at)
		}
		out = append(out, w)
	}
	return out
}

// when says when a way may be used that is active at some times only.
func (w *Way) when(active *definition.WeeklyPlan, at span.Instant) {
	hours, err := definition.ActiveHours(active)
	if err != nil {
		hours = calendar.Hours{} // rather too often than never
	}
	next := hours.Within(span.Span{From: at, To: at.Add(mostWait)})
	if len(next) == 0 {
		w.Why = w.Address + " is not active within two weeks"
		return
	}
	w.At = next[0].From
}

// Active says whether somebody is reached by a way that comes to them, at an instant: the
// inbox waits until somebody looks.
func (w Way) Active(at span.Instant) bool {
	return w.Why == "" && w.Kind != definition.Inbox && w.Kind != definition.Syslog && w.At <= at
}

// Reaches says whether any of the ways comes to somebody by an instant.
func Reaches(ways []Way, by span.Instant) bool {
	return slices.ContainsFunc(ways, func(w Way) bool { return w.Active(by) })
}
