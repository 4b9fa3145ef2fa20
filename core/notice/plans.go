package notice

import (
	"slices"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
)

// Why an incident follows a plan.
const (
	OfService  = "service"    // it names the plan
	OfOwner    = "owner"      // the team that owns it does
	OfAnything = "everywhere" // the plan is for every incident that meets its conditions
)

// Chosen is a plan that an incident follows, and why.
type Chosen struct {
	Plan string
	By   string
}

// Plans are those that an incident follows as things are defined now. service is the one
// that it concerns, "" where it is no one's. How severe it is the plans themselves look at.
func Plans(snap *catalogue.Snapshot, s incident.Subject, service string) []Chosen {
	var out []Chosen
	add := func(id, by string) {
		e := snap.NoticePlans[id]
		if e == nil || e.Retired || slices.ContainsFunc(out, func(c Chosen) bool { return c.Plan == id }) {
			return
		}
		if meets(snap, e.Current().Spec, s, service) {
			out = append(out, Chosen{id, by})
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
	if len(p.Tags) == 0 {
		return true
	}
	e := snap.Services[service]
	return e != nil && slices.ContainsFunc(e.Current().Spec.Tags, func(t string) bool { return slices.Contains(p.Tags, t) })
}
