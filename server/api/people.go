package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/server/people"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// PersonView is a person as administrators see them.
type PersonView struct {
	ID           string      `json:"id"`
	Name         string      `json:"name"`
	Email        string      `json:"email"`
	Role         access.Role `json:"role" enum:"administrator,manager,approver,operator,viewer,customer"`
	Customer     string      `json:"customer,omitempty" doc:"Of a customer: id of who that is"`
	Teams        []string    `json:"teams" doc:"Ids of the teams whose services they may change; empty: not limited"`
	CreatedAt    time.Time   `json:"created_at"`
	DisabledAt   *time.Time  `json:"disabled_at,omitempty"`
	PasswordAt   *time.Time  `json:"password_at,omitempty" doc:"When the password was set; absent: there is none yet"`
	SecondFactor bool        `json:"second_factor"`
	Sessions     int64       `json:"sessions" doc:"Browsers they are signed in with"`
}

func (s *Server) peopleRoutes(a *operations) {
	on(a, access.Administer, http.MethodGet, "/people", "list-people", "Everyone who may sign in", s.listPeople)
	on(a, access.Administer, http.MethodPut, "/organisation", "name-organisation",
		"Say what the organisation is called, and the zone of its months", s.nameOrganisation)
	on(a, access.Administer, http.MethodPut, "/organisation/security", "require-second-factor",
		"Say whether everybody needs a second factor", func(ctx context.Context, in *body[Security]) (*none, error) {
			return nil, s.People.Require(ctx, by(ctx), in.Body.SecondFactorRequired)
		})
	on(a, access.Administer, http.MethodPost, "/people", "add-person",
		"Let another person sign in; they choose a password by a one-time link", s.addPerson)
	on(a, access.Administer, http.MethodPut, "/people/{id}", "change-person", "Change name, role, or whether they may sign in",
		s.changePerson)
	on(a, access.Administer, http.MethodDelete, "/people/{id}", "erase-person",
		"Empty a person's record for good; the trail keeps what they did, without the name",
		func(ctx context.Context, in *ByID) (*none, error) {
			return nil, s.People.Erase(ctx, by(ctx), in.ID)
		})
	on(a, access.Administer, http.MethodPost, "/people/{id}/password-link", "make-password-link",
		"Make a one-time link by which a person chooses a new password", func(ctx context.Context, in *ByID) (*body[PasswordLink], error) {
			link, err := s.People.Link(ctx, by(ctx), in.ID)
			return &body[PasswordLink]{PasswordLink{link.Path, link.Expires}}, err
		})
	on(a, access.Administer, http.MethodDelete, "/people/{id}/second-factor", "drop-second-factor",
		"Take a lost second factor away, and sign the person out everywhere", func(ctx context.Context, in *ByID) (*none, error) {
			return nil, s.People.DropFactor(ctx, by(ctx), in.ID)
		})
	on(a, access.Administer, http.MethodDelete, "/people/{id}/sessions", "end-sessions-of", "Sign a person out everywhere",
		func(ctx context.Context, in *ByID) (*none, error) {
			return nil, s.People.EndSessions(ctx, by(ctx), in.ID, "")
		})
}

// Security is what everybody has to have.
type Security struct {
	SecondFactorRequired bool `json:"second_factor_required" doc:"Who has none can only set one up"`
}

// PasswordLink is a one-time link.
type PasswordLink struct {
	Path      string    `json:"path" doc:"Below the server's address; shown this once"`
	ExpiresAt time.Time `json:"expires_at"`
}

func (s *Server) listPeople(ctx context.Context, _ *none) (*list[PersonView], error) {
	rows, err := s.Store.People(ctx, s.Now())
	var out []PersonView
	for _, p := range rows {
		out = append(out, PersonView{p.ID, p.Name, p.Email, access.Role(p.Role), p.Customer, p.Teams, p.CreatedAt, p.DisabledAt, p.PasswordAt,
			p.FactorAt != nil, p.Sessions})
	}
	return items(out), err
}

// Naming is what an organisation is called, and the zone of its months.
type Naming struct {
	Name     string `json:"name" minLength:"1" maxLength:"120"`
	Timezone string `json:"timezone" minLength:"1" maxLength:"64" doc:"IANA name; of the period band, and of new agreements"`
}

func (s *Server) nameOrganisation(ctx context.Context, in *body[Naming]) (*none, error) {
	if err := definition.Named("name", in.Body.Name); err != nil {
		return nil, err
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
		err = trail.Add(ctx, q, trail.Entry{By: by(ctx), Action: "edit", Subject: "organisation",
			Before: Naming{before.Name, before.Timezone}, Detail: in.Body})
		if err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{"organisation"}})
	})
}

// NewPerson is a person to be.
type NewPerson struct {
	Name     string      `json:"name" minLength:"1" maxLength:"120"`
	Email    string      `json:"email" minLength:"3" maxLength:"200"`
	Role     access.Role `json:"role" enum:"administrator,manager,approver,operator,viewer,customer"`
	Customer string      `json:"customer,omitempty" maxLength:"120" doc:"Of the role customer: id of who that is"`
	Teams    []string    `json:"teams,omitempty" maxItems:"50" doc:"Limit what they may change to the services of these teams, by id; empty: not limited"`
}

// MadePerson is a new person and the link they begin with.
type MadePerson struct {
	ID   string       `json:"id"`
	Link PasswordLink `json:"link"`
}

func (s *Server) addPerson(ctx context.Context, in *body[NewPerson]) (*body[MadePerson], error) {
	p, link, err := s.People.Add(ctx, by(ctx), people.New{Name: in.Body.Name, Email: in.Body.Email,
		Rights: access.Rights{Role: in.Body.Role, Customer: in.Body.Customer, Teams: in.Body.Teams}})
	return &body[MadePerson]{MadePerson{p.ID, PasswordLink{link.Path, link.Expires}}}, err
}

// PersonChange is what may change of a person.
type PersonChange struct {
	Name     string      `json:"name" minLength:"1" maxLength:"120"`
	Role     access.Role `json:"role" enum:"administrator,manager,approver,operator,viewer,customer"`
	Customer string      `json:"customer,omitempty" maxLength:"120" doc:"Of the role customer: id of who that is"`
	Teams    []string    `json:"teams,omitempty" maxItems:"50" doc:"Limit what they may change to the services of these teams, by id; empty: not limited"`
	Disabled bool        `json:"disabled"`
}

func (s *Server) changePerson(ctx context.Context, in *struct {
	ByID
	Body PersonChange
}) (*none, error) {
	return nil, s.People.Change(ctx, by(ctx), in.ID, people.Edit{Name: in.Body.Name,
		Rights: access.Rights{Role: in.Body.Role, Customer: in.Body.Customer, Teams: in.Body.Teams}, Disabled: in.Body.Disabled})
}
