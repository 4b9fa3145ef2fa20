package incident

import (
	"cmp"
	"slices"

	"kestite/core/span"
)

// LetGo is for how long after its cause is over an incident still counts as following
// it, in ms: what needs a service may take a while to be well again.
const LetGo = 10 * span.Minute

// Group says under which cause incidents of services stand, by what needs what: an open
// one follows the open incident of a service that it needs, directly or through others,
// and that is in no better state. Of several the one counts that follows none itself, the
// earliest first. What a person decided stays, and so does a cause that was over less
// than LetGo ago.
//
// list are all open incidents and the causes that they have; needed are all services that
// one needs. It returns those that stand otherwise than before.
func Group(list []Incident, needed func(service string) []string, now span.Instant) []Changed {
	byID, open := map[int64]Incident{}, map[string]Incident{}
	for _, i := range list {
		byID[i.ID] = i
		if i.About == Service && i.ResolvedAt == nil {
			open[i.Subject.ID] = i
		}
	}
	above := map[int64][]Incident{} // those that could be its cause
	for _, i := range open {
		for _, n := range needed(i.Subject.ID) {
			if c, is := open[n]; is && c.ID != i.ID && c.State >= i.State {
				above[i.ID] = append(above[i.ID], c)
			}
		}
	}
	var out []Changed
	for _, i := range list {
		if i.About != Service || i.ResolvedAt != nil || i.CauseBy != "" {
			continue
		}
		cause := root(i, above, byID, 0)
		old := byID[i.Cause]
		if cause == 0 && old.ResolvedAt != nil && !old.Unfounded && now < old.ResolvedAt.Add(LetGo) {
			continue
		}
		if cause == i.Cause {
			continue
		}
		i.Cause = cause
		e := Event{Kind: Freed, At: now}
		if cause != 0 {
			e = Event{Kind: Followed, At: now, Cause: cause}
		}
		out = append(out, i.with(e))
		for _, under := range list { // what a person put under it goes along: there is one level
			if cause != 0 && under.CauseBy != "" && under.Cause == i.ID {
				under.Cause = cause
				out = append(out, under.with(Event{Kind: Followed, At: now, Cause: cause}))
			}
		}
	}
	return out
}

// root is the cause of an incident: the first of those above it that has none above
// itself, or stands where a person put it; 0 where there is none.
func root(i Incident, above map[int64][]Incident, byID map[int64]Incident, deep int) int64 {
	const deepest = 50 // a circle, of what persons put under each other
	var roots []Incident
	for _, c := range above[i.ID] {
		switch {
		case deep > deepest:
		case c.CauseBy != "" && c.Cause != 0:
			r, known := byID[c.Cause]
			if further := root(r, above, byID, deep+1); further != 0 {
				r = byID[further]
			}
			if known && r.ID != i.ID {
				roots = append(roots, r)
			}
		case len(above[c.ID]) == 0 || c.CauseBy != "":
			roots = append(roots, c)
		}
	}
	slices.SortFunc(roots, func(a, b Incident) int { return cmp.Or(cmp.Compare(a.BeganAt, b.BeganAt), cmp.Compare(a.ID, b.ID)) })
	if len(roots) == 0 {
		return 0
	}
	return roots[0].ID
}
