package api_test

import (
	"net/http"
	"reflect"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
	"kestite/server/api"
	"kestite/server/servertest"
)

// A form asks what its schedule means while it is filled in and before it is
// finished; each schedule is told by itself, and what is printed adds up.
func TestFormsAskWhatSchedulesMean(t *testing.T) {
	f := setUp(t)
	ask := func(q api.Schedules) (out api.SchedulesView) {
		t.Helper()
		f.manager.Must(http.MethodPost, "/schedules", q, &out)
		return out
	}
	one := 1.0
	out := ask(api.Schedules{TargetPercent: "99.9", Schedules: []proposal.Schedule{
		{Kind: "ping", IntervalS: 30, TimeoutMS: 1000, Confirm: 2, Locations: 2, Limits: []measure.Limit{{Measure: "loss_percent",
			DegradedAbove: &one}}},
		{Kind: "http"},
		{Kind: "tcp", IntervalS: 60, TimeoutMS: 1000, Confirm: 1, Locations: 1},
	}})
	if len(out.Schedules) != 3 || out.Schedules[0].DetectionMS != 61_000 || out.Schedules[1].Detection != "" ||
		!strings.Contains(out.Schedules[1].Cost, "Choose an interval") || !strings.Contains(out.Schedules[0].Limits[0], "cannot be told") {
		t.Errorf("%+v", out)
	}
	if sum := out.Schedules[0].Plus(out.Schedules[1].Load).Plus(out.Schedules[2].Load); out.Total != sum || !strings.HasPrefix(out.Words,
		"7,200 runs") {
		t.Errorf("the total is %+v (%s), the sum %+v", out.Total, out.Words, sum)
	}
	if !strings.Contains(out.Resolution, "86.4 samples at 30 s") {
		t.Errorf("the finest interval proves the promise: %q", out.Resolution)
	}
	for _, target := range []string{"", "99,9", "NaN", "1e400", "-1", "100.1"} {
		if out := ask(api.Schedules{TargetPercent: target, Schedules: []proposal.Schedule{{Kind: "tcp", IntervalS: 60}}}); out.Resolution != "" {
			t.Errorf("a promise of %q: %q", target, out.Resolution)
		}
	}
	// What an agreement is proved by are the checks that decide, not those that inform.
	f.manager.Create("/checks", servertest.Check(f.service, []string{"tolvik"}, func(m map[string]any) {
		m["name"], m["interval_s"], m["role"] = "Aside", 10, "informs"
	}))
	if out := ask(api.Schedules{Service: f.service, TargetPercent: "99.9"}); !strings.Contains(out.Resolution, "43.2 samples at 1 min") {
		t.Errorf("by the service's checks: %q", out.Resolution)
	}
	if out := ask(api.Schedules{Service: "nobody", TargetPercent: "99.9"}); out.Resolution != "" {
		t.Errorf("by a service that is not there: %q", out.Resolution)
	}
	if a := f.manager.Do(http.MethodPost, "/schedules", map[string]any{"schedules": []any{map[string]any{"kind": "ping",
		"interval_s": -5}}}); a.Status != http.StatusUnprocessableEntity {
		t.Errorf("a negative interval: %d", a.Status)
	}
}

// What a preview of a proposal shows is what taking it makes.
func TestTakingMakesWhatItsPreviewShowed(t *testing.T) {
	f := setUp(t)
	taken := []proposal.Taken{
		{Candidate: proposal.Candidate{Kind: "http", Name: "Page", Target: "https://roster.skerry.example/"},
			Tried: []map[string]float64{{"total_ms": 81}}},
		{Candidate: proposal.Candidate{Kind: "certificate", Name: "Certificate", Target: "roster.skerry.example:443"}},
	}
	var would api.TakingView
	f.manager.Must(http.MethodPost, "/proposals/preview", api.Taking{Taken: taken, IntervalS: 20, Locations: []string{"tolvik"},
		TargetPercent: "99.5"}, &would)
	if len(would.Checks) != 2 || would.Checks[0].Suggested != "degraded above 300 ms: three times the slowest, which took 81 ms" ||
		would.Checks[1].Suggested != "" || would.Total.RunsPerDay != 4320+24 || !strings.Contains(would.Resolution, "at 20 s") {
		t.Fatalf("%+v", would)
	}
	var made api.ChangeView
	f.manager.Must(http.MethodPost, "/proposals/take", api.Take{Name: "Crew roster", Taken: taken, IntervalS: 20,
		Locations: []string{"tolvik"}}, &made)
	if made.After != would.Total {
		t.Errorf("it costs %+v, and %+v was shown", made.After, would.Total)
	}
	for i, id := range made.IDs[1:] {
		got, _ := f.spec(id)
		want := would.Checks[i].Spec
		want.Service = made.IDs[0]
		if !reflect.DeepEqual(definition.CheckSpec(got), want) {
			t.Errorf("made %+v\nshown %+v", got, want)
		}
	}
}
