package api

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

// TogetherView is what failures that began together have in common.
type TogetherView struct {
	Order  string       `json:"order" doc:"Which began when, in a sentence; empty where there is one alone"`
	Others []Ref        `json:"others" doc:"The others, by the number of their incident"`
	Shared []SharedView `json:"shared" doc:"What speaks for a cause in common, the most of them first"`
}

// SharedView is something that failures have in common.
type SharedView struct {
	Kind  string `json:"kind" enum:"hop,certificate,name-server,location"`
	What  string `json:"what"`
	Words string `json:"words"`
}

// mostTogether is how many failures are looked at together.
const mostTogether = 50

// together are failures of services that began with an incident, and what they share, by
// the evidence of their beginnings.
func (s *Server) together(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident) (TogetherView, error) {
	out := TogetherView{Others: []Ref{}, Shared: []SharedView{}}
	if i.About != incident.Service {
		return out, nil
	}
	rows, err := s.Store.IncidentsBegunBetween(ctx, db.IncidentsBegunBetweenParams{FromAt: i.BeganAt.Add(-incident.TogetherFor).Time(),
		ToAt: i.BeganAt.Add(incident.TogetherFor).Time(), Most: mostTogether})
	if err != nil {
		return out, err
	}
	var sights []incident.Sight
	for _, r := range rows {
		of := incidents.Of(r)
		sight := incident.Sight{Incident: of.ID, Name: incidents.Name(snap, of.Subject), BeganAt: of.BeganAt}
		if sight.Looks, err = s.looks(ctx, snap, of); err != nil {
			return out, err
		}
		sights = append(sights, sight)
		if of.ID != i.ID {
			out.Others = append(out.Others, Ref{strconv.FormatInt(of.ID, 10), sight.Name})
		}
	}
	if len(out.Others) == 0 {
		return out, nil
	}
	out.Order = incident.Order(sights)
	for _, x := range incident.Common(sights) {
		if slices.Contains(x.Incidents, i.ID) {
			out.Shared = append(out.Shared, SharedView{x.Kind, x.What, x.Words})
		}
	}
	return out, nil
}

// looks are the measurements that were made as an incident of a service began: of its own
// checks, its ways and its names.
func (s *Server) looks(ctx context.Context, snap *catalogue.Snapshot, i incident.Incident) ([]incident.Look, error) {
	rows, err := s.Store.Evidence(ctx, &i.ID)
	if err != nil {
		return nil, err
	}
	others := map[string]bool{} // what is measured of what it needs
	for _, id := range snap.NeededNow(i.Subject.ID) {
		for _, c := range snap.LiveChecks(id) {
			spec := snap.Checks[c].Current().Spec
			others[spec.Kind+" "+spec.Target] = true
		}
	}
	for _, c := range snap.LiveChecks(i.Subject.ID) {
		spec := snap.Checks[c].Current().Spec
		delete(others, spec.Kind+" "+spec.Target)
	}
	var out []incident.Look
	for _, r := range rows {
		var asked wire.Check
		var res wire.Result
		if r.DoneAt == nil || r.Moment == nil || *r.Moment != "onset" || json.Unmarshal(r.Spec, &asked) != nil || json.Unmarshal(r.Result, &res) != nil ||
			others[asked.Kind+" "+asked.Target] {
			continue
		}
		l := incident.Look{Location: snap.Named(catalogue.Location, r.Location), Kind: asked.Kind, Failed: res.Outcome == measure.Failed, Findings: res.Findings}
		if asked.Kind == measure.DNS.Name && asked.DNS != nil {
			l.Resolver = asked.DNS.Resolver
		}
		out = append(out, l)
	}
	return out, nil
}

// mark notes what the evidence of an incident shows that others may show too, once
// something of it has come in.
func (s *Server) mark(ctx context.Context, trial, location string) error {
	t, err := s.Store.TrialOf(ctx, db.TrialOfParams{ID: trial, Location: location})
	if err != nil || t.Incident == nil || t.Moment == nil || *t.Moment != "onset" {
		return err
	}
	row, err := s.Store.Incident(ctx, *t.Incident)
	if err != nil || row.About != incident.Service {
		return err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	looks, err := s.looks(ctx, snap, incidents.Of(row))
	if err != nil {
		return err
	}
	var marks []string
	for _, l := range looks {
		marks = append(marks, incident.Marks(l)...)
	}
	if len(marks) == 0 {
		return nil
	}
	return s.Store.MarkIncident(ctx, db.MarkIncidentParams{ID: row.ID, Marks: marks})
}
