package standing

import (
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/account"
	"kestite/core/span"
)

func at(i int64) *span.Instant { x := span.Instant(i); return &x }

// The most urgent stands first, whatever order they come in.
func TestTheMostUrgentComesFirst(t *testing.T) {
	want := []Row{
		{Name: "cannot be accounted", Faulty: true},
		{Name: "missed by half its allowance", Verdict: account.Missed, LeftMS: -50, AllowanceMS: 100},
		{Name: "missed by a tenth, which is more time", Verdict: account.Missed, LeftMS: -100, AllowanceMS: 1000,
			Outlook: &Outlook{RunsOutAt: at(1)}},
		{Name: "runs out soon", Verdict: account.OnTrack, LeftMS: 900, AllowanceMS: 1000, Outlook: &Outlook{RunsOutAt: at(10)}},
		{Name: "runs out later", Verdict: account.OnTrack, LeftMS: 1, AllowanceMS: 1000, Outlook: &Outlook{RunsOutAt: at(20)}},
		{Name: "has no allowance", Verdict: account.NotApplicable},
		{Name: "has little left", Verdict: account.OnTrack, LeftMS: 100, AllowanceMS: 1000, Outlook: &Outlook{}},
		{Name: "is met", Verdict: account.Met, LeftMS: 900, AllowanceMS: 1000},
		{Name: "is met, too", Verdict: account.Met, LeftMS: 900, AllowanceMS: 1000},
	}
	r := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		got := slices.Clone(want)
		r.Shuffle(len(got), func(i, j int) { got[i], got[j] = got[j], got[i] })
		slices.SortFunc(got, Compare)
		for i := range got {
			if got[i].Name != want[i].Name {
				t.Fatalf("%d is %q, not %q", i, got[i].Name, want[i].Name)
			}
		}
	}
}
