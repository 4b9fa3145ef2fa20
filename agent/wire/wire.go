// Package wire is what agent and server say to each other, as JSON over HTTP.
// The agent always calls; its token goes in the Authorization header.
package wire

import (
	"encoding/json"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
)

// Paths of the agent's calls, below the server's URL.
const (
	PathAssignments = "/api/agent/v1/assignments"
	PathBatches     = "/api/agent/v1/batches"
	PathTrials      = "/api/agent/v1/trials"
)

// MaxClockOffset is how far an agent's clock may be off before it must not measure, in ms.
const MaxClockOffset = 30_000

// Check is what an agent needs to know to measure.
type Check struct {
	ID          string                          `json:"id"`
	Kind        string                          `json:"kind"`
	Target      string                          `json:"target"`
	IntervalS   int64                           `json:"interval_s"`
	TimeoutMS   int64                           `json:"timeout_ms"`
	Limits      []measure.Limit                 `json:"limits,omitempty"`
	Ping        *definition.PingSettings        `json:"ping,omitempty"`
	HTTP        *definition.HTTPSettings        `json:"http,omitempty"`
	Certificate *definition.CertificateSettings `json:"certificate,omitempty"`
	DNS         *definition.DNSSettings         `json:"dns,omitempty"`
}

// Of returns what a spec says about measuring.
func Of(id string, s definition.CheckSpec) Check {
	return Check{ID: id, Kind: s.Kind, Target: s.Target, IntervalS: s.IntervalS, TimeoutMS: s.TimeoutMS, Limits: s.Limits, Ping: s.Ping, HTTP: s.HTTP, Certificate: s.Certificate, DNS: s.DNS}
}

// Trial is a measurement asked for at once.
type Trial struct {
	ID    string `json:"id"`
	Check Check  `json:"check"`
}

// Report is what an agent says of itself with every request for assignments.
type Report struct {
	Version string `json:"version"`
	// Known is the mark of the assignments the agent has; the server answers
	// when it has others, or after WaitS seconds.
	Known       string       `json:"known"`
	WaitS       int64        `json:"wait_s"`
	ClockOffset int64        `json:"clock_offset_ms"`
	Clock       span.Instant `json:"clock"`
	Backlog     int64        `json:"backlog"`
	LatenessMS  float64      `json:"lateness_ms"`
	Complaint   string       `json:"complaint"`
}

// Assignments are the checks of a location.
type Assignments struct {
	Location string       `json:"location"`
	Mark     string       `json:"mark"`
	Clock    span.Instant `json:"clock"`
	Checks   []Check      `json:"checks"`
	Trials   []Trial      `json:"trials,omitempty"`
}

// Measurement is one execution of a check.
type Measurement struct {
	Check    string             `json:"check"`
	At       span.Instant       `json:"at"`
	Outcome  measure.Outcome    `json:"outcome"`
	Measures map[string]float64 `json:"measures,omitempty"`
	LateMS   int64              `json:"late_ms,omitempty"`
	Detail   string             `json:"detail,omitempty"`
}

// Batch is a delivery of measurements, oldest first.
type Batch struct {
	Measurements []Measurement `json:"measurements"`
}

// MaxBatch is how many measurements a batch may hold.
const MaxBatch = 10_000

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
}

// Result is the outcome of a trial.
type Result struct {
	Outcome  measure.Outcome    `json:"outcome"`
	Measures map[string]float64 `json:"measures,omitempty"`
	Detail   string             `json:"detail,omitempty"`
	Extra    json.RawMessage    `json:"extra,omitempty"`
}
