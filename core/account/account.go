package account

import (
	"fmt"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Evidence is a compiled bundle together with the states of its services, from
// which the account of any of its agreements follows.
type Evidence struct {
	bundle *definition.Compiled
	states map[string]span.Timeline[verdict.Views]
	timing Timing
}

// Timing returns how many measurements of a check answered (outcome ok or
// degraded, with a total_ms) while counted holds at their instant, and how many
// of those within limit, in thousandths of a millisecond. nil where there is no such source.
type Timing func(check string, limit int64, counted func(span.Instant) bool) (measurements, within int64, err error)

// NewEvidence judges the stretches of source by the definitions of bundle.
func NewEvidence(bundle *definition.Compiled, source verdict.Source, timing Timing) *Evidence {
	return &Evidence{bundle, verdict.Services(bundle, source), timing}
}

// Service returns the state over time of a service of the bundle.
func (e *Evidence) Service(id string) span.Timeline[verdict.Views] { return e.states[id] }

// With is the evidence with one more approved adjustment, which wins over all others.
func (e *Evidence) With(more definition.Adjustment) *Evidence {
	bundle := *e.bundle
	bundle.Adjustments = append(slices.Clone(bundle.Adjustments), more)
	return &Evidence{&bundle, e.states, e.timing}
}

// Interval is a maximal run of one class.
type Interval struct {
	From  span.Instant `json:"from"`
	To    span.Instant `json:"to"`
	Class Class        `json:"class"`
}

// Account is the accounting of one agreement over one period, in the form of
// kestite-account/1. Percentages are decimal strings, nil where there is none.
type Account struct {
	Agreement               string          `json:"agreement"`
	Service                 string          `json:"service"`
	Final                   bool            `json:"final"`
	From                    span.Instant    `json:"from"`
	To                      span.Instant    `json:"to"`
	TotalMS                 Totals          `json:"total_ms"`
	BaseMS                  int64           `json:"base_ms"`
	DowntimeMS              int64           `json:"downtime_ms"`
	AvailabilityPercent     *string         `json:"availability_percent"`
	AvailabilityLowPercent  *string         `json:"availability_low_percent"`
	AvailabilityHighPercent *string         `json:"availability_high_percent"`
	CoveragePercent         string          `json:"coverage_percent"`
	AllowanceMS             int64           `json:"allowance_ms"`
	AllowanceLeftMS         int64           `json:"allowance_left_ms"`
	Verdict                 Verdict         `json:"verdict"`
	Outages                 Outages         `json:"outages"`
	CreditPercent           string          `json:"credit_percent"`
	Intervals               []Interval      `json:"intervals"`
	Latency                 *LatencyOutcome `json:"latency,omitempty"`
	Objectives              *ObjectivesMet  `json:"objectives,omitempty"`
	Clauses                 *Clauses        `json:"-"`
	Exact                   Exact           `json:"-"`
}

// Totals is the time of each class in milliseconds.
type Totals struct {
	Period      int64 `json:"period"`
	Agreed      int64 `json:"agreed"`
	Outside     int64 `json:"outside"`
	Up          int64 `json:"up"`
	Degraded    int64 `json:"degraded"`
	Down        int64 `json:"down"`
	Tolerated   int64 `json:"tolerated"`
	Maintenance int64 `json:"maintenance"`
	Upstream    int64 `json:"upstream"`
	Excused     int64 `json:"excused"`
	Unmeasured  int64 `json:"unmeasured"`
}

// Outages sums up the maximal runs of class down.
type Outages struct {
	Count     int64  `json:"count"`
	TotalMS   int64  `json:"total_ms"`
	LongestMS int64  `json:"longest_ms"`
	MTTRMS    *int64 `json:"mttr_ms"`
	MTBFMS    *int64 `json:"mtbf_ms"`
}

// LatencyOutcome is the result of a latency objective.
type LatencyOutcome struct {
	Measurements int64   `json:"measurements"`
	Within       int64   `json:"within"`
	Percent      *string `json:"percent"`
	Met          *bool   `json:"met"`
}

// Verdict is the outcome of an account.
type Verdict string

// The verdicts.
const (
	Met           Verdict = "met"
	Missed        Verdict = "missed"
	OnTrack       Verdict = "on-track"
	Insufficient  Verdict = "insufficient"
	NotApplicable Verdict = "not-applicable"
)

// Account does the accounting of one agreement, which may differ in its clauses
// from the bundle's own: that is a what-if. Its service must be in the bundle.
// The error is a *definition.Fault, or what Timing failed with.
func (e *Evidence) Account(a definition.Agreement) (*Account, error) {
	hours, err := definition.CompileHours(a.ServiceHours)
	if err != nil {
		return nil, err
	}
	c, err := newClauses(e, a, hours)
	if err != nil {
		return nil, err
	}
	out := &Account{
		Agreement: a.ID, Service: a.Service, Final: c.Final,
		From: c.Covered.From, To: c.Covered.To, Clauses: c, Intervals: []Interval{},
	}
	states := e.states[a.Service]
	line := c.classify(states, verdict.Nominal)
	nominal := c.figures(line, func(i Interval) { out.Intervals = append(out.Intervals, i) })
	low := c.figures(c.classify(states, verdict.Low), nil)
	high := c.figures(c.classify(states, verdict.High), nil)
	c.fill(out, nominal, low, high)
	out.Objectives = c.objectives(states, out)
	if a.Latency != nil && e.timing != nil {
		if out.Latency, err = latency(*a.Latency, e.timing, line, c.Covered); err != nil {
			return nil, fmt.Errorf("latency of %s: %w", a.Latency.Check, err)
		}
	}
	return out, nil
}

// All accounts every agreement of the bundle, in its order.
func (e *Evidence) All() ([]*Account, error) {
	out := make([]*Account, 0, len(e.bundle.Agreements))
	for _, a := range e.bundle.Agreements {
		acc, err := e.Account(a)
		if err != nil {
			return nil, err
		}
		out = append(out, acc)
	}
	return out, nil
}

// Format is the name of the format that Document writes.
const Format = "kestite-account/1"

// Document is a list of accounts as kestite-account/1.
type Document struct {
	Format   string     `json:"format"`
	Accounts []*Account `json:"accounts"`
}

// Under makes the accounts of several periods under clauses that may differ
// from those in force then: what the last periods would have looked like.
// Every period's evidence has to hold the agreement's service.
func Under(periods []*Evidence, a definition.Agreement) ([]*Account, error) {
	out := make([]*Account, 0, len(periods))
	for _, e := range periods {
		one, err := e.Account(a)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}
