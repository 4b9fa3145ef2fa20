package api

import (
	"context"
	"net/http"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
)

// StandingApproval is who lets the schedule of a customer publish its reports at once.
type StandingApproval struct {
	Customer    Ref        `json:"customer"`
	By          string     `json:"by"`
	Mine        bool       `json:"mine"`
	At          time.Time  `json:"at"`
	Until       string     `json:"until,omitempty" doc:"Last day on which it is good; absent: until it is withdrawn"`
	WithdrawnBy string     `json:"withdrawn_by,omitempty"`
	WithdrawnAt *time.Time `json:"withdrawn_at,omitempty" doc:"Absent: it is in force"`
}

func (s *Server) approvalRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/standing-approvals", "standing-approvals", "Who lets the schedules of customers publish at once, and who did", s.standingApprovals)
	on(a, access.Approve, http.MethodPost, "/customers/{id}/standing-approval", "stand-for-reports", "Let the schedule of a customer publish its reports at once, in your name", func(ctx context.Context, in *struct {
		ByID
		Body struct {
			Until string `json:"until,omitempty" maxLength:"10" doc:"Last day on which it is good, 2026-12-31; absent: until it is withdrawn"`
		}
	}) (*none, error) {
		if err := forAllReports(ctx); err != nil {
			return nil, err
		}
		return nil, s.Desk.StandFor(ctx, in.ID, in.Body.Until, by(ctx), s.Now())
	})
	on(a, access.Approve, http.MethodDelete, "/customers/{id}/standing-approval", "withdraw-standing-approval", "Withdraw a standing approval: the schedule drafts, and people publish", func(ctx context.Context, in *ByID) (*none, error) {
		if err := forAllReports(ctx); err != nil {
			return nil, err
		}
		return nil, s.Desk.StandDown(ctx, in.ID, by(ctx), s.Now())
	})
}

// forAllReports refuses who publishes for services of some teams only.
func forAllReports(ctx context.Context) error {
	if len(who(ctx).Rights.Teams) > 0 {
		return &access.Denied{Why: "A standing approval is for all reports of a customer, and your role counts for services of some teams only. " +
			"Ask somebody whose role counts for all."}
	}
	return nil
}

func (s *Server) standingApprovals(ctx context.Context, _ *none) (*list[StandingApproval], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.StandingApprovals(ctx)
	if err != nil {
		return nil, err
	}
	var out []StandingApproval
	for _, r := range rows {
		out = append(out, StandingApproval{Customer: Ref{r.Customer, snap.Named(catalogue.Customer, r.Customer)}, By: r.Name, Mine: r.GivenBy == who(ctx).ID, At: r.GivenAt, Until: r.UntilDay,
			WithdrawnBy: r.WithdrawnName, WithdrawnAt: r.WithdrawnAt})
	}
	return items(out), nil
}
