// Package wire is what agent and server say to each other over HTTP: JSON, and batches of
// measurements packed (packed.go).
// The agent always calls; its token goes in the Authorization header.
package wire

import (
	"slices"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/instrument"
)

// Paths of the agent's calls, below the server's URL.
const (
	PathAssignments = "/api/agent/v1/assignments"
	PathBatches     = "/api/agent/v1/batches"
	PathTrials      = "/api/agent/v1/trials"
	PathProgram     = "/api/agent/v1/program" // the program itself, for where it is not yet
)

// HeaderClock is on every answer to a known agent: when the request was received and
// answered by the database's clock, and how far the server's idea of that may be
// wrong, all in µs (instants since 1970, UTC), with a space between.
const HeaderClock = "Kestite-Clock"

// Off is how far an agent's own clock is off before it complains, in ms. It measures
// all the same: what counts is the database's clock.
const Off = 30_000

// MostAge is how old a measurement may be when it is delivered, in ms: 30 days.
const MostAge = 30 * 86_400_000

// Check is what an agent needs to know to measure.
type Check struct {
	ID        string `json:"id"`
	Kind      string `json:"kind"`
	Target    string `json:"target"`
	IntervalS int64  `json:"interval_s"`
	TimeoutMS int64  `json:"timeout_ms"`
	RetryS    int64  `json:"retry_s,omitempty"`
	Confirm   int64  `json:"confirm,omitempty"`
	// StaleAfterS is how long nothing may be measured before means begin anew.
	StaleAfterS int64           `json:"stale_after_s,omitempty"`
	Limits      []measure.Limit `json:"limits,omitempty"`
	definition.Settings
	Secret *instrument.Secret `json:"secret,omitempty"`
	// Quiet are times in which it is not measured: planned work, by a person's choice.
	Quiet []span.Span `json:"quiet,omitempty"`
}

// IsQuiet says whether a check is not measured at an instant.
func (c Check) IsQuiet(at span.Instant) bool {
	return slices.ContainsFunc(c.Quiet, func(s span.Span) bool { return s.Contains(at) })
}

// Of returns what a spec says about measuring.
func Of(id string, s definition.CheckSpec) Check {
	return Check{ID: id, Kind: s.Kind, Target: s.Target, IntervalS: s.IntervalS, TimeoutMS: s.TimeoutMS, RetryS: s.RetryS, Confirm: s.Confirm,
		StaleAfterS: s.StaleAfterS, Limits: s.Limits, Settings: s.Settings}
}

// Trial is a measurement asked for at once.
type Trial struct {
	ID    string `json:"id"`
	Check Check  `json:"check"`
}

// Saying is what an agent says of itself with every request for assignments.
type Saying struct {
	// Instance differs from one process to the next.
	Instance string `json:"instance"`
	Version  string `json:"version"`
	// Known is the mark of the assignments the agent has; the server answers
	// when it has others, or after WaitS seconds.
	Known       string       `json:"known"`
	WaitS       int64        `json:"wait_s"`
	ClockOffset int64        `json:"clock_offset_ms"`
	Uncertain   int64        `json:"uncertain_ms,omitempty"`
	Clock       span.Instant `json:"clock"`
	Backlog     int64        `json:"backlog"`
	LatenessMS  float64      `json:"lateness_ms"`
	Complaint   string       `json:"complaint"`
	Sockets     string       `json:"sockets"`
	CutOff      string       `json:"cut_off"`
	// SetAside is how many measurements are in quarantine, and Aside some of them.
	SetAside int64   `json:"set_aside,omitempty"`
	Aside    []Aside `json:"aside,omitempty"`
	// Lost is how many measurements its store could not keep, ever, and LostAt the
	// last time.
	Lost   int64        `json:"lost,omitempty"`
	LostAt span.Instant `json:"lost_at,omitempty"`
}

// Aside is a measurement in quarantine: one that no server could take.
type Aside struct {
	Check  string       `json:"check"`
	At     span.Instant `json:"at"`
	Reason string       `json:"reason"`
}

// MostAside is how many of them a report names, the latest.
const MostAside = 20

// Assignments are the checks of a location.
type Assignments struct {
	Location   string            `json:"location"`
	Mark       string            `json:"mark"`
	Clock      span.Instant      `json:"clock"`
	Checks     []Check           `json:"checks"`
	References []string          `json:"references,omitempty"`
	Rates      *definition.Rates `json:"rates,omitempty"`
	// Release is when a person last asked for the quarantine to be delivered
	// again; 0: never.
	Release span.Instant `json:"release,omitempty"`
	Trials  []Trial      `json:"trials,omitempty"`
}

// What is all of it that the mark stands for.
func (a Assignments) What() any {
	return struct {
		Checks     []Check
		References []string
		Rates      *definition.Rates
		Release    span.Instant
	}{a.Checks, a.References, a.Rates, a.Release}
}

// Measurement is one execution of a check.
type Measurement struct {
	Check    string             `json:"check"`
	At       span.Instant       `json:"at"`
	Outcome  measure.Outcome    `json:"outcome"`
	Measures map[string]float64 `json:"measures,omitempty"`
	LateMS   int64              `json:"late_ms,omitempty"`
	Detail   string             `json:"detail,omitempty"`
	Findings *measure.Findings  `json:"findings,omitempty"`
	Clock    *Clock             `json:"clock,omitempty"`
}

// Clock says how an instant was placed on the database's clock, in ms.
type Clock struct {
	// Offset is how far the agent's own clock was ahead, and Uncertain how far the
	// instant may be wrong.
	Offset    int64 `json:"offset_ms"`
	Uncertain int64 `json:"uncertain_ms"`
}

// Batch is a delivery of measurements, oldest first.
type Batch struct {
	Measurements []Measurement `json:"measurements"`
}

// MaxBatch is how many measurements a batch may hold, and MaxBytes how many
// bytes it may be, unpacked. A larger one is answered 413.
const (
	MaxBatch = 10_000
	MaxBytes = 32 << 20
)

// Receipt is the server's answer to a batch: everything in it is either stored
// or refused for good, and the agent may forget it.
type Receipt struct {
	Stored     int       `json:"stored"`
	Duplicates int       `json:"duplicates"`
	Refused    []Refusal `json:"refused,omitempty"`
}

// Refusal says why one measurement of a batch was not stored.
type Refusal struct {
	Index  int    `json:"index"`
	Reason string `json:"reason"`
	// Unstorable is a measurement that belongs here and that the server could
	// not keep: the agent sets it aside, so that a person can look.
	Unstorable bool `json:"unstorable,omitempty"`
}

// Result is the outcome of a trial.
type Result struct {
	Outcome  measure.Outcome    `json:"outcome"`
	Measures map[string]float64 `json:"measures,omitempty"`
	Detail   string             `json:"detail,omitempty"`
	Findings *measure.Findings  `json:"findings,omitempty"`
}
