package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/auth"
	"kestite/server/people"
	"kestite/server/trail"
)

// Me is who is signed in, and where.
type Me struct {
	ID           string              `json:"id"`
	Name         string              `json:"name"`
	Email        string              `json:"email"`
	Role         access.Role         `json:"role" enum:"administrator,manager,approver,operator,viewer,customer"`
	May          []access.Permission `json:"may" doc:"What the role permits"`
	Customer     string              `json:"customer,omitempty" doc:"Of a customer: who that is"`
	Teams        []string            `json:"teams,omitempty" doc:"Names of the teams whose services they may change; absent: not limited"`
	TeamIDs      []string            `json:"team_ids,omitempty" doc:"Ids of those teams"`
	Organisation string              `json:"organisation"`
	Timezone     string              `json:"timezone"`
	Demo         bool                `json:"demo" doc:"The stand-ins can be steered here"`
	Version      string              `json:"version"`
	// What security asks for.
	SecondFactor         bool       `json:"second_factor" doc:"The person has one"`
	SecondFactorRequired bool       `json:"second_factor_required" doc:"Everybody needs one here; who has none can only set one up"`
	RecoveryCodes        int64      `json:"recovery_codes" doc:"How many are left"`
	PasswordAt           *time.Time `json:"password_at,omitempty" doc:"When the password was set"`
}

func (s *Server) sessionRoutes(a *operations) {
	on(a, public, http.MethodGet, "/first-person", "first-person-needed", "Whether the first person is still to be made", s.firstNeeded)
	on(a, public, http.MethodPost, "/first-person", "make-first-person",
		"Make the first person, an administrator, with the token from the console", s.makeFirst)
	on(a, public, http.MethodPost, "/session", "sign-in", "Sign in", s.signIn)
	on(a, public, http.MethodDelete, "/session", "sign-out", "Sign out", s.signOut)
	on(a, public, http.MethodPost, "/password-link", "enter-password", "Choose a password by a one-time link", s.enterPassword)
	on(a, access.Own, http.MethodGet, "/session", "me", "Who is signed in", func(ctx context.Context, _ *none) (*body[Me], error) {
		return s.me(ctx, who(ctx))
	}, unsecured)
}

func (s *Server) me(ctx context.Context, p auth.Person) (*body[Me], error) {
	org, err := s.Store.Organisation(ctx)
	if err != nil {
		return nil, err
	}
	row, err := s.Store.Person(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	left, err := s.Store.RecoveryCodesLeft(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	customer, teams := "", []string(nil)
	if p.Rights.Customer != "" {
		customer = snap.Named(catalogue.Customer, p.Rights.Customer)
	}
	for _, id := range p.Rights.Teams {
		teams = append(teams, snap.Named(catalogue.Team, id))
	}
	return &body[Me]{Me{
		ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Rights.Role, May: p.Rights.Role.All(), Customer: customer, Teams: teams,
		TeamIDs: p.Rights.Teams, Organisation: org.Name, Timezone: org.Timezone,
		Demo: s.StandIns != nil, Version: s.Version,
		SecondFactor: row.FactorAt != nil, SecondFactorRequired: org.SecondFactorRequired, RecoveryCodes: left, PasswordAt: row.PasswordAt,
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

// FirstPerson makes the first account of an installation.
type FirstPerson struct {
	Token        string `json:"token" minLength:"1" maxLength:"200" doc:"Printed on the server's console at first start"`
	Name         string `json:"name" minLength:"1" maxLength:"120"`
	Email        string `json:"email" minLength:"3" maxLength:"200"`
	Password     string `json:"password" minLength:"10" maxLength:"200"`
	Organisation string `json:"organisation" minLength:"1" maxLength:"120"`
	Timezone     string `json:"timezone" minLength:"1" doc:"IANA name"`
}

func (s *Server) makeFirst(ctx context.Context, in *body[FirstPerson]) (*body[Me], error) {
	b := in.Body
	made, err := s.People.MakeFirst(ctx, caller(ctx), people.First{
		Token: b.Token, Name: b.Name, Email: b.Email, Password: b.Password, Organisation: b.Organisation, Timezone: b.Timezone,
	})
	if err != nil {
		return nil, err
	}
	if err := s.Sessions.Begin(ctx, made, caller(ctx)); err != nil {
		return nil, err
	}
	return s.me(ctx, auth.Person{ID: made.ID, Name: made.Name, Email: made.Email, Rights: access.Rights{Role: access.Administrator}, Secured: true})
}

// SignIn is what it takes to begin a session.
type SignIn struct {
	Email    string `json:"email" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"1" maxLength:"200"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code, where the person has one"`
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      Me
}

// knownCookie is the name of the cookie by which a browser is known that somebody
// signed in with before.
const knownCookie = "kestite_known"

func (s *Server) signIn(ctx context.Context, in *body[SignIn]) (*signedIn, error) {
	p, known, err := s.Sessions.SignIn(ctx, auth.SignIn{Caller: caller(ctx), Email: in.Body.Email, Password: in.Body.Password,
		Code: in.Body.Code})
	if err != nil {
		return nil, err
	}
	me, err := s.me(ctx, p)
	if err != nil {
		return nil, err
	}
	return &signedIn{http.Cookie{
		Name: knownCookie, Value: known, Path: "/api/v1/session", MaxAge: 400 * 86_400, HttpOnly: true, Secure: s.Sessions.Secure(),
		SameSite: http.SameSiteStrictMode,
	}, me.Body}, nil
}

func (s *Server) signOut(ctx context.Context, _ *none) (*none, error) {
	person, err := s.Sessions.SignOut(ctx)
	if err != nil || person == "" {
		return nil, err
	}
	return nil, trail.Add(ctx, s.Store.Queries, trail.Entry{
		By: trail.By{Person: person, Source: caller(ctx).Source}, Action: "sign out", Subject: "person " + person,
	})
}

// PasswordByLink is a password that is chosen by a one-time link.
type PasswordByLink struct {
	Token    string `json:"token" minLength:"1" maxLength:"200" doc:"What follows # in the link"`
	Password string `json:"password" minLength:"10" maxLength:"200"`
}

func (s *Server) enterPassword(ctx context.Context, in *body[PasswordByLink]) (*none, error) {
	return nil, s.People.Enter(ctx, caller(ctx), in.Body.Token, in.Body.Password)
}

// peopleProblem turns what went wrong with people into an answer; nil where it is
// something else.
func peopleProblem(err error) error {
	switch {
	case errors.Is(err, auth.ErrNeedsCode):
		return huma.Error401Unauthorized("The password is right. Now the code of your second factor is needed.",
			&huma.ErrorDetail{Location: "body.code", Message: "enter the code that your telephone shows, or a recovery code"})
	case errors.Is(err, auth.ErrWrongCode):
		return huma.Error401Unauthorized("The code is wrong or was used.",
			&huma.ErrorDetail{Location: "body.code", Message: "enter the one that is shown now, or a recovery code"})
	case errors.Is(err, auth.ErrWrong):
		return huma.Error401Unauthorized("E-mail address or password is wrong.")
	case errors.Is(err, auth.ErrTooOften):
		return huma.Error429TooManyRequests("Too many attempts; wait a minute and try again.")
	case errors.Is(err, auth.ErrBusy):
		return huma.Error429TooManyRequests("Too many people sign in at once; try again in some seconds.")
	case errors.Is(err, people.ErrNotFound):
		return huma.Error404NotFound("There is no person of that id, or no such session.")
	case errors.Is(err, people.ErrMade):
		return huma.Error409Conflict("The first person has been made already; sign in.")
	case errors.Is(err, people.ErrLink):
		return huma.Error422UnprocessableEntity("The link is not good any more: it was used, a newer one was made, or its time is over. Ask an administrator for another.", &huma.ErrorDetail{Location: "body.token", Message: "not good any more"})
	case errors.Is(err, people.ErrSelf):
		return huma.Error409Conflict("Nobody erases their own account; ask another administrator.")
	}
	return nil
}
