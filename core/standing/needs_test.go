package standing_test

import (
	"math/rand/v2"
	"reflect"
	"testing"

	"kestite/core/standing"
)

func TestNeedsAreInOneOrder(t *testing.T) {
	want := []standing.Need{{Kind: "fault", Subject: "B"}, {Kind: "down", Subject: "Z", Since: 9}, {Kind: "down", Subject: "A", Since: 5},
		{Kind: "down", Subject: "C", Since: 5}, {Kind: "down", Subject: "B", Since: 99, By: "astrid"}, {Kind: "degraded"}, {Kind: "check"},
		{Kind: "agent"}, {Kind: "never-good"}, {Kind: "unmeasured",
			ID: "1"}, {Kind: "unmeasured", ID: "2"}}
	for range 50 {
		got := append([]standing.Need{}, want...)
		rand.Shuffle(len(got), func(i, j int) { got[i], got[j] = got[j], got[i] })
		if standing.InOrder(got); !reflect.DeepEqual(got, want) {
			t.Fatalf("%+v", got)
		}
	}
}
