package definition

import (
	"slices"
	"strings"

	"kestite/core/span"
)

// States of an adjustment.
const (
	Proposed  = "proposed"
	Approved  = "approved"
	Refused   = "refused"
	Withdrawn = "withdrawn"
)

// AdjustmentSpec is an override of a stretch of an account, with all that is told of it. It
// counts once a second person has approved it.
type AdjustmentSpec struct {
	Agreement string       `json:"agreement"`
	Period    string       `json:"period" doc:"Of the agreement, by name"`
	From      span.Instant `json:"from"`
	To        span.Instant `json:"to"`
	Class     string       `json:"class" enum:"excused,up,degraded,down,unmeasured" doc:"What the time is to count as"`
	Cause     string       `json:"cause" enum:"force-majeure,customer,third-party,measurement,other"`
	Reason    string       `json:"reason" minLength:"1" maxLength:"2000"`
	Reference string       `json:"reference,omitempty" maxLength:"200" doc:"A ticket, a letter, a law"`
	State     string       `json:"state" enum:"proposed,approved,refused,withdrawn"`
	Proposer  Signature    `json:"proposer"`
	Decider   *Signature   `json:"decider,omitempty" doc:"Who approved, refused or withdrew it"`
	Note      string       `json:"note,omitempty" maxLength:"2000" doc:"What who decided said"`
}

// Signature is who did something, by what they were called then, and when.
type Signature struct {
	ID   string       `json:"id"`
	Name string       `json:"name"`
	At   span.Instant `json:"at"`
}

// Called is what people call an adjustment: its reason, as far as it fits.
func (a AdjustmentSpec) Called() string {
	const most = 60
	first, _, _ := strings.Cut(a.Reason, "\n")
	if letters := []rune(first); len(letters) > most {
		return string(letters[:most]) + "…"
	}
	return first
}

// Validate of an adjustment.
func (a AdjustmentSpec) Validate() error {
	switch {
	case a.Agreement == "":
		return fault("agreement", "is missing")
	case a.To <= a.From:
		return fault("to", "%s is not after from, %s; give it a later end", a.To, a.From)
	case !slices.Contains([]string{"excused", "up", "degraded", "down", "unmeasured"}, a.Class):
		return fault("class", "%q is none of excused, up, degraded, down, unmeasured", a.Class)
	case !slices.Contains([]string{"force-majeure", "customer", "third-party", "measurement", "other"}, a.Cause):
		return fault("cause", "%q is none of force-majeure, customer, third-party, measurement, other", a.Cause)
	case strings.TrimSpace(a.Reason) == "":
		return fault("reason", "is missing; say why, for whoever reads the report")
	case !slices.Contains([]string{Proposed, Approved, Refused, Withdrawn}, a.State):
		return fault("state", "%q is none of proposed, approved, refused, withdrawn", a.State)
	case a.Proposer.ID == "":
		return fault("proposer", "is missing")
	case (a.State == Proposed) != (a.Decider == nil):
		return fault("decider", "says who decided, and belongs to what is decided alone")
	case a.State == Approved && a.Decider.ID == a.Proposer.ID:
		return fault("decider", "is who proposed it; somebody else has to approve it")
	}
	return nil
}

// Entry is the adjustment as accounts read it.
func (a AdjustmentSpec) Entry(id string) Adjustment {
	out := Adjustment{ID: id, Agreement: a.Agreement, From: a.From, To: a.To, Class: a.Class, Approved: a.State == Approved && a.Decider != nil,
		Reason: a.Reason, Cause: a.Cause, Reference: a.Reference, ProposedBy: a.Proposer.Name}
	if out.Approved {
		out.ApprovedBy, out.ApprovedAt = a.Decider.Name, &a.Decider.At
	}
	return out
}
