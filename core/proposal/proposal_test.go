package proposal_test

import (
	"slices"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
)

func TestCandidatesOfAnAddress(t *testing.T) {
	for address, want := range map[string][]string{
		"https://tickets.skerry.example/book": {"http https://tickets.skerry.example/book",
			"certificate tickets.skerry.example:443", "ping tickets.skerry.example", "path tickets.skerry.example"},
		"http://198.18.4.20:8080": {"http http://198.18.4.20:8080", "ping 198.18.4.20", "path 198.18.4.20"},
		"https://[fd77::1]:8443/": {"http https://[fd77::1]:8443/", "certificate [fd77::1]:8443", "ping fd77::1",
			"path fd77::1"},
		"freight.skerry.example:8443": {"tcp freight.skerry.example:8443", "http https://freight.skerry.example:8443",
			"http http://freight.skerry.example:8443", "certificate freight.skerry.example:8443", "ping freight.skerry.example",
			"path freight.skerry.example"},
		" roster.skerry.example ": {"http https://roster.skerry.example", "http http://roster.skerry.example",
			"certificate roster.skerry.example:443", "ping roster.skerry.example", "path roster.skerry.example"},
	} {
		list, err := proposal.Candidates(address)
		var got []string
		for _, c := range list {
			got = append(got, c.Kind+" "+c.Target)
		}
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q, %v\nwant %q", address, got, err, want)
		}
	}
	for _, address := range []string{"", "not a host", "https://", "ftp://x.example/"} {
		if list, err := proposal.Candidates(address); err == nil {
			t.Errorf("%q gives %v", address, list)
		}
	}
}

// Whatever is taken, there is a check that decides: otherwise the service would be
// unmeasured for ever.
func TestSomethingAlwaysDecides(t *testing.T) {
	kinds := []string{"http", "tcp", "ping", "certificate", "path"}
	for taken := 1; taken < 1<<len(kinds); taken++ {
		w := proposal.Wanted{Spec: definition.ServiceSpec{Name: "S", Kind: definition.Business}, IntervalS: 60,
			Locations: []string{"tolvik"}}
		targets := map[string]string{"http": "https://x.example/", "tcp": "x.example:443", "ping": "x.example",
			"certificate": "x.example:443", "path": "x.example"}
		for i, k := range kinds {
			if taken&(1<<i) != 0 {
				w.Taken = append(w.Taken, proposal.Taken{Candidate: proposal.Candidate{Kind: k, Name: k, Target: targets[k]}})
			}
		}
		first, deciding := "", 0
		for _, s := range w.Steps("s") {
			c, is := s.Spec.(definition.CheckSpec)
			if !is {
				continue
			}
			if err := definition.Valid(c); err != nil {
				t.Errorf("%s of %v: %v", c.Kind, w.Taken, err)
			}
			if c.Role == definition.Decides {
				first, deciding = c.Kind, deciding+1
			}
		}
		if want := kinds[slices.IndexFunc(kinds, func(k string) bool {
			return slices.ContainsFunc(w.Taken, func(x proposal.Taken) bool { return x.Kind == k })
		})]; deciding != 1 || first != want {
			t.Errorf("of %v %d decide, %s", w.Taken, deciding, first)
		}
	}
}

// A service that is there keeps its defaults, and new checks follow them.
func TestNewChecksFollowTheirService(t *testing.T) {
	w := proposal.Wanted{
		Service: "tickets", Defaults: &definition.CheckDefaults{IntervalS: 20, Confirm: 4, Locations: []string{"eskerby"}},
		IntervalS: 60, Locations: []string{"tolvik"},
		Taken: []proposal.Taken{{Candidate: proposal.Candidate{Kind: "ping", Name: "Ping", Target: "x.example"}},
			{Candidate: proposal.Candidate{Kind: "path", Name: "Path", Target: "x.example"}}},
		Agreement: &definition.AgreementSpec{Name: "Gold", Timezone: "UTC", TargetPercent: "99"},
	}
	steps := w.Steps("ignored")
	if len(steps) != 3 || steps[2].Kind != catalogue.Agreement || steps[2].Spec.(definition.AgreementSpec).Service != "tickets" {
		t.Fatalf("%+v", steps)
	}
	ping, path := steps[0].Spec.(definition.CheckSpec), steps[1].Spec.(definition.CheckSpec)
	if ping.IntervalS != 20 || ping.Confirm != 4 || ping.Locations[0] != "eskerby" || !slices.Contains(ping.Follows,
		"interval_s") || ping.Service != "tickets" {
		t.Errorf("ping %+v", ping)
	}
	if path.IntervalS != 300 || path.Confirm != 4 || slices.Contains(path.Follows, "interval_s") {
		t.Errorf("path %+v", path)
	}
}

func TestLimitsFollowWhatWasMeasured(t *testing.T) {
	for _, c := range []struct {
		kind  string
		tried []map[string]float64
		want  float64
	}{
		{"http", []map[string]float64{{"total_ms": 41}, {"total_ms": 130}}, 400},
		{"http", []map[string]float64{{"total_ms": 1}}, 100},
		{"ping", []map[string]float64{{"rtt_mean_ms": 0.2}, {}}, 20},
		{"ping", []map[string]float64{{"rtt_mean_ms": 34}}, 200},
		{"http", nil, 0},
		{"http", []map[string]float64{{"status": 200}}, 0},
		{"http", []map[string]float64{{"total_ms": 1e300}}, 0},
		{"certificate", []map[string]float64{{"days_left": 20}}, 0},
	} {
		l, how := proposal.Limit(c.kind, c.tried)
		has := how != ""
		if has != (c.want > 0) || has && *l.DegradedAbove != c.want {
			t.Errorf("%s, %v: %+v, %v", c.kind, c.tried, l, has)
		}
		if k, _ := measure.KindNamed(c.kind); has && l.Check(k) != nil {
			t.Errorf("%s: %v", c.kind, l.Check(k))
		}
	}
}

func TestLimitsSayHowTheyWereFound(t *testing.T) {
	for _, c := range []struct {
		took float64
		want string
	}{
		{2.8, "degraded above 100 ms: the slowest took 2.8 ms, and nobody notices less than 100"},
		{41.26, "degraded above 200 ms: three times the slowest, which took 41.3 ms"},
		{1234.4, "degraded above 4000 ms: three times the slowest, which took 1234 ms"},
	} {
		if _, how := proposal.Limit("http", []map[string]float64{{"total_ms": c.took}}); how != c.want {
			t.Errorf("%v: %q", c.took, how)
		}
	}
}

func TestLoads(t *testing.T) {
	for _, c := range []struct {
		spec definition.CheckSpec
		want proposal.Load
	}{
		{definition.CheckSpec{Kind: "http", IntervalS: 60, Locations: []string{"a", "b"}},
			proposal.Load{RunsPerDay: 2880, BytesPerDay: 2880 * 2000}},
		{definition.CheckSpec{Kind: "ping", IntervalS: 30, Locations: []string{"a"}},
			proposal.Load{RunsPerDay: 2880, BytesPerDay: 2880 * 5 * 2 * 84}},
		{definition.CheckSpec{Kind: "udp", IntervalS: 300, Locations: []string{"a"}},
			proposal.Load{RunsPerDay: 288, BytesPerDay: 288 * 100 * 2 * 200}},
		{definition.CheckSpec{Kind: "derived", IntervalS: 60, Locations: []string{"server"}}, proposal.Load{RunsPerDay: 1440}},
		{definition.CheckSpec{Kind: "http", Locations: []string{"a"}}, proposal.Load{}},
	} {
		if got := proposal.LoadOf(c.spec); got != c.want {
			t.Errorf("%+v: %+v", c.spec, got)
		}
	}
}
