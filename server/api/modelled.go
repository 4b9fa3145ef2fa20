package api

import (
	"context"
	"math/big"
	"slices"

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
	Leaves   []ModelLeaf `json:"leaves" doc:"What it comes down to: services that are measured, or need nothing; itself, if measured, the last"`
	Fault    string      `json:"fault,omitempty" doc:"Why it cannot be computed"`
	Targets  *Modelled   `json:"targets,omitempty" doc:"From what was promised of what it needs; absent: Without says of what nothing was"`
	Measured *Modelled   `json:"measured,omitempty" doc:"From the last 90 days of each, and of itself; absent: Without says what was not measured"`
	Promises []Promised  `json:"promises" doc:"What was promised of the service, with whether that is more than it can support"`
}

// ModelLeaf is one of the services that an availability is made of.
type ModelLeaf struct {
	Service  string   `json:"service"`
	Name     string   `json:"name"`
	Itself   bool     `json:"itself,omitempty" doc:"It is the service that is modelled"`
	Target   string   `json:"target_percent,omitempty" doc:"The highest that was promised of it"`
	Measured string   `json:"measured_percent,omitempty" doc:"Of the last 90 days, of the time that was measured"`
	Outages  int      `json:"outages" doc:"In the last 90 days"`
	Without  []string `json:"without,omitempty" enum:"promise,measurement" doc:"What is not known of it, and cannot be done without"`
}

// Modelled is an availability that follows.
type Modelled struct {
	Percent string `json:"percent" doc:"Truncated to four decimals: the highest target it supports"`
	Low     string `json:"low_percent,omitempty" doc:"With High, what the days that were measured leave it between, in 95 of 100 cases"`
	High    string `json:"high_percent,omitempty"`
	Words   string `json:"words" doc:"What the figure is"`
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
	model := topology.ModelOf(open.Bundle, in.ID, now-1)
	if model.Alone() { // it needs nothing: there is nothing to model
		return &body[ModelView]{out}, nil
	}
	targets, measured := map[string]float64{}, map[string]topology.Known{}
	for _, id := range model.Parts() {
		l := ModelLeaf{Service: id, Name: snap.Named(catalogue.Service, id), Itself: id == in.ID}
		if best := bestTarget(snap, id); best != "" {
			l.Target = best
			if !l.Itself { // what was promised of it follows from nothing
				targets[id] = partOf(best)
			}
		}
		k := knownOf(span.Map(open.Evidence.Service(id), func(v verdict.Views) verdict.State { return v[verdict.Nominal] }), past)
		if p, is := k.Availability(); is {
			measured[id], l.Outages = k, len(k.Outages)
			l.Measured = topology.BestTarget(p)
		}
		out.Leaves = append(out.Leaves, l)
	}
	out.without("promise", model.Missing(has(targets)))
	out.without("measurement", model.Missing(has(measured)))
	if err = out.follow(model, targets, measured); err != nil {
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

// has says whether something is known of a service.
func has[V any](of map[string]V) func(id string) bool {
	return func(id string) bool { _, is := of[id]; return is }
}

// without notes of what services something is not known.
func (v *ModelView) without(what string, services []string) {
	for n, l := range v.Leaves {
		if slices.Contains(services, l.Service) {
			v.Leaves[n].Without = append(l.Without, what)
		}
	}
}

// follow says what follows from what was promised, and from what was measured.
func (v *ModelView) follow(model *topology.Model, targets map[string]float64, measured map[string]topology.Known) error {
	lacks := func(what string) bool {
		return slices.ContainsFunc(v.Leaves, func(l ModelLeaf) bool { return slices.Contains(l.Without, what) })
	}
	if !lacks("promise") {
		f, err := model.Over(has(targets))
		if err != nil {
			return err
		}
		percent := topology.BestTarget(f.Availability(func(id string) float64 { return targets[id] }))
		v.Targets = &Modelled{Percent: percent, Words: topology.PromisedWords(percent)}
	}
	if !lacks("measurement") {
		f, err := model.Over(has(measured))
		if err != nil {
			return err
		}
		low, high := f.Between(measured)
		m := Modelled{Low: topology.BestTarget(low), High: topology.BestTarget(high),
			Percent: topology.BestTarget(f.Availability(func(id string) float64 { p, _ := measured[id].Availability(); return p }))}
		m.Words = topology.MeasuredWords(m.Percent, m.Low, m.High, int(modelledOver/span.Day))
		v.Measured = &m
	}
	return nil
}

// knownOf is what the states of a service tell of its availability.
func knownOf(states span.Timeline[verdict.State], within span.Span) (out topology.Known) {
	states.Runs(within, func(s span.Span, v verdict.State) {
		switch v {
		case verdict.Up, verdict.Degraded:
			out.UpMS += s.Length()
		case verdict.Down:
			out.DownMS += s.Length()
			out.Outages = append(out.Outages, s.Length())
		}
	})
	return out
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
