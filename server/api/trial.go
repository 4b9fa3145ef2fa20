package api

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/proposal"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Proposal asks what could be checked at an address.
type Proposal struct {
	Address   string   `json:"address" minLength:"1" maxLength:"2000" doc:"A web address, a host name or an IP address"`
	Locations []string `json:"locations" minItems:"1" maxItems:"50"`
}

// Candidate is a check that might suit an address, being tried from each location.
type Candidate struct {
	proposal.Candidate
	Trials []TrialRef `json:"trials"`
}

// TrialRef is a trial under way.
type TrialRef struct {
	ID       string `json:"id"`
	Location string `json:"location"`
}

// longestTrial is how long a trial may take, waiting for others at the agent included.
const longestTrial = 5 * time.Minute

// TrialView is a trial and its result.
type TrialView struct {
	ID       string             `json:"id"`
	Location string             `json:"location"`
	State    string             `json:"state" enum:"waiting,taken,done,lost" doc:"lost: no agent took it within a minute, or none told what came of it"`
	Outcome  string             `json:"outcome,omitempty" enum:"ok,degraded,failed,error,"`
	Measures map[string]float64 `json:"measures,omitempty"`
	Detail   string             `json:"detail,omitempty"`
	Findings *measure.Findings  `json:"findings,omitempty"`
}

func (s *Server) trialRoutes(a *operations) {
	on(a, access.Operate, http.MethodPost, "/proposals", "propose-checks", "Propose checks for an address and try them at once from locations", s.propose)
	on(a, access.Operate, http.MethodPost, "/trials", "try-check", "Make one measurement of a check at once from each of its locations; it enters no account", func(ctx context.Context, in *body[definition.CheckSpec]) (*list[TrialRef], error) {
		spec := in.Body
		refs, err := s.try(ctx, spec)
		if err != nil {
			return nil, err
		}
		return items(refs[0]), nil
	})
	on(a, access.See, http.MethodGet, "/trials", "trials", "Results of trials", s.trials)
}

func (s *Server) propose(ctx context.Context, in *body[Proposal]) (*list[Candidate], error) {
	found, err := proposal.Candidates(in.Body.Address)
	if err != nil {
		return nil, invalid("address", err.Error())
	}
	specs := make([]definition.CheckSpec, len(found))
	for i, c := range found {
		specs[i] = proposal.Check(c, "", 60, in.Body.Locations, definition.Informs, nil)
	}
	trials, err := s.try(ctx, specs...)
	if err != nil {
		return nil, err
	}
	out := make([]Candidate, len(found))
	for i, c := range found {
		out[i] = Candidate{c, trials[i]}
	}
	return items(out), nil
}

// Trials of one person: so many at once, and then so many more a second.
const (
	mostTrials     = 2000
	trialsASecond  = 10
	mostInARequest = 250 // five kinds from fifty locations
)

// try asks the agents at the locations of each spec for one measurement each. What
// is asked for a second time while the first is still to be made is made once.
func (s *Server) try(ctx context.Context, specs ...definition.CheckSpec) ([][]TrialRef, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	total := 0
	for i, spec := range specs {
		slices.Sort(spec.Locations)
		specs[i].Locations = slices.Compact(spec.Locations)
		if err := snap.AdmitTrial(specs[i]); err != nil {
			return nil, err
		}
		total += len(specs[i].Locations)
	}
	if total > mostInARequest {
		return nil, invalid("locations", fmt.Sprintf("that would be %d measurements; %d at most are made at once, so take fewer locations", total, mostInARequest))
	}
	allowed, err := s.Store.Spend(ctx, db.SpendParams{
		Who: "trials of " + who(ctx).ID, Units: float64(total), Most: mostTrials, PerSecond: trialsASecond, Now: s.Now(),
	})
	if err != nil {
		return nil, err
	}
	if !allowed {
		return nil, huma.Error429TooManyRequests(fmt.Sprintf("You tried more than %d measurements; %d more may be made each second. Wait a moment.", mostTrials, trialsASecond))
	}
	refs := make([][]TrialRef, len(specs))
	err = s.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		for i, spec := range specs {
			if refs[i], err = addTrials(ctx, q, spec); err != nil {
				return err
			}
			if err := trail.Add(ctx, q, tried(by(ctx), spec)); err != nil {
				return err
			}
		}
		if err := q.DropOldTrials(ctx); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnTrial})
	})
	return refs, err
}

// tried is the trail's line of a trial: of what, from where, with which credential.
func tried(by trail.By, spec definition.CheckSpec) trail.Entry {
	const most = 200
	detail := map[string]any{"kind": spec.Kind, "target": spec.Target, "locations": spec.Locations}
	if c := credentialOf(spec.Settings); c != "" {
		detail["credential"] = c
	}
	return trail.Entry{By: by, Action: "try", Subject: "target " + measure.Clean(spec.Target, most), Detail: detail}
}

func addTrials(ctx context.Context, q *db.Queries, spec definition.CheckSpec) (refs []TrialRef, err error) {
	text, err := json.Marshal(wire.Of("", spec))
	if err != nil {
		return nil, err
	}
	for _, l := range spec.Locations {
		digest := sha256.Sum256(append([]byte(l+"\n"), text...))
		id, err := q.SameTrial(ctx, digest[:])
		if errors.Is(err, pgx.ErrNoRows) {
			id, err = q.AddTrial(ctx, db.AddTrialParams{Location: l, Spec: text, MadeBy: by(ctx).Kept(), Digest: digest[:]})
		}
		if err != nil {
			return nil, err
		}
		refs = append(refs, TrialRef{id, l})
	}
	return refs, nil
}

func (s *Server) trials(ctx context.Context, in *struct {
	IDs []string `query:"ids,explode" required:"true" maxItems:"200" doc:"Given once for each"`
}) (*list[TrialView], error) {
	for _, id := range in.IDs {
		if len(id) != len("00000000-0000-0000-0000-000000000000") {
			return nil, catalogue.ErrNotFound
		}
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Trials(ctx, in.IDs)
	var out []TrialView
	for _, r := range rows {
		v := TrialView{ID: r.ID, Location: r.Location, State: "waiting"}
		switch {
		case r.DoneAt != nil:
			var res wire.Result
			if err := json.Unmarshal(r.Result, &res); err != nil {
				return nil, err
			}
			label(snap, res.Findings)
			v.State, v.Outcome, v.Measures, v.Detail, v.Findings = "done", res.Outcome.String(), res.Measures, res.Detail, res.Findings
		case r.TakenAt == nil && s.Now().Sub(r.MadeAt) > time.Minute, s.Now().Sub(r.MadeAt) > longestTrial:
			v.State = "lost"
		case r.TakenAt != nil:
			v.State = "taken"
		}
		out = append(out, v)
	}
	return items(out), err
}
