package api

import (
	"context"
	"errors"
	"iter"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

// IncidentView is an incident as lists show it.
type IncidentView struct {
	ID           int64          `json:"id" doc:"Its number"`
	About        string         `json:"about" enum:"service,check,location,agreement"`
	Subject      string         `json:"subject" doc:"Id of what it is about"`
	Name         string         `json:"name" doc:"What that is called, of a check with its service"`
	Service      string         `json:"service,omitempty" doc:"Id of the service that it concerns"`
	Headline     string         `json:"headline"`
	Phase        incident.Phase `json:"phase" enum:"open,acknowledged,resolved,reviewed"`
	Severity     string         `json:"severity" enum:"critical,major,minor"`
	State        string         `json:"state" enum:"up,degraded,down,unmeasured"`
	Worst        string         `json:"worst" enum:"up,degraded,down,unmeasured"`
	BeganAt      span.Instant   `json:"began_at" doc:"By the measurements"`
	KnownAt      span.Instant   `json:"known_at" doc:"When it was opened"`
	EndedAt      *span.Instant  `json:"ended_at,omitempty" doc:"When its trouble ended, by the measurements"`
	ResolvedAt   *span.Instant  `json:"resolved_at,omitempty"`
	ResolvedBy   string         `json:"resolved_by,omitempty" doc:"A person; absent: it was over by itself"`
	LastedMS     int64          `json:"lasted_ms"`
	Times        int            `json:"times" doc:"How often its trouble began"`
	Unfounded    bool           `json:"unfounded" doc:"Later measurements or definitions showed that there was no trouble"`
	Acknowledged *AckView       `json:"acknowledged,omitempty"`
	Assignee     string         `json:"assignee,omitempty" doc:"Id of a person"`
	AssigneeName string         `json:"assignee_name,omitempty"`
	Review       *ReviewView    `json:"review,omitempty"`
	Cause        int64          `json:"cause,omitempty" doc:"Number of the incident that it follows"`
	CauseName    string         `json:"cause_name,omitempty"`
	CauseBy      string         `json:"cause_by,omitempty" doc:"The person who decided on that; absent: it follows from what needs what"`
	Followers    []FollowerView `json:"followers" doc:"What follows it"`
	Planned      *PlannedView   `json:"planned,omitempty" doc:"The planned work in which it began"`
	Notices      NoticeCounts   `json:"notices" doc:"Messages that told of it"`
	Quiet        bool           `json:"quiet" doc:"That is not over: until then it disturbs nobody"`
}

// AckView says who is on an incident.
type AckView struct {
	By    string        `json:"by"`
	ByID  string        `json:"by_id"`
	At    span.Instant  `json:"at"`
	Until *span.Instant `json:"until,omitempty"`
}

// ReviewView is what is known of an incident afterwards.
type ReviewView struct {
	By     string       `json:"by"`
	At     span.Instant `json:"at"`
	Class  string       `json:"class"`
	Cause  string       `json:"cause"`
	Action string       `json:"action"`
}

// FollowerView is an incident that follows another one.
type FollowerView struct {
	ID      int64         `json:"id"`
	Name    string        `json:"name"`
	Service string        `json:"service,omitempty"`
	State   string        `json:"state" enum:"up,degraded,down,unmeasured"`
	BeganAt span.Instant  `json:"began_at"`
	EndedAt *span.Instant `json:"ended_at,omitempty"`
}

// PlannedView is planned work in which an incident began.
type PlannedView struct {
	Window string       `json:"window"`
	Name   string       `json:"name"`
	Until  span.Instant `json:"until"`
}

// openIncidents are those that are open, without their causes that are over.
func (s *Server) openIncidents(ctx context.Context) ([]incident.Incident, error) {
	yes := true
	rows, err := s.Store.IncidentList(ctx, db.IncidentListParams{Open: &yes, Most: mostOpen})
	if err != nil {
		return nil, err
	}
	out := make([]incident.Incident, len(rows))
	for n, r := range rows {
		out[n] = incidents.Of(r)
	}
	return out, nil
}

// mostOpen is how many open incidents are looked at together.
const mostOpen = 20_000

// namesOf are what people are called, by id.
func (s *Server) namesOf(ctx context.Context, ids iter.Seq[string]) (map[string]string, error) {
	out := map[string]string{}
	for id := range ids {
		if id != "" {
			out[id] = id
		}
	}
	if len(out) == 0 {
		return out, nil
	}
	rows, err := s.Store.Called(ctx, slices.Sorted(maps.Keys(out)))
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		out[r.ID] = r.Name
	}
	return out, nil
}

// incidentViews are incidents as lists show them, each with what follows it.
func (s *Server) incidentViews(ctx context.Context, snap *catalogue.Snapshot, rows []db.Incident) ([]IncidentView, error) {
	now := span.Of(s.Now())
	var ids, causes []int64
	for _, r := range rows {
		ids = append(ids, r.ID)
		if r.Cause != nil {
			causes = append(causes, *r.Cause)
		}
	}
	under, err := s.Store.Followers(ctx, ids)
	if err != nil {
		return nil, err
	}
	above, err := s.Store.Incidents(ctx, causes)
	if err != nil {
		return nil, err
	}
	names, err := s.namesOf(ctx, func(yield func(string) bool) {
		for _, r := range rows {
			for _, id := range persons(incidents.Of(r)) {
				if !yield(id) {
					return
				}
			}
		}
	})
	if err != nil {
		return nil, err
	}
	counts, err := s.deliveryCounts(ctx, ids)
	if err != nil {
		return nil, err
	}
	why, err := s.lows(ctx, snap, rows)
	if err != nil {
		return nil, err
	}
	out := make([]IncidentView, 0, len(rows))
	for _, r := range rows {
		i := incidents.Of(r)
		v := IncidentView{
			ID: i.ID, About: i.About, Subject: i.Subject.ID, Name: incidents.Name(snap, i.Subject), Service: incidents.ServiceOf(snap, i.Subject),
			Phase: i.Phase(now), Severity: i.Severity, State: i.State.String(), Worst: i.Worst.String(), BeganAt: i.BeganAt, KnownAt: i.KnownAt,
			EndedAt: i.EndedAt, ResolvedAt: i.ResolvedAt, ResolvedBy: names[i.ResolvedBy], LastedMS: i.Lasted(now).Length(), Times: i.Times,
			Unfounded: i.Unfounded, Assignee: i.Assignee, AssigneeName: names[i.Assignee], Cause: i.Cause, CauseBy: names[i.CauseBy],
			Followers: []FollowerView{}, Notices: counts[i.ID],
		}
		if v.Phase == incident.Acknowledged {
			v.Acknowledged = &AckView{names[i.Acknowledged.By], i.Acknowledged.By, i.Acknowledged.At, i.Acknowledged.Until}
		}
		if i.Review != nil {
			v.Review = &ReviewView{names[i.Review.By], i.Review.At, i.Review.Class, i.Review.Cause, i.Review.Action}
		}
		if i.Planned != nil {
			v.Quiet, v.Planned = i.Quiet(now), &PlannedView{i.Planned.Window, snap.Named(catalogue.Window, i.Planned.Window), i.Planned.Until}
		}
		var follow []string
		for _, f := range under {
			if *f.Cause != i.ID {
				continue
			}
			of := incident.Subject{About: f.About, ID: f.Subject}
			view := FollowerView{ID: f.ID, Name: incidents.Name(snap, of), Service: incidents.ServiceOf(snap, of), State: stateWord(f.State),
				BeganAt: span.Of(f.BeganAt)}
			if f.EndedAt != nil {
				at := span.Of(*f.EndedAt)
				view.EndedAt = &at
			}
			v.Followers = append(v.Followers, view)
			follow = append(follow, view.Name)
		}
		for _, c := range above {
			if c.ID == i.Cause {
				v.CauseName = incidents.Name(snap, incident.Subject{About: c.About, ID: c.Subject})
			}
		}
		v.Headline = i.Headline(v.Name, follow, now)
		if text := why[i.Subject.ID]; i.About == incident.Agreement && i.ResolvedAt == nil && text != "" {
			v.Headline = v.Name + ": " + text + "."
		}
		out = append(out, v)
	}
	return out, nil
}

// lows say of agreements of which some incidents are open how their allowances stand.
func (s *Server) lows(ctx context.Context, snap *catalogue.Snapshot, rows []db.Incident) (map[string]string, error) {
	if !slices.ContainsFunc(rows, func(r db.Incident) bool { return r.About == incident.Agreement && r.ResolvedAt == nil }) {
		return nil, nil
	}
	stands, err := s.Incidents.Rows(ctx, snap)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, t := range incidents.Low(stands, span.Of(s.Now())) {
		out[t.ID] = t.Text
	}
	return out, nil
}

// persons are the ids of people who have to do with an incident.
func persons(i incident.Incident) []string {
	out := []string{i.Assignee, i.ResolvedBy, i.CauseBy, i.SeverityBy}
	if i.Acknowledged != nil {
		out = append(out, i.Acknowledged.By)
	}
	if i.Review != nil {
		out = append(out, i.Review.By)
	}
	return out
}

func stateWord(s int16) string { return verdict.State(s).String() }

// PublicNote is what was written for customers about an incident.
type PublicNote struct {
	At      span.Instant  `json:"at"`
	Text    string        `json:"text"`
	BeganAt span.Instant  `json:"began_at" doc:"When the trouble began that it is about"`
	EndedAt *span.Instant `json:"ended_at,omitempty"`
	Worst   string        `json:"worst" enum:"up,degraded,down,unmeasured"`
}

func (s *Server) publicNotes(ctx context.Context, in *ByID) (*list[PublicNote], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if !mayAsk(ctx, snap, in.ID) {
		return nil, catalogue.ErrNotFound
	}
	rows, err := s.Store.PublicNotes(ctx, db.PublicNotesParams{Since: s.Now().AddDate(0, 0, -400), Service: snap.Agreements[in.ID].Current().Spec.Service})
	if err != nil {
		return nil, err
	}
	var out []PublicNote
	for _, r := range rows {
		n := PublicNote{At: span.Of(r.At), Text: r.Text, BeganAt: span.Of(r.BeganAt), Worst: stateWord(r.Worst)}
		if r.EndedAt != nil {
			at := span.Of(*r.EndedAt)
			n.EndedAt = &at
		}
		out = append(out, n)
	}
	return items(out), nil
}

// numbered is an incident of that number.
func (s *Server) numbered(ctx context.Context, id int64) (db.Incident, error) {
	row, err := s.Store.Incident(ctx, id)
	if errors.Is(err, pgx.ErrNoRows) {
		return row, catalogue.ErrNotFound
	}
	return row, err
}
