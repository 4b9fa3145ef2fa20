package clauses

import (
	"fmt"
	"math/big"

	"kestite/core/definition"
)

// Doubts say what of an agreement is likely to surprise one of its two sides. None of it is
// forbidden.
func Doubts(a definition.AgreementSpec) []string {
	var out []string
	target := a.TargetPercent.Rat()
	hundred := big.NewRat(100, 1)
	if target.Cmp(hundred) == 0 {
		out = append(out, "A target of 100 % allows nothing: one confirmed failure misses it.")
	}
	if m := a.Maintenance; m != nil && m.Mode != definition.MaintenanceIgnore && m.NoticeS == 0 {
		if m.CapS != nil {
			out = append(out, "Planned work is granted without notice: an outage that somebody announces as it begins is granted too, up to the cap.")
		} else {
			out = append(out, "Planned work is granted without notice and without a cap: an outage that somebody announces as it begins is granted, however long it is.")
		}
	}
	if a.Unmeasured != definition.UnmeasuredDown && a.MinCoveragePercent.Rat().Sign() == 0 {
		out = append(out, "Time that was not measured costs nothing and no coverage is asked for: a period that was hardly measured can be met.")
	}
	best := new(big.Rat)
	for _, c := range a.Credits {
		if c.BelowPercent.Rat().Cmp(target) > 0 {
			out = append(out, fmt.Sprintf("The credit of %s %% below %s %% lies above the target: it is owed below %s %% alone, where the target is missed.", c.CreditPercent, c.BelowPercent, a.TargetPercent))
		}
		if best.Cmp(c.BelowPercent.Rat()) < 0 {
			best = c.BelowPercent.Rat()
		}
	}
	switch {
	case len(a.Credits) > 0 && best.Cmp(target) < 0:
		out = append(out, fmt.Sprintf("Between %s %% and %s %% the target is missed, and no credit is owed.", trimmedPercent(best), a.TargetPercent))
	case len(a.Credits) == 0 && a.Fee != nil:
		out = append(out, "There is a fee and no credit: to miss the target costs nothing.")
	}
	if len(a.Credits) > 0 && a.Fee == nil {
		out = append(out, "Credits are percentages of a fee, and no fee is written down: what is owed has no amount.")
	}
	return out
}

// trimmedPercent writes an exact percentage, as far as six decimals go.
func trimmedPercent(r *big.Rat) string {
	f, _ := r.Float64()
	return trimmed(f)
}
