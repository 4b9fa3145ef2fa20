package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/notice"
	"kestite/core/span"
	"kestite/server/incidents"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// methodRoutes are what people are told by, and what was told.
func (s *Server) methodRoutes(a *operations) {
	on(a, access.Own, http.MethodGet, "/me/contact-methods", "own-contact-methods", "Your contact methods", s.ownMethods)
	on(a, access.Own, http.MethodPost, "/me/contact-methods", "add-own-contact-method", "Add a contact method; it is used once you have verified it",
		func(ctx context.Context, in *body[NewMethod]) (*body[made], error) {
			m, err := s.Notices.AddMethod(ctx, by(ctx), notifying.New{Kind: in.Body.Kind, Address: in.Body.Address, Active: in.Body.Active})
			return &body[made]{made{m.ID}}, err
		})
	on(a, access.Own, http.MethodPut, "/me/contact-methods/{id}", "edit-own-contact-method", "Say when it may be used",
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Active *definition.WeeklyPlan `json:"active,omitempty" doc:"Absent: always"`
			}
		}) (*none, error) {
			return nil, s.Notices.EditMethod(ctx, by(ctx), in.ID, in.Body.Active)
		})
	on(a, access.Own, http.MethodDelete, "/me/contact-methods/{id}", "drop-own-contact-method", "Remove it",
		func(ctx context.Context, in *ByID) (*none, error) {
			return nil, s.Notices.DropMethod(ctx, by(ctx), in.ID)
		})
	on(a, access.Own, http.MethodPost, "/me/contact-methods/{id}/code", "send-code", "Send a code there, and see what the remote answers",
		func(ctx context.Context, in *ByID) (*body[Answered], error) {
			answer, sent, err := s.Notices.SendCode(ctx, by(ctx), in.ID)
			return &body[Answered]{Answered{sent, answer}}, err
		})
	on(a, access.Own, http.MethodPut, "/me/contact-methods/{id}/verification", "verify-own-contact-method", "Say the code that arrived",
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Code string `json:"code" minLength:"1" maxLength:"20"`
			}
		}) (*none, error) {
			return nil, s.Notices.Verify(ctx, by(ctx), in.ID, strings.TrimSpace(in.Body.Code))
		})
	on(a, access.Own, http.MethodGet, "/me/inbox", "own-inbox", "Notices that were for you, the latest first", s.inbox)
	on(a, access.Own, http.MethodPut, "/me/inbox/read", "read-inbox", "Say that you have read them", func(ctx context.Context, in *body[ReadTo]) (*none, error) {
		me, now := who(ctx).ID, s.Now()
		return nil, s.Store.ReadInbox(ctx, db.ReadInboxParams{Person: &me, Now: &now, UpTo: in.Body.UpTo})
	})
	on(a, access.See, http.MethodGet, "/deliveries", "deliveries", "What became of each notice, the latest first", s.deliveryList)
	on(a, access.Operate, http.MethodPost, "/deliveries/{id}/again", "send-again", "Send a message again", s.sendAgain)
	on(a, access.See, http.MethodGet, "/incidents/{id}/notices", "notices-of-incident", "Who was told of an incident, and who is next", s.incidentNotices)
	on(a, public, http.MethodPost, "/acknowledgements/read", "read-acknowledgement", "What a link in a message acknowledges", s.linked)
	on(a, public, http.MethodPost, "/acknowledgements", "acknowledge-by-link", "Acknowledge by a link in a message, once", s.acknowledgeByLink)
}

// NewMethod is a contact method to be.
type NewMethod struct {
	Kind    string                 `json:"kind" enum:"mail,sms"`
	Address string                 `json:"address" minLength:"1" maxLength:"320"`
	Active  *definition.WeeklyPlan `json:"active,omitempty" doc:"When it may be used; absent: always"`
}

// MethodView is a contact method of one's own.
type MethodView struct {
	ID         string                 `json:"id"`
	Kind       string                 `json:"kind" enum:"mail,sms"`
	Address    string                 `json:"address"`
	Active     *definition.WeeklyPlan `json:"active,omitempty"`
	VerifiedAt *time.Time             `json:"verified_at,omitempty" doc:"Absent: it is not used"`
	CodeUntil  *time.Time             `json:"code_until,omitempty" doc:"Until when a code that was sent is good"`
}

func (s *Server) ownMethods(ctx context.Context, _ *none) (*list[MethodView], error) {
	me := who(ctx).ID
	rows, err := s.Store.PersonMethods(ctx, &me)
	var out []MethodView
	for _, r := range rows {
		m := notifying.MethodOf(r)
		out = append(out, MethodView{r.ID, r.Kind, r.Address, m.Active, r.VerifiedAt, r.CodeUntil})
	}
	return items(out), err
}

// InboxView is the notices that were for somebody.
type InboxView struct {
	Unread int64       `json:"unread"`
	Items  []InboxItem `json:"items"`
}

// InboxItem is one of them.
type InboxItem struct {
	ID       int64        `json:"id"`
	Incident int64        `json:"incident,omitempty"`
	What     string       `json:"what" enum:"begun,again,worse,cause,clear,reminder,summary,work"`
	Severity string       `json:"severity" enum:"critical,major,minor," doc:"Of the incident as it was told"`
	Subject  string       `json:"subject"`
	Text     string       `json:"text"`
	At       span.Instant `json:"at"`
	Read     bool         `json:"read"`
}

// ReadTo is up to where somebody has read.
type ReadTo struct {
	UpTo int64 `json:"up_to" minimum:"0" doc:"Number of the latest"`
}

const mostInbox = 100

func (s *Server) inbox(ctx context.Context, _ *none) (*body[InboxView], error) {
	me := who(ctx).ID
	rows, err := s.Store.InboxOf(ctx, db.InboxOfParams{Person: &me, Most: mostInbox})
	if err != nil {
		return nil, err
	}
	out := InboxView{Items: []InboxItem{}}
	if out.Unread, err = s.Store.UnreadOf(ctx, &me); err != nil {
		return nil, err
	}
	for _, r := range rows {
		item := InboxItem{ID: r.ID, What: r.What, Severity: r.Severity, Subject: r.Subject, Text: r.Text, At: span.Of(r.MadeAt), Read: r.ReadAt != nil}
		if r.Incident != nil {
			item.Incident = *r.Incident
		}
		out.Items = append(out.Items, item)
	}
	return &body[InboxView]{out}, nil
}

// DeliveryView is one notice to one receiver by one contact method.
type DeliveryView struct {
	ID         int64         `json:"id"`
	Incident   int64         `json:"incident,omitempty"`
	About      string        `json:"about,omitempty" doc:"What the incident is about, as people call it"`
	What       string        `json:"what" enum:"begun,again,worse,cause,clear,reminder,summary,work"`
	Plan       string        `json:"plan" doc:"What the notice plan is called"`
	Step       int           `json:"step,omitempty" doc:"Of the plan, from 1; absent: none"`
	To         string        `json:"to" doc:"What the receiver is called"`
	Kind       string        `json:"kind" enum:"mail,sms,webhook,chat,syslog,script,inbox,"`
	Address    string        `json:"address" doc:"Of people, in part, for those who define nothing"`
	State      string        `json:"state" enum:"queued,held,sent,failed,suppressed"`
	Why        string        `json:"why" doc:"Why it was suppressed, held or failed"`
	Answer     string        `json:"answer" doc:"What the remote answered, or what went wrong last"`
	Subject    string        `json:"subject"`
	Text       string        `json:"text"`
	DueAt      span.Instant  `json:"due_at"`
	At         *span.Instant `json:"at,omitempty" doc:"When it was sent, failed or suppressed"`
	NextAt     *span.Instant `json:"next_at,omitempty" doc:"When it is tried next"`
	Tries      int           `json:"tries"`
	LateMS     int64         `json:"late_ms" doc:"How long after it was due it was sent"`
	MaybeTwice bool          `json:"maybe_twice" doc:"A server died after it may have sent it, and it was sent again with the same id"`
	AgainOf    int64         `json:"again_of,omitempty" doc:"The delivery that somebody had sent again"`
	By         string        `json:"by,omitempty" doc:"Who had"`
	Repeatable bool          `json:"repeatable" doc:"It can be sent again"`
}

// DeliveryPage is a part of the deliveries.
type DeliveryPage struct {
	Items []DeliveryView `json:"items"`
	Next  int64          `json:"next,omitempty" doc:"Give it as before for those that come after these; absent: there are no more"`
}

// InDeliveries narrows the deliveries.
type InDeliveries struct {
	State  string `query:"state" enum:"queued,held,sent,failed,suppressed,"`
	Kind   string `query:"kind" enum:"mail,sms,webhook,chat,syslog,script,inbox,"`
	Person string `query:"person" maxLength:"60" doc:"Id of a person"`
	Find   string `query:"find" maxLength:"200" doc:"Occurs in the subject, the address or what the remote answered"`
	From   string `query:"from" maxLength:"40" doc:"Made from then on, as 2026-01-15T08:00:00Z"`
	To     string `query:"to" maxLength:"40" doc:"Made before then"`
	Before int64  `query:"before" minimum:"0" doc:"Next of the page before"`
	Count  int32  `query:"count" minimum:"1" maximum:"500" default:"100"`
}

func (s *Server) deliveryList(ctx context.Context, in *InDeliveries) (*body[DeliveryPage], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p := db.DeliveriesParams{State: given(in.State), Kind: given(in.Kind), Person: given(in.Person), Words: given(strings.TrimSpace(in.Find)),
		Most: in.Count + 1}
	for path, at := range map[string]struct {
		text string
		to   **time.Time
	}{"from": {in.From, &p.FromAt}, "to": {in.To, &p.ToAt}} {
		if at.text == "" {
			continue
		}
		i, err := span.ParseInstant(at.text)
		if err != nil {
			return nil, definition.Faultf("query."+path, "%v", err)
		}
		t := i.Time()
		*at.to = &t
	}
	if in.Before > 0 {
		p.Before = &in.Before
	}
	rows, err := s.Store.Deliveries(ctx, p)
	if err != nil {
		return nil, err
	}
	out := DeliveryPage{Items: []DeliveryView{}}
	if len(rows) > int(in.Count) {
		rows = rows[:in.Count]
		out.Next = rows[len(rows)-1].ID
	}
	for _, r := range rows {
		of := db.DeliveriesOfIncidentRow{ID: r.ID, Notice: r.Notice, Incident: r.Incident, Person: r.Person, Kind: r.Kind, Method: r.Method,
			Address: r.Address, State: r.State, Why: r.Why, Subject: r.Subject, Text: r.Text, DueAt: r.DueAt, MadeAt: r.MadeAt, NextAt: r.NextAt,
			Tries: r.Tries, MaybeTwice: r.MaybeTwice, DoneAt: r.DoneAt, Answer: r.Answer, AgainOf: r.AgainOf, By: r.By, What: r.What, Plan: r.Plan,
			Step: r.Step, Called: r.Called}
		v := s.deliveryView(ctx, snap, of)
		if r.About != nil && r.AboutID != nil {
			v.About = incidents.Name(snap, incident.Subject{About: *r.About, ID: *r.AboutID})
		}
		out.Items = append(out.Items, v)
	}
	return &body[DeliveryPage]{out}, nil
}

func (s *Server) deliveryView(ctx context.Context, snap *catalogue.Snapshot, r db.DeliveriesOfIncidentRow) DeliveryView {
	v := DeliveryView{ID: r.ID, What: r.What, Plan: snap.Named(catalogue.NoticePlan, r.Plan), To: r.Called, Kind: r.Kind, Address: r.Address, State: r.State,
		Why: r.Why, Answer: r.Answer, Subject: r.Subject, Text: linkTokens.ReplaceAllString(r.Text, "kesr_…"), DueAt: span.Of(r.DueAt), Tries: int(r.Tries), MaybeTwice: r.MaybeTwice,
		By: r.By}
	if r.What == string(notice.Begun) || r.What == string(notice.Again) {
		v.Step = int(r.Step) + 1
	}
	if r.Incident != nil {
		v.Incident = *r.Incident
	}
	if r.AgainOf != nil {
		v.AgainOf = *r.AgainOf
	}
	if r.Person == nil && r.Method != "" {
		v.To = snap.Named(catalogue.Contact, r.Method)
	}
	switch {
	case r.DoneAt != nil:
		at := span.Of(*r.DoneAt)
		v.At = &at
		if r.State == "sent" {
			v.LateMS = max(0, int64(at-v.DueAt))
		}
	case r.State == "queued":
		at := span.Of(r.NextAt)
		v.NextAt = &at
	}
	me := who(ctx)
	if r.Person != nil && *r.Person != me.ID && !me.Rights.May(access.Define) {
		hidden := masked(v.Address)
		for _, text := range []*string{&v.Answer, &v.Why} { // a mail server repeats it
			*text = strings.ReplaceAll(*text, v.Address, hidden)
		}
		v.Address = hidden
	}
	if r.Person == nil && !me.Rights.May(access.Define) {
		v.Address = withoutPath(r.Kind, v.Address)
	}
	v.Repeatable = r.State != "queued" && r.Kind != "" && r.Kind != definition.Inbox && r.Address != "erased" && me.Rights.May(access.Operate)
	return v
}

// withoutPath is the address of a shared contact method as those see it who define nothing:
// what follows the host of a web address is often a secret.
func withoutPath(kind, address string) string {
	if kind != definition.Webhook && kind != definition.Chat {
		return address
	}
	origin, err := definition.Origin(address)
	if err != nil {
		return "•••"
	}
	return origin + "/•••"
}

// masked is the address of a person as those see it who have no business with it.
func masked(address string) string {
	if at := strings.LastIndex(address, "@"); at > 0 {
		return address[:1] + "•••" + address[at:]
	}
	if len(address) > 6 {
		return address[:3] + "•••" + address[len(address)-2:]
	}
	return address
}

func (s *Server) sendAgain(ctx context.Context, in *ByNumber) (*body[struct {
	ID int64 `json:"id"`
}], error) {
	d, err := s.Store.Delivery(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if d.Incident != nil {
		if err := s.mayHandle(ctx, *d.Incident); err != nil {
			return nil, err
		}
	}
	id, err := s.Notices.Again(ctx, by(ctx), in.ID)
	return &body[struct {
		ID int64 `json:"id"`
	}]{struct {
		ID int64 `json:"id"`
	}{id}}, err
}

// IncidentNotices is who was told of an incident, and who is next.
type IncidentNotices struct {
	Plans []PlanState    `json:"plans" doc:"The notice plans that it follows; none: nobody is told"`
	Items []DeliveryView `json:"items"`
}

// PlanState is how far a plan has come with an incident.
type PlanState struct {
	ChosenView
	Silence string        `json:"silence" doc:"Why it tells nobody now; empty: nothing keeps it"`
	Until   *span.Instant `json:"until,omitempty" doc:"When that is over, as far as it is known"`
	Next    *span.Instant `json:"next,omitempty" doc:"When somebody is told next, if nothing happens"`
	Step    int           `json:"step,omitempty" doc:"By which step, from 1"`
	Tells   []string      `json:"tells" doc:"Whom"`
}

func (s *Server) incidentNotices(ctx context.Context, in *ByNumber) (*body[IncidentNotices], error) {
	row, err := s.numbered(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	snap, d, err := s.directory(ctx)
	if err != nil {
		return nil, err
	}
	out := IncidentNotices{Plans: []PlanState{}, Items: []DeliveryView{}}
	rows, err := s.Store.DeliveriesOfIncident(ctx, &in.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		out.Items = append(out.Items, s.deliveryView(ctx, snap, r))
	}
	of := incidents.Of(row)
	chosen := notice.Plans(snap, of.Subject, incidents.ServiceOf(snap, of.Subject))
	life, err := s.Notices.Life(ctx, snap, row)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	for n, p := range notice.Following(snap, chosen, incidents.ServiceOf(snap, of.Subject)) {
		v := PlanState{ChosenView: chosenViews(snap, chosen)[n], Tells: []string{}}
		v.Silence, v.Until = life.Silence(p, now)
		if next := life.Schedule(p, now, now.Add(7*span.Day)); len(next) > 0 && life.To == nil {
			v.Next, v.Step = &next[0].At, next[0].Step+1
			if next[0].Digest != nil {
				v.Next = next[0].Digest
			}
			for _, r := range next[0].Tell {
				v.Tells = append(v.Tells, lineView(snap, d, notice.Line{Plan: p.ID, To: r}).To)
			}
		}
		out.Plans = append(out.Plans, v)
	}
	return &body[IncidentNotices]{out}, nil
}

// LinkedView is what a link in a message acknowledges.
type LinkedView struct {
	Incident     int64  `json:"incident"`
	Headline     string `json:"headline"`
	Severity     string `json:"severity" enum:"critical,major,minor"`
	Person       string `json:"person" doc:"What the person is called whose link it is"`
	Acknowledged string `json:"acknowledged" doc:"Who has already; empty: nobody"`
	Over         bool   `json:"over" doc:"It is over: there is nothing to acknowledge"`
}

// LinkToken names a link. It is sent in a body, and so stands in no log.
type LinkToken struct {
	Token string `json:"token" minLength:"1" maxLength:"100"`
}

func (s *Server) linked(ctx context.Context, in *body[LinkToken]) (*body[LinkedView], error) {
	l, err := s.link(ctx, in.Body.Token)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	row, err := s.numbered(ctx, l.Incident)
	if err != nil {
		return nil, err
	}
	views, err := s.incidentViews(ctx, snap, []db.Incident{row})
	if err != nil {
		return nil, err
	}
	p, err := s.Store.Person(ctx, l.Person)
	if err != nil {
		return nil, err
	}
	v := LinkedView{Incident: l.Incident, Headline: views[0].Headline, Severity: views[0].Severity, Person: p.Name, Over: row.ResolvedAt != nil}
	if a := views[0].Acknowledged; a != nil {
		v.Acknowledged = a.By
	}
	return &body[LinkedView]{v}, nil
}

func (s *Server) link(ctx context.Context, token string) (notifying.Linked, error) {
	l, err := s.Notices.ByLink(ctx, token)
	return l, gone(err)
}

// gone says that a link is not good any more.
func gone(err error) error {
	if errors.Is(err, notifying.ErrLink) {
		return huma.Error410Gone("This link is not good any more: it was used, or a day has passed. Sign in and look under Incidents.")
	}
	return err
}

func (s *Server) acknowledgeByLink(ctx context.Context, in *body[LinkToken]) (*none, error) {
	l, err := s.link(ctx, in.Body.Token)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.Person(ctx, l.Person)
	if err != nil {
		return nil, err
	}
	rights := access.Rights{Role: access.Role(p.Role), Customer: p.Customer, Teams: p.Teams}
	if p.DisabledAt != nil || p.ErasedAt != nil {
		return nil, &access.Denied{Why: "The account that the link belongs to is no more. Ask an administrator."}
	}
	row, err := s.numbered(ctx, l.Incident)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	service := incidents.ServiceOf(snap, incident.Subject{About: row.About, ID: row.Subject})
	if service == "" {
		err = rights.Everywhere(snap, access.Operate)
	} else {
		err = rights.Over(snap, access.Operate, service)
	}
	if err != nil {
		return nil, err
	}
	if err := s.Notices.UseLink(ctx, in.Body.Token); err != nil {
		return nil, gone(err)
	}
	as := trail.By{Person: p.ID, Source: caller(ctx).Source}
	return nil, told(s.Incidents.Do(ctx, as, l.Incident, "acknowledge", func(i incident.Incident, now span.Instant) (incident.Changed, error) {
		return i.Acknowledge(p.ID, now, nil, false)
	}))
}
