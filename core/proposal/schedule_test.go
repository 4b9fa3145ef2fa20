package proposal_test

import (
	"encoding/json"
	"math"
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
)

func TestDetectionIsTheSumThatIsPrinted(t *testing.T) {
	for _, c := range []struct {
		s    proposal.Schedule
		ms   int64
		says string
	}{
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 5000, Confirm: 2, Locations: 3}, 125_000,
			"at most 2 min 05 s after it begins (1 min until it is measured + 1 × 1 min to confirm + 5 s timeout)"},
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 500, Confirm: 3, RetryS: 10, Locations: 1}, 80_500,
			"at most 1 min 21 s after it begins (1 min until it is measured + 2 × 10 s to confirm + 500 ms timeout)"},
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 2000, Confirm: 1, Locations: 1}, 62_000, "(1 min until it is measured + 2 s timeout)"},
		{proposal.Schedule{IntervalS: 20, TimeoutMS: 1000, Rolling: &definition.Rolling{Runs: 4, Locations: 2, WindowS: 100}, Locations: 3},
			41_000, "at most 41 s after it begins (2 × 20 s, 1 s timeout)"},
		{proposal.Schedule{}, 0, ""},
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 1000, Confirm: 2}, 0, ""},
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 1000, Locations: 2}, 0, ""},
		{proposal.Schedule{IntervalS: 60, TimeoutMS: 1000, Locations: 2, Rolling: &definition.Rolling{}}, 0, ""},
	} {
		if o := c.s.Effect(); o.DetectionMS != c.ms || !strings.Contains(o.Detection, c.says) || c.says == "" && o.Detection != "" {
			t.Errorf("%+v: %d ms, %q", c.s, o.DetectionMS, o.Detection)
		}
	}
}

func TestCostSaysWhatNetworksDislike(t *testing.T) {
	for _, c := range []struct {
		s    proposal.Schedule
		want string
	}{
		{proposal.Schedule{Kind: "http", IntervalS: 30, Locations: 2}, "5,760 runs a day, about 11.5 MB a day."},
		{proposal.Schedule{Kind: "http", IntervalS: 5, Locations: 1},
			"17,280 runs a day, about 34.6 MB a day. Every 5 s is more often than the 30 s recommended for HTTP; some networks block this."},
		{proposal.Schedule{Kind: "udp", IntervalS: 5, Locations: 40, Packets: 3000},
			"691,200 runs a day, about 829.4 GB a day. Every 5 s is more often than the 1 min recommended for UDP echo; some networks block this."},
		{proposal.Schedule{Kind: "ping", Locations: 2}, "Choose an interval and at least one location."},
		{proposal.Schedule{Kind: "ping", IntervalS: 60}, "Choose an interval and at least one location."},
	} {
		if got := c.s.Effect().Cost; got != c.want {
			t.Errorf("%+v: %q", c.s, got)
		}
	}
	for n, want := range map[int64]string{0: "0", 7: "7", 999: "999", 1000: "1,000", 123456: "123,456", 1234567: "1,234,567"} {
		if got := proposal.Thousands(n); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

func TestWindowsOfRollingRules(t *testing.T) {
	for _, c := range []struct {
		rule      definition.Rolling
		locations int64
		too       bool
		want      string
	}{
		{definition.Rolling{Runs: 4, Locations: 2, WindowS: 100}, 3, false,
			"1 min 40 s hold 5 runs a location, × 3 locations = 15; 4 of them must fail."},
		{definition.Rolling{Runs: 4, Locations: 1, WindowS: 50}, 1, true,
			"The window is too short: 50 s hold 2 runs a location, × 1 location = 2, and 4 must fail. Take at least 1 min 20 s."},
		{definition.Rolling{Runs: 4, Locations: 3, WindowS: 100}, 2, true, "3 locations can never agree: it is measured from 2."},
	} {
		s := proposal.Schedule{IntervalS: 20, TimeoutMS: 1000, Locations: c.locations, Rolling: &c.rule}
		if o := s.Effect(); o.TooShort != c.too || o.Window != c.want {
			t.Errorf("%+v: %v %q", c.rule, o.TooShort, o.Window)
		}
		// What is called too short is what saving refuses.
		places := []string{"a", "b", "c"}[:c.locations]
		if err := c.rule.Fits(20, places); (err != nil) != c.too {
			t.Errorf("%+v: the form says %v, saving %v", c.rule, c.too, err)
		}
	}
}

func TestLimitsFinerThanThePackets(t *testing.T) {
	v := func(f float64) *float64 { return &f }
	for _, c := range []struct {
		kind    string
		packets int64
		limit   measure.Limit
		want    string
	}{
		{"ping", 5, measure.Limit{Measure: "loss_percent", DegradedAbove: v(1)},
			"1 % cannot be told: one lost packet of 5 is 20 % already. Send 100 packets, or take a mean over a longer time."},
		{"ping", 0, measure.Limit{Measure: "loss_percent", DegradedAbove: v(20), FailedAbove: v(80)}, ""},
		{"path", 0, measure.Limit{Measure: "loss_percent", FailedAbove: v(30)},
			"30 % cannot be told: one lost packet of 3 is 33.3 % already. Send 4 packets, or take a mean over a longer time."},
		{"ping", 5, measure.Limit{Measure: "loss_percent", DegradedAbove: v(1), MeanS: 600},
			"1 % cannot be told: one lost packet of 50 is 2 % already. Send 10 packets a run, or take a mean over a longer time."},
		{"udp", 100, measure.Limit{Measure: "loss_percent", DegradedAbove: v(0.001)},
			"0.001 % cannot be told: one lost packet of 100 is 1 % already. Take a mean over a longer time."},
		{"udp", 100, measure.Limit{Measure: "mos", DegradedBelow: v(4)}, ""},
		{"http", 5, measure.Limit{Measure: "loss_percent", DegradedAbove: v(1)}, ""},
		{"ping", 5, measure.Limit{Measure: "loss_percent", DegradedAbove: v(0)}, ""},
		{"ping", 5, measure.Limit{Measure: "loss_percent"}, ""},
	} {
		s := proposal.Schedule{Kind: c.kind, IntervalS: 60, Packets: c.packets, Limits: []measure.Limit{c.limit}}
		if got := s.Effect().Limits[0]; got != c.want {
			t.Errorf("%s %+v: %q", c.kind, c.limit, got)
		}
	}
}

func TestResolutionOfAPromise(t *testing.T) {
	for _, c := range []struct {
		target    definition.Percent
		intervalS int64
		want      string
	}{
		{"99.9", 60, "A month at 99.9 % allows 43 min 12 s of downtime: 43.2 samples at 1 min."},
		{"99.99", 60, "A month at 99.99 % allows 4 min 19 s of downtime: 4.3 samples at 1 min. That is coarse; measure every 10 s."},
		{"99.9999", 60, "A month at 99.9999 % allows 2 s of downtime: 0.0 samples at 1 min. That is coarse, and 5 s, the shortest interval, is too: a target this high can hardly be proved."},
		{"100", 60, "A month at 100 % allows 0 s of downtime: 0.0 samples at 1 min."},
		{"", 60, ""}, {"99,9", 60, ""}, {"101", 60, ""}, {"NaN", 60, ""}, {"1e1", 60, ""}, {"99.9", 0, ""},
	} {
		if got := proposal.Resolution(c.target, c.intervalS); got != c.want {
			t.Errorf("%s at %d s: %q", c.target, c.intervalS, got)
		}
	}
}

// Every kind that can be chosen has a start that is valid once it is named and
// pointed at something, and whose effect can be told.
func TestEveryKindHasAStart(t *testing.T) {
	targets := map[string]string{"http": "https://x.example/", "tcp": "x.example:443", "ping": "x.example", "certificate": "x.example:443",
		"path": "x.example", "dns": "x.example", "udp": "x.example:8481"}
	kinds := proposal.Kinds()
	if len(kinds) != len(measure.Kinds) {
		t.Fatalf("%d kinds", len(kinds))
	}
	for _, k := range kinds {
		spec := proposal.New(k.Name, "tickets", []string{"tolvik"})
		spec.Name, spec.Target = "One", targets[k.Name]
		if k.Name == measure.Derived.Name {
			spec.Derived.Sources = []definition.Source{{Check: "x", Measure: "total_ms"}}
		}
		if err := definition.Valid(spec); err != nil {
			t.Errorf("%s: %v", k.Name, err)
		}
		if _, known := measure.KindNamed(k.Name); !known || k.Kind.Index(k.Limit) < 0 {
			t.Errorf("%s: a limit on %q", k.Name, k.Limit)
		}
		if o := proposal.ScheduleOf(spec).Effect(); o.DetectionMS <= 0 || slices.ContainsFunc(o.Limits, func(s string) bool { return s != "" }) {
			t.Errorf("%s: %+v", k.Name, o)
		}
		if k.Inward != definition.Inward(k.Name) || k.Inward != slices.Equal(spec.Locations, []string{definition.Server}) {
			t.Errorf("%s: inward %v, %v", k.Name, k.Inward, spec.Locations)
		}
		if spec.Follows = k.Follows; definition.Valid(spec) != nil {
			t.Errorf("%s follows %v: %v", k.Name, k.Follows, definition.Valid(spec))
		}
	}
}

// A form that is filled in by anybody: whatever stands in it, the effect says
// something that can be written down, and never a negative cost.
func FuzzEffect(f *testing.F) {
	f.Add(int64(60), int64(5000), int64(2), int64(0), int64(3), int64(4), int64(2), int64(100), 1.0)
	f.Add(int64(0), int64(0), int64(0), int64(0), int64(0), int64(0), int64(0), int64(0), 0.0)
	f.Fuzz(func(t *testing.T, interval, timeout, confirm, retry, locations, runs, of, window int64, limit float64) {
		in := func(v, most int64) int64 { return max(0, min(v, most)) }
		s := proposal.Schedule{Kind: "ping", IntervalS: in(interval, 86400), TimeoutMS: in(timeout, 60000), Confirm: in(confirm, 100),
			RetryS: in(retry, 3600), Locations: in(locations, 10000), Limits: []measure.Limit{{Measure: "loss_percent", DegradedAbove: &limit}},
			Rolling: &definition.Rolling{Runs: in(runs, 10000), Locations: in(of, 1000), WindowS: in(window, 86400)}}
		for _, rule := range []*definition.Rolling{s.Rolling, nil} {
			s.Rolling = rule
			o := s.Effect()
			if _, err := json.Marshal(o); err != nil || o.RunsPerDay < 0 || o.BytesPerDay < 0 || o.DetectionMS < 0 {
				t.Fatalf("%+v: %+v, %v", s, o, err)
			}
			if (math.IsNaN(limit) || math.IsInf(limit, 0)) && o.Limits[0] != "" {
				t.Fatalf("%v: %q", limit, o.Limits[0])
			}
		}
	})
}
