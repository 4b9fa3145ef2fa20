package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
	"kestite/core/span"
)

// PairAsk asks what saving a plan would do.
type PairAsk struct {
	ID   string                  `json:"id,omitempty" doc:"Of the plan that is edited; absent for a new one"`
	Spec definition.PairPlanSpec `json:"spec"`
}

// PairCheck is a check of a plan.
type PairCheck struct {
	Pair  definition.PairOf    `json:"pair"`
	From  string               `json:"from" doc:"Location"`
	To    string               `json:"to" doc:"Location"`
	Spec  definition.CheckSpec `json:"spec"`
	Check string               `json:"check,omitempty" doc:"Id of the check; absent for one that is yet to be made"`
	Does  string               `json:"does" enum:"new,changed,kept,restored,retired,elsewhere" doc:"What saving the plan does about it; elsewhere: a check outside the plan measures this already, and none is made"`
}

// PairPreview is what a plan measures, before it is saved.
type PairPreview struct {
	Pairs  int           `json:"pairs"`
	Checks []PairCheck   `json:"checks" doc:"Of a plan on demand: what a run measures"`
	Load   proposal.Load `json:"load" doc:"Nothing on demand"`
	Words  string        `json:"words" doc:"The load in words"`
}

// PairRun is one check of a plan being tried.
type PairRun struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Kind  string `json:"kind"`
	Trial string `json:"trial"`
}

// PairReach is what a kept check of a plan saw last.
type PairReach struct {
	From  string  `json:"from"`
	To    string  `json:"to"`
	Kind  string  `json:"kind"`
	Check string  `json:"check"`
	Last  *Sample `json:"last,omitempty" doc:"Absent until the first measurement, and when there was none for a week"`
}

func (s *Server) pairRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.PairPlanSpec]{
		kind: catalogue.PairPlan, path: "/pair-plans", name: "a pair plan",
		named:   func(p definition.PairPlanSpec) string { return p.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.PairPlanSpec] { return s.PairPlans },
	})
	on(a, access.Define, http.MethodPost, "/pair-plans/preview", "preview-pair-plan", "What saving a pair plan does, check by check", func(ctx context.Context, in *body[PairAsk]) (*body[PairPreview], error) {
		out, err := s.previewPairs(ctx, in.Body)
		return &body[PairPreview]{out}, definition.Within("spec", err)
	})
	on(a, access.See, http.MethodGet, "/pair-plans/{id}/reach", "reach-of-pair-plan", "What each check that a plan keeps saw last", s.reach)
	on(a, access.Operate, http.MethodPost, "/pair-plans/{id}/run", "run-pair-plan", "Measure all pairs of a plan at once; it enters no account", s.runPairs)
}

func (s *Server) previewPairs(ctx context.Context, ask PairAsk) (PairPreview, error) {
	out := PairPreview{Checks: []PairCheck{}}
	if err := definition.Valid(ask.Spec); err != nil {
		return out, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return out, err
	}
	if e := snap.Services[ask.Spec.Service]; e == nil || e.Retired {
		return out, &definition.Fault{Path: "service", Message: ask.Spec.Service + " names no service"}
	}
	steps, err := snap.PairSteps(ask.ID, ask.Spec)
	if err != nil {
		return out, err
	}
	if ask.Spec.OnDemand {
		planned, err := snap.Planned(ask.ID, ask.Spec)
		if err != nil {
			return out, err
		}
		for _, p := range planned {
			out.Checks = append(out.Checks, pairCheck(catalogue.PairStep{PairCheck: p, Does: catalogue.PairKept}))
		}
	}
	pairs := map[definition.PairOf]bool{}
	for _, p := range steps {
		out.Checks = append(out.Checks, pairCheck(p))
		if p.Does != catalogue.PairRetired {
			out.Load = out.Load.Plus(proposal.LoadOf(p.Spec))
		}
	}
	for _, c := range out.Checks {
		if c.Does != catalogue.PairRetired {
			pairs[c.Pair] = true
		}
	}
	out.Pairs, out.Words = len(pairs), out.Load.String()
	return out, nil
}

func pairCheck(p catalogue.PairStep) PairCheck {
	return PairCheck{p.Pair, p.Spec.Pair.From, p.Spec.Pair.To, p.Spec, p.Check, p.Does}
}

func (s *Server) runPairs(ctx context.Context, in *ByID) (*list[PairRun], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	e := snap.PairPlans[in.ID]
	if e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	planned, err := snap.Planned(in.ID, e.Current().Spec)
	if err != nil {
		return nil, err
	}
	specs := make([]definition.CheckSpec, len(planned))
	for i, p := range planned {
		specs[i] = p.Spec
	}
	trials, err := s.try(ctx, specs...)
	if err != nil {
		return nil, err
	}
	var out []PairRun
	for i, c := range specs {
		for _, t := range trials[i] {
			out = append(out, PairRun{c.Pair.From, c.Pair.To, c.Kind, t.ID})
		}
	}
	return items(out), nil
}

func (s *Server) reach(ctx context.Context, in *ByID) (*list[PairReach], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.PairPlans[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	kept := snap.KeptBy(in.ID)
	lanes, err := s.Store.LanesOfChecks(ctx, kept)
	if err != nil {
		return nil, err
	}
	laneOf := map[string]int32{}
	for _, l := range lanes {
		laneOf[l.CheckID] = l.ID
	}
	var out []PairReach
	for _, id := range kept {
		spec := snap.Checks[id].Current().Spec
		reach := PairReach{From: spec.Pair.From, To: spec.Pair.To, Kind: spec.Kind, Check: id}
		if lane, ok := laneOf[id]; ok {
			kind, _ := measure.KindNamed(spec.Kind)
			if reach.Last, err = s.sample(ctx, lane, kind, span.Of(s.Now())); err != nil {
				return nil, err
			}
		}
		out = append(out, reach)
	}
	return items(out), nil
}
