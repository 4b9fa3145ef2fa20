package notice

import (
	"slices"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
)

// Why an incident follows a plan.
const (
	OfService  = "service"    // it names the plan
	OfOwner    = "owner"      // the team that owns it does
	OfAnything = "everywhere" // the plan is for every incident that meets its conditions
	InPlaceOf  = "instead"    // others leave to it what is due outside their hours
)

// Chosen is a plan that an incident follows, and why.
type Chosen struct {
	Plan string
	By   string
	// For are the plans outside of whose hours it tells, where it tells then alone.
	For []string
}

// Equal says whether two are the same.
func (c Chosen) Equal(o Chosen) bool {
	return c.Plan == o.Plan && c.By == o.By && slices.Equal(c.For, o.For)
}

// Plans are those that an incident follows as things are defined now. service is the one
// that it concerns, "" where it is no one's. How severe it is the plans themselves look at.
func Plans(snap *catalogue.Snapshot, s incident.Subject, service string) []Chosen {
	var out []Chosen
	may := func(id string) bool {
		e := snap.NoticePlans[id]
		return e != nil && !e.Retired && meets(snap, e.Current().Spec, s, service)
	}
	at := func(id string) int { return slices.IndexFunc(out, func(c Chosen) bool { return c.Plan == id }) }
	add := func(id, by string) {
		if at(id) < 0 && may(id) {
			out = append(out, Chosen{Plan: id, By: by})
		}
	}
	if e := snap.Services[service]; e != nil {
		spec := e.Current().Spec
		if spec.Notices != nil {
			add(spec.Notices.Plan, OfService)
		}
		if team := snap.Teams[spec.Owner]; team != nil && (spec.Notices == nil || spec.Notices.Owner) {
			add(team.Current().Spec.NoticePlan, OfOwner)
		}
	}
	for _, id := range catalogue.Live(snap.NoticePlans) {
		if snap.NoticePlans[id].Current().Spec.Everywhere {
			add(id, OfAnything)
		}
	}
	for _, c := range slices.Clone(out) {
		spec := snap.NoticePlans[c.Plan].Current().Spec
		switch n := at(spec.Instead); {
		case spec.Outside != definition.OutsidePlan || !may(spec.Instead):
		case n < 0:
			out = append(out, Chosen{Plan: spec.Instead, By: InPlaceOf, For: []string{c.Plan}})
		case out[n].By == InPlaceOf:
			out[n].For = append(out[n].For, c.Plan)
		}
	}
	return out
}

// Following are the plans that were chosen for what concerns a service, "" where it is no
// one's, resolved.
func Following(snap *catalogue.Snapshot, chosen []Chosen, service string) []Plan {
	out := make([]Plan, len(chosen))
	for n, c := range chosen {
		out[n] = NewPlan(c.Plan, snap.NoticePlans[c.Plan].Current().Spec)
		if out[n].Agreed != "" {
			out[n].agreed = agreedHours(snap, service)
		}
		for _, id := range c.For {
			if hours, err := definition.ActiveHours(snap.NoticePlans[id].Current().Spec.Hours); err == nil {
				out[n].outsideOf = append(out[n].outsideOf, hours)
			}
		}
	}
	return out
}

// agreedHours are the service hours of the agreements of a service that are in force.
func agreedHours(snap *catalogue.Snapshot, service string) []calendar.Hours {
	var out []calendar.Hours
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if spec.Service != service {
			continue
		}
		a, err := snap.Promise(id, spec)
		if err != nil {
			continue // Standing says so
		}
		if hours, err := definition.CompileHours(a.ServiceHours); err == nil {
			out = append(out, hours)
		}
	}
	return out
}

// meets says whether an incident meets the conditions of a plan, but how severe it is.
func meets(snap *catalogue.Snapshot, p definition.NoticePlanSpec, s incident.Subject, service string) bool {
	if len(p.About) > 0 && !slices.Contains(p.About, s.About) {
		return false
	}
	if len(p.CheckKinds) > 0 && s.About == incident.Check {
		e := snap.Checks[s.ID]
		if e == nil || !slices.Contains(p.CheckKinds, e.Current().Spec.Kind) {
			return false
		}
	}
	if len(p.Selections) > 0 && !slices.ContainsFunc(p.Selections, func(id string) bool {
		check := ""
		if s.About == incident.Check {
			check = s.ID
		}
		return snap.InSelection(id, service, check)
	}) {
		return false
	}
	if len(p.Tags) == 0 {
		return true
	}
	e := snap.Services[service]
	return e != nil && slices.ContainsFunc(e.Current().Spec.Tags, func(t string) bool { return slices.Contains(p.Tags, t) })
}
