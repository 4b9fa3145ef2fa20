package standing

import (
	"cmp"
	"slices"

	"kestite/core/span"
)

// Need is something that a person should look at.
type Need struct {
	Kind    string
	Subject string
	ID      string
	Service string // whose page explains it; empty where none does
	Text    string
	Since   span.Instant
	With    []string // names of what is bad because of it
}

// What needs somebody, the most pressing first.
const (
	NeedFault     = "fault"      // something cannot be read, judged or accounted
	NeedDown      = "down"       // a service is
	NeedDegraded  = "degraded"   // a service is
	NeedCheck     = "check"      // a check that informs fails
	NeedAgent     = "agent"      // nothing is measured from somewhere, or something was not delivered
	NeedNeverGood = "never-good" // its target may be wrong
	NeedNothing   = "unmeasured" // a service is not measured
)

var pressing = []string{NeedFault, NeedDown, NeedDegraded, NeedCheck, NeedAgent, NeedNeverGood, NeedNothing}

// InOrder sorts needs: the most pressing kind first, in it the latest first, since
// that is the news, and equal ones by name. The same needs are always in one order.
func InOrder(needs []Need) {
	slices.SortStableFunc(needs, func(a, b Need) int {
		return cmp.Or(cmp.Compare(slices.Index(pressing, a.Kind), slices.Index(pressing, b.Kind)), cmp.Compare(b.Since, a.Since),
			cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.ID, b.ID))
	})
}

// Causes groups what is bad: each that needs another bad one, directly or through
// others, is told under the first of those that need none. needed are all that one
// needs.
func Causes(bad []string, needed func(id string) []string) map[string][]string {
	is := map[string]bool{}
	for _, id := range bad {
		is[id] = true
	}
	out := map[string][]string{}
	causes := map[string][]string{}
	for _, id := range bad {
		for _, n := range needed(id) {
			if n != id && is[n] {
				causes[id] = append(causes[id], n)
			}
		}
		if len(causes[id]) == 0 {
			out[id] = nil
		}
	}
	for _, id := range bad {
		under := ""
		for _, c := range causes[id] {
			if len(causes[c]) == 0 && (under == "" || c < under) {
				under = c
			}
		}
		if under != "" {
			out[under] = append(out[under], id)
		} else if len(causes[id]) > 0 { // a circle of what is bad, as could be at some time
			out[id] = nil
		}
	}
	return out
}
