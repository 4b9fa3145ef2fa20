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

func TestSummaryCountsEach(t *testing.T) {
	soon, later := &Outlook{AtRisk: true, RunsOutAt: at(10), RunsOutWhy: ByWeek}, &Outlook{AtRisk: true, RunsOutAt: at(20), RunsOutWhy: BySoFar}
	var s Summary
	for _, c := range []struct {
		row   Row
		final bool
		word  string
	}{
		{Row{Name: "a", Verdict: account.Met}, true, "met"},
		{Row{Name: "b", Verdict: account.Missed}, true, "missed"},
		{Row{Name: "c", Verdict: account.Insufficient}, true, "insufficient"},
		{Row{Name: "d", Verdict: account.Missed, Outlook: soon}, false, "missed"},
		{Row{Name: "e", Verdict: account.OnTrack, Outlook: later}, false, "at risk"},
		{Row{Name: "f", Verdict: account.OnTrack, Outlook: soon}, false, "at risk"},
		{Row{Name: "g", Verdict: account.OnTrack, Outlook: &Outlook{}}, false, "on track"},
		{Row{Name: "h", Verdict: account.NotApplicable, Outlook: &Outlook{}}, false, "not applicable"},
		{Row{Name: "i", Faulty: true}, false, "unknown"},
	} {
		if got := c.row.Word(); got != c.word {
			t.Errorf("%s is %q, not %q", c.row.Name, got, c.word)
		}
		s.Add(c.row, c.final)
	}
	want := Summary{
		Over: Counts{Agreements: 3, Met: 1, Missed: 1}, Running: Counts{Agreements: 5, Missed: 1, AtRisk: 2, OnTrack: 1}, Faulty: 1,
		Next: &Next{"f", 10, ByWeek},
	}
	if s.Next == nil || *s.Next != *want.Next {
		t.Errorf("next is %+v", s.Next)
	}
	s.Next, want.Next = nil, nil
	if s != want {
		t.Errorf("%+v, not %+v", s, want)
	}
}

// What was never measured is on no track.
func TestNothingMeasuredIsNotOnTrack(t *testing.T) {
	var s Summary
	for _, r := range []Row{{Verdict: account.OnTrack, Nothing: true}, {Verdict: account.OnTrack}, {Verdict: account.NotApplicable,
		Nothing: true}} {
		s.Add(r, false)
	}
	if s.Running.OnTrack != 1 || s.Running.Agreements != 3 || (Row{Verdict: account.OnTrack, Nothing: true}).Word() != "not measured" {
		t.Errorf("%+v", s)
	}
}
