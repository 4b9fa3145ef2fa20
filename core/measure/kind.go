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
	Name     string
	Text     string
	Leading  int // the measure that summaries follow
	Measures []Measure
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
	Kinds = []Kind{Ping, HTTP, TCP, Certificate, DNS}
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
}

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
	if l.DegradedAbove != nil && l.FailedAbove != nil && *l.DegradedAbove > *l.FailedAbove {
		return fmt.Errorf("degraded above %v %s lies beyond failed above %v %s; swap them", *l.DegradedAbove, m.Unit, *l.FailedAbove, m.Unit)
	}
	if l.DegradedBelow != nil && l.FailedBelow != nil && *l.DegradedBelow < *l.FailedBelow {
		return fmt.Errorf("degraded below %v %s lies beyond failed below %v %s; swap them", *l.DegradedBelow, m.Unit, *l.FailedBelow, m.Unit)
	}
	return nil
}

// Judge returns the outcome that limits make of values, and why. Absent values break no limit.
func (k Kind) Judge(values []float64, limits []Limit) (Outcome, string) {
	outcome, why := OK, ""
	for _, l := range limits {
		i := k.Index(l.Measure)
		if i < 0 || i >= len(values) || math.IsNaN(values[i]) {
			continue
		}
		v, m := values[i], k.Measures[i]
		breach := func(o Outcome, word string, bound *float64) {
			if o > outcome {
				outcome = o
				why = fmt.Sprintf("%s %s %s is %s %s %s", m.Text, figure(v), m.Unit, word, figure(*bound), m.Unit)
			}
		}
		if l.FailedAbove != nil && v > *l.FailedAbove {
			breach(Failed, "above", l.FailedAbove)
		}
		if l.FailedBelow != nil && v < *l.FailedBelow {
			breach(Failed, "below", l.FailedBelow)
		}
		if l.DegradedAbove != nil && v > *l.DegradedAbove {
			breach(Degraded, "above", l.DegradedAbove)
		}
		if l.DegradedBelow != nil && v < *l.DegradedBelow {
			breach(Degraded, "below", l.DegradedBelow)
		}
	}
	return outcome, why
}

func figure(v float64) string {
	if v == math.Trunc(v) {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.1f", v)
}
