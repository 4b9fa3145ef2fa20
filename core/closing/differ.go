package closing

import (
	"fmt"
	"math/big"

	"kestite/core/account"
	"kestite/core/span"
)

// Difference is how an account of today differs from one that was frozen or published.
type Difference struct {
	Same   bool
	Turned bool     // the verdict is another
	Words  []string // what differs, as sentences; empty where nothing does
}

// Differ compares a kept account with the one that the same period has today.
func Differ(kept, today *account.Account) Difference {
	return differ(kept, today, "is", "today", "was")
}

// Change compares an account with what it would become.
func Change(now, then *account.Account) Difference {
	return differ(now, then, "would be", "then", "is")
}

// differ compares two accounts; is and when are how the second is spoken of, was the first.
func differ(kept, today *account.Account, is, when, was string) Difference {
	d := Difference{Turned: kept.Verdict != today.Verdict}
	say := func(format string, args ...any) { d.Words = append(d.Words, fmt.Sprintf(format, args...)) }
	if d.Turned {
		say("The verdict %s %s %s; it %s %s.", is, today.Verdict, when, was, kept.Verdict)
	}
	switch before, after := kept.AvailabilityPercent, today.AvailabilityPercent; {
	case before == nil && after == nil:
	case before == nil || after == nil:
		say("The availability %s %s %s; it %s %s.", is, percent(after), when, was, percent(before))
	case *before != *after:
		say("The availability %s %s points %s %s: %s %% instead of %s %%.", is, points(*before, *after), lower(*before, *after), when, *after, *before)
	}
	for _, t := range []struct {
		name          string
		before, after int64
	}{
		{"The downtime", kept.DowntimeMS, today.DowntimeMS},
		{"The time that was not measured", kept.TotalMS.Unmeasured, today.TotalMS.Unmeasured},
		{"The granted maintenance", kept.TotalMS.Maintenance, today.TotalMS.Maintenance},
		{"The excused time", kept.TotalMS.Excused + kept.TotalMS.Upstream, today.TotalMS.Excused + today.TotalMS.Upstream},
	} {
		if t.before != t.after {
			more := "less"
			if t.after > t.before {
				more = "more"
			}
			say("%s %s %s %s %s.", t.name, is, span.Words(max(t.after-t.before, t.before-t.after)), more, when)
		}
	}
	if kept.CreditPercent != today.CreditPercent {
		say("The credit %s %s %% %s; it %s %s %%.", is, today.CreditPercent, when, was, kept.CreditPercent)
	}
	if len(d.Words) == 0 && !sameIntervals(kept.Intervals, today.Intervals) {
		say("Its times lie otherwise %s, and add up to the same.", when)
	}
	d.Same = len(d.Words) == 0
	return d
}

func sameIntervals(a, b []account.Interval) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

func percent(p *string) string {
	if p == nil {
		return "none"
	}
	return *p + " %"
}

// points is the distance of two percentages.
func points(a, b string) string {
	x, _ := new(big.Rat).SetString(a)
	y, _ := new(big.Rat).SetString(b)
	if x == nil || y == nil {
		return "?"
	}
	d := x.Sub(x, y)
	return d.Abs(d).FloatString(4)
}

func lower(was, is string) string {
	x, _ := new(big.Rat).SetString(was)
	y, _ := new(big.Rat).SetString(is)
	if x != nil && y != nil && y.Cmp(x) > 0 {
		return "higher"
	}
	return "lower"
}
