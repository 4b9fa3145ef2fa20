package api

import (
	"context"
	"fmt"
	"slices"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/core/topology"
	"kestite/core/verdict"
	"kestite/server/history"
	"kestite/server/incidents"
)

// Supposition is what a failure to come would do.
type Supposition struct {
	From     span.Instant    `json:"from"`
	To       span.Instant    `json:"to"`
	Timezone string          `json:"timezone"`
	Words    string          `json:"words" doc:"What it would do, in a sentence"`
	Effects  []EffectView    `json:"effects" doc:"Those that fail first, then those that lose redundancy"`
	Costs    []SupposedCost  `json:"costs" doc:"Agreements that it would cost something, the worst first"`
	Told     []RehearsalLine `json:"told" doc:"Who would be told of what fails first, if nobody did anything"`
}

// EffectView is what it would do to a service.
type EffectView struct {
	Service string   `json:"service"`
	Name    string   `json:"name"`
	Down    bool     `json:"down" doc:"It fails too; otherwise it loses redundancy"`
	First   bool     `json:"first" doc:"It is what is supposed to fail"`
	Already bool     `json:"already" doc:"It is down now, and so counts as down where the failure begins now"`
	Because []string `json:"because" doc:"Names of what it needs and would be down"`
	Spare   int      `json:"spare" doc:"Where it stays up: how many more may fail before it does"`
}

// SupposedCost is how an agreement would stand at the end of its period.
type SupposedCost struct {
	Agreement    string        `json:"agreement"`
	Name         string        `json:"name"`
	Customer     string        `json:"customer"`
	Service      string        `json:"service"`
	Target       string        `json:"target_percent"`
	Period       OwnPeriod     `json:"period"`
	Fault        string        `json:"fault,omitempty" doc:"Why it cannot be accounted"`
	Excused      string        `json:"excused,omitempty" doc:"The upstream service whose failure its clauses excuse"`
	DowntimeMS   int64         `json:"downtime_ms" doc:"Of the failure, what would be downtime"`
	LeftMS       int64         `json:"left_ms" doc:"Of the allowance, now"`
	LeftAfterMS  int64         `json:"left_after_ms"`
	RunsOutAt    *span.Instant `json:"runs_out_at,omitempty" doc:"When the allowance would be used up"`
	Availability string        `json:"availability_percent,omitempty" doc:"Of the whole period, if all else is well"`
	Missed       bool          `json:"missed"`
	MissedNow    bool          `json:"missed_now" doc:"It cannot be met any more already"`
	Credit       string        `json:"credit_percent" doc:"That would be owed"`
	CreditNow    string        `json:"credit_now_percent"`
}

// mostSupposed is for how long a failure may be supposed.
const mostSupposed = 31 * span.Day

func (s *Server) suppose(ctx context.Context, in *struct {
	Services []string `query:"services,explode" minItems:"1" maxItems:"50" required:"true" doc:"Ids of what fails"`
	From     string   `query:"from" maxLength:"40" doc:"When, as 2026-01-15T08:00:00Z, not before now; absent: now"`
	LastsS   int64    `query:"lasts_s" minimum:"60" maximum:"2678400" default:"3600"`
}) (*body[Supposition], error) {
	snap, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	at := now
	if in.From != "" {
		if at, err = span.ParseInstant(in.From); err != nil {
			return nil, definition.Faultf("query.from", "%v", err)
		}
		at = max(at, now)
	}
	if at > now.Add(400*span.Day) {
		return nil, definition.Faultf("query.from", "is more than 400 days ahead; take an earlier time")
	}
	already := map[string]bool{}
	if at == now {
		if already, err = s.downNow(ctx, in.Services); err != nil {
			return nil, err
		}
	}
	out := Supposition{From: at, To: at.Add(min(in.LastsS*span.Second, mostSupposed)), Timezone: snap.Timezone, Effects: []EffectView{}, Costs: []SupposedCost{},
		Told: []RehearsalLine{}}
	needs := map[string][]definition.Dependency{}
	for _, id := range catalogue.Live(snap.Services) {
		needs[id] = snap.Services[id].Current().Spec.DependsOn
	}
	for i, id := range in.Services {
		if _, is := needs[id]; !is {
			return nil, definition.Faultf(fmt.Sprintf("query.services[%d]", i), "%q names no service in force", id)
		}
	}
	down, failed := slices.Clone(in.Services), slices.Clone(in.Services)
	for id := range already {
		if _, is := needs[id]; is {
			failed = append(failed, id)
		}
	}
	slices.Sort(failed[len(in.Services):])
	for _, id := range in.Services {
		out.Effects = append(out.Effects, EffectView{Service: id, Name: snap.Named(catalogue.Service, id), Down: true, First: true, Because: []string{}})
	}
	for _, id := range failed[len(in.Services):] {
		out.Effects = append(out.Effects, EffectView{Service: id, Name: snap.Named(catalogue.Service, id), Down: true, Already: true, Because: []string{}})
	}
	before := topology.Suppose(needs, failed[len(in.Services):])
	for _, e := range topology.Suppose(needs, failed) {
		if slices.ContainsFunc(before, func(b topology.Effect) bool { return b.Service == e.Service && b.Down == e.Down && b.Spare == e.Spare }) {
			continue // it is so without what is supposed
		}
		v := EffectView{Service: e.Service, Name: snap.Named(catalogue.Service, e.Service), Down: e.Down, Spare: e.Spare, Because: []string{}}
		for _, id := range e.Because {
			v.Because = append(v.Because, snap.Named(catalogue.Service, id))
		}
		if e.Down {
			down = append(down, e.Service)
		}
		out.Effects = append(out.Effects, v)
	}
	if out.Costs, err = s.supposedCosts(ctx, snap, down, span.Span{From: out.From, To: out.To}); err != nil {
		return nil, err
	}
	for _, id := range in.Services {
		of := incident.Subject{About: incident.Service, ID: id}
		policy, is := incidents.PolicyOf(snap, of)
		if !is || policy.Down == "" {
			continue
		}
		plans := notice.Following(snap, notice.Plans(snap, of, id), id)
		for _, l := range notice.Rehearse(plans, d, policy.Down, at, int64(out.To-out.From), len(snap.NeededNow(id)) > 0) {
			v := lineView(snap, d, l)
			if len(in.Services) > 1 {
				v.Of = snap.Named(catalogue.Service, id)
			}
			out.Told = append(out.Told, v)
		}
	}
	slices.SortStableFunc(out.Told, func(a, b RehearsalLine) int { return int(a.At - b.At) })
	out.Words = supposed(out, len(in.Services))
	return &body[Supposition]{out}, nil
}

// supposed says what a failure would do, in a sentence.
func supposed(s Supposition, first int) string {
	more, weaker, missed, credits := -first, 0, 0, 0
	for _, e := range s.Effects {
		switch {
		case e.Already:
		case e.Down:
			more++
		default:
			weaker++
		}
	}
	for _, c := range s.Costs {
		if c.Missed && !c.MissedNow {
			missed++
		}
		if c.Credit != c.CreditNow {
			credits++
		}
	}
	parts := []string{"takes nothing else down"}
	if more > 0 {
		parts[0] = "takes " + counted(more, "other service", "other services") + " down"
	}
	if weaker > 0 {
		parts = append(parts, "leaves "+counted(weaker, "service", "services")+" with less to spare")
	}
	if missed > 0 {
		parts = append(parts, "makes "+counted(missed, "agreement", "agreements")+" impossible to meet")
	}
	if credits > 0 {
		parts = append(parts, "raises the credit of "+counted(credits, "agreement", "agreements"))
	}
	return "It " + inWords(parts) + "."
}

// downNow are the services that are down now, but those.
func (s *Server) downNow(ctx context.Context, but []string) (map[string]bool, error) {
	rows, err := s.Store.States(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, r := range rows {
		if r.State == int16(verdict.Down) && !slices.Contains(but, r.Service) {
			out[r.Service] = true
		}
	}
	return out, nil
}

// mostSupposedPeriods is how many periods of an agreement a failure is accounted in.
const mostSupposedPeriods = 12

// supposedCosts are the agreements of services that a failure would cost something.
func (s *Server) supposedCosts(ctx context.Context, snap *catalogue.Snapshot, down []string, during span.Span) ([]SupposedCost, error) {
	out := []SupposedCost{}
	for _, id := range catalogue.Live(snap.Agreements) {
		if !slices.Contains(down, snap.Agreements[id].Current().Spec.Service) {
			continue
		}
		from := during.From
		for n := 0; n < mostSupposedPeriods && from < during.To; n++ {
			v, period, err := s.supposedCost(ctx, snap, id, down, span.Span{From: from, To: during.To})
			if err != nil {
				return nil, err
			}
			if v == nil {
				break
			}
			out = append(out, *v)
			if v.Fault != "" {
				break
			}
			from = period.Span().To
		}
	}
	slices.SortStableFunc(out, func(a, b SupposedCost) int { return int(min(1, max(-1, a.LeftAfterMS-b.LeftAfterMS))) })
	return out, nil
}

// supposedCost is what a failure would cost an agreement in the period in which it begins;
// nil where there is none, or none any more.
func (s *Server) supposedCost(ctx context.Context, snap *catalogue.Snapshot, id string, down []string, during span.Span) (*SupposedCost, calendar.Period, error) {
	v := &SupposedCost{Agreement: id, Name: called(snap, id), Service: snap.Named(catalogue.Service, snap.Agreements[id].Current().Spec.Service), Credit: "0", CreditNow: "0"}
	a, period, err := s.accountAt(ctx, snap, id, during.From)
	switch {
	case history.Incomputable(err):
		v.Fault = err.Error()
		return v, period, nil
	case err != nil:
		return nil, period, err
	case a == nil || a.Final:
		return nil, period, nil
	}
	spec := snap.Accounting(id, a.From).Spec
	v.Customer, v.Target, v.Period = snap.Whom(spec), string(spec.TargetPercent), ownPeriod(period)
	v.LeftMS, v.LeftAfterMS, v.MissedNow, v.Missed = a.AllowanceLeftMS, a.AllowanceLeftMS, a.Verdict == account.Missed, a.Verdict == account.Missed
	v.Credit, v.CreditNow = a.CreditPercent, a.CreditPercent
	if v.Excused = excusedBy(snap, spec, down); v.Excused != "" {
		return v, period, nil
	}
	u := a.Suppose(span.Set{during}.Cut(period.Span()))
	v.DowntimeMS, v.LeftAfterMS, v.RunsOutAt = u.DowntimeMS, u.LeftMS, u.RunsOutAt
	v.Missed, v.Credit = u.Verdict == account.Missed, u.CreditPercent
	if u.AvailabilityPercent != nil {
		v.Availability = *u.AvailabilityPercent
	}
	return v, period, nil
}

// excusedBy is what the clauses of an agreement excuse of what would be down.
func excusedBy(snap *catalogue.Snapshot, spec definition.AgreementSpec, down []string) string {
	if spec.Upstream == nil {
		return ""
	}
	for _, id := range spec.Upstream.Excuse {
		if slices.Contains(down, id) {
			return snap.Named(catalogue.Service, id)
		}
	}
	return ""
}
