// Package proposal says what to measure: the checks that suit an address, the
// limits and roles they start with, the change that makes a service of them, and
// what their schedule costs.
package proposal

import (
	"cmp"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strconv"
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

// Limit is the limit that suits a candidate by what it took when it was tried:
// degraded above three times the slowest, rounded up to one figure, and not below
// what makes sense for its kind. The words say how it was found; they are empty
// where nothing answered, and there is no limit then.
func Limit(kind string, tried []map[string]float64) (limit measure.Limit, how string) {
	s := starts[kind]
	slowest := 0.0
	for _, measures := range tried {
		if v, has := measures[s.pace]; has && measure.Usable(v) {
			slowest = max(slowest, v)
		}
	}
	if s.pace == "" || slowest <= 0 {
		return measure.Limit{}, ""
	}
	raw := max(s.paceMS, 3*slowest)
	step := math.Pow(10, math.Floor(math.Log10(raw)))
	limit = measure.Limit{Measure: s.pace, DegradedAbove: bound(math.Ceil(raw/step) * step)}
	k, _ := measure.KindNamed(kind)
	if limit.Check(k) != nil { // no time that can be waited for is beyond the measure's range
		return measure.Limit{}, ""
	}
	how = fmt.Sprintf("degraded above %s ms: three times the slowest, which took %s ms", number(*limit.DegradedAbove), number(slowest))
	if 3*slowest < s.paceMS {
		how = fmt.Sprintf("degraded above %s ms: the slowest took %s ms, and nobody notices less than %s", number(*limit.DegradedAbove),
			number(slowest), number(s.paceMS))
	}
	return limit, how
}

// number writes a measured one for people: three figures are enough.
func number(v float64) string {
	if v >= 100 {
		return strconv.FormatFloat(math.Round(v), 'f', -1, 64)
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

// Check is the check that a candidate becomes.
func Check(c Candidate, service string, intervalS int64, locations []string, role string, tried []map[string]float64) definition.CheckSpec {
	spec := New(c.Kind, service, locations)
	if starts[c.Kind].slow {
		intervalS = max(intervalS, spec.IntervalS)
	}
	spec.Name, spec.Target, spec.Role, spec.IntervalS, spec.StaleAfterS = c.Name, c.Target, role, intervalS, staleAfter(intervalS)
	spec.TimeoutMS = min(spec.TimeoutMS, intervalS*1000-2000)
	if l, how := Limit(c.Kind, tried); how != "" {
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

// Checks are those that what was taken becomes, in its order: always one decides.
func (w Wanted) Checks(service string) []definition.CheckSpec {
	kinds := make([]string, len(w.Taken))
	for i, t := range w.Taken {
		kinds[i] = t.Kind
	}
	decides := Decides(kinds)
	out := make([]definition.CheckSpec, len(w.Taken))
	for i, t := range w.Taken {
		role := definition.Informs
		if t.Kind == decides {
			role = definition.Decides
		}
		out[i] = Check(t.Candidate, service, w.IntervalS, w.Locations, role, t.Tried)
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
	for i, spec := range w.Checks(id) {
		t := w.Taken[i]
		if w.Defaults != nil {
			spec.Follows = Follows(t.Kind)
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
