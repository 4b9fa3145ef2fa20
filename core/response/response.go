// Package response sums up how long answers took: percentiles by check and location over
// the measurements of a period, exact and recomputable from them.
package response

import (
	"cmp"
	"slices"

	"kestite/core/measure"
	"kestite/core/span"
)

// Key is a check at a location.
type Key struct{ Check, Location string }

// Summary is how long the answers of a check to one location took. Times are thousandths
// of a millisecond.
type Summary struct {
	Check    string `json:"check"`
	Location string `json:"location"`
	Measure  string `json:"measure" doc:"What was timed, total_ms"`
	Count    int64  `json:"count" doc:"Answered measurements in service hours; what was not answered took no time, and counts in the account"`
	P50      int64  `json:"p50_us" doc:"Percentiles by nearest rank: the smallest time that so many percent of the answers did not exceed"`
	P90      int64  `json:"p90_us"`
	P95      int64  `json:"p95_us"`
	P99      int64  `json:"p99_us"`
	Longest  int64  `json:"longest_us"`
}

// Measure is what a kind of check times when it is answered: the measure its summaries
// follow, where that is a time. The index is its place among the kind's measures; false
// where the kind times nothing.
func Measure(kind string) (name string, index int, is bool) {
	k, known := measure.KindNamed(kind)
	if !known || k.Leading >= len(k.Measures) || k.Measures[k.Leading].Unit != "ms" {
		return "", 0, false
	}
	return k.Measures[k.Leading].Name, k.Leading, true
}

// Answered says whether an outcome is one of a measurement that was answered.
func Answered(o measure.Outcome) bool { return o == measure.OK || o == measure.Degraded }

// Times are the answers that are to be summed up.
type Times struct {
	// Hours are the times that count.
	Hours span.Set
	of    map[Key]*lane
}

type lane struct {
	measure string
	values  []int64
}

// Add counts an answer of so many thousandths of a millisecond at an instant.
func (t *Times) Add(key Key, measure string, at span.Instant, thousandths int64) {
	if !t.Hours.Contains(at) {
		return
	}
	if t.of == nil {
		t.of = map[Key]*lane{}
	}
	l := t.of[key]
	if l == nil {
		l = &lane{measure: measure}
		t.of[key] = l
	}
	l.values = append(l.values, thousandths)
}

// Summaries are what was counted, in order of check and location.
func (t *Times) Summaries() []Summary {
	var out []Summary
	for key, l := range t.of {
		slices.Sort(l.values)
		at := func(p int) int64 { return Percentile(l.values, p) }
		out = append(out, Summary{key.Check, key.Location, l.measure, int64(len(l.values)), at(50), at(90), at(95), at(99), at(100)})
	}
	slices.SortFunc(out, func(a, b Summary) int {
		return cmp.Or(cmp.Compare(a.Check, b.Check), cmp.Compare(a.Location, b.Location))
	})
	return out
}

// Percentile is the smallest of sorted values that at least p percent of them do not
// exceed (the nearest rank); 0 where there are none. p lies from 1 to 100.
func Percentile(sorted []int64, p int) int64 {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[(p*len(sorted)+99)/100-1]
}
