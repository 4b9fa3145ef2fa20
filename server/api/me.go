package api

import (
	"context"
	"net/http"
	"time"

	"kestite/core/access"
	"kestite/server/store/gen/db"
)

// ownRoutes are what everybody does for themselves.
func (s *Server) ownRoutes(a *operations) {
	on(a, access.Own, http.MethodPut, "/me/password", "change-password", "Change your password; all your other sessions end",
		func(ctx context.Context, in *body[PasswordChange]) (*none, error) {
			return nil, s.People.ChangePassword(ctx, by(ctx), s.Sessions.Current(ctx), in.Body.Old, in.Body.Password)
		}, unsecured)
	on(a, access.Own, http.MethodPost, "/me/second-factor", "propose-second-factor",
		"Begin with a second factor: a secret for your telephone", s.proposeFactor, unsecured)
	on(a, access.Own, http.MethodPut, "/me/second-factor", "confirm-second-factor",
		"Confirm it with a first code; from then on it is asked for", func(ctx context.Context, in *body[Code]) (*body[Codes], error) {
			codes, err := s.People.ConfirmFactor(ctx, by(ctx), s.Sessions.Current(ctx), in.Body.Code)
			return &body[Codes]{Codes{codes}}, err
		}, unsecured)
	on(a, access.Own, http.MethodPost, "/me/second-factor/drop", "drop-own-second-factor", "Do without the second factor",
		func(ctx context.Context, in *body[Password]) (*none, error) {
			return nil, s.People.DropOwnFactor(ctx, by(ctx), in.Body.Password)
		})
	on(a, access.Own, http.MethodPost, "/me/recovery-codes", "renew-recovery-codes",
		"Make new recovery codes; those from before are worthless", func(ctx context.Context, in *body[Password]) (*body[Codes], error) {
			codes, err := s.People.RenewCodes(ctx, by(ctx), in.Body.Password)
			return &body[Codes]{Codes{codes}}, err
		})
	on(a, access.Own, http.MethodGet, "/me/sessions", "list-own-sessions", "Browsers you are signed in with", s.ownSessions, unsecured)
	on(a, access.Own, http.MethodDelete, "/me/sessions/{id}", "end-own-session", "Sign one of them out",
		func(ctx context.Context, in *ByID) (*none, error) {
			return nil, s.People.EndSession(ctx, by(ctx), who(ctx).ID, in.ID)
		}, unsecured)
	on(a, access.Own, http.MethodDelete, "/me/sessions", "end-own-sessions", "Sign out everywhere else",
		func(ctx context.Context, _ *none) (*none, error) {
			return nil, s.People.EndSessions(ctx, by(ctx), who(ctx).ID, s.Sessions.Current(ctx))
		}, unsecured)
}

// PasswordChange is a new password, and the old one.
type PasswordChange struct {
	Old      string `json:"old" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"10" maxLength:"200"`
}

// Password shows once more who is there.
type Password struct {
	Password string `json:"password" minLength:"1" maxLength:"200"`
}

// Code is one of the second factor.
type Code struct {
	Code string `json:"code" minLength:"6" maxLength:"10"`
}

// Codes stand in for the second factor, each once.
type Codes struct {
	RecoveryCodes []string `json:"recovery_codes" doc:"Shown this once"`
}

// FactorProposal is a second factor to be confirmed.
type FactorProposal struct {
	Secret string `json:"secret" doc:"To be typed into the telephone"`
	URI    string `json:"uri" doc:"To be opened there"`
	QR     []byte `json:"qr" doc:"To be photographed: a PNG"`
}

func (s *Server) proposeFactor(ctx context.Context, in *body[Password]) (*body[FactorProposal], error) {
	p, err := s.People.ProposeFactor(ctx, by(ctx), in.Body.Password)
	return &body[FactorProposal]{FactorProposal{p.Secret, p.URI, p.QR}}, err
}

// SessionView is a browser that somebody is signed in with.
type SessionView struct {
	ID           string    `json:"id"`
	Here         bool      `json:"here" doc:"It is the one that asks"`
	BegunAt      time.Time `json:"begun_at"`
	SeenAt       time.Time `json:"seen_at" doc:"To the minute"`
	Source       string    `json:"source" doc:"Network address it began from"`
	Browser      string    `json:"browser" doc:"As it names itself"`
	SecondFactor bool      `json:"second_factor"`
}

func (s *Server) ownSessions(ctx context.Context, _ *none) (*list[SessionView], error) {
	rows, err := s.Store.SessionsOf(ctx, db.SessionsOfParams{Person: who(ctx).ID, Now: s.Now()})
	here := s.Sessions.Current(ctx)
	var out []SessionView
	for _, r := range rows {
		out = append(out, SessionView{r.ID, r.ID == here, r.BegunAt, r.SeenAt, r.Source, r.Browser, r.SecondFactor})
	}
	return items(out), err
}
