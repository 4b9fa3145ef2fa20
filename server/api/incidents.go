package api

import (
	"context"
	"errors"
	"mime"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/attached"
	"kestite/server/incidents"
	"kestite/server/store/gen/db"
)

func (s *Server) incidentRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/incidents", "incidents", "Incidents, those that began last first, each with what follows it",
		s.incidentList)
	on(a, access.See, http.MethodGet, "/incidents/export", "export-incidents", "Incidents as CSV, those that follow one too",
		s.exportIncidents)
	on(a, access.See, http.MethodGet, "/incidents/people", "incident-people", "Whom an incident can be given to", s.incidentPeople)
	on(a, access.See, http.MethodGet, "/incidents/{id}", "incident", "An incident: what happened, what it costs, what was like it",
		s.incidentDetail, costly)
	on(a, access.Own, http.MethodGet, "/agreements/{id}/notes", "notes-of-agreement",
		"What was written for customers about trouble of its service, of the last 400 days", s.publicNotes)
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/acknowledgement", "acknowledge-incident", "Say that you are on it", s.acknowledge)
	on(a, access.Operate, http.MethodDelete, "/incidents/{id}/acknowledgement", "release-incident", "Take the acknowledgement back",
		func(ctx context.Context, in *ByNumber) (*none, error) {
			return s.deed(ctx, in.ID, "release", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Release(by(ctx).Kept(), now)
			})
		})
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/notes", "note-incident", "Add what you know",
		func(ctx context.Context, in *struct {
			ByNumber
			Body IncidentNote
		}) (*none, error) {
			return s.deed(ctx, in.ID, "note", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Note(by(ctx).Kept(), now, in.Body.Text, in.Body.Public)
			})
		})
	on(a, access.Operate, http.MethodPut, "/incidents/{id}/assignee", "assign-incident", "Give it to somebody", s.assign)
	on(a, access.Operate, http.MethodPut, "/incidents/{id}/severity", "rate-incident", "Give it another severity, which then stays",
		func(ctx context.Context, in *struct {
			ByNumber
			Body struct {
				Severity string `json:"severity" enum:"critical,major,minor"`
			}
		}) (*none, error) {
			return s.deed(ctx, in.ID, "rate", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Rate(by(ctx).Kept(), now, in.Body.Severity)
			})
		})
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/resolution", "resolve-incident", "End it by hand",
		func(ctx context.Context, in *struct {
			ByNumber
			Body struct {
				Note string `json:"note,omitempty" maxLength:"20000" doc:"Needed while its trouble lasts: why it is settled"`
			}
		}) (*none, error) {
			return s.deed(ctx, in.ID, "resolve", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Resolve(by(ctx).Kept(), now, in.Body.Note)
			})
		})
	on(a, access.Operate, http.MethodDelete, "/incidents/{id}/resolution", "open-incident", "Open again what a person resolved",
		func(ctx context.Context, in *ByNumber) (*none, error) {
			return s.deed(ctx, in.ID, "open", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Open(by(ctx).Kept(), now)
			})
		})
	on(a, access.Operate, http.MethodPut, "/incidents/{id}/review", "review-incident", "Say afterwards what it was",
		func(ctx context.Context, in *struct {
			ByNumber
			Body IncidentReview
		}) (*none, error) {
			return s.deed(ctx, in.ID, "review", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Record(by(ctx).Kept(), now, in.Body.Class, in.Body.Cause, in.Body.Action, in.Body.Was)
			})
		})
	on(a, access.Operate, http.MethodPut, "/incidents/{id}/cause", "merge-incident", "Put it, and what follows it, under another one",
		func(ctx context.Context, in *struct {
			ByNumber
			Body struct {
				Cause int64 `json:"cause" minimum:"1" doc:"Number of the other one"`
			}
		}) (*none, error) {
			if err := s.mayHandle(ctx, in.ID); err != nil {
				return nil, err
			}
			if err := s.mayHandle(ctx, in.Body.Cause); err != nil && !errors.Is(err, pgx.ErrNoRows) {
				return nil, err
			}
			return nil, told(s.Incidents.Under(ctx, by(ctx), in.ID, in.Body.Cause))
		})
	on(a, access.Operate, http.MethodDelete, "/incidents/{id}/cause", "split-incident", "Take it out from under its cause",
		func(ctx context.Context, in *ByNumber) (*none, error) {
			return s.deed(ctx, in.ID, "split", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Apart(by(ctx).Kept(), now)
			})
		})
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/links", "link-incident", "Add a web address",
		func(ctx context.Context, in *struct {
			ByNumber
			Body struct {
				Address string `json:"address" minLength:"1" maxLength:"2000"`
				Title   string `json:"title,omitempty" maxLength:"200"`
			}
		}) (*none, error) {
			return s.deed(ctx, in.ID, "link", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
				return i.Link(by(ctx).Kept(), now, in.Body.Address, in.Body.Title)
			})
		})
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/files", "attach-to-incident", "Attach a file, 2 MiB at most", s.attach,
		func(op *huma.Operation) { op.MaxBodyBytes = attached.MostBytes + 1 }) // one byte more is told to be too long
	on(a, access.See, http.MethodGet, "/incidents/{id}/files/{file}", "file-of-incident", "A file that was attached", s.attached)
}

// ByNumber is the number of something in a path.
type ByNumber struct {
	ID int64 `path:"id" minimum:"1"`
}

// IncidentNote is what a person knows.
type IncidentNote struct {
	Text   string `json:"text" maxLength:"20000"`
	Public bool   `json:"public,omitempty" doc:"Customers may read it"`
}

// IncidentReview is what a person says of it afterwards.
type IncidentReview struct {
	Class  string        `json:"class" maxLength:"20"`
	Cause  string        `json:"cause" maxLength:"20000"`
	Action string        `json:"action,omitempty" maxLength:"20000"`
	Was    *span.Instant `json:"was,omitempty" doc:"When the review was made that you have seen; absent: there was none"`
}

// told makes a refusal of core/incident one that people are told.
func told(err error) error {
	var conflict *incident.Conflict
	if errors.As(err, &conflict) {
		return huma.Error409Conflict(conflict.Why)
	}
	return err
}

// mayHandle refuses who may not do anything with an incident.
func (s *Server) mayHandle(ctx context.Context, id int64) error {
	row, err := s.Store.Incident(ctx, id)
	if err != nil {
		return err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	service := incidents.ServiceOf(snap, incident.Subject{About: row.About, ID: row.Subject})
	if service == "" {
		return who(ctx).Rights.Everywhere(snap, access.Operate)
	}
	return who(ctx).Rights.Over(snap, access.Operate, service)
}

func (s *Server) deed(ctx context.Context, id int64, action string, deed incidents.Deed) (*none, error) {
	if err := s.mayHandle(ctx, id); err != nil {
		return nil, err
	}
	return nil, told(s.Incidents.Do(ctx, by(ctx), id, action, deed))
}

func (s *Server) acknowledge(ctx context.Context, in *struct {
	ByNumber
	Body struct {
		Until *span.Instant `json:"until,omitempty" doc:"When it lapses; absent: it does not"`
		Take  bool          `json:"take,omitempty" doc:"Take it over from who acknowledged it before"`
		Note  string        `json:"note,omitempty" maxLength:"20000"`
	}
}) (*none, error) {
	return s.deed(ctx, in.ID, "acknowledge", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
		person := by(ctx).Kept()
		c, err := i.Acknowledge(person, now, in.Body.Until, in.Body.Take)
		if err != nil || strings.TrimSpace(in.Body.Note) == "" {
			return c, err
		}
		noted, err := c.Incident.Note(person, now, in.Body.Note, false)
		noted.Events = append(c.Events, noted.Events...)
		return noted, err
	})
}

func (s *Server) assign(ctx context.Context, in *struct {
	ByNumber
	Body struct {
		Person string `json:"person" maxLength:"60" doc:"Id of a person; empty: nobody"`
	}
}) (*none, error) {
	if to := in.Body.Person; to != "" {
		list, err := s.handlers(ctx)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(list, func(p PersonName) bool { return p.ID == to }) {
			return nil, invalid("person", "it cannot be given to that person; take one who may work on incidents")
		}
	}
	return s.deed(ctx, in.ID, "assign", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
		return i.Assign(by(ctx).Kept(), now, in.Body.Person)
	})
}

// PersonName is a person by name.
type PersonName struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// handlers are the people who may work on incidents.
func (s *Server) handlers(ctx context.Context) ([]PersonName, error) {
	rows, err := s.Store.People(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	out := []PersonName{}
	for _, r := range rows {
		if access.Role(r.Role).Permits(access.Operate) && r.DisabledAt == nil {
			out = append(out, PersonName{r.ID, r.Name})
		}
	}
	return out, nil
}

func (s *Server) incidentPeople(ctx context.Context, _ *none) (*list[PersonName], error) {
	out, err := s.handlers(ctx)
	return items(out), err
}

func (s *Server) attach(ctx context.Context, in *struct {
	ByNumber
	Name    string `query:"name" required:"true" maxLength:"300"`
	RawBody []byte `contentType:"application/octet-stream"`
}) (*none, error) {
	if err := s.mayHandle(ctx, in.ID); err != nil {
		return nil, err
	}
	return nil, told(s.Incidents.Attach(ctx, by(ctx), in.ID, in.Name, in.RawBody))
}

// attached sends a file for saving: what a person attached is never shown as a page of ours.
func (s *Server) attached(ctx context.Context, in *struct {
	ByNumber
	File int64 `path:"file" minimum:"1"`
}) (*huma.StreamResponse, error) {
	f, err := s.Store.IncidentFile(ctx, db.IncidentFileParams{Incident: in.ID, ID: in.File})
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", f.Type)
		hc.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
		hc.SetHeader("Content-Security-Policy", "sandbox; default-src 'none'")
		hc.BodyWriter().Write(f.Content)
	}}, nil
}
