// Package proposal says what to measure: the checks that suit an address, the
// limits and roles they start with, the change that makes a service of them, and
// what their schedule costs.
package proposal

import (
	"cmp"
	"math"
	"net/url"
	"slices"
	"strings"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
)

// Candidate is a check that might suit an address.
type Candidate struct {
	Kind   string `json:"kind" enum:"ping,http,tcp,certificate,path"`
	Name   string `json:"name" maxLength:"80"`
	Target string `json:"target" maxLength:"2000"`
}

// Candidates are what an address could be checked by: a web address, a host name
// or an IP address, with a port or without. The error says what is wrong with it.
func Candidates(address string) ([]Candidate, error) {
	address = strings.TrimSpace(address)
	var out []Candidate
	web := []string{address}
	if !strings.Contains(address, "://") {
		web = []string{"https://" + address, "http://" + address}
	}
	host, certificate := "", ""
	if h, _, err := definition.HostPort(address); err == nil {
		host = h
		out = append(out, Candidate{measure.TCP.Name, "Port", address})
	}
	for _, target := range web {
		if err := definition.ValidTarget(measure.HTTP.Name, target); err != nil {
			return nil, err
		}
		u, err := url.Parse(target)
		if err != nil {
			return nil, err
		}
		host = u.Hostname()
		out = append(out, Candidate{measure.HTTP.Name, strings.ToUpper(u.Scheme) + " answer", target})
		if u.Scheme == "https" {
			certificate = definition.WithPort(host, cmp.Or(u.Port(), "443"))
		}
	}
	if certificate != "" {
		out = append(out, Candidate{measure.Certificate.Name, "Certificate", certificate})
	}
	if err := definition.ValidTarget(measure.Ping.Name, host); err != nil {
		return nil, err
	}
	return append(out, Candidate{measure.Ping.Name, "Ping", host}, Candidate{measure.Path.Name, "Path", host}), nil
}

// start is what a new check of a kind starts with.
type start struct {
	intervalS, timeoutMS int64
	limits               []measure.Limit
	slow                 bool   // its own interval is plenty, however often others measure
	pace                 string // the measure that tells how long it took
	paceMS               float64
	settings             definition.Settings
}

func bound(v float64) *float64 { return &v }

var starts = map[string]start{
	measure.HTTP.Name: {intervalS: 60, timeoutMS: 5000, pace: "total_ms", paceMS: 100,
		settings: definition.Settings{HTTP: &definition.HTTPSettings{Method: "GET", Status: "200-399"}}},
	measure.TCP.Name: {intervalS: 60, timeoutMS: 2000, pace: "connect_ms", paceMS: 100},
	measure.Ping.Name: {intervalS: 60, timeoutMS: 1000, pace: "rtt_mean_ms", paceMS: 20,
		limits:   []measure.Limit{{Measure: "loss_percent", DegradedAbove: bound(20), FailedAbove: bound(80)}},
		settings: definition.Settings{Ping: &definition.PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200}}},
	measure.Certificate.Name: {intervalS: 3600, timeoutMS: 5000, slow: true,
		limits:   []measure.Limit{{Measure: "days_left", DegradedBelow: bound(21), FailedBelow: bound(7)}},
		settings: definition.Settings{Certificate: &definition.CertificateSettings{}}},
	measure.Path.Name: {intervalS: 300, timeoutMS: 2000, slow: true, pace: "rtt_mean_ms", paceMS: 20,
		limits:   []measure.Limit{{Measure: "route_changed", DegradedAbove: bound(0)}},
		settings: definition.Settings{Path: &definition.PathSettings{Method: definition.ByICMP, Rounds: 3, SpacingMS: 500, MaxHops: 30}}},
}

// Limit is the limit that suits a candidate by what it took when it was tried:
// degraded above three times the slowest, rounded up to one figure, and not below
// what makes sense for its kind. It is false where nothing answered.
func Limit(kind string, tried []map[string]float64) (measure.Limit, bool) {
	s := starts[kind]
	slowest := 0.0
	for _, measures := range tried {
		if v, has := measures[s.pace]; has && measure.Usable(v) {
			slowest = max(slowest, v)
		}
	}
	if s.pace == "" || slowest <= 0 {
		return measure.Limit{}, false
	}
	raw := max(s.paceMS, 3*slowest)
	step := math.Pow(10, math.Floor(math.Log10(raw)))
	l := measure.Limit{Measure: s.pace, DegradedAbove: bound(math.Ceil(raw/step) * step)}
	k, _ := measure.KindNamed(kind)
	return l, l.Check(k) == nil // no time that can be waited for is beyond the measure's range
}

// Check is the check that a candidate becomes.
func Check(c Candidate, service string, intervalS int64, locations []string, role string, tried []map[string]float64) definition.CheckSpec {
	s := starts[c.Kind]
	if s.slow {
		intervalS = max(intervalS, s.intervalS)
	}
	spec := definition.CheckSpec{
		Service: service, Name: c.Name, Kind: c.Kind, Target: c.Target, IntervalS: intervalS,
		TimeoutMS: min(s.timeoutMS, intervalS*1000-2000), StaleAfterS: intervalS*3 + 10, Confirm: 2, Recover: 2,
		Quorum: "majority", Role: role, Locations: slices.Clone(locations), Limits: slices.Clone(s.limits), Settings: s.settings,
	}
	if c.Kind == measure.Certificate.Name {
		spec.Confirm, spec.Recover = 1, 1 // it does not come and go
	}
	if l, has := Limit(c.Kind, tried); has {
		spec.Limits = append(spec.Limits, l)
	}
	return spec
}

// deciding are the kinds that say most about whether a service can be used, first.
var deciding = []string{measure.HTTP.Name, measure.TCP.Name, measure.Ping.Name, measure.Certificate.Name, measure.Path.Name}

// Decides is the kind whose checks decide, of those that are taken: there is
// always one, for a service without deciding checks is not measured at all.
func Decides(kinds []string) string {
	for _, k := range deciding {
		if slices.Contains(kinds, k) {
			return k
		}
	}
	return ""
}

// Taken is a candidate that is taken, with what its trials measured.
type Taken struct {
	Candidate
	Tried []map[string]float64 `json:"tried,omitempty" maxItems:"50" doc:"What its trials measured, from each location"`
}

// Wanted is a service as somebody describes it.
type Wanted struct {
	Service   string                 // id of one that is there already; empty: a new one of Spec
	Spec      definition.ServiceSpec // of a new one
	Defaults  *definition.CheckDefaults
	Taken     []Taken
	IntervalS int64
	Locations []string
	Agreement *definition.AgreementSpec // its service is filled in; nil: nothing was promised
}

// followed are the fields of a new check that follow the defaults of its service:
// all that there are, but not the pace of what changes seldom.
func followed(kind string) []string {
	out := []string{"locations", "rolling", "confirm", "retry_s", "recover", "quorum"}
	if !starts[kind].slow {
		out = append(out, "interval_s", "timeout_ms", "stale_after_s")
	}
	return out
}

// Steps are those of the change that makes it. id is that of the service.
func (w Wanted) Steps(id string) []catalogue.Step {
	var out []catalogue.Step
	if w.Service == "" {
		out = append(out, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Service, ID: id, Spec: w.Spec})
	} else {
		id = w.Service
	}
	var kinds []string
	for _, t := range w.Taken {
		kinds = append(kinds, t.Kind)
	}
	decides := Decides(kinds)
	for _, t := range w.Taken {
		role := definition.Informs
		if t.Kind == decides {
			role = definition.Decides
		}
		spec := Check(t.Candidate, id, w.IntervalS, w.Locations, role, t.Tried)
		if w.Defaults != nil {
			spec.Follows = followed(t.Kind)
		}
		out = append(out, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Check, Name: id + " " + t.Kind,
			Spec: spec.Following(w.Defaults)})
	}
	if w.Agreement != nil {
		a := *w.Agreement
		a.Service = id
		out = append(out, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Agreement, Spec: a})
	}
	return out
}
