package api

import (
	"context"
	"math/big"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/topology"
	"kestite/core/verdict"
	"kestite/server/history"
)

// ModelView is the availability that follows from what a service needs.
type ModelView struct {
	Leaves   []ModelLeaf `json:"leaves" doc:"What it comes down to: services that are measured, or need nothing"`
	Fault    string      `json:"fault,omitempty" doc:"Why it cannot be computed"`
	Targets  *Modelled   `json:"targets,omitempty" doc:"From what was promised of each; absent: not of all of them something was"`
	Measured *Modelled   `json:"measured,omitempty" doc:"From the last 90 days of each; absent: not all of them were measured"`
	Promises []Promised  `json:"promises" doc:"What was promised of the service, with whether that is more than it can support"`
}

// ModelLeaf is one of the services that an availability is made of.
type ModelLeaf struct {
	Service  string `json:"service"`
	Name     string `json:"name"`
	Target   string `json:"target_percent,omitempty" doc:"The highest that was promised of it"`
	Measured string `json:"measured_percent,omitempty" doc:"Of the last 90 days, of the time that was measured"`
}

// Modelled is an availability that follows.
type Modelled struct {
	Percent string `json:"percent" doc:"Truncated to four decimals: the highest target it supports"`
}

// Promised is what was promised of the service itself.
type Promised struct {
	Agreement string `json:"agreement"`
	Name      string `json:"name"`
	Target    string `json:"target_percent"`
	Exceeds   bool   `json:"exceeds" doc:"It is more than follows from what was promised of what the service needs"`
}

// modelledOver is the time whose measurements a model takes, ms.
const modelledOver = 90 * span.Day

func (s *Server) modelled(ctx context.Context, in *ByID) (*body[ModelView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if e := snap.Services[in.ID]; e == nil || e.Retired {
		return nil, huma.Error404NotFound("There is no such service.")
	}
	out := ModelView{Leaves: []ModelLeaf{}, Promises: []Promised{}}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	past := span.Span{From: now.Add(-modelledOver), To: now}
	open, err := s.Books.Open(ctx, snap, calendar.Exactly(past, zone), now, []string{in.ID}, nil)
	if history.Incomputable(err) {
		out.Fault = err.Error()
		return &body[ModelView]{out}, nil
	}
	if err != nil {
		return nil, err
	}
	leaves := topology.Leaves(open.Bundle, in.ID, now-1)
	if len(leaves) == 1 && leaves[0] == in.ID { // it needs nothing: there is nothing to model
		return &body[ModelView]{out}, nil
	}
	targets, measured := map[string]float64{}, map[string]float64{}
	for _, id := range leaves {
		l := ModelLeaf{Service: id, Name: snap.Named(catalogue.Service, id)}
		if best := bestTarget(snap, id); best != "" {
			l.Target = best
			targets[id] = partOf(best)
		}
		var total [4]int64
		span.Map(open.Evidence.Service(id), func(v verdict.Views) verdict.State { return v[verdict.Nominal] }).Runs(past,
			func(s span.Span, v verdict.State) { total[v] += s.Length() })
		if p, is := topology.Measured(total[verdict.Up], total[verdict.Degraded], total[verdict.Down]); is {
			measured[id] = p
			l.Measured = topology.BestTarget(p)
		}
		out.Leaves = append(out.Leaves, l)
	}
	model := func(own map[string]float64) (*Modelled, error) {
		if len(own) < len(leaves) {
			return nil, nil
		}
		p, err := topology.Modelled(open.Bundle, own, in.ID)
		if err != nil {
			return nil, err
		}
		return &Modelled{topology.BestTarget(p)}, nil
	}
	if out.Targets, err = model(targets); err == nil {
		out.Measured, err = model(measured)
	}
	if err != nil {
		out.Fault = err.Error()
	}
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if spec.Service == in.ID {
			out.Promises = append(out.Promises, Promised{id, called(snap, id), string(spec.TargetPercent),
				out.Targets != nil && spec.TargetPercent.Rat().Cmp(definition.Percent(out.Targets.Percent).Rat()) > 0})
		}
	}
	return &body[ModelView]{out}, nil
}

// bestTarget is the highest target that was promised of a service; empty: nothing was.
func bestTarget(snap *catalogue.Snapshot, service string) string {
	best := ""
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if spec.Service == service && (best == "" || spec.TargetPercent.Rat().Cmp(definition.Percent(best).Rat()) > 0) {
			best = string(spec.TargetPercent)
		}
	}
	return best
}

// partOf is a percentage as 0–1.
func partOf(percent string) float64 {
	f, _ := new(big.Rat).Quo(definition.Percent(percent).Rat(), big.NewRat(100, 1)).Float64()
	return f
}
