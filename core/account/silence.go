package account

import (
	"math/big"

	"kestite/core/span"
)

// CoverageLost says, of a period that is not over, that too little of it was measured
// already: even if all that is to come is measured, its coverage stays below the agreement's
// clause, and it ends without a verdict.
func (a *Account) CoverageLost() bool {
	c := a.Clauses
	if a.Final || c == nil {
		return false
	}
	t := a.TotalMS
	left := span.Set{c.rest()}.Intersect(c.Hours).Without(c.Granted).Length()
	measurable := t.Agreed - t.Maintenance - t.Upstream - t.Excused + left
	if measurable <= 0 {
		return false
	}
	best := new(big.Rat).Mul(hundred, ratio(measurable-t.Unmeasured, measurable))
	return best.Cmp(c.Agreement.MinCoveragePercent.Rat()) < 0
}
