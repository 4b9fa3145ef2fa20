// Package publication is the rules of what becomes of a report between two people: who
// approves a draft, who may object to what was published, and how that ends.
package publication

import (
	"strings"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// Approval is what a second person said of a draft.
type Approval struct {
	By   string // id
	Seen string // of what was read
}

// Approves says why somebody cannot approve a draft that madeBy made; nil where they can.
// The error is an *access.Denied where the role is not enough.
func Approves(madeBy, by string, may access.Rights) error {
	if err := may.Needs(access.Approve); err != nil {
		return err
	}
	if madeBy == by {
		return definition.Faultf("seen", "who drafted it does not approve it: a second person does")
	}
	return nil
}

// Publishable says why a draft that madeBy made cannot be published by somebody; nil where
// it can. seen is that of what would be published. Who approves neither drafts nor
// publishes: what a schedule has drafted takes two persons too.
func Publishable(needed bool, of *Approval, madeBy, by, seen string) error {
	switch {
	case !needed:
		return nil
	case of == nil:
		return definition.Faultf("approval", "its customer's reports are approved by a second person first, and nobody has approved it")
	case of.By == madeBy:
		return definition.Faultf("approval", "who drafted it approved it; a second person has to")
	case of.By == by:
		return definition.Faultf("approval", "you have approved it; somebody else publishes it")
	case of.Seen != seen:
		return definition.Faultf("approval", "it says something else by now than what was approved; it has to be approved again")
	}
	return nil
}

// Standing is who lets a schedule publish at once.
type Standing struct {
	Name  string
	Until string // last day on which it is good, 2006-01-02; empty: until it is withdrawn
	// May says whether who gave it may approve still, and is there.
	May bool
}

// AtOnce says why a schedule does not publish a report at once, today being a day as
// 2006-01-02; nil where it does. Somebody who may approve has to stand for it, and nothing
// of the report may be a person's choice: no adjustments, and a verdict.
func AtOnce(of *Standing, today string, verdict account.Verdict, adjustments int) error {
	switch {
	case of == nil:
		return definition.Faultf("approval", "no standing approval is in force")
	case !of.May:
		return definition.Faultf("approval", "%s, who gave the standing approval, may not approve any more", of.Name)
	case of.Until != "" && today > of.Until:
		return definition.Faultf("approval", "the standing approval of %s ended with %s", of.Name, of.Until)
	case adjustments > 0:
		return definition.Faultf("adjustments", "its account has adjustments, which people look at first")
	case verdict != account.Met && verdict != account.Missed:
		return definition.Faultf("verdict", "it has no verdict, met or missed")
	}
	return nil
}

// State is how an objection stands.
type State string

// The states of an objection.
const (
	Open      State = "open"
	Stands    State = "stands"    // the report stands as it is
	Revised   State = "revised"   // a revision is made
	Withdrawn State = "withdrawn" // by who objected
)

// Objects says why an objection cannot be made; nil where it can. days is how many the
// customer has from publication; 0: any number.
func Objects(text string, published, now span.Instant, days int) error {
	if strings.TrimSpace(text) == "" {
		return definition.Faultf("text", "say what is wrong, and with which line")
	}
	if until := published.Add(int64(days) * span.Day); days > 0 && now > until {
		return definition.Faultf("text", "objections were taken until %s, %d days from publication", until, days)
	}
	return nil
}

// Ends says why an objection cannot end in a state with an answer; nil where it can.
func Ends(was, to State, answer string) error {
	switch {
	case was != Open:
		return definition.Faultf("state", "it has ended: %s", was)
	case to != Stands && to != Revised && to != Withdrawn:
		return definition.Faultf("state", "%q is none of stands, revised and withdrawn", to)
	case to != Withdrawn && strings.TrimSpace(answer) == "":
		return definition.Faultf("answer", "say why, with what shows it")
	}
	return nil
}
