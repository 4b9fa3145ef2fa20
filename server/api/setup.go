package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/auth"
	"kestite/server/incidents"
	"kestite/server/share"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

func (s *Server) serviceRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.ServiceSpec]{
		kind: catalogue.Service, path: "/services", name: "a service",
		named:   func(s definition.ServiceSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.ServiceSpec] { return s.Services },
	})
}

func (s *Server) checkRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.CheckSpec]{
		kind: catalogue.Check, path: "/checks", name: "a check",
		named:   func(s definition.CheckSpec) string { return s.Service + " " + s.Kind },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.CheckSpec] { return s.Checks },
	})
}

func (s *Server) agreementRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.AgreementSpec]{
		kind: catalogue.Agreement, path: "/agreements", name: "an agreement",
		named:   func(s definition.AgreementSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.AgreementSpec] { return s.Agreements },
	})
	on(a, access.Define, http.MethodPost, "/agreements/{id}/split", "split-agreement",
		"Change clauses within a period: the agreement ends, and another begins on the day under the same contract; both are accounted, or see what that would do", s.split)
}

// SplitAsk asks for other clauses from a day within a period on.
type SplitAsk struct {
	Revision int                      `json:"revision" minimum:"1" doc:"The revision of the agreement that the clauses were edited from"`
	From     string                   `json:"from" maxLength:"10" doc:"First day of the new clauses, 2006-01-02 in the zone of the agreement"`
	Spec     definition.AgreementSpec `json:"spec" doc:"The new clauses; from and contract are filled in"`
	ChangeWay
}

func (s *Server) split(ctx context.Context, in *struct {
	ByID
	Body SplitAsk
}) (*body[ChangeView], error) {
	ask := in.Body
	last := 0 // the step that makes the new one
	view, err := s.makeChange(ctx, ask.ChangeWay, struct {
		ID string
		SplitAsk
	}{in.ID, ask}, func(snap *catalogue.Snapshot) ([]catalogue.Step, error) {
		steps, err := snap.Split(in.ID, ask.Revision, ask.From, ask.Spec, span.Of(s.Now()))
		last = len(steps) - 1
		return steps, err
	})
	var at *catalogue.StepError
	var fault *definition.Fault
	switch {
	case errors.As(err, &at) && at.Index == last:
		err = inSpec(err)
	case errors.As(err, &at) && errors.As(err, &fault) && fault.Path != "reason": // that the old one ends then
		err = definition.Instead("from", err)
	}
	return view, err
}

func (s *Server) windowRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.WindowSpec]{
		kind: catalogue.Window, path: "/windows", name: "a maintenance window",
		named:   func(s definition.WindowSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.WindowSpec] { return s.Windows },
	})
}

func (s *Server) embargoRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.EmbargoSpec]{
		kind: catalogue.Embargo, path: "/embargoes", name: "an embargo",
		named:   func(s definition.EmbargoSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.EmbargoSpec] { return s.Embargoes },
	})
}

func (s *Server) networkRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.NetworkSpec]{
		kind: catalogue.Network, path: "/networks", name: "a network",
		named:   func(s definition.NetworkSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.NetworkSpec] { return s.Networks },
	})
}

func (s *Server) locationRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.LocationSpec]{
		kind: catalogue.Location, path: "/locations", name: "a location",
		named:   func(s definition.LocationSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.LocationSpec] { return s.Locations },
	})
	on(a, access.See, http.MethodGet, "/agents", "list-agents", "The agents and what they say of themselves", s.agents)
	on(a, access.Administer, http.MethodPost, "/locations/{id}/agents", "add-agent", "Make a token with which an agent can measure at the location", s.addAgent)
	on(a, access.Define, http.MethodPost, "/agents/{id}/release", "release-quarantine", "Ask an agent to deliver again what it set aside because no server could take it", s.releaseAside)
	on(a, access.Operate, http.MethodPost, "/agents/{id}/lost/seen", "see-lost", "Say that somebody has seen how many measurements an agent's store could not keep", s.seeLost)
	on(a, access.Administer, http.MethodDelete, "/agents/{id}", "revoke-agent", "Make an agent's token worthless", func(ctx context.Context, in *ByID) (*none, error) {
		n, err := s.Store.RevokeAgent(ctx, in.ID)
		if err == nil && n == 0 {
			return nil, huma.Error404NotFound("There is no such agent, or its token was revoked before.")
		}
		if err != nil {
			return nil, err
		}
		return nil, s.did(ctx, "revoke", "agent "+in.ID, nil)
	})
}

// AgentView is an agent as people see it.
type AgentView struct {
	ID            string     `json:"id"`
	Location      string     `json:"location"`
	Connected     bool       `json:"connected" doc:"It asked for work within the last 40 seconds"`
	SeenAt        *time.Time `json:"seen_at,omitempty"`
	Version       string     `json:"version"`
	ClockOffsetMS int64      `json:"clock_offset_ms" doc:"How far its own clock is ahead of the database's"`
	UncertainMS   int64      `json:"uncertain_ms" doc:"How far its idea of the database's clock may be wrong"`
	Backlog       int64      `json:"backlog" doc:"Measurements waiting for delivery"`
	LatenessMS    float64    `json:"lateness_ms" doc:"99th percentile of starts after schedule"`
	Complaint     string     `json:"complaint" doc:"What is wrong with it"`
	CutOff        string     `json:"cut_off" doc:"Why it takes itself for cut off from the network"`
	Sockets       string     `json:"sockets" enum:"raw,datagram,none," doc:"What its ICMP sockets allow"`
	Holds         int        `json:"holds" doc:"Checks that it holds at present"`
	SetAside      int32      `json:"set_aside" doc:"Measurements in its quarantine: no server could take them"`
	Aside         []Aside    `json:"aside" doc:"The latest of them"`
	Lost          int64      `json:"lost" doc:"Measurements that its store could not keep, ever"`
	LostAt        *time.Time `json:"lost_at,omitempty" doc:"The last time it lost some"`
	LostSeen      int64      `json:"lost_seen" doc:"How many of them some person has seen"`
}

// Aside is a measurement in an agent's quarantine.
type Aside struct {
	Check  string       `json:"check"`
	Name   string       `json:"name" doc:"Of the check"`
	At     span.Instant `json:"at"`
	Reason string       `json:"reason"`
}

func (s *Server) agents(ctx context.Context, _ *none) (*list[AgentView], error) {
	rows, err := s.Store.Agents(ctx)
	if err != nil {
		return nil, err
	}
	holds, err := s.holds(ctx)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	var out []AgentView
	for _, r := range rows {
		out = append(out, AgentView{
			Lost: r.Lost, LostAt: r.LostAt, LostSeen: r.LostSeen, SetAside: r.SetAside, Aside: asides(snap, r.Aside),
			ID: r.ID, Location: r.Location, SeenAt: r.SeenAt, Version: r.Version,
			Connected:     r.SeenAt != nil && s.Now().Sub(*r.SeenAt) < incidents.Connected,
			ClockOffsetMS: r.ClockOffsetMs, UncertainMS: r.UncertainMs, Backlog: r.Backlog, LatenessMS: r.LatenessMs, Complaint: r.Complaint,
			CutOff: r.CutOff, Sockets: r.Sockets, Holds: holds[r.ID],
		})
	}
	return items(out), err
}

// asides are the measurements that an agent named, each with its check's name.
func asides(snap *catalogue.Snapshot, said json.RawMessage) []Aside {
	var list []wire.Aside
	if json.Unmarshal(said, &list) != nil {
		list = nil
	}
	out := make([]Aside, 0, len(list))
	for _, x := range list {
		name := x.Check
		if e := snap.Checks[x.Check]; e != nil {
			name = e.Current().Spec.Name
		}
		out = append(out, Aside{x.Check, name, x.At, x.Reason})
	}
	return out
}

// releaseAside asks an agent to deliver its quarantine again.
func (s *Server) releaseAside(ctx context.Context, in *ByID) (*none, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if err := who(ctx).Rights.Everywhere(snap, access.Define); err != nil {
		return nil, err
	}
	a, err := s.Store.Agent(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.ReleaseAside(ctx, db.ReleaseAsideParams{ID: a.ID, Now: s.Now()}); err != nil {
		return nil, err
	}
	if err := s.did(ctx, "release quarantine", "agent "+a.ID, map[string]string{"location": a.Location}); err != nil {
		return nil, err
	}
	return nil, store.Notify(ctx, s.Store, store.Event{Kind: store.OnRelease, IDs: []string{a.Location}})
}

// InLost is how many lost measurements a person has seen.
type InLost struct {
	ByID
	Body struct {
		Lost int64 `json:"lost" minimum:"1" doc:"As many as were shown"`
	}
}

// seeLost notes that a person has seen what an agent lost, up to what was shown.
func (s *Server) seeLost(ctx context.Context, in *InLost) (*none, error) {
	a, err := s.Store.Agent(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.SeeLost(ctx, db.SeeLostParams{ID: a.ID, Lost: in.Body.Lost}); err != nil {
		return nil, err
	}
	if err := s.did(ctx, "see lost measurements", "agent "+a.ID, map[string]any{"location": a.Location, "lost": in.Body.Lost}); err != nil {
		return nil, err
	}
	return nil, store.Notify(ctx, s.Store, store.Event{Kind: store.OnAgent, IDs: []string{a.Location}})
}

// holds counts the checks that each agent holds.
func (s *Server) holds(ctx context.Context) (map[string]int, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out, rosters := map[string]int{}, map[string][]string{}
	for _, l := range catalogue.Live(snap.Locations) {
		if rosters[l], err = s.Rosters.Current(ctx, l); err != nil {
			return nil, err
		}
	}
	for _, id := range catalogue.Live(snap.Checks) {
		for _, l := range snap.Checks[id].Current().Spec.Locations {
			out[share.Holder(rosters[l], id)]++
		}
	}
	return out, nil
}

// AgentToken is shown once.
type AgentToken struct {
	ID    string `json:"id"`
	Token string `json:"token" doc:"Shown this once; keep it in a file that only the agent reads"`
}

func (s *Server) addAgent(ctx context.Context, in *ByID) (*body[AgentToken], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if e := snap.Locations[in.ID]; e == nil || e.Retired {
		return nil, catalogue.ErrNotFound
	}
	token, hash := auth.NewToken("kesa_")
	row, err := s.Store.AddAgent(ctx, db.AddAgentParams{Location: in.ID, TokenHash: hash, CreatedBy: by(ctx).Kept()})
	if err != nil {
		return nil, err
	}
	if err := s.did(ctx, "create", "agent "+row.ID, map[string]string{"location": in.ID}); err != nil {
		return nil, err
	}
	return &body[AgentToken]{AgentToken{row.ID, token}}, store.Notify(ctx, s.Store, store.Event{Kind: store.OnAgent})
}
