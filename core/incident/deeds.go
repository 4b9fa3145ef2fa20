package incident

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Bounds of what people write.
const (
	MostText  = 5000 // characters of a note, of a cause, of an action
	MostShort = 200  // characters of a name
)

// Classes of cause that a review chooses from.
var Classes = []string{"change", "capacity", "hardware", "software", "network", "power", "supplier", "human", "security", "measurement",
	"unknown"}

// Conflict is a refusal because of what somebody else did, or because of how things stand.
type Conflict struct{ Why string }

func (c *Conflict) Error() string { return c.Why }

func conflict(format string, args ...any) error { return &Conflict{fmt.Sprintf(format, args...)} }

// Acknowledge says that a person is on it, until an instant or until it is over. One
// that another person acknowledged is refused as a *Conflict unless take says to take it
// over; so is one that is over.
func (i Incident) Acknowledge(person string, now span.Instant, until *span.Instant, take bool) (Changed, error) {
	switch {
	case i.ResolvedAt != nil:
		return Changed{}, conflict("It is resolved; there is nothing to acknowledge any more.")
	case i.Acknowledged.holds(now) && i.Acknowledged.By != person && !take:
		return Changed{}, conflict("Somebody else acknowledged it already. Take it over, if that is what you want.")
	case until != nil && *until <= now:
		return Changed{}, definition.Faultf("until", "%s has passed; give a time to come, or none", until)
	case until != nil && *until > now.Add(30*span.Day):
		return Changed{}, definition.Faultf("until", "is more than 30 days ahead; give an earlier time, or none")
	}
	i.Acknowledged = &Acknowledgement{person, now, until}
	return i.with(Event{Kind: Acked, At: now, Person: person, To: until}), nil
}

// Release takes an acknowledgement back.
func (i Incident) Release(person string, now span.Instant) (Changed, error) {
	if i.ResolvedAt != nil || !i.Acknowledged.holds(now) {
		return Changed{}, conflict("Nobody has acknowledged it, or it is over.")
	}
	i.Acknowledged = nil
	return i.with(Event{Kind: Released, At: now, Person: person}), nil
}

// Note adds what a person knows; customers may read a public one.
func (i Incident) Note(person string, now span.Instant, text string, public bool) (Changed, error) {
	text, err := written("text", text, MostText)
	return i.with(Event{Kind: Noted, At: now, Person: person, Text: text, Public: public}), err
}

// Assign gives it to a person, or with "" to nobody.
func (i Incident) Assign(person string, now span.Instant, to string) (Changed, error) {
	if i.Assignee == to {
		return Changed{Incident: i}, nil
	}
	i.Assignee = to
	return i.with(Event{Kind: Assigned, At: now, Person: person, Other: to}), nil
}

// Rate gives it another severity, which then stays whatever its state does.
func (i Incident) Rate(person string, now span.Instant, severity string) (Changed, error) {
	if !slices.Contains(definition.Severities, severity) {
		return Changed{}, definition.Faultf("severity", "%q is none; take one of %s", severity, strings.Join(definition.Severities, ", "))
	}
	i.Severity, i.SeverityBy = severity, person
	return i.with(Event{Kind: Raised, At: now, Person: person, Text: severity}), nil
}

// Resolve ends it by hand; while its trouble lasts, the note has to say why. It opens
// again when its trouble gets worse, or is back after it was over.
func (i Incident) Resolve(person string, now span.Instant, note string) (Changed, error) {
	if i.ResolvedAt != nil {
		return Changed{}, conflict("It is resolved already.")
	}
	if strings.TrimSpace(note) == "" && i.State != verdict.Up {
		return Changed{}, definition.Faultf("note", "is missing; what it is about is %s still, so say why it is settled", i.State)
	}
	var err error
	if strings.TrimSpace(note) != "" {
		note, err = written("note", note, MostText)
	}
	i.ResolvedAt, i.ResolvedBy = &now, person
	return i.with(Event{Kind: ResolvedByHand, At: now, Person: person, Text: note}), err
}

// Open takes back that a person resolved it.
func (i Incident) Open(person string, now span.Instant) (Changed, error) {
	if i.ResolvedBy == "" || i.Review != nil {
		return Changed{}, conflict("Only what a person resolved, and nobody reviewed, can be opened again by hand.")
	}
	if i.EndedAt != nil {
		return Changed{}, conflict("Its trouble is over; if it comes back, it opens by itself.")
	}
	i.ResolvedAt, i.ResolvedBy = nil, ""
	return i.with(Event{Kind: Reopened, At: now, Person: person, Text: i.State.String()}), nil
}

// Record says afterwards what it was: class, cause and action. was is the instant of the
// review that the person has seen, nil for none: another one since is a *Conflict.
func (i Incident) Record(person string, now span.Instant, class, cause, action string, was *span.Instant) (Changed, error) {
	if i.ResolvedAt == nil {
		return Changed{}, conflict("It is not over yet; resolve it first, or wait until it is.")
	}
	if seen := i.Review != nil && was != nil && i.Review.At == *was; !seen && (i.Review != nil || was != nil) {
		return Changed{}, conflict("Somebody else reviewed it meanwhile. Read that first; what you wrote is still here.")
	}
	if !slices.Contains(Classes, class) {
		return Changed{}, definition.Faultf("class", "%q is none; take one of %s", class, strings.Join(Classes, ", "))
	}
	cause, err := written("cause", cause, MostText)
	if err != nil {
		return Changed{}, err
	}
	if strings.TrimSpace(action) != "" {
		if action, err = written("action", action, MostText); err != nil {
			return Changed{}, err
		}
	}
	i.Review = &Review{person, now, class, cause, action}
	return i.with(Event{Kind: ReviewedOnce, At: now, Person: person, Text: cause, Other: class}), nil
}

// Link adds a web address.
func (i Incident) Link(person string, now span.Instant, address, title string) (Changed, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || len(address) > 2000 {
		return Changed{}, definition.Faultf("address", "is no web address; write it as https://…")
	}
	if title != "" {
		if title, err = written("title", title, MostShort); err != nil {
			return Changed{}, err
		}
	}
	return i.with(Event{Kind: Linked, At: now, Person: person, Other: address, Text: title}), nil
}

// Under puts it under another one as its cause, by a person's decision: the group leaves
// it there. root is what the other one stands under itself, or the other one.
func (i Incident) Under(person string, now span.Instant, root Incident) (Changed, error) {
	if root.ID == i.ID {
		return Changed{}, definition.Faultf("cause", "an incident cannot follow itself, nor one that follows it; take another")
	}
	i.Cause, i.CauseBy = root.ID, person
	return i.with(Event{Kind: Followed, At: now, Person: person, Cause: root.ID}), nil
}

// Apart takes it out from under its cause, by a person's decision: it stays apart.
func (i Incident) Apart(person string, now span.Instant) (Changed, error) {
	if i.Cause == 0 {
		return Changed{}, conflict("It stands by itself already.")
	}
	i.Cause, i.CauseBy = 0, person
	return i.with(Event{Kind: Freed, At: now, Person: person}), nil
}

func (i Incident) with(e Event) Changed { return Changed{Incident: i, Events: []Event{e}} }

// written is a text that a person wrote, without what cannot be shown.
func written(path, text string, most int) (string, error) {
	text = strings.TrimSpace(text)
	switch n := utf8.RuneCountInString(text); {
	case n == 0:
		return "", definition.Faultf(path, "is missing; write something")
	case n > most:
		return "", definition.Faultf(path, "has %d characters; %d is the most", n, most)
	case !utf8.ValidString(text):
		return "", definition.Faultf(path, "is no text: it holds bytes that are no characters")
	case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7f }):
		return "", definition.Faultf(path, "holds control characters; take them out")
	}
	return text, nil
}
