package account

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"testing"

	"kestite/core/definition"
)

// How near a verdict was is what adding millisecond after millisecond finds, under random
// clauses and times; one millisecond less leaves it as it was.
func TestHowNearAgainstBruteForce(t *testing.T) {
	seen := map[string]int{}
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 17))
		a := definition.Agreement{TargetPercent: definition.Percent([]string{"99.9", "99", "95", "90", "50", "100", "0"}[r.IntN(7)]),
			DegradedWeightPercent: definition.Percent([]string{"0", "50", "100"}[r.IntN(3)]), MinCoveragePercent: definition.Percent([]string{"0", "80", "99"}[r.IntN(3)]),
			Unmeasured: []string{"exclude", "down", "up"}[r.IntN(3)]}
		a.Maintenance.Mode = []string{"ignore", "exclude", "forgive"}[r.IntN(3)]
		c := &Clauses{Agreement: a, Final: true}
		var total [classes]int64
		for class := range total {
			if r.IntN(3) == 0 {
				total[class] = r.Int64N(60)
			}
		}
		total[Up] += r.Int64N(400)
		judged := func(total [classes]int64) Verdict {
			e := c.exact(total)
			return c.verdict(e, coverage(total), new(big.Rat).Sub(e.Allowance, e.Downtime))
		}
		was := judged(total)
		out := &Account{Final: true, Verdict: was, Clauses: c, TotalMS: Totals{Outside: total[Outside], Up: total[Up],
			Degraded: total[Degraded], Down: total[Down], Tolerated: total[Tolerated], Maintenance: total[Maintenance],
			Upstream: total[Upstream], Excused: total[Excused], Unmeasured: total[Unmeasured]}}
		near := out.Near()
		brute := func(from, to Class) string {
			moved := total
			for n := int64(1); moved[from] > 0; n++ {
				moved[from]--
				moved[to]++
				if v := judged(moved); v != was {
					return fmt.Sprint(n, " ", v)
				}
			}
			return "never"
		}
		said := func(turn *Turn) string {
			if turn == nil {
				return "never"
			}
			return fmt.Sprint(turn.MS, " ", turn.To)
		}
		check := func(what string, turn *Turn, from, to Class) {
			t.Helper()
			if got, want := said(turn), brute(from, to); got != want {
				t.Errorf("seed %d, %s, %s: %s, and adding finds %s", seed, was, what, got, want)
			}
			if turn != nil {
				seen[fmt.Sprint(was, " ", what, " ", turn.To)]++
			}
		}
		switch was {
		case Met:
			check("down", near.Down, Up, Down)
			check("unmeasured", near.Unmeasured, Up, Unmeasured)
		case Missed:
			check("up", near.Up, Down, Up)
		case Insufficient:
			check("up", near.Up, Unmeasured, Up)
		}
	}
	for _, want := range []string{"met down missed", "met unmeasured missed", "met unmeasured insufficient", "missed up met", "insufficient up met", "insufficient up missed"} {
		if seen[want] < 10 {
			t.Errorf("%s was seen %d times, too few to prove anything: %v", want, seen[want], seen)
		}
	}
}

func TestHowNearInWords(t *testing.T) {
	for _, c := range []struct {
		near *Near
		want string
	}{
		{nil, ""}, {&Near{}, ""},
		{&Near{Down: &Turn{41_001, Missed}}, "42 s more downtime would miss it."},
		{&Near{Down: &Turn{41_000, Missed}, Unmeasured: &Turn{300_000, Insufficient}}, "41 s more downtime would miss it, 5 min more unmeasured time would leave too little measured."},
		{&Near{Down: &Turn{41_000, Missed}, Unmeasured: &Turn{3_600_000, Insufficient}}, "41 s more downtime would miss it."},
		{&Near{Unmeasured: &Turn{3_600_000, Insufficient}}, "1 h more unmeasured time would leave too little measured."},
		{&Near{Up: &Turn{500, Met}}, "It would have been met with 500 ms less downtime."},
		{&Near{Up: &Turn{60_000, Missed}}, "With 1 min more measured there would be a verdict."},
	} {
		if got := c.near.Words(); got != c.want {
			t.Errorf("%+v: %q, want %q", c.near, got, c.want)
		}
	}
	if (&Account{}).Near() != nil {
		t.Error("of an account that is not final it is said how near it was")
	}
}

// The highest target that periods would have met is met by each of them, and one more
// in the last decimal by one less.
func TestWhatCouldBePromised(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 23))
		var list []*Account
		n := r.IntN(14)
		for range n {
			base := 1 + r.Int64N(100_000)
			a := &Account{Final: r.IntN(8) > 0, Verdict: []Verdict{Met, Missed, Insufficient, NotApplicable}[min(r.IntN(8), 3)]}
			if r.IntN(10) > 0 {
				a.Exact.Availability = big.NewRat(100*r.Int64N(base+1), base)
				a.AvailabilityLowPercent = shown(new(big.Rat).Mul(a.Exact.Availability, big.NewRat(r.Int64N(11), 10)))
			}
			list = append(list, a)
		}
		got := CouldPromise(list)
		met := func(target *big.Rat) (n int) {
			for _, a := range list {
				if a.Final && a.Exact.Availability != nil && (a.Verdict == Met || a.Verdict == Missed) && a.Exact.Availability.Cmp(target) >= 0 {
					n++
				}
			}
			return n
		}
		if (got.Always == nil) != (got.Periods == 0) || (got.ButOne == nil) != (got.Periods < 2) {
			t.Fatalf("seed %d: of %d periods %v and %v", seed, got.Periods, got.Always, got.ButOne)
		}
		for missing, text := range []*string{got.Always, got.ButOne} {
			if text == nil {
				continue
			}
			target, _ := new(big.Rat).SetString(*text)
			more := new(big.Rat).Add(target, big.NewRat(1, 10_000))
			if met(target) < got.Periods-missing || more.Cmp(hundred) <= 0 && met(more) >= got.Periods-missing {
				t.Errorf("seed %d: %s was met in %d of %d, and a little more in %d", seed, *text, met(target), got.Periods, met(more))
			}
		}
		if got.AlwaysLow != nil {
			low, _ := new(big.Rat).SetString(*got.AlwaysLow)
			always, _ := new(big.Rat).SetString(*got.Always)
			if low.Cmp(always) > 0 {
				t.Errorf("seed %d: the lower bound %s is above %s", seed, *got.AlwaysLow, *got.Always)
			}
		}
	}
}
