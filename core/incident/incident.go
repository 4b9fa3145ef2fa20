// Package incident is the life of a piece of trouble: what opens an incident and ends
// it, under which cause it stands, and what people may do with it. It knows no store:
// who uses it keeps what it returns.
package incident

import (
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// What an incident is about.
const (
	Service  = "service"  // that is down or degraded
	Check    = "check"    // that informs, and fails
	Location = "location" // from which nothing is measured, or not all
)

// Subject is what an incident is about.
type Subject struct {
	About string // Service, Check or Location
	ID    string
}

// Incident is what stands of an incident now. The zero value is none.
type Incident struct {
	ID int64
	Subject
	BeganAt  span.Instant // by the measurements
	KnownAt  span.Instant // when it was opened
	LatestAt span.Instant // when its trouble last began anew
	Times    int          // how often that was
	State    verdict.State
	Worst    verdict.State
	EndedAt  *span.Instant // when its trouble ended, by the measurements; nil while it lasts

	Severity   string
	SeverityBy string // the person who chose it; empty: the policy did

	Acknowledged *Acknowledgement
	Assignee     string        // a person; empty: nobody
	ResolvedAt   *span.Instant // nil while it is open
	ResolvedBy   string        // a person; empty: it resolved by itself
	Unfounded    bool          // later measurements or definitions showed that there was no trouble
	Review       *Review

	Cause   int64  // the incident that it follows; 0: it stands by itself
	CauseBy string // the person who decided on the cause, or that there is none; empty: nobody did
	Planned *Planned
}

// Acknowledgement says that a person has seen it and is on it.
type Acknowledgement struct {
	By    string
	At    span.Instant
	Until *span.Instant // it lapses then; nil: it does not
}

// Planned is a time of planned work in which the incident began: nobody is to be
// disturbed before that is over.
type Planned struct {
	Window string
	Until  span.Instant
}

// Review is what is known of an incident afterwards.
type Review struct {
	By     string       `json:"by"`
	At     span.Instant `json:"at"`
	Class  string       `json:"class"`
	Cause  string       `json:"cause"`
	Action string       `json:"action"`
}

// Phase is how far an incident is handled.
type Phase string

// The phases, in the order of an incident's life.
const (
	Open         Phase = "open"
	Acknowledged Phase = "acknowledged"
	Resolved     Phase = "resolved"
	Reviewed     Phase = "reviewed"
)

// Phase is how far it is handled at an instant: an acknowledgement that lapsed is none.
func (i Incident) Phase(now span.Instant) Phase {
	switch {
	case i.Review != nil:
		return Reviewed
	case i.ResolvedAt != nil:
		return Resolved
	case i.Acknowledged.holds(now):
		return Acknowledged
	}
	return Open
}

func (a *Acknowledgement) holds(now span.Instant) bool {
	return a != nil && (a.Until == nil || now < *a.Until)
}

// Quiet says whether it began in planned work that is not over at an instant.
func (i Incident) Quiet(now span.Instant) bool { return i.Planned != nil && now < i.Planned.Until }

// Lasted is the time of the trouble as far as it is known at an instant.
func (i Incident) Lasted(now span.Instant) span.Span {
	if i.EndedAt != nil {
		now = *i.EndedAt
	}
	return span.Span{From: i.BeganAt, To: max(now, i.BeganAt)}
}

// Policy says how severe a state is; "" opens no incident.
type Policy struct {
	Degraded, Down string
	ReopenMS       int64
}

// PolicyOf is what a service's incidents follow.
func PolicyOf(t definition.TroublePolicy) Policy {
	return Policy{severity(t.Degraded), severity(t.Down), *t.ReopenS * span.Second}
}

// PolicyOfCheck is what incidents of checks follow that inform.
func PolicyOfCheck(t definition.TroublePolicy) Policy {
	return Policy{severity(t.Informs), severity(t.Informs), *t.ReopenS * span.Second}
}

// PolicyOfLocations is what incidents of locations follow.
var PolicyOfLocations = Policy{Degraded: definition.Minor, Down: definition.Major, ReopenMS: definition.ReopenS * span.Second}

func severity(word string) string {
	if word == definition.None {
		return ""
	}
	return word
}

// Of is how severe a state is; "" opens no incident.
func (p Policy) Of(s verdict.State) string {
	switch s {
	case verdict.Down:
		return p.Down
	case verdict.Degraded:
		return p.Degraded
	}
	return ""
}

// worse says whether severity a is above b.
func worse(a, b string) bool {
	return slices.Index(definition.Severities, a) > slices.Index(definition.Severities, b)
}

// What happened to an incident, as its timeline says it.
const (
	Opened           = "opened"
	Reopened         = "reopened"
	Ended            = "ended"    // its trouble, of one that a person had resolved before
	ResolvedByItself = "over"     // its trouble, and it with it
	ResolvedByHand   = "resolved" // by a person
	NoTrouble        = "unfounded"
	Founded          = "founded"
	Moved            = "moved" // its trouble began at another time than was thought
	Raised           = "severity"
	Followed         = "followed"
	Freed            = "freed"
	Acked            = "acknowledged"
	Released         = "released"
	Noted            = "note"
	Assigned         = "assigned"
	Linked           = "link"
	Attached         = "file"
	ReviewedOnce     = "reviewed"
	Looked           = "evidence" // asked for
)

// Event is one thing that happened to an incident; it is appended, and never changed.
type Event struct {
	Kind   string        `json:"kind"`
	At     span.Instant  `json:"at"`     // when it happened
	Person string        `json:"person"` // who did it; empty: nobody
	Text   string        `json:"text"`   // what a person wrote, or a value: a severity, a state
	Public bool          `json:"public"` // of a note: customers may read it
	Other  string        `json:"other"`  // a person that it was assigned to, an address, a name of a file
	To     *span.Instant `json:"to"`     // until when, or which other instant
	Cause  int64         `json:"cause"`  // the incident that it follows since
}
