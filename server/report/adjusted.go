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
	sums := map[string]int64{}
	at := func(i span.Instant) string { return i.Time().In(loc).Format("2 Jan 2006 15:04:05 MST") }
	for _, a := range c.Adjustments {
		text := label("adjustment", at(a.From), at(a.To), a.Class, span.Words(a.MS), a.Reason, causeWord(a.Cause))
		if a.Reference != "" {
			text += label("adjustment.reference", a.Reference)
		}
		text += label("adjustment.people", a.ProposedBy, a.ApprovedBy)
		if a.ApprovedAt != nil {
			text += label("adjustment.on", at(*a.ApprovedAt))
		}
		out = append(out, text+")")
		sums[a.Cause] += a.MS
	}
	if len(c.Adjustments) > 1 {
		text := label("adjustments.together")
		for _, cause := range causes {
			if ms := sums[cause]; ms > 0 {
				text += fmt.Sprintf(" %s %s,", causeWord(cause), span.Words(ms))
			}
		}
		out = append(out, text[:len(text)-1]+".")
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
	out := []string{label("verdict.lead", span.Words(a.AllowanceMS), span.WordsUp(a.DowntimeMS), span.Words(a.AllowanceLeftMS), or(a.AvailabilityLowPercent),
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
