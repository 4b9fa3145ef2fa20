package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/server/auth"
	"kestite/server/store/gen/db"
)

// SharedStanding is what a link to a customer's Standing opens: what the customer sees who
// signs in, and nothing else.
type SharedStanding struct {
	Organisation string   `json:"organisation"`
	Customer     string   `json:"customer"`
	Standing     Standing `json:"standing"`
}

func (s *Server) standingLinkRoutes(a *operations) {
	on(a, access.Publish, http.MethodGet, "/customers/{id}/links", "standing-links", "Links by which a customer's Standing can be read without an account, and who opened them when", func(ctx context.Context, in *ByID) (*list[ReportLinkView], error) {
		if err := s.forWholeCustomer(ctx, in.ID); err != nil {
			return nil, err
		}
		rows, err := s.Store.StandingLinks(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		links := make([]db.ReportLinksRow, len(rows))
		for i, r := range rows {
			links[i] = db.ReportLinksRow(r)
		}
		return s.linkViews(ctx, links)
	})
	on(a, access.Publish, http.MethodPost, "/customers/{id}/links", "make-standing-link", "Make a link by which a customer's Standing can be read", func(ctx context.Context, in *struct {
		ByID
		Body NewReportLink
	}) (*body[MadeLink], error) {
		if err := s.forWholeCustomer(ctx, in.ID); err != nil {
			return nil, err
		}
		token, err := s.Desk.StandingLink(ctx, in.ID, in.Body.Whom, in.Body.Days, by(ctx), s.Now())
		return &body[MadeLink]{MadeLink{"/shared/standing#" + token}}, err
	})
	on(a, access.Publish, http.MethodDelete, "/customers/{id}/links/{note}", "revoke-standing-link", "End a link", func(ctx context.Context, in *ByNote) (*none, error) {
		if err := s.forWholeCustomer(ctx, in.ID); err != nil {
			return nil, err
		}
		return nil, s.Desk.RevokeStanding(ctx, in.ID, in.Note, by(ctx), s.Now())
	})
	on(a, public, http.MethodPost, "/shared/standing", "shared-standing", "How what was promised to a customer stands, by a link", s.sharedStanding)
}

// forWholeCustomer refuses who publishes for services of some teams only, and customers that
// are not there.
func (s *Server) forWholeCustomer(ctx context.Context, customer string) error {
	if len(who(ctx).Rights.Teams) > 0 {
		return &access.Denied{Why: "A customer's Standing shows all that was promised to it, and your role counts for services of some teams only. Ask somebody whose role counts for all."}
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err == nil && snap.Customers[customer] == nil {
		return catalogue.ErrNotFound
	}
	return err
}

func (s *Server) sharedStanding(ctx context.Context, in *body[LinkToken]) (*body[SharedStanding], error) {
	if err := s.spendLink(ctx); err != nil {
		return nil, err
	}
	customer, err := s.Desk.CustomerByLink(ctx, in.Body.Token, caller(ctx).Source, s.Now())
	if err != nil {
		return nil, linkProblem(err)
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	// Whoever opens it sees what the customer sees, signed in as somebody else or not.
	ctx = context.WithValue(ctx, whoKey{}, auth.Person{Rights: access.Rights{Role: access.Customer, Customer: customer}})
	stands, err := s.standing(ctx, &InStanding{Count: mostListed})
	if err != nil {
		return nil, err
	}
	return &body[SharedStanding]{SharedStanding{snap.Name, snap.Named(catalogue.Customer, customer), stands.Body}}, nil
}
