package topology

import (
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/span"
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
		{[]string{"p: 1 of q", "q: 1 of a"}, map[string]float64{"q": 0.6, "a": 0.9}, 0.6},                                // a measured one speaks for itself
	} {
		got, err := Modelled(network(t, x.lines...), x.own, "p")
		if err != nil || math.Abs(got-x.want) > 1e-12 {
			t.Errorf("%v: %v %v, not %v", x.lines, got, err, x.want)
		}
	}
}

// Random networks with shared parts agree with trying all states of all leaves.
func TestModelledAgreesWithTryingEverything(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for range 300 {
		leaves := []string{"a", "b", "c", "d", "e"}
		pick := func(from []string) string {
			n := 1 + r.IntN(3)
			list := make([]string, n)
			for i := range list {
				list[i] = from[r.IntN(len(from))]
			}
			distinct := map[string]bool{}
			for _, m := range list {
				distinct[m] = true
			}
			return fmt.Sprintf("%d of %s", r.IntN(len(distinct)+1), strings.Join(list, " "))
		}
		c := network(t,
			"p: "+pick([]string{"q", "r", "a"})+", "+pick([]string{"r", "b"}),
			"q: "+pick([]string{"r", "a", "b", "c"}),
			"r: "+pick(leaves)+", "+pick(leaves))
		own := map[string]float64{}
		for _, l := range leaves {
			own[l] = r.Float64()
		}
		want := 0.0
		for bits := range 1 << len(leaves) {
			p, state := 1.0, map[string]bool{}
			for i, l := range leaves {
				state[l] = bits>>i&1 == 1
				if state[l] {
					p *= own[l]
				} else {
					p *= 1 - own[l]
				}
			}
			if isUp(c, state, "p") {
				want += p
			}
		}
		got, err := Modelled(c, own, "p")
		if err != nil || math.Abs(got-want) > 1e-9 {
			t.Fatalf("%+v: %v %v, not %v", c.Bundle.Services, got, err, want)
		}
	}
}

func isUp(c *definition.Compiled, state map[string]bool, id string) bool {
	if up, leaf := state[id]; leaf {
		return up
	}
	for _, g := range c.Services[id][0].DependsOn {
		members := g.Members()
		up := 0
		for _, m := range members {
			if isUp(c, state, m) {
				up++
			}
		}
		if need := int(g.Need); need == 0 && up < len(members) || up < need {
			return false
		}
	}
	return true
}

func TestModelledRefuses(t *testing.T) {
	if _, err := Modelled(network(t, "p: 1 of a b"), map[string]float64{"a": 1}, "p"); err == nil || !strings.Contains(err.Error(), "b has no availability") {
		t.Error(err)
	}
	var names []string
	own := map[string]float64{}
	for i := range 21 {
		names = append(names, fmt.Sprintf("s%d", i))
		own[names[i]] = 0.5
	}
	all := strings.Join(names, " ")
	if _, err := Modelled(network(t, "p: 1 of "+all+", 2 of "+all), own, "p"); err == nil || !strings.Contains(err.Error(), "21 services") {
		t.Error(err)
	}
}

func TestBestTargetIsNeverRoundedUp(t *testing.T) {
	for p, want := range map[float64]string{1: "100.0000", 0.999: "99.9000", 0.99999999: "99.9999", 0.72: "72.0000", 0: "0.0000", 0.9 * 0.9 * 0.9: "72.9000"} {
		if got := BestTarget(p); got != want {
			t.Errorf("%v supports %s, not %s", p, got, want)
		}
	}
}

func TestLeavesAreThoseThatAreMeasured(t *testing.T) {
	c := network(t, "p: 0 of q a", "q: 1 of b c")
	if got := Leaves(c, "p", span.Instant(1_772_500_000_000)); !reflect.DeepEqual(got, []string{"a", "b", "c"}) && !reflect.DeepEqual(got, []string{"b", "c", "a"}) {
		t.Error(got)
	}
	if share, ok := Measured(900, 50, 50); !ok || share != 0.95 {
		t.Error(share, ok)
	}
	if _, ok := Measured(0, 0, 0); ok {
		t.Error("unmeasured time has a share")
	}
}
