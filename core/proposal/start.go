package proposal

import (
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
)

// start is what a new check of a kind starts with.
type start struct {
	intervalS, timeoutMS int64
	limits               []measure.Limit
	limit                string // the measure that one more limit is on
	leastS               int64  // shorter intervals are taken amiss by some networks
	slow                 bool   // its own interval is plenty, however often others measure
	steady               bool   // it does not come and go: one failure is believed, one success too
	pace                 string // the measure that tells how long it took
	paceMS               float64
	settings             func() definition.Settings
}

func bound(v float64) *float64 { return &v }

var starts = map[string]start{
	measure.HTTP.Name: {intervalS: 60, timeoutMS: 5000, leastS: 30, limit: "total_ms", pace: "total_ms", paceMS: 100,
		settings: func() definition.Settings {
			return definition.Settings{HTTP: &definition.HTTPSettings{Method: "GET", Status: "200-399"}}
		}},
	measure.TCP.Name: {intervalS: 60, timeoutMS: 2000, leastS: 30, limit: "connect_ms", pace: "connect_ms", paceMS: 100},
	measure.Ping.Name: {intervalS: 60, timeoutMS: 1000, leastS: 10, limit: "loss_percent", pace: "rtt_mean_ms", paceMS: 20,
		limits: []measure.Limit{{Measure: "loss_percent", DegradedAbove: bound(20), FailedAbove: bound(80)}},
		settings: func() definition.Settings {
			return definition.Settings{Ping: &definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200}}
		}},
	measure.Certificate.Name: {intervalS: 3600, timeoutMS: 5000, leastS: 300, limit: "days_left", slow: true, steady: true,
		limits:   []measure.Limit{{Measure: "days_left", DegradedBelow: bound(21), FailedBelow: bound(7)}},
		settings: func() definition.Settings { return definition.Settings{Certificate: &definition.CertificateSettings{}} }},
	measure.DNS.Name: {intervalS: 60, timeoutMS: 2000, leastS: 30, limit: "total_ms",
		settings: func() definition.Settings { return definition.Settings{DNS: &definition.DNSSettings{Type: "A"}} }},
	measure.Path.Name: {intervalS: 300, timeoutMS: 2000, leastS: 60, limit: "loss_percent", slow: true, pace: "rtt_mean_ms", paceMS: 20,
		limits: []measure.Limit{{Measure: "route_changed", DegradedAbove: bound(0)}},
		settings: func() definition.Settings {
			return definition.Settings{Path: &definition.PathSettings{Method: definition.ByICMP, Rounds: 3, SpacingMS: 500, MaxHops: 30}}
		}},
	measure.UDP.Name: {intervalS: 300, timeoutMS: 2000, leastS: 60, limit: "mos",
		limits: []measure.Limit{{Measure: "mos", DegradedBelow: bound(4), FailedBelow: bound(3.1)}},
		settings: func() definition.Settings {
			return definition.Settings{UDP: &definition.UDPSettings{Codec: measure.G711.Name, Packets: 100}}
		}},
	measure.ReportIn.Name: {intervalS: 3600, timeoutMS: 60_000, leastS: 5, limit: "value_1", slow: true, steady: true,
		settings: func() definition.Settings { return definition.Settings{ReportIn: &definition.ReportInSettings{}} }},
	measure.Derived.Name: {intervalS: 60, timeoutMS: 1000, leastS: 5, limit: "value", slow: true, steady: true,
		settings: func() definition.Settings {
			return definition.Settings{Derived: &definition.DerivedSettings{Operation: "sum"}}
		}},
}

// staleAfter is when a lane that measures at the interval counts as silent: three
// measurements and a little went missing.
func staleAfter(intervalS int64) int64 { return 3*intervalS + 10 }

// New is a check of a kind with the values that it starts with. It has no name and
// no target; what the server measures itself is measured from there.
func New(kind, service string, locations []string) definition.CheckSpec {
	s := starts[kind]
	spec := definition.CheckSpec{
		Service: service, Kind: kind, IntervalS: s.intervalS, TimeoutMS: s.timeoutMS, StaleAfterS: staleAfter(s.intervalS),
		Confirm: 2, Recover: 2, Quorum: "majority", Role: definition.Decides,
		Locations: slices.Clone(locations), Limits: slices.Clone(s.limits),
	}
	if s.settings != nil {
		spec.Settings = s.settings()
	}
	if s.steady {
		spec.Confirm, spec.Recover = 1, 1
	}
	if definition.Inward(kind) {
		spec.Locations = []string{definition.Server}
	}
	return spec
}

// Follows are the fields of a new check of a kind that follow the defaults of its
// service: all that there are, but not the pace of what changes seldom, and no
// places for what the server measures itself.
func Follows(kind string) []string {
	s := starts[kind]
	out := []string{"confirm", "recover"}
	if !definition.Inward(kind) {
		out = append(out, "locations", "rolling", "retry_s", "quorum")
	}
	if !s.slow {
		out = append(out, "interval_s", "timeout_ms", "stale_after_s")
	}
	return out
}

// Kind is what forms need to know of a kind of check.
type Kind struct {
	measure.Kind
	Limit   string               `json:"limit" doc:"The measure that one more limit is on"`
	Inward  bool                 `json:"inward" doc:"The server measures it itself; it has no locations"`
	Start   definition.CheckSpec `json:"start" doc:"A new check of the kind, without service, name, target and locations"`
	Follows []string             `json:"follows" doc:"Fields of a new one that follow the defaults of its service, where it has any"`
}

// Kinds are all of them.
func Kinds() []Kind {
	out := make([]Kind, len(measure.Kinds))
	for i, k := range measure.Kinds {
		s := starts[k.Name]
		out[i] = Kind{k, s.limit, definition.Inward(k.Name), New(k.Name, "", []string{}), Follows(k.Name)}
	}
	return out
}
