package report

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/span"
)

// causeWord is what people call the cause of an adjustment.
func causeWord(cause string) string {
	if slices.Contains(causes, cause) {
		return label("cause." + cause)
	}
	return cause
}

var causes = []string{"force-majeure", "customer", "third-party", "measurement", "other"}

// AdjustmentWords are the adjustments of an account as sentences, with who proposed and
// approved each, and their time summed by cause; none where there are none.
func AdjustmentWords(c Content, loc *time.Location) []string {
	var out []string
	at := func(i span.Instant) string { return stamp(i, loc, "2 Jan 2006 15:04:05") }
	for _, a := range c.Adjustments {
		text := label("adjustment", at(a.From), at(a.To), a.Class, length(a.MS).Text, a.Reason, causeWord(a.Cause))
		if a.Reference != "" {
			text += label("adjustment.reference", a.Reference)
		}
		text += label("adjustment.people", a.ProposedBy, a.ApprovedBy)
		if a.ApprovedAt != nil {
			text += label("adjustment.on", at(*a.ApprovedAt))
		}
		out = append(out, text+")")
	}
	if len(c.Adjustments) > 1 {
		text, sums := label("adjustments.together"), c.causes()
		for _, cause := range causes {
			if ms := sums[cause]; ms > 0 {
				text += fmt.Sprintf(" %s %s,", causeWord(cause), length(ms).Text)
			}
		}
		out = append(out, text[:len(text)-1]+".")
	}
	return out
}

// causes is how much of the agreed time adjustments decide, ms, by cause: where two overlap
// the later one in the list does, and the time counts once.
func (c Content) causes() map[string]int64 {
	out := map[string]int64{}
	var agreed span.Set
	for _, i := range c.Account.Intervals {
		if i.Class != account.Outside {
			agreed = append(agreed, span.Span{From: i.From, To: i.To})
		}
	}
	for _, a := range slices.Backward(c.Adjustments) {
		own := span.Set{{From: a.From, To: a.To}}
		out[a.Cause] += agreed.Intersect(own).Length()
		agreed = agreed.Without(own)
	}
	return out
}

// FrozenWords says who froze an account and when; empty where nobody did.
func FrozenWords(c Content, loc *time.Location) string {
	if c.Frozen == nil {
		return ""
	}
	return label("frozen", c.Frozen.Name, c.Frozen.At.Time().In(loc).Format("2 Jan 2006 15:04:05 MST"))
}

// StandingWords say who lets a schedule publish a report; empty where people published it.
func StandingWords(c Content, loc *time.Location) string {
	if c.Standing == nil {
		return ""
	}
	return label("report.standing", c.Standing.Name, c.Standing.At.Time().In(loc).Format("2 January 2006"))
}

// leadWords are the sentences below the verdict.
func leadWords(c Content, loc *time.Location) []string {
	a := c.Account
	allowed, used, left := span.Balance(a.AllowanceMS, a.DowntimeMS)
	out := []string{label("verdict.lead", allowed, used, left, or(a.AvailabilityLowPercent),
		or(a.AvailabilityHighPercent), a.CoveragePercent)}
	for _, words := range []string{CreditWords(c), FrozenWords(c, loc), StandingWords(c, loc)} {
		if words != "" {
			out = append(out, words)
		}
	}
	return out
}

// VerdictSentence says the outcome in one sentence.
func VerdictSentence(c Content) string {
	switch c.Account.Verdict {
	case account.Met:
		return label("verdict.met", c.Target, or(c.Account.AvailabilityPercent))
	case account.Missed:
		return label("verdict.missed", c.Target, or(c.Account.AvailabilityPercent))
	case account.Insufficient:
		return label("verdict.insufficient", c.Target, c.Account.CoveragePercent)
	}
	return label("verdict.none")
}

func or(s *string) string {
	if s == nil {
		return "–"
	}
	return *s
}
