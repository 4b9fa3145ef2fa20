package incidents

import (
	"encoding/json"
	"fmt"
	"time"

	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// Of is the incident that a row keeps. A review that cannot be read says so.
func Of(r db.Incident) incident.Incident {
	out := incident.Incident{
		ID: r.ID, Subject: incident.Subject{About: r.About, ID: r.Subject},
		BeganAt: span.Of(r.BeganAt), KnownAt: span.Of(r.KnownAt), LatestAt: span.Of(r.LatestAt), Times: int(r.Times),
		State: verdict.State(r.State), Worst: verdict.State(r.Worst), EndedAt: instant(r.EndedAt),
		Severity: r.Severity, SeverityBy: r.SeverityBy, Assignee: r.Assignee,
		ResolvedAt: instant(r.ResolvedAt), ResolvedBy: r.ResolvedBy, Unfounded: r.Unfounded, CauseBy: r.CauseBy,
	}
	if r.AckBy != nil && r.AckAt != nil {
		out.Acknowledged = &incident.Acknowledgement{By: *r.AckBy, At: span.Of(*r.AckAt), Until: instant(r.AckUntil)}
	}
	if r.Cause != nil {
		out.Cause = *r.Cause
	}
	if r.Planned != nil && r.PlannedUntil != nil {
		out.Planned = &incident.Planned{Window: *r.Planned, Until: span.Of(*r.PlannedUntil)}
	}
	if len(r.Review) > 0 {
		out.Review = new(incident.Review)
		if err := json.Unmarshal(r.Review, out.Review); err != nil {
			out.Review = &incident.Review{Class: "unknown", Cause: "The review cannot be read: " + err.Error()}
		}
	}
	return out
}

func all(rows []db.Incident) []incident.Incident {
	out := make([]incident.Incident, len(rows))
	for n, r := range rows {
		out[n] = Of(r)
	}
	return out
}

func instant(t *time.Time) *span.Instant {
	if t == nil {
		return nil
	}
	i := span.Of(*t)
	return &i
}

func clock(i *span.Instant) *time.Time {
	if i == nil {
		return nil
	}
	t := i.Time()
	return &t
}

// put is what of an incident can change.
func put(i incident.Incident) (db.PutIncidentParams, error) {
	out := db.PutIncidentParams{
		ID: i.ID, BeganAt: i.BeganAt.Time(), LatestAt: i.LatestAt.Time(), Times: int32(i.Times), State: int16(i.State), Worst: int16(i.Worst),
		EndedAt: clock(i.EndedAt), Severity: i.Severity, SeverityBy: i.SeverityBy, Assignee: i.Assignee,
		ResolvedAt: clock(i.ResolvedAt), ResolvedBy: i.ResolvedBy, Unfounded: i.Unfounded, CauseBy: i.CauseBy,
	}
	if a := i.Acknowledged; a != nil {
		at := a.At.Time()
		out.AckBy, out.AckAt, out.AckUntil = &a.By, &at, clock(a.Until)
	}
	if i.Cause != 0 {
		out.Cause = &i.Cause
	}
	if i.Review != nil {
		var err error
		if out.Review, err = json.Marshal(i.Review); err != nil {
			return out, fmt.Errorf("write the review of incident %d: %w", i.ID, err)
		}
	}
	return out, nil
}

func events(id int64, list []incident.Event, written time.Time) []db.AddIncidentEventsParams {
	out := make([]db.AddIncidentEventsParams, len(list))
	for n, e := range list {
		out[n] = db.AddIncidentEventsParams{Incident: id, Kind: e.Kind, At: e.At.Time(), WrittenAt: written, Person: e.Person, Text: e.Text,
			Public: e.Public, Other: e.Other, UntilAt: clock(e.To)}
		if e.Cause != 0 {
			out[n].Cause = &e.Cause
		}
	}
	return out
}
