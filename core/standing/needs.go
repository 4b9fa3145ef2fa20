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

	Incident int64  // 0: it is none
	Severity string // of the incident
	By       string // the person who acknowledged it; empty: nobody
}

// What needs somebody, the most pressing first.
const (
	NeedFault     = "fault"      // something cannot be read, judged or accounted
	NeedDown      = "down"       // a service is
	NeedDegraded  = "degraded"   // a service is
	NeedCheck     = "check"      // a check that informs fails
	NeedNotices   = "notices"    // messages could not be sent
	NeedAllowance = "allowance"  // of an agreement, goes too fast or is low
	NeedAgent     = "agent"      // nothing is measured from somewhere, or something was not delivered
	NeedNeverGood = "never-good" // its target may be wrong
	NeedNothing   = "unmeasured" // a service is not measured
	NeedRequest   = "request"    // somebody asks a second person for planned work
	NeedAdjusted  = "adjustment" // somebody asks a second person for an adjustment
	NeedObjection = "objection"  // somebody objects to a published report
)

var pressing = []string{NeedFault, NeedDown, NeedDegraded, NeedNotices, NeedAllowance, NeedCheck, NeedAgent, NeedRequest, NeedAdjusted, NeedObjection, NeedNeverGood, NeedNothing}

// InOrder sorts needs: the most pressing kind first, in it those that nobody is on, of
// those the latest first, since that is the news, and equal ones by name. The same needs
// are always in one order.
func InOrder(needs []Need) {
	slices.SortStableFunc(needs, func(a, b Need) int {
		return cmp.Or(cmp.Compare(slices.Index(pressing, a.Kind), slices.Index(pressing, b.Kind)), cmp.Compare(min(len(a.By), 1), min(len(b.By),
			1)),
			cmp.Compare(b.Since, a.Since), cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.ID, b.ID))
	})
}
