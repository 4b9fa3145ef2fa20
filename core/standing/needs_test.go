package standing_test

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"kestite/core/standing"
)

func TestNeedsAreInOneOrder(t *testing.T) {
	want := []standing.Need{{Kind: "fault", Subject: "B"}, {Kind: "down", Subject: "Z", Since: 9}, {Kind: "down", Subject: "A", Since: 5},
		{Kind: "down", Subject: "C", Since: 5}, {Kind: "degraded"}, {Kind: "check"}, {Kind: "agent"}, {Kind: "never-good"}, {Kind: "unmeasured",
			ID: "1"}, {Kind: "unmeasured", ID: "2"}}
	for range 50 {
		got := append([]standing.Need{}, want...)
		rand.Shuffle(len(got), func(i, j int) { got[i], got[j] = got[j], got[i] })
		if standing.InOrder(got); !reflect.DeepEqual(got, want) {
			t.Fatalf("%+v", got)
		}
	}
}

func TestWhatIsBadStandsUnderItsCause(t *testing.T) {
	needs := map[string][]string{"board": {"names", "power"}, "tickets": {"cards", "names"}, "gates": {"board", "names", "power"},
		"cards": nil, "a": {"b"}, "b": {"a"}}
	for _, c := range []struct {
		bad  []string
		want map[string][]string
	}{
		{[]string{"tickets"}, map[string][]string{"tickets": nil}},
		{[]string{"board", "gates", "names", "tickets"}, map[string][]string{"names": {"board", "gates", "tickets"}}},
		{[]string{"board", "gates"}, map[string][]string{"board": {"gates"}}},
		{[]string{"cards", "names", "tickets"}, map[string][]string{"cards": {"tickets"}, "names": nil}},
		{[]string{"a", "b"}, map[string][]string{"a": nil, "b": nil}},
		{nil, map[string][]string{}},
	} {
		got := standing.Causes(c.bad, func(id string) []string { return needs[id] })
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%v: %v, not %v", c.bad, got, c.want)
		}
		n := 0
		for _, under := range got {
			n += 1 + len(under)
		}
		if n != len(c.bad) {
			t.Errorf("%v: %d of them are told", c.bad, n)
		}
	}
}
