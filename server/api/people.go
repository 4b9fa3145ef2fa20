package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/server/auth"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Me is who is signed in, and where.
type Me struct {
	ID           string    `json:"id"`
	Name         string    `json:"name"`
	Email        string    `json:"email"`
	Role         auth.Role `json:"role" enum:"administrator,manager,operator,viewer"`
	Organisation string    `json:"organisation"`
	Timezone     string    `json:"timezone"`
	Demo         bool      `json:"demo" doc:"The stand-ins can be steered here"`
	Version      string    `json:"version"`
}

// PersonView is a person as others see them.
type PersonView struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Email      string     `json:"email"`
	Role       auth.Role  `json:"role" enum:"administrator,manager,operator,viewer"`
	CreatedAt  time.Time  `json:"created_at"`
	DisabledAt *time.Time `json:"disabled_at,omitempty"`
}

type body[T any] struct{ Body T }
type none struct{}
type list[T any] struct {
	Body struct {
		Items []T `json:"items"`
	}
}

func items[T any](all []T) *list[T] {
	out := &list[T]{}
	out.Body.Items = all
	if all == nil {
		out.Body.Items = []T{}
	}
	return out
}

// ByID is the id in a path.
type ByID struct {
	ID string `path:"id"`
}

func (s *Server) sessionRoutes(a *operations) {
	on(a, public, http.MethodGet, "/first-person", "first-person-needed", "Whether the first person is still to be made", s.firstNeeded)
	on(a, public, http.MethodPost, "/first-person", "make-first-person", "Make the first person, an administrator, with the token from the console", s.makeFirst)
	on(a, public, http.MethodPost, "/session", "sign-in", "Sign in", s.signIn)
	on(a, public, http.MethodDelete, "/session", "sign-out", "Sign out", func(ctx context.Context, _ *none) (*none, error) {
		return nil, s.Sessions.SignOut(ctx)
	})
	on(a, auth.Viewer, http.MethodGet, "/session", "me", "Who is signed in", func(ctx context.Context, _ *none) (*body[Me], error) {
		return s.me(ctx, who(ctx))
	})
}

func (s *Server) me(ctx context.Context, p auth.Person) (*body[Me], error) {
	org, err := s.Store.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	return &body[Me]{Me{
		ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, Organisation: org.Name, Timezone: org.Timezone,
		Demo: s.StandIns != nil, Version: s.Version,
	}}, nil
}

type firstNeeded struct {
	Needed       bool   `json:"needed"`
	Organisation string `json:"organisation" doc:"As the server was started with; empty: nobody has said yet, or nothing is needed"`
	Timezone     string `json:"timezone"`
}

// What an organisation is called until somebody names it.
const (
	noName = "My organisation"
	noZone = "UTC"
)

func (s *Server) firstNeeded(ctx context.Context, _ *none) (*body[firstNeeded], error) {
	n, err := s.Store.CountPeople(ctx)
	if err != nil || n > 0 {
		return &body[firstNeeded]{}, err
	}
	org, err := s.Store.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	out := firstNeeded{true, org.Name, org.Timezone}
	if org.Name == noName {
		out.Organisation = ""
		if org.Timezone == noZone {
			out.Timezone = ""
		}
	}
	return &body[firstNeeded]{out}, nil
}

// Naming is what an organisation is called, and the zone of its months.
type Naming struct {
	Name     string `json:"name" minLength:"1" maxLength:"120"`
	Timezone string `json:"timezone" minLength:"1" maxLength:"64" doc:"IANA name; of the period band, and of new agreements"`
}

func (s *Server) nameOrganisation(ctx context.Context, in *body[Naming]) (*none, error) {
	if strings.TrimSpace(in.Body.Name) == "" {
		return nil, invalid("name", "an organisation has a name")
	}
	if _, err := calendar.Zone(in.Body.Timezone); err != nil {
		return nil, invalid("timezone", err.Error())
	}
	return nil, s.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		before, err := q.Organisation(ctx)
		if err != nil {
			return err
		}
		if err := q.NameOrganisation(ctx, db.NameOrganisationParams{Name: strings.TrimSpace(in.Body.Name), Timezone: in.Body.Timezone}); err != nil {
			return err
		}
		detail, err := json.Marshal(map[string]Naming{"from": {before.Name, before.Timezone}, "to": in.Body})
		if err != nil {
			return err
		}
		if err := q.AddAudit(ctx, db.AddAuditParams{Person: who(ctx).Name, Action: "edit", Subject: "organisation", Detail: detail}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Change{Kind: "definition", IDs: []string{"organisation"}})
	})
}

// FirstPerson makes the first account of an installation.
type FirstPerson struct {
	Token        string `json:"token" minLength:"1" doc:"Printed on the server's console at first start"`
	Name         string `json:"name" minLength:"1" maxLength:"120"`
	Email        string `json:"email" minLength:"3" maxLength:"200"`
	Password     string `json:"password" minLength:"10" maxLength:"200"`
	Organisation string `json:"organisation" minLength:"1" maxLength:"120"`
	Timezone     string `json:"timezone" minLength:"1" doc:"IANA name"`
}

func (s *Server) makeFirst(ctx context.Context, in *body[FirstPerson]) (*body[Me], error) {
	b := in.Body
	if _, err := calendar.Zone(b.Timezone); err != nil {
		return nil, invalid("timezone", err.Error())
	}
	hash, err := credentials(b.Email, b.Password)
	if err != nil {
		return nil, err
	}
	var made db.Person
	err = s.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		n, err := q.CountPeople(ctx)
		if err != nil {
			return err
		}
		if n > 0 {
			return huma.Error409Conflict("The first person has been made already; sign in.")
		}
		used, err := q.UseFirstToken(ctx, auth.HashToken(b.Token))
		if err != nil {
			return err
		}
		if used == 0 {
			return invalid("token", "the token is not the one that the server printed when it started; look at its console, or start it again for a new one")
		}
		if err := q.NameOrganisation(ctx, db.NameOrganisationParams{Name: b.Organisation, Timezone: b.Timezone}); err != nil {
			return err
		}
		made, err = q.AddPerson(ctx, db.AddPersonParams{Email: strings.TrimSpace(b.Email), Name: b.Name, Role: string(auth.Administrator), PasswordHash: hash})
		if err != nil {
			return err
		}
		return q.AddAudit(ctx, db.AddAuditParams{Person: b.Name, Action: "create", Subject: "person " + b.Name, Detail: []byte("{}")})
	})
	if err != nil {
		return nil, err
	}
	if err := s.Sessions.Begin(ctx, made.ID); err != nil {
		return nil, err
	}
	return s.me(ctx, auth.Person{ID: made.ID, Name: made.Name, Email: made.Email, Role: auth.Administrator})
}

// invalid is a fault of one field of the body.
func invalid(path, message string) error {
	return huma.Error422UnprocessableEntity("Some of it cannot be: "+message, &huma.ErrorDetail{Location: "body." + path, Message: message})
}

func credentials(email, password string) (hash string, err error) {
	if m, err := mail.ParseAddress(email); err != nil || m.Address != strings.TrimSpace(email) {
		return "", invalid("email", "that is no e-mail address; write it as name@example.org")
	}
	if hash, err = auth.HashPassword(password); err != nil {
		return "", invalid("password", err.Error())
	}
	return hash, nil
}

// SignIn is what it takes to begin a session.
type SignIn struct {
	Email    string `json:"email" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"1" maxLength:"200"`
}

func (s *Server) signIn(ctx context.Context, in *body[SignIn]) (*body[Me], error) {
	p, err := s.Sessions.SignIn(ctx, in.Body.Email, in.Body.Password)
	if err != nil {
		return nil, err
	}
	return s.me(ctx, p)
}

func (s *Server) peopleRoutes(a *operations) {
	on(a, auth.Administrator, http.MethodGet, "/people", "list-people", "Everyone who may sign in", func(ctx context.Context, _ *none) (*list[PersonView], error) {
		rows, err := s.Store.People(ctx)
		var out []PersonView
		for _, p := range rows {
			out = append(out, PersonView{p.ID, p.Name, p.Email, auth.Role(p.Role), p.CreatedAt, p.DisabledAt})
		}
		return items(out), err
	})
	on(a, auth.Administrator, http.MethodPut, "/organisation", "name-organisation", "Say what the organisation is called, and the zone of its months", s.nameOrganisation)
	on(a, auth.Administrator, http.MethodPost, "/people", "add-person", "Let another person sign in", s.addPerson)
	on(a, auth.Administrator, http.MethodPut, "/people/{id}", "change-person", "Change name, role, or whether they may sign in", s.changePerson)
	on(a, auth.Manager, http.MethodGet, "/audit", "audit-trail", "The latest changes, newest first", func(ctx context.Context, in *struct {
		Limit int32 `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	}) (*list[AuditView], error) {
		rows, err := s.Store.AuditTrail(ctx, in.Limit)
		var out []AuditView
		for _, r := range rows {
			out = append(out, AuditView{r.At, r.Person, r.Action, r.Subject})
		}
		return items(out), err
	})
}

// AuditView is one change.
type AuditView struct {
	At      time.Time `json:"at"`
	Person  string    `json:"person"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
}

// NewPerson is a person to be.
type NewPerson struct {
	Name     string    `json:"name" minLength:"1" maxLength:"120"`
	Email    string    `json:"email" minLength:"3" maxLength:"200"`
	Role     auth.Role `json:"role" enum:"administrator,manager,operator,viewer"`
	Password string    `json:"password" minLength:"10" maxLength:"200"`
}

func (s *Server) addPerson(ctx context.Context, in *body[NewPerson]) (*body[PersonView], error) {
	hash, err := credentials(in.Body.Email, in.Body.Password)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.AddPerson(ctx, db.AddPersonParams{Email: strings.TrimSpace(in.Body.Email), Name: in.Body.Name, Role: string(in.Body.Role), PasswordHash: hash})
	if err != nil {
		return nil, err
	}
	err = s.audit(ctx, "create", "person "+p.Name)
	return &body[PersonView]{PersonView{p.ID, p.Name, p.Email, auth.Role(p.Role), p.CreatedAt, p.DisabledAt}}, err
}

// PersonChange is what may change of a person.
type PersonChange struct {
	Name     string    `json:"name" minLength:"1" maxLength:"120"`
	Role     auth.Role `json:"role" enum:"administrator,manager,operator,viewer"`
	Disabled bool      `json:"disabled"`
}

func (s *Server) changePerson(ctx context.Context, in *struct {
	ByID
	Body PersonChange
}) (*none, error) {
	err := s.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		var disabled *time.Time
		if in.Body.Disabled {
			now := s.Now()
			disabled = &now
		}
		n, err := q.ChangePerson(ctx, db.ChangePersonParams{ID: in.ID, Name: in.Body.Name, Role: string(in.Body.Role), DisabledAt: disabled})
		if err != nil {
			return err
		}
		if n == 0 {
			return huma.Error404NotFound("There is no person of that id.")
		}
		left, err := q.CountAdministrators(ctx)
		if err != nil {
			return err
		}
		if left == 0 {
			return invalid("role", "nobody would be administrator any more; make somebody else one first")
		}
		return q.AddAudit(ctx, db.AddAuditParams{Person: who(ctx).Name, Action: "edit", Subject: "person " + in.Body.Name, Detail: []byte("{}")})
	})
	return nil, err
}

func (s *Server) audit(ctx context.Context, action, subject string) error {
	return s.Store.AddAudit(ctx, db.AddAuditParams{Person: who(ctx).Name, Action: action, Subject: subject, Detail: []byte("{}")})
}
