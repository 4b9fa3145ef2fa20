package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/lanes"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// CheckNow is how a check is now.
type CheckNow struct {
	Check string    `json:"check"`
	State string    `json:"state" enum:"up,degraded,down,unmeasured" doc:"What its quorum makes of its locations"`
	Lanes []LaneNow `json:"lanes" doc:"Those that were measured at all"`
}

// LaneNow is a check at one location now.
type LaneNow struct {
	Location string        `json:"location"`
	State    string        `json:"state" enum:"up,degraded,down,unmeasured"`
	Since    span.Instant  `json:"since"`
	At       *span.Instant `json:"at,omitempty" doc:"Of the latest measurement within a week"`
	Outcome  string        `json:"outcome,omitempty" enum:"ok,degraded,failed,error,"`
	Value    *float64      `json:"value,omitempty" doc:"Of the leading measure of its kind"`
	Detail   string        `json:"detail,omitempty"`
}

func (s *Server) checkNowRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/checks/now", "checks-now", "The states of checks now, and what was measured last", s.checksNow, costly)
	on(a, access.See, http.MethodGet, "/checks/states", "checks-not-up", "The checks that are not up now", s.checksNotUp, costly)
}

func (s *Server) checksNow(ctx context.Context, in *struct {
	IDs []string `query:"ids,explode" maxItems:"100" doc:"Of checks; what is no check is left out"`
}) (*list[CheckNow], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.LanesOfChecks(ctx, in.IDs)
	if err != nil {
		return nil, err
	}
	of := map[string][]db.Lane{}
	for _, r := range rows {
		of[r.CheckID] = append(of[r.CheckID], r)
	}
	out := []CheckNow{}
	for _, id := range in.IDs {
		if e := snap.Checks[id]; e != nil {
			one, err := s.checkNow(ctx, snap, id, of[id])
			if err != nil {
				return nil, err
			}
			out = append(out, one)
		}
	}
	return items(out), nil
}

// CheckState is the state of a check.
type CheckState struct {
	Check string `json:"check"`
	State string `json:"state" enum:"degraded,down,unmeasured"`
}

func (s *Server) checksNotUp(ctx context.Context, _ *none) (*list[CheckState], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	ids := catalogue.Live(snap.Checks)
	seen, err := lanes.Now(ctx, s.Store.Queries, ids, span.Of(s.Now()))
	if err != nil {
		return nil, err
	}
	out := []CheckState{}
	for _, id := range ids {
		if state := lanes.Judged(snap.Checks[id].Current().Spec.Revision(id), seen[id]); state != verdict.Up {
			out = append(out, CheckState{id, state.String()})
		}
	}
	return items(out), nil
}

// checkNow is a check by its lanes. A lane whose state cannot be read is unmeasured.
func (s *Server) checkNow(ctx context.Context, snap *catalogue.Snapshot, id string, rows []db.Lane) (CheckNow, error) {
	now := span.Of(s.Now())
	spec := snap.Checks[id].Current().Spec
	kind, _ := measure.KindNamed(spec.Kind)
	assigned := map[string]bool{}
	for _, l := range spec.Revision(id).Assigned() {
		assigned[l] = true
	}
	out := CheckNow{Check: id, Lanes: []LaneNow{}}
	seen := map[string]lanes.Present{}
	for _, r := range rows {
		if !assigned[r.Location] {
			continue
		}
		kept, err := lanes.Of(r)
		if err != nil {
			kept = lanes.Kept{}
		}
		present := kept.Present(now)
		seen[r.Location] = present
		lane := LaneNow{Location: r.Location, State: present.State.String(), Since: present.Since}
		last, err := raw.Latest(ctx, s.Store.Queries, r.ID, now.Add(-7*span.Day), now, 1)
		if err != nil {
			return out, err
		}
		if len(last) > 0 {
			lane.At, lane.Outcome, lane.Detail = &last[0].At, last[0].Outcome.String(), last[0].Detail
			if v := last[0].Value(kind.Leading); measure.Usable(v) {
				lane.Value = &v
			}
		}
		out.Lanes = append(out.Lanes, lane)
	}
	out.State = lanes.Judged(spec.Revision(id), seen).String()
	return out, nil
}
