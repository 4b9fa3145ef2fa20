package report

import (
	"fmt"
	"time"

	"kestite/core/span"
)

// causeWords are what people call the causes of adjustments.
var causeWords = map[string]string{
	"force-majeure": "force majeure", "customer": "the customer", "third-party": "a third party", "measurement": "our measuring", "other": "something else",
}

// AdjustmentWords are the adjustments of an account as sentences, with who proposed and
// approved each, and their time summed by cause; none where there are none.
func AdjustmentWords(c Content, loc *time.Location) []string {
	var out []string
	sums := map[string]int64{}
	at := func(i span.Instant) string { return i.Time().In(loc).Format("2 Jan 2006 15:04:05 MST") }
	for _, a := range c.Adjustments {
		text := fmt.Sprintf("%s to %s counts as %s, %s of service hours: %s", at(a.From), at(a.To), a.Class, span.Words(a.MS), a.Reason)
		text += fmt.Sprintf(" (cause: %s", causeWords[a.Cause])
		if a.Reference != "" {
			text += "; reference: " + a.Reference
		}
		text += fmt.Sprintf("; proposed by %s, approved by %s", a.ProposedBy, a.ApprovedBy)
		if a.ApprovedAt != nil {
			text += " on " + at(*a.ApprovedAt)
		}
		out = append(out, text+")")
		sums[a.Cause] += a.MS
	}
	if len(c.Adjustments) > 1 {
		text := "Together, by cause:"
		for _, cause := range []string{"force-majeure", "customer", "third-party", "measurement", "other"} {
			if ms := sums[cause]; ms > 0 {
				text += fmt.Sprintf(" %s %s,", causeWords[cause], span.Words(ms))
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
	return fmt.Sprintf("The account was closed and frozen by %s on %s.", c.Frozen.Name, c.Frozen.At.Time().In(loc).Format("2 Jan 2006 15:04:05 MST"))
}
