package account

import (
	"math/big"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
)

// WindowEffect is what a planned maintenance window would do to an account
// still in progress. All times are in milliseconds.
type WindowEffect struct {
	// ServiceMS is how much of the window lies in service hours still to come.
	ServiceMS int64 `json:"service_ms"`
	// GrantedMS is how much of that the agreement grants as maintenance.
	GrantedMS int64 `json:"granted_ms"`
	// DisplacedMS is granted time that later windows lose, because this one uses up the cap.
	DisplacedMS int64 `json:"displaced_ms"`
	// AllowanceMS is how much the period's allowance changes.
	AllowanceMS int64 `json:"allowance_ms"`
	// DowntimeMS is the downtime it costs when the service is down throughout.
	DowntimeMS int64 `json:"downtime_ms"`
	// AllowanceLeftMS is what is left of the allowance then.
	AllowanceLeftMS int64   `json:"allowance_left_ms"`
	Verdict         Verdict `json:"verdict"`
}

// Window says what window w on the agreement's service would add or cost, over
// what is still to come of the period. The error is a *definition.Fault.
func (e *Evidence) Window(a definition.Agreement, w definition.Window) (*WindowEffect, error) {
	planned, err := definition.CompileWindow(w)
	if err != nil {
		return nil, err
	}
	before, err := e.Account(a)
	if err != nil {
		return nil, err
	}
	bundle := *e.bundle
	bundle.Windows = append(append([]definition.CompiledWindow(nil), bundle.Windows...), planned)
	with := &Evidence{&bundle, e.states, e.timing}
	after, err := with.Account(a)
	if err != nil {
		return nil, err
	}
	rest := span.Span{From: before.Clauses.Covered.To, To: before.Clauses.Period.To}
	length := w.DurationS * span.Second
	starts, err := planned.Starts(rest.From.Add(-length), rest.To)
	if err != nil {
		return nil, &definition.Fault{Path: "rrule", Message: err.Error()}
	}
	var spans []span.Span
	if slices.Contains(w.Services, a.Service) {
		for _, s := range starts {
			spans = append(spans, span.Span{From: s, To: s.Add(length)})
		}
	}
	own := span.Union(spans...).Intersect(before.Clauses.Hours).Cut(rest)
	others := complement(own, rest)
	out := &WindowEffect{
		ServiceMS:   own.Length(),
		GrantedMS:   own.Intersect(after.Clauses.Granted).Length(),
		DisplacedMS: before.Clauses.Granted.Intersect(others).Length() - after.Clauses.Granted.Intersect(others).Length(),
		AllowanceMS: after.AllowanceMS - before.AllowanceMS,
	}
	out.DowntimeMS = out.ServiceMS - out.GrantedMS
	left := new(big.Rat).Sub(after.Exact.Allowance, after.Exact.Downtime)
	left.Sub(left, ratio(out.DowntimeMS, 1))
	out.AllowanceLeftMS, out.Verdict = floor(left), OnTrack
	if left.Sign() < 0 {
		out.Verdict = Missed
	}
	return out, nil
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
