package account

import (
	"fmt"
	"math/big"
	"sort"

	"kestite/core/span"
)

// Turn is how much time of another class would have turned a verdict into another one.
type Turn struct {
	MS int64   `json:"ms"`
	To Verdict `json:"to" enum:"met,missed,insufficient,not-applicable"`
}

// Near is how near the verdict of a final account was to another one. It is exact in time
// of classes, ms: what of it a least outage would have tolerated, or a clause excused, is
// not asked.
type Near struct {
	// Down turns a verdict of met by time that was up and would have been down; nil: none would.
	Down *Turn `json:"down,omitempty"`
	// Unmeasured turns one of met by time that was up and would not have been measured.
	Unmeasured *Turn `json:"unmeasured,omitempty"`
	// Up turns one of missed by downtime that would have been up, and one of insufficient
	// by unmeasured time that would have been.
	Up *Turn `json:"up,omitempty"`
}

// Near says how near the verdict was to another one; nil where the account is not final.
func (a *Account) Near() *Near {
	if !a.Final {
		return nil
	}
	t := a.TotalMS
	total := [classes]int64{Outside: t.Outside, Up: t.Up, Degraded: t.Degraded, Down: t.Down, Tolerated: t.Tolerated,
		Maintenance: t.Maintenance,
		Upstream:    t.Upstream, Excused: t.Excused, Unmeasured: t.Unmeasured}
	turn := func(from, to Class) *Turn { return a.Clauses.turn(total, from, to, a.Verdict) }
	switch a.Verdict {
	case Met:
		return &Near{Down: turn(Up, Down), Unmeasured: turn(Up, Unmeasured)}
	case Missed:
		return &Near{Up: turn(Down, Up)}
	case Insufficient:
		return &Near{Up: turn(Unmeasured, Up)}
	}
	return &Near{}
}

// turn is the least time of a class that would turn a verdict if it were of another one:
// the more of it there is, the further the verdict goes that way.
func (c *Clauses) turn(total [classes]int64, from, to Class, was Verdict) *Turn {
	with := func(ms int64) Verdict {
		moved := total
		moved[from] -= ms
		moved[to] += ms
		e := c.exact(moved)
		return c.verdict(e, coverage(moved), new(big.Rat).Sub(e.Allowance, e.Downtime))
	}
	most := total[from]
	if most <= 0 || with(most) == was {
		return nil
	}
	ms := int64(sort.Search(int(most), func(n int) bool { return with(int64(n)+1) != was })) + 1
	return &Turn{ms, with(ms)}
}

// coverage is the share of what could be measured that was, percent.
func coverage(total [classes]int64) *big.Rat {
	measurable := -total[Maintenance] - total[Upstream] - total[Excused]
	for class, ms := range total {
		if Class(class) != Outside {
			measurable += ms
		}
	}
	if measurable <= 0 {
		return new(big.Rat).Set(hundred)
	}
	return new(big.Rat).Mul(hundred, ratio(measurable-total[Unmeasured], measurable))
}

// worthSaying is how many times as long unmeasured time may be as the downtime that would
// turn a verdict, and still is said beside it.
const worthSaying = 10

// Words say how near it was, in a sentence; empty where there is nothing to say.
func (n *Near) Words() string {
	if n == nil {
		return ""
	}
	turns := map[Verdict]string{Missed: "miss it", Insufficient: "leave too little measured", NotApplicable: "leave nothing to account"}
	say := func(t *Turn, what string) string {
		return fmt.Sprintf("%s more %s would %s", span.WordsUp(t.MS), what, turns[t.To])
	}
	switch {
	case n.Up != nil && n.Up.To == Met:
		return "It would have been met with " + span.WordsUp(n.Up.MS) + " less downtime."
	case n.Up != nil:
		return "With " + span.WordsUp(n.Up.MS) + " more measured there would be a verdict."
	case n.Down != nil && n.Unmeasured != nil && n.Unmeasured.MS <= worthSaying*n.Down.MS:
		return say(n.Down, "downtime") + ", " + say(n.Unmeasured, "unmeasured time") + "."
	case n.Down != nil:
		return say(n.Down, "downtime") + "."
	case n.Unmeasured != nil:
		return say(n.Unmeasured, "unmeasured time") + "."
	}
	return ""
}
