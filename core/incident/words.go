package incident

import (
	"fmt"
	"strings"

	"kestite/core/span"
	"kestite/core/verdict"
)

// Headline says an incident in words, as of an instant: what has been how for how long,
// and what follows from it. name is what its subject is called, of a check with its
// service; follow are what those are called that follow it.
func (i Incident) Headline(name string, follow []string, now span.Instant) string {
	lasted := span.WordsUp(i.Lasted(now).Length())
	out := ""
	switch over := i.EndedAt != nil; {
	case i.Unfounded:
		return name + " seemed to be in trouble; it was not."
	case i.About == Agreement && !over:
		out = fmt.Sprintf("The allowance of %s has needed somebody for %s.", name, lasted)
	case i.About == Agreement:
		out = fmt.Sprintf("The allowance of %s needed somebody for %s.", name, lasted)
	case i.About == Location && i.Worst == verdict.Degraded && !over:
		out = fmt.Sprintf("%s has not delivered all of its measurements for %s.", name, lasted)
	case i.About == Location && i.Worst == verdict.Degraded:
		out = fmt.Sprintf("%s did not deliver all of its measurements for %s.", name, lasted)
	case i.About == Location && !over:
		out = fmt.Sprintf("Nothing has come from %s for %s.", name, lasted)
	case i.About == Location:
		out = fmt.Sprintf("Nothing came from %s for %s.", name, lasted)
	case over:
		out = fmt.Sprintf("%s was %s for %s.", name, i.Worst, lasted)
	case i.State == verdict.Unmeasured:
		out = fmt.Sprintf("%s was %s; it cannot be measured now.", name, i.Worst)
	default:
		out = fmt.Sprintf("%s has been %s for %s.", name, i.State, lasted)
	}
	if i.Times > 1 {
		out = strings.TrimSuffix(out, ".") + fmt.Sprintf(", with breaks: it began %d times.", i.Times)
	}
	const most = 3
	switch n := len(follow); {
	case n == 1:
		out += " " + follow[0] + " follows from it."
	case n > most:
		out += fmt.Sprintf(" %s and %d more follow from it.", strings.Join(follow[:most-1], ", "), n-most+1)
	case n > 1:
		out += " " + strings.Join(follow[:n-1], ", ") + " and " + follow[n-1] + " follow from it."
	}
	return out
}

// Words say an event as a line of the timeline. who did it and other, a person that it
// was given to or the incident that it follows, are what those are called; it says
// instants as when does.
func (e Event) Words(who, other string, when func(span.Instant) string) string {
	until := ""
	if e.To != nil {
		until = " until " + when(*e.To)
	}
	switch e.Kind {
	case Opened:
		return "Opened: " + e.Text
	case Reopened:
		if who != "" {
			return who + " opened it again"
		}
		return "Again: " + e.Text
	case Ended:
		return "Its trouble is over"
	case ResolvedByItself:
		switch e.Text {
		case "retired":
			return "Resolved: what it is about was retired"
		case "policy":
			return "Resolved: that opens no incident any more"
		}
		return "Resolved by itself"
	case ResolvedByHand:
		return said(who+" resolved it", e.Text)
	case NoTrouble:
		return "Later measurements or definitions show that there was no trouble"
	case Founded:
		return "Later measurements or definitions show that there was trouble all the same"
	case Moved:
		return "Later measurements show that it began at another time:" + strings.TrimPrefix(until, " until")
	case Raised:
		if who == "" {
			return "Severity: " + e.Text
		}
		return who + " set the severity to " + e.Text
	case Followed:
		if who != "" {
			return who + " put it under " + other
		}
		return "It follows from " + other
	case Freed:
		if who != "" {
			return who + " took it out from under its cause"
		}
		return "It stands by itself again"
	case Acked:
		return who + " acknowledged it" + until
	case Released:
		return who + " took the acknowledgement back"
	case Noted:
		return said(who, e.Text)
	case Assigned:
		if other == "" {
			return who + " gave it to nobody"
		}
		return who + " gave it to " + other
	case Linked:
		return said(who+" added a link", e.Text)
	case Attached:
		return who + " attached " + e.Other
	case ReviewedOnce:
		return said(who+" reviewed it", e.Other+"; "+e.Text)
	case Looked:
		at := "as it was believed"
		if e.Text == "recovery" {
			at = "as it was over"
		}
		if e.Other == "0" {
			return "No evidence was taken " + at + ": too much failed at once"
		}
		return "Evidence asked for " + at + ": " + e.Other + " measurements"
	}
	return e.Kind
}

func said(who, text string) string {
	if text == "" {
		return who
	}
	return who + ": " + text
}

// Exhausted is when an allowance ends if all of the service hours from an instant on
// count against it; false where it lasts beyond them.
func Exhausted(hours span.Set, from span.Instant, left int64) (span.Instant, bool) {
	if left <= 0 {
		return from, true
	}
	for _, s := range hours {
		s.From = max(s.From, from)
		if s.To <= s.From {
			continue
		}
		if n := s.Length(); left > n {
			left -= n
			continue
		}
		return s.From.Add(left), true
	}
	return 0, false
}
