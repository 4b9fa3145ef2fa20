package api

import (
	"context"
	"net/http"
	"time"

	"kestite/core/access"
)

// LegalHold keeps the measurements of some days from being dropped.
type LegalHold struct {
	ID       int64      `json:"id"`
	FirstDay string     `json:"first_day" doc:"2006-01-02, of UTC"`
	LastDay  string     `json:"last_day" doc:"The last day that is kept"`
	Reason   string     `json:"reason"`
	MadeBy   string     `json:"made_by"`
	MadeAt   time.Time  `json:"made_at"`
	LiftedBy string     `json:"lifted_by,omitempty"`
	LiftedAt *time.Time `json:"lifted_at,omitempty"`
}

// NewLegalHold asks for a legal hold.
type NewLegalHold struct {
	FirstDay string `json:"first_day" minLength:"10" maxLength:"10"`
	LastDay  string `json:"last_day" minLength:"10" maxLength:"10"`
	Reason   string `json:"reason" maxLength:"2000"`
}

func (s *Server) legalRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/legal-holds", "legal-holds", "Days whose measurements are not dropped, however old", s.legalHolds)
	on(a, access.Administer, http.MethodPost, "/legal-holds", "make-legal-hold", "Keep the measurements of some days until the hold is lifted", func(ctx context.Context, in *body[NewLegalHold]) (*body[Noted], error) {
		id, err := s.Desk.Hold(ctx, in.Body.FirstDay, in.Body.LastDay, in.Body.Reason, by(ctx), s.Now())
		return &body[Noted]{Noted{ID: id}}, err
	})
	on(a, access.Administer, http.MethodDelete, "/legal-holds/{id}", "lift-legal-hold", "Lift a legal hold: what it kept is dropped with the next tidying", func(ctx context.Context, in *ByNumber) (*none, error) {
		return nil, s.Desk.Lift(ctx, in.ID, by(ctx), s.Now())
	})
}

func (s *Server) legalHolds(ctx context.Context, _ *none) (*list[LegalHold], error) {
	rows, err := s.Store.LegalHolds(ctx)
	if err != nil {
		return nil, err
	}
	var out []LegalHold
	for _, h := range rows {
		out = append(out, LegalHold(h))
	}
	return items(out), nil
}
