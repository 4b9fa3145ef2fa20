package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/proposal"
)

// Schedules asks what schedules mean, as they stand in a form.
type Schedules struct {
	Schedules     []proposal.Schedule `json:"schedules,omitempty" maxItems:"10000"`
	TargetPercent string              `json:"target_percent,omitempty" maxLength:"100" doc:"What was promised, as it was typed"`
	Service       string              `json:"service,omitempty" maxLength:"120" doc:"Whose deciding checks prove the promise, where the schedules are not given"`
}

// SchedulesView says what they cost and prove.
type SchedulesView struct {
	Schedules  []proposal.Effect `json:"schedules"`
	Total      proposal.Load     `json:"total"`
	Words      string            `json:"words" doc:"The total in words"`
	Resolution string            `json:"resolution,omitempty" doc:"How many samples the allowance of the promise is; empty where no promise can be read"`
}

// TakingView says what the checks that something is measured by would be and cost.
type TakingView struct {
	Checks []TakenView `json:"checks"`
	SchedulesView
}

// TakenView is a check that a candidate would become.
type TakenView struct {
	Spec      definition.CheckSpec `json:"spec"`
	Suggested string               `json:"suggested,omitempty" doc:"The limit that it gets by what its trials took, and how that was found"`
}

// Taking asks what would come of what was proposed, before anything is made.
type Taking struct {
	Taken         []proposal.Taken `json:"taken" maxItems:"5000"`
	IntervalS     int64            `json:"interval_s" minimum:"5" maximum:"86400"`
	Locations     []string         `json:"locations" maxItems:"1000"`
	TargetPercent string           `json:"target_percent,omitempty" maxLength:"100" doc:"The strictest that is promised of them, as it was typed"`
}

func (s *Server) scheduleRoutes(a *operations) {
	on(a, access.See, http.MethodPost, "/schedules", "effect-of-schedules",
		"What schedules cost, how soon they are certain of a failure, and what they can prove; nothing is kept", s.effect)
	on(a, access.See, http.MethodPost, "/proposals/preview", "preview-proposed-checks",
		"The checks that candidates would become and what they would cost; nothing is kept", s.previewTaking)
}

func (s *Server) effect(ctx context.Context, in *body[Schedules]) (*body[SchedulesView], error) {
	ask := in.Body
	interval := int64(0)
	for _, c := range ask.Schedules {
		interval = finer(interval, c.IntervalS)
	}
	if ask.Service != "" {
		snap, err := s.Definitions.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		interval = finest(snap, ask.Service)
	}
	return &body[SchedulesView]{effects(ask.Schedules, ask.TargetPercent, interval)}, nil
}

// finer is the shorter of two intervals, s; 0 is none.
func finer(a, b int64) int64 {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// finest is the shortest interval, s, of the checks that decide a service; 0 where none does.
func finest(snap *catalogue.Snapshot, service string) int64 {
	interval := int64(0)
	for _, c := range snap.Checks {
		if spec := c.Current().Spec; !c.Retired && spec.Service == service && spec.Role == definition.Decides {
			interval = finer(interval, spec.IntervalS)
		}
	}
	return interval
}

func effects(all []proposal.Schedule, target string, intervalS int64) SchedulesView {
	out := SchedulesView{Schedules: make([]proposal.Effect, len(all)), Resolution: proposal.Resolution(definition.Percent(target), intervalS)}
	for i, c := range all {
		out.Schedules[i] = c.Effect()
		out.Total = out.Total.Plus(out.Schedules[i].Load)
	}
	out.Words = out.Total.String()
	return out
}

func (s *Server) previewTaking(_ context.Context, in *body[Taking]) (*body[TakingView], error) {
	ask := in.Body
	w := proposal.Wanted{Taken: ask.Taken, IntervalS: ask.IntervalS, Locations: ask.Locations}
	out := TakingView{Checks: make([]TakenView, len(ask.Taken))}
	schedules := make([]proposal.Schedule, len(ask.Taken))
	for i, spec := range w.Checks("") {
		_, how := proposal.Limit(spec.Kind, ask.Taken[i].Tried)
		out.Checks[i] = TakenView{spec, how}
		schedules[i] = proposal.ScheduleOf(spec)
	}
	out.SchedulesView = effects(schedules, ask.TargetPercent, ask.IntervalS)
	return &body[TakingView]{out}, nil
}
