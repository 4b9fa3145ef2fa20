package api

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"iter"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
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

// IncidentPage is a part of the incidents.
type IncidentPage struct {
	Items []IncidentView `json:"items"`
	Next  string         `json:"next,omitempty" doc:"Give it as before for those that come after these; absent: there are no more"`
	Open  int64          `json:"open" doc:"How many are open at all, without those that follow one"`
}

// IncidentFilter narrows the incidents.
type IncidentFilter struct {
	Open     string `query:"open" enum:"true,false," doc:"Only those that are open, or that are not"`
	Reviewed string `query:"reviewed" enum:"true,false,"`
	All      bool   `query:"all" doc:"Those that follow one too, each by itself"`
	About    string `query:"about" enum:"service,check,location,agreement,"`
	Service  string `query:"service" maxLength:"120" doc:"Id of a service: its own, and those of its checks"`
	Severity string `query:"severity" enum:"critical,major,minor,"`
	Assignee string `query:"assignee" maxLength:"60" doc:"Id of a person"`
	Class    string `query:"class" maxLength:"20" doc:"What the review says that it was"`
	Find     string `query:"find" maxLength:"200" doc:"Words that all occur in its names, notes or review"`
	From     string `query:"from" maxLength:"40" doc:"Only those that were not over then, as 2006-01-15T08:00:00Z"`
	To       string `query:"to" maxLength:"40" doc:"Only those that began before then"`
}

func (s *Server) incidentRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/incidents", "incidents", "Incidents, those that began last first, each with what follows it", s.incidentList)
	on(a, access.See, http.MethodGet, "/incidents/export", "export-incidents", "Incidents as CSV, those that follow one too", s.exportIncidents)
	on(a, access.See, http.MethodGet, "/incidents/people", "incident-people", "Whom an incident can be given to", s.incidentPeople)
	on(a, access.See, http.MethodGet, "/incidents/{id}", "incident", "An incident: what happened, what it costs, what was like it", s.incidentDetail, costly)
	on(a, access.Own, http.MethodGet, "/agreements/{id}/notes", "notes-of-agreement", "What was written for customers about trouble of its service, of the last 400 days", s.publicNotes)
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
	on(a, access.Operate, http.MethodPost, "/incidents/{id}/files", "attach-to-incident", "Attach a file, 2 MiB at most", s.attach)
	on(a, access.See, http.MethodGet, "/incidents/{id}/files/{file}", "file-of-incident", "A file that was attached", s.attached)
}

// ByNumber is the number of an incident in a path.
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

// subjectOf is what people call what an incident is about.
func (s *Server) subjectOf(snap *catalogue.Snapshot, of incident.Subject) string {
	if of.About == incident.Agreement {
		if e := snap.Agreements[of.ID]; e != nil {
			return strings.TrimSuffix(called(snap, of.ID)+", "+snap.Whom(e.Current().Spec), ", ")
		}
	}
	name := snap.Named(of.About, of.ID)
	if of.About == incident.Check {
		if service := incidents.ServiceOf(snap, of); service != "" {
			name += " of " + snap.Named(catalogue.Service, service)
		}
	}
	return name
}

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
	why, err := s.lows(ctx, snap, rows)
	if err != nil {
		return nil, err
	}
	out := make([]IncidentView, 0, len(rows))
	for _, r := range rows {
		i := incidents.Of(r)
		v := IncidentView{
			ID: i.ID, About: i.About, Subject: i.Subject.ID, Name: s.subjectOf(snap, i.Subject), Service: incidents.ServiceOf(snap, i.Subject),
			Phase: i.Phase(now), Severity: i.Severity, State: i.State.String(), Worst: i.Worst.String(), BeganAt: i.BeganAt, KnownAt: i.KnownAt,
			EndedAt: i.EndedAt, ResolvedAt: i.ResolvedAt, ResolvedBy: names[i.ResolvedBy], LastedMS: i.Lasted(now).Length(), Times: i.Times,
			Unfounded: i.Unfounded, Assignee: i.Assignee, AssigneeName: names[i.Assignee], Cause: i.Cause, CauseBy: names[i.CauseBy],
			Followers: []FollowerView{},
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
			view := FollowerView{ID: f.ID, Name: s.subjectOf(snap, of), Service: incidents.ServiceOf(snap, of), State: stateWord(f.State),
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
				v.CauseName = s.subjectOf(snap, incident.Subject{About: c.About, ID: c.Subject})
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

// params are what a filter asks the store for.
func (f IncidentFilter) params(snap *catalogue.Snapshot) (db.IncidentListParams, error) {
	out := db.IncidentListParams{Open: whether(f.Open), Reviewed: whether(f.Reviewed), About: given(f.About), Severity: given(f.Severity),
		Assignee: given(f.Assignee), Class: given(f.Class)}
	if !f.All {
		yes := true
		out.Root = &yes
	}
	if f.Service != "" {
		if snap.Services[f.Service] == nil {
			return out, definition.Faultf("query.service", "%q names no service", f.Service)
		}
		out.Subjects = append([]string{f.Service}, snap.ChecksOf[f.Service]...)
	}
	if words := strings.Fields(strings.Map(wordly, f.Find)); len(words) > 0 {
		for n := range words {
			words[n] += ":*"
		}
		find := strings.Join(words, " & ")
		out.Words = &find
	} else if strings.TrimSpace(f.Find) != "" {
		none := "" // it has no word that could be found
		out.Words = &none
	}
	for text, at := range map[*string]**time.Time{&f.From: &out.FromAt, &f.To: &out.ToAt} {
		if *text == "" {
			continue
		}
		i, err := span.ParseInstant(*text)
		if err != nil {
			return out, definition.Faultf("query.from", "%v", err)
		}
		t := i.Time()
		*at = &t
	}
	return out, nil
}

// wordly leaves of what is looked for what a word is made of: the rest would be operators.
func wordly(r rune) rune {
	if r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f && r != 0xfffd {
		return r
	}
	return ' '
}

func whether(text string) *bool {
	if text == "" {
		return nil
	}
	is := text == "true"
	return &is
}

func given(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// before reads where a page begins: the instant and the number of the last one before it.
func before(text string, p *db.IncidentListParams) error {
	if text == "" {
		return nil
	}
	at, id, _ := strings.Cut(text, ".")
	ms, err := strconv.ParseInt(at, 10, 64)
	number, err2 := strconv.ParseInt(id, 10, 64)
	if err != nil || err2 != nil || ms < 0 || ms > int64(4e14) {
		return definition.Faultf("query.before", "is not what a page gave as next; leave it away to begin anew")
	}
	t := span.Instant(ms).Time()
	p.BeforeAt, p.BeforeID = &t, &number
	return nil
}

func (s *Server) incidentList(ctx context.Context, in *struct {
	IncidentFilter
	Before string `query:"before" maxLength:"60" doc:"What a page gave as next"`
	Most   int32  `query:"most" minimum:"1" maximum:"200" default:"50"`
}) (*body[IncidentPage], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := in.params(snap)
	if err != nil {
		return nil, err
	}
	if err := before(in.Before, &p); err != nil {
		return nil, err
	}
	p.Most = in.Most + 1
	rows, err := s.Store.IncidentList(ctx, p)
	if err != nil {
		return nil, err
	}
	var out IncidentPage
	if len(rows) > int(in.Most) {
		rows = rows[:in.Most]
		last := rows[len(rows)-1]
		out.Next = fmt.Sprintf("%d.%d", last.BeganAt.UnixMilli(), last.ID)
	}
	if out.Items, err = s.incidentViews(ctx, snap, rows); err != nil {
		return nil, err
	}
	out.Open, err = s.Store.CountOpenIncidents(ctx)
	return &body[IncidentPage]{out}, err
}

func (s *Server) exportIncidents(ctx context.Context, in *IncidentFilter) (*huma.StreamResponse, error) {
	in.All = true
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p, err := in.params(snap)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/csv; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="incidents.csv"`)
		table := csv.NewWriter(hc.BodyWriter())
		table.Write([]string{"number", "about", "subject", "name", "severity", "phase", "worst", "began_at", "known_at", "ended_at", "lasted_ms", "times",
			"unfounded", "cause", "acknowledged_by", "assignee", "resolved_by", "class", "reviewed_cause", "action"})
		for p.Most = 200; ; {
			rows, err := s.Store.IncidentList(ctx, p)
			var views []IncidentView
			if err == nil {
				views, err = s.incidentViews(ctx, snap, rows)
			}
			if err != nil {
				if ctx.Err() == nil {
					s.Log.Error("the incidents were exported in part only", "error", err)
				}
				panic(http.ErrAbortHandler) // the reader sees that the end is missing
			}
			for _, v := range views {
				table.Write(v.line())
			}
			if table.Flush(); len(rows) < int(p.Most) || table.Error() != nil {
				return
			}
			last := rows[len(rows)-1]
			p.BeforeAt, p.BeforeID = &last.BeganAt, &last.ID
		}
	}}, nil
}

// line is an incident as a row of a spreadsheet.
func (v IncidentView) line() []string {
	out := []string{fmt.Sprint(v.ID), v.About, v.Subject, v.Name, v.Severity, string(v.Phase), v.Worst, v.BeganAt.String(), v.KnownAt.String(), "",
		fmt.Sprint(v.LastedMS), fmt.Sprint(v.Times), fmt.Sprint(v.Unfounded), "", "", v.AssigneeName, v.ResolvedBy, "", "", ""}
	if v.EndedAt != nil {
		out[9] = v.EndedAt.String()
	}
	if v.Cause != 0 {
		out[13] = fmt.Sprint(v.Cause)
	}
	if v.Acknowledged != nil {
		out[14] = v.Acknowledged.By
	}
	if v.Review != nil {
		out[17], out[18], out[19] = v.Review.Class, v.Review.Cause, v.Review.Action
	}
	return spreadsheet(out...)
}

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
