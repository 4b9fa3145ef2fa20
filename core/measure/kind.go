package measure

import (
	"fmt"
	"math"
)

// Measure is a value that a kind of check yields, with its unit.
type Measure struct {
	Name string  `json:"name"`
	Unit string  `json:"unit"` // "ms", "s", "%", "B", "d", "bit" or "" for a plain number
	Text string  `json:"text"`
	Low  float64 `json:"low"` // range of sensible limits
	High float64 `json:"high"`
}

// Kind is what a kind of check yields. Measures are stored in this order, so
// new ones are only ever added at the end.
type Kind struct {
	Name     string    `json:"name"`
	Text     string    `json:"text"`
	Leading  int       `json:"leading" doc:"Index of the measure that summaries follow"`
	Measures []Measure `json:"measures"`
}

const (
	longest = 600_000 // ms; no timeout is longer
	century = 36_525  // d
)

// Kinds of check that can be measured.
var (
	Ping = Kind{
		Name: "ping", Text: "Ping", Leading: 2,
		Measures: []Measure{
			{"loss_percent", "%", "Loss", 0, 100},
			{"rtt_min_ms", "ms", "Shortest round trip", 0, longest},
			{"rtt_mean_ms", "ms", "Mean round trip", 0, longest},
			{"rtt_max_ms", "ms", "Longest round trip", 0, longest},
			{"jitter_ms", "ms", "Jitter", 0, longest},
		},
	}
	HTTP = Kind{
		Name: "http", Text: "HTTP", Leading: 0,
		Measures: []Measure{
			{"total_ms", "ms", "Total", 0, longest},
			{"dns_ms", "ms", "Name lookup", 0, longest},
			{"connect_ms", "ms", "Connect", 0, longest},
			{"tls_ms", "ms", "TLS handshake", 0, longest},
			{"first_byte_ms", "ms", "First byte", 0, longest},
			{"status", "", "Status", 100, 599},
			{"size_bytes", "B", "Size", 0, 1 << 40},
			{"body_ms", "ms", "Body", 0, longest},
			{"redirects", "", "Redirects followed", 0, 10},
			{"certificate_days_left", "d", "Days left of the certificate", -century, century},
			{"value", "", "Value in the answer", -1e15, 1e15},
		},
	}
	TCP = Kind{
		Name: "tcp", Text: "TCP", Leading: 1,
		Measures: []Measure{
			{"dns_ms", "ms", "Name lookup", 0, longest},
			{"connect_ms", "ms", "Connect", 0, longest},
		},
	}
	Certificate = Kind{
		Name: "certificate", Text: "Certificate", Leading: 0,
		Measures: []Measure{
			{"days_left", "d", "Days left of the certificate", -century, century},
			{"chain_days_left", "d", "Days left of the chain's shortest", -century, century},
			{"key_bits", "bit", "Key length", 0, 65536},
			{"tls_version", "", "TLS version", 1, 2},
			{"dns_ms", "ms", "Name lookup", 0, longest},
			{"connect_ms", "ms", "Connect", 0, longest},
			{"tls_ms", "ms", "TLS handshake", 0, longest},
			{"ocsp_stapled", "", "Revocation status stapled", 0, 1},
		},
	}
	DNS = Kind{
		Name: "dns", Text: "DNS", Leading: 0,
		Measures: []Measure{
			{"total_ms", "ms", "Answer", 0, longest},
			{"answers", "", "Records of the type asked for", 0, 65535},
			{"ttl_s", "s", "Shortest time to live", 0, 1 << 31},
		},
	}
	Path = Kind{
		Name: "path", Text: "Path", Leading: 2,
		Measures: []Measure{
			{"loss_percent", "%", "Loss to the target", 0, 100},
			{"rtt_min_ms", "ms", "Shortest round trip", 0, longest},
			{"rtt_mean_ms", "ms", "Mean round trip", 0, longest},
			{"rtt_max_ms", "ms", "Longest round trip", 0, longest},
			{"hops", "", "Hops", 0, 255},
			{"route_changed", "", "Route changed", 0, 1},
			{"route", "", "Route's fingerprint", 0, 1<<fingerprintBits - 1},
		},
	}
	UDP = Kind{
		Name: "udp", Text: "UDP echo", Leading: 2,
		Measures: []Measure{
			{"loss_percent", "%", "Loss", 0, 100},
			{"rtt_min_ms", "ms", "Shortest round trip", 0, longest},
			{"rtt_mean_ms", "ms", "Mean round trip", 0, longest},
			{"rtt_max_ms", "ms", "Longest round trip", 0, longest},
			{"jitter_ms", "ms", "Jitter there", 0, longest},
			{"jitter_back_ms", "ms", "Jitter back", 0, longest},
			{"one_way_ms", "ms", "Delay there", 0, longest},
			{"one_way_back_ms", "ms", "Delay back", 0, longest},
			{"rating", "", "Rating R", 0, 93.2},
			{"mos", "", "MOS", 1, 4.5},
			{"reordered", "", "Packets out of order", 0, 10_000},
		},
	}
	ReportIn = Kind{
		Name: "report-in", Text: "Report-in", Leading: 0,
		Measures: []Measure{
			{"since_last_s", "s", "Since the report before", 0, 86400 * 366},
			{"value_1", "", "First number", -1e15, 1e15},
			{"value_2", "", "Second number", -1e15, 1e15},
			{"value_3", "", "Third number", -1e15, 1e15},
			{"value_4", "", "Fourth number", -1e15, 1e15},
		},
	}
	Derived = Kind{
		Name: "derived", Text: "Derived", Leading: 0,
		Measures: []Measure{
			{"value", "", "Value", -1e15, 1e15},
			{"sources", "", "Values it is made of", 0, 1000},
		},
	}
	Kinds = []Kind{Ping, HTTP, TCP, Certificate, DNS, Path, UDP, ReportIn, Derived}
)

// KindNamed finds a kind of check.
func KindNamed(name string) (Kind, bool) {
	for _, k := range Kinds {
		if k.Name == name {
			return k, true
		}
	}
	return Kind{}, false
}

// Index returns the place of a measure in the kind's values, −1 when it has none of that name.
func (k Kind) Index(measure string) int {
	for i, m := range k.Measures {
		if m.Name == measure {
			return i
		}
	}
	return -1
}

// None returns values of the kind with every measure absent (NaN).
func (k Kind) None() []float64 {
	values := make([]float64, len(k.Measures))
	for i := range values {
		values[i] = math.NaN()
	}
	return values
}

// Limit bounds one measure. A value beyond the failed bound makes the
// measurement failed, one beyond the degraded bound degraded.
type Limit struct {
	Measure       string   `json:"measure" doc:"Name of the measure"`
	DegradedAbove *float64 `json:"degraded_above,omitempty"`
	FailedAbove   *float64 `json:"failed_above,omitempty"`
	DegradedBelow *float64 `json:"degraded_below,omitempty"`
	FailedBelow   *float64 `json:"failed_below,omitempty"`
	// At most one of these makes the limit one over time; without them it is at once.
	InARow int   `json:"in_a_row,omitempty" minimum:"0" maximum:"100" doc:"Measurements in a row that must break it"`
	ForS   int64 `json:"for_s,omitempty" minimum:"0" maximum:"86400" doc:"Seconds for which it must be broken without a pause"`
	MeanS  int64 `json:"mean_s,omitempty" minimum:"0" maximum:"86400" doc:"The mean over so many seconds is what must break it"`
}

// Timed says whether the limit looks at more than one measurement.
func (l Limit) Timed() bool { return l.InARow > 1 || l.ForS > 0 || l.MeanS > 0 }

// Check says what is wrong with a limit for the kind: an unknown measure, a
// bound outside its range, or bounds that contradict.
func (l Limit) Check(k Kind) error {
	i := k.Index(l.Measure)
	if i < 0 {
		return fmt.Errorf("%q is no measure of %s", l.Measure, k.Name)
	}
	m := k.Measures[i]
	for _, b := range []*float64{l.DegradedAbove, l.FailedAbove, l.DegradedBelow, l.FailedBelow} {
		if b != nil && (math.IsNaN(*b) || *b < m.Low || *b > m.High) {
			return fmt.Errorf("%s of %v %s is impossible; it lies between %v and %v %s", m.Text, *b, m.Unit, m.Low, m.High, m.Unit)
		}
	}
	if l.DegradedAbove == nil && l.FailedAbove == nil && l.DegradedBelow == nil && l.FailedBelow == nil {
		return fmt.Errorf("the limit on %s has no bound; say from where on it is degraded or failed, or take the limit away", m.Text)
	}
	ways := 0
	for _, way := range []bool{l.InARow > 1, l.ForS > 0, l.MeanS > 0} {
		if way {
			ways++
		}
	}
	if ways > 1 {
		return fmt.Errorf("the limit on %s is in a row, for a time or on the mean; choose one", m.Text)
	}
	if l.DegradedAbove != nil && l.FailedAbove != nil && *l.DegradedAbove > *l.FailedAbove {
		return fmt.Errorf("degraded above %v %s lies beyond failed above %v %s; swap them", *l.DegradedAbove, m.Unit, *l.FailedAbove, m.Unit)
	}
	if l.DegradedBelow != nil && l.FailedBelow != nil && *l.DegradedBelow < *l.FailedBelow {
		return fmt.Errorf("degraded below %v %s lies beyond failed below %v %s; swap them", *l.DegradedBelow, m.Unit, *l.FailedBelow, m.Unit)
	}
	return nil
}

// Rate returns the outcome that limits make of values, and why. Absent values
// break no limit, and limits over time are left to a Memory.
func (k Kind) Rate(values []float64, limits []Limit) (Outcome, string) {
	outcome, why := OK, ""
	for _, l := range limits {
		i := k.Index(l.Measure)
		if i < 0 || i >= len(values) || math.IsNaN(values[i]) || l.Timed() {
			continue
		}
		if o, text := l.breach(k.Measures[i], values[i]); o > outcome {
			outcome, why = o, text
		}
	}
	return outcome, why
}

// breach is what one value makes of a limit, with the reason; OK where it holds.
func (l Limit) breach(m Measure, v float64) (Outcome, string) {
	said := func(word string, bound *float64) string {
		return fmt.Sprintf("%s %s %s is %s %s %s", m.Text, figure(v), m.Unit, word, figure(*bound), m.Unit)
	}
	switch {
	case l.FailedAbove != nil && v > *l.FailedAbove:
		return Failed, said("above", l.FailedAbove)
	case l.FailedBelow != nil && v < *l.FailedBelow:
		return Failed, said("below", l.FailedBelow)
	case l.DegradedAbove != nil && v > *l.DegradedAbove:
		return Degraded, said("above", l.DegradedAbove)
	case l.DegradedBelow != nil && v < *l.DegradedBelow:
		return Degraded, said("below", l.DegradedBelow)
	}
	return OK, ""
}

func figure(v float64) string {
	if v == math.Trunc(v) {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.1f", v)
}
