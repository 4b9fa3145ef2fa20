package topology

import (
	"fmt"
	"maps"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
)

// network compiles services given as "portal: 1 of a b, 2 of c d e"; those that
// only occur on the right have a deciding check.
func network(t testing.TB, lines ...string) *definition.Compiled {
	t.Helper()
	b := definition.Bundle{Format: definition.Format, Period: definition.Period{Timezone: "UTC", Start: "2026-03-01T00:00:00", End: "2026-04-01T00:00:00"}}
	known := map[string]bool{}
	for _, line := range lines {
		id, groups, _ := strings.Cut(line, ": ")
		s := definition.Service{ID: id, Kind: "business", Combine: "worst"}
		for _, g := range strings.Split(groups, ", ") {
			need, members, _ := strings.Cut(g, " of ")
			var group definition.Group
			fmt.Sscan(need, &group.Need)
			group.Services = strings.Fields(members)
			s.DependsOn = append(s.DependsOn, group)
		}
		known[id] = true
		b.Services = append(b.Services, s)
	}
	for _, s := range b.Services {
		for _, g := range s.DependsOn {
			for _, m := range g.Services {
				if !known[m] {
					known[m] = true
					b.Services = append(b.Services, definition.Service{ID: m, Kind: "supporting", Combine: "worst", Checks: []definition.Check{{
						ID: "check-" + m, Kind: "ping", IntervalS: 60, StaleAfterS: 150, Confirm: 1, Recover: 1, Role: "decides", Locations: []string{"tolvik"},
					}}})
				}
			}
		}
	}
	c, err := definition.Compile(b)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func own(of map[string]float64) (func(string) bool, func(string) float64) {
	return func(id string) bool { _, has := of[id]; return has }, func(id string) float64 { return of[id] }
}

// available is the availability of p at the end of the bundle's period.
func available(t testing.TB, c *definition.Compiled, of map[string]float64) float64 {
	t.Helper()
	has, value := own(of)
	f, err := ModelOf(c, "p", c.Span.To-1).Over(has)
	if err != nil {
		t.Fatal(err)
	}
	return f.Availability(value)
}

func TestModelled(t *testing.T) {
	for _, x := range []struct {
		lines []string
		own   map[string]float64
		want  float64
	}{
		{[]string{"p: 1 of a"}, map[string]float64{"a": 0.9}, 0.9},
		{[]string{"p: 0 of a b"}, map[string]float64{"a": 0.9, "b": 0.8}, 0.72},                                          // series
		{[]string{"p: 1 of a b"}, map[string]float64{"a": 0.9, "b": 0.8}, 0.98},                                          // one of two
		{[]string{"p: 2 of a b c"}, map[string]float64{"a": 0.9, "b": 0.9, "c": 0.9}, 0.972},                             // 3·0.81·0.1 + 0.729
		{[]string{"p: 1 of a, 1 of b c"}, map[string]float64{"a": 0.9, "b": 0.5, "c": 0.5}, 0.675},                       // groups in series
		{[]string{"p: 1 of q r", "q: 0 of a s", "r: 0 of b s"}, map[string]float64{"a": 0.5, "b": 0.5, "s": 0.9}, 0.675}, // s shared: 0.9·0.75
		{[]string{"p: 0 of q r", "q: 1 of a s", "r: 1 of a s"}, map[string]float64{"a": 0.5, "s": 0.5}, 0.75},            // twice the same
		{[]string{"p: 1 of q", "q: 1 of a"}, map[string]float64{"q": 0.6, "a": 0.9}, 0.6},                                // q fails by itself too
		{[]string{"p: 1 of q", "q: 1 of a"}, map[string]float64{"q": 0.9, "a": 0.6}, 0.6},                                // and with what it needs
		// Two, each with a need that both share: 0.9 · (1 − (1 − 0.81/0.9)²).
		{[]string{"p: 1 of q r", "q: 1 of n", "r: 1 of n"}, map[string]float64{"q": 0.81, "r": 0.81, "n": 0.9}, 0.891},
		// What was measured of it bounds what follows from what it needs, and the other way round.
		{[]string{"p: 1 of a"}, map[string]float64{"a": 0.9, "p": 0.7}, 0.7},
		{[]string{"p: 1 of a"}, map[string]float64{"a": 0.7, "p": 0.9}, 0.7},
		{[]string{"p: 1 of a"}, map[string]float64{"a": 0, "p": 0.9}, 0},
		{[]string{"p: 1 of q", "q: 0 of a b"}, map[string]float64{"q": 0.8, "a": 0.9}, 0.8}, // b is in q
	} {
		if got := available(t, network(t, x.lines...), x.own); math.Abs(got-x.want) > 1e-12 {
			t.Errorf("%v: %v, not %v", x.lines, got, x.want)
		}
	}
}

// A farm behind one network cannot be promised better than the network.
func TestAFarmIsNoBetterThanWhatItShares(t *testing.T) {
	lines, of := []string{"p: 2 of g1 g2 g3"}, map[string]float64{"n": 0.999}
	for _, g := range []string{"g1", "g2", "g3"} {
		lines = append(lines, g+": 1 of n")
		of[g] = 0.999
	}
	if got := BestTarget(available(t, network(t, lines...), of)); got != "99.9000" {
		t.Errorf("%s, as promised of its network", got)
	}
}

// Random graphs with needs that are shared at every depth agree with trying all states of
// all parts.
func TestModelledAgreesWithTryingEverything(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	shared := 0
	for range 300 {
		all := []string{"a", "b", "c", "d"}
		of := map[string]float64{}
		for _, l := range all {
			of[l] = r.Float64()
		}
		var lines []string
		for depth, id := range []string{"w", "v", "u", "t", "s", "p"} { // each may need all before it
			var groups []string
			for range 1 + r.IntN(2) {
				n := 1 + r.IntN(3)
				distinct := map[string]bool{}
				for range n {
					distinct[all[r.IntN(len(all))]] = true
				}
				members := slices.Sorted(maps.Keys(distinct))
				groups = append(groups, fmt.Sprintf("%d of %s", r.IntN(len(distinct)+1), strings.Join(members, " ")))
			}
			lines = append(lines, id+": "+strings.Join(groups, ", "))
			if depth < 5 && r.IntN(2) == 0 || r.IntN(4) == 0 {
				of[id] = r.Float64()
			}
			all = append(all, id)
		}
		c := network(t, lines...)
		for _, l := range all { // what nobody needs is in no graph
			if c.Services[l] == nil {
				delete(of, l)
			}
		}
		m := ModelOf(c, "p", c.Span.To-1)
		for _, by := range m.needers {
			if len(by) > 1 {
				shared++
			}
		}
		if got, want := available(t, c, of), tried(c, of, m.order); math.Abs(got-want) > 1e-9 {
			t.Fatalf("%v %v: %v, not %v", lines, of, got, want)
		}
	}
	if shared < 500 {
		t.Errorf("only %d shared needs in 300 graphs", shared)
	}
}

// tried is the availability of the last by trying all states of all parts: the services in
// order, each behind those that it needs.
func tried(c *definition.Compiled, of map[string]float64, order []string) float64 {
	chance := map[string]float64{} // of an own part
	sum := func(until int, id func(up map[string]bool) bool) (p float64) {
		var parts []string
		for _, o := range order[:until] {
			if _, has := chance[o]; has {
				parts = append(parts, o)
			}
		}
		for bits := range 1 << len(parts) {
			q, ok, up := 1.0, map[string]bool{}, map[string]bool{}
			for n, part := range parts {
				if ok[part] = bits>>n&1 == 1; ok[part] {
					q *= chance[part]
				} else {
					q *= 1 - chance[part]
				}
			}
			for _, o := range order[:until] {
				_, has := chance[o]
				up[o] = (!has || ok[o]) && served(c, o, up)
			}
			if id(up) {
				p += q
			}
		}
		return p
	}
	for n, id := range order {
		if a, has := of[id]; has {
			needs := sum(n, func(up map[string]bool) bool { return served(c, id, up) })
			if chance[id] = 1; needs > a {
				chance[id] = a / needs
			}
		}
	}
	return sum(len(order), func(up map[string]bool) bool { return up[order[len(order)-1]] })
}

// served says whether enough of each group of a service is up.
func served(c *definition.Compiled, id string, up map[string]bool) bool {
	for _, g := range c.Services[id][0].DependsOn {
		n := 0
		for _, m := range g.Members() {
			if up[m] {
				n++
			}
		}
		if need := int(g.Need); need == 0 && n < len(g.Members()) || n < need {
			return false
		}
	}
	return true
}

func TestWhatIsMissing(t *testing.T) {
	for _, x := range []struct {
		lines, has, parts, missing string
	}{
		{"p: 0 of a b", "", "a b", "a b"},
		{"p: 0 of a b", "a", "a b", "b"},
		{"p: 1 of q; q: 1 of a", "q", "a", ""},                             // in q
		{"p: 0 of q r; q: 1 of n; r: 1 of n", "q r", "n", "n"},             // shared
		{"p: 1 of q; q: 0 of r s; r: 1 of n; s: 1 of n", "q", "n", ""},     // shared, but all of it in q
		{"p: 0 of q a; q: 1 of a", "q", "a", "a"},                          // needed beside q too
		{"p: 1 of q; q: 1 of r; r: 1 of a, 1 of b", "q", "a b", ""},        // however deep
		{"p: 0 of q r; q: 1 of s; r: 1 of s; s: 1 of a", "q r s", "a", ""}, // a is in s, which is shared
		{"p: 0 of q r; q: 1 of s; r: 1 of s; s: 1 of a", "q r", "a", "a"},  // and here it is in none
	} {
		has := strings.Fields(x.has)
		c := network(t, strings.Split(x.lines, "; ")...)
		m := ModelOf(c, "p", c.Span.To-1)
		missing := m.Missing(func(id string) bool { return slices.Contains(has, id) })
		if got := strings.Join(m.Parts(), " "); got != x.parts {
			t.Errorf("%s: made of %s, not of %s", x.lines, got, x.parts)
		}
		if got := strings.Join(missing, " "); got != x.missing {
			t.Errorf("%s: %q is missing, not %q", x.lines, got, x.missing)
		}
	}
}

// Thirty that all share thirty are computed; what does not fit is refused, not guessed.
func TestModelledOfMany(t *testing.T) {
	var names []string
	of := map[string]float64{}
	for i := range 30 {
		names = append(names, fmt.Sprintf("s%d", i))
		of[names[i]] = 0.5
	}
	all := strings.Join(names, " ")
	// At least 20 of 30 coins, which is at least 15 too.
	want := 0.0
	for k := 20; k <= 30; k++ {
		want += float64(new(big.Int).Binomial(30, int64(k)).Int64()) / (1 << 30)
	}
	if got := available(t, network(t, "p: 15 of "+all+", 20 of "+all), of); math.Abs(got-want) > 1e-12 {
		t.Errorf("%v, not %v", got, want)
	}
	// Products of pairs in the worst order.
	var lines []string
	for i := range 22 {
		lines = append(lines, fmt.Sprintf("q%d: 0 of s%d s%d", i, i, 22+i))
		of[fmt.Sprintf("s%d", 22+i)] = 0.5
	}
	members := func(prefix string, from, n int) (out string) {
		for i := range n {
			out += fmt.Sprintf(" %s%d", prefix, from+i)
		}
		return out
	}
	lines = append([]string{"p: 0 of x y", "x: 1 of" + members("s", 0, 22), "y: 1 of" + members("q", 0, 22)}, lines...)
	c := network(t, lines...)
	has, _ := own(of)
	if _, err := ModelOf(c, "p", c.Span.To-1).Over(has); err == nil || !strings.Contains(err.Error(), "too much is shared") {
		t.Error(err)
	}
}

// In 19 of 20 invented histories the interval holds what is true (19,068 of 20,000).
func TestTheIntervalHoldsWhatIsTrue(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	c := network(t, "p: 2 of g1 g2 g3, 1 of d", "g1: 1 of n", "g2: 1 of n", "g3: 1 of n")
	m := ModelOf(c, "p", c.Span.To-1)
	f, err := m.Over(func(id string) bool { return id != "p" })
	if err != nil {
		t.Fatal(err)
	}
	const histories, days = 2000, 90.0
	held, wide := 0, 0.0
	for range histories {
		truth, known := map[string]float64{}, map[string]Known{}
		for _, id := range m.order[:len(m.order)-1] {
			rate, length := math.Exp(r.Float64()*4-3)/10, 3_600_000*math.Exp(r.Float64()*2-1) // 0.005–0.27 a day; 22 min – 2.7 h
			a := 86_400_000 / (86_400_000 + rate*length)
			truth[id] = a
			var k Known
			for at := r.ExpFloat64() / rate; at < days; at += r.ExpFloat64() / rate {
				l := int64(r.ExpFloat64() * length)
				k.Outages, k.DownMS = append(k.Outages, l), k.DownMS+l
			}
			k.UpMS = int64(days*86_400_000) - k.DownMS
			known[id] = k
		}
		for _, g := range []string{"g1", "g2", "g3"} { // they fail with n too
			truth[g] *= truth["n"]
			k := known[g]
			k.Outages = append(slices.Clone(k.Outages), known["n"].Outages...)
			k.DownMS, k.UpMS = k.DownMS+known["n"].DownMS, k.UpMS-known["n"].DownMS
			known[g] = k
		}
		low, high := f.Between(known)
		want := f.Availability(func(id string) float64 { return truth[id] })
		if low <= want && want <= high {
			held++
		}
		wide += high - low
	}
	if held < histories*94/100 || held > histories*97/100 || wide/histories > 0.02 {
		t.Errorf("it held %d of %d, and was %.4f wide", held, histories, wide/histories)
	}
}

// Nothing is certain that was not seen: ninety days without an outage leave some.
func TestNinetyGoodDaysAreNoCertainty(t *testing.T) {
	good := Known{UpMS: 90 * 86_400_000}
	low, high := good.Between(Supposed(map[string]Known{"a": good}))
	// 3.69 outages of an hour may have been to come: −ln 0.025.
	if want := 1 - 3.6889/(90*24); high != 1 || math.Abs(low-want) > 1e-6 {
		t.Errorf("between %v and %v, not %v and 1", low, high, want)
	}
	if _, is := (Known{}).Availability(); is {
		t.Error("unmeasured time has an availability")
	}
	if low, _ := (Known{UpMS: 1000}).Between(shortestSupposed); low != 0 {
		t.Errorf("a second of measuring leaves %v", low)
	}
}

func TestBestTargetIsNeverRoundedUp(t *testing.T) {
	for p, want := range map[float64]string{1: "100.0000", 0.999: "99.9000", 0.99999999: "99.9999", 0.72: "72.0000", 0: "0.0000", 0.9 * 0.9 * 0.9: "72.9000"} {
		if got := BestTarget(p); got != want {
			t.Errorf("%v supports %s, not %s", p, got, want)
		}
	}
}
