package topology

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/definition"
)

func TestWhatFollowsFromAFailure(t *testing.T) {
	needs := map[string][]definition.Dependency{
		"router": nil, "north": {{Services: []string{"router"}}}, "mast-a": nil, "mast-b": nil, "mast-c": nil,
		"radio": {{Services: []string{"mast-a", "mast-b", "mast-c"}, Need: 1}},
		"pair":  {{Services: []string{"mast-a", "mast-b"}, Need: 1}},
		"gates": {{Services: []string{"radio"}}, {Services: []string{"north"}}},
		"board": {{Services: []string{"gates", "north"}, Need: 1}},
		"alone": nil,
	}
	for _, c := range []struct {
		failed []string
		want   string
	}{
		{[]string{"alone"}, ""},
		{[]string{"mast-a"}, "pair 0 [mast-a]; radio 1 [mast-a]"},
		{[]string{"mast-a", "mast-b"}, "pair down [mast-a mast-b]; radio 0 [mast-a mast-b]"},
		{[]string{"mast-a", "mast-b", "mast-c"}, "pair down [mast-a mast-b]; radio down [mast-a mast-b mast-c]; gates down [radio]; board 0 [gates]"},
		{[]string{"router"}, "north down [router]; gates down [north]; board down [gates north]"}, // gates fall with north, and board with both
		{[]string{"nothing"}, ""},
		{nil, ""},
	} {
		got := ""
		for _, e := range Suppose(needs, c.failed) {
			if got != "" {
				got += "; "
			}
			how := fmt.Sprint(e.Spare)
			if e.Down {
				how = "down"
			}
			got += fmt.Sprintf("%s %s %v", e.Service, how, e.Because)
		}
		if got != c.want {
			t.Errorf("%v: %s\nwant %s", c.failed, got, c.want)
		}
	}
}

// In random graphs: who is said to be down has a group with too few left, everybody else
// has none, and what more fails takes no fewer down.
func TestSupposedFailuresAgainstTheirDefinition(t *testing.T) {
	for seed := range uint64(500) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		needs := map[string][]definition.Dependency{}
		var ids []string
		for n := range 5 + rnd.IntN(30) {
			id := fmt.Sprintf("s%02d", n)
			var groups []definition.Dependency
			for range min(n, rnd.IntN(3)) {
				members := append([]string(nil), ids...)
				rnd.Shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
				members = members[:1+rnd.IntN(min(len(members), 4))]
				groups = append(groups, definition.Dependency{Services: members, Need: rnd.IntN(len(members) + 1)})
			}
			needs[id], ids = groups, append(ids, id)
		}
		failed := []string{ids[rnd.IntN(len(ids))]}
		more := append(slices.Clone(failed), ids[rnd.IntN(len(ids))])
		down := map[string]bool{failed[0]: true}
		for _, e := range Suppose(needs, failed) {
			if e.Down {
				down[e.Service] = true
			}
		}
		wider := map[string]bool{more[0]: true, more[1]: true}
		for _, e := range Suppose(needs, more) {
			if e.Down {
				wider[e.Service] = true
			}
		}
		for _, id := range ids {
			broken := false
			for _, g := range needs[id] {
				up, _ := left(g, down)
				broken = broken || up < needed(g)
			}
			if id != failed[0] && broken != down[id] {
				t.Fatalf("seed %d: %s is down: %v, and a group of it is broken: %v", seed, id, down[id], broken)
			}
			if down[id] && !wider[id] {
				t.Fatalf("seed %d: %s falls with %v, and not with %v", seed, id, failed, more)
			}
		}
	}
}
